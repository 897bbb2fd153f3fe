"""Wick, the lantern larva: twelve beads on a string, a lit tail, stubby feet.  Metres."""

import numpy as np
from creatures import Eye
from faces import Mouth
from fields import blend, ellipsoid, magnify, mirrored, mix, sphere, step, tube, union, vec

NAME, FILE, CELL, WANTED = "Wick", "larva", 0.0036, 900
BOX = (0, -0.02, -0.50), (0.16, 0.34, 0.42)

COUNT = 11
BEADS = []
for i in range(COUNT):
    t = i / (COUNT - 1)
    z = 0.24 - 0.66 * t
    y = 0.092 + 0.042 * np.exp(-(((z + 0.02) / 0.14) ** 2)) + 0.05 * step(0.10, 0.26, np.array(z))
    BEADS.append((vec(0, y, z), 0.066 + 0.010 * np.sin(np.pi * t) - 0.014 * t**3))
EYE = Eye((0.050, 0.222, 0.335), 0.024, (0.6, 0.25, 1))
head = union(
    0.03, ellipsoid((0, 0.195, 0.300), (0.086, 0.080, 0.076)), ellipsoid((0, 0.172, 0.352), (0.040, 0.030, 0.032))
)
horn = union(
    0.01,
    tube([(0.030, 0.26, 0.29), (0.045, 0.30, 0.285), (0.060, 0.315, 0.262)], [0.013, 0.0115, 0.011], 4),
    sphere((0.062, 0.315, 0.258), 0.016),
)
lamp = ellipsoid((0, 0.085, -0.445), (0.048, 0.046, 0.040))
feet = [ellipsoid((0.045, max(b[1] - r - 0.004, 0.020), b[2]), (0.022, 0.028, 0.021)) for b, r in BEADS[1:-1:2]]


def _body(p):
    d = np.full(len(p), 9.0)
    for centre, radius in BEADS:
        d = blend(d, sphere(centre, radius)(p), 0.018)
    d = blend(d, lamp(p), 0.014)
    d = blend(d, np.min([f(p) for f in feet], axis=0), 0.014)
    h = EYE.lidded(head(p), p)
    h = blend(h, horn(p), 0.012)
    return blend(d, h, 0.02)


body = mirrored(_body, 0.003)


MOUTH = Mouth(
    line=((0, 0.170, 0.384), (0.013, 0.173, 0.380), (0.026, 0.180, 0.368), (0.036, 0.186, 0.354), (0.042, 0.191, 0.342)),
    bag=(
        ((0, 0.172, 0.362), 0.024, 0.010, 0.010), ((0, 0.174, 0.340), 0.030, 0.014, 0.013), ((0, 0.177, 0.312), 0.030, 0.015, 0.014),
        ((0, 0.178, 0.285), 0.022, 0.012, 0.012), ((0, 0.178, 0.268), 0.010, 0.005, 0.005),
    ),
    lip=0.010, full=0.0012, sunk=0.003, thick=0.007, wall=0.006, columns=8,
)  # fmt: skip


def warp(p):
    p = magnify(p, EYE.centre, 0.032, 0.065, 1.7)
    p = magnify(p, (0.045, 0.29, 0.28), 0.05, 0.10, 1.8)
    return magnify(p, (0, 0.19, 0.31), 0.09, 0.18, 1.3)


def extras():
    return EYE.balls(18, 12)


def paint(name, p, n):
    if name.startswith("eye"):
        return EYE.colours(p, (60, 80, 62))
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    c = np.tile((196.0, 178, 104), (len(p), 1))
    seam = np.min([np.abs(z - 0.5 * (a[0][2] + b[0][2])) for a, b in zip(BEADS, BEADS[1:], strict=False)], axis=0)
    c = mix(c, (126, 132, 76), step(0.016, 0.004, seam) * step(0.25, 0.22, z))
    c = mix(c, (238, 216, 160), step(-0.2, -0.8, n[:, 1]))
    for centre, _ in BEADS[1:-1]:
        c = mix(
            c,
            (196, 96, 48),
            step(0.016, 0.010, np.linalg.norm(np.c_[x - 0.045, z - centre[2]], axis=1)) * step(0.3, 0.6, n[:, 1]),
        )
    c = mix(c, (250, 196, 92), step(-0.418, -0.440, z))
    return mix(c, (206, 112, 56), step(0.020, 0.014, np.linalg.norm(np.c_[x - 0.062, y - 0.315, z - 0.258], axis=1)))
