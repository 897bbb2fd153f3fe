"""A plain eye for a character that has none: a ball, and two lid shells that turn about its centre, one within the other.

Each shell is a slice of a hollow ball between two half circles from corner to corner, so that turned about the corners' line its
edge stays such a half circle: edges that stand at one elevation meet along their whole length.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..character import Character, Joint, Part, Side, unique_name
from ..errors import StepRefused
from ..face.estimate import Estimate
from ..face.eyes import Eye, of_side
from ..face.head import head_joint
from ..face.openings import ALMOND
from ..geometry.parts import point_colours, with_parts
from ..geometry.rotations import matrix_from_quaternion, quaternion_from_matrix, unit, vector
from ..geometry.topology import skin_points
from ..joints.edit import add_joint
from ..joints.orient import MIRROR
from ..weights import table_of, with_table

INNER, SWEEP = 0.9, np.radians(160)  # the inner shell, of the outer; how far a shell goes round (common practice)
OUTER, THICK = 1.22, 0.06  # of the ball's radius: the outer shell, and how thick both are
LEAST, MOST = 0.01, 0.45  # radius of an eye, shares of the head's size
ALONG, ROUND = 28, 18  # faces of a shell along its edge, and over its sweep
ABOUT = 1.5  # radii from its centre: skin about an eye
BALL = 24, 32  # of the ball from its pole, and about it
PUPIL, IRIS = np.radians(13), np.radians(27)
WHITE, BROWN, BLACK = (248, 245, 236), (122, 84, 44), (24, 22, 22)

Faces = list[tuple[int, ...]]


@dataclass(frozen=True)
class Built:
    """Where a built eye stands: in the character's space, metres; frame (3, 3): rows along the corners to the character's left,
    up, outwards; upper and lower: elevation of either lid's edge at rest, radians."""

    side: Side
    centre: np.ndarray
    radius: float
    frame: np.ndarray
    upper: float
    lower: float


def _ball() -> tuple[np.ndarray, Faces]:
    """Places (n, 3) of a unit ball with its poles fore and aft, and its faces."""
    down, about = BALL
    angle, turn = np.linspace(0, np.pi, down + 1)[1:-1], np.linspace(0, 2 * np.pi, about, endpoint=False)
    a, t = (x.ravel() for x in np.meshgrid(angle, turn, indexing="ij"))
    p = np.vstack([[0, 0, 1], np.stack([np.sin(a) * np.cos(t), np.sin(a) * np.sin(t), np.cos(a)], 1), [0, 0, -1]])

    def at(row: int, k: int) -> int:
        return 1 + row * about + k % about

    faces: Faces = [(0, at(0, k), at(0, k + 1)) for k in range(about)]
    faces += [(at(r, k), at(r + 1, k), at(r + 1, k + 1), at(r, k + 1)) for r in range(down - 2) for k in range(about)]
    last = len(p) - 1
    return p, [*faces, *((at(down - 2, k), last, at(down - 2, k + 1)) for k in range(about))]


def _shell(inner: float, outer: float, start: float, end: float) -> tuple[np.ndarray, Faces]:
    """Places of a slice of a hollow ball from elevation `start` to `end`, and its faces; the edges are a little rounded."""
    thick = outer - inner
    mid = 0.5 * (inner + outer)
    lap = 0.35 * thick / mid * np.sign(end - start)
    elevation = np.linspace(start + lap, end - lap, ROUND + 1)
    # Once round a slice through the shell: over the outside, round the far edge, back along the inside, round the near one.
    section = [
        *((outer, e) for e in elevation), (mid, end), *((inner, e) for e in elevation[::-1]), (mid, start),
    ]  # fmt: skip
    n = len(section)
    along = np.linspace(0, np.pi, ALONG + 1)[1:-1]
    p = np.array(
        [
            [-r * np.cos(f), r * np.sin(f) * np.sin(e), r * np.sin(f) * np.cos(e)]
            for f in along
            for r, e in section
        ]
    )  # fmt: skip
    rings = [np.arange(n) + k * n for k in range(len(along))]
    faces: Faces = [
        (int(a[i]), int(b[i]), int(b[(i + 1) % n]), int(a[(i + 1) % n])) for a, b in pairwise(rings) for i in range(n)
    ]
    radii = [outer, mid, inner]
    for ring, sign, way in ((rings[0], -1.0, 1), (rings[-1], 1.0, -1)):  # a point for each radius closes either corner
        first = len(p)
        p = np.vstack([p, [[sign * r, 0.0, 0.0] for r in radii]])
        corner = [first + radii.index(r) for r, _ in section]
        for i in range(n):
            j = (i + 1) % n
            face = [corner[i], int(ring[i]), int(ring[j]), corner[j]]
            face = face if corner[i] != corner[j] else face[:3]
            faces.append(tuple(face[::way]))
    flip = end < start
    return p, [f[::-1] for f in faces] if flip else faces


def built_parts(character: Character, sides: Sequence[Side]) -> list[str]:
    """Names of the parts of eyes that were built on these sides: shells, and the balls within them."""
    shells = [p for p in character.parts if p.role == "lid"]
    out = []
    for side in sides:
        joint = character.joint_with_role("lid_upper", side)
        if joint is None:
            continue
        for part in [*shells, *(p for p in character.parts if p.role == "eye" and shells)]:
            if _around(character, part, joint):
                out.append(part.name)
    return out


def _around(character: Character, part: Part, joint: Joint) -> bool:
    """Whether a ball or a shell lies about an eye's joint: those of another eye lie aside."""
    p = character.points[slice(*part.points)] - joint.place
    return bool(np.linalg.norm(p.mean(0)) < 0.8 * np.median(np.linalg.norm(p, axis=1)))


def built_eyes(
    character: Character, face: Estimate, radius: float, upper: float, lower: float, sides: Sequence[Side]
) -> list[Built]:
    """Where built eyes stand by the marks of the face.  radius: metres, or 0 for what the marks say.

    Raises StepRefused where the face has eyes already, or no mark says where one should be.
    """
    head, out = face.head, []
    for side in sides:
        spot, found = face.spots.get(f"eye_{side}"), of_side(face.eyes, side)
        if found is not None and len(found.points):
            raise StepRefused(
                f"The {'left' if side == 'L' else 'right'} eye has a ball of its own.", character.name,
                "Take that part out at the Model station first.",
            )  # fmt: skip
        if spot is None:
            raise StepRefused(
                f"No mark says where the {'left' if side == 'L' else 'right'} eye is.", character.name,
                "Put the mark of the eye on the head first.",
            )  # fmt: skip
        r = radius or _radius(face, side, found)
        if not LEAST * head.size <= r <= MOST * head.size:
            raise StepRefused(
                f"An eye of {200 * r:.1f} cm doesn't suit a head of {100 * head.size:.1f} cm.", character.name,
                "Choose another size.",
            )  # fmt: skip
        place, ahead = spot.place, _ahead(found)
        other = "R" if side == "L" else "L"
        if head.even and other in sides and f"eye_{other}" in face.spots:  # a pair is made alike
            image, theirs = face.spots[f"eye_{other}"].place * MIRROR, of_side(face.eyes, other)
            place, ahead = 0.5 * (place + image), unit(ahead + _ahead(theirs) * MIRROR)
            r = radius or 0.5 * (r + _radius(face, other, theirs))
        across = unit(np.cross([0.0, 1.0, 0.0], ahead))
        frame = np.stack([across, np.cross(ahead, across), ahead]) @ head.turn
        out.append(Built(side, head.back(place), r, frame, upper, lower))
    return out


def _ahead(found: Eye | None) -> np.ndarray:
    """Which way an eye looks: a brow or a cheek leans, eyes hardly do."""
    return unit(found.axis * [1, 0.4, 1]) if found is not None else np.array([0.0, 0.0, 1.0])


def _radius(face: Estimate, side: str, found: Eye | None) -> float:
    ends = [face.spots[n].place for n in (f"eye_inner_{side}", f"eye_outer_{side}") if n in face.spots]
    if len(ends) == 2:
        return 0.5 * float(np.linalg.norm(ends[0] - ends[1])) / float(np.sin(ALMOND[0]))
    return found.radius if found is not None else 0.1 * face.head.size


def with_built_eyes(character: Character, eyes: Sequence[Built]) -> Character:
    """The character with a ball, two lid shells and three joints for each of these eyes; a skin, if there is one, holds them."""
    head = head_joint(character)
    if head is None:
        raise StepRefused("No joint is the head's.", character.name, "Lay a plan first.")
    result, holders = character, {}
    for eye in eyes:
        made: list[tuple[str, str, np.ndarray, Faces]] = []
        ball, faces = _ball()
        made.append((f"eye_{eye.side}", "eye", ball, faces))
        outer, inner = (OUTER - THICK, OUTER), (INNER * OUTER - THICK, INNER * OUTER)
        made.append((f"upper lid_{eye.side}", "lid", *_shell(*outer, eye.upper, eye.upper + SWEEP)))
        made.append((f"lower lid_{eye.side}", "lid", *_shell(*inner, eye.lower, eye.lower - SWEEP)))
        before = len(result.parts)
        result = _with_meshes(result, eye, made)
        roles = ("eye", "lid_upper", "lid_lower")
        for part, role in zip(result.parts[before:], roles, strict=True):
            result, joint = _with_joint(result, eye, role, head.name)
            holders[part.name] = joint
    return _held(result, holders)


def _with_meshes(character: Character, eye: Built, made: list[tuple[str, str, np.ndarray, Faces]]) -> Character:
    places = np.vstack([eye.centre + eye.radius * p @ eye.frame for _, _, p, _ in made])
    numbers = np.repeat(np.arange(len(made)), [len(p) for _, _, p, _ in made])
    offsets = np.r_[0, np.cumsum([len(p) for _, _, p, _ in made])]
    faces = [tuple(i + int(o) for i in f) for (_, _, _, own), o in zip(made, offsets, strict=False) for f in own]
    starts = np.r_[0, np.cumsum([len(f) for f in faces])]
    corners = np.concatenate([np.array(f) for f in faces])
    old, parts_before = len(character.points), len(character.parts)
    if "colours" not in character.arrays:
        character = character.with_(arrays={"colours": point_colours(character)})
    none = np.zeros(1, np.int64), np.zeros(0, np.int64)
    result = with_parts(character, tuple(n for n, *_ in made), places, numbers, (starts, corners), none)
    parts = tuple(
        p.model_copy(update={"role": made[i - parts_before][1]}) if i >= parts_before else p
        for i, p in enumerate(result.parts)
    )
    colours = np.array(result.arrays["colours"])
    ball = made[0][2]
    angle = np.arccos(np.clip(ball[:, 2], -1, 1))[:, None]
    colours[old : old + len(ball)] = np.where(angle < PUPIL, BLACK, np.where(angle < IRIS, BROWN, WHITE))
    colours[old + len(ball) :] = _skin_beside(character, eye)
    return result.with_(parts=parts, arrays={"colours": colours})


def _skin_beside(character: Character, eye: Built) -> np.ndarray:
    """The colour of the skin about an eye (3,)."""
    far = np.where(skin_points(character), np.linalg.norm(character.points - eye.centre, axis=1), np.inf)
    near = np.argsort(np.where(far > ABOUT * eye.radius, far, np.inf))[:60]  # not the lining of a socket
    return np.asarray(np.median(character.arrays["colours"][near], axis=0)).astype(np.uint8)


def _with_joint(character: Character, eye: Built, role: str, head: str) -> tuple[Character, str]:
    there = character.joint_with_role(role, eye.side)
    turn = quaternion_from_matrix(eye.frame.T)
    if there is not None:
        joints = tuple(
            j.model_copy(update={"place": vector(eye.centre)}) if j.name == there.name else j for j in character.joints
        )
        return character.with_(joints=joints), there.name
    name = unique_name(f"{role}_{eye.side}", set(character.joint_index))
    joint = Joint(
        name=name, parent=head, side=eye.side, place=vector(eye.centre), turn=tuple(map(float, turn)), role=role,
        aim="z", hinge="x",
    )  # fmt: skip
    return add_joint(character, joint), name


def built_opening(character: Character, upper: Joint) -> float:
    """How far the edges of an eye's lid shells stand apart at rest, radians; 0 where it has none."""
    axes = matrix_from_quaternion(upper.turn)
    across = axes[:, 0] * (1.0 if axes[0, 0] >= 0 else -1.0)
    ahead = unit(np.cross(across, [0.0, 1.0, 0.0]))
    above = np.cross(ahead, across)
    edges = {}
    for part in character.parts:
        if part.role != "lid" or not _around(character, part, upper):
            continue
        p = character.points[slice(*part.points)] - upper.place
        q = p[np.abs(p @ across) < 0.5 * np.linalg.norm(p, axis=1)]
        a = np.arctan2(q @ above, q @ ahead)
        front = a[np.abs(a) < np.pi / 2]
        low = "lower" in part.name.lower()
        edges["lower" if low else "upper"] = float(front.max() if low else front.min())
    return edges["upper"] - edges["lower"] if len(edges) == 2 else 0.0


def _held(character: Character, holders: dict[str, str]) -> Character:
    if character.skin is None:
        return character
    table = table_of(character)
    for part, joint in holders.items():
        table = table.given_rows(np.arange(*character.part(part).points), joint)
    return with_table(character, table)
