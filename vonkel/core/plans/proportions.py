"""What the biped's plan takes for granted of bodies: each figure with its reason and where it is from.

Shares of the height, of a length that was found, or of one another; where the shape says nothing, they stand in for it.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields

SEGMENTS = "Drillis & Contini 1966, as in Winter, figure 4.1 (from memory)"
TRADE = "common practice"
OURS = "our own, seen on made-up bodies"


def _share(value: float, reason: str, source: str = OURS) -> float:
    made: float = field(default=value, metadata={"reason": reason, "source": source})
    return made


@dataclass(frozen=True)
class Proportions:
    """A body of two legs.  Lengths are shares of the height unless the reason says of what."""

    # Arms: of the height
    upper_arm: float = _share(0.186, "a straight arm has no elbow to see", SEGMENTS)
    forearm: float = _share(0.146, "the same", SEGMENTS)
    hand: float = _share(0.108, "a mitten has no wrist to see", SEGMENTS)
    arm_least: float = _share(0.10, "a branch shorter, or nearer to the middle, is no arm")
    arm_low: float = _share(0.16, "a branch that ends lower over the ground is a foot or a tail")
    collar_drop: float = _share(0.01, "the collar begins just below the shoulder's height and before the spine", TRADE)
    # Arms: of what was found
    collar_out: float = _share(0.3, "of the shoulder's distance from the middle: where the collarbone begins", TRADE)
    trunk_grows: float = _share(2.2, "times the arm's own slice: from there on it is trunk, not arm")
    shoulder_in: float = _share(0.5, "of the arm's thickness: how far inside the trunk's edge the joint lies", TRADE)
    arm_straight: float = _share(0.02, "sine of the bend below which an arm is straight and folds forward")
    elbow_seen: float = _share(0.03, "of the arm: a bend less deep than this isn't looked for")
    elbow_before: float = _share(0.08, "of the arm: how far from its usual place the elbow may be, to the hand")
    elbow_behind: float = _share(0.12, "the same, to the shoulder")
    finger_of_hand: float = _share(0.46, "the middle finger's share of the hand's length", TRADE)
    hand_least: float = _share(0.16, "of the arm: no hand is shorter, whatever its fingers say")
    hand_most: float = _share(0.36, "of the arm: nor longer")
    knuckle_2: float = _share(0.45, "of a finger: where its second joint lies", TRADE)
    knuckle_3: float = _share(0.74, "of a finger: where its third joint lies", TRADE)
    inside_palm: float = _share(1.35, "times what is seen of a finger: digits begin inside the palm", TRADE)
    # Legs
    foot_slice: float = _share(0.03, "a slice so high over the ground cuts both feet")
    legs_most: float = _share(0.75, "legs that haven't met by this height aren't legs")
    ankle_narrow: float = _share(1.45, "times the shin's length from front to back: where a slice is no longer foot")
    ankle_most: float = _share(0.35, "of the way from the ground to the crotch: no ankle is higher")
    hip_rise: float = _share(1.0, "of the thigh's radius: how far over the crotch the hip joint lies", TRADE)
    hip_out_least: float = _share(0.25, "of the trunk's half width: the hip joint lies no nearer to the middle")
    hip_out_most: float = _share(0.75, "of the trunk's half width: nor farther out")
    hip_back: float = _share(0.25, "of the way to the trunk's middle: a leaning leg still hangs from there")
    knee: float = _share(0.5, "of the way from ankle to hip: a straight leg has no knee to see", SEGMENTS)
    knee_backward: float = _share(0.12, "sine of the bend beyond which a knee is taken to fold the other way")
    ball: float = _share(0.72, "of the foot from the heel: where its ball lies", TRADE)
    ball_high: float = _share(0.35, "of the ankle's height: how high toes and ball lie")
    # Trunk and head
    hips_rise: float = _share(0.02, "the root lies just over the line between the hip joints", TRADE)
    shoulders: float = _share(0.55, "of the way from the hips to the crown: shoulders of a body without arms")
    neck_most: float = _share(0.62, "of the way from the shoulders to the crown: the neck isn't looked for higher")
    neck_least: float = _share(0.012, "the neck's joint lies at least this far over the shoulders")
    neck_down: float = _share(0.45, "of the neck's radius: how far below its narrowest slice it begins")
    head_up: float = _share(0.35, "of the neck's radius: how far over its narrowest slice the head begins")
    head_least: float = _share(0.03, "the head's joint lies at least this far over the neck's")
    chest: float = _share(0.68, "of the way from hips to neck: where the chest begins", TRADE)
    tail_middle: float = _share(0.06, "a branch farther from the middle is no tail")
    tail_behind: float = _share(0.12, "nor one that ends less far behind the hips")
    tail_most: float = _share(0.35, "nor one that ends higher over them")


BIPED = Proportions()


def list_figures(of: Proportions = BIPED) -> list[tuple[str, float, str, str]]:
    """(name, value, reason, source) of every figure."""
    return [
        (f.name.replace("_", " "), float(getattr(of, f.name)), f.metadata["reason"], f.metadata["source"])
        for f in fields(of)
    ]
