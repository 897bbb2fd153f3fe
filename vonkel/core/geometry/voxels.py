"""The inside of a mesh as a grid of cells, and distances through it.

A cell is inside when at least two of the three axis-parallel lines through its centre say so by their summed
crossings (the winding along the line), so that parts may overlap and small holes do no harm.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from scipy.ndimage import distance_transform_edt
from scipy.spatial import cKDTree

from ..compiled import compiled


@compiled
def _winding_along_z(
    points: np.ndarray, triangles: np.ndarray, low: np.ndarray, h: float, shape: tuple[int, int, int], out: np.ndarray
) -> None:
    """Add to `out` (nx, ny, nz) int8 one vote per cell whose line along z has non-zero winding there."""
    nx, ny, nz = shape
    change = np.zeros((nx, ny, nz + 1), np.int8)
    for t in range(len(triangles)):
        a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
        area = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])
        if area == 0.0:
            continue
        i0 = max(0, int(math.ceil((min(a[0], b[0], c[0]) - low[0]) / h - 0.501)))
        i1 = min(nx - 1, int(math.floor((max(a[0], b[0], c[0]) - low[0]) / h - 0.499)))
        j0 = max(0, int(math.ceil((min(a[1], b[1], c[1]) - low[1]) / h - 0.501)))
        j1 = min(ny - 1, int(math.floor((max(a[1], b[1], c[1]) - low[1]) / h - 0.499)))
        for i in range(i0, i1 + 1):
            # A shift of an irrational share of a cell keeps lines off edges and points of tidy models.
            x = low[0] + (i + 0.5 + 1.234567e-5) * h
            for j in range(j0, j1 + 1):
                y = low[1] + (j + 0.5 + 2.718281e-5) * h
                u = ((x - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (y - a[1])) / area
                v = ((b[0] - a[0]) * (y - a[1]) - (x - a[0]) * (b[1] - a[1])) / area
                if u < 0 or v < 0 or u + v > 1:
                    continue
                z = a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2])
                k = int(math.ceil((z - low[2]) / h - 0.5))
                if k < nz + 1:
                    change[i, j, max(k, 0)] += 1 if area < 0 else -1
    for i in range(nx):
        for j in range(ny):
            w = 0
            for k in range(nz):
                w += change[i, j, k]
                if w != 0:
                    out[i, j, k] += 1


SPARSE = 40  # cells of the grid for each inside one: beyond that its depth is found without going through all of it


@dataclass(frozen=True)
class Solid:
    """Cells of edge `h` metres; cell (i, j, k) is centred at low + (i + ½, j + ½, k + ½) h; `inside` is bool."""

    low: np.ndarray
    h: float
    inside: np.ndarray

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
            padded = np.pad(self.inside, 1)
            return np.asarray((distance_transform_edt(padded)[1:-1, 1:-1, 1:-1][self.inside] - 0.5) * self.h)
        # The nearest outside cell touches an inside one: in a large, nearly empty grid those alone are asked.
        rows, ways = np.nonzero(self.links < 0)
        outside = self.cells[rows] + NEIGHBOUR_CELLS[ways] + 1
        span = np.array(self.inside.shape) + 2
        key = np.unique((outside[:, 0] * span[1] + outside[:, 1]) * span[2] + outside[:, 2])
        border = np.stack([key // (span[1] * span[2]), key // span[2] % span[1], key % span[2]], 1) - 1
        if not len(border):
            return np.zeros(0)
        return np.asarray((cKDTree(border).query(self.cells)[0] - 0.5) * self.h)

    @cached_property
    def tree(self) -> cKDTree:
        return cKDTree(self.centres)

    @cached_property
    def links(self) -> np.ndarray:
        """(c, 26) int32: the cells around each cell, −1 where outside; the order is `NEIGHBOUR_CELLS`."""
        padded = np.pad(self.number, 1, constant_values=-1)
        return np.stack([padded[tuple((self.cells + 1 + s).T)] for s in NEIGHBOUR_CELLS], 1)

    def contains(self, points: np.ndarray) -> np.ndarray:
        """(n,) bool for points (n, 3): whether each lies in an inside cell."""
        i = np.floor((points - self.low) / self.h).astype(int)
        ok = ((i >= 0) & (i < self.inside.shape)).all(1)
        out = np.zeros(len(points), bool)
        out[ok] = self.inside[tuple(i[ok].T)]
        return out

    def nearest(self, points: np.ndarray) -> np.ndarray:
        """(n,) the nearest inside cell to each point."""
        return np.asarray(self.tree.query(points)[1])

    def kept(self, place: np.ndarray) -> np.ndarray:
        """The place (3,), or where it lies outside the middle of the nearest inside cell."""
        return place if self.contains(place[None])[0] else self.centres[self.nearest(place[None])[0]]


NEIGHBOUR_CELLS = np.array([(i, j, k) for i in (-1, 0, 1) for j in (-1, 0, 1) for k in (-1, 0, 1) if i or j or k])
STEP_LENGTHS = np.linalg.norm(NEIGHBOUR_CELLS, axis=1)


def solid_from_mesh(
    points: np.ndarray, triangles: np.ndarray, h: float, box: tuple[np.ndarray, np.ndarray] | None = None
) -> Solid:
    """Fill a mesh, or what of it lies in `box` (low, high), with cells of edge h (metres)."""
    low, high = box if box is not None else (points.min(0) - h, points.max(0) + h)
    shape = np.maximum(np.ceil((high - low) / h).astype(int), 1)
    votes = np.zeros(shape, np.int8)
    p = np.ascontiguousarray(points, np.float64)
    t = np.ascontiguousarray(triangles, np.int32)
    for axis in range(3):
        order = np.array([(axis + 1) % 3, (axis + 2) % 3, axis])
        view = np.zeros(tuple(shape[order]), np.int8)
        _winding_along_z(np.ascontiguousarray(p[:, order]), t, low[order].astype(float), h, tuple(shape[order]), view)
        votes += view.transpose(np.argsort(order))
    return Solid(np.asarray(low, float), float(h), votes >= 2)


@compiled
def _push(heap_d: np.ndarray, heap_i: np.ndarray, size: int, d: float, i: int) -> None:
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
def _pop(heap_d: np.ndarray, heap_i: np.ndarray, size: int) -> tuple[float, int]:
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
            _push(heap_d, heap_i, size, start[s], sources[s])
            size += 1
    while size > 0:
        d, i = _pop(heap_d, heap_i, size)
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
                _push(heap_d, heap_i, size, nd, j)
                size += 1
    return dist, came


def cost_of_thin(solid: Solid, pull: float = 3.0) -> np.ndarray:
    """(c,) what a step into each cell costs for its length: (deepest / depth)^pull, at most a million."""
    depth = np.maximum(solid.depth, 0.25 * solid.h)
    return np.asarray(np.minimum((np.percentile(depth, 99) / depth) ** pull, 1e6))


def middle_paths(solid: Solid, start: int, goals: Sequence[int], pull: float = 3.0) -> list[np.ndarray]:
    """Cells (p,) of the ways from start to every goal that keep to the middle of the volume.

    A step costs its length times `cost_of_thin`, so that the way runs where the body is thickest.
    """
    cost = cost_of_thin(solid, pull)
    # Searched from the start: where that is a limb's tip, most of the body is never looked at.
    one, goal = np.array([start], np.int64), goals[0] if len(goals) == 1 else -1
    _, came = distances_through(solid.links, STEP_LENGTHS * solid.h, cost, one, np.zeros(1), np.inf, goal)
    return [traced(came, g)[::-1] for g in goals]


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
