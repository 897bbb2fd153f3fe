"""Keys: curves against SciPy's, poses set and moved, parts later, loops, cleaned frames, other sides, the world and back."""

from functools import cache

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator

from tests.core.test_faces import do, planned
from vonkel.core.character import Clip, Ref, Stand, Track
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.motion import keys as K
from vonkel.core.motion.clips import frames_of, values_at
from vonkel.core.motion.keyed import stands_along
from vonkel.core.retargeting.feet import kept
from vonkel.core.rig import compile_rig
from vonkel.core.rig.mirror import opposite_control
from vonkel.core.rig.motion import clip_motion
from vonkel.core.rig.sides import mirrored
from vonkel.core.soundness import unsound
from vonkel.readings.findings import findings

RISE = np.array([0.0, 4.0, 9.0, 10.0, 17.0])
HIGH = np.array([0.0, 1.0, 1.2, 3.0, 2.0])


def keys_of(at, values, manner, slopes=None, track=0):
    slopes = np.zeros(len(at)) if slopes is None else slopes
    return K.ordered(np.column_stack([np.full(len(at), track), at, values, np.full(len(at), manner), slopes, slopes]))


def test_a_smooth_curve_is_the_monotone_one_of_scipy():
    """Fritsch & Butland 1984, as SciPy's PchipInterpolator has it; ours eases at both ends, so those two stretches differ."""
    frames = np.linspace(4, 10, 121)
    ours = K.values_of(keys_of(RISE, HIGH, K.SMOOTH), 1, frames, 17, False)[:, 0]
    assert np.abs(ours - PchipInterpolator(RISE, HIGH)(frames)).max() < 1e-6
    slopes = K.slopes_of(RISE, HIGH)
    assert slopes[0] == slopes[-1] == 0.0


def test_a_bent_curve_is_a_cubic_hermite_one():
    slopes = np.array([0.3, -0.2, 0.5, 0.0, 0.1])
    frames = np.linspace(0, 17, 301)
    ours = K.values_of(keys_of(RISE, HIGH, K.BENT, slopes), 1, frames, 17, False)[:, 0]
    assert np.abs(ours - CubicHermiteSpline(RISE, HIGH, slopes)(frames)).max() < 1e-5


def test_held_keys_jump_and_linear_ones_go_straight():
    held = K.values_of(keys_of(RISE, HIGH, K.HELD), 1, np.array([3.9, 4.0, 8.99, 9.0, 30.0]), 17, False)[:, 0]
    assert held == pytest.approx([0.0, 1.0, 1.0, 1.2, 2.0])
    frames = np.linspace(0, 17, 100)
    line = K.values_of(keys_of(RISE, HIGH, K.LINEAR), 1, frames, 17, False)[:, 0]
    assert line == pytest.approx(np.interp(frames, RISE, HIGH), abs=1e-6)


def test_a_loop_closes_in_value_and_slope():
    at, values = np.array([0.0, 5.0, 12.0, 20.0]), np.array([1.0, 3.0, -1.0, 1.0])
    keys = K.closed(keys_of(at, values, K.SMOOTH), 20)
    near = K.values_of(keys, 1, np.array([0.0, 0.01, 19.99, 20.0]), 20, True)[:, 0]
    assert near[0] == pytest.approx(near[3], abs=1e-6)
    assert (near[1] - near[0]) == pytest.approx(near[3] - near[2], abs=1e-5)


def test_a_part_comes_later_round_the_loop():
    at, values = np.array([0.0, 5.0, 12.0, 20.0]), np.array([1.0, 3.0, -1.0, 1.0])
    keys = K.closed(keys_of(at, values, K.SMOOTH), 20)
    shifted = K.later(keys, {0: 3.0}, 20, True)
    frames = np.arange(20.0)
    before = K.values_of(keys, 1, frames, 20, True)[:, 0]
    after = K.values_of(shifted, 1, np.mod(frames + 3, 20), 20, True)[:, 0]
    assert np.abs(before - after).max() < 0.02 * np.ptp(values)  # one more key, where the loop begins


@given(
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 40), st.floats(-5, 5)), min_size=1, max_size=40),
    st.integers(-20, 20),
)
def test_keys_stay_in_order_whatever_is_moved(rows, by):
    keys = K.ordered(np.array([(t, f, v, K.SMOOTH, 0, 0) for t, f, v in rows]))
    assert K.keys_fault(keys, 4) == ""
    chosen = np.arange(len(keys)) % 2 == 0
    new = K.moved(keys, chosen, by)
    assert K.keys_fault(new, 4) == ""
    assert len(new) <= len(keys)
    assert {float(v) for v in new[:, K.VALUE]} <= {float(v) for v in keys[:, K.VALUE]}


def test_cleaned_frames_keep_within_their_tolerance():
    t = np.arange(120.0)
    values = np.column_stack([np.sin(t / 9), 0.3 * np.sin(t / 4) + 0.01 * t, np.full(120, 0.7), np.floor(t / 40)])
    keys = K.thinned(values, np.full(4, 0.004))
    assert np.abs(K.values_of(keys, 4, t, 119, False) - values).max() <= 0.004 + 1e-6
    counts = [int((keys[:, K.TRACK] == k).sum()) for k in range(4)]
    assert counts[2] == 1 and counts[0] < 30 and counts[1] < 40


# -- on a character --------------------------------------------------------------------------------------------------
@cache
def rigged(name):
    return do(planned(name), "limbs.outfit")


def some_pose(c, by=0.4, side="L"):
    """A few turns and moves of controls of one side, and of the middle."""
    out = {}
    for k in c.controls:
        channels = [x.name for x in k.channels if not x.locked]
        if k.side in (side, "C") and k.name != "whole" and len(out) < 8:
            out[k.name] = {
                n: by * (1 + 0.1 * i) * (0.05 if n.startswith("move") else 1)
                for i, n in enumerate(channels[:3])
                if n[:4] in ("turn", "move")
            }
    return {k: v for k, v in out.items() if v}


def blocked(name="otter", frames=(0, 7, 16)):
    c = rigged(name)
    for i, f in enumerate(frames):
        c = do(c, "keys.pose", clip="try", frame=f, values=some_pose(c, 0.3 * (i + 1) * (-1) ** i))
    return c


def test_poses_are_set_spaced_moved_and_put_between():
    c = blocked()
    clip = c.clips[0]
    assert clip.keyed and clip.rate == c.rate and unsound(c) is None or not unsound(c)
    for i, f in enumerate((0, 7, 16)):
        told = values_at(clip, frames_of(c, "try"), f)
        for control, given_ in some_pose(c, 0.3 * (i + 1) * (-1) ** i).items():
            for channel, value in given_.items():
                assert told[control][channel] == pytest.approx(value, abs=1e-6)
    even = do(c, "keys.space", clip="try", apart=5)
    assert K.whole_poses(even.arrays["clip/try/keys"]).tolist() == [0, 5, 10]
    moved = do(even, "keys.move_pose", clip="try", frame=5, to=8)
    assert K.whole_poses(moved.arrays["clip/try/keys"]).tolist() == [0, 8, 10]
    half = do(moved, "keys.between", clip="try", frame=4, share=0.5)
    k = half.arrays["clip/try/keys"]
    for track in range(len(half.clips[0].tracks)):
        own = k[k[:, 0] == track]
        assert own[1, 2] == pytest.approx(0.5 * (own[0, 2] + own[2, 2]), abs=1e-6)
    with pytest.raises(BadParameters):
        do(moved, "keys.between", clip="try", frame=40)


def test_only_what_was_changed_gets_keys_and_what_stood_before_stays():
    c = blocked()
    control = next(
        k.name for k in c.controls if k.side == "R" and any(x.name == "turn x" and not x.locked for x in k.channels)
    )
    before = frames_of(c, "try")
    told = values_at(c.clips[0], before, 7)
    new = do(c, "keys.pose", clip="try", frame=7, values={**told, control: {"turn x": 0.6}}, changed=True)
    assert len(new.clips[0].tracks) == len(c.clips[0].tracks) + 1
    after = frames_of(new, "try")
    assert np.allclose(after[:, : before.shape[1]], before)
    assert after[[0, 7, 16], -1] == pytest.approx([0.0, 0.6, 0.0], abs=1e-6)
    with pytest.raises(BadParameters):
        do(c, "keys.pose", clip="try", frame=7, values=told, changed=True)


def test_locked_channels_get_no_keys():
    c = rigged("otter")
    other = some_pose(c)
    control, channel = next((k, x) for k, v in other.items() for x in v)
    c = do(c, "controls.limit", controls=[control], channel=channel, locked=True)
    c = do(c, "keys.pose", clip="try", values={**other, control: {**other.get(control, {}), channel: 0.5}})
    assert not any(t.thing.name == control and t.channel == channel for t in c.clips[0].tracks)


@pytest.mark.parametrize("keyed", [True, False])
def test_a_mirrored_motion_is_every_frames_mirror_image(keyed):
    c = blocked()
    if not keyed:
        c = do(c, "motion.bake", clip="try")
    m = do(c, "motion.mirror", clip="try", name="other way")
    assert m.clips[1].keyed == keyed
    for frame in (0, 7, 16):
        wanted = mirrored(c, values_at(c.clips[0], frames_of(c, "try"), frame))
        told = values_at(m.clips[1], frames_of(m, "other way"), frame)
        for control, given_ in wanted.items():
            for channel, value in given_.items():
                assert told[control].get(channel, 0.0) == pytest.approx(value, abs=1e-5)
    again = do(m, "motion.mirror", clip="other way", name="back")
    a, b = (values_at(k, frames_of(again, k.name), 7) for k in (again.clips[0], again.clips[2]))
    for control, given_ in a.items():
        assert b[control] == pytest.approx(given_, abs=1e-5)


def test_a_side_is_copied_half_a_loop_later():
    c = do(blocked(frames=(0, 6, 12)), "keys.span", clip="try", end=24, loop=True)
    c = do(c, "motion.copy_side", clip="try", side="L", later=12)
    values, clip = frames_of(c, "try"), c.clips[0]
    left = next(t.thing.name for t in clip.tracks if c.control_named[t.thing.name].side == "L")
    right = opposite_control(c, left)
    for f in (0, 6, 12):
        wanted = mirrored(c, {left: values_at(clip, values, f)[left]})[right]
        told = values_at(clip, values, (f + 12) % 24)[right]
        assert {k: told.get(k, 0.0) for k in wanted} == pytest.approx(wanted, abs=1e-4)
    assert np.allclose(values[0], values[-1], atol=1e-5)
    with pytest.raises(StepRefused):
        do(
            do(rigged("otter"), "keys.pose", clip="a", values=some_pose(c, side="R")),
            "motion.copy_side",
            clip="a",
            side="L",
        )


def test_held_in_the_world_and_brought_back_nothing_moves():
    """The hand is carried by a body that leans; held in the world and back it stands where it stood, at every frame."""
    c = blocked()
    program = compile_rig(c)
    control = next(
        t.thing.name
        for t in c.clips[0].tracks
        if c.control_named[t.thing.name].turns and c.control_named[t.thing.name].side == "L"
    )
    was = [np.array(clip_motion(program, c, "try").pose(f).controls[control]) for f in range(17)]
    held = do(c, "motion.into_world", clip="try", control=control)
    assert any(t.channel.startswith("world ") for t in held.clips[0].tracks)
    back = do(held, "motion.out_of_world", clip="try", control=control)
    for there in (held, back):
        motion = clip_motion(program, there, "try")
        now = [np.array(motion.pose(f).controls[control]) for f in range(17)]
        assert np.abs(np.array(now) - was).max() < 2e-3
    with pytest.raises(StepRefused):
        do(back, "motion.out_of_world", clip="try", control=control)


def test_a_walk_becomes_few_keys_that_keep_near_it():
    c = do(rigged("otter"), "motion.walk")
    values = frames_of(c, "walk")
    k = do(c, "motion.make_keys", clip="walk", share=0.002)
    keys, clip = k.arrays["clip/walk/keys"], k.clips[0]
    assert len(keys) < 0.6 * values.size
    kept = {(t.thing, t.channel): i for i, t in enumerate(clip.tracks)}
    new = frames_of(k, "walk")
    for i, t in enumerate(c.clips[0].tracks):
        if (t.thing, t.channel) in kept:
            scale = c.height if t.channel.startswith("move") else 1.0
            assert np.abs(new[:, kept[(t.thing, t.channel)]] - values[:, i]).max() < 0.0021 * scale


def test_a_motion_of_another_rate_is_told_and_brought_over():
    c = do(blocked(), "motion.rate", rate=30)
    told = [f for f in findings(c) if f.mend and f.mend.step == "motion.at_rate"]
    assert len(told) == 1
    new = do(c, told[0].mend.step, **told[0].mend.params)
    assert new.clips[0].rate == 30 and not [f for f in findings(new) if f.mend and f.mend.step == "motion.at_rate"]
    a, b = frames_of(c, "try"), frames_of(new, "try")
    assert (len(b) - 1) / 30 == pytest.approx((len(a) - 1) / 24, abs=0.02)
    assert b[-1] == pytest.approx(a[-1], abs=1e-5)


def test_what_isnt_there_is_refused():
    c = blocked()
    for step, params, error in (
        ("keys.move", {"clip": "no", "keys": [(0, 0)]}, NotFound),
        ("keys.drop", {"clip": "try", "keys": [(0, 3)]}, NotFound),
        ("keys.later", {"clip": "try", "controls": ["nobody"]}, NotFound),
        ("keys.set", {"clip": "try", "keys": [{"track": 900, "frame": 0, "value": 1}]}, NotFound),
        ("keys.span", {"clip": "try", "end": 3}, BadParameters),
        ("keys.drop", {"clip": "try", "keys": [(t, f) for t in range(40) for f in (0, 7, 16)]}, BadParameters),
    ):
        with pytest.raises(error):
            do(c, step, **params)
    with pytest.raises(StepRefused):
        do(do(c, "motion.bake", clip="try"), "keys.space", clip="try")


def stands_of(c, clip):
    return {s.control: s.frames for s in next(k for k in c.clips if k.name == clip).stands}


def test_feet_stand_when_their_keys_say():
    """Stands go along when keys are moved, spread, put off and spaced; a foot left alone keeps its own."""
    c = do(do(planned("otter"), "limbs.outfit"), "motion.walk", standing=True)
    c = do(c, "motion.make_keys", clip="walk", share=0.001)
    before, clip = stands_of(c, "walk"), next(k for k in c.clips if k.name == "walk")
    keys = c.arrays[clip.array]
    every = [(int(t), float(f)) for t, f in keys[:, [K.TRACK, K.AT]]]
    slower = do(c, "keys.move", clip="walk", keys=every, scale=2.0)
    assert stands_of(slower, "walk") == {k: tuple((2 * a, 2 * b) for a, b in v) for k, v in before.items()}
    slid = max(k.slid for k in kept(c, "walk"))
    assert max(k.slid for k in kept(slower, "walk")) < 1.5 * slid + 1e-3
    left = [k for k in every if clip.tracks[k[0]].thing.name == "foot_L"]
    own = stands_of(do(c, "keys.move", clip="walk", keys=left, by=7), "walk")
    assert own["foot_R"] == before["foot_R"] and own["foot_L"] == tuple((a + 7, b + 7) for a, b in before["foot_L"])
    late = stands_of(do(c, "keys.later", clip="walk", controls=["foot_R"], by=4), "walk")
    assert late["foot_L"] == before["foot_L"] and late["foot_R"] == tuple((a + 4, b + 4) for a, b in before["foot_R"])


def test_stands_go_round_a_loop():
    clip = Clip(name="step", rate=30.0, keyed=True, end=20, loop=True, tracks=(Track(thing=Ref.control("foot_L"), channel="move z"),),
                stands=(Stand(control="foot_L", frames=((2, 8), (12, 15))),))  # fmt: skip
    keys = np.array([[0, f, 0, 2, 0, 0] for f in (0, 10, 20)], np.float32)
    assert stands_along(clip, keys, keys[:, K.AT] + 10.0).stands[0].frames == ((2, 5), (12, 18))
    assert stands_along(clip, keys, keys[:, K.AT] + 6.0).stands[0].frames == ((0, 1), (8, 14), (18, 20))
    assert stands_along(clip, keys, np.array([20.0, 10.0, 0.0])).stands == ()  # they have passed each other
