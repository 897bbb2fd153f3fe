"""Brushes and other changes of single weights: rows stay rows, locks hold to the bit, distances run along the surface."""

import igl
import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from vonkel.core.errors import BadFile, BadParameters, StepRefused
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.formats.weights import read_weights, write_csv, write_json
from vonkel.core.geometry.rotations import matrix_from_rotation_vector
from vonkel.core.geometry.topology import topology_of
from vonkel.core.geometry.walking import ground_of
from vonkel.core.poses import pose_from_turns
from vonkel.core.skin import Deformer, reference
from vonkel.core.skin.bind import bind_skin
from vonkel.core.skin.brush import BRUSHES, Brush, Painting
from vonkel.core.skin.carrying import carried, source_of
from vonkel.core.skin.direct import BALL
from vonkel.core.skin.smoothing import mesh_of
from vonkel.core.skin.strays import strays_of
from vonkel.core.skin.zones import Zone, zone_of
from vonkel.core.trials.measure import Measurer
from vonkel.core.weights import table_of
from vonkel.steps import apply_step

LOOK = (0.0, 0.0, 0.0)  # from nowhere: both faces


@pytest.fixture(scope="module")
def tube(tube_character):
    return bind_skin(tube_character, influences=3)


def turned(*by):
    return matrix_from_rotation_vector(np.array(by, float))


def near(c, place):
    """The triangle nearest to a place, as a sample's first number."""
    middles = c.points[ground_of(c).triangles].mean(1)
    return int(np.linalg.norm(middles - place, axis=1).argmin())


def stroke(c, brush, *places, press=1.0, look=LOOK):
    painting = Painting(c, brush)
    painting.put([(near(c, p), 1 / 3, 1 / 3, press, *look) for p in places])
    return painting.result()


# -- along the surface ---------------------------------------------------------------------------------------------
@pytest.mark.parametrize("body, share", [("otter", 0.01), ("tube", 0.01)])
def test_distances_along_the_surface_against_exact_geodesics(body, share, request):
    """libigl's exact geodesics (Surazhsky et al. 2005, “Fast exact and approximate geodesics on meshes”)."""
    c = request.getfixturevalue(body)
    ground = ground_of(c)
    triangles = ground.of[ground.triangles].astype(np.int64)
    source = int(triangles[len(triangles) // 3, 0])
    at, far = ground.from_points(np.array([source]), np.zeros(1), 0.2 * c.size)
    assert 0.19 * c.size < far.max() < 0.2 * c.size
    none = np.zeros(0, np.int64)
    exact = igl.exact_geodesic(ground.places, triangles, np.array([source]), none, at.astype(np.int64), none)
    assert np.abs(far - exact).sum() / exact.sum() < share
    assert np.abs(far - exact).max() < 0.035 * exact.max()


def test_lines_are_walked_and_gaps_are_not(otter):
    ground = ground_of(otter)
    eye = otter.part(next(p.name for p in otter.parts if p.role == "eye")).points
    at, _ = ground.from_points(np.array([ground.of[eye[0]]]), np.zeros(1), otter.size)
    assert set(np.flatnonzero(np.isin(ground.of, at))) == set(range(*eye))  # the whole eye, and nothing of the body


# -- what a stroke does --------------------------------------------------------------------------------------------
def test_a_stroke_lays_on_once_however_often_it_passes(tube):
    brush = Brush(kind="add", joint="tail_3", radius=0.12, strength=0.3, both=False)
    place, other = np.array([0, 0.5, 0.1]), np.array([0, 0.55, 0.1])
    once = stroke(tube, brush, place, other)
    often = stroke(tube, brush, place, other, place, other, place)
    assert np.array_equal(once.arrays["skin/weights"], often.arrays["skin/weights"])
    grown = table_of(once).of("tail_3") - table_of(tube).of("tail_3")
    assert grown.max() == pytest.approx(0.3, abs=0.02) and grown.min() > -1e-6
    twice = stroke(once, brush, place, other)
    assert (table_of(twice).of("tail_3") - table_of(tube).of("tail_3")).max() > 0.4


def test_few_places_of_a_fast_hand_are_filled_in(tube):
    brush = Brush(kind="set", joint="tail_3", radius=0.12, strength=1.0, both=False)
    fast = stroke(tube, brush, [0, 0.3, 0.1], [0, 0.5, 0.1])
    slow = stroke(tube, brush, *([0, y, 0.1] for y in np.linspace(0.3, 0.5, 15)))
    moved = [table_of(c).of("tail_3") - table_of(tube).of("tail_3") for c in (fast, slow)]
    middle = np.flatnonzero((np.abs(tube.points[:, 1] - 0.4) < 0.05) & (tube.points[:, 2] > 0.09))
    assert min(m[middle].min() for m in moved) > 0.5
    assert np.abs(moved[0] - moved[1]).max() < 0.3


def test_front_only_leaves_the_far_side_and_through_takes_it(tube):
    place, look = [0, 0.5, 0.1], (0.0, 0.0, -1.0)
    back = tube.points[:, 2] < -0.05
    for through, front, reaches in ((True, True, False), (True, False, True), (False, False, False)):
        c = stroke(
            tube,
            Brush(kind="set", joint="tail_3", radius=0.25, strength=1.0, through=through, front=front, both=False),
            place,
            look=look,
        )
        held = table_of(c).of("tail_3") - table_of(tube).of("tail_3")
        assert (held[back].max() > 0.05) == reaches, (through, front)
        assert held[~back].max() > 0.5


def test_both_sides_are_painted_alike_also_where_the_mesh_is_but_nearly_symmetric(otter):
    random = np.random.default_rng(5)
    shaken = otter.with_(arrays={"points": otter.points + random.normal(0, 2e-4 * otter.size, otter.points.shape)})
    place = np.array(otter.joint("forearm_L").place) + [0, 0, 0.04]
    for c, close in ((otter, 1e-6), (shaken, 0.08)):
        done = stroke(c, Brush(kind="add", joint="hand_L", radius=0.06, strength=0.5), place)
        left, right = (table_of(done).of(n) - table_of(c).of(n) for n in ("hand_L", "hand_R"))
        assert left.max() > 0.3 and abs(left.max() - right.max()) < close
        assert left.sum() == pytest.approx(right.sum(), rel=close + 1e-4)
        assert (c.points[left > 0.01, 0] > 0).all() and (c.points[right > 0.01, 0] < 0).all()


def test_what_is_taken_away_goes_to_whoever_is_nearest(tube):
    alone = np.flatnonzero(table_of(tube).of("tail_3") > 0.999)
    assert len(alone)
    place = tube.points[alone[0]]
    done = stroke(tube, Brush(kind="take", joint="tail_3", radius=0.2, strength=1.0, fading=0.0, both=False), place)
    assert table_of(done).of("tail_3")[alone[0]] == 0.0
    assert table_of(done).of("tail_2")[alone[0]] == pytest.approx(1.0)  # its neighbour along the chain


def test_evening_goes_on_as_long_as_one_rubs_and_sharpening_undoes_it(tube):
    def roughness(c):
        t = table_of(c).of("tail_2")
        fan, row = ground_of(c).fans[:, 0], np.repeat(np.arange(len(c.points)), np.diff(ground_of(c).starts))
        return float(np.abs(t[fan] - t[row]).max())

    hard = tube
    for y in np.linspace(0.2, 0.6, 5):
        hard = stroke(hard, Brush(kind="sharpen", joint="", radius=0.3, strength=1.0, both=False), [0, y, 0.1])
    assert roughness(hard) > roughness(tube)
    places = [[0, y, 0.1] for y in np.linspace(0.2, 0.6, 12)]
    brush = Brush(kind="even", joint="", radius=0.2, strength=1.0, both=False)
    little, much = stroke(hard, brush, *places[:4]), stroke(hard, brush, *places, *places[::-1])
    assert little.arrays["skin/weights"].tobytes() != much.arrays["skin/weights"].tobytes()
    front = np.flatnonzero(hard.points[:, 2] > 0.08)
    t = [table_of(c).of("tail_2")[front].std() for c in (hard, much)]
    assert t[1] < t[0]


def test_strokes_that_cannot_be_are_refused(tube, otter_mesh):
    with pytest.raises(StepRefused, match="no skin"):
        Painting(otter_mesh, Brush(kind="add", joint="x"))
    locked, _ = apply_step(tube, "skin.lock", {"joints": ["tail_2"]})
    with pytest.raises(StepRefused, match="locked"):
        Painting(locked, Brush(kind="add", joint="tail_2"))
    with pytest.raises(BadParameters, match="no brush"):
        Painting(tube, Brush(kind="dust"))
    with pytest.raises(BadParameters, match="triangle"):
        Painting(tube, Brush(kind="add", joint="tail_2")).put([(1e6, 0, 0, 1, 0, 0, 0)])


# -- whatever is done, rows stay rows -------------------------------------------------------------------------------
POINT = st.integers(0, 273)
POINTS = st.lists(POINT, min_size=1, max_size=60)
JOINT = st.sampled_from(["tail_1", "tail_2", "tail_3"])
SHARE = st.floats(0, 1)
PLACE = st.tuples(st.integers(0, 500), SHARE, SHARE, SHARE, *(st.floats(-1, 1),) * 3)
CHANGES = st.one_of(
    st.tuples(
        st.just("skin.paint"),
        st.fixed_dictionaries(
            {
                "brush": st.sampled_from(list(BRUSHES)), "joint": JOINT, "radius": st.floats(0.01, 0.6), "strength": SHARE,
                "value": SHARE, "fading": SHARE, "through": st.booleans(), "front": st.booleans(), "both_sides": st.booleans(),
                "samples": st.lists(PLACE, min_size=1, max_size=5),
            }
        ),
    ),
    st.tuples(st.just("skin.hold"), st.fixed_dictionaries({"points": POINTS, "joint": JOINT, "weight": SHARE})),
    st.tuples(
        st.just("skin.gradient"),
        st.fixed_dictionaries(
            {"points": POINTS, "joint": JOINT, "start": st.just((0, 0, 0)), "end": st.just((0, 1, 0)), "low": SHARE, "high": SHARE}
        ),
    ),
    st.tuples(st.just("skin.scale"), st.fixed_dictionaries({"points": POINTS, "factors": st.dictionaries(JOINT, st.floats(0, 3), min_size=1)})),
    st.tuples(st.just("skin.swap"), st.fixed_dictionaries({"points": POINTS, "a": JOINT, "b": JOINT})),
    st.tuples(st.just("skin.row"), st.fixed_dictionaries({"points": POINTS, "held": st.dictionaries(JOINT, SHARE, min_size=1)})),
    st.tuples(st.just("skin.even"), st.fixed_dictionaries({"points": POINTS, "share": SHARE, "rounds": st.integers(1, 4)})),
    st.tuples(st.just("skin.from_neighbours"), st.fixed_dictionaries({"points": POINTS})),
    st.tuples(st.just("skin.nearest"), st.fixed_dictionaries({"points": POINTS})),
    st.tuples(st.just("skin.mirror"), st.fixed_dictionaries({"side": st.sampled_from(["left", "right"])})),
    st.tuples(st.just("skin.round"), st.fixed_dictionaries({"steps": st.integers(4, 300)})),
    st.tuples(st.just("skin.prune"), st.fixed_dictionaries({"least": st.floats(0, 0.3), "influences": st.integers(0, 3)})),
)  # fmt: skip


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    changes=st.lists(CHANGES, min_size=1, max_size=6), locked=st.sampled_from([(), ("tail_2",), ("tail_1", "tail_3")])
)
def test_rows_stay_whole_and_locked_ones_to_the_bit(tube, changes, locked):
    c = tube
    if locked:
        c, _ = apply_step(c, "skin.lock", {"joints": list(locked)})
    fixed = {
        n: np.where(c.arrays["skin/joints"] == c.skin.joints.index(n), c.arrays["skin/weights"], 0).max(1)
        for n in locked
    }
    for name, params in changes:
        try:
            c, _ = apply_step(c, name, params)
        except (StepRefused, BadParameters):
            continue
        index, weights = c.arrays["skin/joints"], c.arrays["skin/weights"]
        assert weights.min() >= 0 and np.abs(weights.astype(float).sum(1) - 1).max() < 1e-6, name
        assert (weights > 0).sum(1).max() <= c.skin.influences and (weights > 0).any(1).all()
        for slot in range(1, weights.shape[1]):  # nobody holds a point twice
            twice = (index[:, :slot] == index[:, slot : slot + 1]) & (weights[:, :slot] > 0)
            assert not (twice.any(1) & (weights[:, slot] > 0)).any(), name
        for n, was in fixed.items():
            now = np.where(index == c.skin.joints.index(n), weights, 0).max(1)
            assert now.tobytes() == was.tobytes(), (name, n)


# -- what joints move that they should not ---------------------------------------------------------------------------
def test_a_hold_on_a_strange_limb_is_found_ranked_and_taken_off(otter):
    place = np.array(otter.joint("shin_L").place) + [0, 0, 0.05]
    spoilt = stroke(otter, Brush(kind="set", joint="hand_L", radius=0.12, strength=0.4), place)
    first = strays_of(spoilt)[:2]
    assert {(s.joint, s.where) for s in first} == {("hand_L", "leg L"), ("hand_R", "leg R")}
    assert first[0].most == pytest.approx(0.4, abs=0.05)  # as was put there
    done, said = apply_step(spoilt, "skin.keep_off", {"joint": "hand_L", "where": "leg L"})
    assert not [s for s in strays_of(done) if s.joint.startswith("hand") and s.where.startswith("leg")]
    assert "both sides" in said and table_of(done).of("hand_L")[first[0].points].max() == 0
    for n in ("shin_L", "thigh_L"):  # those who held it hold it again, by about as much
        assert np.abs(table_of(done).of(n) - table_of(otter).of(n)).max() < 0.25


def test_a_patch_apart_from_its_own_is_found(tube):
    spoilt = stroke(tube, Brush(kind="set", joint="tail_1", radius=0.1, strength=0.5, both=False), [0, 0.97, 0.1])
    (stray,) = [s for s in strays_of(spoilt) if s.joint == "tail_1"]
    assert (spoilt.points[stray.points, 1] > 0.8).all()


# -- zones -------------------------------------------------------------------------------------------------------------
def test_a_zone_holds_what_lies_in_it_wholly_in_its_core_and_no_more_beyond_its_rim():
    zone = Zone("a", (0, 0, 0), (0, 1, 0), 0.1, 0.3, soft=0.5)
    at = np.array([[0, 0, 0], [0.04, 0, 0], [0.075, 0, 0], [0.11, 0, 0], [0, 0.5, 0.19], [0, 0.5, 0.21], [0, 1.31, 0]])
    assert zone.holds(at) == pytest.approx([1, 1, 0.5, 0, zone.holds(at)[4], 0, 0])
    assert 0 < zone.holds(at)[4] < 0.05  # the radius half-way is 0.2


def test_zones_redefine_who_holds_and_leave_the_rest(tube):
    zone = zone_of(tube, "tail_2")
    assert zone.start[1] == pytest.approx(0.4) and zone.end[1] == pytest.approx(0.75)
    params = zone.as_dict() | {"start_radius": 0.15, "end_radius": 0.15}
    done, said = apply_step(tube, "skin.zones", {"zones": [params]})
    held = table_of(done).of("tail_2")
    inside = (tube.points[:, 1] > 0.42) & (tube.points[:, 1] < 0.73)
    beyond = (tube.points[:, 1] > 0.75 + 0.16) | (tube.points[:, 1] < 0.4 - 0.16)
    assert held[inside].min() > 0.6 and held[beyond].max() == 0 and "points" in said
    untouched = beyond & (table_of(tube).of("tail_2") == 0)
    assert np.array_equal(done.arrays["skin/weights"][untouched], tube.arrays["skin/weights"][untouched])


# -- weights from elsewhere -----------------------------------------------------------------------------------------
def test_weights_come_back_from_their_files_as_they_went(otter):
    for write, name in ((write_json, "w.json"), (write_csv, "w.csv")):
        source = read_weights(name, write(otter), otter)
        again, sure = carried(otter, source)
        assert sure.min() == 1.0
        names = otter.skin.joints
        off = table_of(otter).with_joints(names).held - table_of(again).with_joints(names).held
        assert abs(off).max() < 5e-6


@pytest.mark.parametrize(
    "name, data",
    [
        ("a.json", b"{}"), ("a.json", b"nonsense"), ("a.json", b'{"vonkel_weights": 1}'),
        ("a.json", b'{"vonkel_weights": 1, "joints": ["a"], "places": [[0,0,0]], "normals": [[0,0,1]], "held": [[[3, 1.0]]]}'),
        ("a.json", b'{"vonkel_weights": 1, "joints": ["a"], "places": [[0,0,1e99]], "normals": [[0,0,1]], "held": [[[0, 1.0]]]}'),
        ("a.csv", b""), ("a.csv", b"point,joint,weight\n0,a,x\n"), ("a.csv", b"point,joint,weight\n99999,tail_1,1\n"),
        ("a.csv", b"point,joint,weight\n0,tail_1,1\n"), ("a.csv", b"point,joint,weight\n0,tail_1,-1\n"),
    ],
)  # fmt: skip
def test_files_of_weights_that_are_none_are_refused(tube, name, data):
    with pytest.raises(BadFile) as refused:
        read_weights(name, data, tube)
    assert refused.value.what and refused.value.todo


def test_weights_are_carried_to_a_mesh_that_is_cut_otherwise(otter):
    """The body cut finer by trimesh: a new point lies between two old ones, and should be held as they are together."""
    topo, body = topology_of(otter), otter.part("body")
    triangles = topo.triangles[(topo.triangle_face >= body.faces[0]) & (topo.triangle_face < body.faces[1])]
    count = body.points[1]
    ends = np.unique(
        np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), 1), axis=0
    )
    points, faces = trimesh.remesh.subdivide(otter.points[:count], triangles)
    raw = RawMesh(points, np.arange(0, 3 * len(faces) + 1, 3), faces.ravel(), np.zeros(len(faces), np.int64), ["body"])
    fine = character_from_mesh(raw, "fine").with_(joints=otter.joints)
    done, sure = carried(fine, source_of(otter, np.arange(count)))
    names = otter.skin.joints
    old, new = (table_of(c).with_joints(names).held for c in (otter, done))
    middles = 0.5 * (otter.points[ends[:, 0]] + otter.points[ends[:, 1]])
    away, which = cKDTree(points).query(middles)
    assert away.max() < 1e-9
    off = np.asarray(abs(new[which] - 0.5 * (old[ends[:, 0]] + old[ends[:, 1]])).sum(1)).ravel()
    assert off.mean() < 0.03 and np.percentile(off, 99) < 0.25
    assert np.median(sure) > 0.85


def test_a_part_is_held_as_another_is_beside_it(otter):
    eye = next(p for p in otter.parts if p.role == "eye")
    done, _ = apply_step(otter, "skin.from_part", {"part": eye.name, "source": "body"})
    held = table_of(done).of("head")[slice(*eye.points)]
    assert held.min() > 0.5
    other = np.setdiff1d(np.arange(len(otter.points)), np.arange(*eye.points))
    assert np.array_equal(done.arrays["skin/weights"][other], otter.arrays["skin/weights"][other])


def test_chosen_points_alone_are_bound_anew_and_chosen_joints_alone_hold(tube):
    spoilt, _ = apply_step(tube, "skin.hold", {"points": list(range(60)), "joint": "tail_3", "weight": 1.0})
    done, _ = apply_step(spoilt, "skin.bind", {"points": list(range(30)), "influences": 3})
    assert table_of(done).of("tail_3")[:30].max() < 0.1 and table_of(done).of("tail_3")[30:60].min() > 0.99
    sharper, _ = apply_step(tube, "skin.bind", {"falloffs": {"tail_2": 3.0}, "influences": 3})
    was, now = table_of(tube).of("tail_2"), table_of(sharper).of("tail_2")
    some = (was > 0.05) & (was < 0.6)
    assert some.any() and (now[some] < was[some]).all()
    two, _ = apply_step(tube, "skin.bind", {"joints": ["tail_1", "tail_2"]})
    assert table_of(two).of("tail_3").max() == 0


# -- deforming otherwise ---------------------------------------------------------------------------------------------
def test_smoothing_keeps_rest_follows_a_turn_and_evens_a_fold(tube):
    smooth, _ = apply_step(tube, "skin.after", {"rounds": 10})
    plain, deformer = Deformer(tube), Deformer(smooth)
    rest = pose_from_turns(tube, {})
    assert np.abs(deformer.deform(rest) - tube.points).max() < 1e-6
    turn = matrix_from_rotation_vector(np.array([0.3, 0.5, -0.9]))
    whole = pose_from_turns(tube, {"tail_1": turn})  # all hangs from it: the body turns as one
    assert np.abs(deformer.deform(whole) - plain.deform(whole)).max() < 2e-6
    bent = pose_from_turns(tube, {"tail_2": matrix_from_rotation_vector(np.array([0.0, 0.0, 1.9]))})
    hard, _ = apply_step(tube, "skin.nearest", {"points": list(range(len(tube.points)))})
    folded, evened = (
        Measurer(hard).measure(Deformer(c).deform(bent).astype(float))
        for c in (hard, hard.with_(skin=hard.skin.model_copy(update={"smoothing": 10})))
    )
    assert evened.stretch_most < 0.7 * folded.stretch_most


def _evened(mesh, rounds):
    """What each joined point has in the evened others, as a plain table: rounds of half the way to the neighbours' mean."""
    first, of, _, rows, cols, *_ = mesh_of(mesh)
    counts = np.diff(rows.astype(int))
    once = 0.5 * np.eye(len(first))
    once[np.repeat(np.arange(len(first)), counts), cols] += 0.5 / np.repeat(counts, counts)
    return first, of, np.linalg.matrix_power(once, rounds)


def test_smoothing_beforehand_is_direct_delta_mush(tube):
    """Le & Lewis 2019, section 3, by plain sums of homogeneous moments and singular values."""
    linear, _ = apply_step(tube, "skin.method", {"method": "linear"})
    before, _ = apply_step(linear, "skin.after", {"rounds": 6, "by": "beforehand"})
    deformer, bent = (
        Deformer(before),
        pose_from_turns(tube, {"tail_2": turned(0.5, 0.4, 1.3), "tail_3": turned(1.4, 0, 0)}),
    )
    first, of, evened = _evened(tube, 6)
    matrices = bent.rigid_matrices(deformer.rest_inverse)
    weights = table_of(tube).held.toarray()[:, [tube.skin.joints.index(j.name) for j in tube.joints]][first]
    wanted = reference.direct(tube.points[first], weights, evened, matrices, BALL)[of]
    found = deformer.deform(bent).copy()
    # What is held by less than 1e-4 goes with the strongest joint, less than half a metre away.
    assert np.abs(found - wanted).max() < 5e-5
    some = np.array([3, 60, 61, 119])
    assert np.array_equal(deformer.deform_some(bent, some), found[some])
    # Held otherwise, what hangs on those points is worked out anew, as if all were.
    rows, joints = np.arange(60, 72), np.zeros((12, deformer.joints.shape[1]), np.uint16)
    weights = np.zeros(joints.shape, np.float32)
    weights[:, 0], joints[:, 0] = 1.0, tube.joint_index["tail_3"]
    deformer.hold(rows, joints, weights)
    fresh, _ = apply_step(before, "skin.hold", {"points": rows.tolist(), "joint": "tail_3", "weight": 1.0})
    assert np.abs(deformer.deform(bent) - Deformer(fresh).deform(bent)).max() < 1e-6


def test_smoothing_beforehand_keeps_rest_whole_turns_and_comes_near_smoothing_in_the_pose(tube):
    one, other = (apply_step(tube, "skin.after", {"rounds": 8, "by": by})[0] for by in ("posed", "beforehand"))
    mush, direct = Deformer(one), Deformer(other)
    assert np.abs(direct.deform(pose_from_turns(tube, {})) - tube.points).max() < 1e-6
    whole = pose_from_turns(tube, {"tail_1": turned(0.3, 0.5, -0.9)})
    assert np.abs(direct.deform(whole) - Deformer(tube).deform(whole)).max() < 2e-6
    bent = pose_from_turns(tube, {"tail_2": turned(0, 0, 0.8)})
    apart = np.linalg.norm(mush.deform(bent) - direct.deform(bent), axis=1)
    assert np.sqrt((apart**2).mean()) < 0.01


def test_smoothing_beforehand_is_as_thick_in_a_twist_as_the_blend_it_goes_by(tube):
    twist = pose_from_turns(tube, {"tail_2": turned(0, 2.4, 0)})  # the tube stands along y
    thin = {}
    for method in ("linear", "dual"):
        c = apply_step(tube, "skin.method", {"method": method})[0]
        for name, made in {"": c, "evened": apply_step(c, "skin.after", {"rounds": 3, "by": "beforehand"})[0]}.items():
            posed = Deformer(made).deform(twist)
            thin[method, name] = np.hypot(posed[:, 0], posed[:, 2])[np.hypot(*tube.points[:, [0, 2]].T) > 0.01].min()
    assert thin["dual", "evened"] > 0.97 * thin["dual", ""] > 1.2 * thin["linear", "evened"]


def test_a_painted_blend_lies_between_both_methods(tube):
    points = np.flatnonzero(tube.points[:, 2] > 0)
    mixed, _ = apply_step(tube, "skin.mix", {"points": points.tolist(), "share": 0.25})
    bent = pose_from_turns(tube, {"tail_2": matrix_from_rotation_vector(np.array([1.2, 0.0, 0.8]))})
    deformer = Deformer(mixed)
    both = deformer.deform(bent).copy()
    linear, dual = deformer.deform(bent, "linear").copy(), deformer.deform(bent, "dual").copy()
    share = np.where(tube.points[:, 2] > 0, 0.25, 1.0)[:, None]
    assert np.abs(both - (linear + share * (dual - linear))).max() < 1e-6
    assert np.abs(deformer.deform_some(bent, points) - both[points]).max() < 1e-6
    brushed = stroke(
        mixed, Brush(kind="blend", joint="", radius=0.2, strength=1.0, value=0.0, both=False), [0, 0.5, 0.1]
    )
    assert brushed.skin.method == "mixed" and brushed.arrays["skin/mix"].min() < 0.05


def test_heat_warms_what_is_seen_and_sums_to_one(otter):
    """Baran & Popović 2007: a limb's skin belongs to its bone; legs don't warm each other."""
    warm = bind_skin(otter, by="heat")
    table = table_of(warm)
    assert np.abs(table.sums() - 1).max() < 1e-5
    forearm = table_of(otter).of("forearm_L") > 0.8
    assert forearm.sum() > 30 and table.of("forearm_L")[forearm].mean() > 0.6
    assert table.of("forearm_R")[forearm].max() < 0.01 and table.of("thigh_L")[forearm].max() < 0.1


def test_pruning_leaves_what_locked_joints_do_not_hold_to_somebody(tube):
    """Two small weights beside a locked one: both are below the least, and the row must still sum to one."""
    assert tube.skin
    names = tube.skin.joints[:3]
    c, _ = apply_step(tube, "skin.row", {"points": [40], "held": {names[0]: 0.86, names[1]: 0.08, names[2]: 0.06}})
    c, _ = apply_step(c, "skin.lock", {"joints": [names[0]]})
    c, _ = apply_step(c, "skin.prune", {"least": 0.2})
    rows = c.arrays["skin/joints"][40].tolist(), c.arrays["skin/weights"][40].tolist()
    held = {c.skin.joints[j]: w for j, w in zip(*rows, strict=True) if w > 0}
    assert held == {names[0]: pytest.approx(0.86), names[1]: pytest.approx(0.14)}
