"""The compiled loops of deforming.  Each has its plain numpy twin in `reference`, which is its check.

All take float32 points (n, 3), uint16 joints (n, k) and float32 weights (n, k), and write float32 points (n, 3).  Rows of
weights sum to one, the heaviest first: a character whose weights don't is unsound (`core/soundness.py`).  Serial on purpose: below 50 k points threads cost more than they bring.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..compiled import compiled, compiled_loosely


@compiled_loosely
def linear4(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, m: np.ndarray, out: np.ndarray) -> None:
    """Linear blend, four influences, unrolled; m (j, 12) float32."""
    for i in range(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        a, b, c, d = joints[i, 0], joints[i, 1], joints[i, 2], joints[i, 3]
        wa, wb, wc, wd = weights[i, 0], weights[i, 1], weights[i, 2], weights[i, 3]
        if wb == np.float32(0.0):  # much of a body is held by one joint
            out[i, 0] = m[a, 0] * x + m[a, 1] * y + m[a, 2] * z + m[a, 3]
            out[i, 1] = m[a, 4] * x + m[a, 5] * y + m[a, 6] * z + m[a, 7]
            out[i, 2] = m[a, 8] * x + m[a, 9] * y + m[a, 10] * z + m[a, 11]
            continue
        for r in range(3):
            q = 4 * r
            out[i, r] = (
                (wa * m[a, q] + wb * m[b, q] + wc * m[c, q] + wd * m[d, q]) * x
                + (wa * m[a, q + 1] + wb * m[b, q + 1] + wc * m[c, q + 1] + wd * m[d, q + 1]) * y
                + (wa * m[a, q + 2] + wb * m[b, q + 2] + wc * m[c, q + 2] + wd * m[d, q + 2]) * z
                + (wa * m[a, q + 3] + wb * m[b, q + 3] + wc * m[c, q + 3] + wd * m[d, q + 3])
            )


@compiled_loosely
def linear_any(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, m: np.ndarray, out: np.ndarray) -> None:
    """Linear blend, any number of influences."""
    k = joints.shape[1]
    for i in range(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        u = v = t = np.float32(0.0)
        for s in range(k):
            w = weights[i, s]
            if w == np.float32(0.0):
                continue
            j = joints[i, s]
            u += w * (m[j, 0] * x + m[j, 1] * y + m[j, 2] * z + m[j, 3])
            v += w * (m[j, 4] * x + m[j, 5] * y + m[j, 6] * z + m[j, 7])
            t += w * (m[j, 8] * x + m[j, 9] * y + m[j, 10] * z + m[j, 11])
        out[i, 0], out[i, 1], out[i, 2] = u, v, t


@compiled_loosely
def moved_by_dual(a: Any, b: Any, c: Any, d: Any, e: Any, f: Any, g: Any, h: Any, x: Any, y: Any, z: Any) -> Any:
    """A point moved by a blend of dual quaternions, not of unit length: rotation (a, b, c, d) as (w, x, y, z), dual part (e, f, g, h)."""
    # v' = v + 2 r × (r × v + w v) / |q|² + 2 (w d − e r + r × d) / |q|²
    s2 = np.float32(2.0) / (a * a + b * b + c * c + d * d)
    tx = c * z - d * y + a * x
    ty = d * x - b * z + a * y
    tz = b * y - c * x + a * z
    return (
        x + s2 * (c * tz - d * ty + a * f - e * b + c * h - d * g),
        y + s2 * (d * tx - b * tz + a * g - e * c + d * f - b * h),
        z + s2 * (b * ty - c * tx + a * h - e * d + b * g - c * f),
    )


@compiled_loosely
def dual(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, q: np.ndarray, out: np.ndarray) -> None:
    """Dual-quaternion blend (Kavan et al. 2008), any number of influences.

    q (j, 8) float32: rotation (w, x, y, z), then the dual part.  Signs are taken against the first influence,
    which is the heaviest, so that the blend goes the shorter way.
    """
    k = joints.shape[1]
    for i in range(len(points)):
        p = joints[i, 0]
        w0 = weights[i, 0]
        p0, p1, p2, p3 = q[p, 0], q[p, 1], q[p, 2], q[p, 3]
        a, b, c, d = w0 * p0, w0 * p1, w0 * p2, w0 * p3
        e, f, g, h = w0 * q[p, 4], w0 * q[p, 5], w0 * q[p, 6], w0 * q[p, 7]
        for s in range(1, k):
            w = weights[i, s]
            if w == np.float32(0.0):
                continue
            j = joints[i, s]
            if p0 * q[j, 0] + p1 * q[j, 1] + p2 * q[j, 2] + p3 * q[j, 3] < np.float32(0.0):
                w = -w
            a += w * q[j, 0]
            b += w * q[j, 1]
            c += w * q[j, 2]
            d += w * q[j, 3]
            e += w * q[j, 4]
            f += w * q[j, 5]
            g += w * q[j, 6]
            h += w * q[j, 7]
        out[i, 0], out[i, 1], out[i, 2] = moved_by_dual(
            a, b, c, d, e, f, g, h, points[i, 0], points[i, 1], points[i, 2]
        )


@compiled_loosely
def moved(rest: np.ndarray, rows: np.ndarray, moves: np.ndarray, out: np.ndarray) -> None:
    """Rows (m,) of out (n, 3): as they are in rest (n, 3), and moved by moves (m, 3).  Indexing by an array takes tenfold."""
    for i in range(len(rows)):
        r = rows[i]
        for k in range(3):
            out[r, k] = rest[r, k] + moves[i, k]


@compiled_loosely
def put_at(rows: np.ndarray, values: np.ndarray, out: np.ndarray) -> None:
    """Rows (m,) of out (n, 3) become values (m, 3)."""
    for i in range(len(rows)):
        r = rows[i]
        for k in range(3):
            out[r, k] = values[i, k]


@compiled
def dual_quaternions(m: np.ndarray, out: np.ndarray) -> None:
    """Rigid matrices m (j, 3, 4) float64 → out (j, 8) float32: rotation (w, x, y, z), then ½ t q."""
    for j in range(len(m)):
        a, b, c = m[j, 0, 0], m[j, 1, 1], m[j, 2, 2]
        t = a + b + c
        if t > 0.0:
            s = 2.0 * np.sqrt(t + 1.0)
            w = 0.25 * s
            x = (m[j, 2, 1] - m[j, 1, 2]) / s
            y = (m[j, 0, 2] - m[j, 2, 0]) / s
            z = (m[j, 1, 0] - m[j, 0, 1]) / s
        elif a >= b and a >= c:
            s = 2.0 * np.sqrt(1.0 + a - b - c)
            w = (m[j, 2, 1] - m[j, 1, 2]) / s
            x = 0.25 * s
            y = (m[j, 0, 1] + m[j, 1, 0]) / s
            z = (m[j, 0, 2] + m[j, 2, 0]) / s
        elif b >= c:
            s = 2.0 * np.sqrt(1.0 + b - a - c)
            w = (m[j, 0, 2] - m[j, 2, 0]) / s
            x = (m[j, 0, 1] + m[j, 1, 0]) / s
            y = 0.25 * s
            z = (m[j, 1, 2] + m[j, 2, 1]) / s
        else:
            s = 2.0 * np.sqrt(1.0 + c - a - b)
            w = (m[j, 1, 0] - m[j, 0, 1]) / s
            x = (m[j, 0, 2] + m[j, 2, 0]) / s
            y = (m[j, 1, 2] + m[j, 2, 1]) / s
            z = 0.25 * s
        p, q, r = 0.5 * m[j, 0, 3], 0.5 * m[j, 1, 3], 0.5 * m[j, 2, 3]
        out[j, 0], out[j, 1], out[j, 2], out[j, 3] = w, x, y, z
        out[j, 4] = -p * x - q * y - r * z
        out[j, 5] = p * w + q * z - r * y
        out[j, 6] = q * w + r * x - p * z
        out[j, 7] = r * w + p * y - q * x
