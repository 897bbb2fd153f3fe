"""Sedge, the river seal: a long barrel, fore flippers, hind flippers, whiskered muzzle.  Metres."""

import numpy as np
from creatures import INSIDE, Eye
from faces import Mouth, teeth, tongue
from fields import blend, cut, ellipsoid, magnify, mirrored, mix, step, tube, union

NAME, FILE, CELL, WANTED = "Sedge", "seal", 0.0056, 950
BOX = (0, -0.03, -0.92), (0.56, 0.62, 0.66)

trunk = tube(
    [(0, 0.36, 0.44), (0, 0.30, 0.28), (0, 0.215, 0.06), (0, 0.175, -0.20), (0, 0.13, -0.46), (0, 0.095, -0.64)],
    [0.105, 0.148, 0.20, 0.172, 0.110, 0.068], 6,
)  # fmt: skip
fore = union(
    0.03,
    tube([(0.12, 0.19, 0.15), (0.23, 0.12, 0.12), (0.33, 0.060, 0.10), (0.45, 0.036, 0.05)], [0.078, 0.066, 0.062, 0.040], 6,
         flat=((0.35, 0.9, 0), 0.42)),
    tube([(0.30, 0.066, 0.08), (0.40, 0.036, 0.0), (0.46, 0.030, -0.03)], [0.050, 0.046, 0.030], 4, flat=((0.3, 0.9, 0), 0.42)),
)  # fmt: skip
hind = union(
    0.02,
    tube(
        [(0.045, 0.095, -0.58), (0.075, 0.075, -0.70), (0.13, 0.058, -0.83)],
        [0.058, 0.056, 0.048],
        5,
        flat=((0.2, 0.95, 0), 0.45),
    ),
    tube(
        [(0.05, 0.088, -0.62), (0.065, 0.066, -0.74), (0.075, 0.056, -0.83)],
        [0.050, 0.048, 0.036],
        5,
        flat=((0.2, 0.95, 0), 0.45),
    ),
)
EYE = Eye((0.066, 0.452, 0.520), 0.034, (0.75, 0.25, 0.8))
skull = union(
    0.06,
    ellipsoid((0, 0.435, 0.475), (0.112, 0.098, 0.105)),
    ellipsoid((0, 0.405, 0.555), (0.066, 0.050, 0.055)),
    ellipsoid((0.034, 0.398, 0.582), (0.040, 0.032, 0.036)),
    ellipsoid((0, 0.366, 0.565), (0.040, 0.022, 0.036)),
)
nose = ellipsoid((0, 0.425, 0.608), (0.024, 0.017, 0.016))
nostril = tube([(0.010, 0.426, 0.632), (0.009, 0.426, 0.612)], [0.0055, 0.003], 1)


def _body(p):
    d = blend(blend(trunk(p), fore(p), 0.05), hind(p), 0.04)
    q_at = p[:, 2] > 0.25
    q = p[q_at]
    h = EYE.lidded(skull(q), q)
    h = cut(blend(h, nose(q), 0.01), nostril(q), 0.005)
    d[q_at] = blend(d[q_at], h, 0.06)
    return d


body = mirrored(_body, 0.004)


MOUTH = Mouth(
    line=((0, 0.378, 0.600), (0.018, 0.380, 0.604), (0.036, 0.386, 0.598), (0.050, 0.394, 0.580), (0.058, 0.400, 0.560)),
    bag=(
        ((0, 0.382, 0.580), 0.034, 0.014, 0.010), ((0, 0.386, 0.555), 0.042, 0.018, 0.012), ((0, 0.392, 0.525), 0.042, 0.020, 0.014),
        ((0, 0.398, 0.495), 0.034, 0.018, 0.014), ((0, 0.400, 0.470), 0.016, 0.008, 0.007),
    ),
    lip=0.012,
)  # fmt: skip


def warp(p):
    p = magnify(p, EYE.centre, 0.045, 0.09, 1.7)
    p = magnify(p, (0, 0.41, 0.58), 0.09, 0.2, 1.5)
    p = magnify(p, (0.38, 0.05, 0.06), 0.12, 0.24, 1.35)
    return magnify(p, (0.08, 0.065, -0.76), 0.10, 0.2, 1.35)


def extras():
    return EYE.balls(18, 12) | teeth(body, MOUTH) | {"tongue": tongue(MOUTH)}


def paint(name, p, n):
    if name in INSIDE:
        return np.tile(np.array(INSIDE[name], float), (len(p), 1))
    if name.startswith("eye"):
        return EYE.colours(p, (74, 50, 38), pupil=(0.80, 0.92))
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    c = np.tile((122.0, 132, 142), (len(p), 1))
    c = mix(c, (224, 214, 196), step(0.0, -0.7, n[:, 1]))
    for zz, xx, r in (
        (0.2, 0.06, 0.03),
        (0.10, 0.12, 0.036),
        (0.0, 0.05, 0.042),
        (-0.12, 0.11, 0.034),
        (-0.2, 0.03, 0.03),
        (-0.32, 0.08, 0.034),
        (-0.44, 0.04, 0.026),
    ):
        c = mix(c, (84, 92, 104), step(r, r * 0.7, np.hypot(z - zz, x - xx)) * step(0.3, 0.6, n[:, 1]))
    c = mix(c, (232, 220, 200), step(0.070, 0.050, np.linalg.norm(np.c_[x * 0.8, y - 0.395, z - 0.59], axis=1)))
    c = mix(c, (52, 46, 50), step(0.029, 0.020, np.linalg.norm(np.c_[x, y - 0.427, z - 0.612], axis=1)))
    return mix(c, (92, 100, 112), np.maximum(step(0.30, 0.42, x), step(-0.70, -0.80, z)))
