"""Smoothing after skinning: the posed skin is evened, and what evening takes off at rest is put back in its own frames.

Mancewicz, Derksen, Rijpkema & Wilson 2014, “Delta mush: smoothing deformations while preserving detail”.  What skinning folds
or pinches goes; what was modelled stays.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import reverse_cuthill_mckee

from ..character import Character
from ..compiled import compiled_loosely
from ..derived import derived
from ..geometry.halves import in_halves
from ..geometry.topology import (
    add_normals,
    skin_points,
    topology_of,
    topology_of_triangles,
    welded_points,
    whole_triangles,
)
from ..tolerances import PAIR

PAY = 3_000  # points from which a second thread is worth its start
STRENGTH = 0.5  # of the way to the neighbours' mean, each round


class Smoother:
    """Smooths posed points of one character, so many rounds.  Points in one place go as one; parts that aren't skin stay."""

    def __init__(self, character: Character, rounds: int) -> None:
        self.rounds = rounds
        self.first, self.of, soft, self.rows, self.cols, self.triangles, self.side = mesh_of(character)
        self.hard = np.flatnonzero(~soft)
        rest = np.ascontiguousarray(character.points[self.first], np.float32)
        self._a, self._b = np.empty_like(rest), np.empty_like(rest)
        self._normals, self._restored = np.empty_like(rest), np.empty_like(rest)
        self._numbers = np.arange(len(rest))
        even = self._evened(rest)
        self.details = np.empty_like(rest)
        _details(rest, even, self._frames_at(even), self.side, self.details)

    def _evened(self, points: np.ndarray) -> np.ndarray:
        self._a[:] = points
        a, b = self._a, self._b
        for _ in range(self.rounds):
            _round(a, self.rows, self.cols, b)
            a, b = b, a
        return a

    def _frames_at(self, even: np.ndarray) -> np.ndarray:
        """(m, 3) normals, not of unit length; with `side`, a neighbour of each point, they make its frame."""
        self._normals[:] = 0.0
        add_normals(even, self.triangles, self._normals)
        return self._normals

    def __call__(self, posed: np.ndarray, out: np.ndarray) -> None:
        """Smooth posed points (n, 3) float32 into `out`, which may be the same array."""
        hard = posed[self.hard]
        even = self._evened(np.take(posed, self.first, 0))
        normals = self._frames_at(even)
        in_halves(
            lambda own, found: _restored(own[0], even, normals, self.side, self.details, found),
            self._numbers, out=self._restored, least=PAY,
        )  # fmt: skip
        np.take(self._restored, self.of, 0, out, "clip")
        out[self.hard] = hard


@derived("points", "face_starts", "face_corners", "parts", most=4)
def mesh_of(character: Character) -> tuple[np.ndarray, ...]:
    """Joined points: which of the mesh stand for them, which each point is, which are skin; neighbours; triangles; a neighbour
    of each."""
    points, topo = np.asarray(character.points, float), topology_of(character)
    first, of = welded_points(points, PAIR * max(character.size, 1e-12))
    soft = skin_points(character)
    edges = of[topo.edges]
    edges = np.unique(np.sort(edges[edges[:, 0] != edges[:, 1]], axis=1), axis=0)
    # Neighbours stand near each other in memory: rounds go several times quicker (Cuthill & McKee 1969, reversed).
    beside = coo_matrix((np.ones(len(edges), np.int8), (edges[:, 0], edges[:, 1])), shape=(len(first),) * 2)
    order = reverse_cuthill_mckee((beside + beside.T).tocsr(), symmetric_mode=True)
    rank = np.empty(len(first), np.int64)
    rank[order] = np.arange(len(first))
    first, of, edges = first[order], rank[of], rank[edges]
    both = np.concatenate([edges, edges[:, ::-1]])
    both = both[np.argsort(both[:, 0], kind="stable")]
    rows = np.searchsorted(both[:, 0], np.arange(len(first) + 1)).astype(np.uint32)
    triangles = whole_triangles(of[topo.triangles])
    mesh = topology_of_triangles(triangles, len(first))
    near, cols = mesh.neighbours
    side = np.full(len(first), -1, np.int32)
    some = near[1:] > near[:-1]
    side[some] = cols[near[:-1][some]]
    return first, of.astype(np.int64), soft, rows, both[:, 1].astype(np.uint32), triangles.astype(np.uint32), side


@compiled_loosely
def _round(points: np.ndarray, rows: np.ndarray, cols: np.ndarray, out: np.ndarray) -> None:
    for i in range(len(points)):
        count = rows[i + 1] - rows[i]
        if count == 0:
            out[i, 0], out[i, 1], out[i, 2] = points[i, 0], points[i, 1], points[i, 2]
            continue
        x = y = z = np.float32(0.0)
        for k in range(rows[i], rows[i + 1]):
            j = cols[k]
            x += points[j, 0]
            y += points[j, 1]
            z += points[j, 2]
        by = np.float32(STRENGTH) / np.float32(count)
        stay = np.float32(1.0 - STRENGTH)
        out[i, 0] = stay * points[i, 0] + by * x
        out[i, 1] = stay * points[i, 1] + by * y
        out[i, 2] = stay * points[i, 2] + by * z


@compiled_loosely
def _axes(p: np.ndarray, normals: np.ndarray, side: np.ndarray, i: int) -> Any:
    """A point's frame: along its neighbour, across, and out; False where it has none."""
    zero = np.float32(0.0)
    none = zero, zero, zero, zero, zero, zero, zero, zero, zero, False
    j = side[i]
    if j < 0:
        return none
    nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
    length = np.sqrt(nx * nx + ny * ny + nz * nz)
    if length < np.float32(1e-30):
        return none
    nx, ny, nz = nx / length, ny / length, nz / length
    tx, ty, tz = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
    d = tx * nx + ty * ny + tz * nz
    tx, ty, tz = tx - d * nx, ty - d * ny, tz - d * nz
    length = np.sqrt(tx * tx + ty * ty + tz * tz)
    if length < np.float32(1e-30):
        return none
    tx, ty, tz = tx / length, ty / length, tz / length
    return tx, ty, tz, ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx, nx, ny, nz, True


@compiled_loosely
def _details(points: np.ndarray, even: np.ndarray, normals: np.ndarray, side: np.ndarray, out: np.ndarray) -> None:
    """What evening took off, in each point's frame; as it is where a point has none."""
    for i in range(len(points)):
        x, y, z = points[i, 0] - even[i, 0], points[i, 1] - even[i, 1], points[i, 2] - even[i, 2]
        tx, ty, tz, bx, by, bz, nx, ny, nz, ok = _axes(even, normals, side, i)
        if ok:
            out[i, 0], out[i, 1], out[i, 2] = (
                tx * x + ty * y + tz * z, bx * x + by * y + bz * z, nx * x + ny * y + nz * z,
            )  # fmt: skip
        else:
            out[i, 0], out[i, 1], out[i, 2] = x, y, z


@compiled_loosely
def _restored(
    start: int, even: np.ndarray, normals: np.ndarray, side: np.ndarray, details: np.ndarray, out: np.ndarray
) -> None:
    """Evened points from `start` on, as many as `out` has, with what evening took off put back in their frames."""
    for o in range(len(out)):
        i = start + o
        x, y, z = details[i, 0], details[i, 1], details[i, 2]
        tx, ty, tz, bx, by, bz, nx, ny, nz, ok = _axes(even, normals, side, i)
        if ok:
            out[o, 0] = even[i, 0] + tx * x + bx * y + nx * z
            out[o, 1] = even[i, 1] + ty * x + by * y + ny * z
            out[o, 2] = even[i, 2] + tz * x + bz * y + nz * z
        else:  # as `_details` had it
            out[o, 0], out[o, 1], out[o, 2] = even[i, 0] + x, even[i, 1] + y, even[i, 2] + z
