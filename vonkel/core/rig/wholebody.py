"""The whole-body solve: feet that are held push the body, by damped least squares over body and legs together.

Of all postures whose feet are where they are wanted the one is found that has turned and moved least from rest, each
freedom weighed by its cost: weighted damped least squares on the posture itself (Nakamura & Hanafusa 1986; Buss 2004,
Introduction to Inverse Kinematics …, section 6, for the damping), iterated from rest, so that the same feet always give
the same body.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..compiled import compiled

MOST_ROUNDS = 24


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

    @cached_property
    def longest(self) -> float:
        """The longest leg's whole length, metres."""
        sizes = []
        for leg, foot in enumerate(self.feet):
            chain = np.vstack([self.joints[self.starts[leg] : self.starts[leg + 1]], foot])
            sizes.append(float(np.linalg.norm(np.diff(chain, axis=0), axis=1).sum()))
        return max(sizes)


@compiled
def _rotation(v: np.ndarray) -> np.ndarray:
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


@compiled
def _turn_on(m: np.ndarray, axis: np.ndarray, angle: float) -> None:
    """m (3, 3) becomes m times the rotation by `angle` about the unit vector `axis`."""
    x, y, z = axis[0], axis[1], axis[2]
    c, s = np.cos(angle), np.sin(angle)
    k = 1.0 - c
    r00, r01, r02 = c + k * x * x, k * x * y - s * z, k * x * z + s * y
    r10, r11, r12 = k * x * y + s * z, c + k * y * y, k * y * z - s * x
    r20, r21, r22 = k * x * z - s * y, k * y * z + s * x, c + k * z * z
    for i in range(3):
        a, b, d = m[i, 0], m[i, 1], m[i, 2]
        m[i, 0] = a * r00 + b * r10 + d * r20
        m[i, 1] = a * r01 + b * r11 + d * r21
        m[i, 2] = a * r02 + b * r12 + d * r22


@compiled
def _carry(m: np.ndarray, v: np.ndarray, base: np.ndarray, out: np.ndarray) -> None:
    """out = base + m · v."""
    for i in range(3):
        out[i] = base[i] + m[i, 0] * v[0] + m[i, 1] * v[1] + m[i, 2] * v[2]


@compiled
def _solve(
    centre: np.ndarray,
    joints: np.ndarray,
    feet: np.ndarray,
    starts: np.ndarray,
    of_joint: np.ndarray,
    axes: np.ndarray,
    costs: np.ndarray,
    goals: np.ndarray,
    damping: float,
    rounds: int,
    longest: float,
) -> np.ndarray:
    """(6 + f,) posture: the trunk's move, its rotation vector, then every freedom's angle."""
    legs, free = len(feet), len(of_joint)
    posture = np.zeros(6 + free)
    rows = 3 * legs
    jacobian = np.zeros((rows, 6 + free))
    miss = np.zeros(rows)
    # Where each freedom's axis stands now, and the joint that it goes through.
    at, axis = np.zeros((free, 3)), np.zeros((free, 3))
    turn, place, bone, zero = np.zeros((3, 3)), np.zeros(3), np.zeros(3), np.zeros(3)
    for _ in range(rounds):
        trunk = _rotation(posture[3:6])
        jacobian[:] = 0.0
        f = 0
        for leg in range(legs):
            a, b = starts[leg], starts[leg + 1]
            turn[:] = trunk
            for r in range(3):
                bone[r] = joints[a, r] - centre[r]
                place[r] = centre[r] + posture[r]
            _carry(trunk, bone, place, place)
            first = f
            for j in range(a, b):
                while f < free and of_joint[f] == j:
                    _carry(turn, axes[f], zero, axis[f])
                    at[f] = place
                    _turn_on(turn, axes[f], posture[6 + f])
                    f += 1
                for r in range(3):
                    bone[r] = (joints[j + 1, r] if j + 1 < b else feet[leg, r]) - joints[j, r]
                _carry(turn, bone, place, place)
            row = 3 * leg
            for r in range(3):
                miss[row + r] = goals[leg, r] - place[r]
                jacobian[row + r, r] = 1.0
            # The trunk's turn: its rotation vector's derivative is taken about the axes as they stand (the vector is
            # small, and what is left of the error goes in the rounds that follow).
            x = place[0] - centre[0] - posture[0]
            y = place[1] - centre[1] - posture[1]
            z = place[2] - centre[2] - posture[2]
            jacobian[row, 4], jacobian[row, 5] = z, -y
            jacobian[row + 1, 3], jacobian[row + 1, 5] = -z, x
            jacobian[row + 2, 3], jacobian[row + 2, 4] = y, -x
            for k in range(first, f):
                x, y, z = place[0] - at[k, 0], place[1] - at[k, 1], place[2] - at[k, 2]
                jacobian[row, 6 + k] = axis[k, 1] * z - axis[k, 2] * y
                jacobian[row + 1, 6 + k] = axis[k, 2] * x - axis[k, 0] * z
                jacobian[row + 2, 6 + k] = axis[k, 0] * y - axis[k, 1] * x
        weighed = jacobian / costs
        normal = weighed @ jacobian.T
        for r in range(rows):
            normal[r, r] += damping
        change = weighed.T @ np.linalg.solve(normal, miss + jacobian @ posture) - posture
        most = 0.0
        for k in range(6 + free):
            size = abs(change[k]) / (longest if k < 3 else 1.0)
            most = max(most, size)
        if most > 0.35:  # far goals are neared in steps: the derivative is true only nearby
            change *= 0.35 / most
        posture += change
        if most < 1e-7:  # what is left is a fifth of that, far below what is seen; the legs reach exactly anyway
            break
    return posture


def pushed(tree: LegTree, goals: np.ndarray, damping: float = 1e-4) -> np.ndarray:
    """(3, 4): how the trunk goes from rest when its feet are wanted at `goals` (legs, 3), metres.

    damping: how much a foot may be missed, against the square of the longest leg; less reaches farther.
    """
    longest = tree.longest
    posture = _solve(
        tree.centre, tree.joints, tree.feet, tree.starts, tree.of_joint, tree.axes, tree.costs, goals,
        damping * longest * longest, MOST_ROUNDS, longest,
    )  # fmt: skip
    out = np.empty((3, 4))
    out[:, :3] = _rotation(posture[3:6])
    out[:, 3] = tree.centre + posture[:3] - out[:, :3] @ tree.centre
    return out
