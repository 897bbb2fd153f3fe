"""Bodies made for tests, by another way than the demo: round cones filled into a grid and wrapped in quads."""

from __future__ import annotations

import numpy as np

from vonkel.core.formats.mesh import RawMesh


def round_cone(p, a, b, ra, rb):
    a, b = np.array(a, float), np.array(b, float)
    t = np.clip((p - a) @ (b - a) / ((b - a) @ (b - a)), 0, 1)
    return np.linalg.norm(p - a - t[:, None] * (b - a), axis=1) - (ra + (rb - ra) * t)


def joined(distances, k):
    """Smooth minimum of rows."""
    return -k * np.log(np.exp(-np.stack(distances) / k).sum(0))


# Segment lengths as shares of the standing height: Drillis & Contini 1966, as in Winter, Biomechanics and Motor
# Control of Human Movement, figure 4.1 (values from memory): the same figures the plan falls back on.
HUMAN = {
    "upper_arm": 0.186,
    "forearm": 0.146,
    "hand": 0.108,
    "thigh": 0.245,
    "shin": 0.246,
    "ankle": 0.039,
    "shoulder": 0.818,
    "hip": 0.530,
}


def human_joints(height=1.75, droop=0.5):
    """Places (left) of a figure with those proportions, arms `droop` radians below the horizontal."""
    h = height
    shoulder = np.array([0.115 * h, HUMAN["shoulder"] * h, 0.0])
    way = np.array([np.cos(droop), -np.sin(droop), 0.0])
    elbow = shoulder + way * HUMAN["upper_arm"] * h + [0, 0, -0.012 * h]
    wrist = shoulder + way * (HUMAN["upper_arm"] + HUMAN["forearm"]) * h
    tip = wrist + way * HUMAN["hand"] * h
    hip = np.array([0.055 * h, HUMAN["hip"] * h, 0.0])
    knee = np.array([0.058 * h, (HUMAN["ankle"] + HUMAN["shin"]) * h, 0.006 * h])
    ankle = np.array([0.060 * h, HUMAN["ankle"] * h, -0.01 * h])
    return {"shoulder": shoulder, "elbow": elbow, "wrist": wrist, "tip": tip, "hip": hip, "knee": knee, "ankle": ankle}


def mannequin(height=1.75, cell=0.018, droop=0.5) -> RawMesh:
    """A plain human figure with mitten hands, facing +Z, standing on y = 0; about ten thousand points."""
    h, j = height, human_joints(height, droop)
    toe = np.array([0.066 * h, 0.014 * h, 0.11 * h])
    heel = np.array([0.060 * h, 0.020 * h, -0.028 * h])

    def distance(p):
        q = p * [1, 1, 1]
        q[:, 0] = np.abs(q[:, 0])
        cone = lambda a, b, ra, rb: round_cone(q, a, b, ra * h, rb * h)  # noqa: E731
        trunk = joined(
            [
                cone([0.03 * h, 0.54 * h, 0], [0, 0.54 * h, 0], 0.062, 0.07), cone([0, 0.55 * h, 0], [0, 0.66 * h, 0], 0.07, 0.066),
                cone([0.03 * h, 0.72 * h, 0], [0.045 * h, 0.78 * h, 0], 0.058, 0.055), cone([0, 0.78 * h, -0.005 * h], [0, 0.86 * h, 0], 0.045, 0.03),
            ], 0.010 * h,
        )  # fmt: skip
        skull = joined(
            [
                cone([0, 0.87 * h, 0.012 * h], [0, 0.935 * h, 0], 0.042, 0.063),
                cone([0, 0.85 * h, 0], [0, 0.9 * h, 0], 0.03, 0.04),
            ],
            0.008 * h,
        )
        arm = joined(
            [cone(j["shoulder"], j["elbow"], 0.030, 0.024), cone(j["elbow"], j["wrist"], 0.024, 0.016), cone(j["wrist"], j["tip"] * [1, 1, 1] - [0.012 * h, 0, 0], 0.018, 0.014)],
            0.005 * h,
        )  # fmt: skip
        leg = joined([cone(j["hip"], j["knee"], 0.050, 0.034), cone(j["knee"], j["ankle"], 0.034, 0.022)], 0.006 * h)
        foot = joined([cone(heel, toe, 0.022, 0.014), cone(j["ankle"], heel, 0.022, 0.02)], 0.006 * h)
        return joined([trunk, skull, arm, joined([leg, foot], 0.006 * h)], 0.009 * h)

    return wrapped(distance, np.array([-0.65 * h, -0.02 * h, -0.16 * h]), np.array([0.65 * h, 1.03 * h, 0.2 * h]), cell)


def wrapped(distance, low, high, cell) -> RawMesh:
    """Quads round {distance < 0}: a point in every cell that the surface crosses (naive surface nets, Gibson 1998)."""
    n = np.ceil((high - low) / cell).astype(int) + 1
    axes = [low[k] + cell * np.arange(n[k]) for k in range(3)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), -1)
    d = distance(grid.reshape(-1, 3)).reshape(n)
    corners = np.stack(
        [d[i : n[0] - 1 + i, j : n[1] - 1 + j, k : n[2] - 1 + k] for i in (0, 1) for j in (0, 1) for k in (0, 1)], -1
    )
    crossed = (corners.min(-1) < 0) & (corners.max(-1) >= 0)
    number = np.full(crossed.shape, -1)
    number[crossed] = np.arange(crossed.sum())
    points = grid[:-1, :-1, :-1][crossed] + cell / 2
    for _ in range(4):  # onto the surface
        e = 1e-4
        g = np.stack([(distance(points + o) - distance(points - o)) / (2 * e) for o in np.eye(3) * e], 1)
        points = points - distance(points)[:, None] * g / np.maximum((g * g).sum(1, keepdims=True), 1e-9)
    faces = []
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        here = np.take(d, range(n[axis] - 1), axis) < 0
        there = np.take(d, range(1, n[axis]), axis) < 0
        for at in np.argwhere(here != there):
            if at[u] == 0 or at[v] == 0 or at[u] >= n[u] - 1 or at[v] >= n[v] - 1:
                continue
            ring = []
            for du, dv in ((-1, -1), (0, -1), (0, 0), (-1, 0)):
                c = at.copy()
                c[u] += du
                c[v] += dv
                ring.append(number[tuple(c)])
            faces.append(ring if here[tuple(at)] else ring[::-1])
    quads = np.array(faces)
    return RawMesh(
        points, np.arange(0, 4 * len(quads) + 1, 4), quads.ravel(), np.zeros(len(quads), np.int64), ["figure"]
    )
