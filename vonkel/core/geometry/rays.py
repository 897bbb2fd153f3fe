"""Where a ray meets a mesh."""

from __future__ import annotations

import numpy as np

from ..compiled import compiled


@compiled
def _hits(
    points: np.ndarray,
    triangles: np.ndarray,
    origin: np.ndarray,
    way: np.ndarray,
    out_t: np.ndarray,
    out_triangle: np.ndarray,
) -> int:
    """Distances along a ray at which it meets triangles, from either side (Möller & Trumbore 1997).  Returns the count."""
    n = 0
    for t in range(len(triangles)):
        a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
        e1x, e1y, e1z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        e2x, e2y, e2z = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        px, py, pz = way[1] * e2z - way[2] * e2y, way[2] * e2x - way[0] * e2z, way[0] * e2y - way[1] * e2x
        det = e1x * px + e1y * py + e1z * pz
        if det == 0.0:
            continue
        sx, sy, sz = origin[0] - a[0], origin[1] - a[1], origin[2] - a[2]
        u = (sx * px + sy * py + sz * pz) / det
        if u < 0.0 or u > 1.0:
            continue
        qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
        v = (way[0] * qx + way[1] * qy + way[2] * qz) / det
        if v < 0.0 or u + v > 1.0:
            continue
        d = (e2x * qx + e2y * qy + e2z * qz) / det
        if d > 0.0 and n < len(out_t):
            out_t[n] = d
            out_triangle[n] = t
            n += 1
    return n


def ray_hits(
    points: np.ndarray, triangles: np.ndarray, origin: np.ndarray, way: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Distances (h,) metres, rising, and triangles (h,) that a ray from origin (3,) along unit `way` (3,) meets."""
    t, which = np.empty(256), np.empty(256, np.int64)
    n = _hits(np.ascontiguousarray(points), triangles, np.asarray(origin, float), np.asarray(way, float), t, which)
    order = np.argsort(t[:n])
    return t[:n][order], which[:n][order]


@compiled
def _turned_round(points: np.ndarray, triangles: np.ndarray, places: np.ndarray, out: np.ndarray) -> None:
    for k in range(len(places)):
        x, y, z = places[k]
        total = 0.0
        for t in range(len(triangles)):
            a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
            ax, ay, az = a[0] - x, a[1] - y, a[2] - z
            bx, by, bz = b[0] - x, b[1] - y, b[2] - z
            cx, cy, cz = c[0] - x, c[1] - y, c[2] - z
            la, lb, lc = (
                np.sqrt(ax * ax + ay * ay + az * az),
                np.sqrt(bx * bx + by * by + bz * bz),
                np.sqrt(cx * cx + cy * cy + cz * cz),
            )
            det = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
            below = (
                la * lb * lc
                + (ax * bx + ay * by + az * bz) * lc
                + (bx * cx + by * cy + bz * cz) * la
                + (cx * ax + cy * ay + cz * az) * lb
            )
            total += np.arctan2(det, below)
        out[k] = total / (2.0 * np.pi)


def winding_numbers(points: np.ndarray, triangles: np.ndarray, places: np.ndarray) -> np.ndarray:
    """(k,) how often a mesh goes round places (k, 3): one inside, nothing outside, in between near its open borders.

    Jacobson et al. 2013, Robust inside-outside segmentation using generalized winding numbers; solid angles as Van Oosterom &
    Strackee 1983.
    """
    out = np.empty(len(places))
    _turned_round(np.ascontiguousarray(points, float), triangles, np.ascontiguousarray(places, float), out)
    return out


@compiled
def _first(
    points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, ways: np.ndarray, least: float, most: float,
    out: np.ndarray, which: np.ndarray,
) -> None:  # fmt: skip
    for t in range(len(triangles)):
        a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
        e1x, e1y, e1z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        e2x, e2y, e2z = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        for r in range(len(origins)):
            wx, wy, wz = ways[r, 0], ways[r, 1], ways[r, 2]
            px, py, pz = wy * e2z - wz * e2y, wz * e2x - wx * e2z, wx * e2y - wy * e2x
            det = e1x * px + e1y * py + e1z * pz
            if det == 0.0:
                continue
            sx, sy, sz = origins[r, 0] - a[0], origins[r, 1] - a[1], origins[r, 2] - a[2]
            u = (sx * px + sy * py + sz * pz) / det
            if u < -1e-9 or u > 1 + 1e-9:
                continue
            qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
            v = (wx * qx + wy * qy + wz * qz) / det
            if v < -1e-9 or u + v > 1 + 1e-9:
                continue
            d = (e2x * qx + e2y * qy + e2z * qz) / det
            if least < d < most and d < out[r]:
                out[r] = d
                which[r] = t


def first_hits(
    points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, ways: np.ndarray, least: float, most: float = np.inf
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """How far each of many rays goes before it meets a mesh, from either side: (r,) metres, inf where nothing is met between
    `least` and `most`; and which triangle (r,), −1 for none.  origins and unit ways are (r, 3)."""
    out, which = np.full(len(origins), np.inf), np.full(len(origins), -1)
    _first(
        np.ascontiguousarray(points, float), np.ascontiguousarray(triangles), np.ascontiguousarray(origins, float),
        np.ascontiguousarray(ways, float), least, most, out, which,
    )  # fmt: skip
    return out, which
