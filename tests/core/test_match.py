"""IK and FK, switched in the middle of a pose without a jump."""

import numpy as np
import pytest

from vonkel.core.errors import NotFound, StepRefused
from vonkel.core.rig import compile_rig
from vonkel.core.rig.match import switched

LIMBS = {
    "arm_L": ("hand_L", ("upper_arm_L", "forearm_L", "hand_L")),
    "leg_R": ("foot_R", ("thigh_R", "shin_R", "foot_R")),
}


def frames(program, inputs, joints):
    pose = program.evaluate(inputs)
    return np.array([pose.joints[program.joint_names.index(n)] for n in joints])


def poses(target):
    """Seeded targets within reach, turned and with the guide moved; and the whole body leaning."""
    rng = np.random.default_rng(12)
    guide = {"hand_L": "elbow guide_L", "foot_R": "knee guide_R"}[target]
    for _ in range(12):
        move = dict(zip(("move x", "move y", "move z"), rng.uniform(-0.06, 0.08, 3), strict=True))
        turn = dict(zip(("turn x", "turn y", "turn z"), rng.uniform(-0.6, 0.6, 3), strict=True))
        yield {
            target: move | turn,
            guide: {"move y": float(rng.uniform(-0.1, 0.1)), "move x": float(rng.uniform(-0.1, 0.1))},
            "head turn": {"turn z": 0.2},
        }


@pytest.mark.parametrize("kit", LIMBS)
def test_from_ik_to_fk_and_back_nothing_moves(otter, kit):
    program = compile_rig(otter)
    target, joints = LIMBS[kit]
    for inputs in poses(target):
        start = frames(program, inputs, joints)
        by_fk = switched(otter, program, inputs, kit, "fk")
        assert by_fk[target]["ik"] == 0.0
        assert np.abs(frames(program, by_fk, joints) - start).max() < 1e-9  # exact: FK can take any pose
        by_ik = switched(otter, program, by_fk, kit, "ik")
        assert by_ik[target]["ik"] == 1.0 and np.abs(frames(program, by_ik, joints) - start).max() < 1e-5
        assert by_ik["head turn"] == {"turn z": 0.2}  # the others keep their values
        halfway = {**by_fk, target: {**by_ik[target], "ik": 0.5}, **{c: by_ik[c] for c in by_ik if "guide" in c}}
        assert np.abs(frames(program, halfway, joints) - start).max() < 1e-5  # both agree, so any blend of them does


@pytest.mark.parametrize("kit", LIMBS)
def test_a_pose_made_by_fk_is_taken_over_by_ik(otter, kit):
    program = compile_rig(otter)
    target, joints = LIMBS[kit]
    rng = np.random.default_rng(3)
    for _ in range(12):
        bend = {"turn z": float(rng.uniform(0.1, 1.2))}
        inputs = {
            target: {"ik": 0.0}, f"{joints[0]} turn": dict(zip(("turn x", "turn y", "turn z"), rng.uniform(-0.7, 0.7, 3), strict=True)),
            f"{joints[1]} turn": bend, f"{joints[2]} turn": {"turn x": 0.3, "turn z": -0.2},
        }  # fmt: skip
        start = frames(program, inputs, joints)
        made = frames(program, switched(otter, program, inputs, kit, "ik"), joints)
        # Hinges that turn out of their bend plane can't be followed by a two-bone solve; places and the end always are.
        assert np.abs(made[:, :, 3] - start[:, :, 3]).max() < 1e-5 and np.abs(made[2] - start[2]).max() < 1e-5


def test_a_straight_limb_keeps_its_side_and_others_are_refused(otter):
    program = compile_rig(otter)
    straight = {"hand_L": {"ik": 0.0}, "forearm_L turn": {"turn z": -0.288}}
    made = switched(otter, program, straight, "arm_L", "ik")
    at = frames(program, made, LIMBS["arm_L"][1])[:, :, 3]
    assert np.abs(at - frames(program, straight, LIMBS["arm_L"][1])[:, :, 3]).max() < 2e-3
    with pytest.raises(StepRefused, match="no IK"):
        switched(otter, program, {}, "tail", "ik")
    with pytest.raises(NotFound):
        switched(otter, program, {}, "wing_L", "ik")
