"""Which bone a place belongs to: the nearest by the way through the body, in radii of the limb round it.

A thigh is far from a thin finger's bone in that finger's own measure, however few centimetres lie between them; so every
bone's distance counts in the radius of its limb.  Those radii are first taken from how deep the bone lies, then measured
on what each bone came to own.

That distances through filled cells make good weights is Dionne & de Lasa 2013, Geodesic voxel binding for production
character meshes (from memory); radii, one search for all bones, and borders without steps are our own.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from ..compiled import compiled
from ..geometry.voxels import SINGLE, heap_pop, heap_push
from .bones import Reach, past_end, radius_at, to_segment
from .mirror import Mirror
from .ways import Ways

STRAIGHT = 1.12  # a way this many times as long as the straight line still counts as straight (cells make ways up to 10 % longer)
ROUGH = 1.8  # the same for the first search, whose steps only follow the axes
THIN, LEAST = 0.6, 0.75  # a limb's radius: at least this share of the bone's largest, and so many cells
ROOT, TIP = 1.25, 1.5  # at most so many times the middle's radius at the start (sunk in a thicker body) and the end
SLOPE = 0.15  # metres that radii may fall for each along a chain of a limb; on the trunk they don't
KEPT, LOW, HIGH = (
    0.5,
    0.8,
    1.6,
)  # how much of an old radius stays where little is owned; bounds of the new one to the old
FLESH = 5.0  # thicknesses of the flesh at a place that a bone's radius counts there at most: no trunk claims a membrane
SHEET = 0.6  # flesh of fewer cells' thickness than this is a sheet
PAST = 0.1  # how much of the way past a bone's end counts on top (squared): two bones that meet part the outside of the bend evenly
ROUNDS = 8  # of making owners exact


class _Reached(NamedTuple):
    """How far a search has come: of each node its distance in radii, the metres gone to it, its owner (−1: not reached)."""

    key: np.ndarray
    gone: np.ndarray
    own: np.ndarray

    @classmethod
    def none(cls, nodes: int) -> _Reached:
        return cls(np.full(nodes, np.inf), np.full(nodes, np.inf), np.full(nodes, -1, np.int32))


def owners(ways: Ways, reach: Reach, mirror: Mirror | None = None) -> tuple[np.ndarray, np.ndarray]:
    """(n,) the segment that each point belongs to (−1: none can reach it); radii (s, 3) of limbs in metres.  mirror: how the
    points are mirrored, where they are."""
    seeds, of = _seeds(ways, reach)
    radii = _tidy(_sunk(ways, reach), reach)
    caps = most_radius(ways, reach)
    c = ways.cells
    rows, cols = ways.all
    if c:
        near = seeds < c
        inner = _linked(ways.solid.ways[:, SINGLE])
        within = ways.solid.centres, caps[:c]
        rough = _Reached.none(c)
        _search(*within, *inner, *reach.lines, radii, seeds[near], of[near], ROUGH, PAST, *rough, 0)
        spots, areas, under = ways.spots
        below = np.where(under >= 0, rough.own[np.maximum(under, 0)], -1).astype(np.int32)
        measured = _measured(spots, areas, below, *reach.lines, radii, KEPT)
        radii = np.where(reach.sheet[reach.bone, None], radii, np.clip(measured, LOW * radii, HIGH * radii))
        radii = _tidy(radii, reach)
    found = _Reached.none(len(ways.places))
    if c:  # cells first and by themselves: where they lie no mesh tells, however dense it is
        inner = _linked(ways.solid.ways)
        cells = _Reached(*(x[:c] for x in found))
        _search(*within, *inner, *reach.lines, radii, seeds[near], of[near], STRAIGHT, PAST, *cells, 0)
    _search(ways.places, caps, rows, cols, *reach.lines, radii, seeds, of, STRAIGHT, PAST, *found, c)
    own, key = found.own[c:].copy(), found.key[c:]
    key = _settle(ways.points, caps[c:], ways.rows, ways.cols, own, key, *reach.lines, radii, ROUNDS, PAST)
    return own if mirror is None else _of_either_side(own, key, mirror, _across(reach)), radii


def _linked(steps: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns of steps (c, k), −1 where there is none."""
    return np.concatenate([[0], np.cumsum((steps >= 0).sum(1))]), steps[steps >= 0]


def _of_either_side(own: np.ndarray, key: np.ndarray, mirror: Mirror, across: np.ndarray) -> np.ndarray:
    """Owners (n,) of a mirrored body made alike: of a point and its mirror image the one whose owner is nearer tells.

    Which of two bones nearly as near comes first is chance, on either side another one.
    """
    there = key[mirror.other]
    follows = (there < key) | ((there == key) & (mirror.side < 0))
    return np.where(follows & (own[mirror.other] >= 0), across[own[mirror.other]], own)


def _across(reach: Reach) -> np.ndarray:
    """(s,) each segment's mirror image."""
    flip = np.array([-1.0, 1.0, 1.0])
    ends = np.concatenate([reach.start, reach.start + reach.way], 1)
    out = np.empty(len(ends), np.int32)
    for s, bone in enumerate(reach.bone):
        some = np.flatnonzero(reach.bone == reach.partner[bone])
        out[s] = some[np.abs(ends[some] - ends[s] * np.r_[flip, flip]).sum(1).argmin()]
    return out


def most_radius(ways: Ways, reach: Reach) -> np.ndarray:
    """(c + n,) metres: the most that a bone's radius counts at each cell and point; in membranes, of bodies that have some, all
    bones count alike."""
    h = ways.solid.h
    web = reach.sheet.any() & (ways.thick < SHEET * h)
    return np.where(web, LEAST * h, FLESH * ways.thick)


def _seeds(ways: Ways, reach: Reach) -> tuple[np.ndarray, np.ndarray]:
    """Nodes that segments run through, with their segments; the nearest nodes where a whole segment lies outside."""
    h = ways.solid.h
    # a bone may reach far out of the body: what lies beyond has no cells of its own, however finely it is looked at
    most = 4 * int(np.linalg.norm(np.ptp(ways.points, axis=0)) / h + 8)
    steps = np.clip(np.ceil(reach.length / (0.5 * h)).astype(int), 1, most) + 1
    of = np.repeat(np.arange(len(steps)), steps)
    t = np.concatenate([np.linspace(0.0, 1.0, k) for k in steps])[:, None]
    places = reach.start[of] + t * reach.way[of]
    cell = ways.solid.cell_at(places)
    inside = cell >= 0
    nodes, segments = [cell[inside]], [of[inside]]
    lost = np.setdiff1d(np.arange(len(steps)), of[inside])
    if len(lost):
        apart = np.isin(of, lost)
        nodes.append(cKDTree(ways.places).query(places[apart])[1].astype(np.int32))
        segments.append(of[apart])
    return np.concatenate(nodes).astype(np.int64), np.concatenate(segments).astype(np.int64)


def _sunk(ways: Ways, reach: Reach) -> np.ndarray:
    """(s, 3): how deep each segment's start, middle and end lie in the body; metres."""
    out = np.zeros((len(reach.start), 3))
    if ways.cells:
        places = np.concatenate([reach.start + t * reach.way for t in (0.0, 0.5, 1.0)])
        out = np.where(ways.solid.contains(places), ways.depth_at(places), 0.0).reshape(3, -1).T
    out = np.maximum(np.maximum(out, THIN * out.max(1, keepdims=True)), LEAST * ways.solid.h)
    # wherever a membrane's bone runs through a limb, the flesh there is the limb's
    out[reach.sheet[reach.bone]] = LEAST * ways.solid.h
    return np.asarray(out)


def _tidy(radii: np.ndarray, reach: Reach) -> np.ndarray:
    """Radii (s, 3) fit to tell bones apart: the same where parent and child meet, falling gently along a limb, and not at all
    along the trunk, whose short bones have no radius of their own."""
    r = radii.copy()
    r[:, 0] = np.minimum(r[:, 0], ROOT * r[:, 1])
    r[:, 2] = np.minimum(r[:, 2], TIP * r[:, 1])
    above, below = _meeting(reach)
    known = reach.sheet[reach.bone] | (reach.radius > 0)
    free = ~known[above] & ~known[below]
    above, below = above[free], below[free]
    both = 0.5 * (r[below, 0] + r[above, 2])
    r[below, 0] = r[above, 2] = both
    step = 0.5 * reach.length * np.where(reach.side[reach.bone] == 0, 0.0, SLOPE)
    for _ in range(12):
        before = r.copy()
        r[:, 1] = np.maximum(r[:, 1], np.maximum(r[:, 0], r[:, 2]) - step)
        r[:, 0] = np.maximum(r[:, 0], r[:, 1] - step)
        r[:, 2] = np.maximum(r[:, 2], r[:, 1] - step)
        for a, b in zip(above, below, strict=True):
            r[b, 0] = r[a, 2] = max(r[b, 0], r[a, 2])
        if (r == before).all():
            break
    return np.where(reach.radius[:, None] > 0, reach.radius[:, None], r)


def _meeting(reach: Reach) -> tuple[np.ndarray, np.ndarray]:
    """Pairs of segments (above, below): one ends where the other, of a bone that hangs from its own, begins."""
    ends = np.round(reach.start + reach.way, 9)
    at = {(int(b), *e): s for s, (b, e) in reversed(list(enumerate(zip(reach.bone, ends.tolist(), strict=True))))}
    pairs = []
    for s, (b, start) in enumerate(zip(reach.bone, np.round(reach.start, 9).tolist(), strict=True)):
        above = at.get((int(reach.parent[b]), *start))
        if reach.parent[b] >= 0 and above is not None:
            pairs.append((above, s))
    both = np.array(pairs, int).reshape(-1, 2)
    return both[:, 0], both[:, 1]


@compiled
def _search(
    places: np.ndarray,
    thick: np.ndarray, rows: np.ndarray, cols: np.ndarray, start: np.ndarray, way: np.ndarray, square: np.ndarray, radii: np.ndarray,
    seeds: np.ndarray, of: np.ndarray, straight: float, past: float, key: np.ndarray, gone: np.ndarray, own: np.ndarray, known: int,
) -> None:  # fmt: skip
    """One search from all segments at once, on from what is reached already: key, gone, own (N,) as in `_Reached`, in place; of the
    first `known` nodes those that were reached stay as they are.

    The distance is the exact straight one while the way there is at most `straight` times as long; beyond that it grows with
    the square of the detour.
    """
    n = len(places)
    room = 5 * n + len(seeds) + 16
    heap_key, heap_node = np.empty(room), np.empty(room, np.int32)
    size = 0
    stays = np.zeros(n, np.bool_)
    for i in range(n):
        if own[i] >= 0:
            stays[i] = i < known
            heap_push(heap_key, heap_node, size, key[i], i)
            size += 1
    for e in range(len(seeds)):
        i, s = seeds[e], of[e]
        d, t = to_segment(places[i], start[s], way[s], square[s])
        k = d / min(radius_at(radii[s], t), thick[i])
        if k < key[i] and not stays[i]:
            key[i], gone[i], own[i] = k, d, s
            heap_push(heap_key, heap_node, size, k, i)
            size += 1
    while size > 0:
        k, i = heap_pop(heap_key, heap_node, size)
        size -= 1
        if k > key[i]:
            continue
        s = own[i]
        a0, a1, a2, w0, w1, w2, ww = start[s, 0], start[s, 1], start[s, 2], way[s, 0], way[s, 1], way[s, 2], square[s]
        r0, r1, r2 = radii[s, 0], radii[s, 1], radii[s, 2]
        x, y, z, g = places[i, 0], places[i, 1], places[i, 2], gone[i]
        for e in range(rows[i], rows[i + 1]):
            j = cols[e]
            if key[j] <= k or stays[j]:
                continue
            p0, p1, p2 = places[j, 0] - a0, places[j, 1] - a1, places[j, 2] - a2
            t, over = 0.0, 0.0
            if ww > 0.0:
                along = (p0 * w0 + p1 * w1 + p2 * w2) / ww
                t = min(max(along, 0.0), 1.0)
                over = past * ww * (along - t) ** 2
            p0, p1, p2 = p0 - t * w0, p1 - t * w1, p2 - t * w2
            r = r0 + (r1 - r0) * 2.0 * t if t < 0.5 else r1 + (r2 - r1) * (2.0 * t - 1.0)
            r = min(r, thick[j])
            dd = p0 * p0 + p1 * p1 + p2 * p2 + over
            if dd >= (key[j] * r) ** 2:
                continue  # not nearer even in a straight line
            u, v, w = places[j, 0] - x, places[j, 1] - y, places[j, 2] - z
            long = g + np.sqrt(u * u + v * v + w * w)
            d = np.sqrt(dd)
            around = long / (straight * d + 1e-12)
            new = max(d / r * (around * around if around > 1.0 else 1.0), k)
            if new < key[j]:
                key[j], gone[j], own[j] = new, long, s
                if size == room:
                    heap_key = np.concatenate((heap_key, np.empty(n)))
                    heap_node = np.concatenate((heap_node, np.empty(n, np.int32)))
                    room += n
                heap_push(heap_key, heap_node, size, new, j)
                size += 1


@compiled
def _measured(
    spots: np.ndarray, areas: np.ndarray, own: np.ndarray, start: np.ndarray, way: np.ndarray, square: np.ndarray, radii: np.ndarray,
    kept: float,
) -> np.ndarray:  # fmt: skip
    """Radii (s, 3) as the mean distance of what each segment owns near its start, middle and end, by area; `kept` shares of the
    old one are mixed in, as few places tell little."""
    s = len(start)
    total, weight = np.zeros((s, 3)), np.zeros((s, 3))
    for i in range(len(spots)):
        o = own[i]
        if o < 0:
            continue
        d, t = to_segment(spots[i], start[o], way[o], square[o])
        d = min(d, 2.5 * radius_at(radii[o], t))
        m = 0 if t < 0.5 else 1
        f = 2.0 * t - m
        for n, w in ((m, 1.0 - f), (m + 1, f)):
            total[o, n] += w * areas[i] * d
            weight[o, n] += w * areas[i]
    out = radii.copy()
    for o in range(s):
        for k in range(3):
            w = kept * radii[o, k] ** 2
            out[o, k] = (total[o, k] + w * radii[o, k]) / max(weight[o, k] + w, 1e-30)
    return out


@compiled
def _in_radii(
    p: np.ndarray, start: np.ndarray, way: np.ndarray, square: float, radii: np.ndarray, thick: float, past: float
) -> Any:
    """How far a place is from a segment, counted in the radius of its limb there."""
    d, t = to_segment(p, start, way, square)
    over = past_end(p, start, way, square)
    return np.sqrt(d * d + past * over * over) / min(radius_at(radii, t), thick)


@compiled
def _settle(
    points: np.ndarray,
    thick: np.ndarray, rows: np.ndarray, cols: np.ndarray, own: np.ndarray, key: np.ndarray, start: np.ndarray, way: np.ndarray,
    square: np.ndarray, radii: np.ndarray, rounds: int, past: float,
) -> np.ndarray:  # fmt: skip
    """Owners made exact in place, and (n,) how far they are: each point tries the segments of its neighbours, of those that are
    reached straight.

    A search settles a node when its first neighbour is; along a straight limb distances differ only with the square of what
    lies between, so the border wanders by a cell.  What had to go round a gap may not be taken over.
    """
    n = len(points)
    best, plain = key.copy(), np.zeros(n, np.bool_)
    for i in range(n):
        if own[i] >= 0:
            s = own[i]
            k = _in_radii(points[i], start[s], way[s], square[s], radii[s], thick[i], past)
            plain[i] = key[i] <= 1.02 * k + 0.02
            if plain[i]:
                best[i] = k
    for turn in range(rounds):
        changed = False
        for step in range(n):
            i = step if turn % 2 == 0 else n - 1 - step
            if own[i] < 0:
                continue
            for e in range(rows[i], rows[i + 1]):
                s = own[cols[e]]
                if s < 0 or s == own[i] or not plain[cols[e]]:
                    continue
                k = _in_radii(points[i], start[s], way[s], square[s], radii[s], thick[i], past)
                if k < best[i] - 1e-9:
                    best[i], own[i], plain[i], changed = k, s, True, True
        if not changed:
            break
    return best
