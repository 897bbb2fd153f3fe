"""Editing joints: symmetry, names, mirroring, keeping inside, new places under kits and skin."""

import numpy as np
import pytest

from vonkel.core.character import Joint, opposite_name
from vonkel.core.errors import BadParameters, StepRefused
from vonkel.core.geometry.rotations import matrix_from_quaternion
from vonkel.core.joints import edit
from vonkel.core.joints.inside import body_solid
from vonkel.core.joints.mirroring import mirror_joints
from vonkel.core.joints.names import rename_joint
from vonkel.core.joints.orient import bone_child, mirrored_axes
from vonkel.core.rig import compile_rig
from vonkel.core.upkeep import kept_up
from vonkel.steps import apply_step


def place(c, name):
    return np.array(c.joint(name).place)


def test_moving_left_moves_right_and_keeps_bones_down_their_axis(otter):
    to = place(otter, "forearm_L") + [0.004, 0.01, -0.008]
    moved = edit.move_joint(otter, "forearm_L", to)
    assert np.allclose(place(moved, "forearm_L"), to) and np.allclose(place(moved, "forearm_R"), to * [-1, 1, 1])
    for n in ("upper_arm_L", "forearm_L", "upper_arm_R", "forearm_R"):
        j = moved.joint(n)
        along = place(moved, bone_child(moved, j).name) - place(moved, n)
        assert matrix_from_quaternion(j.turn)[:, 0] @ along == pytest.approx(np.linalg.norm(along))
    assert moved.joint("head") == otter.joint("head")
    moved = kept_up(moved, otter)
    rest = compile_rig(moved).evaluate({}).joints[:, :, 3]
    assert np.abs(rest - [j.place for j in moved.joints]).max() < 1e-12  # kits follow: nothing moves at rest


def test_one_side_alone_and_with_children(otter):
    by = np.array([0.0, 0.01, 0.0])
    one = edit.move_joint(otter, "hand_L", place(otter, "hand_L") + by, both_sides=False)
    assert np.allclose(place(one, "hand_R"), place(otter, "hand_R"))
    all_ = edit.move_joint(otter, "hand_L", place(otter, "hand_L") + by, with_children=True)
    assert np.allclose(place(all_, "index_end_L") - place(otter, "index_end_L"), by)
    assert np.allclose(place(all_, "index_end_R") - place(otter, "index_end_R"), by)


def test_deforming_joints_stay_inside_and_end_joints_may_stick_out(otter):
    far = place(otter, "forearm_L") + [0.4, 0.3, 0.3]
    held = edit.move_joint(otter, "forearm_L", far)
    assert body_solid(otter).contains(place(held, "forearm_L")[None])[0]
    out = edit.move_joint(otter, "tail_end", place(otter, "tail_end") + [0, 0, -0.3])
    assert place(out, "tail_end")[2] == pytest.approx(place(otter, "tail_end")[2] - 0.3)
    middle = edit.move_joint(otter, "head", place(otter, "head") + [0.05, 0, 0])
    assert place(middle, "head")[0] == 0.0  # a joint on the body plane stays on it


def test_mirroring_twice_is_nothing(otter):
    bare = otter.with_(kits=(), controls=())
    once = mirror_joints(bare, "collar_L")
    twice = mirror_joints(once, "collar_R")
    assert np.allclose([j.place for j in twice.joints], [j.place for j in once.joints], atol=1e-12)
    for a, b in zip(twice.joints, once.joints, strict=True):
        assert abs(np.dot(a.turn, b.turn)) == pytest.approx(1.0)
    axes = matrix_from_quaternion(once.joint("forearm_L").turn)
    assert np.allclose(mirrored_axes(mirrored_axes(axes)), axes)
    only_left = bare.with_(joints=tuple(j for j in bare.joints if not j.name.endswith("_R")))
    assert set(mirror_joints(only_left, "collar_L").joint_index) >= {"collar_R", "hand_R", "thumb_end_R"}


def test_renaming_reaches_everywhere_and_never_doubles(otter):
    c = rename_joint(otter, "forearm_L", "lower_arm_L")
    assert "lower_arm_R" in c.joint_index and c.joint("hand_R").parent == "lower_arm_R"
    assert "lower_arm_L" in c.skin.joints and "lower_arm_L turn" in c.control_named
    assert compile_rig(c).evaluate({}).joints.shape == (len(otter.joints), 3, 4)
    with pytest.raises(BadParameters, match="called “head” already"):
        rename_joint(otter, "neck", "head")


def test_adding_and_taking_out(otter):
    c, sentence = apply_step(otter, "joints.add", {"parent": "hand_L", "name": "charm", "place": [0.46, 0.45, 0.02]})
    assert sentence == "Added charm below hand_L"
    assert c.joint("charm_R").parent == "hand_R" and c.joint("charm_R").place[0] == -0.46
    again, _ = apply_step(c, "joints.add", {"parent": "hand_L", "name": "charm", "place": [0.47, 0.45, 0.02]})
    assert {"charm 2_L", "charm 2_R"} <= set(again.joint_index)
    with pytest.raises(StepRefused, match="called “charm_L” already"):
        edit.add_joint(c, Joint(name="charm_L", place=(0, 0, 0)))
    with pytest.raises(StepRefused, match="moved by the kit"):
        edit.remove_joint(otter, "forearm_L")
    bare = otter.with_(kits=(), controls=())
    less = edit.remove_joint(bare, "tail_4")
    assert less.joint("tail_5").parent == "tail_3" and "tail_4" not in less.skin.joints
    from vonkel.core.skin.bind import weights_of

    both = weights_of(bare, "tail_3") + weights_of(bare, "tail_4")
    held = np.where(less.arrays["skin/joints"] == less.skin.joints.index("tail_3"), less.arrays["skin/weights"], 0).sum(
        1
    )
    assert less.skin.joints.count("tail_3") == 1  # one holder, one place in the list
    assert np.allclose(held, both)
    for row, weights in zip(less.arrays["skin/joints"], less.arrays["skin/weights"], strict=True):
        used = row[weights > 0]
        assert len(set(used)) == len(used)


def test_a_straight_limb_gets_its_bend(otter):
    bare = otter.with_(kits=(), controls=())
    a, b = place(bare, "upper_arm_L"), place(bare, "hand_L")
    straight = edit.move_joint(bare, "forearm_L", 0.55 * a + 0.45 * b)
    from vonkel.readings import findings
    from vonkel.readings.findings.joints import bend_at

    found = [f for f in findings(straight) if "dead straight" in f.title]
    assert found and found[0].mend.step == "joints.bend"
    bent, _ = apply_step(straight, found[0].mend.step, found[0].mend.params)
    assert np.degrees(bend_at(bent, "forearm_L")) == pytest.approx(4.0, abs=0.05)
    assert place(bent, "forearm_L")[2] < place(straight, "forearm_L")[2]  # elbows bend backward
    assert not [f for f in findings(bent) if "dead straight" in f.title]


def test_every_joint_has_its_mirrored_partner(otter):
    for j in otter.joints:
        if j.side == "L":
            other = otter.joint(opposite_name(j.name))
            assert np.allclose(np.array(j.place) * [-1, 1, 1], other.place)
            m = mirrored_axes(matrix_from_quaternion(j.turn))
            assert np.allclose(m, matrix_from_quaternion(other.turn), atol=1e-9)
