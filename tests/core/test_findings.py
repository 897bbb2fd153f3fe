"""Findings: each fault is found, shown where it is, and mended by its own mend; a sound character has none."""

import numpy as np
import pytest

from tests.conftest import tube
from vonkel.core.character import Joint
from vonkel.core.formats import read_character
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.rotations import matrix_from_rotation_vector
from vonkel.core.geometry.topology import topology_of
from vonkel.core.geometry.transform import transformed
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.joints.survey import LEAST_LOOPS, flesh_at, limb_gaps, loops_round
from vonkel.core.skin.bind import weights_of
from vonkel.core.trials.pivot import limb_share, swings_for, try_pivot
from vonkel.demo import DATA
from vonkel.readings import findings
from vonkel.readings.compare import compare
from vonkel.steps import STEPS, apply_step


def about(c, words):
    return [f for f in findings(c) if words in f.title]


def mended(c, f):
    return apply_step(c, f.mend.step, f.mend.params)[0]


def raw(c, points=None, corners=None, starts=None):
    topo = topology_of(c)
    starts = topo.starts if starts is None else starts
    return RawMesh(
        c.points if points is None else points,
        starts,
        topo.corners if corners is None else corners,
        np.zeros(len(starts) - 1, int),
        ["body"],
    )


@pytest.fixture(scope="module")
def plain():
    return character_from_mesh(tube(), "tube")


# -- the mesh ----------------------------------------------------------------------------------------------------
def test_a_sound_mesh_has_no_findings(plain):
    assert not [f for f in findings(plain) if f.station == "model"]


def test_every_fault_of_a_mesh_is_found_with_the_points_it_is_at(plain):
    topo, n = topology_of(plain), len(plain.points)
    points, corners, starts = plain.points, topo.corners.copy(), topo.starts
    cases = {
        "open border": raw(plain, corners=corners[4:], starts=starts[1:] - 4),
        "disagree about outside": raw(plain, corners=np.r_[corners[3::-1], corners[4:]]),
        "lies twice": raw(plain, corners=np.r_[corners, corners[:4]], starts=np.r_[starts, starts[-1] + 4]),
        "no area": raw(plain, corners=np.r_[corners, 0, 1, 1], starts=np.r_[starts, starts[-1] + 3]),
        "belongs to no face": raw(plain, points=np.vstack([points, [[0.0, 0.5, 0.0]]])),
        "stray island": raw(
            plain, points=np.vstack([points, [[0.2, 0.5, 0], [0.21, 0.5, 0], [0.2, 0.51, 0]]]),
            corners=np.r_[corners, n, n + 1, n + 2], starts=np.r_[starts, starts[-1] + 3],
        ),
        "differ by up to": raw(plain, points=points + np.where(np.arange(n) == 3, 0.004, 0.0)[:, None] * [1, 0, 0]),
    }  # fmt: skip
    for words, mesh in cases.items():
        c = character_from_mesh(mesh, "faulty")
        found = about(c, words)
        assert len(found) == 1, words
        assert found[0].points and max(found[0].points) < len(c.points), words
        if found[0].mend:
            assert not about(mended(c, found[0]), words), words


def test_size_standing_and_leftover_transforms(plain):
    tiny, _ = apply_step(plain, "model.resize", {"metres": 0.0015})
    assert about(tiny, "The model is 1.50 mm large")
    aside = plain.with_(arrays={"points": plain.points + [0.5, 0.3, 0]})
    off = about(aside, "stand on the middle")
    assert off and not about(mended(aside, off[0]), "stand on the middle")
    crate = read_character("crated.glb", (DATA / "crated.glb").read_bytes())
    carried = about(crate, "leftover transform")
    assert "scale 0.01" in carried[0].detail and not about(mended(crate, carried[0]), "leftover transform")


@pytest.mark.parametrize("up,axis", [("z", 2), ("-z", 2), ("x", 0), ("-x", 0), ("-y", 1)])
def test_any_axis_may_have_pointed_up(otter_mesh, up, axis):
    """Standing a turned model up is a rotation: lengths stay, and the height is what it was along that axis."""
    long = np.ptp(otter_mesh.points[:, axis])
    made, said = apply_step(otter_mesh, "model.stand", {"up": up})
    assert np.ptp(made.points[:, 1]) == pytest.approx(long) and made.points[:, 1].min() == pytest.approx(0, abs=1e-12)
    a, b = 5, 9000
    assert np.linalg.norm(made.points[a] - made.points[b]) == pytest.approx(
        np.linalg.norm(otter_mesh.points[a] - otter_mesh.points[b])
    )
    assert f"({up} was up)" in said and "lowest point" in said


def test_facing_is_turned_by_any_angle_and_back(otter):
    made, _ = apply_step(otter, "model.stand", {"turn": 33.0, "centre": False, "ground": False})
    back, _ = apply_step(made, "model.stand", {"turn": -33.0, "centre": False, "ground": False})
    assert np.allclose(back.points, otter.points, atol=1e-12)
    for a, b in zip(back.joints, otter.joints, strict=True):
        assert np.allclose(a.place, b.place, atol=1e-12) and abs(np.dot(a.turn, b.turn)) == pytest.approx(1)


# -- ready to bend -----------------------------------------------------------------------------------------------
def jointed(rings, places=(0.02, 0.5, 0.98)):
    c = character_from_mesh(tube(rings), "tube")
    joints = [
        Joint(name=f"t{i}", parent=f"t{i - 1}" if i else None, place=(0.0, y, 0.0), role=f"t{i}")
        for i, y in enumerate(places)
    ]
    joints.append(Joint(name="end", parent=joints[-1].name, place=(0.0, 1.0, 0.0), deforms=False))
    return turn_down_bones(c.with_(joints=tuple(joints)))


@pytest.mark.parametrize("rings", [5, 9, 17, 33, 65])
def test_edge_loops_round_a_joint_are_counted(rings):
    """A tube of known rings, 0.1 m thick: those within 0.1 m of the joint in its middle."""
    y = np.linspace(0, 1, rings)
    c = jointed(rings)
    thick = flesh_at(c, np.array([0.0, 0.5, 0.0]))
    assert 0.08 < thick < 0.1
    assert loops_round(c)["t1"] == pytest.approx((np.abs(y - 0.5) <= thick).sum(), abs=0.5)


def test_too_few_loops_are_found_and_sliding_some_in_mends_it():
    c = jointed(7)
    found = about(c, "too few edge loops")
    assert found and found[0].joints == ["t1"] and found[0].mend.step == "model.slide_loop"
    before = loops_round(c)["t1"]
    for _ in range(3):
        more = about(c, "too few edge loops")
        if more:
            c = mended(c, more[0])
    assert loops_round(c)["t1"] > before and loops_round(c)["t1"] >= LEAST_LOOPS
    assert not about(c, "too few edge loops")


def test_triangles_count_as_the_loops_they_stand_for():
    quads = jointed(17)
    cut, _ = apply_step(quads, "model.triangulate", {"faces": list(range(16 * 16))})
    assert loops_round(cut)["t1"] == pytest.approx(loops_round(quads)["t1"], abs=1.0)


def test_room_between_limb_and_body_at_rest(otter):
    gaps = limb_gaps(otter)
    assert {"upper_arm_L", "thigh_L"} <= set(gaps)
    gap, point = gaps["upper_arm_L"]
    assert 0.03 < gap < 0.25 and otter.points[point, 0] > 0.1  # Lutra's arms stand away from her flanks
    assert not about(otter, "from the body at rest")


def test_a_joint_that_rests_at_the_end_of_its_range_is_told(otter):
    c, _ = apply_step(otter, "joints.free", {"joint": "shin_L", "low": [None, None, -2], "high": [None, None, 150]})
    found = about(c, "far from the middle")
    assert found and found[0].joints == ["shin_L"] and "74°" in found[0].detail


# -- pivots ------------------------------------------------------------------------------------------------------
def test_a_limb_is_shared_out_softly_round_its_pivot(otter):
    from vonkel.core.joints.edit import descendants

    share = limb_share(otter, {"upper_arm_L", *descendants(otter, "upper_arm_L")})
    p = otter.points
    hand = np.linalg.norm(p - otter.joint("middle_2_L").place, axis=1) < 0.03
    other = p[:, 0] < -0.05
    assert share[hand].min() > 0.99 and share[other].max() < 0.01
    near = np.linalg.norm(p - otter.joint("upper_arm_L").place, axis=1) < 0.11
    assert ((share[near] > 0.05) & (share[near] < 0.95)).mean() > 0.2


def test_a_misplaced_hip_is_worse_than_the_one_it_was_moved_from(otter):
    bare = otter.with_(kits=(), controls=(), skin=None)
    tried = {t.name: t for t in try_pivot(bare, "thigh_L", pictures=False)}
    place = np.array(bare.joint("thigh_L").place)
    wrong, _ = apply_step(bare, "joints.move", {"joint": "thigh_L", "place": (place + [0.03, 0.02, 0.05]).tolist()})
    again = {t.name: t for t in try_pivot(wrong, "thigh_L", pictures=False)}
    assert again["as it is"].badness > 1.3 * tried["as it is"].badness
    best = min(again.values(), key=lambda t: t.badness)
    assert np.linalg.norm(np.array(best.place) - place) < np.linalg.norm(np.array(again["as it is"].place) - place)


def test_swings_suit_the_limb(otter):
    arm, leg, ear = (otter.joint(n) for n in ("upper_arm_R", "thigh_L", "ear_L"))
    assert [s.name for s in swings_for(arm, np.array([-1.0, 0, 0]))] == ["down", "up", "forward"]
    assert swings_for(arm, np.array([-1.0, 0, 0]))[0].towards[0] < 0  # the right arm hangs on the right
    assert [s.name for s in swings_for(leg, np.array([0, -1.0, 0]))] == ["forward", "out", "back"]
    for s in swings_for(ear, np.array([0.6, 0.8, 0.0])):
        assert s.towards @ [0.6, 0.8, 0.0] == pytest.approx(0.5)  # sixty degrees each way


# -- two states --------------------------------------------------------------------------------------------------
def test_differences_in_words(otter):
    moved, _ = apply_step(otter, "joints.move", {"joint": "head", "place": [0, 0.90, 0.0]})
    same = compare(otter, otter)["said"]
    assert same == ["Nothing differs."]
    said = " / ".join(compare(otter, moved)["said"])
    assert "head the farthest" in said
    less, _ = apply_step(otter, "shapes.remove", {"shape": "mouth open"})
    assert any("1 shape gone: mouth open" in s for s in compare(otter, less)["said"])
    linear, _ = apply_step(otter, "model.slide_loop", {"edge": [int(v) for v in otter.arrays["face_corners"][:2]]})
    assert any(f"the mesh went from {len(otter.points):,}" in s for s in compare(otter, linear)["said"])


# -- every step --------------------------------------------------------------------------------------------------
def test_no_step_changes_the_character_it_was_given(otter):
    """Steps are pure: the old character is the same to the byte afterwards, arrays included."""
    edge = [int(v) for v in otter.arrays["face_corners"][:2]]
    tries = {
        "model.weld": {"millimetres": 2.0}, "model.slide_loop": {"edge": edge}, "model.symmetrise": {},
        "model.part": {"part": "body", "shading": "hard"}, "model.flip": {"part": "tongue"},
        "model.join_parts": {"parts": ["eye left", "eye right"]}, "model.triangulate": {"faces": [3, 4]},
        "joints.insert": {"joint": "tail_2"}, "joints.mirror": {"joint": "ear_L", "manner": "parallel"},
        "joints.orient": {"joints": ["ear_L"], "rule": "up"}, "joints.new_rest": {"values": {"head turn": {"turn z": 0.2}}},
        "joints.free_by_table": {"table": "dog"}, "joints.stiffen": {"joints": ["neck"]}, "joints.bring_inside": {"joints": ["neck"]},
    }  # fmt: skip
    before = otter.key
    for name, params in tries.items():
        made, said = apply_step(otter, name, params)
        assert said and made is not otter, name
        assert otter.with_().key == before, name
    assert set(tries) <= set(STEPS)


@pytest.mark.parametrize("degrees", (0.0, 130.0))
def test_points_that_follow_the_other_sides_limb_are_told_however_a_body_stands(otter, degrees):
    """Of a body that stands turned, left and right aren't those of x."""
    turn = matrix_from_rotation_vector(np.array([0.0, np.radians(degrees), 0.0]))
    stands = transformed(otter, turn, np.zeros(3))
    assert not about(stands, "limb of the other side")
    foot = np.argsort(-weights_of(otter, "foot_L"), kind="stable")[:40]
    index = stands.arrays["skin/joints"].copy()
    index[foot, 0] = stands.skin.joints.index("foot_R")
    planted = stands.with_(arrays={"skin/joints": index})
    (told,) = about(planted, "limb of the other side")
    assert told.title == "40 points follow a limb of the other side" and set(told.points) <= set(foot.tolist())
