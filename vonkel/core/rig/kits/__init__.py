"""Kits: ready-made sets of controls and solves.  Each is set up so that nothing moves when it is made."""

from .base import KitKind, add_kit, remove_kit
from .body import Body
from .eyes import Eyes
from .limb import Arm, Leg
from .turns import Turns

KINDS: dict[str, KitKind] = {k.kind: k for k in (Body(), Arm(), Leg(), Turns(), Eyes())}

__all__ = ["KINDS", "KitKind", "add_kit", "remove_kit"]
