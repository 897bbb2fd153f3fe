"""Signed distance fields: functions from points (n, 3), metres, to distances (n,), negative inside."""

import numpy as np


def vec(*values):
    return np.array(values, float)


def ellipsoid(centre, radii, frame=None):
    """`frame` (3, 3): columns are the ellipsoid's axes.  The distance is a good estimate near the surface."""
    centre, radii = vec(*centre), vec(*radii)
    frame = np.eye(3) if frame is None else frame

    def field(p):
        q = (p - centre) @ frame
        k0 = np.linalg.norm(q / radii, axis=1)
        k1 = np.linalg.norm(q / (radii * radii), axis=1)
        return np.where(k1 > 1e-9, k0 * (k0 - 1) / np.maximum(k1, 1e-9), -radii.min())

    return field


def sphere(centre, radius):
    centre = vec(*centre)
    return lambda p: np.linalg.norm(p - centre, axis=1) - radius


def catmull_rom(rows, per_span):
    """Rows (m, k) resampled along a Catmull–Rom spline."""
    ends = np.vstack([2 * rows[0] - rows[1], rows, 2 * rows[-1] - rows[-2]])
    out = []
    for a, b, c, d in zip(ends, ends[1:], ends[2:], ends[3:], strict=False):
        for t in np.linspace(0, 1, per_span, endpoint=False):
            out.append(
                0.5 * (2 * b + (c - a) * t + (2 * a - 5 * b + 4 * c - d) * t * t + (3 * b - a - 3 * c + d) * t**3)
            )
    return np.array([*out, rows[-1]])


def tube(points, radii, per_span=6, flat=None):
    """A smooth tube of round cones.  flat=(axis, factor) squashes its cross-section along an axis."""
    points, radii = np.array(points, float), np.array(radii, float)
    if per_span > 1 and len(points) > 2:
        rows = catmull_rom(np.c_[points, radii], per_span)
        points, radii = rows[:, :3], np.maximum(rows[:, 3], 1e-4)
    squash = np.eye(3)
    if flat is not None:
        axis = vec(*flat[0]) / np.linalg.norm(flat[0])
        squash = np.eye(3) + (1 / flat[1] - 1) * np.outer(axis, axis)
    line = points @ squash
    low, high = line.min(0) - radii.max(), line.max(0) + radii.max()

    def field(p):
        p = p @ squash
        away = np.linalg.norm(np.maximum(0, np.maximum(low - p, p - high)), axis=1)
        d, near = away + 0.02, away < 0.08  # far from its box only the box is looked at
        q = p[near]
        best = np.full(len(q), 9.0)
        for a, b, ra, rb in zip(line[:-1], line[1:], radii[:-1], radii[1:], strict=True):
            way = b - a
            t = np.clip((q - a) @ way / (way @ way), 0, 1)
            best = np.minimum(best, np.linalg.norm(q - a - t[:, None] * way, axis=1) - (ra + (rb - ra) * t))
        d[near] = best
        return d * (flat[1] if flat is not None else 1.0)

    return field


def blend(a, b, k):
    """Cubic smooth minimum of two distances over a width k, metres."""
    h = np.maximum(k - np.abs(a - b), 0) / k
    return np.minimum(a, b) - h * h * h * k / 6


def cut(a, b, k):
    """a less b, with a soft edge."""
    return -blend(-a, b, k)


def union(k, *fields):
    def field(p):
        d = fields[0](p)
        for f in fields[1:]:
            d = blend(d, f(p), k)
        return d

    return field


def step(a, b, x):
    """0 at a, 1 at b, smooth between and level beyond, either way round."""
    t = np.clip((x - a) / (b - a), 0, 1)
    return t * t * (3 - 2 * t)


def mix(base, colour, amount):
    """Colours (n, 3) drawn towards one colour by amounts (n,)."""
    return base + np.asarray(amount)[:, None] * (np.asarray(colour, float) - base)


def magnify(p, centre, a, b, slope):
    """Everything within a of the centre grows by `slope`; beyond b it is only moved outwards."""
    way = p - vec(*centre)
    r = np.linalg.norm(way, axis=1)
    grid = np.linspace(0, max(r.max(), b) + 0.01, 4000)
    rate = slope + (1 - slope) * step(a, b, grid)
    run = np.r_[0, np.cumsum((rate[1:] + rate[:-1]) / 2 * np.diff(grid))]
    return vec(*centre) + way * (np.interp(r, grid, run) / np.maximum(r, 1e-9))[:, None]


def mirrored(field, softness):
    """The field of x ≥ 0 for both sides, with a smooth |x|, so that surfaces cross x = 0 at a right angle."""

    def both(p):
        q = p.copy()
        x = np.sqrt(q[:, 0] ** 2 + softness**2) - softness * np.exp(-np.abs(q[:, 0]) / (3 * softness))
        q[:, 0] = np.abs(x)
        return field(q)

    return both


def frame(way, up=(0, 1, 0)):
    """Columns u, v, w with w along `way`."""
    w = vec(*way) / np.linalg.norm(way)
    up = (0, 0, 1) if abs(w[1]) > 0.95 else up
    u = np.cross(up, w)
    u /= np.linalg.norm(u)
    return np.stack([u, np.cross(w, u), w], 1)


def gradient(field, p, e=2e-4):
    return np.stack([(field(p + d) - field(p - d)) / (2 * e) for d in np.eye(3) * e], 1)
