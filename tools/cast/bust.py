"""Old Burr, the badger gatekeeper, as a bust: head, neck and shoulders, closed below.  Metres."""

import numpy as np
from creatures import INSIDE, Eye, lathe
from faces import Mouth, teeth, tongue
from fields import blend, cut, ellipsoid, frame, magnify, mirrored, mix, step, tube, union, vec

NAME, FILE, CELL, WANTED = "Old Burr", "bust", 0.0042, 1150
BOX = (0, -0.02, -0.24), (0.30, 0.56, 0.33)

EYE = Eye((0.064, 0.352, 0.118), 0.026, (0.5, 0.12, 1))
shoulders = union(
    0.06,
    ellipsoid((0, 0.045, -0.03), (0.225, 0.085, 0.125)),
    tube([(0, 0.04, -0.03), (0, 0.16, -0.02), (0, 0.26, 0.0)], [0.16, 0.108, 0.105], 4),
)
skull = union(
    0.05,
    ellipsoid((0, 0.345, 0.0), (0.135, 0.118, 0.125)),
    ellipsoid((0.085, 0.295, 0.035), (0.075, 0.060, 0.070)),
    tube([(0, 0.322, 0.09), (0, 0.300, 0.17), (0, 0.288, 0.225)], [0.072, 0.056, 0.042], 4),
    ellipsoid((0, 0.252, 0.14), (0.052, 0.032, 0.075)),
)
nose = ellipsoid((0, 0.312, 0.252), (0.031, 0.021, 0.020))
nostril = tube([(0.014, 0.308, 0.282), (0.011, 0.310, 0.258)], [0.0065, 0.003], 1)
_tilt = frame((0.55, 0.15, 0.8))
ear = ellipsoid((0.118, 0.440, -0.015), (0.042, 0.042, 0.020), _tilt)
ear_cup = ellipsoid(vec(0.118, 0.440, -0.015) + vec(0.55, 0.15, 0.8) * 0.019, (0.028, 0.028, 0.017), _tilt)
brow = tube([(0.030, 0.392, 0.125), (0.064, 0.400, 0.122), (0.100, 0.382, 0.092)], [0.011, 0.015, 0.009], 4)


def _body(p):
    d = blend(shoulders(p), skull(p), 0.05)
    d = blend(d, brow(p), 0.03)
    d = EYE.lidded(d, p)
    d = cut(blend(d, ear(p), 0.018), ear_cup(p), 0.012)
    d = cut(blend(d, nose(p), 0.012), nostril(p), 0.006)
    floor = 0.004 - p[:, 1]
    return np.maximum(d, floor) + 0.25 * np.maximum(0, 0.01 - np.abs(d - floor)) ** 2 / 0.01


body = mirrored(_body, 0.004)


MOUTH = Mouth(
    line=((0, 0.266, 0.225), (0.024, 0.268, 0.215), (0.042, 0.273, 0.185), (0.055, 0.279, 0.155), (0.062, 0.284, 0.130)),
    bag=(
        ((0, 0.270, 0.200), 0.034, 0.014, 0.012), ((0, 0.272, 0.170), 0.042, 0.018, 0.014), ((0, 0.275, 0.135), 0.044, 0.020, 0.016),
        ((0, 0.276, 0.100), 0.036, 0.018, 0.015), ((0, 0.276, 0.075), 0.018, 0.009, 0.008),
    ),
)  # fmt: skip


def warp(p):
    p = magnify(p, EYE.centre, 0.036, 0.075, 1.8)
    p = magnify(p, (0, 0.30, 0.22), 0.07, 0.16, 1.4)
    return magnify(p, (0, 0.34, 0.03), 0.16, 0.3, 1.5)


def extras():
    found = EYE.balls(20, 14)
    stud = lathe([(0, -0.016), (0.014, -0.012), (0.018, 0.0), (0.012, 0.012), (0, 0.015)], 12)
    found["collar stud"] = (stud[0] + vec(0, 0.155, 0.108), stud[1])
    found |= teeth(body, MOUTH)
    found["tongue"] = tongue(MOUTH)
    return found


def paint(name, p, n):
    if name in INSIDE:
        return np.tile(np.array(INSIDE[name], float), (len(p), 1))
    if name.startswith("eye"):
        return EYE.colours(p, (112, 84, 46))
    if name == "collar stud":
        return np.tile((206.0, 140, 56), (len(p), 1))
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    c = np.tile((104.0, 102, 104), (len(p), 1))
    head = step(0.20, 0.25, y)
    c = mix(c, (238, 230, 214), head * step(-0.10, -0.02, z))
    line = 0.064 + 0.02 * step(0.12, -0.04, z)
    band = step(0.040, 0.028, np.abs(x - line)) * head * step(0.265, 0.30, y) * step(0.245, 0.20, z)
    c = mix(c, (48, 44, 48), band)
    c = mix(c, (48, 44, 48), step(0.044, 0.034, np.linalg.norm(np.c_[x - 0.118, y - 0.440, z + 0.015], axis=1)))
    c = mix(
        c,
        (238, 230, 214),
        step(0.018, 0.010, np.abs(np.linalg.norm(np.c_[x - 0.118, y - 0.440], axis=1) - 0.040)) * step(0.43, 0.45, y),
    )
    c = mix(c, (44, 36, 38), step(0.038, 0.028, np.linalg.norm(np.c_[x, y - 0.311, z - 0.258], axis=1)))
    return mix(c, (164, 64, 36), step(0.155, 0.145, y) * step(0.105, 0.115, y))
