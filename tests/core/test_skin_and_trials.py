"""Binding keeps what is apart, apart; trials measure what can be worked out by hand."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from vonkel.core.errors import StepRefused, Stopped
from vonkel.core.geometry.topology import topology_of
from vonkel.core.poses import pose_from_turns
from vonkel.core.progress import listening
from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import bind_skin, weights_of
from vonkel.core.trials import run_trials, trial_pose, trial_poses
from vonkel.core.trials.measure import Measurer
from vonkel.core.weights import WeightTable


def test_weights_sum_to_one_and_keep_to_four(otter):
    w = otter.arrays["skin/weights"]
    assert w.shape == (len(otter.points), 4) and np.allclose(w.sum(1), 1, atol=1e-5) and (w >= 0).all()
    assert (np.diff(w, axis=1) <= 1e-6).all()  # heaviest first


def test_no_bleeding_across_gaps(otter):
    """The goals set for the demo: other finger ≤ .03, other leg ≤ .05, arm on the torso none, jumps under .5."""
    n = otter.part("body").points[1]
    p = otter.points[:n]
    w = {j: weights_of(otter, j)[:n] for j in otter.skin.joints}
    assert max(w[j][p[:, 0] < -0.02].max() for j in ("thigh_L", "shin_L", "foot_L")) <= 0.05
    assert sum(w[j] for j in w if j.startswith(("forearm", "hand")))[np.abs(p[:, 0]) < 0.15].max() <= 0.01
    digits = ("thumb", "index", "middle", "ring")
    for d in digits:
        tip = np.linalg.norm(p - np.array(otter.joint(f"{d}_end_L").place), axis=1) < 0.025
        assert (
            tip.any()
            and sum(w[j] for j in w if j.endswith("_L") and j.split("_")[0] in set(digits) - {d})[tip].max() <= 0.03
        )
    e = topology_of(otter).edges
    e = e[(e < n).all(1)]
    assert max(np.abs(x[e[:, 0]] - x[e[:, 1]]).max() for x in w.values()) < 0.55


def test_left_and_right_are_held_alike(otter):
    from vonkel.core.character import opposite_name
    from vonkel.core.geometry.health import mirror_distance

    n = otter.part("body").points[1]
    _, other = mirror_distance(otter.points[:n])
    for j in ("hips", "upper_arm_L", "index_2_L", "shin_L", "tail_3", "ear_L"):
        assert np.allclose(weights_of(otter, j)[:n], weights_of(otter, opposite_name(j))[:n][other], atol=1e-6), j


def test_eyes_and_teeth_are_held_by_one_joint(otter):
    for name, holder in (
        ("eye left", "eye_L"),
        ("eye right", "eye_R"),
        ("teeth upper", "head"),
        ("teeth lower", "jaw"),
        ("tongue", "jaw"),
    ):
        part = otter.part(name)
        assert (weights_of(otter, holder)[part.points[0] : part.points[1]] == 1).all(), name


def test_a_tube_is_shared_along_its_length(tube_character):
    c = bind_skin(tube_character)
    y = c.points[:, 1]
    first, last = weights_of(c, "tail_1"), weights_of(c, "tail_3")
    assert first[y < 0.15].min() > 0.8 and last[y > 0.9].min() > 0.8 and last[y < 0.3].max() < 0.05
    middle = weights_of(c, "tail_2")
    assert middle[np.abs(y - 0.55) < 0.04].min() > 0.5
    assert bind_skin(tube_character).arrays.hash_of("skin/weights") == c.arrays.hash_of("skin/weights")  # repeatable


def test_binding_refuses_what_it_cannot_do(otter_mesh, tube_character):
    with pytest.raises(StepRefused, match="nothing to bind to"):
        bind_skin(otter_mesh)


def test_what_has_no_inside_is_bound_along_its_skin(tube_character):
    flat = tube_character.with_(arrays={"points": tube_character.points * [1, 1, 0]})
    plain, made = bind_skin(tube_character), bind_skin(flat)
    same = plain.arrays["skin/joints"][:, 0] == made.arrays["skin/joints"][:, 0]
    assert same.mean() > 0.9


def test_long_work_can_be_stopped(tube_character):
    heard = []

    def listen(share, doing):
        heard.append(share)
        if share > 0.4:
            raise Stopped("enough")

    with pytest.raises(Stopped), listening(listen):
        bind_skin(tube_character)
    assert heard == sorted(heard)


def test_dropping_influences_leaves_no_step():
    """As one weight passes another out of the kept ones, what is kept changes smoothly."""
    t = np.linspace(0, 1, 201)
    w = np.stack([0.3 + 0 * t, 0.3 - 0.1 * t, 0.2 + 0.1 * t, 0.2 + 0 * t], 1)
    joints, values = WeightTable.from_dense(("a", "b", "c", "d"), w).rows(2)
    dense = np.zeros_like(w)
    np.add.at(dense, (np.arange(len(w))[:, None], joints), values)
    assert np.abs(np.diff(dense, axis=0)).max() < 0.05


def test_measures_of_a_stretched_and_bent_tube(tube_character):
    c = bind_skin(tube_character, smooth=4)
    m, d = Measurer(c), Deformer(c)
    rest = compile_rig(c).evaluate({})
    calm = m.measure(d.deform(rest))
    assert calm.stretch_most == pytest.approx(1, abs=1e-5) and calm.folded == 0 and len(calm.left_behind) == 0
    assert all(abs(v) < 1e-5 for v in calm.volumes.values()) and calm.heat.max() < 1e-4
    doubled = m.measure(c.points * [1, 2, 1])
    assert (
        doubled.stretch_most == pytest.approx(2)
        and doubled.area_most == pytest.approx(2, rel=0.01)
        and doubled.heat.max() == 1
    )
    turn = Rotation.from_euler("z", 90, degrees=True).as_matrix()
    bent_pose = pose_from_turns(c, {"tail_2": turn})
    bent = m.measure(d.deform(bent_pose, "linear"))
    assert bent.squeeze_most < 0.75 and bent.stretch_most > 1.2
    pulled = c.points.copy()
    pulled[120] += [0.5, 0, 0]
    lost = m.measure(pulled)
    assert lost.left_behind.tolist() == [120]
    over = c.points.copy()
    over[np.abs(over[:, 1] - 0.5) < 1e-9, 1] = 0.8  # one ring pushed past the next: skin folded onto itself
    assert m.measure(over).folded >= 16


def test_a_twist_loses_volume_in_linear_skin_and_not_in_dual(tube_character):
    """Common practice: the candy wrapper; worked out by Kavan et al. 2008."""
    c = bind_skin(tube_character)
    m, d = Measurer(c), Deformer(c)
    pose = pose_from_turns(c, {"tail_2": Rotation.from_euler("y", 150, degrees=True).as_matrix()})
    linear = m.measure(d.deform(pose, "linear")).volumes["tail"]
    dual = m.measure(d.deform(pose, "dual")).volumes["tail"]
    assert linear < -0.08 and abs(dual) < abs(linear) / 2


def test_trial_poses_do_what_they_say(otter):
    names = [p.name for p in trial_poses(otter)]
    assert len(names) >= 10 and {"arms up", "elbows 120°", "sit", "fists", "tail curl"} <= set(names)
    index = otter.joint_index

    def bone(pose, a, b):
        v = pose.joints[index[b], :, 3] - pose.joints[index[a], :, 3]
        return v / np.linalg.norm(v)

    elbows = trial_pose(otter, "elbows 120°")
    for s in "LR":
        cos = bone(elbows, f"upper_arm_{s}", f"forearm_{s}") @ bone(elbows, f"forearm_{s}", f"hand_{s}")
        assert np.degrees(np.arccos(cos)) == pytest.approx(120, abs=0.5)
        assert elbows.joints[index[f"hand_{s}"], 2, 3] > otter.joint(f"hand_{s}").place[2]  # closing forward
    up = trial_pose(otter, "arms up")
    assert bone(up, "upper_arm_L", "forearm_L")[1] > 0.9 and bone(up, "upper_arm_R", "forearm_R")[1] > 0.9
    sit = trial_pose(otter, "sit")
    assert bone(sit, "thigh_L", "shin_L")[2] > 0.9 and bone(sit, "shin_L", "foot_L")[1] < -0.9
    fists = trial_pose(otter, "fists")
    rest = compile_rig(otter).evaluate({})
    for f in ("index", "middle", "ring"):
        wrist = rest.joints[index["hand_L"], :, 3]
        closer = np.linalg.norm(fists.joints[index[f"{f}_end_L"], :, 3] - wrist)
        assert closer < 0.75 * np.linalg.norm(rest.joints[index[f"{f}_end_L"], :, 3] - wrist), f


def test_cards_are_worst_first_with_pictures_and_raw_figures(otter):
    saved = otter.with_(
        poses=(otter.poses or ())
        + (
            __import__("vonkel.core.character", fromlist=["SavedPose"]).SavedPose(
                name="my own", values={"hand_L": {"move y": 0.3}}
            ),
        )
    )
    cards = run_trials(saved)
    assert [c.badness for c in cards] == sorted((c.badness for c in cards), reverse=True)
    assert {"my own", "sit"} <= {c.name for c in cards} and len({c.grade for c in cards}) > 1
    for c in cards:
        assert c.picture[:8] == b"\x89PNG\r\n\x1a\n" and c.worst_joint in otter.joint_index
        f = c.as_dict()
        assert f["edge_stretch_most"] >= 1 >= f["edge_squeeze_most"] and {
            "arm L",
            "leg R",
            "tail",
            "whole body",
        } <= set(f["volume_change"])
    mirrored = {c.name: c for c in cards}["sit"].figures.volumes
    assert mirrored["leg L"] == pytest.approx(mirrored["leg R"], abs=0.01)
    with pytest.raises(StepRefused, match="Bind the skin first"):
        run_trials(otter.with_(skin=None, shapes=()))
