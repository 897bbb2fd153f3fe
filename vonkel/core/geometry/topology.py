"""Faces, edges and neighbours of a mesh of polygons."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..character import Arrays, Character, Part
from ..compiled import compiled
from ..derived import derived
from ..recent import Recent


class Topology:
    """What can be said of the faces alone.  All arrays are worked out once, when first asked for.

    `starts` (f + 1,) and `corners` (m,) as in Character; `count` is the number of points.
    """

    def __init__(self, starts: np.ndarray, corners: np.ndarray, count: int) -> None:
        self.starts, self.corners, self.count = starts.astype(np.int64), corners.astype(np.int64), count

    @cached_property
    def sizes(self) -> np.ndarray:
        """(f,) corners per face."""
        return np.diff(self.starts)

    @cached_property
    def corner_face(self) -> np.ndarray:
        """(m,) the face each corner belongs to."""
        return np.repeat(np.arange(len(self.sizes)), self.sizes)

    @cached_property
    def corner_next(self) -> np.ndarray:
        """(m,) the point after each corner, round its face."""
        following = np.arange(1, len(self.corners) + 1)
        following[self.starts[1:] - 1] = self.starts[:-1]
        return self.corners[following]

    @cached_property
    def triangles(self) -> np.ndarray:
        """(t, 3) int32: each face as a fan, usually from its first corner."""
        return np.asarray(self.corners[self.triangle_corners].astype(np.int32))

    @cached_property
    def triangle_corners(self) -> np.ndarray:
        """(t, 3) the corner indices that `triangles` takes its points from.

        A quad is cut from its first corner unless that cut runs along an edge of the mesh, or along another quad's
        cut; cut there, the triangles of a closed mesh would not be closed.
        """
        n = np.maximum(self.sizes - 2, 0)
        first, second = np.repeat(self.starts[:-1], n), runs(self.starts[:-1] + 1, n)
        fan = np.stack([first, second, second + 1], 1)
        quads = np.flatnonzero(self.sizes == 4)
        if len(quads):
            start = self.starts[quads]
            a, c = self.corners[start], self.corners[start + 2]
            cut = np.minimum(a, c) * self.count + np.maximum(a, c)
            _, seen = np.unique(cut, return_index=True)
            table = self._edge_table[0]  # sorted: looking up is many times faster than hashing such numbers
            other = table[np.minimum(np.searchsorted(table, cut), len(table) - 1)] == cut
            again = np.ones(len(cut), bool)
            again[seen] = False
            other |= again
            row = (np.cumsum(n) - n)[quads[other]]
            s = start[other]
            fan[row] = np.stack([s + 1, s + 2, s + 3], 1)
            fan[row + 1] = np.stack([s + 1, s + 3, s], 1)
        return fan

    @cached_property
    def triangle_face(self) -> np.ndarray:
        return np.repeat(np.arange(len(self.sizes)), np.maximum(self.sizes - 2, 0))

    @cached_property
    def _edge_table(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        a, b = self.corners, self.corner_next
        code = np.minimum(a, b) * self.count + np.maximum(a, b)
        unique, inverse, counts = np.unique(code, return_inverse=True, return_counts=True)
        return unique, inverse, counts

    @cached_property
    def edges(self) -> np.ndarray:
        """(e, 2) int32, each edge once, smaller point first, sorted."""
        code = self._edge_table[0]
        return np.stack([code // self.count, code % self.count], 1).astype(np.int32)

    @cached_property
    def edge_faces(self) -> np.ndarray:
        """(e,) how many faces use each edge."""
        return self._edge_table[2]

    @cached_property
    def corner_edge(self) -> np.ndarray:
        """(m,) the edge that runs from each corner to the next of its face."""
        return np.asarray(self._edge_table[1]).ravel()

    @cached_property
    def edge_corners(self) -> tuple[np.ndarray, np.ndarray]:
        """Compressed rows: the corners whose edge is e are cols[rows[e]:rows[e+1]]."""
        order = np.argsort(self.corner_edge, kind="stable")
        return np.searchsorted(self.corner_edge[order], np.arange(len(self.edges) + 1)), order

    @cached_property
    def point_corners(self) -> tuple[np.ndarray, np.ndarray]:
        """Compressed rows: the corners that stand on point i are cols[rows[i]:rows[i+1]]."""
        order = np.argsort(self.corners, kind="stable")
        return np.searchsorted(self.corners[order], np.arange(self.count + 1)), order

    def edge_between(self, a: int, b: int) -> int:
        """The edge of two points, −1 where there is none."""
        code = min(a, b) * self.count + max(a, b)
        table = self._edge_table[0]
        at = int(np.searchsorted(table, code))
        return at if at < len(table) and table[at] == code else -1

    @cached_property
    def neighbours(self) -> tuple[np.ndarray, np.ndarray]:
        """Compressed rows: points joined to i by an edge are cols[rows[i]:rows[i+1]]."""
        e = self.edges
        both = np.concatenate([e, e[:, ::-1]])
        both = both[np.argsort(both[:, 0], kind="stable")]
        rows = np.searchsorted(both[:, 0], np.arange(self.count + 1))
        return rows.astype(np.int32), both[:, 1].astype(np.int32)

    @cached_property
    def islands(self) -> np.ndarray:
        """(n,) the number of the connected piece that each point lies in."""
        return labels_of(self.edges, self.count)


SHEET = 0.03  # a piece with more border edges than this share is an open sheet


def open_sheets(mesh: Topology) -> np.ndarray:
    """(n,) bool: points of pieces that are open sheets (membranes, feathers, cloth) and enclose nothing."""
    piece = mesh.islands
    of = piece[mesh.edges[:, 0]]
    count = int(piece.max(initial=-1)) + 1
    border = np.bincount(of[mesh.edge_faces == 1], minlength=count) / np.maximum(np.bincount(of, minlength=count), 1)
    return np.asarray((border > SHEET)[piece])


def labels_of(links: np.ndarray, count: int) -> np.ndarray:
    """(count,) the number of the connected piece that each of `count` things lies in, by links (l, 2)."""
    graph = coo_matrix((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), shape=(count, count))
    return np.asarray(connected_components(graph, directed=False)[1])


_topologies: Recent[tuple[str, str, int], Topology] = Recent(16)


def topology_of(character: Character) -> Topology:
    """The topology of a character's mesh; shared between all characters with the same faces."""
    return topology_of_arrays(character.arrays)


def topology_of_arrays(arrays: Arrays) -> Topology:
    key = (arrays.hash_of("face_starts"), arrays.hash_of("face_corners"), len(arrays["points"]))
    return _topologies.get(key, lambda: Topology(arrays["face_starts"], arrays["face_corners"], key[2]))


def topology_of_triangles(triangles: np.ndarray, count: int) -> Topology:
    """The topology of triangles (t, 3) over `count` points."""
    return Topology(np.arange(0, 3 * len(triangles) + 1, 3), triangles.ravel(), count)


def faces_of(character: Character, parts: Iterable[Part]) -> np.ndarray:
    """(f,) bool: which faces belong to these parts."""
    out = np.zeros(len(character.arrays["face_starts"]) - 1, bool)
    for p in parts:
        out[slice(*p.faces)] = True
    return out


def doubled_faces(topo: Topology) -> np.ndarray:
    """Faces that have the same points as an earlier one, in their order."""
    found = [np.zeros(0, np.int64)]
    for size in np.unique(topo.sizes):
        which = np.flatnonzero(topo.sizes == size)
        rows = np.sort(topo.corners[topo.starts[which][:, None] + np.arange(size)], 1)
        _, first = np.unique(rows, axis=0, return_index=True)
        found.append(np.delete(which, first))
    return np.sort(np.concatenate(found))


def skin_points(character: Character) -> np.ndarray:
    """(n,) bool: which points are of parts that are skin."""
    soft = np.zeros(len(character.points), bool)
    for part in character.parts:
        soft[slice(*part.points)] = part.role == "skin"
    return soft


@derived("points", "face_starts", "face_corners", "parts", most=8)
def skin_triangles(character: Character) -> np.ndarray:
    """(t, 3) int32: the triangles of all parts that are skin (of every part where none is); kept for a few meshes."""
    parts = [p for p in character.parts if p.role == "skin"] or list(character.parts)
    topo = topology_of(character)
    return np.asarray(topo.triangles[faces_of(character, parts)[topo.triangle_face]])


def welded_points(points: np.ndarray, within: float) -> tuple[np.ndarray, np.ndarray]:
    """Points in one place count as one, as where a mesh is cut along its texture's seams: which stand for all (m,), and which of
    those each point is (n,)."""
    cells = np.floor(points / (4.0 * within) + 0.5).astype(np.int64)
    _, first, of = np.unique(cells, axis=0, return_index=True, return_inverse=True)
    return first, of.ravel()


def middles(points: np.ndarray, of: np.ndarray) -> np.ndarray:
    """(m, 3): the mean of those of points (n, 3) that count as one; of (n,): which, 0 … m − 1, as `welded_points` tells."""
    return np.asarray(np.stack([np.bincount(of, points[:, k]) for k in range(3)], 1) / np.bincount(of)[:, None])


def whole_triangles(triangles: np.ndarray) -> np.ndarray:
    """Those of triangles (t, 3) that have three points still, after points were made one."""
    return np.asarray(triangles[(triangles != np.roll(triangles, 1, axis=1)).all(1)])


def runs(starts: np.ndarray, counts: np.ndarray) -> np.ndarray:
    """(sum,): starts[0], starts[0] + 1, …, for `counts[0]` numbers, then from the next start on."""
    return np.repeat(starts - np.cumsum(counts) + counts, counts) + np.arange(counts.sum())


def face_areas(points: np.ndarray, topology: Topology) -> np.ndarray:
    """(f,) area of each polygon: half the length of the summed corner cross products (its vector area)."""
    a, b = points[topology.corners], points[topology.corner_next]
    cross = np.cross(a, b)
    total = np.add.reduceat(cross, topology.starts[:-1], axis=0) if len(topology.sizes) else np.zeros((0, 3))
    return np.asarray(0.5 * np.linalg.norm(total, axis=1))


def point_normals(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals, area-weighted over the triangles at each point; (0, 1, 0) where there is none."""
    out = np.zeros((len(points), 3))
    add_normals(np.asarray(points, float), triangles, out)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return np.where(length > 0, out / np.maximum(length, 1e-30), [0.0, 1.0, 0.0])


@compiled
def add_normals(p: np.ndarray, triangles: np.ndarray, out: np.ndarray) -> None:
    """Add to `out` (n, 3) at each triangle's corners its normal, twice as long as its area."""
    for t in range(len(triangles)):
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux, uy, uz = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
        vx, vy, vz = p[k, 0] - p[i, 0], p[k, 1] - p[i, 1], p[k, 2] - p[i, 2]
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        for q in (i, j, k):
            out[q, 0] += x
            out[q, 1] += y
            out[q, 2] += z


def signed_volume(points: np.ndarray, triangles: np.ndarray) -> float:
    """Volume enclosed by closed, outward-facing triangles, m³ (divergence theorem); negative if inside-out."""
    return float(_volume(np.asarray(points, float), triangles))


@compiled
def _volume(p: np.ndarray, triangles: np.ndarray) -> float:
    total = 0.0
    for t in range(len(triangles)):
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        total += p[i, 0] * (p[j, 1] * p[k, 2] - p[j, 2] * p[k, 1])
        total += p[i, 1] * (p[j, 2] * p[k, 0] - p[j, 0] * p[k, 2])
        total += p[i, 2] * (p[j, 0] * p[k, 1] - p[j, 1] * p[k, 0])
    return total / 6.0
