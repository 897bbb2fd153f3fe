"""Stepping legs: planted feet stay, phases are those of the published gaits, footholds are searched, the body rides and tilts."""

from functools import cache

import numpy as np
import pytest

from tests.core.test_faces import do, planned
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.motion.clips import values_at
from vonkel.core.rig import compile_rig
from vonkel.core.trials import run_trials, trial_pose
from vonkel.core.walking import FOUR, Gait, Ground, Path, _foothold, feet_kept, feet_of, pattern
from vonkel.readings.trial_page import trial_table
from vonkel.steps.motion import Walking, gait_of
from vonkel.steps.registry import STEPS, apply_step

WALKERS = (
    ("otter", "walk"),
    ("newt", "walk"),
    ("newt", "trot"),
    ("beetle", "tripod"),
    ("beetle", "one after the other"),
    ("bat", "walk"),
)
HILLS = [(0.0, 0.3, 0.25, 0.02), (0.15, 0.7, 0.2, 0.03), (-0.2, 1.0, 0.3, 0.025)]
WAY = [(0.0, 0.0), (0.2, 0.5), (-0.1, 1.2)]


@cache
def rigged(name):
    return do(planned(name), "limbs.outfit")


def played(c, clip):
    program, values = compile_rig(c), c.arrays[f"clip/{clip}/values"]
    k = next(x for x in c.clips if x.name == clip)
    return [program.evaluate(values_at(k, values, i)) for i in range(len(values))]


def control_places(poses, name):
    return np.array([np.array(p.controls[name])[[3, 7, 11]] for p in poses])


@pytest.mark.parametrize(("name", "gait"), WALKERS)
@pytest.mark.parametrize("more", [{}, {"path": WAY, "bumps": HILLS}], ids=["level", "hills"])
def test_planted_feet_stay_where_they_are(name, gait, more):
    """At most 0.5 % of the leg's length; ours are solved, and the body sinks where a leg would not reach."""
    c = rigged(name)
    made = do(c, "motion.walk", gait=gait, **more)
    kept = feet_kept(made, "walk")
    assert kept.slid < 5e-3 and kept.missed < 5e-3
    values = made.arrays["clip/walk/values"]
    assert np.isfinite(values).all() and np.abs(np.diff(values, axis=0)).max() < 0.5 * c.size  # nothing jumps


def test_a_foot_that_is_asked_too_far_says_so():
    c = rigged("otter")
    leg = min(f.reach for f in feet_of(c))
    made = do(c, "motion.walk", stride=4 * leg)
    assert feet_kept(made, "walk").missed > 0.05


@pytest.mark.parametrize(("name", "gait"), WALKERS)
@pytest.mark.parametrize("way", [[], WAY], ids=["straight", "bent"])
def test_a_walk_from_standing_to_standing(name, gait, way):
    """It begins at rest and ends at rest where the path ends, by whole steps, and gets into its stride and out of it."""
    c = rigged(name)
    made = do(c, "motion.walk", gait=gait, path=way, standing=True)
    kept = feet_kept(made, "walk")
    assert kept.slid < 5e-3 and kept.missed < 5e-3
    poses = played(made, "walk")
    ends = [
        {f.control.name: np.array(p.controls[f.control.name]).reshape(3, 4) for f in feet_of(c)}
        for p in (poses[0], poses[-1])
    ]
    wholes = [np.array(p.controls["whole"]).reshape(3, 4) for p in (poses[0], poses[-1])]
    centre = np.array(c.control_named["whole"].place)
    for feet, whole in zip(ends, wholes, strict=True):
        for f in feet_of(c):  # each foot lies under the figure as it does at rest
            assert np.allclose(whole[:, :3].T @ (feet[f.control.name][:, 3] - whole[:, 3]), f.rest - centre, atol=1e-6)
    whole = control_places(poses, "whole")
    assert np.allclose(whole[[0, -1], 1], centre[1], atol=1e-6)
    if way:
        assert np.allclose(whole[-1][[0, 2]], way[-1], atol=1e-6)
    speed = np.linalg.norm(np.diff(whole[:, [0, 2]], axis=0), axis=1)
    assert speed[0] < 0.1 * speed.max() and speed[-1] < 0.1 * speed.max()
    for s in made.clips[-1].stands:
        assert s.frames[0][0] == 0 and s.frames[-1][1] == len(poses) - 1


def test_feet_follow_one_another_as_published():
    """Hildebrand 1965: symmetrical gaits; a fore foot follows its side's hind foot by the lag, left and right by half."""
    feet = feet_of(rigged("newt"))
    assert [(f.control.name, f.row) for f in feet] == [("foot_L", 0), ("foot_R", 0), ("hand_L", 1), ("hand_R", 1)]
    for name, (duty, lag) in FOUR.items():
        phases, own = pattern(feet, name)
        at = dict(zip((f.control.name for f in feet), phases, strict=True))
        halves = [(at[f"{n}_R"] - at[f"{n}_L"]) % 1 for n in ("foot", "hand")]
        assert own == duty and halves == pytest.approx([0.5, 0.5])
        assert (at["hand_L"] - at["foot_L"]) % 1 == pytest.approx(lag)
    trot = dict(zip((f.control.name for f in feet), pattern(feet, "trot")[0], strict=True))
    assert trot["foot_L"] == trot["hand_R"] and trot["foot_R"] == trot["hand_L"]  # diagonals together
    six = feet_of(rigged("beetle"))
    at = dict(zip((f.control.name for f in six), pattern(six, "tripod")[0], strict=True))
    tripods = {p: {n for n, q in at.items() if q == p} for p in set(at.values())}
    assert set(map(frozenset, tripods.values())) == {
        frozenset({"foot 1_L", "foot 2_R", "foot 3_L"}), frozenset({"foot 1_R", "foot 2_L", "foot 3_R"})
    }  # fmt: skip
    one = sorted(pattern(six, "one after the other")[0])
    assert np.allclose(np.diff(one), 1 / 6)
    with pytest.raises(BadParameters, match="six legs"):
        pattern(feet, "tripod")


def test_stance_swing_and_lift_are_as_asked():
    c = rigged("beetle")
    asked = {
        "gait": "tripod",
        "period": 1.0,
        "duty": 0.6,
        "lift": 0.05,
        "stride": 0.2,
        "rate": 60.0,
        "phases": {"foot 2_L": 0.25},
    }
    poses = played(do(c, "motion.walk", **asked), "walk")
    gait = gait_of(c, Walking(**asked))
    for foot, phase in zip(feet_of(c), gait.phases, strict=True):
        p = control_places(poses, foot.control.name)
        moves = np.linalg.norm(np.diff(p, axis=0), axis=1) > 1e-6
        assert moves.mean() == pytest.approx(0.4, abs=0.04)
        assert p[:, 1].max() - foot.rest[1] == pytest.approx(0.05, rel=0.02) and p[:, 1].min() >= foot.rest[1] - 1e-6
        cycle = (np.arange(len(p)) / 60.0 - phase) % 1.0
        inside = (cycle > 0.02) & (cycle < 0.58)
        assert not moves[inside[:-1] & inside[1:]].any()
    assert gait.phases[[f.control.name for f in feet_of(c)].index("foot 2_L")] == 0.25
    whole = control_places(poses, "whole")
    assert (whole[-1] - whole[0])[2] == pytest.approx(0.8, rel=0.02) and abs((whole[-1] - whole[0])[0]) < 1e-6


def test_feet_search_their_footholds_and_say_where_there_is_none():
    ground = Ground(np.array([[1.0, 0.0, 0.3, 0.2]]), np.array([[0.0, 0.0, 0.1], [5.0, 5.0, 2.0]]))
    gait = Gait(0.3, 0.05, 1.0, 0.6, (0.0,), aside=0.2, deep=0.1, high=0.1)
    spot, height, ok = _foothold(ground, np.array([0.0, 0.0]), gait)
    assert ok and height == 0 and 0.1 <= np.linalg.norm(spot) <= 0.2  # beside the hole
    spot, height, ok = _foothold(ground, np.array([1.0, 0.0]), gait)
    assert ok and height <= 0.1 and np.linalg.norm(spot - [1, 0]) > 0.1  # not on the top, which is too high
    spot, height, ok = _foothold(ground, np.array([5.0, 5.0]), gait)
    assert not ok and height == -0.1 and np.allclose(spot, [5, 5])  # it reaches down, and finds no hold
    assert np.isnan(ground.height(np.array([[0.0, 0.05]]))).all() and ground.height(np.array([[1.0, 0.0]]))[
        0
    ] == pytest.approx(0.2)


def test_the_body_rides_and_tilts_on_its_feet():
    c = rigged("beetle")
    level = played(do(c, "motion.walk", gait="tripod"), "walk")
    side = [(0.6, z, 0.55, 0.06) for z in np.linspace(-0.5, 2.5, 12)]  # a bank along its left
    banked = played(do(c, "motion.walk", gait="tripod", bumps=side, high=0.2, tilt=1.0), "walk")
    up = [np.array(p.controls["whole"]).reshape(3, 4)[:, 1] for p in banked[20:-20]]
    assert np.mean([u[0] for u in up]) < -0.03  # it leans to its right, away from the bank
    assert np.mean([np.array(p.controls["whole"])[7] for p in banked]) > np.mean(
        [np.array(p.controls["whole"])[7] for p in level]
    )
    flat = played(do(c, "motion.walk", gait="tripod", bumps=side, high=0.2, tilt=0.0), "walk")
    assert max(abs(np.array(p.controls["whole"])[1]) for p in flat) < 1e-6


def test_a_path_is_followed_at_one_speed_and_the_figure_faces_along_it():
    path = Path(np.array([[0.0, 0.0], [0.5, 1.0], [0.0, 2.0], [0.0, 2.0]]))
    s = np.linspace(0, path.length, 200)
    p, heading = path.at(s)
    step = np.linalg.norm(np.diff(p, axis=0), axis=1)
    assert step.std() < 0.02 * step.mean() and np.allclose(p[0], [0, 0]) and np.allclose(p[-1], [0, 2])
    way = np.diff(p, axis=0) / step[:, None]
    mean = 0.5 * (heading[1:] + heading[:-1])
    assert np.abs(way - np.stack([np.sin(mean), np.cos(mean)], 1)).max() < 0.03
    with pytest.raises(BadParameters, match="two places"):
        Path(np.array([[1.0, 1.0], [1.0, 1.0]]))
    c = rigged("newt")
    poses = played(do(c, "motion.walk", path=[(0, 0), (1.0, 1.0)]), "walk")
    turn = np.array(poses[10].controls["whole"]).reshape(3, 4)[:, 2]
    assert turn[0] == pytest.approx(np.sin(np.pi / 4), abs=0.05)


def test_a_motion_is_tried_frame_by_frame():
    c = do(do(rigged("beetle"), "skin.bind"), "motion.walk", gait="tripod", rate=30.0)
    cards = {k.name: k for k in run_trials(c, pictures=False)}
    card = next(k for k in cards.values() if k.curve and k.curve.get("clip") == "walk")
    frames, names = card.curve["frames"], card.curve["names"]
    assert frames[0] == 0 and frames[-1] == len(c.arrays["clip/walk/values"]) - 1 and 20 <= len(frames) <= 40
    worst = names.index(card.name)
    assert card.name == f"walk, frame {frames[worst]}" and card.curve["badness"][worst] == max(card.curve["badness"])
    pose = trial_pose(c, card.name)
    clip, values = c.clips[0], c.arrays["clip/walk/values"]
    straight = compile_rig(c).evaluate(values_at(clip, values, frames[worst]))
    assert np.allclose(pose.joints, straight.joints, atol=1e-9)
    one = run_trials(c, pictures=False, only=names[2])
    assert [k.name for k in one] == [names[2]] and one[0].badness == pytest.approx(card.curve["badness"][2], abs=1e-3)
    assert trial_pose(c, "walk, frame 99999") is None and trial_pose(c, "stroll, frame 1") is None
    assert trial_table([card.as_dict()]).count("\n") == 2 + len(frames)


def test_what_can_not_walk_is_said():
    with pytest.raises(StepRefused, match="No foot"):
        do(planned("otter"), "motion.walk")
    with pytest.raises(NotFound, match="wheel"):
        do(rigged("newt"), "motion.walk", phases={"wheel": 0.5})
    with pytest.raises(BadParameters, match="frames"):
        do(rigged("newt"), "motion.walk", path=[(0, 0), (0, 5000)])
    assert "motion.walk" in STEPS


def test_steps_that_find_no_foothold_are_told():
    c = rigged("newt")
    whole = {"name": "w", "path": [(0, 0), (0, 1.5)]}
    for params, lost in ((whole, False), (whole | {"holes": [(0.0, 0.9, 0.45)], "aside": 0.02}, True)):
        _, said = apply_step(c, "motion.walk", params)
        assert ("find no foothold" in said) == lost
