"""Plain numpy twins of the compiled loops: the check, and the fallback where compiling isn't possible."""

from __future__ import annotations

import numpy as np

from ..geometry.rotations import quaternion_from_matrix


def linear(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, matrices: np.ndarray) -> np.ndarray:
    """Linear blend skinning: points (n, 3), joints and weights (n, k), matrices (j, 3, 4) → (n, 3)."""
    blended = np.einsum("nk,nkrc->nrc", weights.astype(float), matrices[joints])
    return np.einsum("nrc,nc->nr", blended[:, :, :3], points) + blended[:, :, 3]


def dual_quaternions(matrices: np.ndarray) -> np.ndarray:
    """Rigid (j, 3, 4) → (j, 8): unit rotation quaternion and dual part ½ t q (Kavan et al. 2008, section 3.2)."""
    q = quaternion_from_matrix(matrices[:, :, :3])
    w, x, y, z = q.T
    tx, ty, tz = matrices[:, :, 3].T
    d = 0.5 * np.stack(
        [-tx * x - ty * y - tz * z, tx * w + ty * z - tz * y, ty * w + tz * x - tx * z, tz * w + tx * y - ty * x], 1
    )
    return np.concatenate([q, d], 1)


def dual(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, matrices: np.ndarray) -> np.ndarray:
    """Dual-quaternion skinning; the signs are taken against each point's first influence."""
    q = dual_quaternions(matrices)[joints]  # (n, k, 8)
    sign = np.where((q[:, :1, :4] * q[:, :, :4]).sum(-1, keepdims=True) < 0, -1.0, 1.0)
    b = (weights[:, :, None] * sign * q).sum(1)
    b = b / np.linalg.norm(b[:, :4], axis=1, keepdims=True)
    w, r, e, d = b[:, :1], b[:, 1:4], b[:, 4:5], b[:, 5:]
    turned = points + 2 * np.cross(r, np.cross(r, points) + w * points)
    return turned + 2 * (w * d - e * r + np.cross(r, d))
