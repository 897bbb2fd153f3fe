"""Trials of poses without number, limits of one's own, heat by any measure, motions looked at, and two states compared."""

from functools import cache

import numpy as np
import pytest

from tests.core.test_faces import do, planned
from tests.core.test_walking import rigged
from vonkel.core.character import Region
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.motion.clips import frames_of
from vonkel.core.poses import pose_set
from vonkel.core.rig import compile_rig
from vonkel.core.rig.motion import Motion, clip_motion, mixed
from vonkel.core.shapes.regions import with_region
from vonkel.core.skin import Deformer
from vonkel.core.trials import run_trials, trial_poses
from vonkel.core.trials.measure import FIELDS, Measurer
from vonkel.core.trials.measures import MEASURES
from vonkel.core.trials.moving import MotionLook
from vonkel.core.trials.named import trial_called
from vonkel.readings.trial_compare import compared
from vonkel.workshop.workshop import known_values

CAST = ("otter", "newt", "bat", "beetle", "seal", "larva", "bust")


@cache
def bound(name, by="volume"):
    return do(planned(name), "skin.bind", by=by)


@pytest.mark.parametrize("name", CAST)
def test_every_plan_has_twenty_poses_or_more(name):
    poses = pose_set(planned(name))
    assert len(poses) >= 20 and len({p.name for p in poses}) == len(poses)
    assert poses[: len(trial_poses(planned(name)))] == trial_poses(planned(name))  # the frozen ones stay what they are
    angles = [np.degrees(np.arccos(np.clip((np.trace(t) - 1) / 2, -1, 1))) for p in poses for t in p.turns.values()]
    assert max(angles) < 181 and np.median(angles) > 5


def test_poses_go_where_their_words_say():
    c = planned("otter")
    place = {j.name: np.array(j.place) for j in c.joints}

    def at(pose, joint):
        return trial_called(c, pose).pose().joints[c.joint_index[joint], :, 3]

    assert at("hands to the head", "hand_L")[1] > place["chest"][1]
    assert at("kick", "foot_L")[2] > place["foot_L"][2] + 0.5 * (place["thigh_L"][1] - place["foot_L"][1])
    assert at("leg aside", "foot_L")[0] > place["foot_L"][0] + 0.1 and at("leg aside", "foot_R") == pytest.approx(
        place["foot_R"], abs=1e-6
    )
    assert at("look up", "head_end")[2] < place["head_end"][2]
    assert at("on tiptoe", "toe_end_L")[1] < place["toe_end_L"][1]
    n = planned("newt")
    high = trial_called(n, "head high").pose().joints[n.joint_index["head"], 1, 3]
    assert high > n.joint("head").place[1]


# -- limits and allowances -------------------------------------------------------------------------------------------
def test_what_passes_is_set_measure_by_measure():
    c = bound("otter")
    card = next(x for x in run_trials(c, pictures=False, only="sit"))
    loose = do(c, "trials.limits", limits={"longest_edge": 40.0, "volume_lost": 0.9, "shortest_edge": 0.01})
    easier = next(x for x in run_trials(loose, pictures=False, only="sit"))
    assert easier.badness < card.badness and easier.figures.stretch_most == card.figures.stretch_most
    told = {m["key"]: m["limit"] for m in easier.as_dict()["measures"]}
    assert told["longest_edge"] == 40.0 and told["rough"] == MEASURES["rough"].limit
    again = do(loose, "trials.limits", limits={"longest_edge": None, "volume_lost": MEASURES["volume_lost"].limit})
    assert again.limits == {"shortest_edge": 0.01}
    for wrong in ({"longest_edge": 0.5}, {"shortest_edge": 2.0}, {"rough": -1.0}):
        with pytest.raises(BadParameters):
            do(c, "trials.limits", limits=wrong)
    with pytest.raises(NotFound):
        do(c, "trials.limits", limits={"nothing": 1.0})


def test_a_region_may_stretch_more_or_less_than_the_rest():
    c = bound("otter")
    card = run_trials(c, pictures=False, only="arms up")[0]
    amounts = np.zeros(len(c.points))
    folded = np.abs(c.points * [1, 0, 0]) + c.points * [0, 1, 1]  # both armpits: left and right stretch alike
    amounts[np.linalg.norm(folded - folded[card.figures.stretch_point], axis=1) < 0.15 * c.height] = 1.0
    soft = do(with_region(c, Region(name="armpit"), amounts), "regions.edit", region="armpit", allow=4.0)
    eased = run_trials(soft, pictures=False, only="arms up")[0]
    assert eased.found["longest_edge"].share < card.found["longest_edge"].share
    stiff = do(soft, "regions.edit", region="armpit", allow=0.5)
    harder = run_trials(stiff, pictures=False, only="arms up")[0]
    assert harder.found["longest_edge"].share == pytest.approx(2 * card.found["longest_edge"].share, rel=1e-6)
    assert harder.figures.stretch_most == pytest.approx(card.figures.stretch_most)  # the raw figure stays what it is


@pytest.mark.parametrize("key", FIELDS)
def test_heat_shows_any_measure_and_is_worst_where_the_measure_says(key):
    c = bound("otter")
    points = Deformer(c).deform(trial_called(c, "crouch").pose()).astype(float)
    measurer = Measurer(c)
    field, figures = measurer.field(points, key), measurer.measure(points)
    assert field.shape == (len(c.points),) and np.isfinite(field).all() and field.min() >= 0
    if key in ("longest_edge", "shortest_edge"):
        found = MEASURES[key].read(figures, MEASURES[key].limit)
        assert field.max() == pytest.approx(found.share, rel=1e-5)
        assert field[found.point] == pytest.approx(found.share, rel=1e-5)
    with pytest.raises(NotFound):
        measurer.field(points, "volume_lost")


# -- motions ---------------------------------------------------------------------------------------------------------
def test_a_joint_that_pops_is_told_and_held_keys_may_jump():
    c = do(do(rigged("newt"), "skin.bind"), "motion.walk", gait="trot")
    calm = MotionLook(c, c.clips[0]).pops.max()
    values = frames_of(c, "walk").copy()
    head = [i for i, t in enumerate(c.clips[0].tracks) if t.thing.name == "foot_L" and t.channel == "move y"]
    values[31, head] += 0.12 * c.size
    jumpy = c.with_(arrays={"clip/walk/values": values})
    look = MotionLook(jumpy, jumpy.clips[0])
    assert look.pops.max() > 3 * calm and abs(int(look.pops.max(1).argmax()) - 31) <= 1
    card = next(x for x in run_trials(jumpy, pictures=False) if x.curve and x.curve.get("clip") == "walk")
    assert max(card.curve["measures"]["popping"]) > MEASURES["popping"].limit
    posed = rigged("newt")
    for f, v in ((0, 0.0), (6, 0.8), (12, -0.8)):
        posed = do(
            posed, "keys.pose", clip="blocked", frame=f, values={"head turn": {"turn y": v or 0.01}}, manner="held"
        )
    assert MotionLook(posed, posed.clips[0]).pops.max() < 1e-6


def test_a_foot_that_slides_and_a_limb_off_its_target_are_told():
    c = do(do(rigged("otter"), "skin.bind"), "motion.walk")
    clip = c.clips[0]
    assert clip.stands and all(s.frames for s in clip.stands)
    look = MotionLook(c, clip)
    assert all(k.slid < 0.005 for k in look.contacts())
    a, b = clip.stands[0].frames[1]
    track = next(
        i for i, t in enumerate(clip.tracks) if t.thing.name == clip.stands[0].control and t.channel == "move x"
    )
    values = frames_of(c, "walk").copy()
    values[a : b + 1, track] += np.linspace(0, 0.05, b - a + 1) * c.height
    slid = c.with_(arrays={"clip/walk/values": values})
    told = {k.foot: k.slid for k in MotionLook(slid, clip).contacts()}
    assert told[clip.stands[0].control] > 0.04
    pulled = frames_of(c, "walk").copy()
    pulled[10, track] += 2 * c.height
    missed = MotionLook(c.with_(arrays={"clip/walk/values": pulled}), clip).at(10)
    assert missed.missed > 0.5 and missed.missing == clip.stands[0].control


# -- two states ------------------------------------------------------------------------------------------------------
def test_two_ways_to_bind_are_compared_card_by_card():
    a, b = ([x.as_dict(with_picture=True) for x in run_trials(bound("newt", by))] for by in ("nearest", "volume"))
    found = compared(a, b)
    assert {r["name"] for r in found["rows"]} == {x["name"] for x in a} and not found["only_before"]
    assert found["better"] > 5 * found["worse"]  # by volume the trunk lets go of the paws
    changes = [abs(r["change"]) for r in found["rows"]]
    assert changes == sorted(changes, reverse=True)
    row = found["rows"][0]
    assert row["change"] == pytest.approx(row["after"]["badness"] - row["before"]["badness"], abs=1e-3)
    assert row["measures"] and row["before"]["picture"] != row["after"]["picture"]
    assert compared(a, a)["better"] == compared(a, a)["worse"] == 0


# -- poses of one's own ----------------------------------------------------------------------------------------------
def test_own_poses_are_mirrored_blended_and_carried_to_another():
    c = rigged("otter")
    c = do(c, "poses.save", name="wave", values={"hand_L": {"move y": 0.2}, "head turn": {"turn y": 0.6}})
    c = do(c, "poses.save", name="bow", values={"chest turn": {"turn x": 0.8}, "head turn": {"turn y": -0.2}})
    c = do(c, "poses.mirror", name="wave", to="wave right")
    values = {p.name: p.values for p in c.poses}
    assert values["wave right"]["hand_R"]["move y"] == pytest.approx(0.2)
    assert values["wave right"]["head turn"]["turn y"] == pytest.approx(-0.6)
    c = do(c, "poses.blend", a="wave", b="bow", share=0.25, to="between")
    between = next(p.values for p in c.poses if p.name == "between")
    assert between["hand_L"]["move y"] == pytest.approx(0.15)
    assert between["head turn"]["turn y"] == pytest.approx(0.4, abs=1e-6)
    ends = [mixed(c, values["wave"], values["bow"], s) for s in (0, 1)]
    assert ends[0]["head turn"]["turn y"] == pytest.approx(0.6) and ends[1]["chest turn"]["turn x"] == pytest.approx(
        0.8
    )
    other = do(
        rigged("newt"), "poses.bring", poses={p.name: p.values for p in c.poses} | {"strange": {"nobody": {"x": 1.0}}}
    )
    assert {p.name for p in other.poses} == {p.name for p in c.poses}
    assert all(known_values(other, p.values) == p.values for p in other.poses)
    with pytest.raises(BadParameters):
        do(rigged("newt"), "poses.bring", poses={"strange": {"nobody": {"x": 1.0}}})
    with pytest.raises(NotFound):
        do(c, "poses.blend", a="wave", b="none", to="x")


# -- air -------------------------------------------------------------------------------------------------------------
def test_both_wings_beat_on_one_rate():
    c = do(rigged("bat"), "rules.beat", rate=2.0)
    motion = Motion(compile_rig(c), lambda f: {}, 48.0)
    places = np.array(
        [motion.pose(f).joints[[c.joint_index["hand_L"], c.joint_index["hand_R"]], :, 3] for f in range(49)]
    )
    assert np.abs(places[:, 0] * [-1, 1, 1] - places[:, 1]).max() < 1e-6
    assert np.abs(places[24:] - places[:25]).max() < 1e-9  # half a second is a round
    assert np.ptp(places[:, 0], axis=0).max() > 0.1 * c.size
    assert len(do(c, "rules.beat", rate=3.0).rules) == len(c.rules)
    with pytest.raises(StepRefused):
        do(rigged("otter"), "rules.beat")


def test_a_wind_blows_chains_its_way_and_lies_down_again():
    c = rigged("otter")
    with pytest.raises(StepRefused):
        do(c, "rules.wind")
    tail = [f"joint:tail_{i}" for i in range(1, 7)]
    c = do(c, "rules.add", rule={"kind": "spring", "name": "tail", "things": tail})
    still = compile_rig(c).evaluate({}).joints
    for heading, axis in ((90.0, 0), (-90.0, 0)):
        blown = do(c, "rules.wind", strength=4.0, heading=heading)
        assert np.abs(compile_rig(blown).evaluate({}).joints - still).max() < 1e-9  # a still pose knows no wind
        motion = Motion(compile_rig(blown), lambda f: {}, 24.0)
        way = np.mean([motion.pose(f).joints[c.joint_index["tail_6"], axis, 3] for f in range(24, 120)])
        assert np.sign(heading) * (way - still[c.joint_index["tail_6"], axis, 3]) > 0.01
    calm = Motion(compile_rig(do(blown, "rules.wind", strength=0.0)), lambda f: {}, 24.0)
    assert np.abs(calm.pose(40).joints - still).max() < 1e-6


def test_springs_are_added_to_a_motion_that_goes_through_the_rig():
    """What comes out of the rig is not what went in: the tail follows."""
    c = do(rigged("otter"), "motion.walk")
    tail = [f"joint:tail_{i}" for i in range(1, 7)]
    sprung = do(c, "rules.add", rule={"kind": "spring", "name": "tail", "things": tail, "stiffness": 1.5})
    a, b = (clip_motion(compile_rig(k), k, "walk").pose(30).joints for k in (c, sprung))
    k = c.joint_index["tail_6"]
    assert (
        np.abs(a[k] - b[k]).max() > 1e-3
        and np.abs(a[c.joint_index["hand_L"]] - b[c.joint_index["hand_L"]]).max() < 1e-9
    )


# -- against a library -----------------------------------------------------------------------------------------------
@pytest.mark.parametrize("deep", [0.02, 0.06, 0.12])
def test_how_deep_skin_is_in_itself_is_what_libigl_measures(deep):
    """Two balls in one skin, pushed into each other: the deepest point against libigl's signed distance to the other ball."""
    import igl
    import trimesh

    from vonkel.core.formats.mesh import RawMesh, character_from_mesh
    from vonkel.core.trials.contact import Contacts

    ball = trimesh.creation.icosphere(4, 0.3)
    n, f = len(ball.vertices), np.asarray(ball.faces)
    points = np.vstack([ball.vertices, ball.vertices + [0.9, 0, 0]])
    faces = np.vstack([f, f + n])
    mesh = RawMesh(points, np.arange(0, 3 * len(faces) + 1, 3), faces.ravel(), np.zeros(len(faces), int), ["body"])
    c = character_from_mesh(mesh, "balls")
    posed = c.points.copy()
    posed[n:] -= [0.3 + deep, 0, 0]
    theirs = -igl.signed_distance(posed[n:], posed[:n], f.astype(np.int64))[0].min()
    ours = Contacts(c).with_itself(posed)
    assert theirs == pytest.approx(deep, rel=0.02)
    assert ours.depth == pytest.approx(theirs, rel=0.12)
    assert Contacts(c).with_itself(c.points).depth == 0.0
