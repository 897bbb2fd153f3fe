"""Every plan on its member of the cast: joints inside, where the trade puts them, landmarks that lead, own plans refitted."""

import numpy as np
import pytest

from tests.bodies import mannequin
from vonkel.core.character import opposite_name
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.formats import read_character
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.health import health
from vonkel.core.geometry.topology import topology_of
from vonkel.core.joints.inside import body_solid, may_stick_out
from vonkel.core.joints.orient import curl_senses
from vonkel.core.plans import PLANS, OwnPlan, landmarks_of, lay_own_plan, lay_plan, save_plan
from vonkel.core.rig import compile_rig
from vonkel.demo import CAST, DATA
from vonkel.readings import findings
from vonkel.steps import BUILT_IN, apply_step, load_recipe

BODIES = {m.plan: m for m in CAST.values() if m.plan}


@pytest.fixture(scope="module")
def cast():
    return {m.plan: read_character(m.file, (DATA / m.file).read_bytes(), m.name) for m in BODIES.values()}


@pytest.fixture(scope="module")
def laid(cast):
    return {plan: lay_plan(c, plan, {}) for plan, c in cast.items()}


def place(c, name):
    return np.array(c.joint(name).place)


@pytest.mark.parametrize("plan", BODIES)
def test_the_cast_is_whole_symmetric_and_of_its_size(cast, plan):
    c = cast[plan]
    h = health(c)
    assert (h.border_edges, h.nonmanifold_edges, h.turned_edges) == (0, 0, 0) and h.asymmetry == 0.0
    body = c.part("body")
    topo = topology_of(c)
    faces = slice(*body.faces)
    edges = np.unique(
        np.sort(
            np.stack([topo.corners, topo.corner_next], 1)[topo.starts[body.faces[0]] : topo.starts[body.faces[1]]], 1
        ),
        axis=0,
    )
    assert (body.points[1] - body.points[0]) - len(edges) + (
        faces.stop - faces.start
    ) == 2  # one closed surface, no handles
    assert 3_000 <= body.points[1] - body.points[0] <= 15_000
    assert 0.2 < c.size < 3.0 and (topo.sizes[faces] == 4).mean() > 0.9
    assert all(p.name for p in c.parts) and {p.role for p in c.parts} >= {"skin", "eye"}


@pytest.mark.parametrize("plan", BODIES)
def test_deforming_joints_lie_inside_and_nothing_is_wrong_with_them(laid, plan):
    c = laid[plan]
    solid = body_solid(c, 200)
    held = [j for j in c.joints if j.deforms and not may_stick_out(c, j) and j.role != "eye"]
    far = solid.tree.query(np.array([j.place for j in held]))[0]
    assert (far < solid.h).mean() >= 0.98
    serious = [f for f in findings(c) if f.station == "joints" and f.level != "note"]
    assert not serious, serious
    for j in c.joints:
        if j.side == "L":
            assert np.allclose(np.array(j.place) * [-1, 1, 1], c.joint(opposite_name(j.name)).place)
    assert sum(j.parent is None for j in c.joints) == 1 and c.plan == plan


@pytest.mark.parametrize("plan", BODIES)
def test_every_body_gets_kits_and_nothing_moves(laid, plan):
    c, _ = apply_step(laid[plan], "limbs.outfit", {})
    driven = {n for k in c.kits for names in k.joints.values() for n in names}
    assert {j.name for j in c.joints if j.deforms} <= driven
    rest = compile_rig(c).evaluate({}).joints[:, :, 3]
    assert np.abs(rest - [j.place for j in c.joints]).max() < 1e-12


def test_brindle_stands_on_four_legs_with_withers_neck_and_tail(laid):
    c = laid["quadruped"]
    assert place(c, "hips")[2] < place(c, "chest")[2] < place(c, "head")[2] < place(c, "head_end")[2]
    assert place(c, "tail_end")[2] == pytest.approx(c.points[:, 2].min(), abs=0.04)
    assert place(c, "thigh_L")[2] < 0 < place(c, "upper_arm_L")[2]
    for chain in (
        ("thigh_L", "shin_L", "foot_L", "ball_L"),
        ("collar_L", "upper_arm_L", "forearm_L", "hand_L", "fore_ball_L"),
    ):
        ys = [place(c, n)[1] for n in chain]
        assert ys == sorted(ys, reverse=True)  # from the body down to the ground
    assert place(c, "eye_L") == pytest.approx([0.083, 1.150, 0.700], abs=1e-3)  # where the generator put the eyeball
    heights = []
    for build in ("plantigrade", "digitigrade", "unguligrade"):
        other = lay_plan(c.with_(joints=()), "quadruped", {"legs": build, "neck": 5, "tail": 0})
        heights.append(place(other, "foot_L")[1])
        assert "neck_5" in other.joint_index and "tail_1" not in other.joint_index
    assert heights == sorted(heights) and heights[1] > heights[0] + 0.02  # the higher on its toes, the higher its hock
    assert place(c, "foot_L")[1] == heights[0]  # she stands on her whole feet, and the plan saw that


def test_tock_has_three_pairs_of_legs_and_feelers(laid, cast):
    c = laid["many-legged"]
    for i, (x, z) in enumerate(((0.405, 0.29), (0.437, 0.05), (0.413, -0.27)), 1):
        assert place(c, f"foot_{i}_L")[[0, 2]] == pytest.approx([x, z], abs=0.05)  # the generator's ankles
        assert place(c, f"toe_end_{i}_L")[1] < 0.05
    assert place(c, "feeler_end_L") == pytest.approx([0.366, 0.538, 0.379], abs=0.04)
    two = lay_plan(cast["many-legged"], "many-legged", {"pairs": 2, "feeler": 0, "bends": 1})
    assert (
        "thigh_3_L" not in two.joint_index and "feeler_1_L" not in two.joint_index and "foot_1_L" not in two.joint_index
    )


def test_vespers_wing_folds_at_shoulder_elbow_and_wrist(laid):
    """Against the points that the generator's arm and fingers were made of."""
    c = laid["winged"]
    for name, at in (("upper_arm_L", (0.075, 0.465)), ("forearm_L", (0.27, 0.425)), ("hand_L", (0.43, 0.60))):
        assert place(c, name)[:2] == pytest.approx(at, abs=0.03)
    for i, at in enumerate(((0.96, 0.68), (0.93, 0.36), (0.65, 0.15)), 1):
        assert place(c, f"wing_{i}_end_L")[:2] == pytest.approx(at, abs=0.03)
    assert c.joint("membrane_forearm_1_L").parent == "forearm_L"


def test_sedge_wick_and_old_burr(laid, cast):
    seal, larva, bust = laid["finned"], laid["chain"], laid["head"]
    assert place(seal, "fin_end_L")[0] > 0.42 and place(seal, "hind_fin_end_L")[2] < -0.8
    gaps = np.diff([place(larva, f"chain_{i}") for i in range(1, 11)], axis=0)
    assert np.linalg.norm(gaps, axis=1).std() < 0.015 and larva.joint("eye_L").parent == "chain_10"
    front = lay_plan(cast["chain"], "chain", {"joints": 4, "root": "front"})
    assert place(front, "chain_1")[2] > place(front, "chain_4")[2] and "chain_5" not in front.joint_index
    assert place(bust, "jaw_end")[2] > place(bust, "jaw")[2] and place(bust, "ear_L")[1] > place(bust, "eye_L")[1]
    assert "jaw" not in lay_plan(cast["head"], "head", {"jaw": "no"}).joint_index


def test_a_body_of_blocks_that_hardly_touch_is_laid_too():
    """A chain of boxes with gaps: the trade wants one joint a block."""
    rng = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], float)
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    points = np.vstack([rng * 0.04 + [0, 0.05, 0.085 * i] for i in range(8)])
    faces = np.vstack([np.array(quads) + 8 * i for i in range(8)])
    c = character_from_mesh(
        RawMesh(points, np.arange(0, 4 * len(faces) + 1, 4), faces.ravel(), np.zeros(len(faces), int), ["body"]),
        "blocks",
    )
    made = lay_plan(c, "chain", {"joints": 8})
    z = np.array([place(made, f"chain_{i}")[2] for i in range(1, 9)])
    block = np.abs(z[:, None] - 0.085 * np.arange(8)).argmin(1)
    assert sorted(block) == list(range(8))


def test_toes_begin_inside_the_foot(cast):
    c = cast["quadruped"]
    toes = lay_plan(c, "quadruped", {"toes": -1})
    solid = body_solid(c, 200)
    for stem, ends in (("fore_toe", 0.0), ("toe", 0.0)):
        # Three toes a foot, 4.6 cm apart, as the generator made them.
        tips = np.array([place(toes, f"{stem}_{i}_end_L") for i in (1, 2, 3)])
        assert f"{stem}_4_1_L" not in toes.joint_index and np.diff(tips[:, 0]) == pytest.approx(
            [0.055, 0.055], abs=0.015
        )
        for i in (1, 2, 3):
            first = place(toes, f"{stem}_{i}_1_L")
            assert solid.contains(first[None])[0] and tips[i - 1][2] - first[2] > 0.03 + ends
            assert toes.joint(f"{stem}_{i}_1_L").parent == ("ball_L" if stem == "toe" else "fore_ball_L")
    assert all(s > 0 for s in curl_senses(toes)["ball_L"].values())


def test_landmarks_lead_and_the_joints_between_follow(cast):
    c = cast["biped"]
    found = landmarks_of(c, "biped", {})
    words = {word for word, _ in found.values()}
    assert {"left wrist", "left elbow", "right knee", "crown", "tail tip"} <= words
    auto = lay_plan(c, "biped", {})
    to = found["hand_L"][1] + [0.0, 0.02, 0.0]
    made = lay_plan(c, "biped", {}, {"hand_L": tuple(to)})
    assert place(made, "hand_L") == pytest.approx(to) and place(made, "hand_R") == pytest.approx(to * [-1, 1, 1])
    followed = place(made, "thumb_1_L") - place(auto, "thumb_1_L")
    assert 0.003 < followed[1] < 0.02  # what lies near it comes along
    assert np.allclose(place(made, "foot_L"), place(auto, "foot_L"), atol=2e-3)
    with pytest.raises(NotFound, match="no landmark"):
        lay_plan(c, "biped", {}, {"nose": (0, 0, 0)})


def test_own_plans_are_refitted_to_another_body(otter):
    """A skeleton with an extra chain, carried from the otter to a body of human proportions and back again."""
    grown, _ = apply_step(
        otter.with_(kits=(), controls=(), skin=None),
        "joints.draw",
        {
            "places": [[0, 0.75, -0.08], [0, 0.70, -0.12], [0, 0.66, -0.15]],
            "parent": "chest",
            "name": "satchel",
            "deforms": False,
        },
    )
    plan = OwnPlan.model_validate_json(save_plan(grown, "with satchel").model_dump_json())
    other = character_from_mesh(mannequin(), "mannequin")
    made = lay_own_plan(other, plan)
    own = lay_plan(other, "biped", {})
    for n in ("hips", "head", "forearm_L", "hand_R", "shin_L"):
        assert np.linalg.norm(place(made, n) - place(own, n)) < 0.04 * other.size
    back = place(made, "chest")[2] - place(made, "satchel_2")[2]
    assert back > 0.05 * other.size and place(made, "satchel_1")[0] == 0.0
    again = lay_own_plan(otter, plan)
    assert max(np.linalg.norm(place(again, n) - place(grown, n)) for n in ("hips", "hand_L", "tail_3")) < 2e-3
    kitted = lay_own_plan(otter, save_plan(otter, "rigged"))
    assert {k.name for k in kitted.kits} == {k.name for k in otter.kits}
    with pytest.raises(StepRefused, match="no joints"):
        save_plan(other, "nothing")


def test_plans_refuse_in_words(cast, tube_character):
    assert set(BUILT_IN) == set(PLANS) and all(load_recipe(n).steps for n in BUILT_IN)
    for plan, words in (
        ("quadruped", "four feet"),
        ("many-legged", "four or more legs"),
        ("biped", "two arms and two legs"),
        ("winged", "two wings"),
    ):
        with pytest.raises(StepRefused, match=words):
            lay_plan(tube_character, plan, {})
    with pytest.raises(BadParameters, match="spine"):
        lay_plan(cast["biped"], "biped", {"spine": 99})
    with pytest.raises(NotFound, match="There are: biped"):
        lay_plan(cast["biped"], "centaur", {})
