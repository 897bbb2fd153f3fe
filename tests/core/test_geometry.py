"""Topology, health, volumes, spheres and rotations, on bodies small enough to know by heart."""

import numpy as np
import pytest
import trimesh
from scipy.ndimage import binary_opening, distance_transform_edt, label
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from tests.conftest import tube
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.geometry import rotations
from vonkel.core.geometry.health import health, mesh_health
from vonkel.core.geometry.spheres import fit_sphere
from vonkel.core.geometry.topology import Topology, face_areas, point_normals, signed_volume, topology_of
from vonkel.core.geometry.voxels import (
    STEP_LENGTHS,
    Solid,
    distances_through,
    extremities,
    pieces,
    solid_from_mesh,
    without_pockets,
)
from vonkel.core.plans.shapes import without_sheets

CUBE = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float)
QUADS = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]


def cube(faces=QUADS, points=CUBE):
    return Topology(np.r_[0, np.cumsum([len(f) for f in faces])], np.concatenate(faces), len(points))


def test_cube_counts_areas_and_volume():
    t = cube()
    assert len(t.edges) == 12 and (t.edge_faces == 2).all() and len(t.triangles) == 12
    assert np.allclose(face_areas(CUBE, t), 1.0)
    assert signed_volume(CUBE, t.triangles) == pytest.approx(1.0)
    corner = point_normals(CUBE, t.triangles)[7]
    assert corner.min() > 0 and np.linalg.norm(corner) == pytest.approx(1.0)
    rows, cols = t.neighbours
    assert sorted(cols[rows[0] : rows[1]]) == [1, 2, 4]


def test_health_finds_what_is_wrong_and_only_that():
    whole = mesh_health(CUBE - [0.5, 0, 0], cube(), 1.0)
    assert (whole.border_edges, whole.nonmanifold_edges, whole.turned_edges, whole.doubled_faces, whole.islands) == (
        0,
        0,
        0,
        0,
        1,
    )
    assert whole.asymmetry == 0 and whole.quads == 6
    assert mesh_health(CUBE, cube(QUADS[:5]), 1.0).border_edges == 4
    assert mesh_health(CUBE, cube([QUADS[0][::-1], *QUADS[1:]]), 1.0).turned_edges == 4
    doubled = mesh_health(CUBE, cube([*QUADS, QUADS[0]]), 1.0)
    assert doubled.doubled_faces == 1 and doubled.nonmanifold_edges == 4
    moved = CUBE - [0.5, 0, 0]
    moved[7, 1] += 0.01
    bent = mesh_health(moved, cube(), 1.0)
    assert bent.asymmetry == pytest.approx(0.01) and set(bent.asymmetry_points) == {3, 7}


def test_the_demo_body_is_closed_symmetric_and_of_genus_zero(otter_mesh):
    """What the demo promises, checked against trimesh."""
    part = otter_mesh.part("body")
    topo = topology_of(otter_mesh)
    tri = topo.triangles[topo.triangle_face < part.faces[1]]
    body = otter_mesh.points[: part.points[1]]
    mesh = trimesh.Trimesh(body, tri, process=False)
    assert mesh.is_watertight and mesh.is_winding_consistent and mesh.euler_number == 2
    assert mesh.volume == pytest.approx(signed_volume(body, tri), rel=1e-9) and mesh.volume > 0
    assert 8_000 <= len(body) <= 15_000
    assert health(otter_mesh).asymmetry == 0.0
    assert 1.0 < otter_mesh.height < 1.3
    assert {p.role for p in otter_mesh.parts} == {"skin", "eye", "teeth", "tongue"}


def test_sphere_fit_on_a_noisy_cap_and_against_trimesh():
    rng = np.random.default_rng(3)
    ball = trimesh.creation.icosphere(3, 0.043)
    p = ball.vertices + [0.3, -0.2, 1.7]
    centre, radius, misfit = fit_sphere(p[p[:, 2] > 1.69] + 0)
    expected = trimesh.nsphere.fit_nsphere(p)
    assert (
        np.allclose(centre, expected[0], atol=1e-6) and radius == pytest.approx(expected[1], abs=1e-6) and misfit < 1e-6
    )
    noisy, _, misfit = fit_sphere(p + rng.normal(0, 1e-3, p.shape))
    assert np.allclose(noisy, [0.3, -0.2, 1.7], atol=5e-4) and 5e-4 < misfit < 2e-3


def test_filled_tube_has_its_volume_and_distances():
    mesh = tube(41, 48)
    topo = Topology(mesh.starts, mesh.corners, len(mesh.points))
    solid = solid_from_mesh(mesh.points, topo.triangles, 0.01)
    assert len(solid.cells) * 0.01**3 == pytest.approx(np.pi * 0.1**2, rel=0.02)
    assert solid.contains(np.array([[0, 0.5, 0], [0.2, 0.5, 0]])).tolist() == [True, False]
    assert solid.depth.max() == pytest.approx(0.1, abs=0.012)
    start = solid.nearest(np.array([[0, 0.02, 0]])).astype(np.int64)
    d, _ = distances_through(solid.links, STEP_LENGTHS * 0.01, np.ones(len(solid.cells)), start, np.zeros(1), np.inf)
    end = solid.nearest(np.array([[0, 0.98, 0]]))[0]
    assert d[end] == pytest.approx(0.96, abs=0.02)
    tips = extremities(solid, d, 0.3)
    assert len(tips) == 1 and solid.centres[tips[0][0]][1] > 0.95


@pytest.mark.parametrize("full, shape", [(0.6, (9, 14, 11)), (0.01, (40, 30, 20)), (1.0, (1, 1, 1))])
def test_depths_are_scipys_distances_in_crowded_grids_and_nearly_empty_ones(full, shape):
    inside = np.random.default_rng(3).random(shape) < full
    inside.setflags(write=False)  # as what is kept between readings
    wanted = (distance_transform_edt(np.pad(inside, 1))[1:-1, 1:-1, 1:-1][inside] - 0.5) * 0.1
    assert np.allclose(Solid(np.zeros(3), 0.1, inside).depth, wanted, rtol=1e-12, atol=0)


@pytest.mark.parametrize("full", [0.2, 0.6])
def test_cells_know_their_neighbours_pieces_and_what_is_nearest(full):
    inside = np.random.default_rng(6).random((14, 11, 9)) < full
    solid = Solid(np.array([1.0, -2.0, 0.5]), 0.1, inside)
    near = [set(x) - {i} for i, x in enumerate(cKDTree(solid.cells).query_ball_point(solid.cells, 1.9))]
    assert [set(x[x >= 0]) for x in solid.links] == near
    theirs, wanted = label(inside, np.ones((3, 3, 3)))
    kept = inside.astype(np.uint8).view(bool)[:]
    kept.setflags(write=False)  # as what is kept between readings
    for grid in (inside, kept, np.asfortranarray(inside), np.pad(inside, 2)[2:-2, 2:-2, 2:-2]):
        marks, count = pieces(grid)
        assert count == wanted == len({(a, b) for a, b in zip(marks[inside], theirs[inside], strict=True)})
    places = solid.low + np.random.default_rng(7).uniform(-0.3, 1.7, (500, 3))
    far = np.linalg.norm(places - solid.centres[solid.nearest(places)], axis=1)
    assert np.array_equal(far, cKDTree(solid.centres).query(places)[0])


def test_sheets_are_opened_as_scipy_does_and_pockets_need_six_walls():
    inside = np.zeros((30, 30, 30), bool)
    inside[5:25, 5:25, 5:25] = True
    inside[2:4, 4:26, 4:26] = True  # a sheet
    inside[10:20, 10:20, 12:30] = False  # a room that is open to one side
    inside[7:9, 7:9, 7:9] = False  # one that isn't
    solid = Solid(np.zeros(3), 0.01, inside)
    assert np.array_equal(without_sheets(solid).inside, binary_opening(inside))
    shut = without_pockets(solid, 0.04).inside
    assert shut[7:9, 7:9, 7:9].all() and not shut[13:17, 13:17, 15:].any()
    assert np.array_equal(without_pockets(solid, 0.005).inside, inside)  # wider than the reach


def test_the_inside_survives_a_hole():
    """One axis may be fooled by a missing face, but not two."""
    mesh = tube(21, 32)
    topo = Topology(mesh.starts[:-64], mesh.corners[: mesh.starts[-65]], len(mesh.points))  # both caps gone
    solid = solid_from_mesh(mesh.points, topo.triangles, 0.02)
    assert solid.contains(np.array([[0.0, 0.5, 0.0]]))[0] and len(solid.cells) * 0.02**3 == pytest.approx(
        0.0314, rel=0.1
    )


def test_rotations_against_scipy():
    r = Rotation.random(300, random_state=5)
    q = r.as_quat()[:, [3, 0, 1, 2]]
    assert np.allclose(rotations.matrix_from_quaternion(q), r.as_matrix())
    back = rotations.quaternion_from_matrix(r.as_matrix())
    assert np.allclose(np.abs((back * q).sum(1)), 1) and (back[:, 0] >= 0).all()
    half = Rotation.from_rotvec(np.pi * np.eye(3)).as_matrix()  # the singular case of naive formulas
    assert np.allclose(rotations.matrix_from_quaternion(rotations.quaternion_from_matrix(half)), half)
    for v in (np.zeros(3), np.array([0.3, -2.0, 0.4]), np.array([0, np.pi, 0])):
        assert np.allclose(rotations.matrix_from_rotation_vector(v), Rotation.from_rotvec(v).as_matrix())


def test_frames_agree_with_scipy():
    from vonkel.core.rig import frames as f

    rng = np.random.default_rng(2)
    for r in Rotation.random(40, random_state=6):
        p = tuple(rng.normal(size=3))
        q = r.as_quat()
        a = f.frame_from_quat((q[3], q[0], q[1], q[2]), p)
        m = np.eye(4)
        m[:3, :3], m[:3, 3] = r.as_matrix(), p
        assert np.allclose(np.array(a).reshape(3, 4), m[:3])
        assert np.allclose(np.array(f.compose(a, f.inverse(a))).reshape(3, 4), np.eye(4)[:3])
        x, y, z = f.angles_from_turn(a)
        assert np.allclose(np.array(f.turn_from_angles(x, y, z)).reshape(3, 4)[:, :3], r.as_matrix())
        assert np.allclose(Rotation.from_euler("xyz", [x, y, z]).as_matrix(), r.as_matrix())
        u, v = f.unit(tuple(rng.normal(size=3))), f.unit(tuple(rng.normal(size=3)))
        assert np.allclose(f.rotate(f.swing(u, v), u), v)
    assert np.allclose(f.rotate(f.swing((1, 0, 0), (-1, 0, 0)), (1, 0, 0)), (-1, 0, 0))
    locked = f.turn_from_angles(0.4, np.pi / 2, 0.9)
    assert np.allclose(f.turn_from_angles(*f.angles_from_turn(locked)), locked, atol=1e-9)


def test_parts_share_points_or_are_apart():
    a, b = tube(5, 8), tube(5, 8)
    n = len(a.points)
    both = character_from_mesh(
        type(a)(
            np.concatenate([a.points, b.points + [1, 0, 0]]), np.r_[a.starts, a.starts[-1] + b.starts[1:]],
            np.r_[a.corners, b.corners + n], np.r_[a.face_piece, b.face_piece + 1], ["arm", "eye left"],
        ), "two",
    )  # fmt: skip
    assert [(p.name, p.role) for p in both.parts] == [("arm", "skin"), ("eye left", "eye")]
    assert both.parts[1].points == (n, 2 * n)
