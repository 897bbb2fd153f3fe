"""What must hold for the kits of any body, tried on the whole cast with seeded values on every control."""

import json

import numpy as np
import pytest

from vonkel.core.character import Character
from vonkel.core.errors import StepRefused
from vonkel.core.formats import read_character
from vonkel.core.joints.plans import lay_plan
from vonkel.core.rig import compile_rig
from vonkel.core.rig.kits import remove_kit
from vonkel.core.rig.match import switched
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
        ends = [index[kit.joints[r][0]] for r in ("upper", "middle", "end")]
        target = next(x.name for x in c.controls if x.kit == kit.name and any(ch.name == "ik" for ch in x.channels))
        inputs = {target: {"move x": 0.01, "move y": 0.02, "move z": 0.01, "turn x": 0.2}}
        start = program.evaluate(inputs).joints[ends].copy()
        by_fk = switched(c, program, inputs, kit.name, "fk")
        assert np.abs(program.evaluate(by_fk).joints[ends] - start).max() < 1e-9
        by_ik = switched(c, program, by_fk, kit.name, "ik")
        assert np.abs(program.evaluate(by_ik).joints[ends] - start).max() < 1e-5
