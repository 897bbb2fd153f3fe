"""What each kit promises, tried on Lutra and on small chains made by hand."""

from itertools import pairwise

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from tests.conftest import tube
from vonkel.core.character import Joint, Kit
from vonkel.core.errors import BadParameters, RigLoop, StepRefused
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.rig import compile_rig
from vonkel.core.rig.drag import moved_to, turned_by
from vonkel.core.rig.fitting import add_kit, remove_kit
from vonkel.core.rig.ik import FoldingChain
from vonkel.core.rig.kits import KINDS
from vonkel.core.rig.kits.chain import spline_places, spline_weights
from vonkel.core.rig.match import in_space, switched
from vonkel.core.rig.reach import reached
from vonkel.core.rig.suggest import suggested
from vonkel.steps import apply_step


def chain(places, name="bone", more=()):
    """A tube with a chain of joints at these places, and others: (name, parent, place)."""
    c = character_from_mesh(tube(), "tube")
    joints = [
        Joint(
            name=f"{name}_{i + 1}",
            parent=f"{name}_{i}" if i else None,
            place=tuple(map(float, p)),
            role=f"{name}_{i + 1}",
        )
        for i, p in enumerate(places)
    ]
    joints += [Joint(name=n, parent=p, place=tuple(map(float, at)), role=n) for n, p, at in more]
    return turn_down_bones(c.with_(joints=tuple(joints)))


def places(pose, program, *names):
    index = {n: i for i, n in enumerate(program.joint_names)}
    return np.array([pose.joints[index[n], :, 3] for n in names])


def rest_of(c, *names):
    return np.array([c.joint(n).place for n in names])


def key(c, kit, k):
    return next(x.name for x in c.controls if x.kit == kit and x.key == k)


HOCK = [(0, 0.9, 0), (0, 0.62, 0.06), (0, 0.36, -0.08), (0, 0.1, 0.02)]


@pytest.fixture(scope="module")
def hock():
    c = add_kit(
        chain(HOCK),
        Kit(name="leg", kind="leg", joints={"upper": ("bone_1",), "middle": ("bone_2", "bone_3"), "end": ("bone_4",)}),
    )
    return c, compile_rig(c)


# -- limbs of more than two bones ----------------------------------------------------------------------------------
def test_a_leg_with_a_hock_reaches_and_keeps_its_bones(hock):
    c, program = hock
    rest = rest_of(c, "bone_1", "bone_2", "bone_3", "bone_4")
    sizes = np.linalg.norm(np.diff(rest, axis=0), axis=1)
    rng = np.random.default_rng(2)
    for _ in range(40):
        way = rng.normal(size=3)
        target = rest[0] + way / np.linalg.norm(way) * rng.uniform(0.35, 0.98 * sizes.sum())
        for lift in (0.0, 0.3, -0.2):
            move = dict(zip(("move x", "move y", "move z"), target - rest[3], strict=True)) | {"lift": lift}
            now = places(program.evaluate({"foot": move}), program, "bone_1", "bone_2", "bone_3", "bone_4")
            # The end stays where it is wanted whatever the lift; bones keep their lengths wherever a lifted leg reaches.
            assert np.abs(now[3] - target).max() < 1e-6 * sizes.sum()
            long = np.linalg.norm(np.diff(now, axis=0), axis=1)
            assert long[:2] == pytest.approx(sizes[:2], abs=1e-9)
            if lift == 0.0 or np.linalg.norm(target - rest[0]) < 0.75 * sizes.sum():
                assert long[2] == pytest.approx(sizes[2], abs=1e-9)


def test_the_hock_lifts_smoothly_from_the_natural_fold(hock):
    c, program = hock
    lifts = np.linspace(-0.02, 0.02, 9)
    track = np.array(
        [places(program.evaluate({"foot": {"move y": 0.1, "lift": v}}), program, "bone_3")[0] for v in lifts]
    )
    steps = np.linalg.norm(np.diff(track, axis=0), axis=1)
    assert steps.min() > 0 and steps.max() < 1.05 * steps.min()  # no jump at zero


def test_the_fold_of_a_chain_is_its_rest_at_rest_and_nears_straight():
    rng = np.random.default_rng(3)
    for n in (3, 4, 6):
        points = np.cumsum(rng.normal(size=(n + 1, 3)) * 0.1 + [0.0, -0.3, 0.0], axis=0)
        pole = tuple(points[1] + [0.0, 0.0, 0.5])
        fold = FoldingChain([tuple(p) for p in points], pole)
        placed, _, _, factor = fold.solve(tuple(points[0]), tuple(points[-1]), pole)
        assert np.abs(np.array(placed) - points).max() < 1e-9 and factor == 1.0
        far = points[0] + (points[-1] - points[0]) * 0.6 + [0.1, 0.0, 0.0]
        placed, _, _, _ = fold.solve(tuple(points[0]), tuple(far), pole)
        assert np.abs(np.array(placed[-1]) - far).max() < 1e-9
        assert np.linalg.norm(np.diff(placed, axis=0), axis=1) == pytest.approx(fold.lengths)
        straight, _, _, _ = fold.solve((0, 0, 0), (0, -9.0, 0), (0, 0, 1.0))
        assert np.linalg.norm(straight[-1]) == pytest.approx(fold.full)


@pytest.mark.parametrize("soft", [0.05, 0.2])
def test_a_hock_goes_past_full_reach_without_a_pop_in_place_or_speed(hock, soft):
    """The end's distance and its first difference, as the target goes out of reach; without softness the speed jumps."""
    c, program = hock
    rest = rest_of(c, "bone_1", "bone_2", "bone_3", "bone_4")
    full = np.linalg.norm(np.diff(rest, axis=0), axis=1).sum()
    way = (rest[3] - rest[0]) / np.linalg.norm(rest[3] - rest[0])
    reach = np.linspace(0.7 * full, 1.4 * full, 1401)

    def ends(**values):
        out = []
        for r in reach:
            move = dict(zip(("move x", "move y", "move z"), rest[0] + r * way - rest[3], strict=True))
            out.append(
                np.linalg.norm(places(program.evaluate({"foot": move | values}), program, "bone_4")[0] - rest[0])
            )
        return np.array(out)

    hard, eased = ends(), ends(soft=soft)
    step = reach[1] - reach[0]
    assert np.abs(np.diff(hard, 2)).max() > 0.5 * step  # a pop in speed …
    assert np.abs(np.diff(eased, 2)).max() < 0.05 * step and np.abs(np.diff(eased)).max() < 1.001 * step  # … and none
    assert eased.max() < full
    drawn = ends(stretch=1.0)
    inside = reach < 1.5 * full
    assert np.abs(drawn[inside] - reach[inside]).max() < 1e-6 * full  # stretched, it meets the target all the way


def test_palm_joints_cup_with_a_falloff_and_a_named_gesture_is_recorded():
    more = [("hand", None, (0, 0.5, 0))]
    for i, x in enumerate((-0.04, 0.0, 0.04)):
        more += [
            (f"palm_{i}", "hand", (x, 0.5, 0.05)),
            (f"d{i}_1", f"palm_{i}", (x, 0.5, 0.15)),
            (f"d{i}_2", f"d{i}_1", (x, 0.5, 0.22)),
            (f"d{i}_3", f"d{i}_2", (x, 0.5, 0.28)),
        ]
    c = chain([(0, 0.9, 0)], "root", more)
    joints = {f"digit {i + 1}": (f"d{i}_1", f"d{i}_2") for i in range(3)} | {"palm": ("palm_0", "palm_1", "palm_2")}
    c = add_kit(c, Kit(name="paw", kind="digits", joints=joints))
    program = compile_rig(c)
    pose = program.evaluate({"paw": {"cup": 1.0}}).joints
    rest = program.evaluate({}).joints
    turned = [
        Rotation.from_matrix(
            pose[c.joint_index[f"palm_{i}"], :, :3] @ rest[c.joint_index[f"palm_{i}"], :, :3].T
        ).magnitude()
        for i in range(3)
    ]
    assert 0 < turned[0] < turned[1] < turned[2]
    c, _ = apply_step(c, "controls.add_channel", {"control": "paw", "name": "count two"})
    values = {"d2_1 turn": {"turn z": 1.3}, "d2_2 turn": {"turn z": 1.0}}
    c, _ = apply_step(
        c, "rules.record", {"lead": {"thing": "control:paw", "channel": "count two"}, "at": 1.0, "values": values}
    )
    a, b = compile_rig(c).evaluate({"paw": {"count two": 1.0}}).joints, program.evaluate(values).joints
    assert np.allclose(a, b, atol=1e-9)


def test_a_dead_straight_chain_folds_towards_its_guide():
    c = add_kit(
        chain([(0, 0.9, 0), (0, 0.6, 0), (0, 0.3, 0), (0, 0.05, 0)]),
        Kit(name="leg", kind="leg", joints={"upper": ("bone_1",), "middle": ("bone_2", "bone_3"), "end": ("bone_4",)}),
    )
    program = compile_rig(c)
    assert np.abs(places(program.evaluate({}), program, "bone_3") - rest_of(c, "bone_3")).max() < 1e-9
    now = places(program.evaluate({"foot": {"move y": 0.2}}), program, "bone_2", "bone_3", "bone_4")
    assert now[0, 2] > 0.02 and np.allclose(now[2], [0, 0.25, 0], atol=1e-9)  # a leg's fallback is forwards


def test_any_limb_is_made_from_its_end_joint_alone():
    bare = chain([(0, 0.95 - 0.13 * i, 0.03 * (i % 2)) for i in range(7)])
    for bones in (2, 3, 5):
        c, said = apply_step(bare, "limbs.from_end", {"end": "bone_7", "bones": bones})
        kit = c.kits[-1]
        assert len(kit.joints["middle"]) == bones - 1 and kit.joints["end"] == ("bone_7",) and str(bones) in said
        pose = compile_rig(c).evaluate({})
        assert np.abs(pose.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-9
    with pytest.raises(StepRefused, match="bones lie above"):
        apply_step(bare, "limbs.from_end", {"end": "bone_2", "bones": 3})


def test_the_pole_stands_in_the_limbs_plane(otter):
    """The middle joint lies in the plane of root, end and guide, to 1e-6 rad."""
    program = compile_rig(otter)
    rng = np.random.default_rng(8)
    for _ in range(20):
        inputs = {
            "hand_L": dict(zip(("move x", "move y", "move z"), rng.uniform(-0.12, 0.12, 3), strict=True)),
            "elbow guide_L": dict(zip(("move x", "move y", "move z"), rng.uniform(-0.2, 0.2, 3), strict=True)),
        }
        pose = program.evaluate(inputs)
        a, b, c = places(pose, program, "upper_arm_L", "forearm_L", "hand_L")
        guide = np.array(pose.controls["elbow guide_L"])[[3, 7, 11]]
        normal = np.cross(c - a, guide - a)
        off = (b - a) @ normal / np.linalg.norm(normal) / np.linalg.norm(b - a)
        assert abs(np.arcsin(off)) < 1e-6


def test_a_pinned_elbow_lies_on_its_guide_and_the_hand_stays(otter):
    program = compile_rig(otter)
    inputs = {"hand_L": {"pin": 1.0, "move y": 0.05}, "elbow guide_L": {"move x": 0.03}}
    pose = program.evaluate(inputs)
    elbow, hand = places(pose, program, "forearm_L", "hand_L")
    assert np.allclose(elbow, np.array(pose.controls["elbow guide_L"])[[3, 7, 11]], atol=1e-9)
    assert np.allclose(hand, otter.joint("hand_L").place + np.array([0, 0.05, 0]), atol=1e-9)


def test_the_hand_keeps_its_turn_or_goes_with_the_forearm(otter):
    program, i = compile_rig(otter), otter.joint_index["hand_L"]
    rest = program.evaluate({}).joints[i, :, :3]
    raised = {"move y": 0.3, "move x": -0.05}
    assert np.allclose(program.evaluate({"hand_L": raised}).joints[i, :, :3], rest, atol=1e-9)
    loose = program.evaluate({"hand_L": raised | {"keep turn": 0.0}}).joints
    fore, fore_rest = (
        loose[otter.joint_index["forearm_L"], :, :3],
        program.evaluate({}).joints[otter.joint_index["forearm_L"], :, :3],
    )
    assert np.allclose(fore.T @ loose[i, :, :3], fore_rest.T @ rest, atol=1e-9)


def test_the_collar_follows_by_a_share(otter):
    program, i = compile_rig(otter), otter.joint_index["collar_L"]
    rest = program.evaluate({}).joints[i, :, :3]
    turns = []
    for share in (0.0, 0.3, 0.6):
        now = program.evaluate({"hand_L": {"move y": 0.35}, "collar_L turn": {"follow": share}}).joints[i, :, :3]
        turns.append(np.linalg.norm(Rotation.from_matrix(now @ rest.T).as_rotvec()))
    assert turns[0] < 1e-9 and 0.05 < turns[1] and turns[2] == pytest.approx(2 * turns[1], rel=1e-6)


def test_a_space_switches_without_a_jump_and_then_holds(otter):
    program = compile_rig(otter)
    inputs = {"hand_L": {"move y": 0.2, "turn x": 0.3}, "chest turn": {"turn z": 0.3}}
    before = np.array(program.evaluate(inputs).controls["hand_L"])
    rule = next(r for r in otter.rules if r.kind == "space" and r.control == "hand_L")
    channel = rule.channels()[0]
    inside = in_space(otter, program, inputs, rule.name, channel)
    assert np.allclose(program.evaluate(inside).controls["hand_L"], before, atol=1e-9)
    moved = {**inside, "chest turn": {"turn z": -0.3}}
    assert np.abs(np.array(program.evaluate(moved).controls["hand_L"]) - before).max() > 0.03  # it goes with the chest
    back = in_space(otter, program, inside, rule.name, "")
    assert channel not in back["hand_L"]
    assert np.allclose(program.evaluate(back).controls["hand_L"], before, atol=1e-9)


def test_the_head_keeps_its_heading_where_wanted(otter):
    program, i = compile_rig(otter), otter.joint_index["head"]
    rest = program.evaluate({}).joints[i, :, :3]
    lean = {"chest turn": {"turn x": 0.4, "turn z": 0.2}}
    assert np.abs(program.evaluate(lean).joints[i, :, :3] - rest).max() > 0.1
    kept = program.evaluate(lean | {"head turn": {"in ground": 1.0}}).joints[i, :, :3]
    assert np.allclose(kept, rest, atol=1e-9)


# -- feet ----------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("side", ["L", "R"])
@pytest.mark.parametrize(
    ("channel", "value", "pivot"),
    [("roll", -0.5, "heel"), ("roll", 0.5, "ball"), ("roll", 1.9, "tip"), ("bank", 0.4, "outer"), ("bank", -0.4, "inner"),
     ("heel twist", 0.6, "heel"), ("tip twist", -0.5, "tip"), ("twist", 0.7, "ball")],
)  # fmt: skip
def test_the_foots_pivot_stays_on_the_ground(otter, side, channel, value, pivot):
    """A point of the foot (of the toes, once they carry) at the pivot stays where it was, within 1e-6 m."""
    program = compile_rig(otter)
    kit = next(k for k in otter.kits if k.kind == "foot" and k.side == side)
    point = np.array(kit.places[pivot])
    i = otter.joint_index[f"foot_{side}"]
    low = {"body": {"move y": -0.06}}  # so that the leg reaches wherever the foot goes
    rest, now = (
        program.evaluate(low).joints[i],
        program.evaluate(low | {f"foot roll_{side}": {channel: value}}).joints[i],
    )
    carried = now[:, :3] @ rest[:, :3].T @ (point - rest[:, 3]) + now[:, 3]
    assert np.abs(carried - point).max() < 1e-6
    assert np.abs(now - rest).max() > 0.01  # and the foot did roll
    ground = min(p[1] for p in kit.places.values())
    assert all(p[1] == pytest.approx(ground) for p in kit.places.values())


def test_a_roll_goes_heel_ball_toe_without_a_pop_and_toes_stay_flat(otter):
    program = compile_rig(otter)
    rolls = np.linspace(-0.6, 2.0, 521)
    track = np.array(
        [program.evaluate({"foot roll_L": {"roll": r}}).joints[otter.joint_index["foot_L"], :, 3] for r in rolls]
    )
    steps = np.linalg.norm(np.diff(track, axis=0), axis=1)
    assert steps.max() < 4 * np.median(steps) and steps.max() < 0.002  # one five-hundredth of the way at a time
    ball = otter.joint_index["ball_L"]
    flat = program.evaluate({}).joints[ball]
    on_ball = program.evaluate({"foot roll_L": {"roll": 0.6}}).joints[ball]
    assert np.allclose(on_ball[:, :3], flat[:, :3], atol=1e-9)
    lifted = program.evaluate({"foot roll_L": {"toe lift": 0.5}}).joints[ball]
    assert np.allclose(lifted[:, 3], flat[:, 3], atol=1e-9) and np.abs(lifted[:, :3] - flat[:, :3]).max() > 0.2


# -- digits, wings, fans ---------------------------------------------------------------------------------------------
def test_a_fist_curls_all_digits_one_way_and_opens_them_backwards(otter):
    program = compile_rig(otter)
    at_rest = program.evaluate({})
    tips = [f"{d}_end_L" for d in ("index", "middle", "ring")]
    palm = otter.joint("hand_L").place
    rest = np.linalg.norm(places(at_rest, program, *tips) - palm, axis=1)
    closed = np.linalg.norm(places(program.evaluate({"fingers_L": {"fist": 1.0}}), program, *tips) - palm, axis=1)
    opened = places(program.evaluate({"fingers_L": {"fist": -1.0}}), program, *tips)
    assert (closed < 0.75 * rest).all()
    gaps = lambda p: np.linalg.norm(np.diff(p, axis=0), axis=1)  # noqa: E731
    assert (gaps(opened) > gaps(places(at_rest, program, *tips))).all()  # wide: the tips stand farther apart


def test_the_thumb_tucks_towards_the_other_digits_and_pointing_leaves_the_first(otter):
    program = compile_rig(otter)
    goal = rest_of(otter, "index_1_L", "middle_1_L", "ring_1_L").mean(0)
    tip = lambda **v: places(program.evaluate({"fingers_L": v}), program, "thumb_end_L")[0]  # noqa: E731
    assert np.linalg.norm(tip(**{"thumb tuck": 1.0}) - goal) < 0.8 * np.linalg.norm(tip() - goal)
    pointing = program.evaluate({"fingers_L": {"point": 1.0}})
    assert np.allclose(places(pointing, program, "index_end_L"), rest_of(otter, "index_end_L"), atol=1e-9)
    assert np.abs(places(pointing, program, "middle_end_L") - rest_of(otter, "middle_end_L")).max() > 0.01


def test_one_control_sizes_all_fingers(otter):
    pose = compile_rig(otter).evaluate({"fingers_L": {"size": 0.5}})
    assert pose.scales[otter.joint_index["index_2_L"]] == pytest.approx([1.5, 1.5, 1.5])
    assert pose.scales[otter.joint_index["index_2_R"]] == pytest.approx([1, 1, 1])


def fan():
    rays = [
        (f"ray_{s}{i}", "tail", (0.06 * s * k, 0.5, -0.3 - 0.02 * k))
        for k, s in ((0, 1), (1, 1), (1, -1), (2, 1), (2, -1))
        for i in (k,)
    ]
    more = [("tail", None, (0, 0.5, -0.1))]
    for n, _, p in rays:
        more += [(n, "tail", p), (f"{n}_tip", n, (p[0] * 3, 0.5, -0.7))]
    return chain([(0, 0.9, 0)], "root", more)


def test_a_tail_fan_opens_closes_and_slides_its_sides_under_the_middle():
    c = fan()
    joints = suggested(c, "fan", "tail")
    assert len(joints) == 5
    c = add_kit(c, Kit(name="fan", kind="fan", joints=joints))
    program = compile_rig(c)
    tips = [n for n in c.joint_index if n.endswith("_tip")]
    wide = lambda v: np.ptp(places(program.evaluate({"fan": {"spread": v}}), program, *tips)[:, 0])  # noqa: E731
    assert wide(1.0) > 1.2 * wide(0.0) > 1.2 * wide(-1.0)
    middle = next(n for n in c.joint_index if n.startswith("ray_") and n.endswith("0") and c.joint(n).place[0] == 0)
    closed = program.evaluate({"fan": {"spread": -1.0}})
    heights = {n: places(closed, program, n)[0][1] for r in joints.values() for n in r[:1]}
    assert all(h < heights[middle] for n, h in heights.items() if n != middle)  # the sides lie under it


# -- chains, spines ----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("count", [2, 3, 4, 7])
def test_spline_weights_sum_to_one_and_keep_straight_lines(count):
    """B-splines reproduce linear functions at Greville's abscissae (de Boor 1978, chapter IX)."""
    at = np.linspace(0, 1, 41)
    w = spline_weights(count, at)
    assert w.min() >= 0 and w.sum(1) == pytest.approx(1.0)
    assert w @ spline_places(count) == pytest.approx(at, abs=1e-12)


def test_a_tail_keeps_its_length_bends_smoothly_and_stretches_with_its_volume(otter):
    program = compile_rig(otter)
    names = [f"tail_{i}" for i in range(1, 7)]
    rest = rest_of(otter, *names)
    lead = key(otter, "tail", "lead:3")
    bent = program.evaluate({lead: {"move x": 0.15, "move y": 0.1}})
    now = places(bent, program, *names)
    assert np.linalg.norm(np.diff(now, axis=0), axis=1) == pytest.approx(
        np.linalg.norm(np.diff(rest, axis=0), axis=1), abs=1e-9
    )
    assert np.abs(now - rest).max() > 0.03 and np.allclose(now[0], rest[0], atol=1e-12)
    pulled = program.evaluate({lead: {"move z": -0.2, "stretch": 1.0}})
    longer = pulled.scales[[otter.joint_index[n] for n in names]]
    assert longer[:, 0].max() > 1.1
    assert longer.prod(1) == pytest.approx(1.0, abs=1e-9)  # its volume is kept
    loose = program.evaluate({lead: {"move z": -0.2, "stretch": 1.0, "volume": 0.0}}).scales[
        [otter.joint_index[n] for n in names]
    ]
    assert loose.prod(1).max() > 1.1
    fine = program.evaluate({lead: {"move x": 0.15}, "tail_3 turn": {"turn y": 0.5}})
    plain = program.evaluate({lead: {"move x": 0.15}})
    a, b = (places(p, program, *names) for p in (plain, fine))
    assert (
        np.allclose(a[:3], b[:3], atol=1e-12) and np.abs(a[4:] - b[4:]).max() > 0.01
    )  # and every joint has its own turn


def test_the_chest_moves_without_the_hips_and_stretches_the_spine_with_its_volume(otter):
    program = compile_rig(otter)
    links = ["spine_1", "spine_2"]
    move = {"move x": 0.04, "move y": 0.03}
    held = program.evaluate({"chest turn": move})
    assert np.allclose(places(held, program, "hips"), rest_of(otter, "hips"), atol=1e-12)
    long = program.evaluate({"chest turn": move | {"stretch": 1.0}})
    rest_chest = rest_of(otter, "chest")[0]
    rows = [otter.joint_index[n] for n in links]
    frame = program.evaluate({}).joints[otter.joint_index["chest"], :, :3]
    wanted = rest_chest + frame @ [0.04, 0.03, 0]
    assert np.allclose(places(long, program, "chest")[0], wanted, atol=1e-9)
    assert held.scales[rows] == pytest.approx(np.ones((2, 3))) and long.scales[rows, 0].max() > 1.02
    assert long.scales[rows].prod(1) == pytest.approx([1, 1], abs=1e-9)
    assert np.allclose(held.joints[otter.joint_index["chest"], :, :3], frame, atol=1e-9)  # the chest keeps its turn


def test_the_tip_is_dragged_without_a_target_and_goes_where_it_can(otter):
    program = compile_rig(otter)
    start = np.array(otter.joint("tail_6").place)
    goal = start + [0.08, 0.05, 0.02]
    values = reached(otter, program, {}, "tail_6", goal)
    assert np.abs(places(program.evaluate(values), program, "tail_6")[0] - goal).max() < 1e-4
    assert all(c.endswith(" turn") for c in values)
    far = reached(otter, program, {}, "tail_6", start + [0, 3.0, 0])  # out of reach: as near as the chain goes
    assert np.isfinite(places(program.evaluate(far), program, "tail_6")).all()
    with pytest.raises(StepRefused, match="turns by a control"):
        reached(otter, program, {}, "hips", goal)


# -- twist, muscle, single, whole -----------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def twisted(otter):
    c, _ = apply_step(otter, "limbs.twist", {"joint": "forearm_L", "count": 3, "comes_from": "end"})
    c, _ = apply_step(c, "limbs.twist", {"joint": "upper_arm_L", "count": 2, "comes_from": "start"})
    return c


@pytest.mark.parametrize("order", ["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"])
def test_twists_add_up_to_the_ends_twist_for_every_order_and_never_flip(twisted, order):
    """Shares along the bone sum to the end's own twist within 1e-9, up to ±170°."""
    c = twisted.with_(
        joints=tuple(j.model_copy(update={"order": order}) if j.name == "hand_L" else j for j in twisted.joints),
        controls=tuple(
            x.model_copy(update={"order": order}) if x.name == "hand_L turn" else x for x in twisted.controls
        ),
    )
    program, index = compile_rig(c), c.joint_index
    rest = program.evaluate({}).joints
    names = ["forearm_L", *(f"forearm_twist{i}_L" for i in (1, 2, 3)), "hand_L"]
    assert np.abs(rest[:, :, 3] - [j.place for j in c.joints]).max() < 1e-12
    own = rest[index["forearm_L"], :, 0]  # the bone's axis
    rng = np.random.default_rng(4)
    before = None
    for angle in np.radians(np.arange(-170, 171, 10)):
        # The hand turned about the bone's axis by `angle`, and then swung off it by up to 0.3 rad.
        swing = np.cross(own, rng.normal(size=3))
        wanted = Rotation.from_rotvec(0.3 * swing / np.linalg.norm(swing)) * Rotation.from_rotvec(angle * own)
        q = wanted.as_quat()
        fk = {"hand_L": {"ik": 0.0}}
        fk["hand_L turn"] = turned_by(program, fk, "hand_L turn", (q[3], q[0], q[1], q[2]))
        pose = program.evaluate(fk).joints
        turned = [Rotation.from_matrix(pose[index[n], :, :3] @ rest[index[n], :, :3].T) for n in names]
        steps = [twist_of(b * a.inv(), own) for a, b in zip(turned, turned[1:], strict=False)]
        assert sum(steps) == pytest.approx(twist_of(turned[-1], own), abs=1e-9)
        assert sum(steps) == pytest.approx(angle, abs=1e-9)
        assert steps[:3] == pytest.approx([angle / 3] * 3, abs=1e-9) and abs(steps[3]) < 1e-9  # the last has all of it
        if before is not None:
            assert np.abs(np.array(steps) - before).max() < np.radians(10.01) / 3  # nothing flips
        before = np.array(steps)


def twist_of(r, axis):
    """The twist of a rotation about a unit axis, by its quaternion (swing–twist split), -π to π."""
    x, y, z, w = r.as_quat()
    angle = 2 * np.arctan2(np.array([x, y, z]) @ axis, w)
    return (angle + np.pi) % (2 * np.pi) - np.pi


def test_the_shoulder_end_of_an_upper_arm_stays_untwisted(twisted):
    program, index = compile_rig(twisted), twisted.joint_index
    rest = program.evaluate({}).joints
    pose = program.evaluate({"hand_L": {"ik": 0.0}, "upper_arm_L turn": {"turn x": 1.2}}).joints
    first = Rotation.from_matrix(pose[index["upper_arm_twist1_L"], :, :3] @ rest[index["upper_arm_twist1_L"], :, :3].T)
    second = Rotation.from_matrix(pose[index["upper_arm_twist2_L"], :, :3] @ rest[index["upper_arm_twist2_L"], :, :3].T)
    assert first.magnitude() < 1e-9 and second.magnitude() == pytest.approx(0.6, abs=1e-9)


def test_twist_joints_take_their_share_of_the_skin_and_the_bone_bends_for_style(twisted, otter):
    assert twisted.skin and "forearm_twist2_L" in twisted.skin.joints and "forearm_twist2_R" in twisted.skin.joints
    w = twisted.arrays["skin/weights"]
    assert np.abs(w.astype(float).sum(1) - 1).max() < 1e-5
    i = twisted.skin.joints.index("forearm_twist2_L")
    held = np.unique(np.nonzero((twisted.arrays["skin/joints"] == i) & (w > 0.3))[0])
    a, b = rest_of(twisted, "forearm_L", "hand_L")
    along = (twisted.points[held] - a) @ (b - a) / ((b - a) @ (b - a))
    assert len(held) > 10 and 0.3 < np.median(along) < 0.75
    program = compile_rig(twisted)
    off = places(program.evaluate({"forearm_L bend": {"move y": 0.03}}), program, "forearm_twist2_L", "hand_L")
    assert np.linalg.norm(off[0] - twisted.joint("forearm_twist2_L").place) > 0.025
    assert np.allclose(off[1], twisted.joint("hand_L").place, atol=1e-12)


def test_a_stretched_arm_takes_its_twist_joints_along(twisted):
    program, index = compile_rig(twisted), twisted.joint_index
    pose = program.evaluate({"hand_L": {"move x": 0.15, "move y": 0.2, "stretch": 1.0}})
    names = ["forearm_L", *(f"forearm_twist{i}_L" for i in (1, 2, 3)), "hand_L"]
    now = np.linalg.norm(np.diff(places(pose, program, *names), axis=0), axis=1)
    rest = np.linalg.norm(np.diff(rest_of(twisted, *names), axis=0), axis=1)
    factor = pose.scales[index["forearm_L"], 0]
    assert factor > 1.05 and now == pytest.approx(factor * rest, abs=1e-9)
    assert pose.scales[index["forearm_twist2_L"]] == pytest.approx([factor, 1, 1])


def test_a_muscle_lies_between_two_joints_and_bulges_with_the_bend(otter):
    c, _ = apply_step(
        otter,
        "limbs.muscle",
        {"name": "biceps", "first": "upper_arm_L", "second": "forearm_L", "flexes": "forearm_L", "bulge": 0.4},
    )
    assert {"biceps_L", "biceps_R"} <= set(c.joint_index)
    program = compile_rig(c)
    i = c.joint_index["biceps_L"]
    assert np.allclose(program.evaluate({}).joints[i, :, 3], c.joint("biceps_L").place, atol=1e-12)
    for degrees in (30, 90):
        pose = program.evaluate({"hand_L": {"ik": 0.0}, "forearm_L turn": {"turn z": np.radians(degrees)}})
        assert pose.scales[i] == pytest.approx([1, 1 + 0.4 * degrees / 90, 1 + 0.4 * degrees / 90], abs=1e-5)
    a, b = (
        program.evaluate({"hand_L": {"ik": 0.0}, "upper_arm_L turn": {"turn y": v}}).joints[i, :, 3] for v in (0.0, 0.4)
    )
    assert np.linalg.norm(a - b) > 0.01  # it goes along with what it lies between


def test_a_single_control_moves_turns_and_sizes_one_joint(tube_character):
    c = add_kit(tube_character, Kit(name="bell", kind="single", joints={"joint": ("tail_2",)}))
    program = compile_rig(c)
    pose = program.evaluate({"tail_2": {"move x": 0.1, "size": 1.6}})
    assert np.linalg.norm(pose.joints[1, :, 3] - np.array(c.joint("tail_2").place)) == pytest.approx(0.1)
    assert pose.scales[1] == pytest.approx([1.6] * 3) and pose.scales[2] == pytest.approx([1, 1, 1])


def test_the_whole_figure_is_sized_about_its_foot_and_drags_still_follow_the_hand(otter):
    from vonkel.core.skin import Deformer

    program = compile_rig(otter)
    pose = program.evaluate({"whole": {"size": 0.5, "move x": 0.2}})
    points = Deformer(otter).deform(pose)
    floor = otter.points[:, 1].min()
    assert np.abs(points - ([0.2, floor, 0] + 0.5 * (otter.points - [0, floor, 0]))).max() < 1e-5
    inputs = {"whole": {"size": 0.5, "turn y": 0.4}}
    given = moved_to(program, inputs, "hand_L", (0.2, 0.3, 0.1))
    now = program.evaluate(inputs | {"hand_L": given})
    k = program.control_names.index("hand_L")
    assert np.allclose(now.control_matrices(program.control_names)[k, :, 3], (0.2, 0.3, 0.1), atol=1e-9)
    fk = switched(otter, program, inputs | {"hand_L": given}, "arm_L", "fk")
    assert np.abs(program.evaluate(fk).joints - now.joints).max() < 1e-9


# -- on and off --------------------------------------------------------------------------------------------------------
def test_what_leans_on_a_kit_goes_with_it_and_rules_that_spoke_of_it_too(otter):
    assert any(k.name == "foot_L" for k in otter.kits)
    off = remove_kit(otter, "leg_L")
    assert not {"leg_L", "foot_L"} & {k.name for k in off.kits} and any(k.name == "foot_R" for k in off.kits)
    names = {c.name for c in off.controls}
    assert all(t[8:] in names for r in off.rules for t in r.speaks_of() if t.startswith("control:"))
    compile_rig(off).evaluate({})


@pytest.mark.parametrize("kind", ["arm", "leg", "chain", "turns"])
def test_the_same_kit_on_two_chains_never_clashes_in_names(kind):
    c = chain(
        [(0, 0.9, 0), (0, 0.6, 0.05), (0, 0.3, 0)],
        "one",
        [("two_1", None, (0.2, 0.9, 0)), ("two_2", "two_1", (0.2, 0.6, 0.05)), ("two_3", "two_2", (0.2, 0.3, 0))],
    )
    for first in ("one_1", "two_1"):
        c = add_kit(c, Kit(name=kind, kind=kind, joints=suggested(c, kind, first)))
    names = [x.name for x in c.controls]
    assert len(names) == len(set(names)) and len({k.name for k in c.kits}) == 2
    program = compile_rig(c)
    for k in c.kits:
        moved = next(x for x in c.controls if x.kit == k.name and (x.moves or x.turns))
        channel = next(ch.name for ch in moved.channels if ch.name.startswith(("move ", "turn ")))
        pose = program.evaluate({moved.name: {channel: 0.2}})
        other = [n for kk in c.kits if kk.name != k.name for n in KINDS[kk.kind].moves(kk)]
        assert np.allclose(places(pose, program, *other), rest_of(c, *other), atol=1e-12)


def test_kits_refuse_what_does_not_fit_in_words(otter, tube_character):
    with pytest.raises(BadParameters, match="No limb ends in"):
        add_kit(tube_character, Kit(name="foot", kind="foot", joints={"foot": ("tail_3",)}))
    with pytest.raises(BadParameters, match="must all hang from"):
        add_kit(
            tube_character,
            Kit(name="t", kind="twist", joints={"from": ("tail_1",), "to": ("tail_2",), "twists": ("tail_3",)}),
        )
    with pytest.raises(BadParameters, match="Put legs on first"):
        add_kit(tube_character, Kit(name="s", kind="stance", joints={"trunk": ("tail_1",), "feet": ("tail_3",)}))
    with pytest.raises(BadParameters, match="one digit at least"):
        add_kit(tube_character, Kit(name="d", kind="digits", joints={}))


def test_a_foot_target_that_stands_on_the_pushed_body_is_refused_with_names(otter):
    stood, _ = apply_step(
        otter, "limbs.add_kit", {"kind": "stance", "joints": {"trunk": ["hips"], "feet": ["foot_L", "foot_R"]}}
    )
    rule = {"kind": "space", "name": "foot on body", "control": "foot_L", "sources": ["joint:hips"]}
    with pytest.raises(RigLoop, match="2 feet push body.*foot_L"):
        apply_step(stood, "rules.add", {"rule": rule})


def test_the_neck_may_lead_instead_of_the_head(otter):
    """The head's control turns the head alone; the neck's bends the neck, and the head rides on it; at rest nothing differs."""
    c, kit = otter, next(k for k in otter.kits if k.kind == "head")
    led, _ = apply_step(c, "limbs.set_options", {"kit": kit.name, "options": {"leads": "neck"}})
    lead = next(x.name for x in led.controls if x.kit == kit.name and x.key == "neck")
    program, before = compile_rig(led), compile_rig(c)
    rest = program.evaluate({})
    assert np.allclose(rest.joints, before.evaluate({}).joints, atol=1e-12)
    neck, head = [led.joint_index[n] for n in kit.joints["neck"]], led.joint_index["head"]

    def turned(pose, joint):
        a, b = rest.joints[joint, :, :3], pose.joints[joint, :, :3]
        return Rotation.from_matrix(b @ a.T).magnitude()

    bent = program.evaluate({lead: {"turn z": 0.6}})
    angles = [turned(bent, n) for n in neck]
    assert all(x < y for x, y in pairwise([0.0, *angles])) and angles[-1] == pytest.approx(0.6, abs=1e-6)
    assert turned(bent, head) == pytest.approx(0.6, abs=1e-6)
    nod = program.evaluate({"head turn": {"turn z": 0.6}})
    assert turned(nod, head) == pytest.approx(0.6, abs=1e-6) and max(turned(nod, n) for n in neck) < 1e-9
    assert np.allclose(nod.joints[head, :, 3], rest.joints[head, :, 3], atol=1e-9)
    shared = before.evaluate({"head turn": {"turn z": 0.6}})
    assert max(turned(shared, n) for n in neck) > 0.1
    heading = program.evaluate({"chest turn": {"turn x": 0.4}, "head turn": {"in ground": 1.0}})
    assert turned(heading, head) < 1e-9
    back, _ = apply_step(led, "limbs.set_options", {"kit": kit.name, "options": {"leads": "head"}})
    assert not any(x.key == "neck" for x in back.controls)
