"""Plans on bodies that nobody here drew them for: posed, turned, roughened, cut; what they say when they aren't sure.

The bodies and their true joints are those of tests/judging; `python -m tests.judging.judge` prints every one of them.
"""

import itertools

import numpy as np
import pytest

from tests.judging.builds import JUDGED, MIRROR, NAMED, TRIED, Flesh, by_chance, grown, of_chance, v, wrapped
from tests.judging.calibrate import DRAWN
from tests.judging.judge import STRENGTHS
from tests.judging.posing import KINDS, at_rest, moved, ordinary, ordinary_turns, posed, rigged, rot
from vonkel.core.character import Joint, opposite_name
from vonkel.core.errors import StepRefused
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.geometry.spheres import balls_among
from vonkel.core.geometry.transform import UPRIGHT
from vonkel.core.geometry.voxels import STEP_LENGTHS, distances_through, extremities
from vonkel.core.plans import (
    LOST,
    acceptance,
    boneless,
    built_in,
    find_landmarks,
    lay_plan,
    propose,
    sketch_of,
    verdict,
)
from vonkel.core.plans.anatomy.body import Body, distances_from, eyes_of, fill, look
from vonkel.core.plans.anatomy.four import feet_apart
from vonkel.core.plans.anatomy.likeness import FAMILIES, Learned, learned, table, told_of
from vonkel.core.plans.anatomy.line import Line, Prior, between, corners_of, fan
from vonkel.core.plans.fitting import body_for
from vonkel.core.plans.frame import BodyFrame, find_plane
from vonkel.core.plans.propose import Lying
from vonkel.readings import findings
from vonkel.steps import apply_step


def errors(body, sketch):
    return {
        n: float(np.linalg.norm(sketch.place(n) - p)) / body.size for n, p in body.places.items() if n in sketch.found
    }


def mean_error(body, sketch):
    return float(np.mean(list(errors(body, sketch).values())))


# --- what the body says by itself ---------------------------------------------------------------------------------------
def test_distances_by_buckets_are_those_of_the_heap():
    solid = fill(at_rest("hound")[0], 8_000)
    start = int(np.argmax(solid.depth))
    exact, _ = distances_through(
        solid.links, STEP_LENGTHS * solid.h, np.ones(len(solid.cells)), np.array([start]), np.zeros(1), np.inf
    )
    ours = distances_from(solid, start)
    assert np.isfinite(ours).all() and np.abs(ours - exact).max() < 0.006 * exact.max()  # steps of whole hundredths


def test_of_two_tips_equally_far_both_are_found():
    """On a body that is the same on both sides ties are the rule, not the exception."""
    solid = fill(at_rest("porter")[0], 20_000)
    body = look(at_rest("porter")[0], solid)
    places = [tuple(np.round(body.place(i), 3)) for i in range(len(body.tips))]
    assert len(set(places)) == len(places)
    tips = extremities(solid, distances_from(solid, body.centre), 0.2)
    assert len({t for t, _, _ in tips}) == len(tips)


def test_where_two_ways_part_is_told_by_three_distances():
    """(i | j, k) on a tree drawn by hand: branches of 3, 4 and 5 that meet in one place."""
    table = np.array([[0.0, 7.0, 8.0], [7.0, 0.0, 9.0], [8.0, 9.0, 0.0]])
    body = Body(None, None, 0, [0, 1, 2], np.ones(3), table, table, np.zeros(3), np.ones(3), 9.0, [])
    assert (body.parts(0, 1, 2), body.parts(1, 0, 2), body.parts(2, 0, 1)) == (3.0, 4.0, 5.0)


@pytest.mark.parametrize("at", (0.40, 0.45, 0.52))
def test_a_bend_is_found_where_it_is_and_a_straight_limb_keeps_the_usual_share(at):
    s = np.linspace(0, 1, 200)
    p = np.where((s < at)[:, None], np.c_[s, 0 * s, 0 * s], [at, 0, 0] + (s - at)[:, None] * np.array([0.5, 0.87, 0.0]))
    thin = np.full(200, 0.02)
    bent = corners_of([Line(p, s, s, thin)], Prior(((0.45, 0.06),)))[0]
    straight = corners_of([Line(np.c_[s, 0 * s, 0 * s], s, s, thin)], Prior(((0.45, 0.06),)))[0]
    assert bent.share[0] == pytest.approx(at, abs=0.02) and bent.spread[0] < 0.02
    assert straight.share[0] == pytest.approx(0.45, abs=0.01) and straight.spread[0] > 2 * bent.spread[0]


def test_a_bent_partner_tells_the_straight_one():
    s = np.linspace(0, 1, 200)
    p = np.where(
        (s < 0.52)[:, None], np.c_[s, 0 * s, 0 * s], [0.52, 0, 0] + (s - 0.52)[:, None] * np.array([0.5, 0.87, 0])
    )
    thin = np.full(200, 0.02)
    bent, straight = corners_of([Line(p, s, s, thin), Line(np.c_[s, 0 * s, 0 * s], s, s, thin)], Prior(((0.45, 0.06),)))
    assert straight.share[0] > 0.49 and bent.share[0] == pytest.approx(0.52, abs=0.02)


# --- frames ---------------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("degrees", (0.0, 31.0, -120.0, 180.0))
def test_the_middle_plane_is_found_wherever_a_body_stands(degrees):
    body = moved("porter", rot((0, 1, 0), degrees), shift=(2.0, 0.0, -1.0))
    facing = rot((0, 1, 0), degrees + 20) @ np.array([0, 0, 1.0])
    frame = find_plane(body.mesh, facing)
    assert frame.even and abs((frame.degrees - degrees + 180) % 360 - 180) < 0.5
    there = frame.own(body.mesh.points)
    assert abs(there[:, 0].min() + there[:, 0].max()) < 0.004 and np.allclose(frame.back(there), body.mesh.points)


def test_how_it_stands_is_said():
    def words(degrees):
        return BodyFrame(turn=rot((0, 1, 0), -degrees)).words()

    assert words(0) == "" and words(180) == "It faces −Z." and words(90) == "It faces +X."
    assert words(31) == "It stands turned by 31° to its left, facing between +Z and +X."


# --- fits -----------------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("name", "kind", "most"), (("otter", "clean", 0.03), ("reed", "noisy", 0.04), ("hound", "holes", 0.04))
)
def test_posed_bodies_get_joints_of_their_own_on_both_sides(name, kind, most):
    body = posed(name, 4242, 0.9, kind)
    sketch = sketch_of(body.mesh, body.plan, {})
    told = errors(body, sketch)
    assert mean_error(body, sketch) < most, sorted(told.items(), key=lambda x: -x[1])[:6]
    assert np.mean([e <= 0.08 for e in told.values()]) > 0.9
    assert all(sketch.spread[n] > 0 for n in sketch.found)
    laid = lay_plan(body.mesh, body.plan, {})
    left, right = (np.array(laid.joint(f"forearm_{s}").place) for s in "LR")
    assert np.linalg.norm(left * [-1, 1, 1] - right) > 0.05 * body.size  # no mirror of one another


def test_digits_of_a_posed_hand_are_found_one_by_one():
    body = posed("otter", 4242, 0.9)
    told = errors(body, sketch_of(body.mesh, "biped", {}))
    digits = [e for n, e in told.items() if n.startswith(("thumb", "index", "ring"))]
    assert len(digits) >= 16 and np.mean(digits) < 0.03


@pytest.mark.sampled(1)
@pytest.mark.parametrize("name", ("otter", "hound"))
def test_noise_holes_size_and_place_change_no_joint(name):
    rest = moved(name, np.eye(3))
    options = {"digits": 0} if rest.plan == "biped" else {}
    before = sketch_of(rest.mesh, rest.plan, options)
    for change, body in {
        "noise": moved(name, np.eye(3), "noisy"),
        "holes": moved(name, np.eye(3), "holes"),
        "1,500 faces": moved(name, np.eye(3), "1500"),
        "×100": moved(name, 100 * np.eye(3)),
        "×0.01": moved(name, 0.01 * np.eye(3)),
        "a half turn": moved(name, rot((0, 1, 0), 180)),
        "off centre": moved(name, np.eye(3), shift=(3.0, 0.0, -2.0)),
        "leaning": moved(name, rot((1, 0, 0), 7)),
    }.items():
        after = sketch_of(body.mesh, body.plan, options)
        ok = [n for n in before.found if n in after.found and n in body.places and "ear" not in n and "eye" not in n]
        # where the joint would be, had it gone along with the flesh
        source = np.c_[rest.mesh.points, np.ones(len(rest.mesh.points))]
        own = {
            "a half turn": rot((0, 1, 0), 180), "×100": 100 * np.eye(3), "×0.01": 0.01 * np.eye(3), "leaning": rot((1, 0, 0), 7),
        }.get(change, np.eye(3))  # fmt: skip
        shift = np.array([3.0, 0.0, -2.0]) if change == "off centre" else np.zeros(3)
        far = [np.linalg.norm(after.place(n) - (own @ before.place(n) + shift)) / body.size for n in ok]
        assert len(source) and len(ok) > 20 and np.mean(far) < 0.03, (change, np.mean(far))


def test_knees_fold_forward_and_toes_lie_in_the_feet():
    for name in ("porter", "reed", "runner"):
        mesh, _ = at_rest(name)
        sketch = sketch_of(mesh, "biped", {})
        solid = fill(mesh)
        for s in "LR":
            hip, knee, ankle, toe = (sketch.place(f"{n}_{s}") for n in ("thigh", "shin", "foot", "toe_end"))
            on = hip + (ankle - hip) * ((knee - hip) @ (ankle - hip)) / ((ankle - hip) @ (ankle - hip))
            assert (knee - on)[2] > -1e-3 * mesh.size, name
            assert solid.tree.query(toe)[0] < 2.5 * solid.h and toe[2] > ankle[2], name


def test_legs_that_touch_and_horns_are_read_for_what_they_are():
    for name in ("badger", "ram"):
        mesh, true = at_rest(name)
        sketch = sketch_of(mesh, "quadruped", {})
        for n in ("thigh_L", "shin_L", "foot_R", "upper_arm_L", "hand_R", "chest"):
            assert np.linalg.norm(sketch.place(n) - true.joint(n).place) < 0.09 * mesh.size, (name, n)


def test_eyeballs_of_a_mesh_in_one_part_are_known_by_their_shape():
    """A round foot or the ball of a joint is no eye; two alike balls near each other are."""
    newt, badger = posed("newt", 305, 0.85, "holes"), posed("badger", 306, 1.0, "parts")
    assert [p.role for p in newt.mesh.parts] == ["skin"]
    found = np.array([p for p, _ in eyes_of(newt.mesh)])
    for side in "LR":
        assert np.linalg.norm(found - newt.places[f"eye_{side}"], axis=1).min() < 0.01 * newt.size
    assert eyes_of(badger.mesh) == []


def test_balls_among_pieces_are_balls_alone():
    rng = np.random.default_rng(3)
    ball = rng.normal(size=(80, 3))
    ball = 0.05 * ball / np.linalg.norm(ball, axis=1)[:, None] + [0.3, 1.0, 0.2]
    egg, block = ball * [1.0, 1.5, 1.0], rng.uniform(0, 0.1, (80, 3))
    found = balls_among(np.vstack([ball, egg, block]), np.repeat([0, 1, 2], 80), 0.01, 0.2)
    assert len(found) == 1 and found[0][1] == pytest.approx(0.05) and np.allclose(found[0][0], [0.3, 1.0, 0.2])


@pytest.mark.parametrize(("seed", "kind"), ((305, "holes"), (306, "clean"), (303, "thin")))
def test_a_head_without_eyes_is_told_from_a_tail_by_its_flesh(seed, kind):
    body = posed("badger", seed, 0.9, kind, seed)
    told = errors(body, sketch_of(body.mesh, body.plan, {}))
    assert told["head_end"] < 0.1 and told["tail_end"] < 0.1


@pytest.mark.parametrize("name", ("ram", "hare", "heron-neck"))
def test_a_muzzle_is_neither_an_ear_nor_a_horn(name):
    body = posed(name, 303, 0.6)
    sketch = sketch_of(body.mesh, body.plan, {})
    assert errors(body, sketch)["head_end"] < 0.08
    # where a long neck ends is told
    assert errors(body, sketch)["head"] < 0.12 or verdict(sketch.spread["head"]) != "sure"
    ears = [n for n in body.places if n.startswith("ear_end")]
    assert all(np.linalg.norm(sketch.place("head_end") - body.places[n]) > 0.1 * body.size for n in ears)


def test_a_trunk_is_told_and_where_it_begins_is_doubted():
    body = posed("tapir", 300, 0.6)
    sketch = sketch_of(body.mesh, body.plan, {})
    assert errors(body, sketch)["head_end"] < 0.15 and verdict(sketch.spread["head_end"]) != "sure"


def test_feet_of_legs_that_have_grown_together_are_found_apart():
    body = posed("otterhound", 300, 0.6)
    plain = body_for(body.mesh, "quadruped")
    low = [i for i in range(len(plain.tips)) if plain.heights[i] < 0.4]
    found = feet_apart(plain)
    assert len(low) < 4 and found
    for apart in found:
        assert len(apart.tips) > len(plain.tips)
        assert np.allclose(apart.table, apart.table.T) and apart.far.shape[0] == len(apart.length) == len(apart.tips)
    assert mean_error(body, sketch_of(body.mesh, body.plan, {})) < 0.05


def test_a_tail_fin_ends_between_its_halves():
    body = posed("carp", 304, 1.0, "parts", 304)
    assert errors(body, sketch_of(body.mesh, body.plan, {}))["tail_end"] < 0.08


def test_what_hangs_low_is_not_always_a_leg():
    """The snout of this beetle hangs as low as its feet: of seven one is dropped, and legs stay in pairs."""
    body = posed("beetle", 303, 0.6, "thin")
    sketch = sketch_of(body.mesh, body.plan, {})
    assert {n for n in sketch.found if n.startswith("toe_end")} == {n for n in body.places if n.startswith("toe_end")}
    assert mean_error(body, sketch) < 0.04


def test_fingers_of_a_wing_are_one_each_and_left_is_left():
    body = posed("bat", 305, 0.85, "holes")
    told = errors(body, sketch_of(body.mesh, body.plan, {}))
    assert max(told[f"hand_{s}"] for s in "LR") < 0.12 and max(told[f"wing_1_end_{s}"] for s in "LR") < 0.12
    assert max(told[f"toe_end_{s}"] for s in "LR") < 0.12


@pytest.mark.sampled(2)
@pytest.mark.parametrize("seed", (302, 303, 304))
def test_a_wings_arm_follows_the_thickest_of_what_is_stretched(seed):
    """Its bones lie in the arm's flesh, not in the membrane that shortens the way."""
    body = posed("bat", seed, 0.85)
    sketch = sketch_of(body.mesh, "winged", {})
    found = errors(body, sketch)
    assert max(found[f"{n}_{s}"] for n in ("upper_arm", "forearm", "hand") for s in "LR") < 0.09
    solid = body_for(body.mesh, "winged").solid
    for side in "LR":
        ends = [sketch.place(f"{n}_{side}") for n in ("upper_arm", "forearm", "hand")]
        along = np.vstack(
            [a + t * (b - a) for a, b in itertools.pairwise(ends) for t in np.linspace(0.1, 0.9, 9)[:, None]]
        )
        assert np.median(solid.depth[solid.nearest(along)]) > 2 * solid.h  # a membrane is one cell thick, or two


def test_a_lifted_leg_is_one_and_a_low_feeler_none(monkeypatch):
    """8105: one of six feet hangs at half the height; 8035: eight legs, and feelers that hang as low as a foot may."""
    for seed, pairs in ((8105, 3), (8035, 4)):
        monkeypatch.setitem(NAMED, f"some-{seed}", of_chance("many-legged", seed))
        body = posed(f"some-{seed}", seed, STRENGTHS[seed % 3], KINDS[(seed // 6) % 6])
        sketch = sketch_of(body.mesh, "many-legged", {})
        feet = [n for n in sketch.found if n.startswith("toe_end")]
        assert len(feet) == 2 * pairs
        assert np.mean([v for n, v in errors(body, sketch).items() if n.startswith(("toe", "foot", "shin"))]) < 0.05


def test_horns_grow_between_the_ears():
    body = posed("ram", 401, STRENGTHS[401 % 3], KINDS[401 % 6])
    found = errors(body, sketch_of(body.mesh, "quadruped", {}))
    assert max(found[f"ear_end_{s}"] for s in "LR") < 0.05


@pytest.mark.parametrize("name", ("leveret", "imp"))
def test_a_heads_top_is_not_that_of_its_ears_or_horns(name):
    body = posed(name, 411, STRENGTHS[411 % 3], KINDS[411 % 6])
    sketch = sketch_of(body.mesh, "biped", {})
    head, top = body.places["head"], body.places["head_end"]
    up = (top - head) / np.linalg.norm(top - head)
    assert abs(float((sketch.place("head_end") - top) @ up)) < 0.03 * body.size


@pytest.mark.sampled(1)
@pytest.mark.parametrize("name", ("stalker", "runner"))
def test_a_long_neck_begins_where_the_trunk_ends(name):
    """A head that has come off, as of a mesh in parts, is told: of four bodies at most one."""
    off = []
    for seed in (410, 412, 414, 416):
        body = posed(name, seed, STRENGTHS[seed % 3], KINDS[seed % 6])
        sketch = sketch_of(body.mesh, "biped", {})
        if verdict(sketch.spread["head"]) != "not found":
            off += [errors(body, sketch)[n] for n in ("chest", "neck", "head")]
    assert len(off) >= 9 and np.mean(off) < 0.03 and max(off) < 0.06


def test_ways_to_several_places_are_those_to_each():
    body = body_for(at_rest("hound")[0], "quadruped")
    start, ends = body.solid.centres[body.centre], [body.place(i) for i in range(3)]
    for one, end in zip(fan(body, start, ends), ends, strict=True):
        assert np.allclose(one.p, between(body, start, end).p)


def test_a_dear_reading_is_doubted_as_a_whole(monkeypatch: pytest.MonkeyPatch):
    """This body, drawn by chance, has its head between its forelegs: what is read costs more than such bodies usually do."""
    monkeypatch.setitem(NAMED, "chance-5090", by_chance(5090))
    body = posed("chance-5090", 5090, STRENGTHS[5090 % 3], KINDS[5090 % 6])
    sketch = sketch_of(body.mesh, body.plan, {})
    far = [n for n, e in errors(body, sketch).items() if e > 0.1]
    assert sketch.cost > 4 and len(far) > 5 and sum(verdict(sketch.spread[n]) != "sure" for n in far) > 0.8 * len(far)


def test_a_bent_body_is_read_from_its_own_end():
    """Both its ends were taken for one another before another head was laid even where it seemed dearer."""
    body = posed("badger", 520, 1.25, "parts")
    assert mean_error(body, sketch_of(body.mesh, body.plan, {})) < 0.06


def test_ordinary_poses_can_be_asked_of_any_body():
    for name in ("porter", "hound"):
        for pose in list(ordinary_turns(rigged(name)))[:3]:
            body = ordinary(name, pose, 30.0)
            sketch = sketch_of(body.mesh, body.plan, {})
            if mean_error(body, sketch) > 0.06:  # a stout body may be read from behind, but not in silence
                assert all(verdict(v) != "sure" for n, v in sketch.spread.items() if n.endswith(("_L", "_R"))), pose
    assert not set(JUDGED) & set(TRIED) and set(NAMED) == set(JUDGED) | set(TRIED)


NAMED_PLAN = {"porter": "biped", "hound": "quadruped"}


# --- honesty ----------------------------------------------------------------------------------------------------------------
def test_what_nothing_tells_is_said_to_be_a_guess():
    """A line that is the same at both ends has no head that anyone could see."""
    mesh, _ = at_rest("eel")
    even = mesh.with_(arrays={"points": mesh.points * 1.0})
    middle = even.points[:, 2].mean()
    twin = even.points.copy()
    twin[:, 2] = 2 * middle - twin[:, 2]
    sketch = sketch_of(even, "chain", {})
    back = sketch_of(even.with_(arrays={"points": twin}), "chain", {})
    assert {verdict(s) for s in sketch.spread.values()} <= {"sure", "look here"}
    assert set(back.found) == set(sketch.found)


def test_a_plan_for_another_body_is_doubted_throughout():
    """Eight legs read as two arms and two legs: every joint wants a look."""
    body = posed("spinner", 1, 1.0)
    sketch = sketch_of(body.mesh, "biped", {})
    assert np.mean([verdict(s) != "sure" for s in sketch.spread.values()]) > 0.9
    assert propose(body.mesh).best.plan == "many-legged"


def test_a_refusal_says_what_was_seen_and_goes_on_by_landmarks(tube_character):
    with pytest.raises(StepRefused, match="there are 2 ends"):
        sketch_of(tube_character, "biped", {})
    found = find_landmarks(tube_character, "biped", {})
    assert len(found.seen) == 2 and "doesn't read as a biped" in found.words[0]
    assert {m.sure for m in found.marks.values()} == {"not found"}
    assert {"left wrist", "right wrist", "crown"} <= {m.label for m in found.marks.values()}
    low, high = tube_character.points.min(0), tube_character.points.max(0)
    assert all((low - 1e-9 <= m.place).all() and (m.place <= high + 1e-9).all() for m in found.marks.values())
    given = {n: tuple(float(v) for v in found.marks[n].place) for n in ("hips", "chest", "head", "hand_L")}
    laid = lay_plan(tube_character, "biped", {}, given)
    assert laid.joint("hand_L").doubt == 0.0 and laid.joint("hand_R").doubt >= LOST
    assert any(f.level == "must" and "not found" in f.title for f in findings(laid))


def test_landmarks_put_right_tell_the_limbs_apart():
    """A rigger who drags the crown onto what was taken for something else gets the other reading."""
    body = posed("imp", 3, 0.6)
    found = find_landmarks(body.mesh, "biped", {})
    wrong = {n: body.places[n] for n in ("hand_L", "foot_R")}
    given = {n: tuple(float(v) for v in p) for n, p in wrong.items()}
    again = find_landmarks(body.mesh, "biped", {}, given)
    for n, p in wrong.items():
        assert np.allclose(again.marks[n].place, p) and again.marks[n].sure == "sure"
    before = np.mean([np.linalg.norm(m.place - body.places[n]) for n, m in found.marks.items() if n in body.places])
    after = np.mean([np.linalg.norm(m.place - body.places[n]) for n, m in again.marks.items() if n in body.places])
    assert after <= before + 1e-3


def test_doubts_stay_until_a_joint_is_moved_or_looked_at():
    body = posed("ram", 2, 0.9)
    laid = lay_plan(body.mesh, "quadruped", {})
    laid = laid.with_(
        joints=tuple(
            j.model_copy(update={"doubt": 0.2 if j.name == "head" else 0.07 if j.name == "chest" else 0.0})
            for j in laid.joints
        )
    )
    titles = {f.title: f for f in findings(laid)}
    assert titles["1 joint was not found"].level == "must" and titles["1 joint wants a look"].joints == ["chest"]
    left, _ = apply_step(laid, "joints.accept", {"joints": ["chest"]})
    moved_, _ = apply_step(left, "joints.move", {"joint": "head", "place": list(left.joint("head").place)})
    assert not [j.name for j in moved_.joints if j.doubt]
    turn = next(f for f in findings(laid) if f.mend and "turn" in f.mend.params)
    straight, _ = apply_step(laid, "model.stand", turn.mend.params)
    assert not [f for f in findings(straight) if f.mend and "turn" in f.mend.params]


def test_a_joint_of_a_posed_body_goes_without_its_partner():
    body = posed("otter", 4242, 0.9)
    laid = lay_plan(body.mesh, "biped", {"digits": 0})
    before = np.array(laid.joint("forearm_R").place)
    made, _ = apply_step(
        laid,
        "joints.move",
        {"joint": "forearm_L", "place": list(np.array(laid.joint("forearm_L").place) + [0, 0.01, 0])},
    )
    assert np.array_equal(before, made.joint("forearm_R").place)


# --- acceptance ---------------------------------------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def hound():
    mesh, true = at_rest("hound")
    return mesh.with_(joints=true.joints, plan="quadruped")


def put(c, **places):
    joints = tuple(
        j.model_copy(update={"place": tuple(float(v) for v in places[j.name])}) if j.name in places else j
        for j in c.joints
    )
    return c.with_(joints=joints)


def kinds(c):
    return {f.kind: f.joints for f in acceptance(c)}


def test_true_joints_are_accepted(hound):
    assert kinds(hound) == {}


def test_a_limb_that_was_left_out_is_told_and_a_whole_body_says_nothing(hound):
    assert not boneless(hound)
    left = {
        j.name for j in hound.joints if j.name.endswith("_R") and j.role in ("thigh", "shin", "foot", "ball", "toe_end")
    }
    lame = hound.with_(joints=tuple(j for j in hound.joints if j.name not in left))
    (part,) = boneless(lame)
    assert min(np.linalg.norm(part.place - hound.joint(n).place) for n in left) < 0.1 * hound.size
    said = next(f for f in findings(lame) if "no bone" in f.title)
    assert said.joints == [part.joint] and said.level == "note"
    assert np.linalg.norm(hound.points[said.points] - part.place, axis=1).max() < 0.1 * hound.size


def test_no_stacked_misplaced_crossed_or_empty_joint_passes(hound):
    p = {j.name: np.array(j.place) for j in hound.joints}
    assert "shin_L" in kinds(put(hound, shin_L=p["thigh_L"] + [0, 1e-4, 0]))["stacked"]
    assert "hand_L" in kinds(put(hound, hand_L=p["hand_L"] + [0.4, 0, 0]))["outside"]
    swapped = {n: p[opposite_name(n)] for n in p if n.startswith(("thigh", "shin", "foot", "ball", "toe_end"))}
    assert {"thigh_L", "thigh_R"} <= set(kinds(put(hound, **swapped))["crossed"])
    assert "ball_R" in kinds(put(hound, foot_R=p["thigh_R"] - [0, 0.05, 0]))["uneven"]
    inner = Joint(name="core", parent="chest", place=tuple(p["chest"] - [0, 0.01, 0.0]), role="core")
    assert "core" in kinds(hound.with_(joints=(*hound.joints, inner)))["empty"]
    out = kinds(put(hound, head=p["head"] + [0, 0.5, 0.0], head_end=p["head_end"] + [0, 0.5, 0]))
    assert "neck_3" in out["bare"]


def test_ears_are_found_in_pairs_and_not_on_round_heads():
    """One of two long ears is the end of the whole body, as the tips are counted, and was none; a round head had two."""
    for name in ("leveret", "jerboa"):
        mesh, true = at_rest(name, 20262030)
        sketch = sketch_of(mesh, true.plan, {})
        for end in ("ear_end_L", "ear_end_R"):
            near = min(np.linalg.norm(sketch.place(end) - true.joint(n).place) for n in ("ear_end_L", "ear_end_R"))
            assert near < 0.1 * true.size
    for name, seed in (("porter", 20261981), ("reed", 20262022)):
        assert "ear_L" not in sketch_of(at_rest(name, seed)[0], "biped", {}).found


def test_what_no_plan_fits_is_said_to_fit_none():
    """A tree: a stem and boughs."""
    body = Flesh("biped")
    body.tube([v(0, 0, 0), v(0, 0.6, 0)], [0.1, 0.07])
    for tip in (v(0.4, 1.1, 0.1), v(0.3, 1.0, -0.3), v(0.15, 1.3, 0.2)):
        body.tube([v(0, 0.55, 0), 0.5 * (v(0, 0.65, 0) + tip), tip], [0.06, 0.04, 0.02])
    mirrored = [(a * MIRROR, b * MIRROR, r, q) for a, b, r, q in body.cones]
    tree = propose(character_from_mesh(wrapped([*body.cones, *mirrored]), "tree"))
    assert not tree.sure and tree.words().startswith("No plan fits this well. Nearest comes a ")


def test_a_hanging_head_and_a_tail_are_no_pair_of_legs():
    """Tapirs in poses were many-legged ones: their trunk hangs to the ground, and the tail is as long as a leg."""
    for seed in (20261951, 20261953):
        assert propose(posed("tapir", seed).mesh).best.plan == "quadruped"
    assert propose(posed("spinner", 20261962).mesh).best.plan == "many-legged"


# --- proposals ----------------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("name", ("otter", "newt", "seal", "bust", "porter", "runner", "hound", "spinner", "eel"))
def test_the_plan_is_proposed_and_why(name):
    mesh, true = at_rest(name)
    told = propose(mesh)
    assert told.best.plan == true.plan and told.words().startswith(f"This looks like a {true.plan}")
    assert told.as_dict()["all"][0]["plan"] == true.plan


@pytest.mark.parametrize("name", ("otterhound", "stoat", "badger", "by chance"))
def test_low_bodies_on_short_thick_legs_are_told_from_chains_and_fins(name):
    """Their legs' tips end where the flesh of the trunk begins; what is open under the belly tells how long they are."""
    mesh = grown(by_chance(20261685), "c")[0] if name == "by chance" else at_rest(name, 20261600)[0]
    assert propose(mesh).best.plan == "quadruped"


def test_stubs_of_a_larva_are_no_four_legs():
    assert [propose(at_rest("larva", s)[0]).best.plan for s in (None, 20261600)] == ["chain", "chain"]
    assert propose(posed("larva", 71).mesh).best.plan == "chain"


@pytest.mark.parametrize("name", ("hound", "whale", "runner"))
def test_a_body_that_lies_is_told_to_and_one_that_stands_is_not(name):
    """Files whose Z is up are common practice; nothing in an OBJ says so."""
    mesh, true = at_rest(name, 20261800)
    assert propose(mesh).lying is None
    lies = mesh.with_(arrays={"points": mesh.points @ UPRIGHT["z"]})
    told = propose(lies)
    assert told.lying == Lying("z", true.plan) and not told.sure and "with Z up it reads better" in told.words()
    stood, _ = apply_step(lies, "model.stand", {"up": told.lying.up})
    assert propose(stood).best.plan == true.plan


def test_a_loose_part_is_known_as_such():
    from vonkel.core.formats.mesh import RawMesh, character_from_mesh

    mesh, _ = at_rest("porter")
    points, starts, corners = (
        mesh.points,
        mesh.arrays["face_starts"].astype(int),
        mesh.arrays["face_corners"].astype(int),
    )
    cube = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)]) * 0.12 + [0.9, 1.5, 0.4]
    quads = np.array([[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]])
    whole = RawMesh(
        np.vstack([points, cube]), np.r_[starts, starts[-1] + 4 * np.arange(1, 7)], np.r_[corners, (quads + len(points)).ravel()],
        np.r_[np.zeros(len(starts) - 1, np.int64), np.ones(6, np.int64)], ["body", "crate"],
    )  # fmt: skip
    c = character_from_mesh(whole, "carrier")
    sketch = sketch_of(c, "biped", {})
    assert any("crate" in w for w in sketch.words)
    assert body_for(c, "biped").solid.centres[:, 0].max() < 0.9


# --- doubt that was learned -------------------------------------------------------------------------------------------------
def test_trees_are_walked_as_they_are_written():
    """Two trees by hand: the first asks two things, the second one."""
    first = np.array(
        [[0, 0.5, 1, 2, 0], [-1, 0, 0, 0, 1.0], [1, 2.0, 3, 4, 0], [-1, 0, 0, 0, 10.0], [-1, 0, 0, 0, 100.0]]
    )
    second = np.array([[1, 0.0, 1, 2, 0], [-1, 0, 0, 0, -3.0], [-1, 0, 0, 0, 3.0]])
    known = Learned(("biped",), 0.25, ("tail",), ("a", "b"), (first, second), 0.0, 1.0)
    told = np.array([[0.5, -1.0], [0.6, 2.0], [0.6, 2.1]])
    assert known.score(told).tolist() == [0.25 + 1 - 3, 0.25 + 10 + 3, 0.25 + 100 + 3]


def test_what_is_told_of_joints_has_a_number_for_every_name():
    for plans in FAMILIES:
        known = learned(plans[0])
        assert known.plans == plans and known is learned(plans[-1])
        assert len(set(known.features)) == len(known.features)
        assert all(len(t) and (t[:, 0] < len(known.features)).all() for t in known.trees)
    assert learned("head") is None
    seen = []

    def keep(sketch, reading, plan):
        seen.append(table(told_of(sketch, reading, plan), learned(plan).features))

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(built_in, "doubt_by_likeness", keep)
        for name in ("porter", "hound", "bat", "spinner", "carp", "eel"):
            body = posed(name, 71, 0.6)
            sketch = sketch_of(body.mesh, body.plan, {})
            assert (
                seen[-1].shape == (len(sketch.found), len(learned(body.plan).features)) and np.isfinite(seen[-1]).all()
            )


@pytest.mark.sampled(1)
@pytest.mark.parametrize(
    ("draw", "seeds", "least"),
    [(lambda k: by_chance(k), range(9100, 9114), 20), (lambda k: of_chance(DRAWN[k % 6], k), range(9202, 9218), 20)],
    ids=["two and four legs", "wings, fins, many legs, none"],
)
def test_far_joints_are_told_and_near_ones_left_alone_on_bodies_that_taught_nothing(
    draw, seeds, least, monkeypatch, whole
):
    """Bodies by chance whose seeds were not learned from, in their poses; sixty of either kind: benchmarks/notes.md."""
    far, near = [], []
    for k in seeds if whole else seeds[:7]:
        monkeypatch.setitem(NAMED, f"chance-{k}", draw(k))
        body = posed(f"chance-{k}", k, STRENGTHS[k % 3], KINDS[k % 6])
        try:
            sketch = sketch_of(body.mesh, body.plan, {})
        except StepRefused:
            continue  # that is told, too
        for n, e in errors(body, sketch).items():
            (far if e > 0.1 else near if e < 0.04 else []).append(verdict(sketch.spread[n]) != "sure")
    assert len(near) > (250 if whole else 110) and np.mean(near) < 0.25
    assert len(far) > (least if whole else least // 2) and np.mean(far) > 0.7


def test_a_tail_that_ends_in_a_thread_is_followed_to_its_tip():
    """The end of a hound's tail drawn out to thinner than a cell: cells know nothing of it, the mesh does."""
    mesh, truth = at_rest("hound")
    a, b = (np.array(truth.joint(n).place) for n in ("tail_4", "tail_end"))
    way = b - a
    p = mesh.points.copy()
    t = (p - a) @ way / (way @ way)
    near = (t > 0.0) & (np.linalg.norm(p - a - t[:, None] * way, axis=1) < 0.06 * mesh.size)
    axis = a + t[near, None] * way
    p[near] = axis + (p[near] - axis) * np.clip(1.0 - 3.0 * t[near], 0.06, 1.0)[:, None]
    p = p @ (rot((0, 1, 0), 25.0) @ rot((1, 0, 0), 8.0)).T  # a thread along a row of cells would be seen
    thin = mesh.with_(arrays={"points": p})
    tip = p[near][np.argmax(t[near])]
    assert np.linalg.norm(fill(thin).centres - tip, axis=1).min() > 0.05 * mesh.size
    sketch = sketch_of(thin, "quadruped", {})
    assert np.linalg.norm(sketch.place("tail_end") - tip) < 0.01 * mesh.size
    row = np.array([sketch.place(f"tail_{k}") for k in range(1, 7)] + [sketch.place("tail_end")])
    steps = np.linalg.norm(np.diff(row, axis=0), axis=1)
    assert steps.max() < 1.25 * steps.min()
    held = sketch_of(thin, "quadruped", {}, {"tail_end": row[3]})
    assert np.linalg.norm(held.place("tail_end") - tip) > 0.05 * mesh.size  # what the rigger put right isn't moved
