"""The whole-body solve: feet that are held push the body, by damped least squares over body and legs together.

Of all postures whose feet are where they are wanted the one is found that has turned and moved least from rest, each
freedom weighed by its cost: weighted damped least squares on the posture itself (Nakamura & Hanafusa 1986; Buss 2004,
Introduction to Inverse Kinematics …, section 6, for the damping), iterated from rest, so that the same feet always give
the same body.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

ROUNDS = 24


@dataclass(frozen=True)
class LegTree:
    """Legs on one rigid trunk.  Places in metres at rest, all axes the world's.

    centre (3,): what the trunk turns about; joints (n, 3): places of the legs' turning joints, leg after leg, root first;
    feet (legs, 3); starts (legs + 1,): runs of joints; freedoms: of_joint (f,) and axes (f, 3), in running order;
    costs (6 + f,): of the trunk's move and turn, then of each freedom.
    """

    centre: np.ndarray
    joints: np.ndarray
    feet: np.ndarray
    starts: np.ndarray
    of_joint: np.ndarray
    axes: np.ndarray
    costs: np.ndarray


@numba.njit(cache=True, nogil=True)
def _rotation(v):
    """Rotation matrix of a rotation vector (3,)."""
    angle = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
    out = np.eye(3)
    if angle < 1e-14:
        return out
    x, y, z = v[0] / angle, v[1] / angle, v[2] / angle
    c, s = np.cos(angle), np.sin(angle)
    k = 1.0 - c
    out[0, 0], out[0, 1], out[0, 2] = c + k * x * x, k * x * y - s * z, k * x * z + s * y
    out[1, 0], out[1, 1], out[1, 2] = k * x * y + s * z, c + k * y * y, k * y * z - s * x
    out[2, 0], out[2, 1], out[2, 2] = k * x * z - s * y, k * y * z + s * x, c + k * z * z
    return out


@numba.njit(cache=True, nogil=True)
def _solve(centre, joints, feet, starts, of_joint, axes, costs, goals, damping, rounds, longest):
    """(6 + f,) posture: the trunk's move, its rotation vector, then every freedom's angle."""
    legs, free = len(feet), len(of_joint)
    posture = np.zeros(6 + free)
    rows = 3 * legs
    jacobian = np.zeros((rows, 6 + free))
    miss = np.zeros(rows)
    for _ in range(rounds):
        trunk = _rotation(posture[3:6])
        jacobian[:] = 0.0
        f = 0
        for leg in range(legs):
            a, b = starts[leg], starts[leg + 1]
            turn = trunk.copy()
            place = centre + posture[0:3] + trunk @ (joints[a] - centre)
            first = f
            # Where each freedom's axis stands now, and the joint that it goes through.
            at = np.zeros((free, 3))
            axis = np.zeros((free, 3))
            for j in range(a, b):
                while f < free and of_joint[f] == j:
                    axis[f] = turn @ axes[f]
                    at[f] = place
                    turn = turn @ _rotation(axes[f] * posture[6 + f])
                    f += 1
                following = joints[j + 1] if j + 1 < b else feet[leg]
                place = place + turn @ (following - joints[j])
            for r in range(3):
                miss[3 * leg + r] = goals[leg, r] - place[r]
                jacobian[3 * leg + r, r] = 1.0
            # The trunk's turn: its rotation vector's derivative is taken about the axes as they stand (the vector is
            # small, and what is left of the error goes in the rounds that follow).
            arm = place - centre - posture[0:3]
            jacobian[3 * leg + 0, 4], jacobian[3 * leg + 0, 5] = arm[2], -arm[1]
            jacobian[3 * leg + 1, 3], jacobian[3 * leg + 1, 5] = -arm[2], arm[0]
            jacobian[3 * leg + 2, 3], jacobian[3 * leg + 2, 4] = arm[1], -arm[0]
            for k in range(first, f):
                d = place - at[k]
                jacobian[3 * leg + 0, 6 + k] = axis[k, 1] * d[2] - axis[k, 2] * d[1]
                jacobian[3 * leg + 1, 6 + k] = axis[k, 2] * d[0] - axis[k, 0] * d[2]
                jacobian[3 * leg + 2, 6 + k] = axis[k, 0] * d[1] - axis[k, 1] * d[0]
        weighed = jacobian / costs
        normal = weighed @ jacobian.T
        for r in range(rows):
            normal[r, r] += damping
        wanted = weighed.T @ np.linalg.solve(normal, miss + jacobian @ posture)
        change = wanted - posture
        most = 0.0
        for k in range(6 + free):
            size = abs(change[k]) / (longest if k < 3 else 1.0)
            most = max(most, size)
        if most > 0.35:  # far goals are neared in steps: the derivative is true only nearby
            change *= 0.35 / most
        posture = posture + change
        if most < 1e-11:
            break
    return posture


def pushed(tree: LegTree, goals: np.ndarray, damping: float = 1e-4) -> np.ndarray:
    """(3, 4): how the trunk goes from rest when its feet are wanted at `goals` (legs, 3), metres.

    damping: how much a foot may be missed, against the square of the longest leg; less reaches farther.
    """
    longest = longest_leg(tree)
    posture = _solve(
        tree.centre, tree.joints, tree.feet, tree.starts, tree.of_joint, tree.axes, tree.costs, goals,
        damping * longest * longest, ROUNDS, longest,
    )  # fmt: skip
    out = np.empty((3, 4))
    out[:, :3] = _rotation(posture[3:6])
    out[:, 3] = tree.centre + posture[:3] - out[:, :3] @ tree.centre
    return out


def longest_leg(tree: LegTree) -> float:
    """The longest leg's whole length, metres."""
    sizes = []
    for leg, foot in enumerate(tree.feet):
        chain = np.vstack([tree.joints[tree.starts[leg] : tree.starts[leg + 1]], foot])
        sizes.append(float(np.linalg.norm(np.diff(chain, axis=0), axis=1).sum()))
    return max(sizes)
