"""Sweeps, what trials measure against answers that are known, what is tried again after a change, and limits that guard."""

import json

import numpy as np
import pytest
import trimesh

from tests.core.test_faces import do, planned
from tests.core.test_trials import skin
from tests.test_cli import vonkel
from vonkel.core.character import Freedom
from vonkel.core.errors import BadFile
from vonkel.core.handover import written
from vonkel.core.joints.freedom import with_freedom
from vonkel.core.skin import Deformer
from vonkel.core.trials import HANDED_OVER, run_trials, trial_pose
from vonkel.core.trials.distortion import distortions, rest_maps, worst_distortion
from vonkel.core.trials.measure import Measurer
from vonkel.core.trials.measures import MEASURES
from vonkel.core.trials.run import _KEPT
from vonkel.core.trials.sweeps import STEPS, sweeps
from vonkel.core.weights import table_of, with_table
from vonkel.readings.guard import breaches, parse_limits
from vonkel.readings.trial_page import trial_page, trial_table


def energies(points, posed, triangles):
    out = np.ones(len(triangles))
    distortions(posed, triangles, rest_maps(points, triangles), out)
    return out


# -- known answers -------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("scale", [0.5, 1.0, 1.3, 2.0])
def test_a_ball_that_is_sized_has_the_energy_of_its_scale(scale):
    """E = σ1² + σ2² + σ1⁻² + σ2⁻² (Smith & Schaefer 2015, section 3.1): with both σ = s, (s² + s⁻²) / 2 of a stiff move's."""
    ball = trimesh.creation.icosphere(3)
    energy = energies(ball.vertices, scale * ball.vertices, ball.faces)
    assert np.allclose(energy, (scale**2 + scale**-2) / 2, rtol=1e-9)


def test_a_stiff_move_costs_nothing_and_a_shear_what_is_known():
    ball = trimesh.creation.icosphere(2)
    turn = trimesh.transformations.rotation_matrix(1.1, [1, 2, 3])[:3, :3]
    assert np.allclose(energies(ball.vertices, ball.vertices @ turn.T + [3, 2, 1], ball.faces), 1, atol=1e-9)
    sheet = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]])
    faces = np.array([[0, 1, 2], [0, 2, 3]])
    for gamma in (0.2, 1.0, 3.0):
        sheared = sheet + np.outer(sheet[:, 1], [gamma, 0, 0])
        assert np.allclose(energies(sheet, sheared, faces), 1 + gamma**2 / 2, rtol=1e-12)


def test_a_twisted_cylinder_shears_by_its_radius_times_the_twist():
    """The skin of a cylinder of radius r twisted by φ over its length is sheared by r φ / length."""
    tube = trimesh.creation.cylinder(radius=0.1, height=1.0, sections=96).subdivide().subdivide().subdivide()
    p = np.array(tube.vertices)
    side = np.abs(np.hypot(p[:, 0], p[:, 1]) - 0.1) < 2e-3
    faces = np.array(tube.faces)[side[tube.faces].all(1) & (np.abs(tube.face_normals[:, 2]) < 0.5)]
    angle = 3.0 * (p[:, 2] + 0.5)
    c, s = np.cos(angle), np.sin(angle)
    posed = np.stack([c * p[:, 0] - s * p[:, 1], s * p[:, 0] + c * p[:, 1], p[:, 2]], 1)
    energy, area = energies(p, posed, faces), trimesh.Trimesh(p, faces, process=False).area_faces
    assert np.average(energy, weights=area) == pytest.approx(1 + (0.1 * 3.0) ** 2 / 2, rel=0.01)
    assert worst_distortion(energy, area)[0] == pytest.approx(1 + 0.3**2 / 2, rel=0.05)


def test_slivers_and_points_in_one_place_measure_nothing_wild():
    p = np.array([[0.0, 0, 0], [1, 0, 0], [2, 0, 0], [0, 1, 0]])
    energy = energies(p, p * 5, np.array([[0, 1, 2], [0, 1, 3], [1, 1, 3]]))
    assert energy[0] == 1 and energy[2] == 1 and np.isfinite(energy).all()
    assert worst_distortion(np.zeros(0), np.zeros(0)) == (1.0, 0)


def test_an_even_body_in_an_even_pose_must_be_even():
    c = skin("otter")
    clean = {k.name: k.figures.uneven for k in run_trials(c, pictures=False)}
    assert max(clean.values()) < 1e-4 * c.size
    table = table_of(c)
    left = table.of("forearm_L")
    spoilt = with_table(c, table.replaced("forearm_L", 0.5 * left).added("upper_arm_L", 0.5 * left))
    cards = {k.name: k for k in run_trials(spoilt, pictures=False)}
    assert cards["elbows 120°"].found["uneven"].share > 1
    point = cards["elbows 120°"].found["uneven"].point
    assert left[point] > 0 or table.of("forearm_R")[point] > 0
    assert cards["one arm up"].found["uneven"].value == 0  # not the same on both sides: nothing to compare


# -- sweeps --------------------------------------------------------------------------------------------------------------
def test_joints_go_through_their_freedom_rest_among_its_angles():
    c = skin("otter")
    every = {s.name: s for s in sweeps(c)}
    elbow = every["forearm_L bends"]
    assert len(elbow.angles) == STEPS and 0.0 in elbow.angles and list(elbow.angles) == sorted(elbow.angles)
    assert np.degrees(elbow.angles[-1]) > 110 and "shin_L bends" in every and "eye_L bends" not in every
    own = with_freedom(c, "forearm_L", Freedom(low=(None, None, -0.2), high=(None, None, 1.0)), both_sides=False)
    mine = next(s for s in sweeps(own) if s.joint == "forearm_L")
    assert mine.angles[0] == pytest.approx(-0.2) and mine.angles[-1] == pytest.approx(1.0)
    locked = with_freedom(c, "forearm_L", Freedom(locked=(True, True, True)), both_sides=False)
    assert not [s for s in sweeps(locked) if s.joint == "forearm_L"]


def test_a_sweeps_card_is_its_worst_angle_and_holds_the_curves():
    c = skin("otter")
    cards = {
        k.curve["joint"] + str(k.curve["axis"]): k for k in run_trials(c, pictures=False, with_sweeps=True) if k.curve
    }
    assert len(cards) == len(sweeps(c))
    for card in cards.values():
        curve = card.curve
        worst = int(np.argmax(curve["badness"]))
        assert card.name == curve["names"][worst] and card.badness == pytest.approx(max(curve["badness"]), abs=1e-3)
        rest = curve["angles"].index(0.0)
        assert curve["grades"][rest] == "A" and all(abs(v[rest]) < 1e-6 for v in curve["volumes"].values())
        assert set(curve["measures"]) == set(MEASURES)
    sweep = next(s for s in sweeps(c) if s.name == "shin_L bends")
    pose = trial_pose(c, sweep.name_at(sweep.angles[-1]))
    k, rest = c.joint_index["foot_L"], np.array(c.joint("foot_L").place)
    knee = np.array(c.joint("shin_L").place)
    now = pose.joints[k, :, 3]
    assert np.linalg.norm(now - knee) == pytest.approx(np.linalg.norm(rest - knee))
    cos = (now - knee) @ (rest - knee) / np.linalg.norm(rest - knee) ** 2
    assert np.arccos(cos) == pytest.approx(sweep.angles[-1], abs=0.05)
    assert trial_pose(c, "shin_L bends +999°") is None
    assert [x.name for x in run_trials(c, pictures=False, only=sweep.name_at(sweep.angles[-1]))] == [
        sweep.name_at(sweep.angles[-1])
    ]


def test_only_poses_that_a_change_moves_are_measured_again(monkeypatch):
    c = skin("otter")
    first = run_trials(c)
    measured = []
    real = Measurer.measure
    monkeypatch.setattr(Measurer, "measure", lambda self, p, **more: measured.append(1) or real(self, p, **more))
    again = run_trials(c)
    assert not measured and [(a.name, a.badness, a.picture) for a in again] == [
        (a.name, a.badness, a.picture) for a in first
    ]
    table = table_of(c)
    held = np.flatnonzero((table.of("shin_L") > 0.55) & (table.of("shin_L") < 0.95))[:40]
    changed = with_table(c, table.given_rows(held, "shin_L"))
    now = {k.name: k for k in run_trials(changed)}
    assert 0 < len(measured) < len(first)
    afresh = Measurer(changed)
    card = max(now.values(), key=lambda k: k.badness)
    points = Deformer(changed).deform(trial_pose(changed, card.name), HANDED_OVER).astype(float)
    assert real(afresh, points).stretch_most == pytest.approx(card.figures.stretch_most)
    _KEPT.clear()
    for k in run_trials(changed):  # what was put together of few points is what all of them give
        assert k.badness == pytest.approx(now[k.name].badness, rel=1e-4, abs=1e-6), k.name
        assert k.gap == pytest.approx(now[k.name].gap, rel=1e-4, abs=1e-6)


def test_the_worst_places_lie_apart_and_say_who_holds_them():
    c = skin("otter")
    for card in run_trials(c, pictures=False):
        where = c.points[list(card.figures.places)]
        assert len(card.holders) == len(where) <= 5
        d = np.linalg.norm(where[:, None] - where[None], axis=2) + np.eye(len(where))
        assert d.min(initial=1) > 0.05 * c.size
        assert all(n in c.skin.joints for n in card.holders)
        if len(where):
            assert card.as_dict()["places"][0]["point"] == card.figures.places[0]


# -- limits --------------------------------------------------------------------------------------------------------------
def test_limits_break_where_they_are_broken():
    cards = [k.as_dict() for k in run_trials(skin("otter"), pictures=False)]
    worst = cards[0]
    assert not breaches(cards, parse_limits(b'{"grade": "D"}', "x"))
    assert any(worst["name"] in line for line in breaches(cards, parse_limits(b'{"grade": "A"}', "x")))
    longest = max(m["value"] for c in cards for m in c["measures"] if m["key"] == "longest_edge")
    edge = {"measures": {"longest_edge": longest - 0.01}}
    assert len(breaches(cards, parse_limits(json.dumps(edge).encode(), "x"))) == 1
    shortest = min(m["value"] for c in cards for m in c["measures"] if m["key"] == "shortest_edge")
    assert breaches(cards, parse_limits(json.dumps({"measures": {"shortest_edge": shortest + 0.01}}).encode(), "x"))
    assert not breaches(cards, parse_limits(json.dumps({"measures": {"shortest_edge": shortest}}).encode(), "x"))
    own = {"grade": "A", "cards": {c["name"]: {"grade": "D"} for c in cards}}
    assert not breaches(cards, parse_limits(json.dumps(own).encode(), "x"))
    assert not breaches(
        cards, parse_limits(json.dumps({"grade": "A", "without": [c["name"] for c in cards]}).encode(), "x")
    )
    gone = breaches(cards, parse_limits(b'{"cards": {"flying": {"grade": "A"}}}', "x"))
    assert gone == ["flying: there is no such trial"]


@pytest.mark.parametrize(
    ("data", "why"),
    [(b"{", "no JSON"), (b'{"grade": "E"}', "grade"), (b'{"colour": 1}', "colour"), (b'{"measures": {"warmth": 1}}', "warmth"),
     (b'{"measures": {"rough": "much"}}', "rough"), (b"[]", "limits"), (b"\xff", "no JSON")],
)  # fmt: skip
def test_limits_that_are_none_are_refused_in_words(data, why):
    with pytest.raises(BadFile, match=why):
        parse_limits(data, "limits.json")


def test_the_page_stands_alone_and_escapes_and_the_table_holds_every_angle():
    c = skin("otter").model_copy(update={"name": "<b>Lutra</b>", "about": 'an "otter"'})
    cards = [k.as_dict() for k in run_trials(c, pictures=False, with_sweeps=True)][:12]
    page = trial_page({"name": c.name, "about": c.about, "points": 1, "joints": 2}, cards, ["sit: <i>too far</i>"])
    assert "<b>Lutra" not in page and "<i>too" not in page and "http" not in page and page.count("<article>") == 12
    rows = trial_table(cards).splitlines()
    angles = sum(len(k["sweep"]["angles"]) for k in cards if "sweep" in k)
    assert len(rows) == 1 + len(cards) + angles and rows[0].startswith("card,grade")
    formula = trial_table([{**cards[0], "name": "=1+1", "sweep": None}])
    assert "'=1+1" in formula


def test_the_command_line_guards_files_and_folders(tmp_path):
    c = do(planned("beetle"), "skin.bind")
    folder = tmp_path / "troupe"
    folder.mkdir()
    for name in ("tock", "tick"):
        (folder / f"{name}.glb").write_bytes(written(c, ".glb"))
    limits = tmp_path / "limits.json"
    limits.write_text('{"measures": {"longest_edge": 1.01}}')
    page, table = tmp_path / "tock.html", tmp_path / "tock.csv"
    done = vonkel("trial", folder / "tock.glb", "--limits", limits, "--page", page, "--table", table, ok=False)
    assert done.returncode == 1 and "longest edge" in done.stderr and json.loads(done.stdout)[0]["grade"]
    assert (
        "data:image/png" in page.read_text()
        and "longest edge" in page.read_text()
        and table.read_text().count("\n") > 4
    )
    limits.write_text('{"grade": "D"}')
    both = vonkel("trial", folder, "--limits", limits, "--page", tmp_path / "pages", "--jobs", 2)
    told = json.loads(both.stdout)
    assert len(told) == 2 and {p.name for p in (tmp_path / "pages").iterdir()} == {"tick.html", "tock.html"}
    (tmp_path / "none").mkdir()
    refused = vonkel("trial", tmp_path / "none", ok=False)
    assert refused.returncode not in (0, 1) and "No rigged file" in refused.stderr
