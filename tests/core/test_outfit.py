"""Which kits a skeleton calls for, what one click gives a kit, and rigs that are resized, renamed and mirrored whole."""

import numpy as np
import pytest

from tests.core.test_kits import HOCK, chain
from vonkel.core.character import Follow, Link, Space, Spring, Swing, Swinger
from vonkel.core.character.references import without
from vonkel.core.errors import NotFound
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.rig import compile_rig
from vonkel.core.rig.fitting import add_kit, remove_kit
from vonkel.core.rig.kits import KINDS, PROVIDED, gives
from vonkel.core.rig.opposite import mirrored_rule
from vonkel.core.rig.outfit import kit_of, outfit
from vonkel.core.rig.outlines import SHAPES, shaped
from vonkel.core.rig.suggest import suggested
from vonkel.steps import apply_step


def role(c, roles):
    joints = tuple(j.model_copy(update={"role": roles.get(j.name, j.role)}) for j in c.joints)
    return turn_down_bones(c.with_(joints=joints))


def plans_of(c, **how):
    return {p.name: p for p in outfit(c, **how)}


def test_a_leg_on_its_toes_gets_a_hock_and_a_flat_foot_a_roll():
    named = {"bone_1": "thigh", "bone_2": "shin", "bone_3": "foot", "bone_4": "ball"}
    toes = plans_of(role(chain(HOCK), named))["leg_C"]
    assert toes.joints["middle"] == ("bone_2", "bone_3") and toes.joints["end"] == ("bone_4",)
    flat = plans_of(role(chain([(0, 0.9, 0), (0, 0.5, 0.05), (0, 0.1, 0), (0, 0.03, 0.14)]), named))
    assert flat["leg_C"].joints["end"] == ("bone_3",) and flat["foot_C"].joints["ball"] == ("bone_4",)


def test_digits_and_tails_can_be_left_out(otter):
    bare = otter.with_(kits=(), controls=(), rules=())
    every, few = plans_of(bare), plans_of(bare, digits=False, tail=False)
    assert {"fingers_L", "fingers_R", "tail"} <= set(every) and not {"fingers_L", "tail"} & set(few)
    assert every["arm_L"].joints["collar"] == ("collar_L",) and every["fingers_L"].joints["thumb"][0] == "thumb_1_L"
    moved = [n for p in every.values() for n in KINDS[p.kind].moves(kit_of(bare, p))]
    assert len(moved) == len(set(moved))  # no joint is given to two kits
    assert {j.name for j in bare.joints if j.deforms} == set(moved)  # and none is forgotten


def test_kits_that_are_there_are_left_alone_and_the_rest_is_put_on(otter):
    less = remove_kit(remove_kit(otter, "arm_L"), "tail")
    again, _ = apply_step(less, "limbs.outfit", {})
    assert {k.name for k in again.kits} == {k.name for k in otter.kits}
    pose = {"hand_L": {"move y": 0.15}, "tail 3": {"move x": 0.1}, "body": {"turn y": 0.3}}
    assert np.allclose(compile_rig(again).evaluate(pose).joints, compile_rig(otter).evaluate(pose).joints, atol=1e-12)


CLICKS = {
    "arm": "upper_arm_L", "leg": "thigh_R", "foot": "foot_L", "digits": "hand_L", "body": "hips", "head": "head",
    "chain": "tail_1", "turns": "ear_L", "eyes": "eye_L", "single": "jaw", "whole": "hips", "fin": "tail_1",
}  # fmt: skip


@pytest.mark.parametrize("kind", CLICKS)
def test_one_click_fills_a_kit_that_can_be_put_on(otter, kind):
    bare = otter.with_(kits=(), controls=(), rules=())
    if kind == "foot":
        bare, _ = apply_step(bare, "limbs.add_kit", {"kind": "leg", "joints": suggested(bare, "leg", "thigh_L")})
    joints = suggested(bare, kind, CLICKS[kind])
    made, _ = apply_step(bare, "limbs.add_kit", {"kind": kind, "joints": joints})
    rest = compile_rig(made).evaluate({})
    assert np.abs(rest.joints[:, :, 3] - [j.place for j in made.joints]).max() < 1e-9
    sides = {k.side for k in made.kits if k.kind == kind}
    assert sides == ({"L", "R"} if CLICKS[kind].endswith(("_L", "_R")) and kind != "eyes" else {"C"})


def test_a_click_on_the_end_of_a_limb_goes_upwards(otter):
    bare = otter.with_(kits=(), controls=(), rules=())
    c = chain([(0, 0.9, 0), (0, 0.6, 0.05), (0, 0.3, 0)])
    assert suggested(c, "leg", "bone_3") == {"upper": ("bone_1",), "middle": ("bone_2",), "end": ("bone_3",)}
    assert suggested(bare, "head", "head")["neck"] == ("neck",)
    assert suggested(bare, "body", "hips")["spine"] == ("spine_1", "spine_2", "chest")
    with pytest.raises(NotFound):
        suggested(bare, "arm", "nobody")


def test_a_rig_that_is_resized_poses_alike_at_its_new_size(otter):
    """Kits' points, links' metres and controls grow with the figure: the same pose, twice as large."""
    keys = [{"at": 0, "value": 0}, {"at": 0.2, "value": 0.1}]
    rule = {
        "name": "reach", "kind": "link", "lead": {"kind": "distance", "thing": "joint:hand_L", "other": "joint:hips"},
        "followers": [{"thing": "joint:ear_L", "channel": "move x", "curve": {"keys": keys, "past": "continue"}}],
    }  # fmt: skip
    small, _ = apply_step(otter, "rules.add", {"rule": rule, "both_sides": False})
    large, _ = apply_step(small, "model.resize", {"metres": 2 * small.height})
    pose = {"foot roll_L": {"roll": 0.5}, "hand_L": {"move x": -0.1, "move y": 0.2}, "fingers_L": {"fist": 0.7}}
    grown = {c: {k: 2 * v if k.startswith("move ") else v for k, v in given.items()} for c, given in pose.items()}
    a, b = compile_rig(small).evaluate(pose), compile_rig(large).evaluate(grown)
    origin = np.array(large.joint("hips").place) - 2 * np.array(small.joint("hips").place)
    assert np.allclose(b.joints[:, :, 3], 2 * a.joints[:, :, 3] + origin, atol=1e-6)
    assert np.allclose(b.joints[:, :, :3], a.joints[:, :, :3], atol=1e-6)


def test_a_rig_that_is_carried_out_and_in_keeps_its_rules_and_points(otter, tmp_path):
    from vonkel.workshop import Workshop

    one, two = Workshop(tmp_path / "one"), Workshop(tmp_path / "two")
    number = one.add(otter, {}, "made")
    spring = {"name": "wag", "kind": "spring", "things": ["joint:tail_5", "joint:tail_6"], "stiffness": 4.0}
    one.apply(number, "rules.add", {"rule": spring})
    one.apply(number, "rules.order", {"group": "arm_R", "to": "up"})
    c = one.character(number)
    again = two.character(two.bring_in("Lutra.vonkel", one.pack(number)))
    assert again.rules == c.rules and again.order == c.order and again.kits == c.kits


def test_every_kind_of_rule_speaks_of_things_that_can_be_renamed_and_lost():
    keys = {"keys": [{"at": 0, "value": 0}]}
    rules = [
        Follow(name="a", thing="joint:x", sources=("control:c", "joint:y"), weights=(1.0, 2.0)),
        Space(name="b", control="c", sources=("joint:x", "ground")),
        Link.model_validate({"name": "d", "lead": {"thing": "control:c", "channel": "v"}, "followers": [{"thing": "joint:x", "channel": "turn x", "curve": keys}, {"thing": "shape:s", "curve": keys}]}),
        Spring(name="e", things=("joint:x", "joint:y")),
        Swing(name="f", swingers=(Swinger(control="c", channel="turn x", angle=1.0), Swinger(control="k", channel="turn x", angle=1.0))),
    ]  # fmt: skip
    for r in rules:
        new = r.renamed({"joint:x": "joint:z", "control:c": "control:q"})
        assert not {"joint:x", "control:c"} & new.speaks_of(), r.kind
        assert len(new.speaks_of()) == len(r.speaks_of())
    assert rules[1].renamed({"joint:x": "joint:z"}).channels() == rules[1].channels()  # saved poses know the channels

    class Holder:
        def __init__(self, rules):
            self.rules = tuple(rules)

        def with_(self, rules):
            return Holder(rules)

    left = {r.name: r for r in without(Holder(rules), {"joint:x"}).rules}  # type: ignore[arg-type]
    assert set(left) == {"b", "d", "e", "f"} and left["b"].sources == ("ground",) and left["e"].things == ("joint:y",)
    assert [f.thing for f in left["d"].followers] == ["shape:s"]
    left = {r.name: r for r in without(Holder(rules), {"control:c"}).rules}  # type: ignore[arg-type]
    assert set(left) == {"a", "e", "f"} and left["a"].weights == (2.0,) and len(left["f"].swingers) == 1


def test_a_rule_mirrored_twice_is_the_rule_again(otter):
    for r in otter.rules:
        twice = mirrored_rule(otter, mirrored_rule(otter, r))
        assert twice.name == r.name and twice.speaks_of() == r.speaks_of()
        if isinstance(r, Link):
            old = {(f.thing, f.channel): [k.value for k in f.curve.keys] for f in r.followers}
            new = {(f.thing, f.channel): [k.value for k in f.curve.keys] for f in twice.followers}
            assert set(new) == set(old)
            assert all(new[k] == pytest.approx(old[k], abs=1e-6) for k in old)


@pytest.mark.parametrize("shape", SHAPES)
def test_shapes_are_about_one_unit_large_and_take_the_line_s_measure(otter, shape):
    line = np.array(SHAPES[shape][1])
    assert line.shape[1] == 3 and 0.5 < np.linalg.norm(line, axis=1).max() < 2.2 and len(line) >= 12
    hand = otter.control_named["hand_L"]
    one, two = (np.array(shaped(otter, hand, shape, g).outline) for g in (1.0, 2.0))
    assert np.ptp(two, axis=0) == pytest.approx(2 * np.ptp(one, axis=0), abs=1e-4)
    own = np.ptp(np.array(hand.outline), axis=0).max()
    assert 0.4 * own < np.ptp(one, axis=0).max() < 2.2 * own


def test_a_kit_may_stand_anywhere_and_many_may_be_combined(otter):
    """A twist in a stretched arm, a spring on a tail that follows, a muscle and a swing: all at once, still at rest."""
    c, _ = apply_step(otter, "limbs.twist", {"joint": "forearm_L", "count": 2})
    c, _ = apply_step(
        c, "limbs.muscle", {"name": "calf", "first": "thigh_L", "second": "shin_L", "flexes": "shin_L", "jiggle": 5.0}
    )
    for rule in (
        {"kind": "spring", "name": "wag", "things": [f"joint:tail_{i}" for i in range(2, 7)], "weight": 0.3},
        {
            "kind": "follow",
            "name": "perk",
            "thing": "control:ear_L turn",
            "sources": ["joint:head", "control:hand_L"],
            "weights": [3, 1],
        },
        {
            "kind": "swing",
            "name": "breathe",
            "rate": 0.3,
            "swingers": [{"control": "chest turn", "channel": "turn x", "angle": 0.05}],
        },
    ):
        c, _ = apply_step(c, "rules.add", {"rule": rule})
    program = compile_rig(c)
    rest = program.evaluate({})
    assert np.abs(rest.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-9
    for kit in [k.name for k in c.kits][::-1]:
        if kit in {k.name for k in c.kits}:
            c = remove_kit(c, kit)
            assert np.abs(compile_rig(c).evaluate({}).joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-9
    assert not c.controls and all(r.kit == "" for r in c.rules)
    assert add_kit(c, kit_of(c, next(iter(outfit(c))))).kits


def test_kits_say_what_they_provide_whatever_they_are_called(otter):
    """Limbs are found by what they give: a kind of another name that gives a goal is one."""
    assert set(PROVIDED) == set(KINDS)
    limbs = {k.name for k in otter.kits if gives(k, "goal")}
    assert limbs == {"arm_L", "arm_R", "leg_L", "leg_R"}
    assert [k.name for k in otter.kits if gives(k, "sight")] == ["eyes"]
    assert not gives(otter.kits[0].model_copy(update={"kind": "nothing we know"}), "goal")
