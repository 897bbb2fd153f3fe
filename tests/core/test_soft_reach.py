"""Softened reach: a limb that is pulled straight does so without a jump in place or speed."""

import numpy as np
import pytest

from vonkel.core.rig import compile_rig
from vonkel.core.rig.ik import two_bone

UPPER, LOWER = 0.32, 0.27
ROOT, POLE = (0.0, 0.0, 0.0), (0.2, -0.3, 0.5)


def solve(reach, **more):
    return two_bone(ROOT, (0.0, -reach, 0.0), POLE, UPPER, LOWER, **more)


def elbow_angle(reach, **more):
    middle, end, _, _ = solve(reach, **more)
    a, b = np.array(middle), np.array(end) - middle
    return float(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b))


@pytest.mark.parametrize("soft", [0.02, 0.1, 0.25])
def test_place_and_speed_are_continuous_past_full_reach(soft):
    """By finite differences: without softness the bend's speed is unbounded where the limb becomes straight."""
    full = UPPER + LOWER
    reach = np.linspace(0.6 * full, 1.6 * full, 4001)
    step = reach[1] - reach[0]
    angle = np.array([elbow_angle(r, soft=soft) for r in reach])
    end = np.array([solve(r, soft=soft)[1][1] for r in reach])
    speed = np.diff(angle) / step
    hard = np.diff([elbow_angle(r) for r in reach]) / step
    assert np.abs(np.diff(speed)).max() < 0.2 * np.abs(np.diff(hard)).max()
    assert np.abs(speed).max() < 0.5 * np.abs(hard).max()
    pace = np.diff(end) / step
    assert np.abs(np.diff(pace)).max() < 2.5 * step / (full * soft)  # d″ is at most 1 over the soft length
    assert np.all(np.diff(-end) > -1e-12) and -end[-1] < full  # it only ever comes nearer to straight
    exact = [r for r in reach if r < full * (1 - soft)]
    assert max(abs(-solve(r, soft=soft)[1][1] - r) for r in exact) < 1e-12  # reached as ever before that


def test_with_stretch_the_softened_limb_still_meets_its_target():
    full = UPPER + LOWER
    for reach in np.linspace(0.7 * full, 1.45 * full, 200):
        middle, end, _, factor = solve(reach, soft=0.15, stretch=1.0, limit=1.5)
        assert -end[1] == pytest.approx(reach, abs=1e-9)
        assert np.linalg.norm(middle) == pytest.approx(UPPER * factor) and 1.0 <= factor <= 1.5 + 1e-9
    factors = [solve(r, soft=0.15, stretch=1.0, limit=1.5)[3] for r in np.linspace(0.7 * full, 2.5 * full, 3000)]
    assert np.abs(np.diff(factors)).max() < 2e-3 and max(factors) <= 1.5 + 1e-9


def test_the_arm_has_it_as_a_channel_and_rest_is_rest(otter):
    program = compile_rig(otter)
    rest = program.evaluate({}).joints
    assert np.array_equal(program.evaluate({"hand_L": {"soft": 0.0}}).joints, rest)
    far = {"hand_L": {"move x": 0.3, "move y": 0.3}}
    hard = program.evaluate(far).joints
    soft = program.evaluate({"hand_L": far["hand_L"] | {"soft": 0.2}}).joints
    i, j, k = (program.joint_names.index(n) for n in ("upper_arm_L", "forearm_L", "hand_L"))

    def bend(f):
        a, b = f[j, :, 3] - f[i, :, 3], f[k, :, 3] - f[j, :, 3]
        return np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b))

    assert bend(hard) < 0.1 and bend(soft) > 3.0  # past its reach the soft arm keeps a bend
