"""What looks wrong with shapes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character, Link, Ref, Shape
from ..geometry.health import mirror_partners
from ..geometry.topology import topology_of
from ..recent import Recent
from .moves import STILL

ALIKE = 1e-3  # of what a shape moves: two that differ by less are one
OUTSIDE = 0.02  # of the farthest move: less outside its region isn't worth a word
UNEVEN = 0.02  # likewise of both sides' difference, where a shape claims that there is none
WILD = 6.0  # a point that differs from its neighbours' mean by so many times what is usual for the shape …
ALONE = 0.5  # … and by so much of its own and their largest move


@dataclass(frozen=True)
class Fault:
    """`kind`: empty, double, trespass, uneven, unreachable or wild; `other`: what it is like, or the region; `points` (k,)."""

    kind: str
    shape: str
    other: str = ""
    amount: float = 0.0
    points: tuple[int, ...] = ()


@dataclass(frozen=True)
class _Look:
    """What is to be said of a shape by itself: its farthest move; how unlike both sides are, and where; wild points."""

    most: float
    uneven: float
    uneven_points: np.ndarray
    wild: float
    wild_points: np.ndarray


_looks: Recent[tuple[str, ...], _Look] = Recent(
    1024
)  # by the mesh and what the shape moves: strokes change one of many


def shape_faults(character: Character) -> tuple[Fault, ...]:
    """All faults of a character's shapes."""
    if not character.shapes:
        return ()
    looks = {s.name: _look(character, s) for s in character.shapes}
    found = [*_empty_and_double(character, looks), *_trespasses(character, looks)]
    for shape in character.shapes:
        look = looks[shape.name]
        if shape.even and look.uneven > UNEVEN * look.most:
            found.append(Fault("uneven", shape.name, "", look.uneven, _some(look.uneven_points)))
    for name, look in looks.items():
        if len(look.wild_points):
            found.append(Fault("wild", name, "", look.wild, _some(look.wild_points)))
    return (*found, *_unreachable(character))


def _some(points: np.ndarray) -> tuple[int, ...]:
    return tuple(int(p) for p in points[:400])


def _look(character: Character, shape: Shape) -> _Look:
    names = "points", "face_corners", f"shape/{shape.name}/points", f"shape/{shape.name}/moves"
    return _looks.get(tuple(map(character.arrays.hash_of, names)), lambda: _looked(character, shape))


def _looked(character: Character, shape: Shape) -> _Look:
    index, moves = _of(character, shape)
    most = _most(moves)
    whole = np.zeros((len(character.points), 3))
    whole[index] = moves
    off = np.linalg.norm(whole - whole[mirror_partners(character)[1]] * [-1.0, 1.0, 1.0], axis=1)
    wild, where = _wild(character, index.astype(np.int64), whole)
    return _Look(most, float(off.max(initial=0.0)), np.flatnonzero(off > 0.5 * UNEVEN * max(most, 1e-12)), wild, where)


def _of(character: Character, shape: Shape) -> tuple[np.ndarray, np.ndarray]:
    return character.arrays[f"shape/{shape.name}/points"], character.arrays[f"shape/{shape.name}/moves"]


def _most(moves: np.ndarray) -> float:
    return float(np.linalg.norm(moves, axis=1).max(initial=0.0))


def _empty_and_double(character: Character, looks: dict[str, _Look]) -> list[Fault]:
    found, known = [], list[tuple[Shape, np.ndarray, np.ndarray, float]]()
    for shape in character.shapes:
        index, moves = _of(character, shape)
        most = looks[shape.name].most
        if most <= STILL * character.size:
            found.append(Fault("empty", shape.name))
            continue
        twin = next((o for o, i, m, far in known if _alike((index, moves, most), (i, m, far))), None)
        if twin is not None:
            found.append(Fault("double", shape.name, twin.name))
        known.append((shape, index, moves, most))
    return found


def _alike(a: tuple[np.ndarray, np.ndarray, float], b: tuple[np.ndarray, np.ndarray, float]) -> bool:
    most = max(a[2], b[2])
    if abs(a[2] - b[2]) > ALIKE * most:
        return False
    count = int(max(a[0].max(), b[0].max())) + 1
    apart = np.zeros((count, 3), np.float32)
    apart[a[0]] += a[1]
    apart[b[0]] -= b[1]
    return _most(apart) <= ALIKE * most


def _trespasses(character: Character, looks: dict[str, _Look]) -> list[Fault]:
    found = []
    for shape in character.shapes:
        if not shape.region:
            continue
        index, moves = _of(character, shape)
        inside = np.zeros(len(character.points), bool)
        inside[character.arrays[f"region/{shape.region}/points"]] = True
        # Within the soft edge a shape may move as it likes: only what lies wholly outside trespasses.
        far = np.where(inside[index], 0.0, np.linalg.norm(moves, axis=1))
        most, least = float(far.max(initial=0.0)), OUTSIDE * looks[shape.name].most
        if most > least:
            found.append(Fault("trespass", shape.name, shape.region, most, _some(index[far > 0.5 * least])))
    return found


def _wild(character: Character, index: np.ndarray, whole: np.ndarray) -> tuple[float, np.ndarray]:
    """Single points that a shape moves (n, 3) quite otherwise than all of their neighbours: how far off at most, and which."""
    rows, cols = topology_of(character).neighbours
    degree = np.diff(rows)
    at = index[degree[index] > 0]
    if not len(at):
        return 0.0, at
    run = degree[at]
    starts = np.concatenate([[0], np.cumsum(run)[:-1]])
    beside = cols[np.repeat(rows[at] - starts, run) + np.arange(run.sum())]
    mean = np.add.reduceat(whole[beside], starts, axis=0) / run[:, None]
    off = np.linalg.norm(whole[at] - mean, axis=1)
    far = np.linalg.norm(whole, axis=1)
    around = np.maximum(np.maximum.reduceat(far[beside], starts), far[at])
    usual = max(float(np.median(off)), 0.02 * float(far.max()))
    spread = np.maximum.reduceat(np.linalg.norm(whole[beside] - np.repeat(mean, run, axis=0), axis=1), starts)
    wild = (off > WILD * usual) & (off > ALONE * around) & (off > 2.0 * spread)
    return float(off[wild].max(initial=0.0)), at[wild]


def _unreachable(character: Character) -> list[Fault]:
    """Shapes that never come on wholly: in-betweens outside the other's limits, combinations of what stays low, correctives
    whose joint doesn't turn so far."""
    found = []
    named = {s.name: s for s in character.shapes}
    highest = {s.name: s.high for s in character.shapes}
    for rule in character.rules:
        if isinstance(rule, Link):
            for f in rule.followers:
                if f.thing.kind == "shape":
                    highest[f.thing.name] = max(highest.get(f.thing.name, 0.0), max(k.value for k in f.curve.keys))
    for shape in character.shapes:
        parent = named.get(shape.between)
        if parent is not None and not parent.low <= shape.at <= max(parent.high, highest[parent.name]):
            found.append(Fault("unreachable", shape.name, parent.name, shape.at))
        low = [n for n in shape.of if highest.get(n, 0.0) < 0.99]
        if low:
            found.append(Fault("unreachable", shape.name, low[0], highest[low[0]]))
    for rule in character.rules:
        if isinstance(rule, Link) and rule.lead.kind in ("bend", "twist"):
            found += _never_turned(character, rule)
    return found


def _never_turned(character: Character, rule: Link) -> list[Fault]:
    joint = next((j for j in character.joints if Ref.joint(j.name) == rule.lead.thing), None)
    if joint is None or joint.freedom is None:
        return []
    axis = (joint.hinge if rule.lead.kind == "bend" else joint.aim)[-1]
    k, sign = "xyz".index(axis), -1.0 if (joint.hinge if rule.lead.kind == "bend" else joint.aim)[0] == "-" else 1.0
    ends = [v for v in (joint.freedom.low[k], joint.freedom.high[k])]
    limits = sorted(sign * v if v is not None else sign * s * np.inf for v, s in zip(ends, (-1, 1), strict=True))
    found = []
    for f in rule.followers:
        top = max(f.curve.keys, key=lambda q: q.value)
        if f.thing.kind == "shape" and top.value > 0 and not limits[0] - 0.02 <= top.at <= limits[1] + 0.02:
            found.append(Fault("unreachable", f.thing.name, joint.name, top.at))
    return found
