"""What figures wear and hold is no body: joints aren't looked for in it, and small hard things don't bend.

Bodies are the judging kit's, at rest and posed, with things of our own on them (tests/judging/dressed.py).
"""

import numpy as np
import pytest

from tests.judging.builds import by_chance, grown
from tests.judging.dressed import dressed, hair, swept
from tests.judging.posing import at_rest, posed
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.topology import topology_of
from vonkel.core.plans import find_landmarks, lay_plan, propose
from vonkel.core.plans.accessories import accessories, apart_words, body_alone
from vonkel.core.poses import pose_from_turns, trial_poses
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import bind_skin

RINGS, STRIPS, HELD = ("belt", "collar"), ("hair",), ("staff",)


def off(made, truth):
    """The middle and the worst error of deforming joints, as shares of the size."""
    far = [
        np.linalg.norm(np.array(j.place) - truth.joint(j.name).place) / truth.size
        for j in made.joints
        if j.deforms and j.name in truth.joint_index
    ]
    return float(np.median(far)), max(far)


@pytest.mark.parametrize("build", ["reed", "runner", "hound"])
def test_what_is_worn_and_held_is_told_from_the_body(build):
    truth = at_rest(build)[1]
    figure, names = dressed(truth)
    told = {(names[a.part], a.kind) for a in accessories(figure)}
    assert {(n, "ring") for n in RINGS if n in names.values()} <= told
    assert {(n, "strip") for n in STRIPS} <= told and {(n, "held") for n in HELD if n in names.values()} <= told
    alone = body_alone(figure)
    assert alone.part("body").points == figure.part("body").points
    words = apart_words(figure)
    assert all(p in words for p, n in names.items() if n in (*RINGS, *STRIPS, *HELD))
    assert words in propose(figure).words() and words in find_landmarks(figure, truth.plan, {}).words


@pytest.mark.parametrize(("build", "worn"), [("reed", "belt"), ("satyr", "staff"), ("jerboa", "hair"), ("runner", "")])
def test_joints_are_laid_as_into_the_bare_body(build, worn):
    """Each of these led arms or a tail astray, by up to .8 of the size, and some of them surely."""
    truth = at_rest(build)[1]
    figure = dressed(truth, only=(worn,) if worn else ("hair", "belt", "collar", "staff", "shirt", "button"))[0]
    bare, with_it = off(lay_plan(at_rest(build)[0], "biped", {}), truth), off(lay_plan(figure, "biped", {}), truth)
    assert with_it[0] < bare[0] + 0.01 and with_it[1] < bare[1] + 0.02
    assert propose(figure).best.plan == propose(at_rest(build)[0]).best.plan


def test_a_body_in_parts_is_all_body():
    """Blocks, patches cut open along every joint, and holes: limbs in pieces are limbs."""
    for name, seed in (("otterhound", 412), ("stalker", 412), ("ram", 418), ("saiga", 418)):
        assert not accessories(posed(name, seed, 1.0, "parts").mesh)
    for mesh in (at_rest("bat")[0], at_rest("beetle")[0], grown(by_chance(5003), "chance")[0]):
        assert not accessories(mesh) and body_alone(mesh) is mesh


def test_what_is_strips_all_over_is_what_it_is_made_of():
    places, faces = hair(np.zeros(3), 0.2, 1.0, np.random.default_rng(3))
    starts = np.arange(0, 4 * len(faces) + 1, 4)
    mesh = RawMesh(places, starts, np.concatenate(faces), np.zeros(len(faces), np.int64), ["mop"])
    assert not accessories(character_from_mesh(mesh, "mop"))


def stretched(bound, parts):
    """How many times as long as at rest an edge of some parts gets in an ordinary pose."""
    e = np.concatenate([e for p in parts for e in [edges_of(bound, p)]])
    deformer, most = Deformer(bound), 0.0
    for pose in (p for p in trial_poses(bound) if p.ordinary):
        at = deformer.deform(pose_from_turns(bound, pose.turns))
        long, rest = (np.linalg.norm(x[e[:, 0]] - x[e[:, 1]], axis=1) for x in (at, bound.points))
        most = max(most, float((long / rest).max()))
    return most


def edges_of(c, part):
    low, high = c.part(part).points
    e = topology_of(c).edges
    return e[(e[:, 0] >= low) & (e[:, 0] < high)]


def test_buttons_move_as_one():
    truth = at_rest("runner")[1]
    figure, names = dressed(truth, only=("button",))
    bound = bind_skin(figure.with_(joints=truth.joints, plan=truth.plan), deforming="linear")
    assert stretched(bound, names) < 1.3  # doubled before they were held as one
    for part in names:
        rows = np.sort(bound.arrays["skin/weights"][slice(*bound.part(part).points)], 1)
        assert np.ptp(rows, axis=0).max() < 1e-6


def test_what_a_bone_passes_through_bends():
    """A small ball that is an elbow isn't a button."""
    truth = at_rest("runner")[1]
    elbow, r = np.array(truth.joint("forearm_L").place), 0.02 * truth.size
    places, faces = swept(elbow - [r, 0, 0], elbow + [r, 0, 0], r * np.sin(np.linspace(0.02, np.pi - 0.02, 9)))
    whole = np.split(truth.arrays["face_corners"].astype(int), truth.arrays["face_starts"][1:-1])
    flat = [*whole, *(np.array(f) + len(truth.points) for f in faces)]
    mesh = RawMesh(
        np.concatenate([truth.points, places]),
        np.concatenate([[0], np.cumsum([len(f) for f in flat])]),
        np.concatenate(flat),
        np.repeat([0, 1], [len(whole), len(faces)]),
        ["body", "ball"],
    )
    bound = bind_skin(character_from_mesh(mesh, "elbow").with_(joints=truth.joints, plan=truth.plan))
    assert np.ptp(np.sort(bound.arrays["skin/weights"][slice(*bound.part("ball").points)], 1), axis=0).max() > 0.1
