"""Vesper, the night courier: a bat on foldable wings, spread at rest, with a letter satchel.  Metres.

The body carries the arms and fingers as thin tubes; the membrane is a part of its own on a structured grid whose
lines run from the wrist and the arm to the trailing edge, two layers thick and closed.
"""

import numpy as np
from creatures import INSIDE, Eye, both
from faces import Mouth, teeth, tongue
from fields import blend, cut, ellipsoid, frame, magnify, mirrored, mix, step, tube, union, vec

NAME, FILE, CELL, WANTED = "Vesper", "bat", 0.0046, 1300
BOX = (0, -0.03, -0.20), (1.02, 0.93, 0.22)


def _deep(x):
    return -0.02 - 0.07 * np.clip(x, 0, 1) ** 1.2


def _at(x, y):
    return vec(x, y, _deep(x))


SHOULDER, ELBOW, WRIST = _at(0.075, 0.465), _at(0.27, 0.425), _at(0.43, 0.60)
TIPS = [_at(0.96, 0.68), _at(0.93, 0.36), _at(0.65, 0.15)]
KNUCKLES = [[0.36, (0.03, 0.035)], [0.38, (0.02, 0.02)], [0.40, (0.0, 0.0)]]
ANKLE = vec(0.085, 0.10, -0.025)
EYE = Eye((0.056, 0.668, 0.078), 0.029, (0.5, 0.1, 1))


def finger(i):
    """Wrist, two bends, tip of finger i: (4, 3)."""
    share, (dx, dy) = KNUCKLES[i]
    tip = TIPS[i]
    a = WRIST + (tip - WRIST) * share + vec(dx, dy, 0)
    b = WRIST + (tip - WRIST) * 0.70 + vec(dx * 0.7, dy * 0.6, 0)
    return np.array([WRIST, a, b, tip])


bones = [
    tube([SHOULDER, (SHOULDER + ELBOW) / 2 + vec(0, 0.006, 0), ELBOW], [0.045, 0.037, 0.029], 4),
    tube([ELBOW, (ELBOW + WRIST) / 2, WRIST], [0.029, 0.025, 0.024], 4),
    *[tube(finger(i), [0.022, 0.018, 0.0155, 0.0125], 5) for i in range(3)],
    tube([WRIST, WRIST + vec(0.0, 0.045, 0.014), WRIST + vec(0.02, 0.085, 0.024)], [0.019, 0.016, 0.012], 4),
]
arm = union(0.010, *bones)
torso = union(
    0.08,
    ellipsoid((0, 0.40, 0.012), (0.108, 0.13, 0.098)),
    ellipsoid((0, 0.27, 0.005), (0.094, 0.12, 0.088)),
    ellipsoid((0, 0.48, 0.0), (0.092, 0.08, 0.078)),
)
leg = union(
    0.015,
    tube([(0.052, 0.20, 0.0), (0.078, 0.145, 0.02), (0.082, 0.085, -0.012), (0.082, 0.045, -0.008)], [0.052, 0.042, 0.029, 0.023], 5),
    *[tube([(0.082 + dx * 0.5, 0.030, 0.0), (0.082 + dx, 0.024, 0.04), (0.082 + dx * 1.3, 0.017, 0.070)], [0.020, 0.0165, 0.0135], 3)
      for dx in (-0.025, 0, 0.025)],
)  # fmt: skip
head = union(
    0.04,
    ellipsoid((0, 0.660, 0.010), (0.105, 0.092, 0.094)),
    ellipsoid((0, 0.615, 0.078), (0.060, 0.042, 0.058)),
    tube([(0, 0.50, 0), (0, 0.60, 0)], [0.062, 0.068], 1),
)
nose = ellipsoid((0, 0.640, 0.134), (0.021, 0.016, 0.015))
_tilt = frame((0.35, -0.1, 1), (0.35, 1, 0))
ear = ellipsoid((0.086, 0.775, -0.010), (0.052, 0.098, 0.020), _tilt)
ear_cup = ellipsoid(vec(0.086, 0.772, -0.010) + vec(0.35, -0.1, 1) * 0.019, (0.037, 0.076, 0.018), _tilt)


def _body(p):
    d = blend(torso(p), leg(p), 0.035)
    d = blend(d, arm(p), 0.03)
    high = p[:, 1] > 0.48
    q = p[high]
    h = EYE.lidded(head(q), q)
    h = cut(blend(h, ear(q), 0.02), ear_cup(q), 0.012)
    h = blend(h, nose(q), 0.010)
    d[high] = blend(d[high], h, 0.03)
    return d


body = mirrored(_body, 0.003)


MOUTH = Mouth(
    line=((0, 0.600, 0.130), (0.014, 0.602, 0.130), (0.028, 0.608, 0.120), (0.038, 0.614, 0.110), (0.045, 0.620, 0.096)),
    bag=(
        ((0, 0.603, 0.112), 0.026, 0.010, 0.009), ((0, 0.606, 0.092), 0.033, 0.014, 0.011), ((0, 0.610, 0.065), 0.034, 0.015, 0.012),
        ((0, 0.612, 0.040), 0.028, 0.013, 0.011), ((0, 0.612, 0.020), 0.013, 0.006, 0.006),
    ),
    lip=0.010, full=0.0012, sunk=0.003, thick=0.007, wall=0.006, columns=9,
)  # fmt: skip


def warp(p):
    p = magnify(p, EYE.centre, 0.038, 0.075, 1.8)
    p = magnify(p, (0, 0.65, 0.03), 0.13, 0.26, 1.6)
    p = magnify(p, (0.08, 0.03, 0.02), 0.05, 0.10, 1.6)
    for t, by in ((TIPS[0], 1.5), (TIPS[1], 1.5), (TIPS[2], 1.5)):
        p = magnify(p, 0.5 * (t + WRIST), 0.16, 0.34, by)
    return p


# -- the membrane ----------------------------------------------------------------------------------------------------
def _line(rows, count):
    rows = np.array(rows)
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(rows, axis=0), axis=1))]
    t = np.linspace(0, s[-1], count)
    return np.stack([np.interp(t, s, rows[:, k]) for k in range(3)], 1)


def _fan(first, second, across, sag):
    """Rows from the wrist outwards between two fingers; the trailing edge hangs in by `sag` of its span."""
    t = np.linspace(0, 1, across)[:, None]
    rows = []
    for k in range(len(first)):
        row = first[k] * (1 - t) + second[k] * t
        pull = 4 * t * (1 - t) * sag * (k / (len(first) - 1)) ** 3
        rows.append(row + (WRIST - row) * pull)
    return np.array(rows)


def membrane(down=17, across=9, inner=15):
    """One wing's sheet as a grid of panels: (points, quads), one layer."""
    ribs = [_line(finger(i), down) for i in range(3)]
    panels = [_fan(ribs[0], ribs[1], across, 0.24), _fan(ribs[1], ribs[2], across, 0.22)]
    # Between the last finger, the arm and the flank: a patch between four curves (Coons).
    inside = _line(
        [ANKLE + vec(-0.02, 0.02, 0), vec(0.062, 0.24, -0.02), vec(0.07, 0.36, -0.02), SHOULDER + vec(-0.01, -0.01, 0)],
        down,
    )[::-1]
    over = _line([SHOULDER + vec(-0.01, -0.01, 0), ELBOW, WRIST], inner)
    t = np.linspace(0, 1, inner)[:, None]
    under = inside[-1] * (1 - t) + TIPS[2] * t
    under = under + (_at(0.35, 0.42) - under) * (4 * t * (1 - t) * 0.24)
    u, v = np.linspace(0, 1, inner)[None, :, None], np.linspace(0, 1, down)[:, None, None]
    a, b, c, d = inside[0], ribs[2][0], inside[-1], ribs[2][-1]
    patch = (1 - v) * over[None] + v * under[None] + (1 - u) * inside[:, None] + u * ribs[2][:, None]
    patch = patch - ((1 - u) * (1 - v) * a + u * (1 - v) * b + (1 - u) * v * c + u * v * d)
    panels.append(patch)
    # Before the elbow: from the arm to a line from the neck's side to the wrist.
    front = _line([SHOULDER + vec(-0.01, 0.035, 0), _at(0.26, 0.535), WRIST], inner)
    share = np.linspace(0, 1, 5)[:, None, None]
    panels.append(front[None] * (1 - share) + over[None] * share)
    points, faces, n = [], [], 0
    for panel in panels:
        r, c = panel.shape[:2]
        index = n + np.arange(r * c).reshape(r, c)
        points.append(panel.reshape(-1, 3))
        faces.append(np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], -1).reshape(-1, 4))
        n += r * c
    points, faces = np.vstack(points), np.vstack(faces)
    points[:, 2] = _deep(points[:, 0]) * 0.5 + points[:, 2] * 0.5
    key = np.round(points / 1e-5).astype(int)
    _, first, same = np.unique(key, axis=0, return_index=True, return_inverse=True)
    faces = same.reshape(-1)[faces]
    normal = np.cross(
        points[first][faces[:, 2]] - points[first][faces[:, 0]], points[first][faces[:, 3]] - points[first][faces[:, 1]]
    )
    faces[normal[:, 2] < 0] = faces[normal[:, 2] < 0][:, ::-1]
    return points[first], faces


def closed(points, faces, thick):
    """A sheet as two layers `thick` apart along z, sewn at its border."""
    n = len(points)
    edges = {}
    for f in faces:
        for a, b in zip(f, np.roll(f, -1), strict=True):
            if a != b:
                edges[(a, b)] = True
    rim = [(a, b) for a, b in edges if (b, a) not in edges]
    both_layers = np.vstack([points + vec(0, 0, thick / 2), points - vec(0, 0, thick / 2)])
    sides = np.array([[b, a, a + n, b + n] for a, b in rim])
    return both_layers, np.vstack([faces, faces[:, ::-1] + n, sides])


def extras():
    found = EYE.balls(18, 12)
    found["membrane"] = both(*closed(*membrane(), 0.003))
    found |= teeth(body, MOUTH, fang=2)
    found["tongue"] = tongue(MOUTH)
    return found


def paint(name, p, n):
    if name in INSIDE:
        return np.tile(np.array(INSIDE[name], float), (len(p), 1))
    if name.startswith("eye"):
        return EYE.colours(p, (222, 160, 52))
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    if name == "membrane":
        c = np.tile((126.0, 84, 92), (len(p), 1))
        far = np.min([np.linalg.norm(np.c_[x, y] - t[:2], axis=1) for t in TIPS], axis=0)
        c = mix(c, (92, 66, 92), step(0.42, 0.0, far))
        return mix(c, (206, 140, 96), step(0.34, 0.12, np.hypot(x - 0.30, y - 0.36)) * 0.55)
    c = np.tile((104.0, 86, 112), (len(p), 1))
    ruff = step(0.10, 0.06, np.abs(y - 0.49)) * step(0.14, 0.10, x)
    c = mix(
        c,
        (222, 196, 158),
        np.maximum(ruff, step(0.35, 0.8, n[:, 2]) * step(0.085, 0.05, x) * step(0.20, 0.28, y) * step(0.47, 0.42, y)),
    )
    c = mix(c, (222, 196, 158), step(0.064, 0.045, np.linalg.norm(np.c_[x * 0.9, y - 0.615, z - 0.12], axis=1)))
    c = mix(c, (48, 38, 50), step(0.026, 0.018, np.linalg.norm(np.c_[x, y - 0.640, z - 0.140], axis=1)))
    inner = step(0.0, 0.6, n[:, 2]) * step(0.70, 0.74, y) * step(0.055, 0.035, np.abs(x - 0.088 - 0.35 * (y - 0.77)))
    c = mix(c, (210, 142, 128), inner)
    wing = step(0.13, 0.18, x)
    return mix(c, (78, 60, 82), wing)
