"""Kits: ready-made sets of controls and solves.  Each is set up so that nothing moves when it is made."""

from ...character import Kit
from .base import PROVIDED, KitKind, gives
from .body import Body, Whole
from .chain import Chain
from .digits import Digits
from .eyes import Eyes
from .fins import Fan, Fin
from .foot import Foot
from .head import Head
from .jaw import JawKit
from .lids import LidsKit
from .limb import Arm, Leg
from .lips import LipsKit
from .muscle import Muscle
from .single import Single
from .stance import Stance
from .turns import Turns
from .twist import Twist
from .wing import Wing

_ALL = (
    Whole(), Body(), Head(), Arm(), Leg(), Foot(), Digits(), Wing(), Fin(), Fan(), Chain(), Stance(), Twist(), Muscle(),
    Turns(), Single(), Eyes(), LidsKit(), JawKit(), LipsKit(),
)  # fmt: skip
KINDS: dict[str, KitKind] = {k.kind: k for k in _ALL}


def with_all_options(kit: Kit) -> Kit:
    """The kit with what options its kind has gained since it was made, at their defaults."""
    missing = {k: v for k, v in KINDS[kit.kind].options().model_dump().items() if k not in kit.options}
    return kit.model_copy(update={"options": {**kit.options, **missing}}) if missing else kit


__all__ = ["KINDS", "PROVIDED", "KitKind", "gives", "with_all_options"]
