"""Rules between the parts of a rig: what follows, what leads, what springs and swings.

Things are named `joint:<name>`, `control:<name>`, `shape:<name>` or `ground`.  A rule answers for itself (what it speaks
of, what is left of it, how it looks on the other side …), so a new one is a class here and its operations in `rig/rules`.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from .base import BaseRule, Known, Mirror, Thing
from .curves import curve_function, rounded
from .follow import Follow, Space
from .links import Curve, CurveKey, Follower, Lead, Link
from .springs import Spring, Swing, Swinger

Rule = Annotated[Follow | Space | Link | Spring | Swing, Field(discriminator="kind")]

__all__ = [
    "BaseRule",
    "Curve",
    "CurveKey",
    "Follow",
    "Follower",
    "Known",
    "Lead",
    "Link",
    "Mirror",
    "Rule",
    "Space",
    "Spring",
    "Swing",
    "Swinger",
    "Thing",
    "curve_function",
    "rounded",
]
