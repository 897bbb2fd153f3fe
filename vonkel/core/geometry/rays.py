"""Where a ray meets a mesh."""

from __future__ import annotations

import numpy as np

from ..compiled import compiled


def _corners(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(m, 3, 3) what loops read in one go; always new, so that a loop is compiled once and not again for arrays that are locked."""
    return np.asarray(np.asarray(points, float)[triangles])


@compiled
def _meets(corners: np.ndarray, origin: np.ndarray, way: np.ndarray, slack: float) -> float:
    """Distance along a ray at which it meets a triangle (3, 3) from either side, `slack` beyond its edges counting as well (Möller
    & Trumbore 1997); not a number where it doesn't."""
    a, b, c = corners[0], corners[1], corners[2]
    e1x, e1y, e1z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    e2x, e2y, e2z = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    px, py, pz = way[1] * e2z - way[2] * e2y, way[2] * e2x - way[0] * e2z, way[0] * e2y - way[1] * e2x
    det = e1x * px + e1y * py + e1z * pz
    if det == 0.0:
        return np.nan
    sx, sy, sz = origin[0] - a[0], origin[1] - a[1], origin[2] - a[2]
    u = (sx * px + sy * py + sz * pz) / det
    if u < -slack or u > 1.0 + slack:
        return np.nan
    qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
    v = (way[0] * qx + way[1] * qy + way[2] * qz) / det
    if v < -slack or u + v > 1.0 + slack:
        return np.nan
    distance: float = (e2x * qx + e2y * qy + e2z * qz) / det
    return distance


@compiled
def _hits(corners: np.ndarray, origin: np.ndarray, way: np.ndarray, out_t: np.ndarray, out_triangle: np.ndarray) -> int:
    """Distances along a ray at which it meets triangles, and which.  Returns the count."""
    n = 0
    for t in range(len(corners)):
        d = _meets(corners[t], origin, way, 0.0)
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
    n = _hits(_corners(points, triangles), np.asarray(origin, float), np.asarray(way, float), t, which)
    order = np.argsort(t[:n])
    return t[:n][order], which[:n][order]


@compiled
def _turned_round(corners: np.ndarray, places: np.ndarray, out: np.ndarray) -> None:
    for k in range(len(places)):
        x, y, z = places[k]
        total = 0.0
        for t in range(len(corners)):
            a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
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
    _turned_round(_corners(points, triangles), np.array(places, float), out)
    return out


LEAF = 4  # triangles to a leaf of the tree
SLACK = 1e-9  # of a triangle's sides: no ray slips through between two


def _boxes(corners: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A tree of boxes over triangles (m, 3, 3): order (m,) of these, neighbours in space being neighbours in it; least and most
    corners (2 k, 3) of the boxes, those in node i being 2 i and 2 i + 1, the leaves k + j of LEAF triangles each, k a power of two.

    The order goes by bits of x, y and z in turn (Morton 1966).
    """
    a, b, c = (corners[:, k] for k in range(3))
    low, high = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)
    start, wide = low.min(0), float((high.max(0) - low.min(0)).max())
    at = ((0.5 * (low + high) - start) / max(wide, 1e-300) * 1023).astype(np.int64)
    spread = np.zeros(1024, np.int64)  # the bits of a number, two empty ones after each
    for bit in range(10):
        spread |= ((np.arange(1024) >> bit) & 1) << 3 * bit
    order = np.argsort(spread[at] @ np.array([1, 2, 4]), kind="stable")
    k = 1 << max(0, int(np.ceil(np.log2(max(len(order) / LEAF, 1)))))
    least, most = np.full((2 * k, 3), np.inf), np.full((2 * k, 3), -np.inf)
    starts = np.arange(0, len(order), LEAF)
    slack = 1e-8 * wide
    least[k : k + len(starts)] = np.minimum.reduceat(low[order], starts) - slack
    most[k : k + len(starts)] = np.maximum.reduceat(high[order], starts) + slack
    while k > 1:
        k //= 2
        least[k : 2 * k] = np.minimum(least[2 * k : 4 * k : 2], least[2 * k + 1 : 4 * k : 2])
        most[k : 2 * k] = np.maximum(most[2 * k : 4 * k : 2], most[2 * k + 1 : 4 * k : 2])
    return order, least, most


@compiled
def _enters(low: np.ndarray, high: np.ndarray, origin: np.ndarray, way: np.ndarray, least: float, most: float) -> float:
    """How far along a ray it comes into a box, not less than `least`; inf where it doesn't before `most`."""
    for axis in range(3):
        if low[axis] > high[axis]:
            return np.inf
        if way[axis] == 0.0:
            if origin[axis] < low[axis] or origin[axis] > high[axis]:
                return np.inf
            continue
        a, b = (low[axis] - origin[axis]) / way[axis], (high[axis] - origin[axis]) / way[axis]
        least, most = max(least, min(a, b)), min(most, max(a, b))
    return least if least <= most else np.inf


@compiled
def _first(
    corners: np.ndarray, order: np.ndarray, lows: np.ndarray, highs: np.ndarray, origins: np.ndarray, ways: np.ndarray,
    least: float, most: float, out: np.ndarray, which: np.ndarray,
) -> None:  # fmt: skip
    leaves = len(lows) // 2
    waiting, near = np.empty(64, np.int64), np.empty(64)
    for r in range(len(origins)):
        waiting[0], near[0] = 1, _enters(lows[1], highs[1], origins[r], ways[r], least, most)
        n = 1 if near[0] < np.inf else 0
        while n:
            n -= 1
            node = waiting[n]
            if near[n] > out[r]:
                continue
            if node < leaves:
                one = _enters(lows[2 * node], highs[2 * node], origins[r], ways[r], least, min(most, out[r]))
                other = _enters(lows[2 * node + 1], highs[2 * node + 1], origins[r], ways[r], least, min(most, out[r]))
                nearer = 0 if one <= other else 1
                for child, enters in ((1 - nearer, max(one, other)), (nearer, min(one, other))):
                    if enters < np.inf:
                        waiting[n], near[n] = 2 * node + child, enters
                        n += 1
                continue
            start = (node - leaves) * LEAF
            for k in range(start, min(start + LEAF, len(order))):
                t = order[k]
                d = _meets(corners[t], origins[r], ways[r], SLACK)
                if least < d < most and (d < out[r] or (d == out[r] and t < which[r])):
                    out[r] = d
                    which[r] = t


def first_hits(
    points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, ways: np.ndarray, least: float, most: float = np.inf
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """How far each of many rays goes before it meets a mesh, from either side: (r,) metres, inf where nothing is met between
    `least` and `most`; and which triangle (r,), −1 for none.  origins and unit ways are (r, 3)."""
    out, which = np.full(len(origins), np.inf), np.full(len(origins), -1)
    if len(triangles) and len(origins):
        corners = _corners(points, triangles)
        _first(corners, *_boxes(corners), np.array(origins, float), np.array(ways, float), least, most, out, which)
    return out, which
