"""Which limb a joint belongs to, in words."""

from __future__ import annotations

from ..character import Character
from ..character.words import DIGITS

LIMBS = {
    "arm": ("upper_arm", "forearm", "collar"), "hand": ("hand", *DIGITS),
    "leg": ("thigh", "shin"), "foot": ("foot", "ball", "toe"), "tail": ("tail",), "neck": ("neck",),
    "head": ("head", "ear", "jaw"), "trunk": ("hips", "spine", "chest"), "wing": ("wing", "membrane"),
    "fin": ("fin",), "hind fin": ("hind_fin",), "feeler": ("feeler",), "abdomen": ("abdomen",), "body": ("chain",),
}  # fmt: skip


def limb_of(character: Character, joint: str) -> str:
    """The limb, in words, that a joint belongs to; its own name where its role says nothing."""
    j = character.joint(joint)
    for limb, roles in LIMBS.items():
        if j.role.startswith(roles):
            return limb if j.side == "C" else f"{limb} {j.side}"
    return joint


def digit_or_limb_of(character: Character, joint: str) -> str:
    """The same, each digit for itself."""
    j = character.joint(joint)
    digit = next((d for d in DIGITS if j.role.startswith(d)), "")
    if not digit:
        return limb_of(character, joint)
    words = j.role.rstrip("0123456789").rstrip("_").replace("_", " ")
    return words if j.side == "C" else f"{words} {j.side}"
