"""What is kept, mirrored, posed and resized stays true: caches against a cold start, links against the mirrored pose."""

import sys

import numpy as np
import pytest

from tests.conftest import tube
from tests.walk.starts import two_sided
from vonkel.core.character import Joint, Spring
from vonkel.core.derived import DERIVED
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.geometry.rotations import matrix_from_quaternion
from vonkel.core.geometry.transform import transformed
from vonkel.core.joints.orient import bone_child, turn_down_bones
from vonkel.core.poses import pose_from_turns
from vonkel.core.recent import Recent
from vonkel.core.rig import Clock, compile_rig
from vonkel.core.rig.opposite import mirrored_rule
from vonkel.core.trials import trial_poses
from vonkel.readings import findings
from vonkel.steps import apply_step
from vonkel.workshop import Workshop

MIRROR = np.diag([-1.0, 1.0, 1.0])


def cold():
    """Forget all that was worked out lately."""
    assert len(DERIVED) >= 8
    for kept in DERIVED:
        kept.forget()
    for name, room in list(sys.modules.items()):
        for shelf in vars(room).values() if name.startswith("vonkel.") else ():
            if isinstance(shelf, Recent):
                shelf.clear()


def said(c):
    return sorted((f.station, f.level, f.title, f.detail, tuple(f.joints), tuple(f.points)) for f in findings(c))


CHANGES = {
    "points": lambda c: c.with_(arrays={"points": c.points * [1.0, 1.3, 1.0] + [0.0, 0.1, 0.0]}),
    "faces": lambda c: c.with_(arrays={"face_corners": np.ascontiguousarray(c.arrays["face_corners"][::-1])}),
    "roles of parts": lambda c: c.with_(parts=tuple(p.model_copy(update={"role": "rigid"}) for p in c.parts)),
    "runs of parts": lambda c: c.with_(parts=tuple(p.model_copy(update={"name": "other"}) for p in c.parts)),
    "no joints": lambda c: c.with_(joints=(), kits=(), controls=(), rules=()),
    "places of joints": lambda c: c.with_(joints=tuple(j.model_copy(update={"place": (j.place[0], 0.2, j.place[2])}) for j in c.joints)),
    "roles of joints": lambda c: c.with_(joints=tuple(j.model_copy(update={"role": "tail"}) for j in c.joints)),
    "joints that deform": lambda c: c.with_(joints=tuple(j.model_copy(update={"deforms": False}) for j in c.joints)),
}  # fmt: skip


@pytest.mark.parametrize("what", CHANGES)
def test_findings_are_those_of_a_cold_start(what):
    """Whatever changes, what was kept of the character before is not said of the one after."""
    c = two_sided()
    lying = transformed(c, np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]), np.zeros(3))  # and one on its back
    for start in (c, lying):
        changed = CHANGES[what](start)
        cold()
        findings(start)
        warm = said(changed)
        cold()
        assert warm == said(changed)


def test_a_model_that_lies_is_no_longer_said_to_once_it_has_joints(otter_mesh):
    """Laid on its back, the otter is told so; with joints drawn into it, it was meant."""
    lying = transformed(otter_mesh, np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]), np.zeros(3))
    lying = lying.with_(arrays={"points": lying.points * [1.0, 0.3, 1.0]})
    told = any("on its back" in f.title for f in findings(lying))
    assert told
    meant = lying.with_(joints=(Joint(name="root", place=(0.0, 0.0, 0.0)),))
    assert not any("on its back" in f.title for f in findings(meant))


def test_a_spring_is_as_long_as_the_figure_it_is_in():
    """The same rig in a mesh of another size springs otherwise: what was compiled for one is not used for the other."""
    c = character_from_mesh(tube(), "tube")
    joints = [Joint(name=f"b{i}", parent=f"b{i - 1}" if i else None, place=(0.0, 0.2 * i, 0.0)) for i in range(3)]
    c = turn_down_bones(c.with_(joints=tuple(joints)))
    c, _ = apply_step(c, "limbs.add_kit", {"kind": "turns", "joints": {"chain": ["b0", "b1", "b2"]}})
    c = c.with_(rules=(Spring(name="s", things=("joint:b2",), weight=1.0),))
    large = c.with_(arrays={"points": c.points * [9.0, 1.0, 1.0]})

    def swung(character):
        program = compile_rig(character)
        clock = Clock()
        program.evaluate({}, clock)
        clock.time, clock.step = 0.1, 0.1
        return program.evaluate({"b0 turn": {"turn z": 1.0}}, clock).joints

    cold()
    first, second = swung(c), swung(large)
    cold()
    assert np.allclose(swung(large), second, atol=1e-12)
    assert not np.allclose(first, second, atol=1e-3)


# -- links on the other side -----------------------------------------------------------------------------------------
def armed(manner: str):
    """Two arms whose right one is turned in a manner, without kits."""
    c = two_sided().with_(kits=(), controls=(), rules=())
    c, _ = apply_step(c, "joints.mirror", {"joint": "upper_arm_L", "manner": manner})
    c = c.with_(joints=tuple(j.model_copy(update={"order": "yzx"}) if "forearm" in j.name else j for j in c.joints))
    c, _ = apply_step(c, "limbs.add_kit", {"kind": "single", "joints": {"joint": ["root"]}})
    control = next(k.name for k in c.controls)
    return apply_step(c, "controls.add_channel", {"control": control, "name": "lead"})[0], control


@pytest.mark.parametrize("manner", ["counter", "parallel"])
@pytest.mark.parametrize("channels", [["turn x"], ["turn y"], ["turn z"], ["move x"], ["move y"], ["move z"], ["turn x", "turn y", "move z"], ["size x"]])  # fmt: skip
def test_a_mirrored_link_gives_the_mirrored_pose(manner, channels):
    """Left joints led by the link, right joints by its mirror image: each side is the other's reflection."""
    c, control = armed(manner)
    followers = [
        {"thing": f"joint:{j}_L", "channel": ch, "curve": {"keys": [{"at": 0, "value": 0}, {"at": 1, "value": v}]}}
        for j, v in (("upper_arm", 0.3), ("forearm", 0.5)) for ch in channels
    ]  # fmt: skip
    link = {
        "kind": "link",
        "name": "arm_L",
        "lead": {"thing": f"control:{control}", "channel": "lead"},
        "followers": followers,
    }
    c, _ = apply_step(c, "rules.add", {"rule": link, "both_sides": False})
    image = mirrored_rule(c, c.rules[-1]).model_copy(update={"name": "arm_R"})
    c = c.with_(rules=(*c.rules, image))
    near = (
        1e-9 if manner == "counter" else 2e-3
    )  # with parallel axes the mirrored turn doesn't grow evenly between keys
    for lead, most in ((1.0, 1e-9), (0.8, near), (0.33, near)):
        _reflected(c, compile_rig(c).evaluate({control: {"lead": lead}}), most, channels)
    again = mirrored_rule(c, image)
    most = {(f.thing, f.channel): max(abs(k.value) for k in f.curve.keys) for f in again.followers}
    wanted = {(f["thing"], f["channel"]) for f in followers}
    assert wanted <= set(most)
    assert all(v < near * 10 for k, v in most.items() if k not in wanted)  # back again, no other channel does anything


def _reflected(c, pose, most, channels):
    rest = {j.name: matrix_from_quaternion(j.turn) for j in c.joints}
    index = c.joint_index
    moved = 0.0
    for name in ("upper_arm", "forearm", "hand"):
        left, right = (pose.joints[index[f"{name}_{s}"]] for s in "LR")
        turned = [pose.joints[index[f"{name}_{s}"]][:, :3] @ rest[f"{name}_{s}"].T for s in "LR"]
        assert np.allclose(turned[1], MIRROR @ turned[0] @ MIRROR, atol=most), name
        assert np.allclose(right[:, 3], MIRROR @ left[:, 3], atol=most), name
        assert np.allclose(pose.scales[index[f"{name}_L"]], pose.scales[index[f"{name}_R"]])
        moved = max(
            moved, float(np.abs(left[:, 3] - c.joint(f"{name}_L").place).max()), float(np.abs(pose.scales - 1).max())
        )
    assert moved > 1e-3 or channels == ["turn x"]  # about its own bone an arm's joints stay where they are


@pytest.mark.parametrize("manner", ["counter", "parallel"])
@pytest.mark.parametrize("kind", ["bend", "twist"])
def test_a_mirrored_lead_reads_the_mirrored_pose_alike(manner, kind):
    from vonkel.core.rig.recording import lead_value

    c, _ = armed(manner)
    for side in "LR":
        c, _ = apply_step(
            c, "limbs.add_kit", {"kind": "turns", "joints": {"chain": [f"upper_arm_{side}"]}, "both_sides": False}
        )
    left, right = (c.control_named[f"upper_arm_{s} turn"] for s in "LR")
    from vonkel.core.rig.mirror import mirrored_values

    given = {"turn x": 0.4} if kind == "twist" else {"turn z": 0.7}
    values = {left.name: given, right.name: mirrored_values(left, right, given)}
    link = {"kind": "link", "name": "reads_L", "lead": {"kind": kind, "thing": "joint:upper_arm_L"}, "followers": [
        {"thing": "joint:hand_L", "channel": "move y", "curve": {"keys": [{"at": -1, "value": -0.1}, {"at": 1, "value": 0.1}], "past": "continue"}}]}  # fmt: skip
    c, _ = apply_step(c, "rules.add", {"rule": link, "both_sides": True})
    own, other = (next(r for r in c.rules if r.name == f"reads_{s}") for s in "LR")
    assert abs(lead_value(c, own.lead, values)) > 0.3
    pose = compile_rig(c).evaluate(values)
    places = [pose.joints[c.joint_index[f"hand_{s}"], :, 3] for s in "LR"]
    # With parallel axes the right joint's aim runs past its bone: what it twists is read only so well.
    assert np.allclose(places[1], MIRROR @ places[0], atol=2e-3 if manner == "parallel" else 1e-9)
    assert other.lead.thing == "joint:upper_arm_R"


# -- poses ---------------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("aim, hinge", [("x", "z"), ("y", "x"), ("-x", "z"), ("z", "-y")])
def test_elbows_bend_by_what_the_pose_says_whatever_the_axes(otter, aim, hinge):
    c = otter.with_(kits=(), controls=(), rules=())
    for name in ("upper_arm_L", "forearm_L", "hand_L"):
        c, _ = apply_step(c, "joints.orient", {"joints": [name], "rule": "bend", "aim": aim, "hinge": hinge})
    turns = next(p.turns for p in trial_poses(c) if p.name.startswith("elbows"))
    pose = pose_from_turns(c, turns)
    for side in "LR":
        a, b, d = (pose.joints[c.joint_index[f"{n}_{side}"], :, 3] for n in ("upper_arm", "forearm", "hand"))
        cos = (b - a) @ (d - b) / np.linalg.norm(b - a) / np.linalg.norm(d - b)
        assert np.degrees(np.arccos(cos)) == pytest.approx(120, abs=1.5)


@pytest.mark.parametrize("aim, hinge", [("y", "x"), ("-x", "z")])
def test_digits_spread_from_their_tips_whatever_the_axes(otter, aim, hinge):
    """The last joint of a digit has no child: its tip lies down its own aim."""
    from vonkel.core.rig.kits.led import tip_of

    c = otter.with_(kits=(), controls=(), rules=())
    c, _ = apply_step(c, "joints.orient", {"joints": ["middle_3_L"], "rule": "bend", "aim": aim, "hinge": hinge})
    child = bone_child(c, c.joint("middle_3_L"))
    way = np.array(child.place) - c.joint("middle_3_L").place
    bare = c.with_(joints=tuple(j for j in c.joints if j.name != child.name))
    tip = tip_of(bare, bare.joint("middle_3_L")) - bare.joint("middle_3_L").place
    assert tip @ way / np.linalg.norm(tip) / np.linalg.norm(way) == pytest.approx(1.0, abs=1e-6)


def test_the_eyes_target_grows_with_the_figure(otter):
    kit = next(k for k in otter.kits if k.kind == "eyes")
    set_ = otter.with_(
        kits=tuple(k.model_copy(update={"options": {"distance": 0.7}}) if k is kit else k for k in otter.kits)
    )
    large, _ = apply_step(set_, "model.resize", {"measure": "height", "metres": 10 * set_.height})
    assert next(k for k in large.kits if k.kind == "eyes").options["distance"] == pytest.approx(7.0)


# -- poses at hand, and names ----------------------------------------------------------------------------------------
@pytest.fixture
def shop(tmp_path):
    return Workshop(tmp_path)


def test_a_pose_goes_along_with_new_names(shop):
    c = two_sided()
    number = shop.add(c, {}, "Made")
    arm = next(k.name for k in c.controls if k.moves)
    other = next(k.name for k in c.controls if k.turns and not k.moves)
    shop.set_pose(number, {arm: {"move x": 0.05}, other: {"turn z": 0.2}}, "Posed")
    shop.apply(number, "controls.rename", {"control": arm, "name": "paw"})
    values, label = shop.pose(number)
    assert values == {"paw": {"move x": 0.05}, other: {"turn z": 0.2}} and label == "Posed"
    shop.set_pose(number, values, "Posed again")  # nothing of it is refused
    joint = other.removesuffix(" turn")
    shop.apply(number, "joints.rename", {"joint": joint, "name": "limb_L", "both_sides": False})
    assert shop.pose(number)[0] == {"paw": {"move x": 0.05}, "limb_L turn": {"turn z": 0.2}}
    shop.store.back(number, None)  # the name
    assert shop.pose(number)[0] == {"paw": {"move x": 0.05}, other: {"turn z": 0.2}}
    shop.store.back(number, None)  # the second pose
    shop.store.back(number, None)  # the first name
    assert shop.pose(number)[0] == {arm: {"move x": 0.05}, other: {"turn z": 0.2}}
    packed = Workshop(shop.store.path.parent / "other")
    shop.store.forth(number, None)
    arrived = packed.bring_in("c.vonkel", shop.pack(number))
    assert packed.pose(arrived)[0] == shop.pose(number)[0] == {"paw": {"move x": 0.05}, other: {"turn z": 0.2}}


def test_what_a_state_has_no_channel_for_is_left_out_of_its_pose(shop):
    c = two_sided()
    number = shop.add(c, {}, "Made")
    arm = next(k for k in c.controls if k.moves)
    shop.set_pose(number, {arm.name: {"move x": 0.05}}, "Posed")
    shop.apply(number, "limbs.remove_kit", {"kit": arm.kit})
    assert shop.pose(number)[0] == {}
    shop.store.back(number, None)
    assert shop.pose(number)[0] == {arm.name: {"move x": 0.05}}


def test_an_absent_channel_reads_as_its_own_rest_and_as_no_other():
    """Older rigs lack channels that came later; Python's last value must not stand in for them."""
    c = two_sided()
    target = next(k for k in c.controls if any(ch.name == "ik" for ch in k.channels))
    bare = c.with_(
        controls=tuple(
            k.model_copy(update={"channels": tuple(ch for ch in k.channels if ch.name not in ("stretch", "soft", "pin", "volume"))})
            if k.name == target.name else k
            for k in c.controls
        )
    )  # fmt: skip
    # A shape's strength is the last value there is: at full strength it must not stretch the arm.
    from vonkel.core.shapes import add_shape

    bare = add_shape(bare, "last", bare.points + [0.0, 0.01, 0.0])
    whole = add_shape(c, "last", c.points + [0.0, 0.01, 0.0])
    far = {target.name: {"move x": 0.4}, "shapes": {"last": 1.0}}
    assert np.allclose(compile_rig(bare).evaluate(far).joints, compile_rig(whole).evaluate(far).joints, atol=1e-12)
