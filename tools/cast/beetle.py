"""Tock, the lantern beetle: six legs, feelers with knobs, a heavy round back and a lantern hook.  Metres."""

import numpy as np
from creatures import Eye, lathe
from faces import Mouth
from fields import blend, ellipsoid, magnify, mirrored, mix, sphere, step, tube, union, vec

NAME, FILE, CELL, WANTED = "Tock", "beetle", 0.0046, 1500
BOX = (0, -0.03, -0.50), (0.56, 0.66, 0.56)

belly = ellipsoid((0, 0.30, -0.14), (0.225, 0.125, 0.26))
shell = ellipsoid((0.035, 0.335, -0.15), (0.225, 0.195, 0.285))
thorax = ellipsoid((0, 0.325, 0.13), (0.175, 0.130, 0.115))
head = union(
    0.04, ellipsoid((0, 0.315, 0.285), (0.100, 0.080, 0.088)), ellipsoid((0, 0.285, 0.350), (0.060, 0.040, 0.045))
)
EYE = Eye((0.080, 0.345, 0.312), 0.040, (0.72, 0.22, 0.72), almond=(0.95, 0.9, 0.8), lid=0.2)
jaws = tube(
    [(0.035, 0.268, 0.375), (0.060, 0.260, 0.425), (0.046, 0.256, 0.465), (0.020, 0.258, 0.482)],
    [0.023, 0.022, 0.018, 0.012],
    5,
)
feeler = union(
    0.02,
    tube([(0.045, 0.375, 0.335), (0.09, 0.45, 0.40), (0.17, 0.53, 0.445), (0.26, 0.565, 0.435), (0.33, 0.55, 0.395)],
         [0.018, 0.0145, 0.0135, 0.0135, 0.016], 6),
    sphere((0.340, 0.545, 0.385), 0.030),
)  # fmt: skip


def _leg(z, forward, out=1.0):
    """Hip, knee above the body, ankle and a two-toed foot; `forward` is where the foot stands before the hip."""
    hip, knee = vec(0.16, 0.245, z), vec(0.320 * out, 0.315, z + 0.55 * forward)
    ankle, foot = vec(0.385 * out, 0.115, z + 0.9 * forward), vec(0.405 * out, 0.034, z + forward)
    toe = foot + vec(0.030, -0.006, 0.040)
    heel = foot + vec(0.034, -0.006, -0.032)
    return union(
        0.012,
        ellipsoid((0.145, 0.255, z), (0.064, 0.056, 0.056)),
        tube([hip, (hip + knee) / 2 + vec(0, 0.022, 0), knee], [0.052, 0.050, 0.040], 5),
        tube([knee, (knee + ankle) / 2 + vec(0.012, 0, 0), ankle], [0.039, 0.033, 0.027], 5),
        tube([ankle, foot], [0.027, 0.029], 1),
        tube([foot, toe], [0.027, 0.020], 1),
        tube([foot, heel], [0.026, 0.020], 1),
    )


legs = [_leg(0.155, 0.135), _leg(0.045, 0.005, 1.08), _leg(-0.07, -0.20, 1.02)]


def _body(p):
    x = np.abs(p[:, 0])
    d = blend(belly(p), shell(p), 0.02)
    behind = step(0.04, -0.02, p[:, 2])
    d = d + 0.013 * np.exp(-((x / 0.011) ** 2)) * step(0.40, 0.45, p[:, 1]) * behind  # where the halves meet
    d = d + 0.009 * np.exp(-(((p[:, 1] - 0.30) / 0.011) ** 2)) * behind  # the shell's rim
    d = blend(d, thorax(p) + 0.005 * np.cos(p[:, 2] * 55) * step(0.34, 0.38, p[:, 1]), 0.028)
    h = EYE.lidded(head(p), p, 0.3)
    h = blend(h, jaws(p), 0.016)
    h = blend(h, feeler(p), 0.014)
    d = blend(d, h, 0.03)
    return blend(d, np.min([leg(p) for leg in legs], axis=0), 0.022)


body = mirrored(_body, 0.003)


MOUTH = Mouth(
    line=((0, 0.296, 0.396), (0.014, 0.297, 0.392), (0.026, 0.300, 0.384), (0.036, 0.304, 0.372), (0.042, 0.308, 0.362)),
    bag=(
        ((0, 0.296, 0.374), 0.024, 0.010, 0.009), ((0, 0.298, 0.350), 0.030, 0.013, 0.012), ((0, 0.300, 0.320), 0.030, 0.014, 0.013),
        ((0, 0.302, 0.290), 0.022, 0.011, 0.011), ((0, 0.302, 0.272), 0.010, 0.005, 0.005),
    ),
    lip=0.009, full=0.0012, sunk=0.003, thick=0.007, wall=0.006, columns=8,
)  # fmt: skip


def warp(p):
    p = magnify(p, (0.06, 0.33, 0.33), 0.11, 0.22, 1.6)
    p = magnify(p, (0.26, 0.55, 0.42), 0.13, 0.25, 1.9)
    for leg in ((0.35, 0.22, 0.24), (0.40, 0.22, 0.05), (0.37, 0.22, -0.20)):
        p = magnify(p, leg, 0.14, 0.25, 1.35)
    return p


def extras():
    """Eyes, and the lantern that hangs from a hook over the back."""
    found = EYE.balls()
    lamp = lathe(
        [(0, -0.075), (0.032, -0.070), (0.055, -0.03), (0.055, 0.02), (0.036, 0.055), (0.012, 0.072), (0, 0.074)]
    )
    found["lantern"] = (lamp[0] + vec(0, 0.652, -0.16), lamp[1])
    stem = lathe([(0, 0.0), (0.020, 0.004), (0.012, 0.03), (0.010, 0.07), (0, 0.075)], 10)
    found["hook"] = (stem[0] + vec(0, 0.517, -0.16), stem[1])
    return found


def paint(name, p, n):
    if name.startswith("eye"):
        return EYE.colours(p, (52, 44, 40), white=(70, 62, 56))
    if name == "lantern":
        return mix(np.tile((92, 66, 44.0), (len(p), 1)), (248, 186, 80), step(0.062, 0.045, np.abs(p[:, 1] - 0.647)))
    if name == "hook":
        return np.tile((92, 66, 44.0), (len(p), 1))
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    c = np.tile((86.0, 78, 92), (len(p), 1))
    back = step(0.03, -0.01, z) * step(0.285, 0.305, y) * step(0.27, 0.25, x)
    c = mix(c, (62, 104, 116), back)
    for zz, xx, r in ((-0.06, 0.09, 0.036), (-0.20, 0.12, 0.042), (-0.31, 0.07, 0.032)):
        c = mix(c, (232, 152, 62), back * step(r, r * 0.8, np.hypot(z - zz, x - xx)) * step(0.2, 0.4, n[:, 1]))
    c = mix(c, (188, 152, 108), step(-0.2, -0.7, n[:, 1]) * step(0.24, 0.14, x) * step(0.12, 0.2, y))
    c = mix(c, (226, 150, 66), step(0.036, 0.030, np.linalg.norm(np.c_[x - 0.34, y - 0.545, z - 0.385], axis=1)))
    return mix(c, (50, 44, 52), step(0.27, 0.33, x) * step(0.16, 0.06, y))
