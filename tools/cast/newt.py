"""Brindle, the pack newt: four soft legs, a long neck, a tapir's nose and a rudder of a tail.  Metres."""

import numpy as np
from creatures import INSIDE, Eye, both, lathe
from faces import Mouth, tongue
from fields import blend, cut, ellipsoid, magnify, mirrored, mix, step, tube, union, vec

NAME, FILE, CELL, WANTED = "Brindle", "newt", 0.0056, 1250
BOX = (0, -0.03, -1.46), (0.42, 1.36, 1.02)

trunk = tube(
    [(0, 0.57, 0.44), (0, 0.575, 0.25), (0, 0.55, 0.02), (0, 0.565, -0.22), (0, 0.575, -0.42)],
    [0.15, 0.215, 0.245, 0.225, 0.15], 6,
)  # fmt: skip
neck = tube([(0, 0.62, 0.36), (0, 0.74, 0.52), (0, 0.90, 0.60), (0, 1.05, 0.63)], [0.15, 0.115, 0.092, 0.088], 6)
tail = tube(
    [(0, 0.57, -0.38), (0, 0.51, -0.60), (0, 0.41, -0.84), (0, 0.34, -1.10), (0, 0.36, -1.36)],
    [0.15, 0.115, 0.09, 0.066, 0.030], 6, flat=((1, 0, 0), 0.72),
)  # fmt: skip
EYE = Eye((0.083, 1.150, 0.700), 0.038, (1, 0.22, 0.62))


def _leg(z, hip_y, lean, size):
    x = 0.165
    line = [
        (x - 0.02, hip_y, z), (x + 0.03, 0.42, z + 0.02 * lean), (x + 0.035, 0.30, z + 0.05 * lean),
        (x + 0.03, 0.18, z + 0.005 * lean), (x + 0.028, 0.08, z - 0.01 * lean),
    ]  # fmt: skip
    up = tube(line, [0.125 * size, 0.10 * size, 0.078 * size, 0.064, 0.060], 5)
    pad = ellipsoid((x + 0.028, 0.042, z + 0.035), (0.072, 0.042, 0.082))
    toes = [
        tube([(x + 0.028 + dx * 0.6, 0.045, z + 0.05), (x + 0.028 + dx, 0.036, z + 0.10), (x + 0.028 + dx * 1.25, 0.030, z + 0.10 + out)],
             [0.034, 0.032, 0.028], 4)
        for dx, out in ((-0.046, 0.030), (0.0, 0.048), (0.046, 0.030))
    ]  # fmt: skip
    return union(0.02, up, pad, union(0.005, *toes))


fore, hind = _leg(0.32, 0.54, -1, 1.0), _leg(-0.33, 0.55, 1, 1.12)
skull = union(
    0.06,
    ellipsoid((0, 1.125, 0.665), (0.118, 0.098, 0.125)),
    tube([(0, 1.10, 0.70), (0, 1.075, 0.82), (0, 1.04, 0.90), (0, 1.012, 0.935)], [0.085, 0.066, 0.050, 0.040], 5),
    ellipsoid((0.045, 1.060, 0.80), (0.05, 0.038, 0.075)),
    ellipsoid((0, 1.030, 0.765), (0.076, 0.034, 0.10)),
    ellipsoid((0, 1.000, 0.835), (0.046, 0.024, 0.066)),
)
nostril = tube([(0.020, 1.030, 0.985), (0.017, 1.030, 0.94)], [0.010, 0.005], 1)
ear = tube(
    [(0.085, 1.19, 0.60), (0.135, 1.225, 0.565), (0.160, 1.235, 0.535)],
    [0.030, 0.034, 0.022],
    5,
    flat=((0.5, 0, 1), 0.6),
)
ear_cup = ellipsoid((0.140, 1.232, 0.590), (0.020, 0.022, 0.016))


def _body(p):
    d = blend(trunk(p), tail(p), 0.10)
    d = blend(d, neck(p), 0.10)
    d = blend(d, np.minimum(fore(p), hind(p)), 0.075)
    high = (p[:, 1] > 0.88) & (p[:, 2] > 0.3)
    q = p[high]
    h = EYE.lidded(skull(q), q)
    h = cut(blend(h, ear(q), 0.03), ear_cup(q), 0.012)
    h = cut(h, nostril(q), 0.008)
    d[high] = blend(d[high], h, 0.06)
    return d


body = mirrored(_body, 0.005)


MOUTH = Mouth(
    line=((0, 0.978, 0.895), (0.022, 0.986, 0.890), (0.040, 1.004, 0.862), (0.056, 1.024, 0.825), (0.068, 1.042, 0.785)),
    bag=(
        ((0, 0.996, 0.870), 0.028, 0.012, 0.010), ((0, 1.008, 0.835), 0.040, 0.018, 0.013), ((0, 1.022, 0.790), 0.048, 0.022, 0.016),
        ((0, 1.036, 0.740), 0.044, 0.022, 0.018), ((0, 1.045, 0.700), 0.020, 0.010, 0.009),
    ),
    lip=0.016, sunk=0.005, thick=0.010, columns=11,
)  # fmt: skip


def warp(p):
    p = magnify(p, EYE.centre, 0.05, 0.10, 1.7)
    p = magnify(p, (0.03, 1.08, 0.80), 0.14, 0.34, 1.45)
    for z in (0.36, -0.29):
        p = magnify(p, (0.19, 0.03, z + 0.05), 0.10, 0.20, 1.3)
    return p


def extras():
    """Eyes, and two little saddle lanterns."""
    found = EYE.balls()
    glass = lathe(
        [(0, -0.075), (0.028, -0.070), (0.048, -0.03), (0.050, 0.02), (0.034, 0.055), (0.012, 0.066), (0, 0.068)]
    )
    points = glass[0] + vec(0.275, 0.56, 0.03)
    found["saddle lanterns"] = both(points, glass[1])
    found["tongue"] = tongue(MOUTH)
    return found


def paint(name, p, n):
    if name in INSIDE:
        return np.tile(np.array(INSIDE[name], float), (len(p), 1))
    if name.startswith("eye"):
        return EYE.colours(p, (196, 128, 44))
    if "lantern" in name:
        return mix(np.tile((92, 66, 44.0), (len(p), 1)), (246, 178, 74), step(0.062, 0.04, np.abs(p[:, 1] - 0.555)))
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    c = np.tile((116.0, 134, 108), (len(p), 1))
    c = mix(c, (226, 206, 160), step(-0.15, -0.75, n[:, 1]) * step(0.20, 0.35, y))
    c = mix(c, (84, 104, 88), step(0.55, 0.9, n[:, 1]))
    for at in np.arange(-1.25, 0.4, 0.165):
        spot = np.sqrt((z - at) ** 2 + ((x - 0.10) / 0.9) ** 2 + ((n[:, 1] - 0.85) * 0.12) ** 2)
        c = mix(c, (214, 122, 58), step(0.050, 0.034, spot) * step(0.3, 0.5, n[:, 1]))
    c = mix(c, (70, 78, 70), step(0.085, 0.05, y))
    c = mix(c, (204, 150, 130), step(0.075, 0.05, np.linalg.norm(np.c_[x, y - 1.02, z - 0.955], axis=1)))
    return mix(c, (214, 150, 130), step(0.030, 0.018, np.linalg.norm(np.c_[x - 0.140, y - 1.232, z - 0.585], axis=1)))
