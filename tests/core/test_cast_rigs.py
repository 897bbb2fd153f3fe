"""What must hold for the kits of any body, tried on the whole cast with seeded values on every control."""

import json

import numpy as np
import pytest

from vonkel.core.character import Character, opposite_name
from vonkel.core.errors import StepRefused
from vonkel.core.formats import read_character
from vonkel.core.plans import lay_plan
from vonkel.core.rig import compile_rig
from vonkel.core.rig.fitting import remove_kit
from vonkel.core.rig.kits.limb import limb_joints
from vonkel.core.rig.match import switched
from vonkel.core.rig.mirror import mirrored_pose
from vonkel.demo import CAST, DATA
from vonkel.steps import apply_step

BODIES = {m.plan: m for m in CAST.values() if m.plan}
REACH = {"move": 0.03, "turn": 0.4}


@pytest.fixture(scope="module")
def rigs():
    """Every plan's member of the cast, planned and outfitted, with its compiled program."""
    made = {}
    for plan, m in BODIES.items():
        laid = lay_plan(read_character(m.file, (DATA / m.file).read_bytes(), m.name), plan, {})
        c, _ = apply_step(laid, "limbs.outfit", {})
        made[plan] = c, compile_rig(c)
    return made


def values(c, rng, share=0.4):
    """Seeded values for some channels of some controls, within their limits."""
    out = {}
    for control in c.controls:
        for ch in control.channels:
            if rng.random() > share:
                continue
            low, high = -REACH.get(ch.kind, 1.0), REACH.get(ch.kind, 1.0)
            low = low if ch.low is None else max(low, ch.low)
            high = high if ch.high is None else min(high, ch.high)
            out.setdefault(control.name, {})[ch.name] = float(rng.uniform(low, high))
    return out


@pytest.mark.parametrize("plan", BODIES)
def test_any_values_give_whole_frames_and_change_neither_character_nor_values(rigs, plan):
    c, program = rigs[plan]
    rng = np.random.default_rng(5)
    key, arrays = c.key, {n: a.copy() for n, a in c.arrays.items()}
    for _ in range(10):
        inputs = values(c, rng)
        told = json.dumps(inputs)
        first = program.evaluate(inputs).joints.copy()
        assert np.isfinite(first).all() and (np.linalg.det(first[:, :, :3]) > 0).all()  # nothing is turned inside out
        program.evaluate(values(c, rng))  # another pose in between leaves nothing behind
        assert np.array_equal(program.evaluate(inputs).joints, first) and json.dumps(inputs) == told
    assert c.key == key and all(np.array_equal(a, arrays[n]) for n, a in c.arrays.items())


@pytest.mark.parametrize("plan", BODIES)
def test_a_rig_evaluates_the_same_after_it_was_saved(rigs, plan):
    c, program = rigs[plan]
    saved = Character.model_validate_json(c.model_dump_json()).model_copy(update={"arrays": c.arrays})
    again, rng = compile_rig(saved), np.random.default_rng(6)
    for _ in range(5):
        inputs = values(c, rng)
        assert np.array_equal(again.evaluate(inputs).joints, program.evaluate(inputs).joints)


@pytest.mark.parametrize("plan", BODIES)
def test_every_kit_comes_off_without_harm_to_the_others(rigs, plan):
    """Taken off one by one, the last made first; where another hangs on it, it is refused or goes with it."""
    c, _ = rigs[plan]
    rest = np.array([j.place for j in c.joints])
    while c.kits:
        before = len(c.kits)
        c = remove_kit(c, c.kits[-1].name)
        assert len(c.kits) < before
        assert {x.kit for x in c.controls} <= {k.name for k in c.kits} | {""}
        assert np.abs(compile_rig(c).evaluate({}).joints[:, :, 3] - rest).max() < 1e-12


@pytest.mark.parametrize("plan", BODIES)
def test_the_same_outfit_twice_never_clashes_in_names(rigs, plan):
    c, _ = rigs[plan]
    names = [x.name for x in c.controls]
    assert len(names) == len(set(names)) and len({k.name for k in c.kits}) == len(c.kits)
    try:
        twice, _ = apply_step(c, "limbs.outfit", {})
    except StepRefused:
        return
    names = [x.name for x in twice.controls]
    assert len(names) == len(set(names))


@pytest.mark.parametrize("plan", BODIES)
def test_every_limb_of_the_cast_switches_without_a_jump(rigs, plan):
    c, program = rigs[plan]
    index = {n: i for i, n in enumerate(program.joint_names)}
    for kit in (k for k in c.kits if k.kind in ("arm", "leg")):
        ends = [index[n] for n in limb_joints(kit)]
        target = next(x.name for x in c.controls if x.kit == kit.name and any(ch.name == "ik" for ch in x.channels))
        inputs = {target: {"move x": 0.01, "move y": 0.02, "move z": 0.01, "turn x": 0.2}}
        start = program.evaluate(inputs).joints[ends].copy()
        by_fk = switched(c, program, inputs, kit.name, "fk")
        assert np.abs(program.evaluate(by_fk).joints[ends] - start).max() < 1e-9
        by_ik = switched(c, program, by_fk, kit.name, "ik")
        assert np.abs(program.evaluate(by_ik).joints[ends] - start).max() < 1e-5


@pytest.mark.parametrize("plan", BODIES)
def test_mirrored_values_give_the_mirrored_pose(rigs, plan):
    """Every joint lies at the mirror image of where its partner lay, whatever kit moves it."""
    c, program = rigs[plan]
    rng = np.random.default_rng(11)
    partner = [
        c.joint_index[opposite_name(j.name)] if opposite_name(j.name) in c.joint_index else i
        for i, j in enumerate(c.joints)
    ]
    paired = np.array([j.side == "C" or partner[i] != i for i, j in enumerate(c.joints)])
    rest = np.array([j.place for j in c.joints])
    even = np.abs(rest - rest[partner] * [-1, 1, 1]).max()
    assert even < 1e-6 * c.size  # the cast is symmetric: so must its poses be
    worst = 0.0
    for _ in range(6):
        inputs = {k: v for k, v in values(c, rng, 0.25).items() if k != "whole"}
        one = program.evaluate(inputs)
        other = program.evaluate(mirrored_pose(c, inputs))
        off = np.abs(other.joints[partner][:, :, 3] * [-1, 1, 1] - one.joints[:, :, 3])[paired]
        worst = max(worst, float(off.max()))
        assert np.allclose(other.scales[partner], one.scales, atol=1e-6)
    assert worst < 1e-5 * c.size


def test_zero_in_means_rest_out_for_every_kit_and_option(rigs):
    """Every joint's whole frame, not only its place, on every body."""
    for c, program in rigs.values():
        rest = program.evaluate({})
        from vonkel.core.geometry.rotations import matrix_from_quaternion

        turns = np.array([matrix_from_quaternion(j.turn) for j in c.joints])
        assert np.abs(rest.joints[:, :, :3] - turns).max() < 1e-9
        assert np.abs(rest.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-9
        assert (rest.scales == 1).all()
        zeros = {x.name: {k.name: k.rest for k in x.channels} for x in c.controls}
        assert np.array_equal(program.evaluate(zeros).joints, rest.joints)
        for x in c.controls:  # and controls lie on their rest, sizes at one
            frame = np.array(rest.controls[x.name]).reshape(3, 4)
            assert np.abs(frame[:, 3] - x.place).max() < 1e-9


# -- feet that push the body -----------------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def beetle(rigs):
    return rigs["many-legged"]


def feet(c, program, inputs):
    pose = program.evaluate(inputs)
    legs = [k for k in c.kits if k.kind == "leg"]
    return np.array([pose.joints[c.joint_index[k.joints["end"][0]], :, 3] for k in legs]), legs


def goals(c, legs, inputs):
    out = []
    for k in legs:
        target = next(x for x in c.controls if x.kit == k.name and x.key == "target")
        move = inputs.get(target.name, {})
        out.append(np.array(c.joint(k.joints["end"][0]).place) + [move.get(f"move {a}", 0.0) for a in "xyz"])
    return np.array(out)


def length_of(c, leg):
    places = np.array([c.joint(n).place for n in limb_joints(leg)])
    return float(np.linalg.norm(np.diff(places, axis=0), axis=1).sum())


def test_feet_push_the_body_and_stay_where_they_stand(beetle):
    c, program = beetle
    rng = np.random.default_rng(21)
    legs = [k for k in c.kits if k.kind == "leg"]
    targets = [next(x.name for x in c.controls if x.kit == k.name and x.key == "target") for k in legs]
    size = length_of(c, legs[0])
    body = c.joint_index["thorax"]
    reached = leaned = 0
    for _ in range(25):
        inputs = {
            t: dict(zip(("move x", "move y", "move z"), rng.uniform(-0.12, 0.12, 3) * size, strict=True))
            for t in targets
        }
        for extra in ({}, {"body": {"move y": 0.03 * size, "turn y": 0.05}}):
            both = inputs | extra
            now, _ = feet(c, program, both)
            off = np.linalg.norm(now - goals(c, legs, both), axis=1)
            pose = program.evaluate(both)
            for k, miss in zip(legs, off, strict=True):
                hip = pose.joints[c.joint_index[k.joints["upper"][0]], :, 3]
                goal = goals(c, [k], both)[0]
                if np.linalg.norm(goal - hip) < 0.999 * length_of(c, k):
                    reached += 1
                    assert miss < 1e-4 * length_of(c, k)
        leaned += (
            float(np.linalg.norm(program.evaluate(inputs).joints[body, :, 3] - c.joint("thorax").place)) > 1e-3 * size
        )
    assert reached > 200 and leaned == 25


def test_one_foot_dragged_leans_the_body_its_way_smoothly_and_the_same_every_time(beetle):
    c, program = beetle
    body, rest = c.joint_index["thorax"], np.array(c.joint("thorax").place)
    track = []
    for v in np.linspace(0, 0.15, 60):
        p = program.evaluate({"foot 1_L": {"move y": v}}).joints[body]
        track.append(p[:, 3])
        assert np.array_equal(program.evaluate({"foot 1_L": {"move y": v}}).joints[body], p)
    track = np.array(track)
    assert track[-1][1] > rest[1] + 0.008  # up, as the foot goes, and its nose too
    assert p[1, :3] @ program.evaluate({}).joints[body, :, :3].T[:, 2] > 0.03
    steps = np.linalg.norm(np.diff(track, axis=0), axis=1)
    assert steps.max() < 3 * np.median(steps)
    off = program.evaluate({"foot 1_L": {"move y": 0.2}, "stance": {"push": 0.0}}).joints[body]
    assert np.allclose(off[:, 3], rest, atol=1e-12)
    level = program.evaluate({"foot 1_L": {"move y": 0.2}, "stance": {"level": 1.0}}).joints[body]
    assert np.allclose(level[:, :3], program.evaluate({}).joints[body, :, :3], atol=1e-9)


def test_the_whole_figure_carries_feet_and_body_together(beetle):
    """Moving and turning the whole changes nothing within it."""
    c, program = beetle
    pose = {"foot 1_L": {"move y": 0.05}}
    here, there = (
        program.evaluate(pose).joints,
        program.evaluate(pose | {"whole": {"turn y": 0.8, "move x": 0.4, "move z": 2.0}}).joints,
    )
    a = np.linalg.norm(here[:, None, :, 3] - here[None, :, :, 3], axis=-1)
    b = np.linalg.norm(there[:, None, :, 3] - there[None, :, :, 3], axis=-1)
    assert np.abs(a - b).max() < 1e-8
