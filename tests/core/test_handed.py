"""The skin that goes out: how near it comes to the live one, on poses that it was made for and on others."""

import numpy as np
import pytest

from vonkel.core.errors import StepRefused
from vonkel.core.formats import read_character
from vonkel.core.geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector
from vonkel.core.geometry.topology import signed_volume, topology_of
from vonkel.core.handover import written
from vonkel.core.linear.baking import handed_over, nearness
from vonkel.core.linear.targets import with_correctives
from vonkel.core.poses import pose_from_turns, trial_poses
from vonkel.core.rig import Pose
from vonkel.core.skin import Deformer
from vonkel.core.skin.between import between_moves, handed_fresh, sized
from vonkel.core.skin.correctives import turns_against
from vonkel.core.skin.deform import HANDED, rest_inverses
from vonkel.core.soundness import unsound
from vonkel.core.trials.samples import unseen_poses
from vonkel.demo import DATA
from vonkel.steps import apply_step, load_recipe, run_recipe


@pytest.fixture(scope="module")
def bat():
    mesh = read_character("bat.obj", (DATA / "bat.obj").read_bytes(), "Vesper")
    return run_recipe(mesh, load_recipe("winged"))[0]


@pytest.fixture(scope="module")
def handed(otter):
    return handed_over(otter)


def trials(c):
    return [pose_from_turns(c, p.turns) for p in trial_poses(c)]


# -- a joint between two ---------------------------------------------------------------------------------------------
def test_a_joint_between_two_moves_half_way_and_swells_across_the_turn():
    """Half of a turn about z at the joint's own place; the size is 1 + .6 (1 − cos ¼ turn) across it, 1 along it."""
    place, axes = np.array([[0.2, 0.5, 0.0]]), np.eye(3)[None]
    moves = np.tile(np.eye(4)[:3], (2, 1, 1))
    still, sizes = between_moves(moves, np.array([0]), np.array([1]), place, axes)
    assert np.allclose(still[0], np.eye(4)[:3]) and np.allclose(sizes, 1)
    turn = matrix_from_rotation_vector(np.array([0, 0, np.pi / 2]))
    moves[1, :, :3], moves[1, :, 3] = turn, place[0] - turn @ place[0]
    half, sizes = between_moves(moves, np.array([0]), np.array([1]), place, axes)
    assert np.allclose(half[0, :, :3], matrix_from_rotation_vector(np.array([0, 0, np.pi / 4])))
    assert np.allclose(half[0, :, :3] @ place[0] + half[0, :, 3], place[0])
    grown = 1 + 0.6 * (1 - np.cos(np.pi / 4))
    assert np.allclose(sizes[0], [grown, grown, 1])
    whole = sized(half, sizes, place, axes)
    assert np.allclose(whole[0, :, :3] @ place[0] + whole[0, :, 3], place[0])
    assert np.linalg.det(whole[0, :, :3]) == pytest.approx(grown**2)


# -- how near --------------------------------------------------------------------------------------------------------
def test_what_goes_out_comes_near_the_live_skin(otter, handed):
    assert handed_fresh(handed) and not unsound(handed)
    between = handed.skin.handed.between
    assert 10 <= len(between) <= 30
    was, now = (nearness(c, trials(c)) for c in (otter, handed))
    assert now.rms <= 0.0008 * otter.size and now.most <= 0.004 * otter.size and now.rms < was.rms / 3
    was, now = (nearness(c, unseen_poses(c)) for c in (otter, handed))  # poses that nothing was solved for
    assert now.rms < was.rms / 2 and now.most < was.most / 2


def test_so_it_does_on_a_winged_body(bat):
    done = handed_over(bat)
    assert nearness(done, trials(done)).most <= 0.013
    assert nearness(done, unseen_poses(done)).rms < nearness(bat, unseen_poses(bat)).rms / 2


def test_its_volume_is_no_worse_than_the_live_skins(handed):
    deformer = Deformer(handed)
    body = handed.part("body")
    topo = topology_of(handed)
    triangles = topo.triangles[(topo.triangle_face >= body.faces[0]) & (topo.triangle_face < body.faces[1])]
    rest = signed_volume(handed.points, triangles)
    off = {
        m: [abs(signed_volume(deformer.deform(p, m).astype(float), triangles) / rest - 1) for p in trials(handed)]
        for m in ("dual", HANDED, "linear")
    }
    assert max(off[HANDED]) <= max(off["dual"]) + 0.002 and max(off[HANDED]) < 0.7 * max(off["linear"])


def test_its_rows_are_whole_mirrored_and_no_wider_than_asked(otter, handed):
    index, weights = handed.arrays["handed/joints"], handed.arrays["handed/weights"]
    assert weights.shape[1] == 4 and np.abs(weights.sum(1) - 1).max() < 1e-5 and weights.min() >= 0
    names = [*handed.skin.joints, *(h.name for h in handed.skin.handed.between)]
    lefts = [n for n in names if n.endswith("_L")]
    for name in lefts[::5]:
        twin = name[:-2] + "_R"
        held = [np.where(index == names.index(n), weights, 0).sum(1) for n in (name, twin)]
        assert held[0].sum() == pytest.approx(held[1].sum(), rel=0.02), name


def test_a_skin_that_is_painted_on_one_side_goes_out_so(otter):
    arm = np.flatnonzero(otter.points[:, 0] > 0.25)
    painted, _ = apply_step(otter, "skin.hold", {"points": arm.tolist(), "joint": "head", "weight": 0.9})
    done = handed_over(painted, 0)
    names = done.skin.joints
    index, weights = done.arrays["handed/joints"], done.arrays["handed/weights"]
    head = np.where(index == names.index("head"), weights, 0).sum(1)
    assert head[arm].mean() > 0.7 and head[otter.points[:, 0] < -0.25].max() < 0.1
    assert nearness(done, trials(done)).rms <= 1.02 * nearness(painted, trials(painted)).rms


# -- it stays true ---------------------------------------------------------------------------------------------------
def test_it_is_of_the_skin_it_was_made_of(handed):
    painted, _ = apply_step(handed, "skin.even", {"rounds": 1})
    assert painted.skin.handed and not handed_fresh(painted)
    pose = trials(painted)[0]
    deformer = Deformer(painted)
    assert np.array_equal(deformer.deform(pose, HANDED).copy(), deformer.deform(pose, "linear"))
    renamed, _ = apply_step(handed, "joints.rename", {"joint": "hand_L", "name": "paw_L"})
    assert handed_fresh(renamed)
    again, _ = apply_step(handed, "skin.bind", {})
    assert again.skin.handed is None and "handed/joints" not in again.arrays
    plain, _ = apply_step(handed, "handover.plain", {})
    assert plain.skin.handed is None and not unsound(plain)
    with pytest.raises(StepRefused, match="already"):
        apply_step(plain, "handover.plain", {})


def test_the_step_says_how_near(tube_character):
    bound, _ = apply_step(tube_character, "skin.bind", {})
    done, said = apply_step(bound, "handover.skin", {"between": 4})
    assert "→" in said and handed_fresh(done)
    with pytest.raises(StepRefused, match="no skin"):
        apply_step(tube_character, "handover.skin", {})


def test_it_comes_back_from_its_glb_as_it_went(handed):
    again = read_character("otter.glb", written(handed, ".glb"))
    assert not unsound(again) and handed_fresh(again)
    assert [h.name for h in again.skin.handed.between] == [h.name for h in handed.skin.handed.between]
    for pose in (trials(handed)[3], unseen_poses(handed, 1)[0]):
        order = [handed.joint_index[j.name] for j in again.joints]
        same = Pose(joints=pose.joints[order], scales=pose.scales[order])
        a, b = Deformer(handed).deform(pose, HANDED), Deformer(again).deform(same, HANDED)
        assert np.abs(a - b).max() < 1e-5


def test_a_figure_sized_as_a_whole_goes_out_sized(handed):
    pose = trials(handed)[3]
    centre, size = np.array([0.1, 0.0, 0.2]), 1.7
    joints = pose.joints.copy()
    joints[:, :, 3] = centre + size * (joints[:, :, 3] - centre)
    large = Pose(joints=joints, scales=pose.scales * size, size=size, centre=tuple(centre))
    deformer = Deformer(handed)
    small = deformer.deform(pose, HANDED).copy()
    assert np.abs(deformer.deform(large, HANDED) - (centre + size * (small - centre))).max() < 1e-5


# -- targets for what is left ----------------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def put_right(handed):
    return with_correctives(handed, 16)


def test_targets_put_right_part_of_what_is_left_and_nothing_at_rest(handed, put_right):
    assert not unsound(put_right) and handed_fresh(put_right)
    assert 10 <= len(put_right.skin.handed.correctives) <= 16
    for poses in (trials(handed), unseen_poses(handed)):
        was, now = (nearness(c, poses) for c in (handed, put_right))
        assert now.rms < was.rms and now.most < was.most
    assert nearness(put_right, trials(put_right)).rms < 0.85 * nearness(handed, trials(handed)).rms
    still = pose_from_turns(put_right, {})
    assert np.abs(Deformer(put_right).deform(still, HANDED) - put_right.points).max() < 1e-6
    sides = [t.joint for t in put_right.skin.handed.correctives]
    assert sorted(n[:-1] for n in sides if n.endswith("_L")) == sorted(n[:-1] for n in sides if n.endswith("_R"))


def test_targets_are_of_what_goes_out_and_of_nothing_else(put_right):
    again = read_character("otter.glb", written(put_right, ".glb"))
    assert [s.name for s in again.shapes] == [s.name for s in put_right.shapes]
    none, said = apply_step(put_right, "handover.correctives", {"targets": 0})
    assert not none.skin.handed.correctives and not [n for n in none.arrays if "target" in n]
    painted, _ = apply_step(put_right, "skin.even", {"rounds": 1})
    with pytest.raises(StepRefused, match="isn't made"):
        apply_step(painted, "handover.correctives", {})
    gone, _ = apply_step(put_right, "skin.bind", {})
    assert not [n for n in gone.arrays if n.startswith("handed/")]


def test_a_target_reads_its_joints_turn_in_the_joints_own_axes(tube_character):
    """A quarter turn about the joint's own z: the nine numbers are that turn's, less the identity."""
    joint = tube_character.joint("tail_2")
    axes = matrix_from_quaternion(joint.turn)
    pose = pose_from_turns(tube_character, {"tail_2": matrix_from_rotation_vector(axes[:, 2] * np.pi / 2)})
    found = turns_against(tube_character, ["tail_2", "tail_3"], pose.rigid_matrices(rest_inverses(tube_character)))
    assert np.allclose(found[0].reshape(3, 3), [[-1, -1, 0], [1, -1, 0], [0, 0, 0]], atol=1e-12)
    assert np.allclose(found[1], 0, atol=1e-12)  # it goes along
