"""What is said of a face: its marks, what was made of them, what each decides on the mesh."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..core.character import Character, Face, opposite_name, without_side
from ..core.derived import derived
from ..core.expression.lids import Lids, lid_figures
from ..core.expression.making import jaw_of
from ..core.face.checks import HeadCheck, check_head
from ..core.face.estimate import OWN_BALL
from ..core.face.marks import DOUBTFUL, KINDS, face_of, kind_of

PRODUCTS = {
    "joints": "joints of eyes, jaw and tongue", "weights": "what goes with the jaw", "lids": "lids that shut", "regions": "regions of ears, eyes, brows and mouth",
    "expressions": "action units and lips", "controls": "controls, visemes and the mouth pad",
}  # fmt: skip
NEAR = 0.02
"""Of the head's size: how far a mark's colour reaches that decides nothing else."""


def told_face(character: Character) -> dict[str, Any]:
    """Marks, doubtful ones first; the products: whether each was made, and of marks that have moved since; whether an eyeball was seen."""
    face = character.face or Face()
    known, stale = face.places.keys(), face.stale
    order = {n: i for i, n in enumerate(KINDS)}
    marks = [
        {
            "name": m.name, "label": kind_of(m.name).label, "decides": kind_of(m.name).decides, "place": m.place,
            "side": m.name[-1] if m.name[-2:] in ("_L", "_R") else "C", "sure": m.sure, "how": m.how, "settled": m.settled,
            "doubtful": m.sure < DOUBTFUL, "linked": without_side(m.name) not in face.apart,
            "partner": opposite_name(m.name) if opposite_name(m.name) in known - {m.name} else "",
        }
        for m in sorted(face.marks, key=lambda m: (m.sure >= DOUBTFUL, order.get(without_side(m.name), 99), m.name))
    ]  # fmt: skip
    products = [
        {"name": n, "label": words, "made": n in face.made, "stale": n in stale} for n, words in PRODUCTS.items()
    ]
    return {"marks": marks, "products": products, "eyeballs": any(m.how == OWN_BALL for m in face.marks)}


@derived("points", "face_starts", "face_corners", "parts", "joints", "name", "face", most=24)
def decided(character: Character, mark: str) -> np.ndarray:
    """(n,) 0 to 1: how far each point hangs on what a mark decides."""
    face = face_of(character)
    head, word = face.head, without_side(mark)
    values = np.zeros(len(head.p))
    if word.startswith(("eye", "lid")):
        for eye in face.eyes:
            if eye.opens and mark.endswith(eye.side):
                lids = Lids(head, eye)
                both = lids.moves(up=1.0) if word != "lid_lower" else lids.moves(low=1.0)
                if word in ("eye", "eye_inner", "eye_outer"):
                    both = both + lids.moves(low=1.0)
                values = np.linalg.norm(both, axis=1)
                values[eye.points] = 0.5 * values.max(initial=0.0)
    elif word in ("mouth_upper", "mouth_lower", "mouth_corner", "chin", "jaw_hinge"):
        jaw = jaw_of(character)
        values = jaw.share.copy() if jaw is not None else values
    if not values.any() and mark in face.spots:
        d = np.linalg.norm(head.p - face.spots[mark].place, axis=1)
        values = np.exp(-((d / (6 * NEAR * head.size)) ** 2)) * head.inside
    return np.asarray((values / max(float(values.max(initial=0.0)), 1e-12))[head.number])


@derived("points", "face_starts", "face_corners", "parts", "joints", "name", "face", "plan", most=8)
def checked_head(character: Character) -> HeadCheck:
    """What would spoil the face."""
    return check_head(character, face_of(character))


@derived("points", "face_starts", "face_corners", "parts", "joints", "name", "face", most=8)
def pierced_at_rest(character: Character) -> dict[str, float]:
    """By side: how far an eyeball comes through its lids where nothing moves, shares of its radius."""
    face = face_of(character)
    none = np.zeros_like(face.head.p)
    return {e.side: lid_figures(Lids(face.head, e), none, [np.eye(3)]).pierced for e in face.eyes if e.opens}


def box_of_head(character: Character) -> list[list[float]]:
    """The lowest and the highest corner of the box about the head, metres."""
    head = face_of(character).head
    places = head.back(head.p[head.surface])
    return [places.min(0).tolist(), places.max(0).tolist()]
