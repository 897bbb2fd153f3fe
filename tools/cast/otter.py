"""Lutra, the otter lamplighter: her measures in metres.  Only the left half is said; the field mirrors it."""

import coat
import numpy as np
from creatures import INSIDE, Eye
from faces import Mouth, gums, teeth, tongue
from fields import blend, cut, ellipsoid, frame, magnify, mirrored, sphere, step, tube, union, vec

BOX, CELL, WANTED = ((0, -0.03, -0.98), (0.56, 1.27, 0.30)), 0.0034, 1900

# -- trunk, tail, legs -------------------------------------------------------------------------------------------------
trunk = union(
    0.14,
    ellipsoid((0, 0.415, -0.015), (0.15, 0.115, 0.13)),
    ellipsoid((0, 0.545, 0.025), (0.168, 0.16, 0.15)),
    ellipsoid((0, 0.715, 0.0), (0.138, 0.135, 0.115)),
    tube([(0, 0.80, -0.01), (0, 0.93, 0.0)], [0.095, 0.095], 1),
)
tail = tube(
    [(0, 0.39, -0.07), (0, 0.30, -0.20), (0, 0.20, -0.36), (0, 0.13, -0.54), (0, 0.11, -0.74), (0, 0.14, -0.90)],
    [0.105, 0.092, 0.076, 0.058, 0.040, 0.020],
    5,
    flat=((0, 0.9, -0.4), 0.8),
)
leg = union(
    0.03,
    tube(
        [(0.085, 0.385, 0), (0.108, 0.30, 0.022), (0.116, 0.22, 0.028), (0.118, 0.14, 0.0), (0.118, 0.07, -0.022)],
        [0.108, 0.094, 0.066, 0.056, 0.043],
        5,
    ),
    ellipsoid((0.116, 0.165, -0.02), (0.05, 0.06, 0.046)),
)


def _foot():
    sole = [
        ellipsoid((0.118, 0.038, -0.045), (0.040, 0.038, 0.046)),
        tube(
            [(0.118, 0.064, -0.02), (0.122, 0.048, 0.03), (0.127, 0.034, 0.075)],
            [0.043, 0.041, 0.036],
            4,
            flat=((0, 1, 0), 0.85),
        ),
        ellipsoid((0.130, 0.031, 0.085), (0.058, 0.029, 0.040)),
    ]
    toes = []
    for x, long in ((-0.039, 0.052), (-0.013, 0.066), (0.0145, 0.064), (0.041, 0.050)):
        base = vec(0.130 + x * 0.9, 0.031, 0.095)
        tip = base + vec(x * 0.45, -0.010, long)
        toes.append(tube([base, (base + tip) / 2 + vec(0, 0.008, 0), tip], [0.021, 0.019, 0.017], 3))
    return union(0.012, union(0.025, *sole), union(0.004, *toes))


foot = _foot()

# -- arm and hand ------------------------------------------------------------------------------------------------------
SHOULDER, ELBOW, WRIST = vec(0.128, 0.765, -0.005), vec(0.282, 0.615, -0.022), vec(0.412, 0.475, 0.012)
arm = union(
    0.03,
    tube(
        [
            SHOULDER - vec(0.02, -0.01, 0),
            SHOULDER + (ELBOW - SHOULDER) * 0.5 + vec(0, 0.004, 0.004),
            ELBOW,
            ELBOW + (WRIST - ELBOW) * 0.4,
            WRIST,
        ],
        [0.072, 0.060, 0.049, 0.047, 0.034],
        5,
    ),
    ellipsoid(SHOULDER + vec(0, 0.002, 0), (0.066, 0.066, 0.064)),
)
ALONG = (WRIST - ELBOW) / np.linalg.norm(WRIST - ELBOW)
ACROSS = vec(0, 0, 1) - ALONG * ALONG[2]
ACROSS /= np.linalg.norm(ACROSS)
BACK = np.cross(ACROSS, ALONG)
BACK = -BACK if BACK[0] < 0 else BACK


def in_hand(along, across, back):
    return WRIST + ALONG * along + ACROSS * across + BACK * back


palm = union(
    0.02,
    tube(
        [in_hand(-0.01, 0, 0), in_hand(0.035, 0, 0), in_hand(0.066, 0, 0.002)],
        [0.033, 0.038, 0.036],
        4,
        flat=(BACK, 0.62),
    ),
    ellipsoid(in_hand(0.055, 0, 0), (0.048, 0.023, 0.040), np.stack([ACROSS, BACK, ALONG], 1)),
)
fingers = [
    tube(
        [
            in_hand(0.058, s * 0.9, 0),
            in_hand(0.09, s + spread * 0.5, 0.003),
            in_hand(0.09 + long * 0.5, s + spread, 0.001),
            in_hand(0.085 + long, s + spread * 1.4, -0.012),
        ],
        [0.0185, 0.0175, 0.0165, 0.0145],
        4,
    )
    for s, long, spread in ((0.034, 0.068, 0.014), (0.001, 0.078, 0.0), (-0.032, 0.066, -0.014))
]
thumb = tube(
    [
        in_hand(0.012, 0.020, -0.006),
        in_hand(0.034, 0.048, -0.012),
        in_hand(0.064, 0.068, -0.016),
        in_hand(0.090, 0.078, -0.022),
    ],
    [0.021, 0.0195, 0.0175, 0.0145],
    4,
)
hand = union(0.012, palm, union(0.003, *fingers), thumb)

# -- head, in coordinates of its own -----------------------------------------------------------------------------------
HEAD_SCALE, HEAD_FROM, HEAD_TO = 1.27, vec(0, 0.98, 0), vec(0, 0.900, 0.005)


def to_head(p):
    return (p - HEAD_TO) / HEAD_SCALE + HEAD_FROM


def to_world(p):
    return (p - HEAD_FROM) * HEAD_SCALE + HEAD_TO


EYE = Eye(
    to_world(vec(0.066, 1.098, 0.083)), 0.034 * HEAD_SCALE, (0.40, 0.08, 1), almond=(0.94, 0.79, 0.66), columns=18
)
CORNER, GAP = 0.068, 0.036  # of the mouth: in the head's measures; how far the open one gapes, metres


def lip_line(p):
    x = np.abs(p[:, 0])
    return 1.006 + 0.9 * np.maximum(x - 0.012, 0) ** 1.5 - 0.003 * np.exp(-((x / 0.014) ** 2)) - 0.06 * (p[:, 2] - 0.16)


skull = union(
    0.05,
    ellipsoid((0, 1.090, -0.005), (0.140, 0.102, 0.122)),
    ellipsoid((0.080, 1.040, 0.030), (0.070, 0.060, 0.070)),
    tube([(0, 0.95, -0.01), (0, 1.05, -0.01)], [0.08, 0.09], 1),
)
muzzle = union(
    0.03,
    ellipsoid((0, 1.045, 0.110), (0.055, 0.046, 0.072)),
    ellipsoid((0.038, 1.036, 0.128), (0.050, 0.037, 0.047), frame((0.35, 0, 1))),
    ellipsoid((0, 0.980, 0.096), (0.078, 0.036, 0.066)),
    ellipsoid((0, 0.975, 0.137), (0.036, 0.024, 0.024)),
)
nose = ellipsoid((0, 1.066, 0.176), (0.030, 0.020, 0.019))
nostril = tube([(0.014, 1.061, 0.202), (0.011, 1.064, 0.182)], [0.006, 0.003], 1)
brow = tube([(0.034, 1.156, 0.092), (0.068, 1.163, 0.082), (0.104, 1.138, 0.048)], [0.007, 0.010, 0.006], 4)
lid = sphere(vec(0.066, 1.098, 0.083), 0.034 * 1.28)
EAR, EAR_FRAME = vec(0.128, 1.152, -0.015), frame((0.75, 0.25, 0.45))
ear = ellipsoid(EAR, (0.042, 0.042, 0.020), EAR_FRAME)
ear_cup = ellipsoid(EAR + vec(0.75, 0.25, 0.45) * 0.020, (0.028, 0.028, 0.019), EAR_FRAME)


def head_field(p):
    d = blend(skull(p), muzzle(p), 0.045)
    d = blend(d, brow(p), 0.04)
    d = blend(d, lid(p), 0.022)
    d = cut(blend(d, ear(p), 0.018), ear_cup(p), 0.012)
    d = cut(blend(d, nose(p), 0.010), nostril(p), 0.005)
    above = p[:, 1] - lip_line(p)
    groove = step(0, 0.012, above) * step(1.062, 1.04, p[:, 1]) * step(0.13, 0.16, p[:, 2])
    return d + 0.0025 * np.exp(-((p[:, 0] / 0.005) ** 2)) * groove


def _body(p):
    d = blend(trunk(p), tail(p), 0.06)
    d = blend(d, blend(leg(p), foot(p), 0.02), 0.05)
    d = blend(d, blend(arm(p), hand(p), 0.012), 0.045)
    high = p[:, 1] > 0.76
    d[high] = blend(d[high], head_field(to_head(p[high])) * HEAD_SCALE, 0.04)
    return d


body = mirrored(_body, 0.004)


# -- the mouth, and what is in it --------------------------------------------------------------------------------------
def _mouth():
    """Lips along the lip line and a bag that holds the teeth; measures of the head, brought to the world's."""
    x = np.linspace(0, CORNER, 6)
    line = np.stack([x, lip_line(np.stack([x, 0 * x, 0.165 - 8.5 * x**2], 1)), 0.175 - 14.0 * x**2], 1)
    bag = [
        ((0, 1.003, 0.146), 0.046, 0.021, 0.019), ((0, 1.004, 0.120), 0.055, 0.026, 0.024), ((0, 1.005, 0.090), 0.055, 0.029, 0.026),
        ((0, 1.006, 0.050), 0.046, 0.026, 0.023), ((0, 1.006, 0.020), 0.020, 0.012, 0.010),
    ]  # fmt: skip
    bag = tuple((to_world(vec(*c)), *(HEAD_SCALE * v for v in sizes)) for c, *sizes in bag)
    return Mouth(
        tuple(to_world(line)), bag, lip=0.018, full=0.0035, sunk=0.005, thick=0.011, wall=0.010, columns=14, level=True
    )


MOUTH = _mouth()


def extras():
    return EYE.balls(24, 16) | gums(body, MOUTH) | teeth(body, MOUTH, 7) | {"tongue": tongue(MOUTH)}


def paint(name, p, n):
    if name in INSIDE:
        return np.tile(np.array(INSIDE[name], float), (len(p), 1))
    if name.startswith("eye"):
        return coat.eye(p, p.mean(0), EYE.radius, EYE.sight * ([-1, 1, 1] if "right" in name else [1, 1, 1]))
    return coat.fur(p, n)


# -- where the mesh is dense -------------------------------------------------------------------------------------------
def _stretch(x, a, b, slope):
    """A monotone map with slope 1 before a and `slope` after b, and its slope."""
    grid = np.linspace(-2, 2, 4001)
    rate = 1 + (slope - 1) * step(a, b, grid)
    run = np.r_[0, np.cumsum((rate[1:] + rate[:-1]) / 2 * np.diff(grid))]
    run -= np.interp(a, grid, run) - a
    return np.interp(x, grid, run), np.interp(x, grid, rate)


def warp(p):
    """A copy in which head, hands, feet, eyes and nose are larger, so that even quads come out finer there.

    Never mask a magnifier: its far offset would tear the surface.
    """
    p = magnify(p, to_world(vec(0, 1.06, 0.185)), 0.035, 0.07, 1.5)
    p = magnify(p, EYE.centre, 0.045, 0.085, 1.9)
    y, head = _stretch(p[:, 1], 0.80, 0.97, 2.3)
    x, side = _stretch(p[:, 0], 0.33, 0.44, 1.7)
    low, down = _stretch(-p[:, 1], -0.11, -0.05, 1.5)
    upper, out = p[:, 1] > 0.6, p.copy()
    out[:, 0] = np.where(upper, p[:, 0] * head, x)
    out[:, 2] = np.where(upper, p[:, 2] * head, p[:, 2])
    out[:, 1] = np.where(upper, y, p[:, 1])
    at_hand = ~upper & (p[:, 0] > 0.3)
    out[at_hand, 1] = WRIST[1] + (p[at_hand, 1] - WRIST[1]) * side[at_hand]
    out[at_hand, 2] = WRIST[2] + (p[at_hand, 2] - WRIST[2]) * side[at_hand]
    at_foot = ~upper & (p[:, 0] < 0.3) & (p[:, 1] < 0.12) & (p[:, 2] > -0.2)
    out[at_foot, 0] = 0.118 + (p[at_foot, 0] - 0.118) * down[at_foot]
    out[at_foot, 2] = p[at_foot, 2] * down[at_foot]
    out[at_foot, 1] = -low[at_foot]
    return out
