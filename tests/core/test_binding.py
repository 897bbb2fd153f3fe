"""Binding through the volume, on the cast and on bodies of other builds (tests/judging)."""

from functools import cache

import numpy as np
import pytest
import trimesh
from scipy.ndimage import distance_transform_edt
from scipy.sparse import csr_matrix, diags
from scipy.sparse.linalg import spsolve
from scipy.spatial import cKDTree

from tests.conftest import tube
from tests.judging.builds import by_chance, grown
from tests.judging.posing import at_rest
from tests.judging.skins import bound, dense, judged
from vonkel.core.character import Joint, opposite_name
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.health import mirror_distance
from vonkel.core.geometry.topology import skin_triangles, topology_of, welded_points
from vonkel.core.geometry.transform import transformed
from vonkel.core.geometry.voxels import NEIGHBOUR_CELLS, SINGLE, solid_from_mesh
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.poses import pose_from_turns, pose_set
from vonkel.core.skin import Deformer, blending
from vonkel.core.skin import bind as binding
from vonkel.core.skin.bind import bind_skin, weights_of
from vonkel.core.skin.bones import bones_of, reach_of
from vonkel.core.skin.coarse import DENSE, coarse
from vonkel.core.skin.easing import Easing, _least_missed
from vonkel.core.skin.fineness import how_bound
from vonkel.core.skin.grown import _across, grown_together
from vonkel.core.skin.middle import Middle
from vonkel.core.skin.owners import owners
from vonkel.core.skin.patches import islands
from vonkel.core.skin.settling import HAIR, _joined, _made_strongest, yielded
from vonkel.core.skin.ways import _spots, ways_of
from vonkel.core.tolerances import PAIR
from vonkel.core.trials.measure import Measurer
from vonkel.readings import findings


@cache
def skin(name):
    return bound(at_rest(name)[1])


HARD = ("warden", "tapir", "stalker")  # stout sitters, a head between the shoulders, arms that have grown to the flanks


@pytest.mark.parametrize("name", ["otter", "newt", "beetle", "bat", "seal", "larva", "bust", "spinner", *HARD])
def test_skins_hold_in_ordinary_poses(name):
    figures = judged(*skin(name), name)
    assert figures.jump < 0.4 and figures.jump_usual < 0.36, figures.line()
    assert figures.islands == 0 and figures.other_leg < 0.05, figures.line()
    assert max(figures.torn.values()) < 0.001, figures.line()


@pytest.mark.parametrize("name", ["otter", *HARD])
def test_easing_holds_in_poses_that_it_was_not_made_for(name):
    """Further poses and more of them: hardly anything is torn there, and less than without."""

    def torn(character):
        measurer, deformer = Measurer(character), Deformer(character)
        edges, rest = measurer.edges, measurer.rest_length
        out = []
        for pose in pose_set(character):
            if not pose.ordinary:
                points = deformer.deform(pose_from_turns(character, pose.turns), "linear").astype(float)
                now = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
                out.append(float((now > 2 * rest)[rest > 0].mean()))
        return np.array(out)

    eased, plain = torn(skin(name)[0]), torn(bind_skin(at_rest(name)[1], eased=False))
    assert len(eased) > 12 and eased.mean() < 0.3 * plain.mean() and eased.max() < 0.003


def test_easing_leaves_what_no_pose_stretches():
    """Two bones on a strip, pulled apart by little: not a bit is changed; by much, the hold fades farther and no edge is too long."""
    n = 41
    points = np.stack([np.linspace(0, 1, n), np.zeros(n), np.zeros(n)], 1)
    rows = np.cumsum([0, 1, *[2] * (n - 2), 1])
    cols = np.array([1, *(j for i in range(1, n - 1) for j in (i - 1, i + 1)), n - 2], np.int32)
    moves = np.zeros((2, 12, 1))
    moves[:, [0, 5, 10]] = 1.0

    def eased(by):
        index = np.tile(np.array([0, 1], np.int32), (n, 1))
        weight = np.zeros((n, 2))
        weight[:, 1] = np.clip(np.arange(n) - n // 2, 0, 1)  # from one to the other between two points
        weight[:, 0] = 1 - weight[:, 1]
        moves[1, 3, 0] = by  # the second bone pulls away
        none = Middle(np.full(2, -1), np.zeros((n, 0)))
        reached = Easing(points, moves, none).ease(rows, cols, index, weight)
        own = np.where(index == 1, weight, 0).sum(1)
        assert np.abs(weight.sum(1) - 1).max() < 1e-12
        return reached, own, np.diff(points[:, 0] + by * own) * (n - 1)

    reached, own, long = eased(0.01)
    assert reached == 0 and set(own) == {0.0, 1.0}
    reached, own, long = eased(0.2)  # nine edges' lengths, which an edge alone would have to give
    assert reached > 8 and long.max() < 1.9 and (np.diff(own) >= -1e-12).all()
    assert own[0] == 0 and own[-1] == 1  # far from there nothing is changed


def test_what_finer_cells_cost_and_gain_is_told_and_where_it_was_eased():
    how = how_bound(at_rest("bat")[1])
    cells, bare, otherwise = ([getattr(f, k) for f in how.fineness] for k in ("cells", "bare", "otherwise"))
    assert len(cells) >= 3 and cells == sorted(cells) and sum(f.chosen for f in how.fineness) == 1
    assert bare == sorted(bare, reverse=True) and bare[0] > bare[-1] + 0.01  # more of the membranes lie over cells
    assert otherwise[0] > otherwise[-1] == 0.0 and all(f.seconds > 0 for f in how.fineness)
    assert how.by == how.points and 0.0 <= how.torn[1] < how.torn[0] and "wings raised" in how.poses
    c, plain = skin("bat")[0], bind_skin(at_rest("bat")[1], eased=False)
    assert np.allclose(how.eased, np.abs(dense(c) - dense(plain)).max(1), atol=1e-6) and how.eased.max() > 0.05


def test_of_a_dense_mesh_it_is_told_by_how_many_points_it_is_bound():
    c = character_from_mesh(tube(330, 120), "tube")
    names = [f"tail_{i}" for i in range(3)]
    chain = [
        Joint(name=n, parent=names[i - 1] if i else None, place=(0.0, 0.1 + 0.3 * i, 0.0), role=n)
        for i, n in enumerate(names)
    ]
    how = how_bound(turn_down_bones(c.with_(joints=tuple(chain))))
    assert how.points == 330 * 120 + 2 > DENSE > how.by > 0.3 * how.points and not (how.eased > 0.05).any()


def test_of_more_bones_than_may_hold_a_point_that_goes_which_moves_it_least():
    """Two move alike, one holds little but takes the point far: of four, three stay; of two that are alike the weaker goes."""
    moves = np.zeros((4, 12, 2))
    moves[:, [0, 5, 10]] = 1.0
    moves[1, 3], moves[2, 3], moves[3, 7, 1] = [0.10, 0.0], [0.11, 0.0], 0.9
    total, some = np.array([0.5, 0.2, 0.25, 0.05]), np.arange(5)
    _least_missed(0, np.zeros((1, 3)), moves, total, some, 4, 3, np.empty((5, 3, 2)))
    assert total.tolist() == [0.5, 0.0, 0.25, 0.05]  # by what they hold, the last would have gone


def test_a_leg_hardly_holds_past_the_middle():
    c = at_rest("jerboa")[1]  # its shins have grown together
    reach = reach_of(c, bones_of(c)).in_sizes(c.size)
    names = [b.joint for b in bones_of(c)]
    assert names[reach.root[names.index("foot_L")]] == "thigh_L" and reach.root[names.index("hips")] == -1
    order = ["foot_L", "foot_R", "hips"]
    places = np.array([c.joint(n).place for n in order]) / c.size + [
        [0.1, 0, 0],
        [-0.1, 0, 0],
        [0, 0, 0],
    ]  # outside the feet
    middle = Middle.of(places, np.array([names.index(n) for n in order]), reach)
    limb, most = middle.limb, middle.limits
    left, right = limb[names.index("thigh_L")], limb[names.index("thigh_R")]
    at = {n: most[i] for i, n in enumerate(order)}
    assert at["foot_L"][left] == 1 and at["foot_R"][right] == 1 and at["hips"][left] > 0.9
    assert at["foot_L"][right] == at["foot_R"][left] == 0.04
    held = np.full((3, len(names)), 0.0)
    held[:, names.index("thigh_L")] = held[:, names.index("hips")] = 0.5
    kept = middle.let_go(csr_matrix(held)).toarray()
    assert np.allclose(kept.sum(1), 1) and kept[order.index("foot_R"), names.index("thigh_L")] == 0


def test_collars_tell_no_side_but_shoulders_do():
    """Both begin at the breastbone: a point there is as near to one as to the other, beside a shoulder it is not."""
    c = at_rest("tapir")[1]
    bones = bones_of(c)
    reach = reach_of(c, bones).in_sizes(c.size)
    names = [b.joint for b in bones]
    assert names[reach.root[names.index("forearm_L")]] == "collar_L"
    right = np.array([c.joint("upper_arm_R").place]) / c.size
    middle = Middle.of(np.concatenate([right, right * [0, 1, 1]]), np.array([-1, -1]), reach)
    limits = middle.limits[:, middle.limb[names.index("forearm_L")]]
    assert limits[0] == 0.04 and limits[1] > 0.9


def test_both_sides_are_alike_to_the_bit():
    made, _ = skin("otter")
    part = made.part("body")
    weights = dense(made)[slice(*part.points)]
    _, other = mirror_distance(made.points[slice(*part.points)])
    partner = [made.skin.joints.index(opposite_name(n)) for n in made.skin.joints]
    assert (weights[other][:, partner] == weights).all()


def test_points_in_one_place_leave_both_sides_alike():
    """A point of either paw is there twice, hardly apart: the first of the two lies behind the other on the left, before it on
    the right."""
    c = in_triangles(at_rest("hound")[1])
    n, triangles = len(c.points), skin_triangles(c).copy()
    other = mirror_distance(c.points)[1]
    # what counts as one place has bounds
    together = np.flatnonzero((c.points[:, 2] / c.size / (4 * PAIR) + 0.5) % 1 < 0.4)
    left = together[np.argmin(np.linalg.norm(c.points[together] - c.joint("hand_L").place, axis=1))]
    right = int(other[left])
    apart = np.array([0.0, 0.0, 2e-5 * c.size])
    points = np.concatenate([c.points, [c.points[left] + apart, c.points[right]]])
    points[right] += apart
    for old, new in ((left, n), (right, n + 1)):
        some = np.flatnonzero((triangles == old).any(1))[:3]
        triangles[some] = np.where(triangles[some] == old, new, triangles[some])
    twice = of_triangles(c, points, triangles)
    assert len(twice.points) == n + 2 and len(welded_points(twice.points / twice.size, PAIR)[0]) == n
    made = bind_skin(twice)
    held, partner = dense(made)[:n], [made.skin.joints.index(opposite_name(j)) for j in made.skin.joints]
    assert (held[other][:, partner] == held).all()


@pytest.mark.parametrize("times", [100.0, 0.01])
def test_the_unit_makes_no_difference(times):
    made, _ = skin("hound")
    scaled = bind_skin(transformed(at_rest("hound")[1], np.eye(3) * times, np.zeros(3)))
    far = np.abs(dense(scaled) - dense(made)).max(1)
    assert np.quantile(far, 0.999) < 0.02


def test_one_thread_makes_what_two_make(monkeypatch):
    class Alone:
        def __init__(self, workers):
            pass

        def __enter__(self):
            return self

        def __exit__(self, *error):
            pass

        map = staticmethod(map)

    made, _ = skin("newt")
    monkeypatch.setattr(blending, "ThreadPoolExecutor", Alone)
    again = bind_skin(at_rest("newt")[1])
    assert (again.arrays["skin/weights"] == made.arrays["skin/weights"]).all()
    assert (again.arrays["skin/joints"] == made.arrays["skin/joints"]).all()


def test_limbs_that_have_grown_together_are_told_and_no_others():
    """Its forearms lie against its flanks, one surface with them; the otter's lie free."""
    made, _ = skin("stalker")
    seams = grown_together(made)
    arms = [next(n for n in s.joints if n != "spine_2") for s in seams]
    assert (
        {a[-1] for a in arms} == {"L", "R"} and len(arms) == 2 and all(a.startswith(("forearm", "hand")) for a in arms)
    )
    for s, arm in zip(seams, arms, strict=True):
        near = made.points[s.points] - made.joint(arm).place
        assert np.linalg.norm(near, axis=1).max() < 0.2 * made.size and s.long > 0.03 * made.size
    told = [f for f in findings(made) if "should part" in f.title]
    assert len(told) == 1 and set(told[0].joints) == {"spine_2", *arms} and told[0].points
    assert "cm" in told[0].detail and told[0].level == "note"
    assert not grown_together(skin("otter")[0]) and not grown_together(skin("bat")[0])
    assert grown_together(at_rest("stalker")[1]) == ()  # nothing is bound yet


def test_shins_that_have_grown_together_by_little_are_told_too():
    """Between both sides' shins no crease is natural, between upper arms on the breast there is one."""
    c, _ = bound(grown(by_chance(20261494), "ankles")[1])
    (seam,) = grown_together(c)
    assert set(seam.joints) == {"shin_L", "shin_R"} and 0.02 < seam.long / c.size < 0.06
    assert np.abs(c.points[seam.points, 0]).max() < 0.03 * c.size
    tapir = skin("tapir")[0]
    assert _across(tapir, "forearm_L", "forearm_R") and not _across(tapir, "upper_arm_L", "upper_arm_R")
    assert not _across(tapir, "thigh_L", "thigh_R") and not _across(tapir, "shin_L", "thigh_R")


def test_the_way_along_bones_counts_what_does_not_deform():
    """An arm that hangs from the trunk by joints without skin still hangs from it: beside the chest it is no seam."""
    c = at_rest("porter")[1]
    idle = {f"{n}_{s}" for n in ("collar", "upper_arm") for s in "LR"}
    helper = bind_skin(
        c.with_(joints=tuple(j.model_copy(update={"deforms": j.deforms and j.name not in idle}) for j in c.joints))
    )
    own = np.array(helper.skin.joints)[helper.arrays["skin/joints"][:, 0]]
    met = {frozenset(own[e]) for e in topology_of(helper).edges}
    assert any({"forearm_L"} < pair and not pair & {"hand_L", "forearm_R"} for pair in met)  # it does touch the trunk
    assert grown_together(helper) == ()


def in_triangles(c):
    """The skin alone, quads cut along the shorter diagonal, where both are as long as on the other side."""
    starts, corners = c.arrays["face_starts"].astype(int), c.arrays["face_corners"].astype(int)
    places = np.round(c.points, 9)
    places[:, 0] = np.abs(places[:, 0])
    rank = np.unique(places, axis=0, return_inverse=True)[1].ravel()
    skin, triangles = np.zeros(len(c.points), bool), []
    skin[skin_triangles(c)] = True
    for face in np.split(corners, starts[1:-1]):
        if not skin[face[0]]:
            continue
        if len(face) == 4:
            first, other = (
                (np.linalg.norm(c.points[i] - c.points[j]), min(rank[i], rank[j]))
                for i, j in (face[[0, 2]], face[[1, 3]])
            )
            face = face if (round(first[0], 9), first[1]) <= (round(other[0], 9), other[1]) else np.roll(face, -1)
        triangles += [(face[0], face[k], face[k + 1]) for k in range(1, len(face) - 1)]
    return of_triangles(c, c.points, np.array(triangles))


def finer(c):
    """The very same shape as that `in_triangles`, each cut in four.  Their points come first."""
    return of_triangles(c, *trimesh.remesh.subdivide(c.points, skin_triangles(c)))


def of_triangles(c, points, triangles):
    used, flat = np.unique(triangles, return_inverse=True)  # no points of eyes, which would hang loose
    starts = np.arange(0, triangles.size + 1, 3)
    mesh = RawMesh(points[used], starts, flat.ravel(), np.zeros(len(triangles), np.int64), ["body"])
    return character_from_mesh(mesh, "cut").with_(joints=c.joints, plan=c.plan)


def test_a_dense_mesh_is_eased_on_fewer_points_and_mended_on_its_own():
    figures = judged(*bound(finer(in_triangles(at_rest("porter")[1]))))
    assert figures.points > 2 * DENSE and figures.islands == 0 and figures.other_leg < 0.05, figures.line()
    assert max(figures.torn.values()) < 0.001 and figures.jump < 0.3, figures.line()


@pytest.mark.parametrize("name", ["larva", "hound", "heron-neck", "beetle"])
def test_a_denser_mesh_gets_the_same_skin(name):
    """The same shape in triangles and in four times as many; the larger ones are bound by fewer points than they have.

    The heron's ears end where its head does: at one density they own a few points, at the other none.  How far the beetle's
    feelers reach hangs on their radius by ten times.
    """
    few = in_triangles(at_rest(name)[1])
    far = np.abs(dense(bind_skin(finer(few)))[: len(few.points)] - dense(bind_skin(few))).max(1)
    assert far.mean() < 0.017 and np.quantile(far, 0.9) < 0.035 and np.quantile(far, 0.99) < 0.068, far.mean()


def test_what_looks_the_other_way_is_not_the_same_point_of_a_coarser_mesh():
    """A plate thinner than a cell, as lips that meet: its rim joins both sides."""
    plate = trimesh.creation.box((0.4, 0.002, 0.4)).subdivide_to_size(0.01)
    of = coarse(np.array(plate.vertices), np.array(plate.faces), 800).of
    up, down = set(of[plate.vertex_normals[:, 1] > 0.9]), set(of[plate.vertex_normals[:, 1] < -0.9])
    assert len(up) > 100 and len(down) > 100 and not up & down


def test_of_a_dense_mesh_fewer_points_stand_for_all():
    fine = finer(in_triangles(at_rest("larva")[1]))
    fewer = coarse(fine.points, skin_triangles(fine), 3000)
    assert 1500 < len(fewer.points) < 6000 and np.allclose(fewer.carry.sum(1), 1)


def test_radii_dont_hang_on_cells_at_the_skin_nor_on_the_length_of_edges():
    """Of a tube of ten centimetres, coarse and fine: what owners measure is the radius of the polygon that it is."""
    found = []
    for rings, around in ((17, 12), (65, 48)):
        c = character_from_mesh(tube(rings, around), "tube")
        joints = [
            Joint(name=f"tail_{i + 1}", parent=f"tail_{i}" if i else None, place=(0.0, y, 0.0), role=f"tail_{i + 1}")
            for i, y in enumerate((0.05, 0.35, 0.65))
        ]
        c = turn_down_bones(c.with_(joints=tuple(joints)))
        bones = bones_of(c)
        reach = reach_of(c, bones).in_sizes(c.size)
        ways = ways_of(c.points / c.size, skin_triangles(c), 1.0)
        deep = ways.depth_at(reach.start + 0.5 * reach.way) * c.size
        assert np.abs(deep - 0.1).max() < 0.02  # within a cell's half
        found.append(owners(ways, reach)[1][1, 1] * c.size)
        assert 0.09 < found[-1] < 0.12  # the rounded end counts, too
    round_it = np.sin(np.pi / 12) / (np.pi / 12)  # the mean distance of a twelve-sided tube's sides, in its corners'
    assert found[0] / found[1] == pytest.approx(round_it, abs=0.012)


def test_places_all_over_a_mesh_are_no_more_than_its_area_has_room_for():
    """Cut as finely as cells are, all of its area shared out; of a thousand slivers no more than they are."""
    c = character_from_mesh(tube(17, 12), "tube")
    ways = ways_of(c.points / c.size, skin_triangles(c), 1.0)
    spots, areas, under = ways.spots
    assert areas.sum() == pytest.approx(ways.areas.sum()) and np.sqrt(2 * areas.max()) < ways.solid.h
    assert (under >= 0).mean() > 0.99 and cKDTree(spots).query(spots, 2)[0].max() < ways.solid.h
    at = np.linspace(0, 1e-3, 1001)
    rim = np.concatenate([np.stack([at, 0 * at, z + 0 * at], 1) for z in (0, 1)])
    slivers = np.stack([np.arange(1000), np.arange(1, 1001), np.arange(1001, 2001)], 1)
    assert len(_spots(rim, slivers, ways.solid)[0]) == 1000


def test_a_seam_of_the_texture_is_no_border():
    """Every triangle with points of its own, as some formats give them: the skin is that of the joined mesh."""
    c = at_rest("seal")[1]
    tri = skin_triangles(c)
    apart = RawMesh(
        c.points[tri.ravel()],
        np.arange(0, tri.size + 1, 3),
        np.arange(tri.size),
        np.zeros(len(tri), np.int64),
        ["body"],
    )
    split = character_from_mesh(apart, "split").with_(joints=c.joints, plan=c.plan)
    made = dense(bind_skin(split))
    whole = dense(skin("seal")[0])[tri.ravel()]
    assert np.abs(made - whole).max(1).mean() < 0.01
    first, of = welded_points(split.points, 1e-6)
    assert np.abs(made[first][of] - made).max() < 1e-6


def test_a_found_jaw_takes_the_lower_lip_along_and_a_guessed_one_nothing():
    made, _ = skin("otter")
    x, y, z = (made.points - np.array(made.joint("jaw_end").place)).T
    front = (np.abs(x) < 0.04) & (z > -0.05) & (np.arange(len(x)) < made.part("body").points[1])
    held = weights_of(made, "jaw")
    assert held[front & (y < -0.02) & (y > -0.05)].mean() > 0.7
    assert held[front & (y > 0.04)].max() < 0.1
    bust = at_rest("bust")[1]
    guessed = tuple(j.model_copy(update={"doubt": 0.1}) if j.name == "jaw" else j for j in bust.joints)
    body = slice(*bust.part("body").points)
    assert weights_of(bind_skin(bust.with_(joints=guessed)), "jaw")[body].max() == 0


def test_membranes_dont_reach_into_the_limbs_that_they_hang_on():
    made, _ = skin("bat")
    membranes = sum(weights_of(made, n) for n in made.skin.joints if n.startswith("membrane"))
    for side in "LR":
        toes = np.linalg.norm(made.points - np.array(made.joint(f"ball_{side}").place), axis=1) < 0.03
        assert toes.any() and membranes[toes].max() < 0.05
    trunk = sum(weights_of(made, n) for n in ("hips", "spine_1", "spine_2", "chest"))
    tips = np.abs(made.points[:, 0]) > 0.5
    assert trunk[tips].max() < 0.05


# --- parts of it, against other ways to the same ----------------------------------------------------------------------
def box(low, high):
    a = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)]) * (np.array(high) - low) + low
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    return a, np.array([t for q in quads for t in ((q[0], q[1], q[2]), (q[0], q[2], q[3]))])


def test_no_way_leads_across_a_gap_however_thin():
    (a, t), (b, _) = box([0, 0, 0], [1, 1, 0.497]), box([0, 0, 0.503], [1, 1, 1])
    solid = solid_from_mesh(np.concatenate([a, b]), np.concatenate([t, t + 8]), 0.1)
    upper = solid.centres[:, 2] > 0.5
    linked = solid.links >= 0
    crossing = linked & (upper[solid.links] != upper[:, None])
    assert crossing.any() and not (solid.ways[crossing] >= 0).any()
    assert ((solid.ways >= 0) == (linked & ~crossing)).all()
    assert len(SINGLE) == 6 and (np.abs(NEIGHBOUR_CELLS[SINGLE]).sum(1) == 1).all()


def test_a_line_through_a_hole_has_no_say():
    points, triangles = box([0, 0, 0], [1, 1, 1])
    whole, holed = (solid_from_mesh(points, t, 0.1) for t in (triangles, triangles[1:]))
    assert len(whole.cells) == 1000 and len(holed.cells) > 990 and not (holed.inside & ~whole.inside).any()


def test_depths_by_steps_are_nearly_euclidean():
    c = at_rest("newt")[1]
    ways = ways_of(c.points, skin_triangles(c), c.size, 12_000)
    inside = np.pad(ways.solid.inside, 1)
    exact = (distance_transform_edt(inside)[1:-1, 1:-1, 1:-1][ways.solid.inside] - 0.5) * ways.solid.h
    deep = ways.steps_deep * ways.solid.h
    assert (deep >= exact - 1e-9).all() and (deep <= 1.12 * exact + 0.5 * ways.solid.h).all()


def test_holds_diffuse_as_a_direct_solver_says():
    """One bone on a patch: (M + C) w = M χ by scipy's direct solver (SuperLU)."""
    random = np.random.default_rng(3)
    n = 60
    links = np.triu((random.random((n, n)) < 0.1) * random.random((n, n)), 1)
    table = csr_matrix(links + links.T)
    diagonal = np.asarray(table.sum(1)).ravel() + random.random(n) + 0.1
    right = random.random(n)
    x = np.zeros(n)
    blending._solved(
        x, right, diagonal, table.indptr.astype(np.int32), table.indices.astype(np.int32), table.data, 1e-9, 500
    )
    assert x == pytest.approx(spsolve((diags(diagonal) - table).tocsc(), right), abs=1e-7)


def test_islands_are_patches_apart_from_the_largest():
    rows, cols = np.array([0, 1, 3, 5, 7, 9, 10]), np.array([1, 0, 2, 1, 3, 2, 4, 3, 5, 4])  # a line of six points
    owner, piece = np.array([7, 7, 4, 7, 4, 4]), np.zeros(6, int)
    alike = np.ones(6)
    assert islands(rows, cols, piece, alike, owner).tolist() == [False, False, True, True, False, False]
    alike[3] = 3.0  # one point that stands for more surface than two
    assert islands(rows, cols, piece, alike, owner).tolist() == [True, True, True, False, False, False]


def test_a_large_island_is_joined_to_the_largest_patch_and_a_small_one_is_not():
    """A line of nine points: bone 0 owns both ends, bone 1 the middle, where 0 comes second."""
    cols = np.array([[i - 1, i + 1] for i in range(9)]).ravel()
    cols = cols[(cols >= 0) & (cols < 9)].astype(np.int32)
    rows = np.array([0, 1, 3, 5, 7, 9, 11, 13, 15, 16])
    owner = np.array([0, 0, 0, 1, 1, 1, 0, 0, 0])
    index = np.stack([owner, 1 - owner, owner], 1).astype(np.int32)
    weight = np.tile([0.55, 0.45, 0.0], (9, 1))
    piece, side = np.zeros(9, np.int32), np.ones(9, np.int64)
    slips = np.where(np.arange(9) > 5, 0.001, 1.0)
    assert not _joined(rows, cols, rows, cols, piece, slips, index.copy(), weight.copy(), side)
    assert _joined(rows, cols, rows, cols, piece, np.ones(9), index, weight, side)
    assert (index[:, 0] == 0).all() and np.allclose(weight.sum(1), 1) and (np.diff(weight, axis=1) <= 0).all()
    assert weight[4, 0] - weight[4, 1] == pytest.approx(HAIR)  # by a hair
    assert weight[0].tolist() == [0.55, 0.45, 0.0]


def test_who_becomes_the_strongest_takes_no_more_than_it_must():
    """Whatever the order, the sum stays, the row is sorted, and the others keep what lies below their common level."""
    random = np.random.default_rng(7)
    for _ in range(200):
        weight = random.dirichlet([0.6] * 4)[None]
        index, before = np.arange(4, dtype=np.int32)[None], weight[0].copy()
        chosen = int(random.integers(4))
        _made_strongest(0, chosen, index, weight)
        assert weight.sum() == pytest.approx(1) and (np.diff(weight[0]) <= 1e-12).all()
        after = np.empty(4)
        after[index[0]] = weight[0]
        others = np.arange(4) != chosen
        level = after[others].max()
        assert np.allclose(after[others], np.minimum(before[others], level))
        if before[chosen] < before.max():
            assert index[0, 0] == chosen and weight[0, 0] - level == pytest.approx(HAIR)


def test_an_island_yields_to_a_neighbour_that_others_outweigh_there():
    """Three hold the middle of a line nearly alike; the one that its neighbours hold most by is the third."""
    rows, cols = np.array([0, 1, 3, 4]), np.array([1, 0, 2, 1])
    index = np.array([[2, 0, 1], [0, 1, 2], [2, 0, 1]], np.int32)
    weight = np.array([[0.8, 0.1, 0.1], [0.345, 0.335, 0.32], [0.8, 0.1, 0.1]])
    yielded(rows, cols, index, weight, np.array([False, True, False]))
    assert index[1, 0] == 2 and sorted(index[1]) == [0, 1, 2]
    assert weight[1].sum() == pytest.approx(1) and weight[1, 0] - weight[1, 1:].max() == pytest.approx(0.002)
    assert weight[1, 1] == weight[1, 2]  # no more taken from either than from the other
    assert np.abs(weight[1] - 1 / 3).max() < 0.002


def test_owners_on_both_sides_are_each_others_mirror_image():
    """Which of two bones as near comes first is chance; it was another one on either side."""
    c = at_rest("tapir")[1]
    reach = reach_of(c, bones_of(c))
    ways = ways_of(c.points, skin_triangles(c), c.size)
    mirror = binding.mirror_of(c.points, reach.partner, c.size)
    assert mirror is not None
    bone = reach.bone[owners(ways, reach, mirror)[0]]
    off = mirror.side != 0
    assert (reach.partner[bone] == bone[mirror.other])[off].all()
    alone = reach.bone[owners(ways, reach)[0]]
    assert 0.001 < (reach.partner[alone] != alone[mirror.other])[off].mean() < 0.03


def test_owners_are_the_nearest_bones_where_nothing_lies_between():
    """On a straight limb of one thickness the owner is the nearest segment: an exhaustive search says so."""
    c = at_rest("eel")[1]
    bones = bones_of(c)
    reach = reach_of(c, bones)
    own, _ = owners(ways_of(c.points, skin_triangles(c), c.size), reach)
    far = np.stack([binding.distance_to_segments(c.points, b.segments) for b in bones], 1)
    mine = far[np.arange(len(own)), reach.bone[own]]
    assert (mine <= far.min(1) + 0.02 * c.size).mean() > 0.99
