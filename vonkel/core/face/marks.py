"""The marks of a face: what they are called, what each decides, and a face read as its marks say."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character, Face, FaceMark, opposite_name, without_side
from ..errors import NotFound
from ..geometry.rotations import unit, vector
from ..tolerances import TINY
from .estimate import Estimate, estimate_face
from .eyes import Eye, of_side
from .middle import Spot
from .openings import ALMOND, AROUND, corner_frame, rim_loop

DOUBTFUL = 0.5
"""Marks less sure than this are shown first, and asked about."""


@dataclass(frozen=True)
class MarkKind:
    """label: what it is called; decides: what hangs on it, in a sentence; inside: it lies in the flesh, not on the skin."""

    label: str
    decides: str
    inside: bool = False


KINDS: dict[str, MarkKind] = {
    "eye": MarkKind("eye", "Where the eye turns, and about which point its lids swing.", True),
    "eye_inner": MarkKind("inner corner of the eye", "One end of the line that both lids turn about."),
    "eye_outer": MarkKind("outer corner of the eye", "The other end of the line that both lids turn about."),
    "lid_upper": MarkKind(
        "upper lid", "The edge that comes down: as far up as this mark lies, so far the lid travels."
    ),
    "lid_lower": MarkKind("lower lid", "The edge that comes up to meet the upper lid."),
    "brow_inner": MarkKind("inner brow", "Where the brow is lifted in worry and drawn down in anger."),
    "brow_mid": MarkKind("middle of the brow", "Where the brow bends."),
    "brow_outer": MarkKind("outer brow", "Where the brow is lifted in surprise."),
    "nose_tip": MarkKind("nose", "What stays while the lips move, and wrinkles in disgust."),
    "mouth_upper": MarkKind("upper lip", "The lip that stays with the head when the jaw opens."),
    "mouth_lower": MarkKind("lower lip", "The lip that goes with the jaw."),
    "mouth_corner": MarkKind(
        "corner of the mouth", "Where the lips end: half of the jaw’s turn, and the pull of smiles."
    ),
    "chin": MarkKind("chin", "How long the jaw is, and which way it points."),
    "jaw_hinge": MarkKind(
        "hinge of the jaw", "The line that the jaw turns about: too far forward and the cheeks fold.", True
    ),
    "ear": MarkKind("root of the ear", "Where the ear turns."),
    "ear_tip": MarkKind("tip of the ear", "How far the ear reaches."),
}


def kind_of(name: str) -> MarkKind:
    return KINDS.get(without_side(name)) or MarkKind(name.replace("_", " "), "")


def found_marks(character: Character, afresh: bool = False) -> Face:
    """The face with its marks as estimated; those that were put or looked at by hand stay as they are, unless all is to be `afresh`."""
    face, before = estimate_face(character), character.face or Face()
    settled = {m.name: m for m in before.marks if m.settled and not afresh}
    places = face.placed()
    marks = [
        settled.pop(n)
        if n in settled
        else FaceMark(name=n, place=vector(places[n]), sure=round(float(s.sure), 3), how=s.how)
        for n, s in face.spots.items()
    ]
    return before.model_copy(update={"marks": tuple([*marks, *settled.values()])})


def moved_mark(character: Character, name: str, place: np.ndarray, both: bool = True) -> Face:
    """The face with one mark put somewhere by hand, and its partner on the other side with it unless their link is open.

    Raises NotFound for a mark that no face has.
    """
    if without_side(name) not in KINDS:
        raise NotFound(f"No mark of a face is called “{name}”.", character.name, "Choose one of the list.")
    face = character.face or Face()
    other = opposite_name(name)
    places = {name: place}
    if both and other != name and without_side(name) not in face.apart:
        places[other] = _across(character, place, kind_of(name).inside)
    marks = {m.name: m for m in face.marks}
    for n, p in places.items():
        marks[n] = FaceMark(name=n, place=vector(p), sure=1.0, how="put by hand", settled=True)
    return face.model_copy(update={"marks": tuple(marks.values())})


def _across(character: Character, place: np.ndarray, inside: bool) -> np.ndarray:
    """The place on the other side: mirrored, and on an uneven head brought to the skin there."""
    head = estimate_face(character).head
    image = head.back(head.own(place) * [-1.0, 1.0, 1.0])
    if head.even or inside:
        return image
    own = head.back(head.p[head.surface])
    return np.asarray(own[int(cKDTree(own).query(image)[1])])


def face_of(character: Character, places: dict[str, tuple[float, float, float]] | None = None) -> Estimate:
    """The face as its marks say, or as `places` say; what the marks don't say as it was estimated."""
    base = estimate_face(character)
    if places is None:
        if character.face is None:
            return base
        places = character.face.places
    own = {n: base.head.own(np.array(p)) for n, p in places.items()}
    spots = {n: replace(base.spots.get(n, Spot(p, 1.0, "put by hand")), place=p) for n, p in own.items()}
    eyes = []
    for side in ("L", "R"):
        eye = _eye_as_marked(base, side, own)
        if eye is not None:
            eyes.append(eye)
    return Estimate(base.head, eyes, base.mouth, spots)


EYE_MARKS = ("eye", "eye_inner", "eye_outer", "lid_upper", "lid_lower")


def _eye_as_marked(face: Estimate, side: str, own: dict[str, np.ndarray]) -> Eye | None:
    """The eye whose centre, corners and lids are where the marks are."""
    found = of_side(face.eyes, side)
    marks = {n: own[f"{n}_{side}"] for n in EYE_MARKS if f"{n}_{side}" in own}
    if len(marks) < len(EYE_MARKS):
        return None
    size = face.head.size
    if found is not None:
        there = {n: face.spots[f"{n}_{side}"].place for n in EYE_MARKS if f"{n}_{side}" in face.spots}
        if all(n in there and np.linalg.norm(marks[n] - there[n]) < 1e-7 * size for n in EYE_MARKS):
            return found
    centre = marks["eye"]
    wide = 0.5 * float(np.linalg.norm(marks["eye_inner"] - marks["eye_outer"]))
    eye = Eye(
        "L" if side == "L" else "R", centre, found.radius if found is not None else wide / np.sin(ALMOND[0]),
        found.kind if found is not None else "sculpted", found.points if found is not None else np.zeros(0, int), 1.0,
    )  # fmt: skip
    inner, outer, upper, lower = (unit(marks[n] - centre) for n in ("eye_inner", "eye_outer", "lid_upper", "lid_lower"))
    eye.axis = unit(inner + outer + upper + lower)
    up = unit(upper - lower)
    across = unit(outer - inner)
    eye.frame = corner_frame(inner, outer, eye.axis, across, up)
    eye.rim, eye.split = _rim_through(
        eye, found, (inner, upper, outer, lower), float(np.linalg.norm(marks["eye_inner"] - centre))
    )
    if found is None or not found.shelled:
        rim_loop(face.head, eye)
    else:
        eye.shelled = True
    return eye


def _rim_through(eye: Eye, found: Eye | None, ways: tuple[np.ndarray, ...], reach: float) -> tuple[np.ndarray, int]:
    """The edge of an opening through the four marks: the found one's, stretched between them; else an almond."""

    def polar(u: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        f = np.atleast_2d(u) @ eye.frame.T
        return np.arctan2(f[:, 1], -f[:, 0]) % (2 * np.pi), np.arccos(np.clip(f[:, 2], -1, 1))

    at, angle = polar(np.array(ways))
    order = np.argsort(at)
    around = np.linspace(0, 2 * np.pi, AROUND, endpoint=False)
    if found is not None and len(found.rim):
        a, t = polar(unit(found.rim - eye.centre))
        by = np.argsort(a)
        base = np.interp(around, a[by], t[by], period=2 * np.pi)
        marked = np.interp(at, a[by], t[by], period=2 * np.pi)
        rho = np.interp(around, a[by], np.linalg.norm(found.rim - eye.centre, axis=1)[by], period=2 * np.pi)
    else:
        base, marked, rho = np.ones(AROUND), np.ones(len(at)), np.full(AROUND, reach)
    factor = np.interp(around, at[order], (angle / np.maximum(marked, TINY))[order], period=2 * np.pi)
    theta = base * factor
    u = np.cos(theta)[:, None] * eye.frame[2] + np.sin(theta)[:, None] * (
        -np.cos(around)[:, None] * eye.frame[0] + np.sin(around)[:, None] * eye.frame[1]
    )
    start = int(np.argmax(u @ ways[0]))
    u, rho = np.roll(u, -start, axis=0), np.roll(rho, -start)
    return eye.centre + u * rho[:, None], int(np.argmax(u @ ways[2]))
