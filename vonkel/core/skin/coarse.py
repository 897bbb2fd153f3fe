"""A dense mesh by fewer points: who holds what is found on those, and carried back.

A hold fades over lengths of a limb; points much closer than that say nothing new, and make solving longer by more than
their number.  Points of one cell of a grid count as one where the mesh joins them (after Rossignac & Borrel 1993, from
memory), so that two fingers in one cell stay two.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.sparse.csgraph import connected_components

from ..geometry.measures import area
from ..geometry.topology import middles, point_normals, whole_triangles

DENSE = 36_000  # points from which on a mesh is bound by fewer
FEWEST, MOST = 24_000, 48_000  # how many those are, about: half of them, within these
PER_CELL = 1.5  # cells of edge a that a surface of a² runs through


@dataclass(frozen=True)
class Coarse:
    """points (m, 3), triangles (t, 3) of the coarser mesh; of (n,) the one of its points that stands for each; carry (n, m): what
    each point takes from those, rows summing to one."""

    points: np.ndarray
    triangles: np.ndarray
    of: np.ndarray
    carry: csr_matrix


def coarse(points: np.ndarray, triangles: np.ndarray, wanted: int = 0) -> Coarse:
    """A mesh of about `wanted` points (0: as many as are worth their time) for one of points (n, 3) and triangles (t, 3)."""
    n = len(points)
    wanted = wanted or min(max(n // 2, FEWEST), MOST)
    edge = float(np.sqrt(PER_CELL * area(points, triangles) / wanted))
    cell = np.floor(points / edge + 0.5).astype(np.int64)  # a cell is centred on x = 0: both sides alike
    i, j = triangles[:, [0, 1, 2]].ravel(), triangles[:, [1, 2, 0]].ravel()
    faces = _facing(points, triangles)
    same = (cell[i] == cell[j]).all(1) & (faces[i] == faces[j])
    of = connected_components(coo_matrix((np.ones(same.sum(), np.int8), (i[same], j[same])), (n, n)), directed=False)[1]
    middle, tri = middles(points, of), whole_triangles(of[triangles])
    tri = tri[np.unique(np.sort(tri, 1), axis=0, return_index=True)[1]]
    return Coarse(middle, tri.astype(np.int64), of, _carry(points, of, middle, i, j, edge))


def _facing(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(n,) which of six ways each point looks, alike on both sides: lips that meet in one cell look up and down."""
    normals = np.round(point_normals(points, triangles), 6)
    axis = np.abs(normals).argmax(1)
    return np.asarray(2 * axis + (normals[np.arange(len(points)), axis] < 0.0))


def _carry(
    points: np.ndarray, of: np.ndarray, middle: np.ndarray, i: np.ndarray, j: np.ndarray, edge: float
) -> csr_matrix:  # fmt: skip
    """Each point takes from its own cluster and the ones next to it, by how near their middles are."""
    n, m = len(points), len(middle)
    u, v = of[i], of[j]
    near = u != v
    beside = coo_matrix(
        (np.ones(2 * near.sum(), np.int8), (np.r_[u[near], v[near]], np.r_[v[near], u[near]])), (m, m)
    ).tocsr()
    beside = (beside + diags(np.ones(m))).tocsr()
    taken = beside[of].tocoo()
    d = ((points[taken.row] - middle[taken.col]) ** 2).sum(1)
    table = csr_matrix((np.exp(-d / (0.6 * edge) ** 2), (taken.row, taken.col)), (n, m))
    return (diags(1.0 / np.maximum(np.asarray(table.sum(1)).ravel(), 1e-300)) @ table).tocsr()
