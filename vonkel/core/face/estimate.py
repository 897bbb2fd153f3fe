"""Where everything of a face is, estimated from a head's shape, each with how sure it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character, opposite_name
from ..derived import derived
from ..progress import tell
from .eyes import Eye, find_eyes
from .head import SIDES, Head, Region, head_in, joined, region_of
from .middle import Mouth, Spot, find_middle
from .openings import open_eye
from .sides import find_brow, find_ear, hinge_of_jaw


@dataclass(frozen=True, eq=False)
class Estimate:
    """What was found on a head; spots by name, in the head's frame."""

    head: Head
    eyes: list[Eye]
    mouth: Mouth
    spots: dict[str, Spot]

    def placed(self) -> dict[str, np.ndarray]:
        """The spots' places in the character's space."""
        return {n: self.head.back(s.place) for n, s in self.spots.items()}


def estimate_face(character: Character) -> Estimate:
    """Find eyes, lids, brows, nose, mouth, jaw and ears.  Raises StepRefused where there is no head.

    Kept for the last few heads: what else a character is made of, and joints that aren't the head's, don't matter.
    """
    tell(0.05, "looking for the head")
    return _estimated(character, region_of(character))


@derived("points", "face_starts", "face_corners", "parts", most=4)
def _estimated(character: Character, region: Region) -> Estimate:
    head = head_in(joined(character), region)
    tell(0.2, "looking for the eyes")
    eyes = find_eyes(head)
    for eye in eyes:
        open_eye(head, eye)
    tell(0.5, "looking for nose, mouth and chin")
    mouth = find_middle(head, eyes)
    spots = dict(mouth.spots)
    for eye in eyes:
        spots |= _of_eye(eye)
        spots |= find_brow(head, eye) if eye.opens else {}
    tell(0.8, "looking for ears")
    for sign, tag, place in zip((1, -1), SIDES, region.ears, strict=True):
        planned = head.own(np.array(place)) if place is not None else None
        spots |= find_ear(head, mouth, eyes, sign, planned)
        hinge = hinge_of_jaw(head, mouth, eyes, spots.get(f"ear_{tag}"), sign)
        if hinge is not None:
            spots[f"jaw_hinge_{tag}"] = hinge
    if head.even:  # what only one side of a head has that is alike on both is no ear and no brow
        spots = {n: s for n, s in spots.items() if not n.startswith(("ear", "brow")) or opposite_name(n) in spots}
    return Estimate(head, eyes, mouth, spots)


RIM = 0.5  # how much of a pit's rim edges of the mesh follow that is surely an eye's


OWN_BALL = "its own ball"  # how the middle of an eye is known that has an eyeball


def _of_eye(eye: Eye) -> dict[str, Spot]:
    whole = eye.sure
    if eye.kind == "pit" and eye.opens and not eye.shelled:  # its rim tells it, if edges of the mesh follow it
        whole = sure = 0.3 + 0.4 * min(eye.rimmed / RIM, 1.0)
    else:
        sure = eye.sure if eye.shelled else eye.sure * (0.45 + 0.5 * eye.rimmed if eye.opens else 0.35)
    over = (eye.rim - eye.centre) @ eye.frame[1]
    inner, outer = eye.corners
    ragged = "" if eye.rimmed > 0.5 or not eye.opens else ", which no edges of the mesh follow"
    return {
        f"eye_{eye.side}": Spot(eye.centre, whole, {"ball": OWN_BALL, "pit": "a pit", "sculpted": "a bump"}[eye.kind]),
        f"eye_inner_{eye.side}": Spot(inner, sure, "the opening’s end" + ragged),
        f"eye_outer_{eye.side}": Spot(outer, sure, "the opening’s end" + ragged),
        f"lid_upper_{eye.side}": Spot(eye.rim[int(np.argmax(over))], sure, "top of the opening" + ragged),
        f"lid_lower_{eye.side}": Spot(eye.rim[int(np.argmin(over))], sure, "bottom of the opening" + ragged),
    }
