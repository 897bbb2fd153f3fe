"""The inside of a body in any pose: its tips, and the distances between them through its flesh.

Distances through the inside hardly change when a limb bends, so what is said in them holds for any pose.  Where two ways
part follows from the distances alone: (i | j, k) = ½ (D_ij + D_ik − D_jk), as in trees (Buneman 1974, A note on the metric
properties of trees).
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ...character import Character
from ...compiled import compiled
from ...errors import StepRefused
from ...geometry.spheres import balls_among, fit_sphere
from ...geometry.topology import skin_triangles, topology_of
from ...geometry.voxels import (
    POCKET,
    STEP_LENGTHS,
    Solid,
    cost_of_thin,
    distances_through,
    extremities,
    pieces,
    solid_from_mesh,
    without_pockets,
)
from ..shapes import connected, without_sheets

UP = np.array([0.0, 1.0, 0.0])
CELLS = 45_000
FAR = 2147483647
STEPS = np.round(100 * STEP_LENGTHS).astype(np.int32)
LENGTH_OF = np.unique(STEPS, return_inverse=True)[1].astype(np.int64)  # which of its lengths each step has
BINS = 128


def flat(v: np.ndarray) -> np.ndarray:
    """v (3,) or (n, 3) without its height."""
    return np.asarray(v * [1.0, 0.0, 1.0])


def fill(character: Character, cells: int = CELLS, finest: float = 200.0) -> Solid:
    """The body as one piece of about `cells` cells, whatever way it is turned, none finer than size / `finest`.  Raises
    StepRefused where it encloses too little."""
    triangles = skin_triangles(character)
    points, size = character.points, character.size
    if not len(triangles) or size <= 0:
        raise StepRefused("There is no surface to fill.", "", "Bring a mesh in at the Model station.")
    used = points[np.unique(triangles)]
    low, high = used.min(0), used.max(0)

    def at(h: float) -> Solid:
        filled = solid_from_mesh(points, triangles, h, (low - 2 * h, high + 2 * h))
        return mended(without_pockets(filled, POCKET * size))

    rough = at(size / 70)
    volume = max(len(rough.cells), 50) * (size / 70) ** 3
    solid = largest(connected(at(float(np.clip((volume / cells) ** (1 / 3), size / finest, size / 80)))))
    if len(solid.cells) < 300:
        raise StepRefused("The body encloses too little to fit a plan.", "", "Close open borders first.")
    return solid


def mended(solid: Solid, rounds: int = 2) -> Solid:
    """The cells without the thin channels that missing faces leave in them: a cell most of whose neighbours are inside
    is inside, one with hardly any is not.  Gaps of one cell between two limbs stay."""
    inside = solid.inside
    for _ in range(rounds):
        around = _box_sum(inside.astype(np.uint8)) - inside
        better = (inside & (around > 3)) | (around >= 20)
        if (better == inside).all():
            break
        inside = better
    return Solid(solid.low, solid.h, inside)


def _box_sum(a: np.ndarray) -> np.ndarray:
    """The sum over each cell and its 26 neighbours."""
    for axis in range(3):
        b = np.moveaxis(a.copy(), axis, 0)
        own = np.moveaxis(a, axis, 0)
        b[1:] += own[:-1]
        b[:-1] += own[1:]
        a = np.moveaxis(b, 0, axis)
    return a


def largest(solid: Solid) -> Solid:
    """The largest piece."""
    marks, count = pieces(solid.inside)
    if count < 2:
        return solid
    return Solid(solid.low, solid.h, marks == 1 + int(np.argmax(np.bincount(marks.ravel())[1:])))


def pieces_of(solid: Solid, cells: np.ndarray) -> np.ndarray:
    """(c,) the number from 1 of the connected piece each of some cells (c,) bool lies in; 0 for the others."""
    some = np.zeros(solid.inside.shape, bool)
    some[tuple(solid.cells[cells].T)] = True
    return np.asarray(pieces(some)[0][tuple(solid.cells.T)])


def webless(solid: Solid, small: float = 0.012) -> Solid:
    """The body less its membranes: what an opening takes away, but not small pieces of it (fingertips, thin legs)."""
    opened = without_sheets(solid)
    marks, count = pieces(solid.inside & ~opened.inside)
    sizes = np.bincount(marks.ravel(), minlength=count + 1)
    keep = (sizes < small * solid.inside.sum()) & (np.arange(count + 1) > 0)
    return largest(Solid(solid.low, solid.h, opened.inside | keep[marks]))


@compiled
def _flood(links: np.ndarray, steps: np.ndarray, row_of: np.ndarray, source: int) -> np.ndarray:
    """Distances (c,) int32 from one cell in hundredths of a cell's edge, FAR where not reached.

    Cells wait in one row for each length of a step: what joins a row comes from cells in the order of their distance, so every
    row is sorted as it stands, and no cell joins the same row twice.  row_of (k,): which of the lengths each of `steps` has.
    """
    n, rows = len(links), row_of.max() + 1
    dist = np.full(n, 2147483647, np.int32)
    cell, at = np.empty((rows, n), np.int32), np.empty((rows, n), np.int32)
    first, last = np.zeros(rows, np.int64), np.zeros(rows, np.int64)
    dist[source] = 0
    i, now = source, 0
    while True:
        for k in range(links.shape[1]):
            j = links[i, k]
            if j < 0:
                continue
            d = now + steps[k]
            if d < dist[j]:
                dist[j] = d
                row = row_of[k]
                cell[row, last[row]], at[row, last[row]] = j, d
                last[row] += 1
        best = -1
        for row in range(rows):
            while first[row] < last[row] and dist[cell[row, first[row]]] < at[row, first[row]]:
                first[row] += 1  # reached on a shorter way since
            if first[row] < last[row] and (best < 0 or at[row, first[row]] < now):
                best, now = row, at[row, first[row]]
        if best < 0:
            return dist
        i = cell[best, first[best]]
        first[best] += 1


def distances_from(solid: Solid, cell: int) -> np.ndarray:
    """(c,) metres through the inside from one cell to all; inf where not reached."""
    d = _flood(solid.links, STEPS, LENGTH_OF, int(cell))
    return np.where(d == FAR, np.inf, d * (solid.h / 100))


def distances_from_each(solid: Solid, cells: Sequence[int]) -> list[np.ndarray]:
    """`distances_from` for several cells, two at a time: the loop lets other threads run."""
    if len(cells) < 2:
        return [distances_from(solid, c) for c in cells]
    _ = solid.links  # made once, not by each
    with ThreadPoolExecutor(2) as hands:
        return list(hands.map(lambda c: distances_from(solid, c), cells))


@dataclass(frozen=True, eq=False)
class Body:
    """What every plan starts from.  Distances are metres through the inside; tips are cells.

    length (t,): of each tip's branch.  far (t, c): from each tip to every cell.  table (t, t): between tips.  came (c,):
    the next cell on the thickest way to the centre.  girth (t,): the greatest depth near each tip.  span: the
    greatest distance between tips.  eyes: (centre, radius) of each eyeball among the parts.
    """

    character: Character
    solid: Solid
    centre: int
    tips: list[int]
    length: np.ndarray
    far: np.ndarray
    table: np.ndarray
    came: np.ndarray
    girth: np.ndarray
    span: float
    eyes: list[tuple[np.ndarray, float]]
    pins: dict[str, np.ndarray] = field(default_factory=dict)  # joints put right by hand: name → (3,)

    @property
    def size(self) -> float:
        return self.character.size

    @property
    def low(self) -> float:
        return float(self.solid.centres[:, 1].min())

    @property
    def tall(self) -> float:
        return float(np.ptp(self.solid.centres[:, 1]))

    @property
    def heights(self) -> np.ndarray:
        """(t,) of the tips over the lowest cell, as shares of the height."""
        return np.asarray((self.solid.centres[self.tips, 1] - self.low) / max(self.tall, 1e-9))

    def parts(self, i: int, j: int, k: int) -> float:
        """(i | j, k): how far from tip i the ways to j and k part."""
        t = self.table
        return 0.5 * float(t[i, j] + t[i, k] - t[j, k])

    def thick(self, i: int, s: float) -> float:
        """The greatest depth within s metres of tip i."""
        return float(self.solid.depth[self.far[i] <= max(s, 2 * self.solid.h)].max())

    def flesh(self, i: int, s: float) -> float:
        """The share of the body within s metres of tip i."""
        return float(np.interp(s, np.linspace(0, self.span, BINS + 1), self._flesh[i]))

    @cached_property
    def _flesh(self) -> np.ndarray:
        """(t, BINS + 1): shares of the body within a distance of each tip, from 0 to the span."""
        every = [np.histogram(f, BINS, (0.0, self.span))[0] for f in self.far]
        return np.asarray(np.pad(np.cumsum(every, axis=1), ((0, 0), (1, 0))) / len(self.solid.cells))

    def place(self, i: int) -> np.ndarray:
        return np.asarray(self.solid.centres[self.tips[i]])

    @property
    def eyes_middle(self) -> np.ndarray | None:
        return np.mean([p for p, _ in self.eyes], axis=0) if self.eyes else None

    def from_eyes(self) -> np.ndarray | None:
        """(t,) metres from each tip to between the eyes, as shares of the span."""
        middle = self.eyes_middle
        if middle is None:
            return None
        return np.asarray(self.far[:, int(self.solid.nearest(middle[None])[0])] / self.span)


def look(character: Character, solid: Solid, least: float = 0.07, most: int = 14) -> Body:
    """The body's tips and the table between them: branches that are at least a share `least` of the reach long, the
    `most` longest of them, and shorter ones near the ground, as feet of legs that touch are.  The centre is the deep
    cell with the least squared distance to all."""
    low = float(solid.centres[:, 1].min()) + 0.28 * float(np.ptp(solid.centres[:, 1]))
    start = int(np.argmax(solid.depth))
    known: dict[int, np.ndarray] = {}
    tips: list[int] = []
    found: list[tuple[int, float, int]] = []
    far = np.zeros((0, len(solid.cells)))
    for again in range(2):
        d = distances_from(solid, start)
        reach = float(d[np.isfinite(d)].max())
        every = extremities(solid, d, 0.03 * reach)
        found = [e for e in every if e[1] >= least * reach][:most]
        found += [e for e in every if e not in found and solid.centres[e[0], 1] < low][:6]
        tips = [t for t, _, _ in found]
        if len(tips) < 2:  # started from an end: what is farthest from its far end is the other one
            away = distances_from(solid, tips[0])
            tips.append(int(np.argmax(np.where(np.isfinite(away), away, -1.0))))
            found = [*found, (tips[1], float(away[tips[1]]), tips[0])]
        fresh = [t for t in tips if t not in known]
        known |= zip(fresh, distances_from_each(solid, fresh), strict=True)
        far = np.stack([known[t] for t in tips])
        if not again:
            deep = (solid.depth > 0.45 * solid.depth.max()) & np.isfinite(far).all(0)
            start = int(np.argmin(np.where(deep, (far**2).sum(0), np.inf)))
    cost, one = cost_of_thin(solid), np.array([start])
    _, came = distances_through(solid.links, STEP_LENGTHS * solid.h, cost, one, np.zeros(1), np.inf)
    lengths = np.array([n for _, n, _ in found])
    table, girth, span = _between_tips(solid, tips, far)
    return Body(character, solid, start, tips, lengths, far, table, came, girth, span, eyes_of(character))


def _between_tips(solid: Solid, tips: list[int], far: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """A body's table, girth and span."""
    table = far[:, tips]
    table = 0.5 * (table + table.T)
    span = float(table.max())
    return table, np.array([solid.depth[f < 0.13 * span].max() for f in far]), span


def with_tips(body: Body, cells: list[int], length: float) -> Body:
    """The body with more tips than stand out by themselves: cells, and the length (metres) of the limbs they end."""
    tips = [*body.tips, *cells]
    far = np.vstack([body.far, *distances_from_each(body.solid, cells)])
    table, girth, span = _between_tips(body.solid, tips, far)
    lengths = np.r_[body.length, np.full(len(cells), length)]
    return replace(body, tips=tips, length=lengths, far=far, table=table, girth=girth, span=span)


def without_tips(body: Body, some: Sequence[int]) -> Body:
    """The body less some of its tips."""
    keep = [i for i in range(len(body.tips)) if i not in some]
    tips, far = [body.tips[i] for i in keep], body.far[keep]
    table, girth, span = _between_tips(body.solid, tips, far)
    return replace(body, tips=tips, length=body.length[keep], far=far, table=table, girth=girth, span=span)


EYE_LEAST, EYE_MOST = 0.003, 0.08  # radius, as shares of the size


def eyes_of(character: Character) -> list[tuple[np.ndarray, float]]:
    """(centre, radius) of every eyeball: of the parts that are eyes, else of two alike balls near each other among the
    skin's own pieces, as a mesh brought in as one part has them."""
    found = []
    for part in character.parts:
        if part.role == "eye":
            centre, radius, misfit = fit_sphere(character.points[slice(*part.points)])
            if misfit < 0.2 * radius:
                found.append((centre, radius))
    if found or not character.size:
        return found
    size, piece = character.size, topology_of(character).islands
    balls = balls_among(character.points, piece, EYE_LEAST * size, EYE_MOST * size)
    for k, (a, r) in enumerate(balls):
        for b, q in balls[k + 1 :]:
            if q > 0.85 * r and 2.0 * r < float(np.linalg.norm(a - b)) < 14.0 * r:
                return [(a, r), (b, q)]
    return []


def membranes(character: Character, solid: Solid) -> float:
    """The share of the skin's area that encloses nothing."""
    p = character.points[skin_triangles(character)]
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    some = slice(None, None, max(1, len(p) // 6000))
    far = solid.tree.query(p.mean(1)[some], distance_upper_bound=2.5 * solid.h)[0]
    return float((area[some] * (far > 1.6 * solid.h)).sum() / max(float(area[some].sum()), 1e-12))


def clearance(body: Body) -> float:
    """How high the trunk's underside hangs over the ground, as a share of the span: that of most columns round the centre, as
    a leg may stand under it."""
    solid = body.solid
    cells, p = solid.cells, solid.cells[body.centre]
    near = np.hypot(cells[:, 0] - p[0], cells[:, 2] - p[2]) < 0.08 * body.span / solid.h
    own = cells[near]
    lowest = np.full(solid.inside.shape[::2], np.iinfo(np.int64).max)
    np.minimum.at(lowest, (own[:, 0], own[:, 2]), own[:, 1])
    low = lowest[lowest < np.iinfo(np.int64).max]
    return float((np.percentile(low, 70) - cells[:, 1].min()) * solid.h / body.span)
