"""Where a head on a neck looks: which of its tips is the muzzle, and which are ears, horns or a trunk.

Eyes tell it at once.  Without eyes the head's tips do: what comes in pairs is ears or horns, what is left over and thick is the
muzzle; a muzzle too blunt to be a tip is the head's front between its ears.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...geometry.rotations import unit
from ...geometry.voxels import extremities
from ..shapes import SLIMMER
from .body import UP, Body, distances_from, distances_from_each, flat, pieces_of

NECK = (0.3, 0.36, 0.42, 0.48, 0.55)  # of the way to the head's farthest tip: what lies beyond one of these is the head
LEAST = 0.05  # a tip stands out that share of the way at least, or less from a slim head
WITHIN = 0.6  # where a head has grown together with limbs: what lies within that share of the way to its farthest tip
LEAST_SKULL = 0.4  # of its piece's greatest depth
TRUNK = 2.9  # a muzzle that tapers over more than that many times its head's depth carries a trunk
FRONT = 4.0  # a blunt muzzle lies within that many times the skull's depth of the crown
NAPE = 0.9  # and no nearer to the neck's root than that share of the crown's way there
BLUNT = 1.0  # what it costs to say that none of the tips is the muzzle


@dataclass(frozen=True, eq=False)
class Head:
    """muzzle (3,): its front; cells (c,) bool: the head's piece; clear: how surely that is its front, 0 to 1; crown (3,) or None:
    between its eyes, else where its ears' ways part."""

    muzzle: np.ndarray
    cells: np.ndarray
    clear: float
    crown: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class _Tips:
    """The tips of a head without eyes: cells, distances from the neck's root (t,), between them (t, t), to all cells (t, c);
    neck (3,): which way the head's neck leads to it."""

    cells: list[int]
    d: np.ndarray
    table: np.ndarray
    far: np.ndarray
    reach: float
    neck: np.ndarray

    def parts(self, i: int, j: int) -> float:
        """How far from tip i the ways to tip j and to the neck part."""
        return 0.5 * float(self.table[i, j] + self.d[i] - self.d[j])


def head_piece(body: Body, tip: int, d: np.ndarray, share: float) -> np.ndarray:
    """(c,) which cells are the head's piece beyond `share` of the way to the tip; d (c,) distances from the neck's root."""
    of = pieces_of(body.solid, d > share * d[body.tips[tip]])
    return np.asarray(of == of[body.tips[tip]])


def find_head(body: Body, tip: int, start: np.ndarray, limbs: Sequence[int]) -> Head:
    """The head at a tip of the body, seen from `start` (3,), the root of its neck; `limbs` are the tips of what is no head."""
    d = distances_from(body.solid, int(body.solid.nearest(start[None])[0]))
    if body.eyes_middle is not None and len(body.eyes) == 2:
        cells = head_piece(body, tip, d, NECK[-1])
        seen = _between_eyes(body, cells, start)
        if seen is not None:
            return Head(seen, cells, 1.0, body.eyes_middle)
    for share in NECK:  # as much of the neck as may be without the trunk round its root
        cells = head_piece(body, tip, d, share)
        if not cells[[body.tips[i] for i in limbs]].any():
            break
    else:
        cells &= (body.far[tip][None] < body.far[list(limbs)]).all(0) & (body.far[tip] < WITHIN * d[body.tips[tip]])
    tips = _tips_of(body, cells, d, tip)
    read = sorted(_readings(body, cells, tips), key=lambda r: r[0])
    cost, muzzle, pairs = read[0]
    clear = float(np.clip((read[1][0] - cost) / 0.5, 0.2, 1.0)) if len(read) > 1 else 1.0
    crown = _between_ears(body, tips, pairs)
    if muzzle is None:
        place, sure = _front(body, cells, tips, pairs, d)
        return Head(place, cells, min(clear, sure), crown)
    place, long = _before_trunk(body, cells, tips, muzzle)
    return Head(place, cells, min(clear, 0.5) if long else clear, crown)


def _between_eyes(body: Body, cells: np.ndarray, start: np.ndarray) -> np.ndarray | None:
    """The front of the head between its eyes."""
    c, middle = body.solid.centres, np.asarray(body.eyes_middle)
    a = body.eyes[0][0] - body.eyes[1][0]
    wide = float(np.linalg.norm(a))
    way = unit(np.cross(a, UP))
    way = way if way @ (unit(flat(middle - c[cells].mean(0))) + unit(flat(middle - start))) > 0 else -way
    near = np.abs((c - middle) @ unit(a)) < 0.2 * wide + body.solid.h
    rows = np.flatnonzero(cells & near & ((c - middle) @ way > 0))
    return c[rows[np.argmax(c[rows] @ way)]] if len(rows) else None


def _tips_of(body: Body, cells: np.ndarray, d: np.ndarray, tip: int) -> _Tips:
    solid = body.solid
    reach = float(d[body.tips[tip]])
    outer = cells & (d > 0.6 * reach)
    least = min(LEAST * reach, 0.4 * float(solid.depth[outer].max())) if outer.any() else LEAST * reach
    found = [t for t, _, _ in extremities(solid, np.where(cells, d, -np.inf), least) if cells[t]]
    found = [t for t in found if not _cut(body, cells, t)][:7]
    if not found:
        found = [body.tips[tip]]
    far = np.stack(distances_from_each(solid, found))
    nape = cells & (d <= float(np.quantile(d[cells], 0.1)))
    neck = unit(solid.centres[outer if outer.any() else cells].mean(0) - solid.centres[nape].mean(0))
    return _Tips(found, d[found], far[:, found], far, reach, neck)


def _cut(body: Body, cells: np.ndarray, cell: int) -> bool:
    """Whether a cell of a piece stands out only because the piece was cut off there."""
    near = body.solid.links[cell]
    return bool((~cells[near[near >= 0]]).any())


# What it costs, which tip is the muzzle or None, and the pairs of the others.
_Reading = tuple[float, int | None, list[tuple[int, int]]]


def _readings(body: Body, cells: np.ndarray, tips: _Tips) -> list[_Reading]:
    """Every way to read a head's tips."""
    count = len(tips.cells)
    depth = body.solid.depth
    most = float(depth[cells].max())
    heights = body.solid.centres[cells, 1]
    out: list[_Reading] = []
    for m in [None, *range(count)] if count > 1 else [0]:
        rest = [i for i in range(count) if i != m]
        cost, pairs = _paired(body, tips, rest)
        if m is None:
            out.append((cost + BLUNT, None, pairs))
            continue
        for i, j in pairs:  # a muzzle lies between ears
            cost += 3.0 * abs(float(tips.table[m, i] - tips.table[m, j])) / tips.reach
        thick = float(depth[cells & (tips.far[m] < 0.8 * most)].max()) / most
        high = float((heights < body.solid.centres[tips.cells[m], 1]).mean())
        out.append((cost + 1.2 * (1 - thick) + 0.4 * high, m, pairs))
    return out


def _paired(body: Body, tips: _Tips, rest: list[int]) -> tuple[float, list[tuple[int, int]]]:
    """What it costs that some tips are pairs of ears or horns, and the pairs."""
    options, c = [], body.solid.centres
    for i, j in itertools.combinations(rest, 2):
        a, b = tips.parts(i, j), tips.parts(j, i)
        if min(a, b) > 0.02 * tips.reach:
            unlike = abs(float(np.log(a / b))) + 2.0 * abs(float(tips.d[i] - tips.d[j])) / tips.reach
            thick = [
                float(body.solid.depth[tips.far[k] < max(0.5 * p, 3 * body.solid.h)].max()) for k, p in ((i, a), (j, b))
            ]
            # ears lie beside one another: neither above the other nor along the neck
            across = unit(c[tips.cells[i]] - c[tips.cells[j]])
            unlike += abs(float(across @ UP)) + abs(float(across @ tips.neck))
            options.append((unlike + abs(float(np.log(thick[0] / thick[1]))), i, j))
    free, pairs, cost = set(rest), [], 0.0
    for unlike, i, j in sorted(options):
        if i in free and j in free and unlike < 1.0:
            free -= {i, j}
            pairs.append((i, j))
            cost += unlike
    for i in free:  # one alone: an ear whose partner wasn't seen, or what isn't one
        own = min((tips.parts(i, j) for j in range(len(tips.d)) if j != i), default=tips.reach)
        cost += 0.5 + 2.0 * own / tips.reach
    return cost, pairs


def _between_ears(body: Body, tips: _Tips, pairs: list[tuple[int, int]]) -> np.ndarray | None:
    """Where the ways from the tips of the surest pair part from one another."""
    if not pairs:
        return None
    i, j = pairs[0]
    off = np.abs(tips.far[i] - tips.parts(i, j)) + np.abs(tips.far[j] - tips.parts(j, i))
    return np.asarray(body.solid.centres[int(np.argmin(off))])


def _before_trunk(body: Body, cells: np.ndarray, tips: _Tips, m: int) -> tuple[np.ndarray, bool]:
    """Where the muzzle ends: its tip, or where a trunk that hangs on it begins; and whether there is one."""
    c, depth = body.solid.centres, body.solid.depth
    most = float(depth[cells].max())
    bins = np.arange(0.0, 0.7 * tips.reach, 2 * body.solid.h)
    here = cells & (tips.far[m] < bins[-1])
    at = np.digitize(tips.far[m][here], bins) - 1
    thick = np.array([depth[here][at == k].max() if (at == k).any() else 0.0 for k in range(len(bins))])
    # the skull is what the neck behind it is slimmer than; the neck's root may be thicker again
    so_far = np.maximum.accumulate(thick)
    less = SLIMMER * so_far[:-1]
    slim = np.flatnonzero((thick[:-1] < less) & (thick[1:] < less) & (so_far[:-1] > LEAST_SKULL * most))
    skull = float(so_far[slim[0]]) if len(slim) else most
    wide = np.flatnonzero(thick > 0.8 * skull)
    root = float(bins[wide[0] if len(wide) else -1])
    if root < TRUNK * skull:
        return c[tips.cells[m]], False
    ring = here & (np.abs(tips.far[m] - 0.75 * root) < 2 * body.solid.h)
    return (c[ring].mean(0) if ring.any() else c[tips.cells[m]]), True


def _front(
    body: Body, cells: np.ndarray, tips: _Tips, pairs: list[tuple[int, int]], d: np.ndarray
) -> tuple[np.ndarray, float]:  # fmt: skip
    """The front of a blunt head: of what lies between its ears the place farthest from them and from the neck, whose root the
    cells are d (c,) from."""
    c = body.solid.centres
    if not pairs:
        return c[tips.cells[0]], 0.2
    i, j = pairs[0]
    middle = cells & (np.abs(tips.far[i] - tips.far[j]) < 3 * body.solid.h)
    if not middle.any():
        return c[tips.cells[0]], 0.2
    crown = tips.parts(i, j)  # a long neck is farther from the ears than any muzzle
    near = middle & (tips.far[i] < crown + 0.2 * tips.reach)
    skull = float(body.solid.depth[near].max()) if near.any() else float(body.solid.depth[middle].max())
    middle &= tips.far[i] < crown + FRONT * skull
    middle &= d > NAPE * (0.5 * float(tips.d[i] + tips.d[j]) - crown)
    if not middle.any():
        return c[tips.cells[0]], 0.2
    rows = np.flatnonzero(cells)
    neck = c[rows[int(np.argmax(tips.far[i][rows]))]]
    off = np.linalg.norm(c - 0.5 * (c[tips.cells[i]] + c[tips.cells[j]]), axis=1)
    score = np.where(middle, off + 0.7 * np.linalg.norm(c - neck, axis=1), -np.inf)
    return c[int(np.argmax(score))], 0.5
