"""What a joint moves that it should not: holds in patches apart from its own, and on limbs it has nothing to do with."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..character import Character
from ..derived import derived
from ..geometry.measures import distance_to_segments
from ..geometry.topology import skin_points
from ..geometry.walking import Ground, ground_of
from ..joints.limbs import digit_or_limb_of
from .bones import bones_of

HELD = 0.02  # what is less isn't seen in a pose
SEEN = 0.05  # a patch whose largest hold is less isn't worth a row
FEW = 3  # points: less is for the list of single points
NEAR = 2  # steps along the hierarchy within which joints share skin as a matter of course
FADES = 0.05  # of the size: how far past its own a joint may fade
APART = "patches apart from its own"


@dataclass(frozen=True)
class Stray:
    """A joint's hold where it has no business: `where`: the limb, in words, or APART; points (k,), the largest hold, and how
    much it comes to: holds squared and summed, by how far along the hierarchy from whoever holds the points most."""

    joint: str
    where: str
    points: np.ndarray
    most: float
    amount: float


@derived(
    "skin",
    "skin/joints",
    "skin/weights",
    "joints",
    "points",
    "parts",
    "face_starts",
    "face_corners",
    "line_starts",
    "line_points",
    most=6,
)
def strays_of(character: Character) -> tuple[Stray, ...]:
    """All of them, the worst first; none without a skin."""
    skin = character.skin
    if skin is None or not len(character.points):
        return ()
    ground = ground_of(character)
    index, weights = character.arrays["skin/joints"], character.arrays["skin/weights"]
    main = index[np.arange(len(index)), weights.argmax(1)]
    limbs = [digit_or_limb_of(character, n) if n in character.joint_index else n for n in skin.joints]
    number = {limb: i for i, limb in enumerate(sorted(set(limbs)))}
    of_limb = np.array([number[limb] for limb in limbs])
    steps = _steps_between(character, skin.joints)
    words = {i: limb for limb, i in number.items()}
    found: list[Stray] = []
    soft = skin_points(character)
    for j, name in enumerate(skin.joints):
        held = np.where(index == j, weights, 0.0).sum(1)
        points = np.flatnonzero((held > HELD) & soft)
        if not len(points):
            continue
        apart = _apart(ground, points, held, FADES * character.size)
        elsewhere = np.zeros(len(index), bool)  # and by which limb's joint it is held most, or else
        whose = np.where(main == j, _second(index, weights, j), main)
        elsewhere[apart] = True
        rest = points[(steps[j, main[points]] > NEAR) & (of_limb[main[points]] != of_limb[j])]
        if len(rest) and (main == j).any():  # beside what it holds most it may fade
            own = np.setdiff1d(np.unique(ground.of[main == j]), ground.of[apart])
            near, _ = ground.from_points(own, np.zeros(len(own)), FADES * character.size)
            rest = rest[~np.isin(ground.of[rest], near)]
        elsewhere[rest] = True
        there = np.flatnonzero(elsewhere)
        limb = np.where(whose[there] >= 0, of_limb[whose[there]], -1)
        for k in np.unique(limb):
            mine = there[limb == k]
            by = np.where(whose[mine] >= 0, np.maximum(steps[j, whose[mine]] - NEAR, 1), 1)
            where = words[int(k)] if k >= 0 and k != of_limb[j] else APART
            found.append(Stray(name, where, mine, float(held[mine].max()), float((held[mine] ** 2 * by).sum())))
    found = [s for s in found if len(s.points) >= FEW and s.most >= SEEN]
    return tuple(sorted(found, key=lambda s: -s.amount))


def _second(index: np.ndarray, weights: np.ndarray, joint: int) -> np.ndarray:
    """(n,) who else holds each point most, −1 for nobody."""
    others = np.where(index == joint, 0.0, weights)
    at = others.argmax(1)[:, None]
    most = np.take_along_axis(others, at, 1)[:, 0]
    return np.where(most > HELD, np.take_along_axis(index, at, 1)[:, 0].astype(np.int64), -1)


def _apart(ground: Ground, points: np.ndarray, held: np.ndarray, far: float) -> np.ndarray:
    """Which of a joint's points don't hang together with most of what it holds, nor lie near it: the other face of a sheet, or
    a coat's lining, is no patch of its own."""
    joined, at = np.unique(ground.of[points], return_inverse=True)
    if len(joined) < 2:
        return points[:0]
    inside = np.full(len(ground.places), -1)
    inside[joined] = np.arange(len(joined))
    starts, around = ground.beside(joined)
    rows, other = np.repeat(np.arange(len(joined)), np.diff(starts)), inside[around]
    keep = other >= 0
    graph = csr_matrix((np.ones(keep.sum(), np.int8), (rows[keep], other[keep])), shape=(len(joined),) * 2)
    count, piece = connected_components(graph, directed=False)
    if count == 1:
        return points[:0]
    places, home = ground.places[joined], np.bincount(piece[at], held[points]).argmax()
    away, _ = cKDTree(places[piece == home]).query(places)
    nearest = np.full(count, np.inf)
    np.minimum.at(nearest, piece, away)
    return np.asarray(points[nearest[piece[at]] > far])


def _steps_between(character: Character, names: tuple[str, ...]) -> np.ndarray:
    """(j, j) int: how many bones lie between two joints of the hierarchy; helpers between them don't count."""
    lines = []
    for n in names:
        line, at = [n], character.joint(n).parent if n in character.joint_index else None
        while at is not None:
            if character.joint(at).deforms:
                line.append(at)
            at = character.joint(at).parent
        lines.append(line)
    out = np.zeros((len(names), len(names)), int)
    place = [{n: i for i, n in enumerate(line)} for line in lines]
    for a in range(len(names)):
        for b in range(a):
            met = next((i for i, n in enumerate(lines[a]) if n in place[b]), None)
            steps = len(lines[a]) + len(lines[b]) if met is None else met + place[b][lines[a][met]]
            out[a, b] = out[b, a] = steps
    return out


SAMPLE = 120  # points of a joint that are looked at
ELSEWHERE = 2.5  # times as far from its own bone as from another: it holds what isn't its own
LEAST_HELD = 12


@derived("points", "joints", "skin", "skin/joints", "skin/weights", most=8)
def held_elsewhere(character: Character) -> tuple[tuple[str, str], ...]:
    """Joints most of whose points lie by another joint's bone, and that one: weights that were swapped or went to a wrong name."""
    if character.skin is None:
        return ()
    held, weights = character.arrays["skin/joints"], character.arrays["skin/weights"]
    strongest = held[np.arange(len(held)), weights.argmax(1)]
    sure = weights.max(1) > 0.5
    bones = {b.joint: b.segments for b in bones_of(character)}
    own_size, found = character.size, []
    for k, name in enumerate(character.skin.joints):
        rows = np.flatnonzero((strongest == k) & sure)
        if name not in bones or len(rows) < LEAST_HELD:
            continue
        p = character.points[rows[:: max(1, len(rows) // SAMPLE)]]
        far = {n: float(np.median(distance_to_segments(p, s))) for n, s in bones.items()}
        near = min(far, key=lambda n: far[n])
        if near != name and far[name] > ELSEWHERE * far[near] and far[name] > 0.02 * own_size:
            found.append((name, near))
    return tuple(found)
