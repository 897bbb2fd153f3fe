"""Rotations as quaternions (w, x, y, z) and matrices acting on columns.  Checked against scipy's Rotation."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ..tolerances import TINY


def vector(v: np.ndarray) -> tuple[float, float, float]:
    """(3,) as a character's fields have it."""
    return (float(v[0]), float(v[1]), float(v[2]))


def unit(v: np.ndarray) -> np.ndarray:
    """Vectors (…, 3) at length one; a zero vector stays zero."""
    v = np.asarray(v, float)
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), TINY))


def matrix_from_quaternion(q: np.ndarray | tuple[Any, ...]) -> np.ndarray:
    """(…, 4) → (…, 3, 3).  The quaternion need not be unit."""
    if isinstance(q, tuple):  # one alone: plain floats are ten times faster than arrays of four
        w, x, y, z = q
        s = 2.0 / (w * w + x * x + y * y + z * z)
        return np.array(
            [
                [1 - s * (y * y + z * z), s * (x * y - w * z), s * (x * z + w * y)],
                [s * (x * y + w * z), 1 - s * (x * x + z * z), s * (y * z - w * x)],
                [s * (x * z - w * y), s * (y * z + w * x), 1 - s * (x * x + y * y)],
            ]
        )
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
    if m.shape == (3, 3):
        return _one_quaternion(m.tolist())
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
    return np.asarray(q.reshape(m.shape[:-2] + (4,)))


def _one_quaternion(m: list[list[float]]) -> np.ndarray:
    """`quaternion_from_matrix` of one matrix, in plain floats."""
    (a, b, c), (d, e, f), (g, h, i) = m
    squares = (1 + a + e + i, 1 + a - e - i, 1 - a + e - i, 1 - a - e + i)
    best = squares.index(max(squares))
    q = (
        (squares[0], h - f, c - g, d - b),
        (h - f, squares[1], b + d, c + g),
        (c - g, b + d, squares[2], f + h),
        (d - b, c + g, f + h, squares[3]),
    )[best]
    n = math.sqrt(sum(v * v for v in q)) * (-1.0 if q[0] < 0 else 1.0)
    return np.array([v / n for v in q])


def cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """The cross product of two single vectors; numpy's own is made for many."""
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def matrix_from_rotation_vector(v: np.ndarray) -> np.ndarray:
    """Axis times angle (3,) in radians → (3, 3), by Rodrigues' formula."""
    v = np.asarray(v, float)
    angle = float(np.linalg.norm(v))
    if angle < TINY:
        return np.eye(3)
    x, y, z = v / angle
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.asarray(np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * (k @ k))


def turn_between(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """The smallest rotation (3, 3) that takes unit a (3,) to unit b (3,); of opposite ones, any half turn."""
    axis = np.cross(a, b)
    n = float(np.linalg.norm(axis))
    angle = float(np.arctan2(n, a @ b))
    if n < 1e-9:
        axis = np.cross(a, np.eye(3)[np.abs(a).argmin()])
    return matrix_from_rotation_vector(unit(axis) * angle)


def frame_from_axes(along: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Rotation whose x axis is `along` and whose z axis is as near to `second` as it can be: (3, 3)."""
    x = along / max(math.sqrt(float(along @ along)), TINY)
    z = second - x * np.dot(x, second)
    if float(z @ z) < 1e-12:
        z = np.eye(3)[np.abs(x).argmin()]
        z = z - x * np.dot(x, z)
    z = z / math.sqrt(float(z @ z))
    return np.stack([x, cross(z, x), z], 1)
