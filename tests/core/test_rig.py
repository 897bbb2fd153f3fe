"""The compiled rig: nothing moves when kits are made, IK reaches, order is stated, drags come back as values."""

import json

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from vonkel.core.character import Character, Kit
from vonkel.core.errors import BadParameters, RigLoop, StepRefused
from vonkel.core.rig import compile_rig
from vonkel.core.rig.compile import in_order
from vonkel.core.rig.drag import moved_to, turned_by
from vonkel.core.rig.fitting import add_kit, remove_kit
from vonkel.core.rig.ik import two_bone
from vonkel.core.rig.program import Operation
from vonkel.core.skin.deform import rest_inverses


def test_nothing_moves_at_rest_whatever_the_blend(otter):
    program = compile_rig(otter)
    inverse = rest_inverses(otter)
    for ik in (1.0, 0.5, 0.0):
        pose = program.evaluate({f"{w}_{s}": {"ik": ik} for w in ("hand", "foot") for s in "LR"})
        assert np.abs(pose.skin_matrices(inverse) - np.eye(4)[:3]).max() < 1e-12


def test_evaluation_is_pure_and_survives_saving(otter):
    inputs = {
        "hand_L": {"move x": 0.1, "move y": 0.2, "ik": 0.7},
        "chest turn": {"turn x": 0.4},
        "tail_2 turn": {"turn y": 0.3},
    }
    before = json.dumps(inputs)
    a, b = compile_rig(otter).evaluate(inputs), compile_rig(otter).evaluate(inputs)
    assert np.array_equal(a.joints, b.joints) and json.dumps(inputs) == before
    saved = Character.model_validate_json(otter.model_dump_json()).model_copy(update={"arrays": otter.arrays})
    assert saved.key == otter.key
    assert np.array_equal(compile_rig(saved).evaluate(inputs).joints, a.joints)


@pytest.mark.parametrize("side", ["L", "R"])
@pytest.mark.parametrize("limb", [("hand", "upper_arm", "forearm"), ("foot", "thigh", "shin")])
def test_ik_reaches_its_target_and_keeps_bone_lengths(otter, side, limb):
    word, upper, lower = (f"{x}_{side}" for x in limb)
    end = f"{limb[0]}_{side}"
    program, index = compile_rig(otter), otter.joint_index
    root, middle, rest = (np.array(otter.joint(n).place) for n in (upper, lower, end))
    a, b = np.linalg.norm(middle - root), np.linalg.norm(rest - middle)
    rng = np.random.default_rng(1)
    for _ in range(30):
        way = rng.normal(size=3)
        target = root + way / np.linalg.norm(way) * rng.uniform(abs(a - b) + 1e-3, a + b - 1e-3)
        move = dict(zip(("move x", "move y", "move z"), target - rest, strict=True))
        p = program.evaluate({word: move}).joints[:, :, 3]
        assert np.abs(p[index[end]] - target).max() < 1e-6 * (a + b)
        assert np.linalg.norm(p[index[lower]] - p[index[upper]]) == pytest.approx(a, abs=1e-9)
        assert np.linalg.norm(p[index[end]] - p[index[lower]]) == pytest.approx(b, abs=1e-9)


def test_two_bone_against_the_law_of_cosines():
    """Interior angles of a triangle from its sides (Euclid II.12–13), for many reaches."""
    for a, b in ((0.3, 0.25), (1.0, 1.0), (0.2, 0.5)):
        for d in np.linspace(abs(a - b) + 1e-6, a + b - 1e-6, 25):
            middle, end, normal, factor = two_bone((0, 0, 0), (d, 0, 0), (0.1, 1, 0), a, b)
            angle = np.arctan2(middle[1], middle[0])
            assert np.cos(angle) == pytest.approx((a * a + d * d - b * b) / (2 * a * d), abs=1e-9)
            assert np.allclose(end, (d, 0, 0)) and factor == 1.0 and middle[1] >= 0 and abs(middle[2]) < 1e-12
            assert np.allclose(normal, (0, 0, 1))


def test_two_bone_out_of_reach_and_degenerate():
    middle, end, _, factor = two_bone((0, 0, 0), (3, 0, 0), (0, 1, 0), 1, 1)
    assert np.allclose(end, (2, 0, 0)) and factor == 1.0 and np.allclose(middle, (1, 0, 0))
    _, end, _, factor = two_bone((0, 0, 0), (2.6, 0, 0), (0, 1, 0), 1, 1, stretch=1.0, limit=1.5)
    assert np.allclose(end, (2.6, 0, 0)) and factor == pytest.approx(1.3)
    _, end, _, factor = two_bone((0, 0, 0), (9, 0, 0), (0, 1, 0), 1, 1, stretch=1.0, limit=1.5)
    assert np.allclose(end, (3, 0, 0)) and factor == 1.5
    for pole in ((0, 0, 0), (5, 0, 0)):  # on the line: any plane, but a plane
        middle, *_ = two_bone((0, 0, 0), (1, 0, 0), pole, 1, 1)
        assert np.isfinite(middle).all() and np.linalg.norm(middle) == pytest.approx(1)
    assert np.isfinite(two_bone((0, 0, 0), (0, 0, 0), (0, 1, 0), 1, 1)[0]).all()


def test_stretch_scales_the_bone_but_not_what_hangs_on_it(otter):
    program, index = compile_rig(otter), otter.joint_index
    pose = program.evaluate({"hand_L": {"move x": 0.35, "stretch": 1.0}})
    assert pose.scales[index["upper_arm_L"], 0] > 1.05 and (pose.scales[index["hand_L"]] == 1).all()
    frames = pose.joints[:, :, :3]
    assert np.allclose(frames @ frames.transpose(0, 2, 1), np.eye(3), atol=1e-9)


def test_hips_turn_without_the_chest_and_the_chest_without_the_hips(otter):
    program, index = compile_rig(otter), otter.joint_index
    rest = program.evaluate({}).joints

    def turned(inputs, joint):
        r = program.evaluate(inputs).joints[index[joint], :, :3] @ rest[index[joint], :, :3].T
        return Rotation.from_matrix(r).magnitude()

    assert turned({"hips move": {"turn y": 0.5}}, "hips") == pytest.approx(0.5)
    assert turned({"hips move": {"turn y": 0.5}}, "chest") < 1e-7
    assert turned({"chest turn": {"turn x": 0.5}}, "hips") < 1e-7
    assert turned({"chest turn": {"turn x": 0.5}}, "chest") == pytest.approx(0.5)
    assert 0.05 < turned({"chest turn": {"turn x": 0.5}}, "spine_1") < 0.45


def test_the_whole_figure_moves_as_one(otter):
    program = compile_rig(otter)
    rest = program.evaluate({}).joints[:, :, 3]
    moved = program.evaluate({"whole": {"move x": 0.3, "move z": -1.0}}).joints[:, :, 3]
    assert np.allclose(moved - rest, [0.3, 0, -1.0], atol=1e-12)


def test_mirrored_kits_give_mirrored_poses(otter):
    program, names = compile_rig(otter), [j.name for j in otter.joints]
    left = program.evaluate(
        {"hand_L": {"move x": 0.1, "move y": 0.25, "move z": 0.2}, "forearm_L turn": {"turn z": 0.2}}
    )
    right = program.evaluate(
        {"hand_R": {"move x": -0.1, "move y": 0.25, "move z": 0.2}, "forearm_R turn": {"turn z": 0.2}}
    )
    for n in ("upper_arm", "forearm", "hand", "ring_3"):
        a, b = left.joints[names.index(f"{n}_L"), :, 3], right.joints[names.index(f"{n}_R"), :, 3]
        assert np.allclose(a * [-1, 1, 1], b, atol=1e-9)


def test_one_value_curls_the_digits_of_both_hands_alike(otter):
    """Turning a partner by the same value about its hinge mirrors the motion."""
    program, index = compile_rig(otter), otter.joint_index
    p = program.evaluate({f"index_1_{s} turn": {"turn z": 0.8} for s in "LR"}).joints[:, :, 3]
    assert np.allclose(p[index["index_3_L"]] * [-1, 1, 1], p[index["index_3_R"]], atol=1e-9)
    rest = np.array(otter.joint("index_3_L").place)
    assert np.linalg.norm(p[index["index_3_L"]] - rest) > 0.01


def test_eyes_look_at_their_aim(otter):
    program, index = compile_rig(otter), otter.joint_index
    for move in ((0, 0, 0), (0.3, 0.1, 0.0), (-0.2, -0.3, -0.1)):
        pose = program.evaluate({"eyes aim": dict(zip(("move x", "move y", "move z"), move, strict=True))})
        rest = program.evaluate({})
        aim = np.array(pose.controls["eyes aim"])[[3, 7, 11]]
        for eye in ("eye_L", "eye_R"):
            i = index[eye]
            line = rest.joints[i, :, :3].T @ (np.array(rest.controls["eyes aim"])[[3, 7, 11]] - rest.joints[i, :, 3])
            seen = pose.joints[i, :, :3] @ line
            way = aim - pose.joints[i, :, 3]
            assert np.linalg.norm(np.cross(seen, way)) < 1e-9 and seen @ way > 0


def test_following_a_drag_gives_what_a_fresh_evaluation_gives(otter):
    """Only what changed is run again, and nothing of the last value stays behind."""
    from vonkel.core.rig import PartialEvaluator

    program = compile_rig(otter)
    follower = PartialEvaluator(program)
    rng = np.random.default_rng(4)
    channels = [k for k in program.channels]
    inputs = {}
    for _ in range(60):
        for control, channel in (channels[i] for i in rng.integers(0, len(channels), rng.integers(0, 4))):
            inputs = {**inputs, control: {**inputs.get(control, {}), channel: float(rng.normal(0, 0.4))}}
        if rng.random() < 0.1:
            inputs = {}
        a, b = follower.evaluate(inputs), program.evaluate(inputs)
        assert np.array_equal(a.joints, b.joints) and np.array_equal(a.scales, b.scales)
        assert a.controls == b.controls and a.shapes == b.shapes
    few = program.reached_from(frozenset({"hand_L"}))
    assert 0 < len(few) < len(program.operations) / 3


def test_values_are_held_to_their_limits(otter):
    program = compile_rig(otter)
    a = program.evaluate({"hand_L": {"move y": 0.2, "ik": 5.0}, "shapes": {"mouth open": 7.0}})
    b = program.evaluate({"hand_L": {"move y": 0.2, "ik": 1.0}})
    assert np.array_equal(a.joints, b.joints) and a.shapes["mouth open"] == 1.0


def test_a_loop_is_refused_with_the_names_in_it():
    def op(name, reads, writes):
        return Operation(name, reads, writes, lambda s, v: None)

    good = [op("b from a", ("a",), ("b",)), op("a", (), ("a",)), op("c from b", ("b",), ("c",))]
    assert [o.sentence for o in in_order(good)] == ["a", "b from a", "c from b"]
    with pytest.raises(RigLoop, match="“x after y”; “y after x”|“y after x”; “x after y”"):
        in_order([op("x after y", ("y",), ("x",)), op("y after x", ("x",), ("y",)), op("free", (), ("z",))])
    with pytest.raises(StepRefused, match="Two operations move b"):
        in_order([op("one", (), ("b",)), op("two", (), ("b",))])


def test_kits_refuse_what_does_not_fit_and_come_off_again(otter):
    bare = otter.with_(kits=(), controls=())
    with pytest.raises(BadParameters, match="not a chain"):
        add_kit(
            bare,
            Kit(
                name="arm",
                kind="arm",
                side="L",
                joints={"upper": ("hand_L",), "middle": ("forearm_L",), "end": ("upper_arm_L",)},
            ),
        )
    with pytest.raises(BadParameters, match="wants 1 joints as “upper”"):
        add_kit(bare, Kit(name="arm", kind="arm", joints={}))
    with pytest.raises(StepRefused, match="already moved by the kit “arm_L”"):
        add_kit(otter, Kit(name="more", kind="turns", joints={"chain": ("forearm_L",)}))
    with pytest.raises(BadParameters, match="Option"):
        add_kit(bare, Kit(name="t", kind="turns", joints={"chain": ("head",)}, options={"nonsense": 1}))
    off = remove_kit(otter, "arm_L")
    assert not any(c.kit == "arm_L" for c in off.controls) and off.joints == otter.joints
    compile_rig(off).evaluate({})


def test_dragging_comes_back_as_values(otter):
    """The control ends where the hand put it, also on top of other values and on a turned parent."""
    program = compile_rig(otter)
    inputs = {
        "whole": {"turn y": 0.7, "move x": 0.2},
        "hand_L": {"move x": 0.05, "turn x": 0.4},
        "body": {"turn x": 0.2},
    }
    for control in ("hand_L", "body", "eyes aim"):
        frame = program.evaluate(inputs).controls[control]
        place = (0.31, 0.62, 0.13)
        given = moved_to(program, inputs, control, place)
        now = np.array(program.evaluate({**inputs, control: given}).controls[control])
        assert np.allclose(now[[3, 7, 11]], place, atol=1e-9)
        assert np.allclose(now[[0, 1, 2, 4, 5, 6]], np.array(frame)[[0, 1, 2, 4, 5, 6]], atol=1e-9)
    by = Rotation.from_rotvec([0.3, -0.5, 0.2])
    q = by.as_quat()
    for control in ("chest turn", "tail_3 turn", "hand_L"):
        frame = np.array(program.evaluate(inputs).controls[control]).reshape(3, 4)
        given = turned_by(program, inputs, control, (q[3], q[0], q[1], q[2]))
        now = np.array(program.evaluate({**inputs, control: given}).controls[control]).reshape(3, 4)
        assert np.allclose(now[:, :3], by.as_matrix() @ frame[:, :3], atol=1e-9)
