"""How far joints reach: the segments of every bone, and the same as arrays for the loops that ask for distances."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..character import Character, Joint, opposite_name
from ..character.words import EYE_JOINTS
from ..compiled import compiled
from ..joints.orient import bone_child
from ..tolerances import PAIR

LIP = 0.2  # how thick the jaws are beside the line of the mouth, of the way from there up to the eyes (common practice: thirds of
# the face)


@dataclass(frozen=True)
class Bone:
    """A deforming joint's reach: segments from it to its children (a point where it has none)."""

    joint: str
    segments: np.ndarray  # (s, 2, 3) metres

    @property
    def longest(self) -> float:
        """Metres of its longest segment."""
        return float(np.linalg.norm(self.segments[:, 1] - self.segments[:, 0], axis=1).max())


def holds_skin(joint: Joint) -> bool:
    """Eyes hold whole parts only; so does a jaw that was guessed: one that was found takes the lower lip with it."""
    return joint.deforms and joint.role not in EYE_JOINTS and not (joint.role == "jaw" and joint.doubt > 0)


def bones_of(character: Character) -> list[Bone]:
    """Bones of all joints that hold skin, in character order."""
    return [Bone(j.name, np.array(_segments(character, j))) for j in character.joints if holds_skin(j)]


def _segments(character: Character, joint: Joint) -> list[list[np.ndarray]]:
    start = np.array(joint.place)
    kids = [c for c in character.children.get(joint.name, ()) if c.role not in (*EYE_JOINTS, "jaw")]
    held = [c for c in character.children.get(joint.name, ()) if c.role in ("eye", "jaw")]
    if joint.role in ("hand", "foot"):
        ends = [np.array(c.place) for c in kids if c.side == joint.side] or [np.array(c.place) for c in kids]
    elif joint.side == "C":  # a trunk joint runs on to all that goes on in the middle: spine, neck and tail
        ends = [np.array(c.place) for c in kids if c.side == "C" and (c.deforms or c.role.endswith("_end"))]
        if not ends and kids:
            ends = [np.mean([c.place for c in kids], axis=0)]
    else:
        main = bone_child(character, joint)
        ends = [np.array(main.place)] if main is not None else []
    segments = [[start, e] for e in ends] or [[start, _run_on(character, joint)]]
    if joint.role == "jaw" and joint.parent and ends:  # its bone runs along the line of the mouth: its flesh lies below
        segments = [[start, e - _lip(character, character.joint(joint.parent), start, e)] for e in ends]
    for other in held:
        segments += _beside(character, joint, other)
    return segments


def _run_on(character: Character, joint: Joint) -> np.ndarray:
    """Where the bone of a joint without a child ends: straight on from its parent's, nearly as long."""
    start = np.array(joint.place)
    if joint.parent is None:
        return start
    return np.asarray(start + 0.8 * (start - np.array(character.joint(joint.parent).place)))


def _beside(character: Character, joint: Joint, held: Joint) -> list[list[np.ndarray]]:
    """What rides on a joint is part of its reach: an eye; and the upper jaw, which mirrors the lower one at the lips, or
    where the jaw is a guess the whole of it: the muzzle belongs to the head, however near the neck runs below it."""
    start, place = np.array(joint.place), np.array(held.place)
    if held.role == "eye":
        return [[start, place]]
    tip = next((np.array(c.place) for c in character.children.get(held.name, ())), place)
    if not holds_skin(held):
        return [[start, place], [place, tip]]
    return [[start, place], [place, tip + _lip(character, joint, place, tip)]]


def _lip(character: Character, head: Joint, hinge: np.ndarray, tip: np.ndarray) -> np.ndarray:
    """(3,) from the line of the mouth up into the upper jaw, square to the jaw's bone."""
    eyes = [np.array(c.place) for c in character.children.get(head.name, ()) if c.role == "eye"]
    along = tip - hinge
    along = along / max(float(np.linalg.norm(along)), 1e-12)
    up = LIP * (np.mean(eyes, axis=0) - tip) if eyes else 0.3 * (hinge - np.array(head.place))
    up = up - along * float(up @ along)
    return np.asarray(up * [0.0, 1.0, 1.0] if abs(along[0]) < 0.1 else up)


GRAIN = 2.0**24  # places that a body's size is told in


def in_sizes(places: np.ndarray, size: float) -> np.ndarray:
    """Places (…, 3) in sizes of the body, on a grid so fine that it moves nothing and so coarse that no unit's rounding decides
    between what is equally far."""
    return np.asarray(np.rint(places * (GRAIN / size)) / GRAIN)


@dataclass(frozen=True)
class Reach:
    """All bones' segments in one row.

    start, way (s, 3): where a segment begins and what leads to its end; square (s,) its squared length; bone (s,) the
    bone it belongs to; parent (b,) the nearest bone above (−1: none); side (b,) −1 right, 0, 1 left; partner (b,) the
    mirrored bone, or −1 throughout where bones aren't symmetric about x = 0; root (b,) the first bone of the limb that each is in, across
    (b,) the bone that goes by that one's name on the other side (−1, both: of no limb, or of one without an opposite);
    sheet (b,) bool whether it moves a membrane;
    radius (s,) metres where a limb's radius is known beforehand (both jaws, whose borders lie between them), 0 elsewhere;
    span (b,) metres that limit how far its holds fade: its longest segment, or for a jaw the thickness of its lip.
    """

    start: np.ndarray
    way: np.ndarray
    square: np.ndarray
    bone: np.ndarray
    parent: np.ndarray
    side: np.ndarray
    partner: np.ndarray
    root: np.ndarray
    across: np.ndarray
    sheet: np.ndarray
    radius: np.ndarray
    span: np.ndarray

    def in_sizes(self, size: float) -> Reach:
        """The same in sizes of the body; see `in_sizes`."""
        start, end = in_sizes(self.start, size), in_sizes(self.start + self.way, size)
        way = end - start
        square = (way**2).sum(1)
        return replace(self, start=start, way=way, square=square, radius=self.radius / size, span=self.span / size)

    @property
    def lines(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """What loops that ask for distances take: start, way, square."""
        return self.start, self.way, self.square

    @property
    def length(self) -> np.ndarray:
        return np.asarray(np.sqrt(self.square))


def reach_of(character: Character, bones: Sequence[Bone]) -> Reach:
    index = {b.joint: i for i, b in enumerate(bones)}
    segments = np.concatenate([b.segments for b in bones])
    way = segments[:, 1] - segments[:, 0]
    parent = []
    for b in bones:
        above = character.joint(b.joint).parent
        while above is not None and above not in index:
            above = character.joint(above).parent
        parent.append(index.get(above, -1) if above else -1)
    side = [{"L": 1, "R": -1}.get(character.joint(b.joint).side, 0) for b in bones]
    root, across = _limbs(bones, index, parent, side)
    return Reach(
        np.ascontiguousarray(segments[:, 0]), way, (way**2).sum(1), np.repeat(np.arange(len(bones)), [len(b.segments) for b in bones]),
        np.array(parent), np.array(side), _partners(bones, index, character.size), root, across,
        np.array([character.joint(b.joint).role.startswith("membrane") for b in bones]),
        np.concatenate([_radii(character, b) for b in bones]), np.array([_span(character, b) for b in bones]),
    )  # fmt: skip


def _thickness(character: Character, jaw: Joint) -> float:
    """Metres of flesh beside the line of the mouth."""
    tips = character.children.get(jaw.name, ())
    if jaw.parent is None or not tips or not holds_skin(jaw):
        return 0.0
    return float(
        np.linalg.norm(_lip(character, character.joint(jaw.parent), np.array(jaw.place), np.array(tips[0].place)))
    )


def _radii(character: Character, bone: Bone) -> np.ndarray:
    out = np.zeros(len(bone.segments))
    joint = character.joint(bone.joint)
    if joint.role == "jaw":
        out[:] = 2.0 * _thickness(character, joint)
    for jaw in character.children.get(joint.name, ()):
        if jaw.role == "jaw":
            upper = (np.abs(bone.segments[:, 0] - np.array(jaw.place)) < 1e-12).all(1)
            out[upper] = 2.0 * _thickness(character, jaw)
    return out


def _span(character: Character, bone: Bone) -> float:
    joint = character.joint(bone.joint)
    return (_thickness(character, joint) if joint.role == "jaw" else 0.0) or bone.longest or float(np.inf)


def _limbs(
    bones: Sequence[Bone], index: dict[str, int], parent: Sequence[int], side: Sequence[int]
) -> tuple[np.ndarray, np.ndarray]:
    first = list(range(len(bones)))
    for b in range(len(bones)):
        while side[first[b]] and parent[first[b]] >= 0 and side[parent[first[b]]] == side[b]:
            first[b] = parent[first[b]]
    root, across = np.full(len(bones), -1), np.full(len(bones), -1)
    for b, r in enumerate(first):
        opposite = index.get(opposite_name(bones[r].joint), -1)
        if side[b] and opposite >= 0 and side[opposite] == -side[b] and first[opposite] == opposite:
            root[b], across[b] = r, opposite
    return root, across


def _partners(bones: Sequence[Bone], index: dict[str, int], size: float) -> np.ndarray:
    partner = np.array([index.get(opposite_name(b.joint), -1) for b in bones])
    if (partner >= 0).all():
        for b, p in zip(bones, partner, strict=True):
            other = bones[p].segments
            if len(other) != len(b.segments) or _unlike(b.segments * [-1, 1, 1], other) > PAIR * size:
                break
        else:
            return partner
    return np.full(len(bones), -1)


def _unlike(a: np.ndarray, b: np.ndarray) -> float:
    """How far two sets of segments (s, 2, 3) are from being the same, in any order."""
    return float(np.abs(a[:, None] - b[None]).max((2, 3)).min(1).max())


@compiled
def to_segment(p: np.ndarray, start: np.ndarray, way: np.ndarray, square: float) -> tuple[float, float]:
    """Metres from a place (3,) to a segment, and the share of it where that is."""
    t = 0.0
    if square > 0.0:
        for k in range(3):
            t += (p[k] - start[k]) * way[k]
        t = min(max(t / square, 0.0), 1.0)
    d = 0.0
    for k in range(3):
        d += (p[k] - start[k] - t * way[k]) ** 2
    return np.sqrt(d), t


@compiled
def past_end(p: np.ndarray, start: np.ndarray, way: np.ndarray, square: float) -> float:
    """Metres, along a segment, that a place lies beyond its end, or before its start (negative); 0 beside it."""
    if square <= 0.0:
        return 0.0
    t = 0.0
    for k in range(3):
        t += (p[k] - start[k]) * way[k]
    t /= square
    over: float = np.sqrt(square) * (t - min(max(t, 0.0), 1.0))
    return over


@compiled
def radius_at(radii: np.ndarray, t: float) -> float:
    """A limb's radius at a share of a segment, of those (3,) at its start, middle and end."""
    if t < 0.5:
        at: float = radii[0] + (radii[1] - radii[0]) * 2.0 * t
    else:
        at = radii[1] + (radii[2] - radii[1]) * (2.0 * t - 1.0)
    return at
