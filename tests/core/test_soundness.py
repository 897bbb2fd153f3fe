"""What makes a character whole: every kind of fault is found, and no step leaves one behind."""

import numpy as np
import pytest

from tests.conftest import tube
from tests.fuzz.seeds import rigged, tail
from tests.walk.starts import boxes, two_sided
from vonkel.core.character import Character, Joint, Skin, Spring
from vonkel.core.character.layout import LAYOUT, layout_of
from vonkel.core.errors import BadParameters, StepRefused, VonkelError
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.skin.bind import bind_skin
from vonkel.core.soundness import unsound
from vonkel.core.weights import WeightTable
from vonkel.steps import apply_step


@pytest.fixture(scope="module")
def whole():
    made = rigged()
    assert unsound(made) == ""
    return made


def array(c: Character, name: str, change) -> Character:
    data = np.array(c.arrays[name])
    made = change(data)
    return c.with_(arrays={name: data if made is None else made})


def put(index, value):
    def change(data):
        data[index] = value

    return change


def joint(c: Character, n: int, **changes) -> Character:
    return c.with_(joints=tuple(j.model_copy(update=changes) if i == n else j for i, j in enumerate(c.joints)))


FAULTS = {
    "a name with a slash": (lambda c: c.with_(name="Fox / v2"), "name"),
    "a name that is too long": (lambda c: c.with_(rules=(Spring(name="s", things=("joint:tail_2",)).model_copy(update={"name": "x" * 82}),)), "80"),
    "half a letter": (lambda c: c.with_(about="\ud800"), "whole text"),
    "two joints of one name": (lambda c: joint(c, 1, name="tail_1"), "two joints"),
    "a parent that isn't there": (lambda c: joint(c, 1, parent="nobody"), "isn't there"),
    "a circle of parents": (lambda c: joint(c, 0, parent="tail_3"), "stands before"),
    "a child before its parent": (lambda c: c.with_(joints=c.joints[::-1]), "stands before"),
    "a turn that is none": (lambda c: joint(c, 0, turn=(0.0, 0.0, 0.0, 0.0)), "no rotation"),
    "a place that is no number": (lambda c: joint(c, 0, place=(float("nan"), 0.0, 0.0)), "joints"),
    "points of another type": (lambda c: array(c, "points", lambda a: a.astype(np.float32)), "float32"),
    "a point that is no number": (lambda c: array(c, "points", put((3, 1), np.inf)), "not a number"),
    "points without a third number": (lambda c: array(c, "points", lambda a: a[:, :2].copy()), "shape"),
    "faces that name no point": (lambda c: array(c, "face_corners", put(0, 9999)), "isn't there"),
    "faces out of order": (lambda c: array(c, "face_starts", put(2, 0)), "faces are out of order"),
    "texture places that don't fit": (lambda c: array(c, "uvs", lambda a: a[:-1].copy()), "rows"),
    "colours of one number": (lambda c: array(c, "colours", lambda a: a[:, 0].copy()), "shape"),
    "an array of no dimension": (lambda c: array(c, "colours", lambda a: np.array(3, np.uint8)), "shape"),
    "an array nobody knows": (lambda c: c.with_(arrays={"secret": np.zeros(3)}), "no array that a character has"),
    "a shape without its points": (lambda c: c.with_(arrays={"shape/bulge/points": None}), "missing"),
    "moves of a shape that is gone": (lambda c: c.with_(shapes=()), "nothing that is there"),
    "a shape that moves no number": (lambda c: array(c, "shape/bulge/moves", put((0, 0), np.nan)), "not a number"),
    "a shape beyond the points": (lambda c: array(c, "shape/bulge/points", put(0, 9999)), "doesn't fit"),
    "weights below zero": (lambda c: array(c, "skin/weights", put((0, 0), -0.5)), "negative"),
    "weights that don't sum to one": (lambda c: array(c, "skin/weights", put((0, 0), 0.3)), "sum"),
    "weights of a joint that isn't there": (lambda c: array(c, "skin/joints", put((0, 0), 77)), "isn't there"),
    "a skin that follows a joint that is gone": (lambda c: c.with_(skin=c.skin.model_copy(update={"joints": ("tail_1", "tail_2", "gone")})), "gone"),
    "a skin that follows a joint twice": (lambda c: c.with_(skin=c.skin.model_copy(update={"joints": ("tail_1", "tail_2", "tail_2")})), "twice"),
    "weights without a skin": (lambda c: c.with_(skin=None), "no skin"),
    "a kit of no kind": (lambda c: c.with_(kits=(c.kits[0].model_copy(update={"kind": "wheel"}),)), "no kit of the kind"),
    "a rule about nobody": (lambda c: c.with_(rules=(Spring(name="s", things=("joint:nobody",)),)), "can't be solved"),
    "parts that don't cover the mesh": (lambda c: c.with_(parts=(c.parts[0].model_copy(update={"points": (0, 3)}),)), "cover"),
}  # fmt: skip


@pytest.mark.parametrize("what", FAULTS)
def test_every_kind_of_fault_is_found(whole, what):
    change, words = FAULTS[what]
    broken = change(whole)
    assert words in unsound(broken)
    assert words in unsound(broken, whole)  # also where only what changed is looked at


def test_faces_stay_in_their_parts():
    c = boxes()
    assert unsound(c) == ""
    broken = array(c, "face_corners", put(0, 9))  # a corner of the other box
    assert "another part" in unsound(broken)


def test_every_array_of_a_real_character_is_declared(otter):
    assert unsound(otter) == ""
    for name in otter.arrays:
        assert layout_of(name) is not None, name
    assert layout_of("picture/a b") is not None
    assert layout_of("picture/a/b") is None
    assert len({k.name for k in LAYOUT}) == len(LAYOUT)


# -- steps that left a character unsound, or fell over ---------------------------------------------------------------
def test_a_name_that_cant_be_stored_is_refused_in_words(whole):
    with pytest.raises(BadParameters, match="can't have /"):
        apply_step(whole, "model.rename", {"name": "Fox / v2"})
    with pytest.raises(BadParameters, match="can't have /"):
        apply_step(whole, "model.rename", {"name": "a\\b"})


def test_a_grown_name_is_no_longer_than_a_name_may_be(whole):
    spring = {"kind": "spring", "name": "s" * 80, "things": ["joint:tail_3"]}
    once, _ = apply_step(whole, "rules.add", {"rule": spring})
    twice, _ = apply_step(once, "rules.add", {"rule": spring})
    names = [r.name for r in twice.rules]
    assert len(set(names)) == len(names)
    assert max(map(len, names)) <= 80


@pytest.mark.parametrize("labels", [["a", "b", "c"], ["a", "a"], []])
def test_spaces_have_as_many_labels_as_sources(whole, labels):
    control = whole.controls[0].name
    sources = ["ground", "joint:tail_1"] if labels else ["ground"]
    rule = {"kind": "space", "name": "q", "control": control, "sources": sources, "labels": labels}
    if labels:
        with pytest.raises(BadParameters, match="label"):
            apply_step(whole, "rules.add", {"rule": rule})
    else:
        assert len(apply_step(whole, "rules.add", {"rule": rule})[0].rules) > len(whole.rules)


@pytest.mark.parametrize("thing", ["joint:tail_1", "ground"])
def test_only_a_control_leads_by_a_channel(whole, thing):
    rule = {"kind": "link", "name": "l", "lead": {"kind": "channel", "thing": thing, "channel": "turn x"}}
    with pytest.raises(VonkelError, match="is no control"):
        apply_step(whole, "rules.add", {"rule": rule, "both_sides": False})
    lead = {"kind": "bend", "thing": f"control:{whole.controls[0].name}"}
    with pytest.raises(VonkelError, match="is no joint"):
        apply_step(whole, "rules.add", {"rule": rule | {"lead": lead}, "both_sides": False})


def test_partners_are_not_hung_below_themselves():
    c = two_sided().with_(kits=(), controls=(), rules=())
    with pytest.raises(StepRefused, match="hangs below"):
        apply_step(c, "joints.reparent", {"joint": "upper_arm_L", "parent": "hand_R"})
    with pytest.raises(StepRefused, match="hangs below"):
        apply_step(c, "joints.reparent", {"joint": "upper_arm_L", "parent": "upper_arm_R"})


def test_mirrored_joints_stand_behind_their_parents():
    c = two_sided().with_(kits=(), controls=(), rules=())
    c, _ = apply_step(c, "joints.insert", {"joint": "upper_arm_L", "count": 1, "both_sides": False})
    c, _ = apply_step(c, "joints.mirror", {"joint": "upper_arm_L"})
    assert unsound(c) == ""


@pytest.mark.parametrize("array_", [np.array(3), np.zeros((2, 3)), np.zeros(0)])
def test_parts_of_arrays_of_another_form_are_refused(whole, array_):
    params = {
        "names": ["x"], "points": np.zeros((3, 3)), "point_part": array_, "face_starts": np.array([0, 3]),
        "face_corners": np.array([0, 1, 2]), "line_starts": np.zeros(1, int), "line_points": np.zeros(0, int),
    }  # fmt: skip
    with pytest.raises(BadParameters):
        apply_step(whole, "model.add_parts", params)
    with pytest.raises(BadParameters):
        apply_step(whole, "model.add_parts", params | {"point_part": np.zeros(3, int), "face_starts": array_})


def test_one_influence_holds_every_point():
    """Two joints that hold a point alike: what the second has is taken off the first, and something must be left."""
    even = np.array([[0.5, 0.5, 0.0], [0.5004, 0.4996, 0.0], [1.0, 0.0, 0.0]])
    joints, weights = WeightTable.from_dense(("a", "b", "c"), even).rows(1)
    assert weights.ravel() == pytest.approx([1, 1, 1])
    assert joints.shape == (3, 1)
    c = bind_skin(tail(), influences=1)
    assert unsound(c) == ""


def test_a_shape_that_float_cant_hold_is_refused(whole):
    with pytest.raises(BadParameters, match="out of all reach"):
        apply_step(whole, "shapes.add", {"name": "far", "points": whole.points + np.eye(len(whole.points), 3) * 1e300})


def test_a_rule_goes_with_all_that_spoke_of_its_channels(whole):
    control = whole.controls[0].name
    space = {"kind": "space", "name": "home", "control": control, "sources": ["ground"]}
    c, _ = apply_step(whole, "rules.add", {"rule": space, "both_sides": False})
    link = {
        "kind": "link", "name": "led", "lead": {"thing": f"control:{control}", "channel": "in ground"},
        "followers": [{"thing": "shape:bulge", "curve": {"keys": [{"at": 0, "value": 0}, {"at": 1, "value": 1}]}}],
    }  # fmt: skip
    c, _ = apply_step(c, "rules.add", {"rule": link, "both_sides": False})
    c, _ = apply_step(c, "rules.remove", {"name": "home"})
    assert unsound(c) == ""
    assert "led" not in {r.name for r in c.rules}


def test_the_last_line_goes_with_its_part():
    c, _ = apply_step(boxes(), "model.remove_part", {"part": "brow"})
    assert unsound(c) == ""
    assert "line_starts" not in c.arrays


@pytest.mark.parametrize("manner", ["linear", "smooth", "stepped"])
@pytest.mark.parametrize("rounding", ["none", "whole", "quarter"])
def test_links_lead_nothing_at_rest_however_steep_they_are(whole, manner, rounding):
    rng = np.random.default_rng(3)
    control = next(c for c in whole.controls if any(k.name == "turn y" for k in c.channels))
    for lead in ({"kind": "bend", "thing": "joint:tail_2"}, {"thing": f"control:{control.name}", "channel": "turn y"}):
        for _ in range(6):
            keys = [{"at": float(a), "value": float(v)} for a, v in zip(np.sort(rng.normal(size=3)), rng.normal(size=3) * 1e6, strict=True)]  # fmt: skip
            followers = [
                {"thing": "joint:tail_3", "channel": f"{k} {a}", "curve": {"keys": keys, "manner": manner, "past": "continue"}}
                for k in ("turn", "move", "size") for a in "xy"
            ]  # fmt: skip
            rule = {"kind": "link", "name": "steep", "lead": lead, "rounding": rounding, "followers": followers}
            c, _ = apply_step(whole, "rules.add", {"rule": rule, "both_sides": False})
            from vonkel.core.rig import compile_rig

            pose = compile_rig(c).evaluate({})
            assert np.abs(pose.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-9
            assert np.abs(pose.scales - 1).max() < 1e-9


def test_a_fault_from_before_is_not_held_against_a_step(whole):
    """An older file may bring a fault along: its owner can still work, and undo."""
    old = whole.with_(joints=whole.joints[::-1])
    assert unsound(old)
    made, _ = apply_step(old, "model.rename", {"name": "Still here"})
    assert made.name == "Still here"


def test_a_bone_that_reaches_far_out_of_the_body_binds_in_time():
    c = character_from_mesh(tube(rings=9, around=8), "tube")
    far = (Joint(name="a", place=(0.0, 0.1, 0.0)), Joint(name="b", parent="a", place=(0.0, 9e5, 0.0)))
    made = bind_skin(c.with_(joints=far))
    assert unsound(made) == ""
    assert isinstance(made.skin, Skin)


def test_nothing_but_the_eyes_distance_is_a_kits_length():
    from vonkel.core.rig.kits import KINDS

    told = {
        k.kind: {n for n, f in k.options.model_fields.items() if "metres" in (f.description or "")}
        for k in KINDS.values()
    }
    for kind, names in told.items():
        assert names <= KINDS[kind].lengths, kind
    assert KINDS["eyes"].lengths == {"distance"}


@pytest.mark.parametrize("kind", ["fin", "digits", "wing", "chain"])
def test_a_kit_without_joints_is_refused_in_words(whole, kind):
    with pytest.raises(BadParameters, match="wants|at least"):
        apply_step(whole, "limbs.add_kit", {"kind": kind, "name": "x", "joints": {}})


@pytest.mark.parametrize("plan", ["biped", "quadruped", "winged", "many-legged", "finned", "head"])
@pytest.mark.parametrize("shape", ["tube", "boxes", "torn"])
def test_a_plan_that_cant_make_out_a_shape_says_so(plan, shape):
    """Whatever the shape: joints, or a refusal in words."""
    c = {"tube": lambda: character_from_mesh(tube(), "tube"), "boxes": boxes, "torn": two_sided}[shape]()
    if shape == "torn":
        c = c.with_(joints=(), kits=(), controls=(), rules=())
        keep = np.arange(len(c.arrays["face_starts"]) - 1) % 3 > 0
        sizes = np.diff(c.arrays["face_starts"])
        corners = np.concatenate([c.arrays["face_corners"][a : a + n] for a, n, k in zip(c.arrays["face_starts"], sizes, keep, strict=False) if k])  # fmt: skip
        starts = np.r_[0, np.cumsum(sizes[keep])].astype(np.int32)
        part = c.parts[0].model_copy(update={"faces": (0, int(keep.sum()))})
        c = c.with_(parts=(part,), arrays={"face_starts": starts, "face_corners": corners})
    try:
        made, _ = apply_step(c, "joints.lay_plan", {"plan": plan})
    except (StepRefused, BadParameters) as error:
        assert error.what and error.where
    else:
        assert unsound(made) == ""


def test_a_plan_file_with_joints_that_cant_hang_is_refused(whole, tmp_path):
    from vonkel.core.errors import BadFile
    from vonkel.core.plans import save_plan
    from vonkel.workshop import Workshop

    shop, good = Workshop(tmp_path), save_plan(whole, "p").model_dump_json()
    assert shop.take_plan(good, "p.json")
    for broken in (
        good.replace('"parent":"tail_1"', '"parent":"nobody"'),
        good.replace('"name":"tail_2","parent"', '"name":"tail_1","parent"', 1),
    ):
        assert broken != good
        with pytest.raises(BadFile, match="no plan"):
            shop.take_plan(broken, "p.json")


def test_parts_that_are_welded_to_each_other_become_one():
    c = boxes()
    near = c.points.copy()
    near[8:16, 0] -= 0.2  # the second box now touches the first
    c = c.with_(arrays={"points": near})
    made, _ = apply_step(c, "model.weld", {"millimetres": 1.0, "across_parts": True})
    assert [p.name for p in made.parts] == ["left", "brow"]
    assert len(made.points) == len(c.points) - 4
    assert unsound(made) == ""
    with pytest.raises(StepRefused, match="nearer than"):
        apply_step(c, "model.weld", {"millimetres": 1.0, "across_parts": False})


def test_a_joint_hung_below_a_kits_last_joint_moves_nothing():
    """Its parent's bone runs to it from now on: the parent is turned anew, and so is the control that moves it."""
    from vonkel.core.rig import compile_rig

    c, _ = apply_step(two_sided(), "joints.add", {"parent": "hand_L", "name": "claw", "place": [0.45, 0.03, 0.02]})
    pose = compile_rig(c).evaluate({})
    assert np.abs(pose.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-12
