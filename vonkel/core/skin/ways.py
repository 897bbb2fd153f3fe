"""The ways that a hold may take: through the cells inside a body and along its skin.

Cells are linked where no gap of the mesh lies between them, points along the edges, and each point to the cells just under
it.  Open sheets (membranes, feathers, cloth) have no inside: they are reached along their edges, and pieces that nothing
else joins from the points nearest to them.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from scipy.ndimage import map_coordinates
from scipy.sparse import coo_matrix, csr_matrix
from scipy.spatial import cKDTree

from ..compiled import compiled
from ..geometry.topology import Topology, open_sheets, point_normals, signed_volume, topology_of_triangles
from ..geometry.voxels import NEIGHBOUR_CELLS, STEP_LENGTHS, Solid, solid_from_mesh

CELLS = 26_000  # how many cells a body is filled with
FINEST, COARSEST = 1 / 400, 1 / 64  # bounds of a cell's edge, shares of the body's size
RUNG = 1.04  # from one size of cells to the next
BARE = 0.015  # with more points than this share that lie over no cell, a body is filled more finely
FINER, TIMES = 0.7, 2  # by how much at a time, and how often at most
MOSTLY = 0.5  # the share of the faces that are sheets from which on they count as a body
PARTS = 16  # that a triangle's edge is cut into at most, where places all over the mesh are looked at
OVER = 0.2  # a cell whose centre lies above a point's plane by more than this many cells isn't under it
BELOW = 4  # cells under a point


@dataclass(frozen=True)
class Ways:
    """points (n, 3), triangles (t, 3); rows, cols: the mesh's edges as neighbours of each point; piece (n,): the
    connected piece of the mesh that each lies in; solid: its cells;
    under (n, BELOW): cells under each point (−1 none); bridges (k, 2): pairs of points between pieces that only these join;
    spots: places (s, 3) all over the surface, how much of it is each's (s,) m², and the cells under them (s,)."""

    points: np.ndarray
    triangles: np.ndarray
    rows: np.ndarray
    cols: np.ndarray
    piece: np.ndarray
    solid: Solid
    under: np.ndarray
    bridges: np.ndarray
    spots: tuple[np.ndarray, np.ndarray, np.ndarray]

    @property
    def cells(self) -> int:
        return len(self.solid.cells)

    @cached_property
    def places(self) -> np.ndarray:
        """(c + n, 3): the centres of the cells, then the points."""
        return np.concatenate([self.solid.centres, self.points])

    def depth_at(self, places: np.ndarray) -> np.ndarray:
        """(k,) metres: the depth round each of places (k, 3), without steps between cells, so that a cell more or less at the
        skin, which is chance, changes it little."""
        grid = np.full(self.solid.inside.shape, -0.5)
        grid[self.solid.inside] = self.steps_deep
        at = (places - self.solid.low) / self.solid.h - 0.5
        round_it = [
            map_coordinates(grid, (at + 0.5 * o).T, order=1, mode="nearest") for o in (*NEIGHBOUR_CELLS, np.zeros(3))
        ]
        return np.asarray(np.maximum(np.mean(round_it, axis=0), 0.0) * self.solid.h)

    @cached_property
    def steps_deep(self) -> np.ndarray:
        """(c,) cells from each cell's centre to the nearest place from which no way leads on, by steps between cells: in cells, so that
        no unit decides between cells alike."""
        return _depths(self.solid.ways, STEP_LENGTHS)

    @cached_property
    def edges(self) -> np.ndarray:
        """(e,) metres: how long each entry of `cols` is."""
        return edge_lengths(self.points, self.rows, self.cols)

    @cached_property
    def areas(self) -> np.ndarray:
        """(n,) how much of the surface is each point's, m²."""
        return point_areas(self.points, self.triangles)

    @cached_property
    def thick(self) -> np.ndarray:
        """(c + n,) metres: how thick the flesh is round each cell and point, as the radius of a ball in it that reaches there."""
        c, solid = self.cells, self.solid
        if not c:
            return np.full(len(self.points), solid.h)
        inner = solid.h * _balls(solid.ways, self.steps_deep, solid.cells.astype(np.float64), 0.5)
        held = self.under[:, 0] >= 0
        return np.concatenate([inner, np.where(held, inner[np.maximum(self.under[:, 0], 0)], 0.5 * solid.h)])

    @cached_property
    def all(self) -> tuple[np.ndarray, np.ndarray]:
        """Rows and columns of all links: cells to cells, cells to points and back, points to points, bridges."""
        bridges = self.bridges + self.cells
        rows, cols = _joined(self.solid.ways, self.under, self.rows, self.cols)
        if not len(bridges):
            return rows, cols
        n = len(rows) - 1
        both = np.concatenate([bridges, bridges[:, ::-1]])
        table = csr_matrix((np.ones(len(cols), np.int8), cols, rows), (n, n))
        table = (table + coo_matrix((np.ones(len(both), np.int8), (both[:, 0], both[:, 1])), (n, n))).tocsr()
        return table.indptr.astype(np.int64), table.indices.astype(np.int32)


def ways_of(
    points: np.ndarray, triangles: np.ndarray, size: float, cells: int = 0, body: tuple[np.ndarray, np.ndarray] | None = None
) -> Ways:  # fmt: skip
    """The ways of a skin: points (n, 3), triangles (t, 3), size in metres; cells: how many, 0 for as many as its thin parts want; body:
    points and triangles of the mesh that encloses it, where the skin's are fewer and lie near that."""
    n = len(points)
    mesh = topology_of_triangles(triangles, n)
    rows, cols = neighbours(mesh)
    piece = mesh.islands
    closed = _enclosing(mesh, triangles)
    around, faces = body or (points, triangles)
    filled = _enclosing(topology_of_triangles(faces, len(around)), faces) if body else closed
    normals = point_normals(points, triangles)
    h = _cell(around, filled, size, cells or CELLS)
    for _ in range(1 if cells else 1 + TIMES):
        solid = _filled(around, filled, h)
        under = _under_each(points, normals, solid, BELOW)
        over = np.isin(np.arange(n), closed)
        if not over.any() or float((under[over, 0] < 0).mean()) < BARE or h * FINER < FINEST * size:
            break
        h *= FINER
    bridges = _bridges(points, piece, under[:, 0] >= 0, h)
    return Ways(points, triangles, rows, cols, piece, solid, under, bridges, _spots(around, faces, solid))


def _under_each(points: np.ndarray, normals: np.ndarray, solid: Solid, most: int) -> np.ndarray:
    """(n, most) int32: the cells under each of points (n, 3), −1 where there is none."""
    places = (points - solid.low) / solid.h
    return np.asarray(_under(places, normals, solid.number, solid.cells.astype(np.int32), solid.ways, most, OVER))


def _spots(points: np.ndarray, triangles: np.ndarray, solid: Solid) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places all over the mesh, no farther from each other than cells are: what is counted on those says the same of a mesh
    whose edges are long as of one whose edges are short."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    sides = np.stack([b - a, c - a, c - b])
    across = np.cross(sides[0], sides[1])
    area = 0.5 * np.linalg.norm(across, axis=1)
    across /= np.maximum(2.0 * area, 1e-300)[:, None]
    longest = np.linalg.norm(sides, axis=2).max(0)
    # a sliver has little to say, however long it is: thousands of them must not become millions of places
    parts = np.clip(np.ceil(np.minimum(longest, np.sqrt(8.0 * area)) / solid.h), 1, PARTS).astype(int)
    places, areas, normals = [], [], []
    for k in np.unique(parts):
        of = np.flatnonzero(parts == k)
        i, j = np.divmod(np.arange(k * k), k)
        whole = i + j < k  # the others of a square's halves stand on their heads
        u = (np.where(whole, i, k - 1 - i) + np.where(whole, 1, 2) / 3) / k
        v = (np.where(whole, j, k - 1 - j) + np.where(whole, 1, 2) / 3) / k
        places.append((a[of, None] + u[:, None] * sides[0][of, None] + v[:, None] * sides[1][of, None]).reshape(-1, 3))
        areas.append(np.repeat(area[of] / (k * k), k * k))
        normals.append(np.repeat(across[of], k * k, 0))
    spots, out = np.concatenate(places), np.concatenate(normals)
    under = np.array(solid.cell_at(spots - 0.5 * solid.h * out), np.int32)
    none = np.flatnonzero(under < 0)
    under[none] = _under_each(spots[none], out[none], solid, 1)[:, 0]
    return spots, np.concatenate(areas), under


def _cell(points: np.ndarray, closed: np.ndarray, size: float, cells: int) -> float:
    volume = abs(signed_volume(points - points.mean(0), closed))
    h = (volume / cells) ** (1 / 3)
    # On a ladder of sizes, so that a mesh that is edited a little keeps its cells, and with them the weights elsewhere.
    h = size * RUNG ** np.round(np.log(max(h, 1e-9 * size) / size) / np.log(RUNG))
    return float(np.clip(h, FINEST * size, COARSEST * size))


def _filled(points: np.ndarray, triangles: np.ndarray, h: float) -> Solid:
    """Cells lie alike on both sides of x = 0."""
    half = np.ceil(np.abs(points[:, 0]).max() / h + 1) * h
    low, high = points.min(0) - 1.01 * h, points.max(0) + 1.01 * h
    low[0], high[0] = -half, half
    return solid_from_mesh(points, triangles, h, (low, high))


def neighbours(mesh: Topology) -> tuple[np.ndarray, np.ndarray]:
    """Compressed rows: the points that edges join to each point, ascending, whatever order the faces come in."""
    i, j = mesh.edges.T
    n = mesh.count
    table = coo_matrix((np.ones(2 * len(i), np.int8), (np.r_[i, j], np.r_[j, i])), (n, n)).tocsr()
    table.sort_indices()
    return table.indptr.astype(np.int64), table.indices.astype(np.int32)


def _enclosing(mesh: Topology, triangles: np.ndarray) -> np.ndarray:
    """The triangles that enclose something.  Where hardly any do, all are taken to: a mesh in many pieces, or with holes."""
    sheet = open_sheets(mesh)[triangles[:, 0]]
    return triangles[~sheet] if sheet.mean() < MOSTLY else triangles


@compiled
def _under(
    p: np.ndarray, normals: np.ndarray, number: np.ndarray, cells: np.ndarray, ways: np.ndarray, most: int, over: float
) -> np.ndarray:  # fmt: skip
    """(n, most) int32: the cell nearest to a place half a cell under each point (p in cells), and its neighbours near the point.

    Only cells on the inner side of the point's own plane: what lies across a gap or a thin sheet isn't under it.
    """
    n = len(p)
    out = np.full((n, most), -1, np.int32)
    for i in range(n):
        q = p[i] - 0.5 * normals[i]
        best, root = 1e9, -1
        for a in range(max(int(q[0]) - 1, 0), min(int(q[0]) + 2, number.shape[0])):
            for b in range(max(int(q[1]) - 1, 0), min(int(q[1]) + 2, number.shape[1])):
                for c in range(max(int(q[2]) - 1, 0), min(int(q[2]) + 2, number.shape[2])):
                    m = number[a, b, c]
                    if m < 0:
                        continue
                    x, y, z = a + 0.5 - p[i, 0], b + 0.5 - p[i, 1], c + 0.5 - p[i, 2]
                    if x * normals[i, 0] + y * normals[i, 1] + z * normals[i, 2] > over:
                        continue
                    d = (a + 0.5 - q[0]) ** 2 + (b + 0.5 - q[1]) ** 2 + (c + 0.5 - q[2]) ** 2
                    if d < best:
                        best, root = d, m
        if root < 0:
            continue
        out[i, 0] = root
        k = 1
        for w in range(26):
            m = ways[root, w]
            if m < 0 or k == most:
                continue
            x, y, z = cells[m, 0] + 0.5 - p[i, 0], cells[m, 1] + 0.5 - p[i, 1], cells[m, 2] + 0.5 - p[i, 2]
            high = x * normals[i, 0] + y * normals[i, 1] + z * normals[i, 2]
            if x * x + y * y + z * z < 1.3 and high <= over:
                out[i, k] = m
                k += 1
    return out


@compiled
def _depths(ways: np.ndarray, lengths: np.ndarray) -> np.ndarray:
    """(c,) cells: chamfer distances less the half cell to the border, by one pass forwards and one back."""
    c = len(ways)
    out = np.full(c, 1e9)
    for n in range(c):
        for k in range(26):
            if ways[n, k] < 0:
                out[n] = min(out[n], lengths[k] - 0.5)
    for back in range(2):
        for step in range(c):
            n = c - 1 - step if back else step
            for k in range(13 * back, 13 * back + 13):
                if ways[n, k] >= 0:
                    out[n] = min(out[n], out[ways[n, k]] + lengths[k])
    return out


@compiled
def edge_lengths(p: np.ndarray, rows: np.ndarray, cols: np.ndarray) -> np.ndarray:
    out = np.empty(len(cols))
    for i in range(len(p)):
        for e in range(rows[i], rows[i + 1]):
            j = cols[e]
            out[e] = np.sqrt((p[i, 0] - p[j, 0]) ** 2 + (p[i, 1] - p[j, 1]) ** 2 + (p[i, 2] - p[j, 2]) ** 2)
    return out


@compiled
def spread(
    value: np.ndarray, start: np.ndarray, rows: np.ndarray, cols: np.ndarray, long: np.ndarray, fall: float
) -> None:
    """Values (n,) made to be nowhere less than a neighbour's less `fall` for each metre between them, from the points `start` (k,) on
    along edges (rows, cols) of lengths `long`.  In place."""
    n, tail = len(value), len(start)
    queue, waits = np.empty(n, np.int64), np.zeros(n, np.bool_)
    queue[:tail] = start
    for i in start:
        waits[i] = True
    head = 0
    while head < tail:
        i = queue[head % n]
        head, waits[i] = head + 1, False
        for e in range(rows[i], rows[i + 1]):
            j, left = cols[e], value[i] - fall * long[e]
            if left > value[j]:
                value[j] = left
                if not waits[j]:
                    queue[tail % n], waits[j] = j, True
                    tail += 1


@compiled
def point_areas(p: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(n,) a third of the triangles (t, 3) round each of points p (n, 3), m²."""
    out = np.zeros(len(p))
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        u, v, w = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
        x, y, z = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
        third = np.sqrt((v * z - w * y) ** 2 + (w * x - u * z) ** 2 + (u * y - v * x) ** 2) / 6.0
        out[a] += third
        out[b] += third
        out[c] += third
    return out


@compiled
def _balls(ways: np.ndarray, depth: np.ndarray, places: np.ndarray, slack: float) -> np.ndarray:
    """(c,) the depth of the deepest cell on the way inwards whose ball still holds the cell."""
    out = depth.copy()
    for n in range(len(depth)):
        at = n
        while True:
            best = at
            for k in range(26):
                m = ways[at, k]
                if m >= 0 and depth[m] > depth[best]:
                    best = m
            if best == at or np.sqrt(((places[best] - places[n]) ** 2).sum()) > depth[best] + slack:
                break
            at = best
        out[n] = depth[at]
    return out


@compiled
def _joined(ways: np.ndarray, under: np.ndarray, rows: np.ndarray, cols: np.ndarray) -> Any:
    c, n = len(ways), len(under)
    out = np.zeros(c + n + 1, np.int64)
    for i in range(c):
        for k in range(ways.shape[1]):
            if ways[i, k] >= 0:
                out[i + 1] += 1
    for v in range(n):
        out[c + v + 1] += rows[v + 1] - rows[v]
        for k in range(under.shape[1]):
            if under[v, k] >= 0:
                out[c + v + 1] += 1
                out[under[v, k] + 1] += 1
    for i in range(c + n):
        out[i + 1] += out[i]
    to = np.empty(out[-1], np.int32)
    at = out[:-1].copy()
    for i in range(c):
        for k in range(ways.shape[1]):
            if ways[i, k] >= 0:
                to[at[i]] = ways[i, k]
                at[i] += 1
    for v in range(n):
        for k in range(under.shape[1]):
            m = under[v, k]
            if m >= 0:
                to[at[c + v]], to[at[m]] = m, c + v
                at[c + v] += 1
                at[m] += 1
        for e in range(rows[v], rows[v + 1]):
            to[at[c + v]] = c + cols[e]
            at[c + v] += 1
    return out, to


def _bridges(points: np.ndarray, piece: np.ndarray, held: np.ndarray, h: float) -> np.ndarray:
    """(k, 2) pairs of points between loose pieces and what lies nearest to them.

    Pieces without cells of their own (sheets) hang on the body where they come near it; closed ones that lie apart are
    joined where they are nearest to the largest, so that nothing is out of reach.
    """
    count = int(piece.max(initial=-1)) + 1
    if count < 2:
        return np.zeros((0, 2), np.int64)
    has = np.zeros(count, bool)
    has[piece[held]] = True
    sizes = np.bincount(piece, minlength=count)
    main = int(np.argmax(np.where(has, sizes, 0) if has.any() else sizes))
    own = cKDTree(points[piece == main])
    home = np.flatnonzero(piece == main)
    body = np.flatnonzero(has[piece])
    all_bodies = cKDTree(points[body]) if has.any() else own
    out = []
    order = np.argsort(piece, kind="stable")
    for p, mine in enumerate(np.split(order, np.cumsum(sizes)[:-1])):
        if p == main:
            continue
        sheet = not has[p] and has.any()
        far, near = (all_bodies if sheet else own).query(points[mine])
        near = body[near] if sheet else home[near]
        keep = far <= max(1.5 * float(far.min()), h)
        out.append(np.stack([mine[keep], near[keep]], 1))
    return np.concatenate(out)
