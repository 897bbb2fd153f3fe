"""Distances along the surface from a place on it, as far as a radius: what a brush lies on.

A point's distance comes from the edge across from it: the two ends' distances say where in the plane of that triangle the
start would lie were all on the way laid flat, and the point lies so far from there (as Novotni and Klein 2002, “Computing
geodesic distances on triangular meshes”, section 3).  Points are taken up nearest first, as by Dijkstra (1959).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character
from ..compiled import compiled
from ..derived import derived
from ..tolerances import PAIR, TINY
from .topology import Topology, point_normals, runs, topology_of, welded_points, whole_triangles
from .voxels import heap_pop, heap_push


@dataclass(frozen=True)
class Ground:
    """A mesh to walk over: places (m, 3) of its points, those in one place joined; `of` (n,) says which of them each point of
    the mesh is, and `first` (m,) one of the points that each stands for.  The triangles at i are rows fans[starts[i]:starts[i + 1]] of (k, 2): their other two corners, the second −1
    where there is but an edge; `long` (k, 3): how far those are from i, and from each other.  triangles (t, 3) are of the
    mesh's points, normals (n, 3) point out of it."""

    places: np.ndarray
    starts: np.ndarray
    fans: np.ndarray
    long: np.ndarray
    of: np.ndarray
    first: np.ndarray
    triangles: np.ndarray
    normals: np.ndarray

    def within(self, place: np.ndarray, triangle: int, radius: float) -> tuple[np.ndarray, np.ndarray]:
        """Joined points within `radius` metres of a place on a triangle, by the way along the surface: (k,) and how far (k,)."""
        corners = np.unique(self.of[self.triangles[triangle]])
        first = np.linalg.norm(self.places[corners] - place, axis=1)
        return self.from_points(corners, first, radius)

    def from_points(self, sources: np.ndarray, first: np.ndarray, radius: float) -> tuple[np.ndarray, np.ndarray]:
        """The same from some joined points, each so far off to begin with."""
        found: tuple[np.ndarray, np.ndarray] = _walked(
            self.starts, self.fans, self.long, sources.astype(np.int64), first.astype(float), float(radius)
        )
        return found

    def beside(self, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Neighbours of joined points (k,), joined points too: those of at[i] are around[starts[i]:starts[i + 1]].

        Each as often as triangles lie between: what one corner alone would count depends on which way faces go round, and differs
        between a mesh's sides where quads and triangles meet.
        """
        begin, count = self.starts[at], self.starts[at + 1] - self.starts[at]
        starts = np.concatenate([[0], np.cumsum(count)])
        both = self.fans[runs(begin, count)].ravel()
        there = both >= 0  # of a drawn line there is but one
        return np.concatenate([[0], np.cumsum(there)])[2 * starts], both[there]


@derived("points", "face_starts", "face_corners", "line_starts", "line_points", most=4)
def ground_of(character: Character) -> Ground:
    """The ground of a character's mesh at rest; drawn lines are walked along, too."""
    topo, points = topology_of(character), np.asarray(character.points, float)
    size = float(np.ptp(points, axis=0).max(initial=0.0)) if len(points) else 1.0
    first, of = welded_points(points, PAIR * max(size, TINY))
    places = points[first]
    triangles = whole_triangles(of[topo.triangles])
    both = whole_triangles(of[_cut_both_ways(topo)])
    turns = [both[:, [i, (i + 1) % 3, (i + 2) % 3]] for i in range(3)]
    fans = np.concatenate([*turns, _lines(character, of)])
    fans = fans[np.argsort(fans[:, 0], kind="stable")]
    starts = np.searchsorted(fans[:, 0], np.arange(len(places) + 1))
    at = places[fans]  # of lines the third is another point's, whose lengths nobody asks for
    sides = (at[:, 1] - at[:, 0], at[:, 2] - at[:, 0], at[:, 2] - at[:, 1])
    long = np.stack([np.linalg.norm(v, axis=1) for v in sides], 1)
    normals = point_normals(places, triangles)[of]
    return Ground(places, starts, fans[:, 1:].astype(np.int32), long, of, first, topo.triangles, normals)


@derived("points", most=4)
def tree_of(character: Character) -> cKDTree:
    """A tree of a character's points at rest."""
    return cKDTree(np.asarray(character.points, float))


def _cut_both_ways(topo: Topology) -> np.ndarray:
    """(t, 3) triangles: quads along both diagonals, so that ways don't depend on how they happen to be cut."""
    quads = np.flatnonzero(topo.sizes == 4)
    corners = topo.corners[topo.starts[quads][:, None] + np.arange(4)]
    turned = [corners[:, ids] for ids in ([0, 1, 2], [0, 2, 3], [0, 1, 3], [1, 2, 3])]
    return np.concatenate([topo.triangles[topo.sizes[topo.triangle_face] != 4], *turned])


def _lines(character: Character, of: np.ndarray) -> np.ndarray:
    """(k, 3): each piece of a drawn line from both its ends, with no third corner."""
    if "line_starts" not in character.arrays:
        return np.zeros((0, 3), np.int64)
    starts, line = character.arrays["line_starts"], of[character.arrays["line_points"]]
    inner = np.ones(len(line), bool)
    inner[starts[1:] - 1] = False
    at = np.flatnonzero(inner)
    a, b = line[at], line[at + 1]
    pieces = np.stack([np.r_[a, b], np.r_[b, a], np.full(2 * len(at), -1)], 1)
    return np.asarray(pieces[pieces[:, 0] != pieces[:, 1]])


@compiled
def _walked(
    starts: np.ndarray, fans: np.ndarray, long: np.ndarray, sources: np.ndarray, first: np.ndarray, radius: float
) -> Any:
    """The points nearer than the radius, and how far they are."""
    count = len(starts) - 1
    best, done = np.full(count, np.inf), np.zeros(count, np.bool_)
    found = np.empty(count, np.int32)
    heap_d, heap_i, size, known = np.empty(1024), np.empty(1024, np.int32), 0, 0
    for s in range(len(sources)):
        if first[s] < min(radius, best[sources[s]]):
            best[sources[s]] = first[s]
            if size == len(heap_d):
                heap_d = np.concatenate((heap_d, np.empty(size)))
                heap_i = np.concatenate((heap_i, np.empty(size, np.int32)))
            heap_push(heap_d, heap_i, size, first[s], sources[s])
            size += 1
    while size:
        d, i = heap_pop(heap_d, heap_i, size)
        size -= 1
        if done[i]:
            continue
        done[i] = True
        found[known] = i
        known += 1
        for f in range(starts[i], starts[i + 1]):
            for k in range(2):
                j, other = fans[f, k], fans[f, 1 - k]
                if j < 0 or done[j]:
                    continue
                new = d + long[f, k]
                if other >= 0 and done[other]:
                    new = min(new, _over(d, best[other], long[f, 1 - k], long[f, k], long[f, 2]))
                if new < radius and new < best[j]:
                    best[j] = new
                    if size == len(heap_d):
                        heap_d = np.concatenate((heap_d, np.empty(size)))
                        heap_i = np.concatenate((heap_i, np.empty(size, np.int32)))
                    heap_push(heap_d, heap_i, size, new, j)
                    size += 1
    at = found[:known].copy()
    return at, best[at]


@compiled
def _over(da: float, db: float, ab: float, ac: float, bc: float) -> Any:
    """How far the third corner is over the edge of two that are da and db from the start; infinite where the straight way
    from there doesn't cross the edge."""
    if ab <= 0.0:
        return np.inf
    cx, sx = (ac * ac - bc * bc + ab * ab) / (2.0 * ab), (da * da - db * db + ab * ab) / (2.0 * ab)
    cy, sy = np.sqrt(max(ac * ac - cx * cx, 0.0)), np.sqrt(max(da * da - sx * sx, 0.0))
    if cy + sy <= 0.0:
        return np.inf
    x = sx + (cx - sx) * sy / (cy + sy)
    if x < 0.0 or x > ab:
        return np.inf
    return np.sqrt((cx - sx) ** 2 + (cy + sy) ** 2)
