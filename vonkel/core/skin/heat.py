"""Binding by heat: each joint warms what of the skin it sees, and warmth spreads along the skin.

Baran & Popović 2007, “Automatic rigging and animation of 3D characters”, section 4: −Δw + H w = H p, with p a point's nearest
bone and H = 1 / d² where that bone is seen, else 0.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix, diags
from scipy.sparse.linalg import splu

from ..geometry.laplacian import cotangent_laplacian
from ..geometry.measures import distance_to_segments
from ..geometry.topology import topology_of_triangles
from ..geometry.voxels import solid_from_mesh
from .bones import Bone

CELLS = 64  # along the longest side, for seeing
STEPS = 14  # places looked at between a point and a bone
ALIKE = 1.02  # bones hardly farther than the nearest warm a point as well
STRONG = 1.0  # c in H = c / d²
SEES = 0.7  # of the way from the bone that must lie inside: the point itself lies on the skin


def heat_weights(points: np.ndarray, triangles: np.ndarray, bones: list[Bone]) -> csr_matrix:
    """(n, bones): rows sum to one.  points (n, 3), triangles (t, 3)."""
    n = len(points)
    away = np.stack([distance_to_segments(points, b.segments) for b in bones], 1)
    nearest = np.asarray(away.min(1))
    h = float(np.ptp(points, axis=0).max()) / CELLS
    solid = solid_from_mesh(points, triangles, h)
    seen = np.zeros((n, len(bones)), bool)
    for k, bone in enumerate(bones):
        near = np.flatnonzero(away[:, k] <= ALIKE * nearest)
        foot = _foot(points[near], bone)
        inside = np.ones(len(near), bool)
        for t in np.linspace(0.0, SEES, STEPS):
            inside &= solid.contains(foot + t * (points[near] - foot))
        seen[near, k] = inside
    warm = np.asarray(seen.any(1))
    strength = np.where(warm, STRONG / np.maximum(nearest, 1e-4 * h) ** 2, 0.0)
    strength += 1e-6 * STRONG / max(float(np.square(nearest).mean()), 1e-18)  # pieces that see nothing take the nearest
    share = np.where(warm[:, None], seen, np.less_equal(away, nearest[:, None] * ALIKE)).astype(float)
    share /= share.sum(1, keepdims=True)
    stiffness, mass = _laplacian(points, triangles, n)
    system = (stiffness + diags(mass * strength)).tocsc()
    solved = splu(system, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(
        (mass * strength)[:, None] * share
    )
    held = np.clip(solved, 0.0, None)
    held[held < 1e-4] = 0.0
    total = held.sum(1)
    lost = total <= 0
    held[lost] = share[lost]
    return csr_matrix(held / held.sum(1, keepdims=True))


def _foot(points: np.ndarray, bone: Bone) -> np.ndarray:
    """(n, 3): the place on a bone nearest to each point."""
    best, out = np.full(len(points), np.inf), np.zeros_like(points)
    for a, b in bone.segments:
        way = np.asarray(b) - np.asarray(a)
        t = np.clip((points - a) @ way / max(float(way @ way), 1e-18), 0.0, 1.0)
        foot = np.asarray(a) + t[:, None] * way
        away = np.linalg.norm(points - foot, axis=1)
        out[away < best] = foot[away < best]
        best = np.minimum(best, away)
    return out


def _laplacian(points: np.ndarray, triangles: np.ndarray, n: int) -> tuple[csr_matrix, np.ndarray]:
    """Stiffness (n, n) with weights kept above zero, and each point's share of area (n,), also of those on no face."""
    stiffness, mass = cotangent_laplacian(points, triangles, 0.5e-3, 0.5e3)
    alone = np.diff(topology_of_triangles(triangles, n).neighbours[0]) == 0
    return stiffness, np.where(alone | (mass <= 0), max(float(mass.mean()), 1e-18), mass)
