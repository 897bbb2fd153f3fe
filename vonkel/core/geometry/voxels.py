"""The inside of a mesh as a grid of cells, and distances through it.

A cell is inside when more of the three axis-parallel lines through its centre say so than not, by their summed
crossings (the winding along the line), so that parts may overlap; a line that runs through a hole has no say.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import cc3d
import edt
import numpy as np
from scipy.spatial import cKDTree

from ..compiled import compiled


@compiled
def _hit(points: np.ndarray, corner: np.ndarray, x: float, y: float) -> tuple[float, int]:
    """Where the line along z at (x, y) meets a triangle, and which way: −1 leaving, 1 entering, 0 not at all."""
    a, b, c = points[corner[0]], points[corner[1]], points[corner[2]]
    area = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])
    if area == 0.0:
        return 0.0, 0
    u = ((x - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (y - a[1])) / area
    v = ((b[0] - a[0]) * (y - a[1]) - (x - a[0]) * (b[1] - a[1])) / area
    if u < 0.0 or v < 0.0 or u + v > 1.0:
        return 0.0, 0
    return a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2]), 1 if area < 0.0 else -1


@compiled
def _crossings(points: np.ndarray, triangles: np.ndarray, nx: int, ny: int) -> Any:
    """Where the lines along z through the centres of cells meet a mesh; points (n, 3) in cells from the grid's corner.

    Returns rows (nx · ny + 1,), heights (m,) ascending in each line and signs (m,) int8: 1 where the line enters.
    """
    rows = np.zeros(nx * ny + 1, np.int64)
    heights, signs = np.zeros(0), np.zeros(0, np.int8)
    at = rows[:-1].copy()
    for fill in range(2):  # counted first, then filled in
        for t in range(len(triangles)):
            a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
            i0 = max(0, int(math.ceil(min(a[0], b[0], c[0]) - 0.501)))
            i1 = min(nx - 1, int(math.floor(max(a[0], b[0], c[0]) - 0.499)))
            j0 = max(0, int(math.ceil(min(a[1], b[1], c[1]) - 0.501)))
            j1 = min(ny - 1, int(math.floor(max(a[1], b[1], c[1]) - 0.499)))
            for i in range(i0, i1 + 1):
                for j in range(j0, j1 + 1):
                    # a shift of an irrational share of a cell keeps lines off edges and points of tidy models
                    z, sign = _hit(points, triangles[t], i + 0.5 + 1.234567e-5, j + 0.5 + 2.718281e-5)
                    if sign == 0:
                        continue
                    line = i * ny + j
                    if fill == 0:
                        rows[line + 1] += 1
                        continue
                    k = at[line]
                    at[line] += 1
                    while k > rows[line] and heights[k - 1] > z:
                        heights[k], signs[k] = heights[k - 1], signs[k - 1]
                        k -= 1
                    heights[k], signs[k] = z, sign
        if fill == 0:
            for k in range(nx * ny):
                rows[k + 1] += rows[k]
            at = rows[:-1].copy()
            heights, signs = np.zeros(rows[-1]), np.zeros(rows[-1], np.int8)
    return rows, heights, signs


@compiled
def _vote(
    rows: np.ndarray, heights: np.ndarray, signs: np.ndarray, strides: tuple[int, int, int], shape: tuple[int, int, int],
    bit: int, score: np.ndarray, gaps: np.ndarray,
) -> None:  # fmt: skip
    """Each line says of its cells that they are inside (+1 to the flat `score`) or not (−1); one whose crossings don't come
    out even runs through a hole and abstains.  `gaps` takes `bit` at cells from which the line leaves the mesh and comes
    back before the next cell."""
    nu, nv, nw = shape
    su, sv, sw = strides
    for u in range(nu):
        for v in range(nv):
            first, last = rows[u * nv + v], rows[u * nv + v + 1]
            total = 0
            for e in range(first, last):
                total += signs[e]
            if total != 0:
                continue
            at, wound, e = u * su + v * sv, 0, first
            for w in range(nw):
                before, left = wound, False
                while e < last and heights[e] <= w + 0.5:
                    wound += signs[e]
                    left = left or wound == 0
                    e += 1
                score[at] += 1 if wound != 0 else -1
                if left and before != 0 and wound != 0 and w > 0:
                    gaps[at - sw] |= bit
                at += sw


MANY = 2000  # places from which on two threads look for the nearest cell
SPARSE = 80  # cells of the grid for each inside one: beyond that its depth is found without going through all of it


@dataclass(frozen=True)
class Solid:
    """Cells of edge `h` metres; cell (i, j, k) is centred at low + (i + ½, j + ½, k + ½) h; `inside` is bool.

    gaps: bits 1, 2, 4 at cells between which and the next one along x, y, z the mesh is left and entered again (uint8 as
    `inside`); None where nobody looked.
    """

    low: np.ndarray
    h: float
    inside: np.ndarray
    gaps: np.ndarray | None = None

    @cached_property
    def cells(self) -> np.ndarray:
        """(c, 3) indices of the inside cells."""
        return np.argwhere(self.inside)

    @cached_property
    def centres(self) -> np.ndarray:
        """(c, 3) metres."""
        return self.low + (self.cells + 0.5) * self.h

    @cached_property
    def number(self) -> np.ndarray:
        """(nx, ny, nz) int32: the row in `cells` of each cell, −1 outside."""
        out = np.full(self.inside.shape, -1, np.int32)
        out[self.inside] = np.arange(len(self.cells), dtype=np.int32)
        return out

    @cached_property
    def depth(self) -> np.ndarray:
        """(c,) metres from each inside cell's centre to the nearest outside cell's border (Euclidean)."""
        if self.inside.size < SPARSE * max(len(self.cells), 1):
            grid = np.require(self.inside, requirements="W")  # it takes no kept array
            squares = edt.edtsq(grid, black_border=True)[self.inside].astype(float)  # whole numbers: exact
            return np.asarray((np.sqrt(squares) - 0.5) * self.h)
        # The nearest outside cell touches an inside one: in a large, nearly empty grid those alone are asked.
        out = np.full(len(self.cells), 0.5 * self.h)
        deeper = (self.links[:, SINGLE] >= 0).all(1)
        rows, ways = np.nonzero(self.links < 0)
        outside = self.cells[rows] + NEIGHBOUR_CELLS[ways] + 1
        span = np.array(self.inside.shape) + 2
        key = np.unique((outside[:, 0] * span[1] + outside[:, 1]) * span[2] + outside[:, 2])
        border = np.stack([key // (span[1] * span[2]), key // span[2] % span[1], key % span[2]], 1) - 1
        if deeper.any():
            out[deeper] = (cKDTree(border).query(self.cells[deeper], workers=2)[0] - 0.5) * self.h
        return out

    @cached_property
    def middles(self) -> dict[tuple[int, tuple[int, ...], float], list[np.ndarray]]:
        """What `middle_paths` found so far: (start, goals, pull) → ways."""
        return {}

    @cached_property
    def tree(self) -> cKDTree:
        return cKDTree(self.centres)

    @cached_property
    def links(self) -> np.ndarray:
        """(c, 26) int32: the cells around each cell, −1 where outside; the order is `NEIGHBOUR_CELLS`."""
        return np.asarray(_links(self.cells, self.number))

    @cached_property
    def ways(self) -> np.ndarray:
        """(c, 26) int32: as `links`, without those that lead across a gap of the mesh.

        Exact for single steps, however thin the gap; a diagonal is a way where single steps lead there in some order.
        """
        return self.links if self.gaps is None else _uncut(self.links, self.gaps[self.inside])

    def cell_at(self, points: np.ndarray) -> np.ndarray:
        """(n,) the inside cell that each of points (n, 3) lies in, −1 for none."""
        i = np.floor((points - self.low) / self.h).astype(int)
        ok = ((i >= 0) & (i < self.inside.shape)).all(1)
        out = np.full(len(points), -1)
        out[ok] = self.number[tuple(i[ok].T)]
        return out

    def contains(self, points: np.ndarray) -> np.ndarray:
        """(n,) bool for points (n, 3): whether each lies in an inside cell."""
        return self.cell_at(points) >= 0

    def nearest(self, points: np.ndarray) -> np.ndarray:
        """(n,) the nearest inside cell to each of points (n, 3)."""
        out = self.cell_at(points)
        beside = out < 0
        if beside.any():
            out[beside] = self.tree.query(points[beside], workers=2 if len(points) > MANY else 1)[1]
        return out

    def kept(self, place: np.ndarray) -> np.ndarray:
        """The place (3,), or where it lies outside the middle of the nearest inside cell."""
        return place if self.contains(place[None])[0] else self.centres[self.nearest(place[None])[0]]


NEIGHBOUR_CELLS = np.array([(i, j, k) for i in (-1, 0, 1) for j in (-1, 0, 1) for k in (-1, 0, 1) if i or j or k])
STEP_LENGTHS = np.linalg.norm(NEIGHBOUR_CELLS, axis=1)


# Places of the single steps −x +x −y +y −z +z in NEIGHBOUR_CELLS.
SINGLE = np.array(
    [int(np.flatnonzero((NEIGHBOUR_CELLS == s).all(1))[0]) for s in np.kron(np.eye(3, dtype=int), [[-1], [1]])]
)
ORDERS = np.array([(0, 1, 2), (0, 2, 1), (1, 0, 2), (1, 2, 0), (2, 0, 1), (2, 1, 0)])


@compiled
def _links(cells: np.ndarray, number: np.ndarray) -> np.ndarray:
    """(c, 26) int32: what `number` says of the cells around each of cells (c, 3), −1 beyond the grid."""
    nx, ny, nz = number.shape
    out = np.full((len(cells), 26), -1, np.int32)
    for n in range(len(cells)):
        for k in range(26):
            x = cells[n, 0] + NEIGHBOUR_CELLS[k, 0]
            y = cells[n, 1] + NEIGHBOUR_CELLS[k, 1]
            z = cells[n, 2] + NEIGHBOUR_CELLS[k, 2]
            if 0 <= x < nx and 0 <= y < ny and 0 <= z < nz:
                out[n, k] = number[x, y, z]
    return out


@compiled
def _single_steps(links: np.ndarray, gaps: np.ndarray) -> np.ndarray:
    """(c, 6) int32: the neighbour by each single step (SINGLE), −1 outside or across a gap."""
    c = len(links)
    out = np.full((c, 6), -1, np.int32)
    for n in range(c):
        for axis in range(3):
            m = links[n, SINGLE[2 * axis + 1]]
            if m >= 0 and not gaps[n] & (1 << axis):
                out[n, 2 * axis + 1] = m
                out[m, 2 * axis] = n
    return out


@compiled
def _uncut(links: np.ndarray, gaps: np.ndarray) -> np.ndarray:
    steps = _single_steps(links, gaps)
    out = np.full(links.shape, -1, np.int32)
    for n in range(len(links)):
        for k in range(26):
            if links[n, k] < 0:
                continue
            for order in ORDERS:
                m = n
                for axis in order:
                    way = NEIGHBOUR_CELLS[k, axis]
                    if m >= 0 and way != 0:
                        m = steps[m, 2 * axis + (1 if way > 0 else 0)]
                if m >= 0:
                    out[n, k] = m
                    break
    return out


def solid_from_mesh(
    points: np.ndarray, triangles: np.ndarray, h: float, box: tuple[np.ndarray, np.ndarray] | None = None
) -> Solid:
    """Fill a mesh, or what of it lies in `box` (low, high), with cells of edge h (metres)."""
    low, high = box if box is not None else (points.min(0) - h, points.max(0) + h)
    nx, ny, nz = (max(int(n), 1) for n in np.ceil((high - low) / h))
    shape, strides = (nx, ny, nz), (ny * nz, nz, 1)
    score, gaps = np.zeros(nx * ny * nz, np.int8), np.zeros(nx * ny * nz, np.uint8)
    p = (np.asarray(points, np.float64) - low) / h
    t = np.ascontiguousarray(triangles, np.int32)
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        rows, heights, signs = _crossings(np.ascontiguousarray(p[:, [u, v, axis]]), t, shape[u], shape[v])
        along, steps = (shape[u], shape[v], shape[axis]), (strides[u], strides[v], strides[axis])
        _vote(rows, heights, signs, steps, along, 1 << axis, score, gaps)
    return Solid(np.asarray(low, float), float(h), (score > 0).reshape(shape), gaps.reshape(shape))


def pieces(inside: np.ndarray) -> tuple[np.ndarray, int]:
    """(as inside, count): the number from 1 of the piece each inside cell is of, 0 outside; cells that share a corner touch."""
    grid = np.require(inside, requirements=["C", "W"])  # it takes no kept array
    marks, count = cc3d.connected_components(grid, connectivity=26, return_N=True)
    return np.asarray(marks), int(count)


POCKET = 0.065
"""How wide a mouth may be, to either side, shares of a body's size."""


@compiled
def _walls(inside: np.ndarray, most: int) -> np.ndarray:
    """In how many of the six directions along the axes an inside cell lies within `most` cells of each (int8 as inside)."""
    nx, ny, nz = inside.shape
    out = np.zeros(inside.shape, np.int8)
    along = np.zeros((ny, nz), np.int32)  # cells since an inside one
    across = np.zeros(nz, np.int32)
    for way in (1, -1):
        along[:] = most + 1
        for i in range(nx) if way > 0 else range(nx - 1, -1, -1):
            across[:] = most + 1
            for j in range(ny) if way > 0 else range(ny - 1, -1, -1):
                ahead = most + 1
                for k in range(nz) if way > 0 else range(nz - 1, -1, -1):
                    if inside[i, j, k]:
                        ahead = along[j, k] = across[k] = 0
                        out[i, j, k] += 3
                        continue
                    ahead, along[j, k], across[k] = ahead + 1, along[j, k] + 1, across[k] + 1
                    out[i, j, k] += (ahead <= most) + (along[j, k] <= most) + (across[k] <= most)
    return out


def without_pockets(solid: Solid, reach: float) -> Solid:
    """The solid with its pockets filled: mouths that are shut, which are inside as far as a body's build goes.

    A cell is in a pocket when in all six directions along the axes the body lies within `reach` metres: what is open to one side,
    as the room between four feet, is none.
    """
    most = max(int(reach / solid.h), 1)
    inside = solid.inside
    for _ in range(2):
        pocket = ~inside & (_walls(inside, most) == 6)
        if not pocket.any():
            break
        inside = inside | pocket
    filled = inside & ~solid.inside
    if solid.gaps is None:
        return Solid(solid.low, solid.h, inside)
    gaps = np.where(filled, 0, solid.gaps).astype(np.uint8)
    for axis in range(3):  # nor is there a gap between a cell and a filled one beyond it
        beyond = np.roll(filled, -1, axis)
        gaps = np.where(beyond, gaps & ~np.uint8(1 << axis), gaps).astype(np.uint8)
    return Solid(solid.low, solid.h, inside, gaps)


@compiled
def heap_push(heap_d: np.ndarray, heap_i: np.ndarray, size: int, d: float, i: int) -> None:
    k = size
    while k > 0:
        parent = (k - 1) >> 1
        if heap_d[parent] <= d:
            break
        heap_d[k] = heap_d[parent]
        heap_i[k] = heap_i[parent]
        k = parent
    heap_d[k] = d
    heap_i[k] = i


@compiled
def heap_pop(heap_d: np.ndarray, heap_i: np.ndarray, size: int) -> tuple[float, int]:
    """Remove the smallest; `size` is the number before.  The smallest is returned, the rest stays a heap."""
    top_d, top_i = heap_d[0], heap_i[0]
    d, i = heap_d[size - 1], heap_i[size - 1]
    n = size - 1
    k = 0
    while True:
        child = 2 * k + 1
        if child >= n:
            break
        if child + 1 < n and heap_d[child + 1] < heap_d[child]:
            child += 1
        if heap_d[child] >= d:
            break
        heap_d[k] = heap_d[child]
        heap_i[k] = heap_i[child]
        k = child
    if n > 0:
        heap_d[k] = d
        heap_i[k] = i
    return top_d, top_i


@compiled
def distances_through(
    links: np.ndarray,
    lengths: np.ndarray,
    cost: np.ndarray,
    sources: np.ndarray,
    start: np.ndarray,
    limit: float,
    goal: int = -1,
) -> Any:
    """Shortest way from any source to every cell through inside cells.

    links (c, 26) as Solid.links; lengths (26,) metres; cost (c,) multiplies a step into a cell (1 for plain
    distance); sources (s,) with start distances (s,); stops past `limit`, or once `goal` is reached.
    Returns distance (c,) (inf where not reached) and the cell each was reached from (−1 at sources).
    """
    n = len(links)
    dist = np.full(n, np.inf)
    came = np.full(n, -1, np.int32)
    room = 1024
    heap_d = np.empty(room)
    heap_i = np.empty(room, np.int32)
    size = 0
    for s in range(len(sources)):
        if start[s] < dist[sources[s]]:
            dist[sources[s]] = start[s]
            if size == room:
                heap_d = np.concatenate((heap_d, np.empty(room)))
                heap_i = np.concatenate((heap_i, np.empty(room, np.int32)))
                room *= 2
            heap_push(heap_d, heap_i, size, start[s], sources[s])
            size += 1
    while size > 0:
        d, i = heap_pop(heap_d, heap_i, size)
        size -= 1
        if d > dist[i]:
            continue
        if d > limit or i == goal:
            break
        for k in range(26):
            j = links[i, k]
            if j < 0:
                continue
            nd = d + lengths[k] * cost[j]
            if nd < dist[j]:
                dist[j] = nd
                came[j] = i
                if size == room:
                    heap_d = np.concatenate((heap_d, np.empty(room)))
                    heap_i = np.concatenate((heap_i, np.empty(room, np.int32)))
                    room *= 2
                heap_push(heap_d, heap_i, size, nd, j)
                size += 1
    return dist, came


def cost_of_thin(solid: Solid, pull: float = 3.0) -> np.ndarray:
    """(c,) what a step into each cell costs for its length: (deepest / depth)^pull, at most a million."""
    depth = np.maximum(solid.depth, 0.25 * solid.h)
    return np.asarray(np.minimum((np.percentile(depth, 99) / depth) ** pull, 1e6))


def middle_paths(solid: Solid, start: int, goals: Sequence[int], pull: float = 3.0) -> list[np.ndarray]:
    """Cells (p,) of the ways from start to every goal that keep to the middle of the volume.

    A step costs its length times `cost_of_thin`, so that the way runs where the body is thickest.  Kept with the solid, as
    several readings of one body ask for the same ways.
    """
    asked = (int(start), tuple(int(g) for g in goals), float(pull))
    if asked in solid.middles:
        return solid.middles[asked]
    cost = cost_of_thin(solid, pull)
    # Searched from the start: where that is a limb's tip, most of the body is never looked at.
    one, goal = np.array([start], np.int64), goals[0] if len(goals) == 1 else -1
    _, came = distances_through(solid.links, STEP_LENGTHS * solid.h, cost, one, np.zeros(1), np.inf, goal)
    return solid.middles.setdefault(asked, [traced(came, g)[::-1] for g in goals])


def middle_path(solid: Solid, start: int, goal: int, pull: float = 3.0) -> np.ndarray:
    """The one way of `middle_paths` to one goal."""
    return middle_paths(solid, start, [goal], pull)[0]


def traced(came: np.ndarray, cell: int) -> np.ndarray:
    """Cells (p,) from one back to where its way began."""
    path = [cell]
    while came[path[-1]] >= 0:
        path.append(int(came[path[-1]]))
    return np.array(path)


def extremities(solid: Solid, distance: np.ndarray, least: float) -> list[tuple[int, float, int]]:
    """Tips of the body: cells where `distance` (c,) from some middle is largest on a branch of its own.

    Cells are taken from far to near; a branch is born at a local maximum and ends where it meets an older one.
    Returns (tip cell, length of the branch, cell where it meets the body), longest first, for branches of at
    least `least` metres (0-dimensional persistence of the distance function).
    """
    order = np.argsort(-np.where(np.isfinite(distance), distance, -1.0)).astype(np.int64)
    order = order[np.isfinite(distance[order])]
    tip, length, meet = _branches(solid.links, distance, order)
    found = [(int(t), float(n), int(m)) for t, n, m in zip(tip, length, meet, strict=True) if n >= least]
    return sorted(found, key=lambda x: -x[1])


@compiled
def _branches(links: np.ndarray, distance: np.ndarray, order: np.ndarray) -> Any:
    n = len(links)
    root = np.full(n, -1, np.int64)
    tips, lengths, meets = [], [], []
    for c in order:
        best = -1
        for k in range(26):
            j = links[c, k]
            if j < 0 or root[j] < 0:
                continue
            r = j
            while root[r] != r:
                root[r] = root[root[r]]
                r = root[r]
            if best < 0:
                best = r
            elif r != best:
                young, old = (r, best) if distance[r] < distance[best] else (best, r)
                tips.append(young)
                lengths.append(distance[young] - distance[c])
                meets.append(c)
                root[young] = old
                best = old
        root[c] = c if best < 0 else best
    if len(order):
        r = order[0]
        while root[r] != r:  # of two tips equally far the other one may be the elder
            r = root[r]
        tips.append(r)
        lengths.append(distance[r])
        meets.append(order[-1])
    return np.array(tips), np.array(lengths), np.array(meets)
