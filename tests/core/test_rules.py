"""Rules: follow, spaces, links and their curves, springs, swings, the order of solving, mirrored kits."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.interpolate import PchipInterpolator

from vonkel.core.character import Curve, CurveKey, Kit, Lead, Link
from vonkel.core.character.rules import curve_function, rounded
from vonkel.core.errors import NotFound, RigLoop, StepRefused
from vonkel.core.rig import Clock, PartialEvaluator, compile_rig
from vonkel.core.rig.fitting import add_kit
from vonkel.core.rig.mirror import copied_to_other_side, mirrored_pose, opposite_control
from vonkel.core.rig.motion import Motion, there_and_back
from vonkel.core.rig.recording import lead_value
from vonkel.core.rig.rules.springs import followed
from vonkel.readings import findings
from vonkel.readings.order import group_costs, order_of
from vonkel.steps import apply_step


@pytest.fixture(scope="module")
def tail(tube_character):
    """A tube with a turning control on each of its three joints."""
    return add_kit(tube_character, Kit(name="tail", kind="turns", joints={"chain": ("tail_1", "tail_2", "tail_3")}))


def ruled(c, **rule):
    made, _ = apply_step(c, "rules.add", {"rule": {"name": "it", **rule}})
    return made


def frames(c, inputs, clock=None):
    return compile_rig(c).evaluate(inputs, clock).joints


# -- curves --------------------------------------------------------------------------------------------------------
def curve(keys, manner="linear", past="hold"):
    return curve_function(Curve(keys=[CurveKey(at=a, value=v) for a, v in keys], manner=manner, past=past))


def test_a_smooth_curve_is_the_monotone_cubic_of_fritsch_and_carlson():
    """Against scipy's PCHIP, which uses the same slopes inside (Fritsch & Butland 1984); no overshoot between keys."""
    at, value = np.array([-1.0, -0.2, 0.0, 0.7, 1.5]), np.array([0.0, 0.1, 0.5, 0.5, 2.0])
    ours, theirs = curve(list(zip(at, value, strict=True)), "smooth"), PchipInterpolator(at, value)
    inside = np.linspace(-0.2, 0.7, 50)
    assert [ours(x) for x in inside] == pytest.approx(theirs(inside), abs=1e-12)
    everywhere = [ours(x) for x in np.linspace(-1, 1.5, 200)]
    assert np.diff(everywhere).min() > -1e-12


def test_curves_past_their_ends_and_in_steps():
    keys = [(0, 0), (1, 2), (2, 3)]
    assert [curve(keys)(x) for x in (-1, 0.5, 1.5, 9)] == [0, 1, 2.5, 3]
    assert [curve(keys, past="continue")(x) for x in (-1, 4)] == [-2, 5]
    assert [curve(keys, "stepped", "continue")(x) for x in (0.99, 1.0, 5)] == [0, 2, 3]
    assert curve([(0, 4)])(123) == 4
    assert [rounded(0.4, r) for r in ("none", "whole", "half", "third", "quarter")] == pytest.approx(
        [0.4, 0, 0.5, 1 / 3, 0.5]
    )
    with pytest.raises(ValueError, match="one after the other"):
        Curve(keys=[CurveKey(at=0, value=1), CurveKey(at=0, value=2)])


# -- follow --------------------------------------------------------------------------------------------------------
def test_following_keeps_the_offset_and_nothing_moves_when_it_is_made(otter):
    c = ruled(otter, kind="follow", thing="control:hand_L", sources=["joint:head"])
    assert {r.name for r in c.rules} - {r.name for r in otter.rules} == {"it", "it 2"}  # and the partner's
    rest = frames(c, {})
    assert np.abs(rest[:, :, 3] - [j.place for j in c.joints]).max() < 1e-12
    nod = {"head turn": {"turn x": 0.12}}  # no farther than the arm reaches
    head, hand = (c.joint_index[n] for n in ("head", "hand_L"))
    now = frames(c, nod)
    apart = lambda f: f[head, :, :3].T @ (f[hand, :, 3] - f[head, :, 3])  # noqa: E731
    assert np.allclose(apart(now), apart(rest), atol=1e-9)
    assert np.allclose(now[head, :, :3].T @ now[hand, :, :3], rest[head, :, :3].T @ rest[hand, :, :3], atol=1e-9)


@pytest.mark.parametrize("what", ["place", "turn"])
def test_following_with_weights_parts_axes_and_strength(tail, what):
    rest = frames(tail, {})
    both = {"tail_1 turn": {"turn z": 0.4}}
    c = ruled(tail, kind="follow", thing="joint:tail_3", sources=["ground"], what=what, strength=0.5)
    free, held = frames(tail, both)[2], frames(c, both)[2]
    if what == "place":
        assert np.allclose(held[:, 3], 0.5 * (free[:, 3] + rest[2, :, 3]), atol=1e-12)
        assert np.allclose(held[:, :3], free[:, :3], atol=1e-12)
        only = ruled(tail, kind="follow", thing="joint:tail_3", sources=["ground"], what=what, axes=[True, False, True])
        assert np.allclose(frames(only, both)[2, [0, 2], 3], rest[2, [0, 2], 3]) and frames(only, both)[
            2, 1, 3
        ] == pytest.approx(free[1, 3])
    else:
        assert np.allclose(held[:, 3], free[:, 3], atol=1e-12)
        angle = np.arccos((np.trace(held[:, :3] @ rest[2, :, :3].T) - 1) / 2)
        assert angle == pytest.approx(0.2, abs=1e-9)
    many = ruled(tail, kind="follow", thing="joint:tail_3", sources=["joint:tail_1", "ground"], weights=[3, 1])
    three = frames(many, {"tail_1 turn": {"turn z": 0.4}, "tail_2 turn": {"turn x": 0.9}})[2]
    angle = np.arccos((np.trace(three[:, :3] @ rest[2, :, :3].T) - 1) / 2)
    assert angle == pytest.approx(0.3, abs=1e-9)  # three quarters of what tail_1 turned, whatever tail_2 did


def test_local_reading_takes_only_what_a_source_does_in_its_own_parent(otter):
    c = ruled(otter, kind="follow", thing="joint:ear_L", sources=["joint:jaw"], what="turn", reading="local")
    i = c.joint_index["ear_L"]
    head = {"head turn": {"turn x": 0.4}}
    assert np.allclose(frames(c, head)[i], frames(otter, head)[i], atol=1e-12)  # the jaw did nothing in the head
    opened = frames(c, {"jaw turn": {"turn z": 0.3}})[i]
    assert np.arccos((np.trace(opened[:, :3] @ frames(c, {})[i, :, :3].T) - 1) / 2) == pytest.approx(0.3, abs=1e-9)


def test_aiming_turns_the_rest_line_of_sight_to_the_source(tail):
    c = ruled(tail, kind="follow", thing="joint:tail_2", sources=["joint:tail_1"], what="aim")
    assert np.allclose(frames(c, {}), frames(tail, {}), atol=1e-12)
    c, _ = apply_step(tail, "joints.add", {"name": "lamp", "place": [0.5, 0.4, 0.1], "both_sides": False})
    c = add_kit(c, Kit(name="lamp", kind="single", joints={"joint": ("lamp",)}))
    c = ruled(c, kind="follow", thing="joint:tail_2", sources=["joint:lamp"], what="aim")
    rest, now = frames(c, {}), frames(c, {"lamp": {"move y": 0.3, "move z": 0.2}})
    i, lamp = c.joint_index["tail_2"], c.joint_index["lamp"]
    sight = rest[i, :, :3].T @ (rest[lamp, :, 3] - rest[i, :, 3])
    way = now[lamp, :, 3] - now[i, :, 3]
    assert np.allclose(now[i, :, :3] @ sight / np.linalg.norm(sight), way / np.linalg.norm(way), atol=1e-9)


def test_sizes_are_taken_over(tail):
    c, _ = apply_step(tail, "joints.add", {"name": "lamp", "place": [0.5, 0.4, 0.1], "both_sides": False})
    c = add_kit(c, Kit(name="lamp", kind="single", joints={"joint": ("lamp",)}))
    c = ruled(
        c,
        kind="follow",
        thing="joint:tail_3",
        sources=["joint:lamp"],
        what="size",
        strength=0.5,
        axes=[True, True, False],
    )
    pose = compile_rig(c).evaluate({"lamp": {"size": 2.0}})
    assert pose.scales[c.joint_index["tail_3"]] == pytest.approx([1.5, 1.5, 1.0])


def test_what_an_operation_places_below_goes_along(otter):
    """A rule on a joint in the middle of a limb: the rest of the limb, placed by the same operation, isn't left behind."""
    c = ruled(otter, kind="follow", thing="joint:forearm_L", sources=["joint:head"], what="place")
    nod = {"head turn": {"turn x": 0.4}}
    now, rest = frames(c, nod), frames(c, {})
    fore, hand = (c.joint_index[n] for n in ("forearm_L", "hand_L"))
    assert np.abs(now[fore, :, 3] - rest[fore, :, 3]).max() > 0.01
    assert np.linalg.norm(now[hand, :, 3] - now[fore, :, 3]) == pytest.approx(
        np.linalg.norm(rest[hand, :, 3] - rest[fore, :, 3])
    )


def test_circles_are_refused_with_their_members(tail):
    c = tail
    with pytest.raises(RigLoop, match="tail_1.*tail_3|tail_3.*tail_1"):
        ruled(c, kind="follow", thing="control:tail_1 turn", sources=["joint:tail_3"])
    one = ruled(
        c,
        kind="link",
        lead={"thing": "control:tail_1 turn", "channel": "turn x"},
        followers=[led("control:tail_2 turn", "turn x")],
    )
    with pytest.raises(RigLoop, match="leads"):
        apply_step(
            one,
            "rules.add",
            {
                "rule": {
                    "name": "back",
                    "kind": "link",
                    "lead": {"thing": "control:tail_2 turn", "channel": "turn x"},
                    "followers": [led("control:tail_1 turn", "turn x")],
                }
            },
        )
    with pytest.raises(NotFound, match="no joint called"):
        ruled(c, kind="follow", thing="joint:tail_3", sources=["joint:nose"])
    with pytest.raises(NotFound, match="no channel"):
        ruled(c, kind="link", lead={"thing": "control:tail_1 turn", "channel": "wag"}, followers=[])


# -- links ---------------------------------------------------------------------------------------------------------
def led(thing, channel, *keys, **how):
    return {
        "thing": thing,
        "channel": channel,
        "curve": {"keys": [{"at": a, "value": v} for a, v in keys or ((0, 0), (1, 1))], **how},
    }


def test_a_channel_leads_controls_joints_sizes_and_shapes(otter):
    c, _ = apply_step(otter, "controls.add_channel", {"control": "head turn", "name": "grin"})
    rule = {
        "name": "grin", "kind": "link", "lead": {"thing": "control:head turn", "channel": "grin"},
        "followers": [led("control:tail 2", "turn y", (0, 0), (1, 0.5)), led("joint:ear_L", "turn z", (0, 0), (1, 0.3)),
                      led("joint:ear_R", "size", (0, 0), (1, 0.2)), led("shape:mouth open", "", (0, 0), (1, 0.8))],
    }  # fmt: skip
    c, _ = apply_step(c, "rules.add", {"rule": rule})
    program = compile_rig(c)
    rest, pose = program.evaluate({}), program.evaluate({"head turn": {"grin": 0.5}})
    assert pose.shapes["mouth open"] == pytest.approx(0.4) and rest.shapes["mouth open"] == 0
    assert np.abs(rest.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-12
    i = c.joint_index["ear_L"]
    angle = np.arccos((np.trace(pose.joints[i, :, :3] @ rest.joints[i, :, :3].T) - 1) / 2)
    assert angle == pytest.approx(0.15, abs=1e-9)
    assert pose.scales[c.joint_index["ear_R"]] == pytest.approx([1.1] * 3)
    by_hand = compile_rig(otter).evaluate({"tail 2": {"turn y": 0.25}}).joints
    assert np.allclose(pose.joints[c.joint_index["tail_6"]], by_hand[otter.joint_index["tail_6"]], atol=1e-12)


@pytest.mark.parametrize(
    ("kind", "turn", "value"),
    [("bend", {"turn z": 0.6}, 0.6), ("twist", {"turn x": -0.4}, -0.4), ("swing", {"turn y": 0.5}, 0.5)],
)
def test_an_angle_leads(tail, kind, turn, value):
    c = ruled(
        tail,
        kind="link",
        lead={"kind": kind, "thing": "joint:tail_2"},
        followers=[led("joint:tail_3", "move x", (-1, -0.1), (1, 0.1))],
    )
    moved = frames(c, {"tail_2 turn": turn})[2, :, 3] - frames(tail, {"tail_2 turn": turn})[2, :, 3]
    assert np.linalg.norm(moved) == pytest.approx(0.1 * abs(value), abs=1e-9)


def test_a_distance_leads_and_rests_at_zero(otter):
    lead = {"kind": "distance", "thing": "control:hand_L", "other": "joint:head"}
    c = ruled(otter, kind="link", lead=lead, followers=[led("shape:mouth open", "", (-1, 1), (0, 0))])
    program = compile_rig(c)
    assert program.evaluate({}).shapes["mouth open"] == 0
    hand, head = np.array(c.control_named["hand_L"].place), np.array(c.joint("head").place)
    near = (head - hand) / np.linalg.norm(head - hand) * 0.2
    pose = program.evaluate({"hand_L": dict(zip(("move x", "move y", "move z"), near, strict=True))})
    assert pose.shapes["mouth open"] == pytest.approx(0.2, abs=1e-9)


def test_what_leads_is_read_from_a_pose(otter):
    bent = {"hand_L": {"ik": 0.0}, "forearm_L turn": {"turn z": 0.7}}
    assert lead_value(otter, Lead(kind="bend", thing="joint:forearm_L"), bent) == pytest.approx(0.7, abs=1e-9)
    assert lead_value(otter, Lead(thing="control:fingers_L", channel="curl"), {"fingers_L": {"curl": 0.3}}) == 0.3
    lead = Lead(kind="distance", thing="control:hand_L", other="joint:hips")
    assert lead_value(otter, lead, {}) == pytest.approx(0, abs=1e-12)
    hand, body = np.array(otter.control_named["hand_L"].place), np.array(otter.joint("hips").place)
    far = np.linalg.norm(hand + [0.1, 0, 0] - body) - np.linalg.norm(hand - body)
    assert lead_value(otter, lead, {"hand_L": {"move x": 0.1}}) == pytest.approx(far, abs=1e-9)
    with pytest.raises(NotFound):
        lead_value(otter, Lead(kind="bend", thing="joint:nobody"), {})


def test_a_pose_is_recorded_by_an_angle_on_both_sides(otter):
    """The biceps of the face of it: with the elbow bent by 90°, the ear is laid back."""
    lead = {"kind": "bend", "thing": "joint:forearm_L"}
    c, _ = apply_step(otter, "rules.record", {"lead": lead, "at": 1.5, "values": {"ear_L turn": {"turn y": 0.6}}})
    pose = {"hand_L": {"ik": 0.0}, "forearm_L turn": {"turn z": 1.5}}
    by_hand = pose | {"ear_L turn": {"turn y": 0.6}}
    assert np.allclose(frames(c, pose), frames(otter, by_hand), atol=1e-6)
    assert np.allclose(frames(c, mirrored_pose(otter, pose)), frames(otter, mirrored_pose(otter, by_hand)), atol=1e-6)


def test_a_curve_that_is_not_zero_at_rest_is_moved_so_that_nothing_moves(tail):
    c = ruled(
        tail,
        kind="link",
        lead={"thing": "control:tail_1 turn", "channel": "turn x"},
        followers=[led("control:tail_2 turn", "turn x", (0, 0.3), (1, 0.8))],
    )
    link = c.rules[-1]
    assert [k.value for k in link.followers[0].curve.keys] == pytest.approx([0, 0.5])


def test_dragging_a_led_control_leaves_what_leads_it_alone(otter):
    """The hand's own value is what is left once the link's share is taken off."""
    from vonkel.core.rig.drag import turned_by

    program = compile_rig(otter)
    inputs = {"fingers_L": {"curl": 0.5}}
    before = np.array(program.evaluate(inputs).controls["index_2_L turn"]).reshape(3, 4)
    half = np.cos(0.1), *(np.sin(0.1) * before[:, 2])
    given = turned_by(program, inputs, "index_2_L turn", half)
    now = np.array(program.evaluate(inputs | {"index_2_L turn": given}).controls["index_2_L turn"]).reshape(3, 4)
    assert given["turn z"] == pytest.approx(0.2, abs=1e-9) and np.allclose(now[:, 2], before[:, 2], atol=1e-9)


def test_a_fist_is_recorded_by_posing_and_mirrored(otter):
    c, _ = apply_step(otter, "controls.add_channel", {"control": "fingers_L", "name": "claw"})
    assert any(k.name == "claw" for k in c.control_named["fingers_R"].channels)
    posed = {f"{d}_{i}_L turn": {"turn z": 0.4 * i} for d in ("index", "middle", "ring") for i in (1, 2, 3)}
    lead = {"thing": "control:fingers_L", "channel": "claw"}
    c, said = apply_step(c, "rules.record", {"lead": lead, "at": 1.0, "values": posed})
    half = {n: {"turn z": 0.1} for n in posed if n.startswith("index")}
    c, _ = apply_step(c, "rules.record", {"lead": lead, "at": 0.5, "values": half})
    program = compile_rig(c)
    at = lambda v, **more: program.evaluate({"fingers_L": {"claw": v}, **more}).joints  # noqa: E731
    assert np.allclose(at(1.0), program.evaluate(posed).joints, atol=1e-9)  # at this value, this pose
    by_hand = program.evaluate(
        {n: {"turn z": v["turn z"] / 2 + (0.1 if n in half else 0)} for n, v in posed.items()}
    ).joints
    assert np.allclose(at(0.5), by_hand, atol=1e-9)
    assert np.allclose(at(0.0), program.evaluate({}).joints)
    both = program.evaluate({"fingers_L": {"claw": 1.0}, "fingers_R": {"claw": 1.0}}).joints
    flip = both[[c.joint_index[n.replace("_L", "_R")] for n in ("index_3_L", "ring_2_L")], :, 3]
    assert np.allclose(flip * [-1, 1, 1], both[[c.joint_index[n] for n in ("index_3_L", "ring_2_L")], :, 3], atol=1e-9)
    with pytest.raises(StepRefused, match="At rest"):
        apply_step(c, "rules.record", {"lead": lead, "at": 0.0, "values": posed})
    with pytest.raises(StepRefused, match="Nothing was posed"):
        apply_step(c, "rules.record", {"lead": lead, "at": 1.0, "values": {"fingers_L": {"claw": 1.0}}})


def test_keys_are_moved_added_and_dropped(otter):
    link = next(r for r in otter.rules if isinstance(r, Link) and r.name == "fingers_L curl")
    c, _ = apply_step(otter, "rules.key", {"link": link.name, "follower": 0, "was": 1.0, "at": 0.8, "value": 1.5})

    def keys(c):
        curve = next(r for r in c.rules if r.name == link.name).followers[0].curve
        return [(k.at, round(k.value, 6)) for k in curve.keys]

    assert (0.8, 1.5) in keys(c) and all(a != 1.0 for a, _ in keys(c))
    c, _ = apply_step(c, "rules.key", {"link": link.name, "follower": 0, "at": 0.4, "value": 0.2})
    assert (0.4, 0.2) in keys(c)
    c, _ = apply_step(
        c, "rules.key", {"link": link.name, "follower": 0, "was": 0.4, "at": 0.4, "value": 0, "drop": True}
    )
    assert all(a != 0.4 for a, _ in keys(c))
    with pytest.raises(NotFound, match="no key"):
        apply_step(c, "rules.key", {"link": link.name, "follower": 0, "was": 0.123, "at": 0.5, "value": 0})


# -- springs and swings ----------------------------------------------------------------------------------------------
@pytest.mark.parametrize("damping", [0.0, 0.2, 1.0, 2.5])
@pytest.mark.parametrize("step", [1 / 24, 1 / 120])
def test_a_spring_is_the_closed_solution_of_a_damped_oscillator(damping, step):
    """A step of its goal: x(t) by the textbook formulas (Den Hartog 1934, Mechanical Vibrations, chapter 2), to 1e-9."""
    hertz, w = 2.0, 4 * np.pi
    place, speed, goal = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), (1.0, 0.5, -2.0)
    for i in range(1, 40):
        place, speed = followed(place, speed, goal, goal, hertz, damping, step)
        t = i * step
        if damping < 1:
            d = w * np.sqrt(1 - damping**2)
            left = np.exp(-damping * w * t) * (np.cos(d * t) + damping * w / d * np.sin(d * t))
        elif damping == 1:
            left = np.exp(-w * t) * (1 + w * t)
        else:
            r = w * np.sqrt(damping**2 - 1)
            left = np.exp(-damping * w * t) * (np.cosh(r * t) + damping * w / r * np.sinh(r * t))
        assert place == pytest.approx(np.array(goal) * (1 - left), abs=1e-9)


def test_a_spring_on_a_moving_goal_is_right_at_any_rate_where_the_goal_goes_evenly():
    """Against scipy's integrator, with a goal that goes along straight pieces."""
    hertz, damping, w = 1.5, 0.3, 3 * np.pi
    corners = [(0.0, 0.0), (0.5, 1.0), (1.0, 0.2), (2.0, 0.2)]
    goal = lambda t: float(np.interp(t, *zip(*corners, strict=True)))  # noqa: E731
    solved = solve_ivp(
        lambda t, y: [y[1], -w * w * (y[0] - goal(t)) - 2 * damping * w * y[1]],
        (0, 2),
        [0, 0],
        rtol=1e-10,
        atol=1e-12,
        max_step=0.01,
    )
    for n in (4, 40):
        place = speed = (0.0, 0.0, 0.0)
        for i in range(n):
            a, b = goal(2 * i / n), goal(2 * (i + 1) / n)
            place, speed = followed(place, speed, (a,) * 3, (b,) * 3, hertz, damping, 2 / n)
        assert place[0] == pytest.approx(solved.y[0, -1], abs=1e-6)


@pytest.fixture(scope="module")
def sprung(tail):
    return ruled(
        tail, kind="spring", things=["joint:tail_1", "joint:tail_2", "joint:tail_3"], stiffness=2.0, damping=0.2
    )


def swept_pose(frame):
    return {"tail_1 turn": {"turn z": 0.8 * min(frame / 12, 1.0)}}


def test_a_chain_lags_swings_past_and_settles_where_the_rig_puts_it(sprung, tail):
    motion = Motion(compile_rig(sprung), swept_pose, 24)
    goal = frames(tail, swept_pose(99))[2, :, 3]
    way = goal - frames(tail, {})[2, :, 3]
    share = [(motion.pose(i).joints[2, :, 3] - frames(tail, {})[2, :, 3]) @ way / (way @ way) for i in range(300)]
    plain = [(frames(tail, swept_pose(i))[2, :, 3] - frames(tail, {})[2, :, 3]) @ way / (way @ way) for i in range(13)]
    assert share[6] < plain[6] - 0.05 and max(share) > 1.03 and abs(share[299] - 1) < 1e-3
    assert np.allclose(
        frames(sprung, swept_pose(99)), frames(tail, swept_pose(99)), atol=1e-12
    )  # a still pose has settled
    bones = np.linalg.norm(motion.pose(8).joints[2, :, 3] - motion.pose(8).joints[1, :, 3])
    assert bones == pytest.approx(0.35, abs=1e-9)


def test_scrubbing_back_gives_the_same_picture_and_reset_begins_anew(sprung):
    program = compile_rig(sprung)
    motion = Motion(program, swept_pose, 24)
    forward = [motion.pose(i).joints.copy() for i in range(60)]
    for i in (59, 3, 30, 31, 0, 47, 12, 11):
        assert np.array_equal(motion.pose(i).joints, forward[i])
    assert np.array_equal(Motion(program, swept_pose, 24).pose(41).joints, forward[41])  # jumped to at once
    motion.forget()
    assert np.array_equal(motion.pose(20).joints, forward[20])


def test_a_spring_on_a_control_lags_in_place_and_turn_and_can_be_held(otter):
    c = ruled(otter, kind="spring", things=["control:hand_L"], stiffness=2.0, damping=1.0)
    program, i = compile_rig(c), otter.joint_index["hand_L"]
    clock = Clock(step=1 / 24)
    program.evaluate({}, clock)
    jump = {"hand_L": {"move y": 0.2, "turn z": 0.5}}
    first = program.evaluate(jump, clock)
    settled = program.evaluate(jump).joints[i]
    assert 0.01 < settled[1, 3] - first.joints[i, 1, 3] < 0.2
    for _ in range(200):
        last = program.evaluate(jump, clock)
    assert np.allclose(last.joints[i], settled, atol=1e-6)
    held = c.with_(rules=tuple(r.model_copy(update={"pull": 1.0}) if r.kind == "spring" else r for r in c.rules))
    clock = Clock(step=1 / 24)
    for values in ({}, jump):
        now = compile_rig(held).evaluate(values, clock)
    assert np.allclose(now.joints[i], settled, atol=1e-12)


def test_weight_droops_only_what_was_turned_against_the_pull(tail):
    c = ruled(tail, kind="spring", things=["joint:tail_3"], stiffness=2.0, weight=1.0)
    assert np.allclose(frames(c, {}), frames(tail, {}), atol=1e-12)
    over = {"tail_1 turn": {"turn z": 1.2}}
    bent, plain = frames(c, over)[2], frames(tail, over)[2]
    assert np.allclose(bent[:, 3], plain[:, 3], atol=1e-12) and np.abs(bent[:, :3] - plain[:, :3]).max() > 0.02


def test_swings_keep_one_rate_in_phase_and_stand_still_in_a_pose(otter):
    swingers = [{"control": f"ear_{s} turn", "channel": "turn z", "angle": 0.4, "phase": 0.0} for s in "LR"]
    swingers.append({"control": "tail 2", "channel": "turn y", "angle": 0.2, "phase": 0.25})
    c, _ = apply_step(otter, "rules.add", {"rule": {"name": "wag", "kind": "swing", "rate": 2.0, "swingers": swingers}})
    program = compile_rig(c)
    assert len([r for r in c.rules if r.kind == "swing"]) == 1  # both sides are in the one rule
    for t in (0.0, 0.07, 0.31):
        values = program.evaluate({}, Clock(time=t)).values
        left, right, tail_now = (
            values[program.channels[k]]
            for k in (("ear_L turn", "turn z"), ("ear_R turn", "turn z"), ("tail 2", "turn y"))
        )
        assert left == pytest.approx(0.4 * np.sin(4 * np.pi * t)) == right
        assert tail_now == pytest.approx(0.2 * np.cos(4 * np.pi * t))
    assert np.allclose(program.evaluate({}).joints, compile_rig(otter).evaluate({}).joints)


def test_a_try_goes_there_and_back_and_knows_what_rests_at_one():
    rests = {"hand": {"ik": 1.0, "move x": 0.0}}
    at = there_and_back({}, {"hand": {"ik": 0.0, "move x": 0.6}}, 31, rests)
    assert at(0) == {"hand": {"ik": 1.0, "move x": 0.0}} == at(30)
    assert at(15) == {"hand": {"ik": 0.0, "move x": 0.6}} and at(5)["hand"]["move x"] == pytest.approx(0.3)


# -- the order of solving --------------------------------------------------------------------------------------------
def test_the_order_reads_from_top_to_bottom_and_says_what_each_line_costs(otter):
    rows = order_of(otter)
    written = set()
    later = {w for r in rows for w in r["writes"] if not r["amends"]}
    for r in rows:
        if not r["amends"]:
            missing = {x for x in r["reads"] if x in later and x not in written and not x.startswith("control ")}
            assert not missing - set(r["writes"]), r["sentence"]
        written |= set(r["writes"])
        assert r["micros"] > 0 and r["sentence"] and r["group"]
    assert {"body", "arm_L", "fingers_L"} <= set(group_costs(rows))


def test_groups_move_where_allowed_and_are_refused_with_the_reason(otter):
    groups = lambda c: list(dict.fromkeys(o.group for o in compile_rig(c).operations))  # noqa: E731
    i = groups(otter).index("arm_R")
    up, _ = apply_step(otter, "rules.order", {"group": "arm_R", "to": "up"})
    assert groups(up).index("arm_R") == i - 1
    inputs = {"hand_L": {"move y": 0.1}, "tail 2": {"turn y": 0.4}, "body": {"move y": -0.05}}
    assert np.allclose(compile_rig(up).evaluate(inputs).joints, compile_rig(otter).evaluate(inputs).joints, atol=1e-12)
    with pytest.raises(StepRefused, match="which .* writes|first already"):
        c = otter
        for _ in range(20):
            c, _ = apply_step(c, "rules.order", {"group": "head", "to": "up"})
    with pytest.raises(NotFound):
        apply_step(otter, "rules.order", {"group": "nobody", "to": "up"})


def test_the_order_of_two_rules_on_one_thing_matters_and_can_be_changed(tail):
    c = ruled(tail, kind="follow", thing="joint:tail_3", sources=["ground"], what="place", strength=1.0)
    c, _ = apply_step(
        c,
        "rules.add",
        {
            "rule": {
                "name": "lift",
                "kind": "link",
                "lead": {"thing": "control:tail_1 turn", "channel": "turn z"},
                "followers": [led("joint:tail_3", "move y", (0, 0), (1, 0.5))],
            }
        },
    )
    turn = {"tail_1 turn": {"turn z": 0.4}}
    rest = frames(tail, {})[2, :, 3]
    assert np.linalg.norm(frames(c, turn)[2, :, 3] - rest) == pytest.approx(0.2, abs=1e-9)  # pinned, then lifted
    c, _ = apply_step(c, "rules.order", {"group": "lift", "to": "up"})
    assert np.linalg.norm(frames(c, turn)[2, :, 3] - rest) < 1e-9  # lifted, then pinned


def test_an_operation_switched_off_leaves_what_it_writes_at_rest(otter):
    program = compile_rig(otter)
    reach = next(o.sentence for o in program.operations if o.sentence.startswith("upper_arm_L and forearm_L reach"))
    push = {"hand_L": {"move y": 0.2}}
    without = compile_rig(otter, frozenset({reach})).evaluate(push).joints
    assert np.abs(without[:, :, 3] - [j.place for j in otter.joints]).max() < 1e-9
    assert np.abs(program.evaluate(push).joints[:, :, 3] - [j.place for j in otter.joints]).max() > 0.1


def test_a_follower_gives_what_a_fresh_start_gives_under_rules(otter, sprung):
    c = ruled(otter, kind="follow", thing="joint:ear_L", sources=["control:hand_L"], strength=0.3)
    c = ruled(
        c,
        kind="link",
        lead={"thing": "control:hand_L", "channel": "stretch"},
        followers=[led("control:tail 2", "turn y"), led("joint:jaw", "turn z")],
    )
    program = compile_rig(c)
    follower, rng = PartialEvaluator(program), np.random.default_rng(7)
    inputs = {}
    for _ in range(60):
        control = c.controls[rng.integers(len(c.controls))]
        channel = control.channels[rng.integers(len(control.channels))]
        inputs = inputs | {control.name: {channel.name: float(rng.uniform(0, 0.3))}}
        assert np.array_equal(follower.evaluate(inputs).joints, program.evaluate(inputs).joints)


# -- the other side, control edits, findings -------------------------------------------------------------------------
def test_opposites_are_found_and_twice_is_the_same(otter):
    assert opposite_control(otter, "hand_L") == "hand_R" and opposite_control(otter, "fingers_R") == "fingers_L"
    assert opposite_control(otter, "chest turn") == "chest turn"
    for c in otter.controls:
        assert opposite_control(otter, opposite_control(otter, c.name)) == c.name
        assert (opposite_control(otter, c.name) == c.name) == (c.side == "C")


def test_one_side_is_copied_to_the_other(otter):
    pose = {"hand_L": {"move x": 0.1, "move y": 0.2}, "hand_R": {"move y": -0.3}, "foot_R": {"move y": 0.1}}
    out = copied_to_other_side(otter, pose, "L")
    assert out["hand_R"]["move x"] == pytest.approx(-0.1) and out["hand_R"]["move y"] == pytest.approx(0.2)
    assert "foot_R" not in out and out["hand_L"] == pose["hand_L"]
    twice = mirrored_pose(otter, mirrored_pose(otter, pose))
    assert all(twice[c][k] == pytest.approx(v) for c, given in pose.items() for k, v in given.items())


def test_what_is_in_the_middle_is_brought_to_the_middle(otter):
    """Half a pose made whole: afterwards it is its own mirror, and turns that were in the middle stay."""
    pose = {
        "hand_L": {"move x": 0.1, "move y": 0.2}, "chest turn": {"turn x": 0.3, "turn y": 0.4, "turn z": -0.2},
        "body": {"move x": 0.05, "move y": -0.1}, "whole": {"move x": 0.2},
    }  # fmt: skip
    out = copied_to_other_side(otter, pose, "L")
    assert out["body"] == {"move y": pytest.approx(-0.1)} and out["whole"] == pose["whole"]
    assert np.allclose(frames(otter, out), frames(otter, mirrored_pose(otter, out)), atol=1e-9)
    for axis in "xyz":  # about one axis of three a trunk bends forward: that stays whole, what leans or twists goes
        kept = copied_to_other_side(otter, {"chest turn": {f"turn {axis}": 0.3}}, "R")["chest turn"]
        assert kept == ({"turn z": pytest.approx(0.3, abs=1e-9)} if axis == "z" else {})


def test_a_kit_is_mirrored_with_all_that_was_done_to_it(otter):
    c, _ = apply_step(
        otter, "limbs.set_place", {"kit": "foot_L", "point": "heel", "place": [0.12, 0.0, -0.07], "both_sides": False}
    )
    c, _ = apply_step(c, "limbs.set_options", {"kit": "foot_L", "options": {"ball_angle": 30.0}, "both_sides": False})
    c, _ = apply_step(
        c, "controls.shape", {"controls": ["foot roll_L"], "shape": "bow", "grow": 1.3, "both_sides": False}
    )
    c, _ = apply_step(
        c,
        "controls.limit",
        {"controls": ["foot roll_L"], "channel": "roll", "low": -0.2, "high": 1.0, "both_sides": False},
    )
    assert any("no equal" in f.title for f in findings(c))
    c, _ = apply_step(c, "limbs.mirror_kit", {"kit": "foot_L"})
    assert not any("no equal" in f.title for f in findings(c))
    right = next(k for k in c.kits if k.name == "foot_R")
    assert right.places["heel"] == (-0.12, 0.0, -0.07) and right.options["ball_angle"] == 30.0
    roll = c.control_named["foot roll_R"]
    assert roll.shape == "bow" and next(k for k in roll.channels if k.name == "roll").high == 1.0
    with pytest.raises(StepRefused, match="no other side"):
        apply_step(c, "limbs.mirror_kit", {"kit": "body"})


def test_control_edits_survive_a_moved_joint_and_a_resize(otter):
    c, _ = apply_step(otter, "controls.shape", {"controls": ["hand_L"], "shape": "gear", "grow": 1.5})
    c, _ = apply_step(c, "controls.limit", {"controls": ["hand_L"], "channel": "move x", "low": -0.1, "high": 0.3})
    c, _ = apply_step(c, "controls.set", {"controls": ["hand_L"], "level": "spare"})
    right = {k.name: k for k in c.control_named["hand_R"].channels}["move x"]
    assert (right.low, right.high) == (-0.3, 0.1)  # the mirror image of the limits
    place = np.array(c.joint("hand_L").place) + [0.005, 0, 0]
    moved, _ = apply_step(c, "joints.move", {"joint": "hand_L", "place": place.tolist()})
    for n in ("hand_L", "hand_R"):
        x = moved.control_named[n]
        assert (
            x.shape == "gear"
            and x.grow == 1.5
            and x.level == "spare"
            and {k.name: k for k in x.channels}["move x"].limited
        )
    pose = compile_rig(moved).evaluate({"hand_L": {"move x": 0.9}})
    assert pose.values[compile_rig(moved).channels[("hand_L", "move x")]] == 0.3
    height = float(np.ptp(moved.points[:, 1]))
    large, _ = apply_step(moved, "model.resize", {"measure": "height", "metres": 10 * height})
    x = {k.name: k for k in large.control_named["hand_L"].channels}["move x"]
    assert (x.low, x.high) == pytest.approx((-1.0, 3.0))  # ten times as large, ten times as far
    assert large.control_named["hand_L"].shape == "gear"
    far = compile_rig(large).evaluate({"hand_L": {"move x": 9.0}})
    near = compile_rig(moved).evaluate({"hand_L": {"move x": 0.9}})
    assert np.allclose(far.joints[:, :, 3], 10 * near.joints[:, :, 3], atol=1e-6)
    locked, _ = apply_step(c, "controls.limit", {"controls": ["hand_L"], "channel": "move y", "locked": True})
    held = compile_rig(locked).evaluate({"hand_L": {"move y": 0.2}, "hand_R": {"move y": 0.2}})
    assert np.array_equal(held.joints, compile_rig(locked).evaluate({}).joints)  # locked is at rest, on both sides
    renamed, _ = apply_step(c, "controls.rename", {"control": "hand_L", "name": "paw_L"})
    assert any(r.kind == "space" and r.control == "paw_L" for r in renamed.rules)
    compile_rig(renamed).evaluate({"paw_L": {"move y": 0.1}})
    with pytest.raises(StepRefused):
        apply_step(c, "controls.rename", {"control": "hand_L", "name": "hand_R"})


def test_links_follow_renamed_joints_and_lose_removed_ones(otter):
    c, _ = apply_step(otter, "joints.rename", {"joint": "index_1_L", "name": "pointer_1_L"})
    program = compile_rig(c)
    before, after = compile_rig(otter), program
    inputs = {"fingers_L": {"curl": 0.7}}
    assert np.allclose(after.evaluate(inputs).joints, before.evaluate(inputs).joints, atol=1e-12)


def test_rules_lose_joints_and_shapes_that_go_and_follow_new_names(otter):
    rule = {
        "name": "smile", "kind": "link", "lead": {"thing": "control:head turn", "channel": "turn x"},
        "followers": [led("shape:mouth open", ""), led("control:jaw turn", "turn z")],
    }  # fmt: skip
    c, _ = apply_step(otter, "rules.add", {"rule": rule})
    c, _ = apply_step(
        c,
        "rules.add",
        {"rule": {"name": "nod", "kind": "follow", "thing": "joint:ear_L", "sources": ["joint:jaw_end"]}},
    )
    c, _ = apply_step(c, "shapes.set", {"shape": "mouth open", "name": "gape"})
    assert compile_rig(c).evaluate({"head turn": {"turn x": 0.2}}).shapes["gape"] == pytest.approx(0.2)
    c, _ = apply_step(c, "shapes.remove", {"shape": "gape"})
    assert [f.thing for f in next(r for r in c.rules if r.name == "smile").followers] == ["control:jaw turn"]
    c, _ = apply_step(c, "joints.remove", {"joint": "jaw_end"})
    assert not any(r.name.startswith("nod") for r in c.rules)
    compile_rig(c).evaluate({})


def test_a_new_rest_carries_a_foots_points_along(otter):
    pose = {"body": {"move x": 0.1}, "foot_L": {"move y": 0.1, "turn y": 0.4}}
    c, _ = apply_step(otter, "joints.new_rest", {"values": pose})
    old, new = (next(k for k in x.kits if k.name == "foot_L") for x in (otter, c))
    heel = np.array(old.places["heel"]) - otter.joint("foot_L").place
    moved = np.array(new.places["heel"]) - c.joint("foot_L").place
    assert np.linalg.norm(moved) == pytest.approx(np.linalg.norm(heel)) and np.abs(moved - heel).max() > 0.01
    rest, rolled = frames(c, {}), frames(c, {"foot roll_L": {"roll": -0.3}})
    i = c.joint_index["foot_L"]
    at = rolled[i, :, :3] @ rest[i, :, :3].T @ (np.array(new.places["heel"]) - rest[i, :, 3]) + rolled[i, :, 3]
    assert np.abs(at - new.places["heel"]).max() < 1e-6


def test_findings_of_limbs_name_what_is_wrong_and_mend_it(otter, tail):
    titles = lambda c: [f.title for f in findings(c) if f.station == "limbs"]  # noqa: E731
    assert titles(otter) == []
    straight = add_kit(
        tail.with_(kits=(), controls=()),
        Kit(name="leg", kind="leg", joints={"upper": ("tail_1",), "middle": ("tail_2",), "end": ("tail_3",)}),
    )
    found = next(f for f in findings(straight) if "dead straight" in f.title)
    mended, _ = apply_step(straight, found.mend.step, found.mend.params)
    assert not any("dead straight" in t for t in titles(mended))
    added, _ = apply_step(otter, "controls.add_channel", {"control": "body", "name": "spare"})
    assert any("leads nothing" in t or "lead nothing" in t for t in titles(added))
    crooked = otter.with_(controls=tuple(
        x.model_copy(update={"channels": tuple(k.model_copy(update={"rest": 0.1}) if k.name == "move x" else k for k in x.channels)}) if x.name == "hand_L" else x for x in otter.controls))  # fmt: skip
    assert any("not zero at rest" in t for t in titles(crooked))
    loose = otter.with_(
        joints=tuple(j.model_copy(update={"parent": None}) if j.name == "thigh_L" else j for j in otter.joints)
    )
    assert any("isn't attached" in t for t in titles(loose))
    limits = {"low": [None, -95, None], "high": [None, 95, None]}
    prone, _ = apply_step(otter, "joints.free", {"joint": "ear_L", **limits})
    assert any("gimbal" in t for t in titles(prone))
    twins = otter.with_(
        controls=otter.controls + (otter.control_named["ear_L turn"].model_copy(update={"name": "ear again"}),)
    )
    assert any("another like it" in t for t in titles(twins))


def test_a_channel_swings_with_its_partner_as_the_mirror_image(otter):
    """The partner's channel swings to where the mirrored pose has it, in the same rule and on the same rate."""
    one, _ = apply_step(otter, "rules.swing", {"control": "hand_L", "channel": "move x", "angle": 0.05, "rate": 1.5})
    (rule,) = [r for r in one.rules if r.kind == "swing"]
    assert rule.rate == 1.5 and {s.control for s in rule.swingers} == {"hand_L", "hand_R"}
    program = compile_rig(one)
    pose = program.evaluate({}, Clock(time=1 / 6))  # a quarter of the round: swung out
    left, right = (pose.joints[one.joint_index[f"hand_{s}"]][:, 3] for s in "LR")
    assert np.allclose(left * [-1, 1, 1], right, atol=1e-9)
    assert not np.allclose(left, compile_rig(otter).evaluate({}).joints[one.joint_index["hand_L"]][:, 3], atol=1e-3)
    alone, _ = apply_step(
        otter, "rules.swing", {"control": "hand_L", "channel": "move x", "angle": 0.05, "both_sides": False}
    )
    assert [s.control for s in next(r for r in alone.rules if r.kind == "swing").swingers] == ["hand_L"]
    with pytest.raises(NotFound):
        apply_step(otter, "rules.swing", {"control": "nobody", "channel": "move x", "angle": 0.1})
