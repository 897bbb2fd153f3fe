"""Names: made fit to show, told in a row, and what they say of a part's role."""

from __future__ import annotations

from collections.abc import Sequence

ROLES = (
    ("eye", ("eye",)),
    ("teeth", ("teeth", "tooth", "gum")),
    ("tongue", ("tongue",)),
    ("prop", ("lantern", "hook", "stud")),
)
EYE_JOINTS = ("eye", "lid_upper", "lid_lower")  # roles of joints that hold parts of an eye and no skin
NOT_EYES = ("brow", "lid", "lash")
# What joints of digits are called, thumb first.
FINGERS = ("index", "middle", "ring", "little", "digit")
DIGITS = ("thumb", *FINGERS)
PALETTE = ("#c9a679", "#9fb3a5", "#b58f7b", "#8fa3b3", "#c4b27a", "#a88fa8")


def role_of(name: str) -> str:
    low = name.lower()
    for role, words in ROLES:
        if any(w in low for w in words) and not any(w in low for w in NOT_EYES):
            return role
    return "skin"


def clean_name(name: str) -> str:
    """A name fit to show: printable, no slashes, at most 60 characters."""
    return "".join(c if c.isprintable() and c not in "/\\" else " " for c in name).strip()[:60]


def few(names: Sequence[str], most: int = 6) -> str:
    """The first names in a row, and a sign where there are more."""
    return ", ".join(names[:most]) + (" …" if len(names) > most else "")
