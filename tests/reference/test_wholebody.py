"""The whole-body solve against scipy's least squares on the same energy."""

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from vonkel.core.rig.wholebody import LegTree, pushed


def table(legs=4):
    """A round trunk with `legs` bent legs of two bones, each hinged at its knee."""
    joints, feet, starts, of_joint, axes = [], [], [0], [], []
    for i in range(legs):
        out = np.array([np.cos(2 * np.pi * i / legs), 0, np.sin(2 * np.pi * i / legs)])
        hip, knee, foot = 0.3 * out + [0, 1, 0], 0.7 * out + [0, 1.1, 0], 0.9 * out
        for axis in np.eye(3):
            of_joint.append(len(joints))
            axes.append(axis)
        of_joint.append(len(joints) + 1)
        axes.append(np.cross(out, [0, 1, 0]))
        joints += [hip, knee]
        feet.append(foot)
        starts.append(len(joints))
    costs = np.array([0.6] * 3 + [0.5] * 3 + [1.0] * len(axes))
    return LegTree(
        np.array([0.0, 1.0, 0.0]),
        np.array(joints),
        np.array(feet),
        np.array(starts),
        np.array(of_joint),
        np.array(axes),
        costs,
    )


def feet_of(tree, x):
    """The feet in a posture, by scipy's rotations: written anew, not shared with the solve."""
    trunk = Rotation.from_rotvec(x[3:6])
    out = []
    for leg in range(len(tree.feet)):
        a, b = tree.starts[leg], tree.starts[leg + 1]
        turn, place = trunk, tree.centre + x[:3] + trunk.apply(tree.joints[a] - tree.centre)
        for j in range(a, b):
            for f in np.flatnonzero(tree.of_joint == j):
                turn = turn * Rotation.from_rotvec(tree.axes[f] * x[6 + f])
            after = tree.joints[j + 1] if j + 1 < b else tree.feet[leg]
            place = place + turn.apply(after - tree.joints[j])
        out.append(place)
    return np.array(out)


@pytest.mark.parametrize("legs", [3, 4, 6, 8])
def test_the_posture_is_the_cheapest_one_that_holds_the_feet(legs):
    tree, rng = table(legs), np.random.default_rng(legs)
    damping = 1e-4 * tree.longest**2
    for _ in range(4):
        goals = tree.feet + rng.uniform(-0.1, 0.1, tree.feet.shape)
        cost = lambda x: np.r_[(feet_of(tree, x) - goals).ravel() / np.sqrt(damping), np.sqrt(tree.costs) * x]  # noqa: B023, E731
        best = least_squares(cost, np.zeros(6 + len(tree.axes)), xtol=1e-12, ftol=1e-12).x
        m = pushed(tree, goals)
        theirs = Rotation.from_rotvec(best[3:6])
        moved = np.linalg.norm(best[:3]) + theirs.magnitude()
        assert np.abs(m[:, :3] @ tree.centre + m[:, 3] - tree.centre - best[:3]).max() < 0.03 * moved
        assert (Rotation.from_matrix(m[:, :3]) * theirs.inv()).magnitude() < 0.03 * moved


def test_feet_at_rest_push_nothing_and_feet_moved_together_carry_the_body():
    tree = table(6)
    assert np.allclose(pushed(tree, tree.feet), np.eye(4)[:3], atol=1e-12)
    far = pushed(tree, tree.feet + [0.3, 0.1, -0.2])
    assert np.allclose(far[:, 3] + far[:, :3] @ tree.centre - tree.centre, [0.3, 0.1, -0.2], atol=0.06)
    gone = pushed(tree, tree.feet + [50.0, 0, 0])  # out of all reach: the body goes along, nothing explodes
    assert np.isfinite(gone).all()
