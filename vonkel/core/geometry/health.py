"""First figures about a mesh: what would spoil a rig later."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character
from ..derived import derived
from ..tolerances import PAIR
from .topology import Topology, doubled_faces, face_areas, point_normals, topology_of


@dataclass(frozen=True)
class Health:
    """Figures of one part or the whole mesh.  Point lists say where."""

    points: int
    faces: int
    quads: int
    border_edges: int
    border_points: np.ndarray
    nonmanifold_edges: int
    nonmanifold_points: np.ndarray
    turned_edges: int  # used twice in the same direction: the two faces disagree about outside
    turned_points: np.ndarray
    flat_faces: int
    flat_points: np.ndarray
    doubled_faces: int
    doubled_points: np.ndarray
    islands: int
    loose_points: np.ndarray
    asymmetry: float  # metres: largest distance from a mirrored point to its nearest partner
    asymmetry_points: np.ndarray


def mirror_distance(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """For each point, the nearest point to its mirror image across x = 0: distances (n,) and indices (n,)."""
    d, i = cKDTree(points).query(points * [-1.0, 1.0, 1.0])
    return d, i


TWINS = 4  # points looked at where several lie in one place


@derived("points", "face_starts", "face_corners", most=6)
def mirror_partners(character: Character) -> tuple[np.ndarray, np.ndarray]:
    """`mirror_distance` of a character's points, kept for the last few meshes.

    Of several that lie in one place, as lips that are shut do, it is the one that faces as the mirrored point does.
    """
    points = character.points
    if len(points) < TWINS:
        return mirror_distance(points)
    near, at = cKDTree(points).query(points * [-1.0, 1.0, 1.0], TWINS)
    normals = point_normals(points, topology_of(character).triangles)
    together = near <= near[:, :1] + PAIR * max(float(np.ptp(points, axis=0).max()), 1e-12)
    several = np.flatnonzero(together.sum(1) > 1)
    faces = (normals[at[several]] * (normals[several] * [-1.0, 1.0, 1.0])[:, None]).sum(2)
    best = np.argmax(np.where(together[several], faces + 1e-3 * (at[several] == several[:, None]), -np.inf), axis=1)
    pick = np.zeros(len(points), np.int64)
    pick[several] = best
    rows = np.arange(len(points))
    return near[rows, pick], at[rows, pick]


def health(character: Character) -> Health:
    """Figures for all visible parts together."""
    mirrors = mirror_partners(character) if len(character.points) else None
    return mesh_health(character.points, topology_of(character), character.height, mirrors)


def mesh_health(
    points: np.ndarray, topo: Topology, height: float, mirrors: tuple[np.ndarray, np.ndarray] | None = None
) -> Health:
    n = topo.count
    edges, uses = topo.edges, topo.edge_faces
    a, b = topo.corners, topo.corner_next
    directed = a * n + b
    code, counts = np.unique(directed, return_counts=True)
    twice = code[counts > 1]
    doubled = doubled_faces(topo)
    areas = face_areas(points, topo)
    flat = np.flatnonzero(areas < (height * 1e-6) ** 2)
    used = np.zeros(n, bool)
    used[topo.corners] = True
    distance, _ = mirrors or (mirror_distance(points) if n else (np.zeros(0), np.zeros(0)))
    border, many = uses == 1, uses > 2

    def points_of(faces: np.ndarray) -> np.ndarray:
        return np.unique(topo.corners[np.isin(topo.corner_face, faces)])

    return Health(
        points=n,
        faces=len(topo.sizes),
        quads=int((topo.sizes == 4).sum()),
        border_edges=int(border.sum()),
        border_points=np.unique(edges[border]),
        nonmanifold_edges=int(many.sum()),
        nonmanifold_points=np.unique(edges[many]),
        turned_edges=len(twice),
        turned_points=np.unique(np.concatenate([twice // n, twice % n])) if n else np.zeros(0, int),
        flat_faces=len(flat),
        flat_points=points_of(flat),
        doubled_faces=len(doubled),
        doubled_points=points_of(doubled),
        islands=len(np.unique(topo.islands[used])) if used.any() else 0,
        loose_points=np.flatnonzero(~used),
        asymmetry=float(distance.max()) if n else 0.0,
        asymmetry_points=np.flatnonzero(distance > PAIR * height),
    )
