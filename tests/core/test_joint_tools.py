"""Drawing, splitting, hanging, turning, naming and freeing joints; a new rest; landing inside the body."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from vonkel.core.character import Freedom, Joint
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.geometry.rotations import matrix_from_quaternion
from vonkel.core.joints import edit, freedom, names, orient
from vonkel.core.joints.draw import landing
from vonkel.core.joints.inside import body_solid
from vonkel.core.joints.mirroring import mirror_joints
from vonkel.core.rig import compile_rig
from vonkel.core.rig.frames import angles_in_order, turn_in_order
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import weights_of
from vonkel.core.skin.reference import deform
from vonkel.core.skin.rest import new_rest, rest_error
from vonkel.readings import findings
from vonkel.steps import STEPS, apply_step


def place(c, name):
    return np.array(c.joint(name).place)


def bare(c):
    return c.with_(kits=(), controls=(), poses=())


# -- drawing -----------------------------------------------------------------------------------------------------
def test_a_click_in_the_side_view_lands_in_the_middle_of_the_tail(otter_mesh):
    origin, way = np.array([50.0, 0.12, -0.6]), np.array([-1.0, 0, 0])
    found = landing(otter_mesh, origin, way)
    assert found.on == "middle" and abs(found.place[0]) < 2e-3 and found.place[1:] == pytest.approx([0.12, -0.6])
    assert body_solid(otter_mesh).contains(found.place[None])[0]
    leg = landing(otter_mesh, np.array([50.0, 0.2, 0.02]), way)
    assert 0.06 < leg.place[0] < 0.17  # the first body met, the near leg, not halfway to the other one
    loop = landing(
        otter_mesh, np.array([0.118, 0.14, 50.0]), np.array([0, 0, -1.0]), "loop", after=np.array([0.11, 0.3, 0.0])
    )
    assert loop.on in ("loop", "middle") and np.linalg.norm(loop.place - [0.118, 0.14, -0.01]) < 0.05
    eye = landing(otter_mesh, np.array([0.09, 1.055, 50.0]), np.array([0, 0, -1.0]), "part")
    assert eye.name == "eye left" and eye.place == pytest.approx([0.084, 1.05, 0.11], abs=0.003)
    point = landing(otter_mesh, origin, way, "point")
    assert point.on == "point" and np.array_equal(point.place, otter_mesh.points[int(point.name)])
    air = landing(otter_mesh, np.array([50.0, 3.0, 0.0]), way, after=np.array([0.1, 0.2, 0.3]))
    assert air.on == "air" and air.place == pytest.approx([0.1, 3.0, 0.0])


def test_an_existing_joint_is_taken_before_the_flesh(otter):
    p = place(otter, "hand_L")
    found = landing(otter, p + [0.004, 0, 50.0], np.array([0, 0, -1.0]), tolerance=0.01)
    assert (found.on, found.name) == ("joint", "hand_L") and np.array_equal(found.place, p)


def test_a_drawn_chain_is_named_numbered_mirrored_and_turned(otter):
    c = bare(otter)
    places = [place(c, "ear_L") + [0.01 * i, 0.02 * i, 0.004 * i * i] for i in range(4)]
    made, said = apply_step(c, "joints.draw", {"places": places, "parent": "head", "name": "tuft"})
    assert said == "Drew tuft, 4 joints, from head"
    assert [made.joint(f"tuft_{i}_L").parent for i in (1, 2, 3)] == ["head", "tuft_1_L", "tuft_2_L"]
    assert not made.joint("tuft_end_L").deforms and made.joint("tuft_end_R").parent == "tuft_3_R"
    for i in (1, 2, 3):
        left, right = made.joint(f"tuft_{i}_L"), made.joint(f"tuft_{i}_R")
        assert np.allclose(np.array(left.place) * [-1, 1, 1], right.place) and orient.off_bone(made, left) < 1e-6
        assert np.allclose(orient.mirrored_axes(matrix_from_quaternion(left.turn)), matrix_from_quaternion(right.turn))
    hinges = [matrix_from_quaternion(made.joint(f"tuft_{i}_L").turn)[:, 2] for i in (1, 2, 3)]
    assert all(h @ hinges[0] > 0.99 for h in hinges)  # one bend, one hinge
    again, _ = apply_step(made, "joints.draw", {"places": places, "parent": "head", "name": "tuft"})
    assert {"tuft_1 2_L", "tuft_1 2_R"} <= set(again.joint_index)
    middle, _ = apply_step(c, "joints.draw", {"places": [[0.001, 1.1, 0], [0, 1.2, 0.05]], "name": "crest"})
    assert middle.joint("crest_1").side == "C" and middle.joint("crest_1").place[0] == 0.0
    for bad in ([[0, 1, 0]], [[0, 1, 0], [0, 1, 0]]):
        with pytest.raises(BadParameters):
            apply_step(c, "joints.draw", {"places": bad})
    with pytest.raises(NotFound):
        apply_step(c, "joints.draw", {"places": [[0, 1, 0]], "parent": "nobody"})


def test_a_split_bone_shares_its_skin_and_nothing_jumps(otter):
    c = bare(otter)
    before = weights_of(c, "tail_3")
    made, _ = apply_step(c, "joints.insert", {"joint": "tail_3", "count": 2})
    assert made.joint("tail_3_part2").parent == "tail_3" and made.joint("tail_4").parent == "tail_3_part3"
    gaps = [
        np.linalg.norm(place(made, a) - place(made, b))
        for a, b in (("tail_3", "tail_3_part2"), ("tail_3_part2", "tail_3_part3"), ("tail_3_part3", "tail_4"))
    ]
    assert np.allclose(gaps, gaps[0])
    assert np.allclose(made.arrays["skin/weights"].sum(1), 1, atol=1e-5)
    parts = [weights_of(made, n) for n in ("tail_3", "tail_3_part2", "tail_3_part3")]
    assert np.abs(sum(parts) - before).max() < 0.35 and all(p.sum() > 0.12 * before.sum() for p in parts)
    along = np.array([(w * made.points[:, 2]).sum() / w.sum() for w in parts])
    assert (np.diff(along) < 0).all()  # from root to tip
    with pytest.raises(StepRefused, match="as neighbours"):
        apply_step(otter, "joints.insert", {"joint": "thigh_L"})
    with pytest.raises(StepRefused, match="no bone"):
        apply_step(c, "joints.insert", {"joint": "tail_end"})


def test_hanging_elsewhere_going_on_and_taking_whole_chains_out(otter):
    c = bare(otter)
    made, _ = apply_step(c, "joints.reparent", {"joint": "ear_L", "parent": "neck"})
    assert made.joint("ear_R").parent == "neck" and made.joint("ear_L").place == c.joint("ear_L").place
    with pytest.raises(StepRefused, match="hangs below"):
        apply_step(c, "joints.reparent", {"joint": "spine_1", "parent": "head"})
    with pytest.raises(StepRefused, match="holds forearm_L to upper_arm_L"):
        apply_step(otter, "joints.reparent", {"joint": "forearm_L", "parent": "head"})
    longer, _ = apply_step(c, "joints.extend", {"joint": "tail_end", "centimetres": 7})
    new = next(j for j in longer.joints if j.parent == "tail_end")
    way = place(c, "tail_end") - place(c, "tail_6")
    assert np.allclose(np.array(new.place) - place(c, "tail_end"), 0.07 * way / np.linalg.norm(way))
    less, _ = apply_step(c, "joints.remove_chain", {"joint": "ear_L"})
    assert not any(n.startswith("ear") for n in less.joint_index)


# -- turns -------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("aim,hinge", [("x", "z"), ("y", "x"), ("-x", "z"), ("z", "-y"), ("-y", "-z")])
def test_any_two_axes_may_run_down_the_bone_and_along_the_hinge(otter, aim, hinge):
    c = bare(otter)
    made, _ = apply_step(c, "joints.orient", {"joints": ["forearm_L"], "rule": "bend", "aim": aim, "hinge": hinge})
    j = made.joint("forearm_L")
    axes = matrix_from_quaternion(j.turn)
    assert (
        np.linalg.det(axes) == pytest.approx(1) and orient.off_bone(made, j) < 1e-6 and orient.off_bend(made, j) < 0.3
    )
    # The same turn about the hinge still bends both sides alike.
    k, sign = "xyz".index(hinge[-1]), -1 if hinge[0] == "-" else 1
    right = made.joint("forearm_R")
    for joint, flip in ((j, 1), (right, -1)):
        turn = Rotation.from_rotvec(np.radians(40) * sign * matrix_from_quaternion(joint.turn)[:, k]).as_matrix()
        child = orient.bone_child(made, joint)
        tip = turn @ (np.array(child.place) - joint.place)
        if flip == 1:
            left_tip = tip
        else:
            assert np.allclose(tip * [-1, 1, 1], left_tip)
    with pytest.raises(BadParameters, match="can't run down the bone"):
        apply_step(c, "joints.orient", {"joints": ["forearm_L"], "aim": "x", "hinge": "-x"})


def test_rules_for_the_second_axis(otter):
    c = bare(otter)
    level, _ = apply_step(c, "joints.orient", {"joints": ["upper_arm_L"], "rule": "up"})
    f = orient.bone_frame(level.joint("upper_arm_L"))
    assert abs(f[1, 2]) < 1e-9 and f[1, 1] > 0  # the hinge is level, the third axis up
    world, _ = apply_step(c, "joints.orient", {"joints": ["tail_1"], "rule": "world x", "down_chain": True})
    for i in range(1, 7):
        assert orient.bone_frame(world.joint(f"tail_{i}"))[:, 2] == pytest.approx([1, 0, 0], abs=1e-9)
    copied, _ = apply_step(c, "joints.orient", {"joints": ["index_2_L"], "rule": "copy", "like": "hand_L"})
    hand = orient.bone_frame(c.joint("hand_L"))[:, 2]
    assert orient.bone_frame(copied.joint("index_2_L"))[:, 2] @ hand > 0.5
    flipped, _ = apply_step(c, "joints.orient", {"joints": ["forearm_L"], "rule": "bend", "flip": True})
    assert orient.off_bend(flipped, flipped.joint("forearm_L")) > 2.8
    found = [f for f in findings(flipped) if "off" in f.title and f.station == "joints"]
    assert found and "opens what it should close" in found[0].detail
    mended, _ = apply_step(flipped, found[0].mend.step, found[0].mend.params)
    assert orient.off_bend(mended, mended.joint("forearm_L")) < 0.3


def test_fist_all_digits_curl_about_one_axis_in_one_sense(otter):
    senses = orient.curl_senses(otter)
    assert {"hand_L", "hand_R"} <= set(senses) and all(s > 0.1 for s in senses["hand_L"].values())
    c = bare(otter)
    bad, _ = apply_step(
        c, "joints.orient", {"joints": ["ring_1_L", "ring_2_L", "ring_3_L"], "rule": "keep", "flip": True}
    )
    found = next(f for f in findings(bad) if "curl against" in f.title)
    assert set(found.joints) == {"ring_1_L", "ring_2_L", "ring_3_L"}
    good, _ = apply_step(bad, found.mend.step, found.mend.params)
    assert not [f for f in findings(good) if "curl against" in f.title]


@pytest.mark.parametrize("manner", ["counter", "parallel"])
def test_mirroring_in_both_manners_twice_is_nothing(otter, manner):
    c = bare(otter)
    c, _ = apply_step(
        c,
        "joints.free",
        {"joint": "forearm_L", "low": [-80, None, -10], "high": [70, None, 140], "locked": [False, True, False]},
    )
    once = mirror_joints(c, "collar_L", manner)
    twice = mirror_joints(once, "collar_R", manner)
    for n in ("collar_L", "forearm_L", "thumb_2_L", "hand_L"):
        assert np.allclose(twice.joint(n).place, c.joint(n).place, atol=1e-12)
        assert abs(np.dot(twice.joint(n).turn, c.joint(n).turn)) == pytest.approx(1.0)
    left, right = once.joint("forearm_L"), once.joint("forearm_R")
    axes_l, axes_r = matrix_from_quaternion(left.turn), matrix_from_quaternion(right.turn)
    if manner == "parallel":
        assert np.allclose(axes_l, axes_r) and orient.manner_of(left, right) == "parallel"
        moved = edit.move_joint(once, "forearm_L", place(once, "forearm_L") + [0.005, 0.004, 0])
        assert orient.manner_of(moved.joint("forearm_L"), moved.joint("forearm_R")) == "parallel"  # it stays so
    else:
        assert np.degrees(right.freedom.high[2]) == pytest.approx(140)
        assert np.degrees(right.freedom.high[0]) == pytest.approx(80)  # twists go the other way
    assert twice.joint("forearm_L").freedom.low[2] == pytest.approx(np.radians(-10))


# -- names -------------------------------------------------------------------------------------------------------
def test_names_by_pattern_and_replacing_never_double(otter):
    made, _ = apply_step(
        otter, "joints.number_names", {"joints": [f"tail_{i}" for i in range(1, 7)], "pattern": "rudder_{n}"}
    )
    assert {f"rudder_{i}" for i in range(1, 7)} <= set(made.joint_index) and "tail_1" not in made.joint_index
    assert "rudder_3" in made.skin.joints and "rudder_3 turn" in made.control_named
    fingers, _ = apply_step(
        otter, "joints.number_names", {"joints": ["index_1_L", "index_2_L"], "pattern": "pointer_{n}"}
    )
    assert {"pointer_1_L", "pointer_2_R"} <= set(fingers.joint_index)
    other, said = apply_step(otter, "joints.replace_names", {"find": "thigh", "put": "upper leg"})
    assert {"upper leg_L", "upper leg_R"} <= set(other.joint_index) and "thigh" in said
    with pytest.raises(BadParameters, match="called “head” already"):
        names.renamed(otter, {"neck": "head"})
    with pytest.raises(BadParameters, match="already"):
        names.renamed(otter, {"thigh_L": "leg", "thigh_R": "leg"})
    with pytest.raises(BadParameters, match="needs? a number"):
        apply_step(otter, "joints.number_names", {"joints": ["tail_1", "tail_2"], "pattern": "rudder"})
    with pytest.raises(StepRefused, match="No joint"):
        apply_step(otter, "joints.replace_names", {"find": "wing", "put": "arm"})
    swapped = names.renamed(otter, {"neck": "head", "head": "neck"})  # a swap is no clash
    assert swapped.joint("neck").parent == "head"


def test_duplicate_names_are_impossible_whatever_one_does(otter):
    """Seeded walks through the steps that make or rename joints."""
    rng = np.random.default_rng(17)
    c = bare(otter)
    for _ in range(60):
        n = str(rng.choice([j.name for j in c.joints]))
        choice = int(rng.integers(5))
        try:
            if choice == 0:
                c, _ = apply_step(
                    c,
                    "joints.draw",
                    {
                        "places": [place(c, n) + [0, 0.01, 0.01], place(c, n) + [0, 0.02, 0.03]],
                        "parent": n,
                        "name": "tail",
                    },
                )
            elif choice == 1:
                c, _ = apply_step(
                    c, "joints.rename", {"joint": n, "name": str(rng.choice(["head", "tail_1", "new", "x_L"]))}
                )
            elif choice == 2:
                c, _ = apply_step(c, "joints.insert", {"joint": n})
            elif choice == 3:
                c, _ = apply_step(c, "joints.mirror", {"joint": n})
            else:
                c, _ = apply_step(
                    c,
                    "joints.replace_names",
                    {"find": str(rng.choice(["tail", "_1", "thumb"])), "put": str(rng.choice(["", "head", "_2"]))},
                )
        except (StepRefused, BadParameters):
            continue
        assert len({j.name for j in c.joints}) == len(c.joints)
        assert all(j.parent is None or j.parent in c.joint_index for j in c.joints)


# -- freedom and orders ------------------------------------------------------------------------------------------
def test_limits_from_the_table_less_the_bend_at_rest(otter):
    c, said = apply_step(otter, "joints.free_by_table", {"table": "people"})
    j = c.joint("forearm_L")
    bend = np.degrees(freedom.rest_bend(c, j))
    low, high = np.degrees([j.freedom.low[2], j.freedom.high[2]])
    assert low + bend == pytest.approx(0, abs=1e-6) and high + bend == pytest.approx(150, abs=1e-6)
    assert j.freedom.locked[1] and "AAOS" in j.freedom.source and "AAOS" in said
    control = c.control_named["index_2_L turn"]
    turn = {ch.name: (ch.low, ch.high) for ch in control.channels}
    f = c.joint("index_2_L").freedom
    assert turn["turn z"] == (f.low[2], f.high[2]) and turn["turn y"] == (
        0.0,
        0.0,
    )  # the hinge's range; the rest is still
    pose = compile_rig(c).evaluate({"index_2_L turn": {"turn z": 9.0}})
    held = compile_rig(c).evaluate({"index_2_L turn": {"turn z": f.high[2]}})
    assert np.allclose(pose.joints, held.joints)
    stiff, _ = apply_step(otter, "joints.stiffen", {"joints": ["spine_1"], "degrees": 10})
    assert np.degrees(stiff.joint("spine_1").freedom.high) == pytest.approx([10, 10, 10])
    for bad in ({"low": [10, None, None]}, {"low": [0, 0, 0], "high": [400, 0, 0]}):
        with pytest.raises(BadParameters):
            apply_step(otter, "joints.free", {"joint": "head"} | bad)


@pytest.mark.parametrize("order", freedom.ORDERS)
def test_rotation_orders_against_scipy(order):
    """Intrinsic and extrinsic conventions are told apart: the first letter turns first, about fixed axes."""
    rng = np.random.default_rng(4)
    for x, y, z in rng.uniform(-1.4, 1.4, (20, 3)):
        given = {"x": x, "y": y, "z": z}
        expected = Rotation.from_euler(order, [given[k] for k in order]).as_matrix()  # lower case: fixed axes
        made = np.array(turn_in_order(order, x, y, z)).reshape(3, 4)[:, :3]
        assert np.allclose(made, expected, atol=1e-12)
        assert np.allclose(angles_in_order(order, turn_in_order(order, x, y, z)), [x, y, z], atol=1e-9)
    margin = freedom.gimbal_margins(
        Joint(name="j", place=(0, 0, 0), order=order, freedom=Freedom(low=(-0.2, -0.3, -0.1), high=(0.2, 0.3, 0.1)))
    )
    assert margin[order] == pytest.approx(np.pi / 2 - {"x": 0.2, "y": 0.3, "z": 0.1}[order[1]])


def test_gimbal_is_told_and_mended_and_the_controls_turn_in_that_order(otter):
    c, _ = apply_step(otter, "joints.free", {"joint": "upper_arm_L", "low": [-5, -88, -20], "high": [5, 88, 20]})
    found = next(f for f in findings(c) if "gimbal" in f.title)
    assert found.joints == ["upper_arm_L"]
    made, _ = apply_step(c, found.mend.step, found.mend.params)
    order = made.joint("upper_arm_L").order
    assert order != "xyz" and made.joint("upper_arm_R").order == order and order[1] != "y"
    control = made.control_named["ear_L turn"]
    assert control.order == made.joint("ear_L").order
    ear, _ = apply_step(otter, "joints.set", {"joint": "ear_L", "order": "zyx"})
    values = {"ear_L turn": {"turn x": 0.5, "turn y": 0.4, "turn z": -0.7}}
    i = ear.joint_index["ear_L"]
    got = compile_rig(ear).evaluate(values).joints[i, :, :3]
    rest = matrix_from_quaternion(ear.joint("ear_L").turn)
    assert np.allclose(got, rest @ Rotation.from_euler("zyx", [-0.7, 0.4, 0.5]).as_matrix(), atol=1e-9)


# -- a new rest --------------------------------------------------------------------------------------------------
POSE = {
    "hand_L": {"move x": 0.03, "move y": 0.10, "move z": 0.05}, "head turn": {"turn z": 0.3},
    "tail_2 turn": {"turn z": 0.4}, "shapes": {"mouth open": 0.5}, "index_1_L turn": {"turn z": 0.5},
}  # fmt: skip


@pytest.mark.parametrize("method", ["dual", "linear"])
def test_nothing_jumps_when_a_pose_becomes_the_rest(otter, method):
    c, _ = apply_step(otter, "skin.method", {"method": method})
    c, _ = apply_step(
        c, "poses.save", {"name": "nod", "values": {"head turn": {"turn z": 0.55}, "tail_3 turn": {"turn z": -0.3}}}
    )
    assert rest_error(c, POSE) < 1e-9 * 1e3
    made, said = apply_step(c, "joints.new_rest", {"values": POSE})
    assert "points moved by up to" in said
    assert np.array_equal(made.arrays["skin/weights"], c.arrays["skin/weights"])
    program = compile_rig(made)
    rest = program.evaluate({})
    assert np.allclose(rest.joints[:, :, 3], [j.place for j in made.joints], atol=1e-12)
    assert np.allclose(Deformer(made).deform(rest), made.points, atol=1e-6)
    # The shape goes on from where the pose had it: half more is the open mouth of the old rig in that pose.
    more = {"shapes": {"mouth open": 0.5}}
    old = dict(POSE) | {"shapes": {"mouth open": 1.0}}
    assert np.abs(deform(made, program.evaluate(more)) - deform(c, compile_rig(c).evaluate(old))).max() < 2e-6
    # A saved pose still shows what it showed, for what its own controls move.
    before = compile_rig(c).evaluate({**c.poses[0].values})
    after = program.evaluate(made.poses[0].values)
    head = c.joint_index["head"]
    assert np.allclose(after.joints[head, :, :3], before.joints[head, :, :3], atol=1e-6)
    with pytest.raises(StepRefused, match="rest pose already"):
        new_rest(made, {})


# -- slips -------------------------------------------------------------------------------------------------------
def test_slips_are_caught_and_mended(otter):
    c = bare(otter)
    twin, _ = apply_step(
        c,
        "joints.draw",
        {
            "places": [place(c, f"tail_{i}").tolist() for i in (1, 2, 3)],
            "parent": "hips",
            "name": "joint",
            "end": False,
        },
    )
    titles = {f.title: f for f in findings(twin)}
    lies = next(f for t, f in titles.items() if "on another" in t or "lie on others" in t)
    assert set(lies.joints) == {"joint_1", "joint_2", "joint_3"}
    assert any("no name of" in t for t in titles)
    mended, _ = apply_step(twin, lies.mend.step, lies.mend.params)
    assert not any(n.startswith("joint") for n in mended.joint_index)
    loose = c.with_(
        joints=tuple(j.model_copy(update={"parent": None}) if j.name == "collar_L" else j for j in c.joints)
    )
    hung = next(f for f in findings(loose) if "hangs from nothing" in f.title)
    again, _ = apply_step(loose, hung.mend.step, hung.mend.params | {"both_sides": False})
    assert again.joint("collar_L").parent is not None and not [f for f in findings(again) if "from nothing" in f.title]
    out = c.with_(
        joints=tuple(j.model_copy(update={"place": (0.5, 1.0, 0.5)}) if j.name == "forearm_L" else j for j in c.joints)
    )
    outside = next(f for f in findings(out) if "outside the body" in f.title)
    inside, _ = apply_step(out, outside.mend.step, outside.mend.params)
    assert body_solid(inside).contains(place(inside, "forearm_L")[None])[0]


def test_every_step_has_a_sentence_and_says_what_it_is_about():
    for name, kind in STEPS.items():
        assert kind.about.endswith(".") and name.count(".") == 1
