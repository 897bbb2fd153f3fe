"""Rotations as quaternions (w, x, y, z) and matrices acting on columns.  Checked against scipy's Rotation."""

from __future__ import annotations

import numpy as np

from ..tolerances import TINY


def unit(v: np.ndarray) -> np.ndarray:
    """Vectors (…, 3) at length one; a zero vector stays zero."""
    v = np.asarray(v, float)
    return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), TINY)


def matrix_from_quaternion(q: np.ndarray | tuple) -> np.ndarray:
    """(…, 4) → (…, 3, 3).  The quaternion need not be unit."""
    given = np.asarray(q, float)
    unit_q = given / np.linalg.norm(given, axis=-1, keepdims=True)
    w, x, y, z = np.moveaxis(unit_q, -1, 0)
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)],
        [2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)],
        [2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)],
    ]
    return np.stack([np.stack(r, -1) for r in rows], -2)


def quaternion_from_matrix(m: np.ndarray) -> np.ndarray:
    """(…, 3, 3) rotation → (…, 4), w ≥ 0.

    Uses the largest of the four squared components, so that no angle is a special case
    (Shepperd 1978, Quaternion from rotation matrix).
    """
    m = np.asarray(m, float)
    flat = m.reshape(-1, 3, 3)
    d = flat[:, [0, 1, 2], [0, 1, 2]]
    t = d.sum(1)
    squares = np.stack([1 + t, 1 + 2 * d[:, 0] - t, 1 + 2 * d[:, 1] - t, 1 + 2 * d[:, 2] - t], 1)
    best = squares.argmax(1)
    a = np.stack([flat[:, 2, 1] - flat[:, 1, 2], flat[:, 0, 2] - flat[:, 2, 0], flat[:, 1, 0] - flat[:, 0, 1]], 1)
    s01, s02, s12 = (flat[:, i, j] + flat[:, j, i] for i, j in ((0, 1), (0, 2), (1, 2)))
    candidates = np.stack(
        [
            np.stack([squares[:, 0], a[:, 0], a[:, 1], a[:, 2]], 1),
            np.stack([a[:, 0], squares[:, 1], s01, s02], 1),
            np.stack([a[:, 1], s01, squares[:, 2], s12], 1),
            np.stack([a[:, 2], s02, s12, squares[:, 3]], 1),
        ],
        1,
    )
    q = candidates[np.arange(len(flat)), best]
    q = q / np.linalg.norm(q, axis=1, keepdims=True)
    q = np.where(q[:, :1] < 0, -q, q)
    return q.reshape(m.shape[:-2] + (4,))


def matrix_from_rotation_vector(v: np.ndarray) -> np.ndarray:
    """Axis times angle (3,) in radians → (3, 3), by Rodrigues' formula."""
    v = np.asarray(v, float)
    angle = float(np.linalg.norm(v))
    if angle < TINY:
        return np.eye(3)
    x, y, z = v / angle
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * (k @ k)


def frame_from_axes(along: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Rotation whose x axis is `along` and whose z axis is as near to `second` as it can be: (3, 3)."""
    x = unit(along)
    z = second - x * np.dot(x, second)
    if np.linalg.norm(z) < 1e-6:
        z = np.eye(3)[np.abs(x).argmin()]
        z = z - x * np.dot(x, z)
    z = unit(z)
    return np.stack([x, np.cross(z, x), z], 1)
