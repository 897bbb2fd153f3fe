"""Cuts and mends: the surface stays whole, what hangs on it follows, untouched points stay to the bit."""

import numpy as np
import pytest

from tests.conftest import tube
from vonkel.core.character import Character, Shape, Skin
from vonkel.core.errors import BadParameters, StepRefused
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry import loops, mending
from vonkel.core.geometry.health import health
from vonkel.core.geometry.surgery import Knife
from vonkel.core.geometry.topology import signed_volume, topology_of
from vonkel.steps import apply_step


def whole(c):
    h = health(c)
    return (h.border_edges, h.nonmanifold_edges, h.turned_edges, h.flat_faces, h.doubled_faces) == (0, 0, 0, 0, 0)


@pytest.fixture
def dressed(tube_character: Character) -> Character:
    """A tube with texture places, a skin that fades along it, a morph target and colours, each linear in y."""
    c = tube_character
    topo, y = topology_of(c), c.points[:, 1]
    uv = np.stack([np.arctan2(c.points[topo.corners, 2], c.points[topo.corners, 0]), y[topo.corners]], 1)
    upper = np.clip(y, 0, 1)
    moves = np.stack([0.1 * y, 0 * y, 0 * y], 1)
    moved = np.flatnonzero(y > 0)
    return c.with_(
        skin=Skin(joints=("tail_1", "tail_2"), influences=2), shapes=(Shape(name="lean"),),
        arrays={
            "uvs": uv.astype(np.float32), "colours": np.repeat((255 * upper)[:, None], 3, 1).astype(np.uint8),
            "skin/joints": np.tile([0, 1], (len(y), 1)).astype(np.uint16),
            "skin/weights": np.stack([1 - upper, upper], 1).astype(np.float32),
            "shape/lean/points": moved.astype(np.uint32), "shape/lean/moves": moves[moved].astype(np.float32),
        },
    )  # fmt: skip


def lengthwise(c, y0, y1):
    """An edge of the tube that runs along it from about y0 to y1."""
    topo = topology_of(c)
    p = c.points[topo.edges]
    ok = (np.abs(p[:, 0, 1] - y0) < 0.02) & (np.abs(p[:, 1, 1] - y1) < 0.02) & (np.abs(p[:, 0, 0] - p[:, 1, 0]) < 1e-9)
    return [int(v) for v in topo.edges[np.flatnonzero(ok)[0]]]


def test_a_support_loop_keeps_surface_layout_weights_and_shapes(dressed):
    a, b = lengthwise(dressed, 0.25, 0.3125)
    made = loops.with_loop(dressed, a, b, 0.25)
    topo, old = topology_of(made), topology_of(dressed)
    assert len(made.points) == len(dressed.points) + 16 and whole(made)
    assert (topo.sizes == 4).sum() == (old.sizes == 4).sum() + 16  # quads stay quads
    assert signed_volume(made.points, topo.triangles) == pytest.approx(signed_volume(dressed.points, old.triangles))
    new = made.points[len(dressed.points) :]
    assert np.allclose(new[:, 1], new[0, 1]) and new[0, 1] == pytest.approx(0.25 + 0.25 * 0.0625)
    assert np.array_equal(made.points[: len(dressed.points)], dressed.points)  # the others to the bit
    y = made.points[:, 1]
    weight = (made.arrays["skin/weights"] * made.arrays["skin/joints"]).sum(1)
    assert np.allclose(weight, np.clip(y, 0, 1), atol=1e-6) and np.allclose(
        made.arrays["skin/weights"].sum(1), 1, atol=1e-6
    )
    moves = np.zeros((len(y), 3))
    moves[made.arrays["shape/lean/points"]] = made.arrays["shape/lean/moves"]
    assert np.allclose(moves[:, 0], 0.1 * y, atol=1e-7)
    assert np.allclose(made.arrays["uvs"][:, 1], y[topo.corners], atol=1e-6)  # the layout keeps its course
    assert np.allclose(made.arrays["colours"][:, 0], 255 * np.clip(y, 0, 1), atol=1.01)


def test_loops_all_over_a_sculpted_body_leave_it_closed(otter_mesh):
    """Rings that cross themselves, end at triangles or run over the middle: the body stays closed and of quads."""
    topo = topology_of(otter_mesh)
    done = 0
    for k in range(0, len(topo.edges), len(topo.edges) // 40):
        a, b = (int(v) for v in topo.edges[k])
        try:
            made = loops.with_loop(otter_mesh, a, b, 0.3)
        except StepRefused as refused:
            assert "quad" in str(refused)  # an edge of the mouth's triangles
            continue
        done += 1
        assert whole(made), (a, b)
        euler = len(made.points) - len(topology_of(made).edges) + len(topology_of(made).sizes)
        assert euler == len(otter_mesh.points) - len(topo.edges) + len(topo.sizes)
    assert done > 20


def test_the_step_mirrors_its_loop_and_undo_is_the_old_character(otter_mesh):
    topo = topology_of(otter_mesh)
    middle = 0.5 * (otter_mesh.points[topo.edges[:, 0]] + otter_mesh.points[topo.edges[:, 1]])
    arm = np.flatnonzero((middle[:, 0] > 0.30) & (middle[:, 0] < 0.34))
    way = otter_mesh.points[topo.edges[arm, 1]] - otter_mesh.points[topo.edges[arm, 0]]
    along = np.abs(way @ [0.69, -0.72, 0.0]) / np.linalg.norm(way, axis=1)
    a, b = (int(v) for v in topo.edges[arm[int(along.argmax())]])
    made, said = apply_step(otter_mesh, "model.slide_loop", {"edge": [a, b], "at": 0.5})
    assert health(made).asymmetry == 0.0 and whole(made) and f"points {len(otter_mesh.points):,} →" in said
    ring = len(loops.edge_ring(topo, a, b).ends)
    assert len(made.points) == len(otter_mesh.points) + 2 * ring
    with pytest.raises(BadParameters):
        apply_step(otter_mesh, "model.slide_loop", {"edge": [a, a], "at": 0.5})


def test_triangles_by_hand_and_a_cut_from_border_to_border(dressed):
    made, _ = apply_step(dressed, "model.triangulate", {"faces": [0, 5]})
    other, _ = apply_step(dressed, "model.triangulate", {"faces": [0], "other_way": True})
    assert whole(made) and (topology_of(made).sizes == 4).sum() == (topology_of(dressed).sizes == 4).sum() - 2
    assert topology_of(other).edges.shape == (len(topology_of(dressed).edges) + 1, 2)
    with pytest.raises(StepRefused, match="triangles already"):
        loops.with_triangles(made, [len(topology_of(made).sizes) - 1])
    a, b = lengthwise(dressed, 0.25, 0.3125)
    path = loops.edge_path(dressed, [a, b, b + 16, b + 32])
    slit = loops.cut_along(dressed, path)
    assert len(slit.points) == len(dressed.points) + 2  # the ends of a slit stay joined
    assert health(slit).border_edges == 6 and np.allclose(slit.arrays["skin/weights"].sum(1), 1, atol=1e-6)
    ring = [lengthwise(dressed, 0.5, 0.5625)[0]]
    around = [ring[0] + (i if ring[0] % 16 + i < 16 else i - 16) for i in range(16)] + ring
    parted = loops.cut_along(dressed, np.array(around))
    assert health(parted).islands == 2
    with pytest.raises(StepRefused, match="opens nothing"):
        loops.cut_along(dressed, loops.edge_path(dressed, [a, b]))


def test_a_mouth_bag_closes_the_lips_with_quads():
    raw = tube(rings=9, around=16)
    sizes = np.diff(raw.starts)
    keep = sizes == 4  # the ends are open
    corners = raw.corners[np.repeat(keep, sizes)]
    c = character_from_mesh(
        RawMesh(raw.points[:-2], np.arange(0, len(corners) + 1, 4), corners, np.zeros(keep.sum(), int), ["body"]),
        "sleeve",
    )
    assert health(c).border_edges == 32
    top = int(np.argmax(c.points[:, 1]))
    made, said = apply_step(c, "model.mouth_bag", {"point": top, "centimetres": 20, "rings": 3})
    h = health(made)
    assert (h.border_edges, h.turned_edges, h.nonmanifold_edges) == (16, 0, 0)
    new = made.points[len(c.points) :]
    assert new[:, 1].min() == pytest.approx(1.0 - 0.2) and new[:, 1].max() < 1.0  # inwards, as deep as said
    assert (topology_of(made).sizes[len(topology_of(c).sizes) :] == 4).sum() >= 48 + 6
    with pytest.raises(StepRefused, match="no open border"):
        loops.with_mouth_bag(made, int(len(made.points) - 1), 0.1)


# -- mends -------------------------------------------------------------------------------------------------------
def test_welding_a_mesh_whose_faces_came_apart(tube_character):
    topo = topology_of(tube_character)
    rng = np.random.default_rng(5)
    apart = tube_character.points[topo.corners] + rng.uniform(-1e-5, 1e-5, (len(topo.corners), 3))
    c = character_from_mesh(
        RawMesh(apart, topo.starts, np.arange(len(apart)), np.zeros(len(topo.sizes), int), ["body"]), "apart"
    )
    made = mending.welded(c, 1e-4)
    assert len(made.points) == len(tube_character.points) and whole(made)
    with pytest.raises(StepRefused, match="nearer than"):
        mending.welded(made, 1e-4)
    with pytest.raises(StepRefused, match="No face would be left of body"):
        mending.welded(tube_character, 0.05)  # rounds of the tube fall together
    near = tube_character.points.copy()
    near[5 * 16 : 6 * 16, 1] = near[6 * 16 : 7 * 16, 1] - 0.001  # two rounds nearly in one place
    collapsed = mending.welded(tube_character.with_(arrays={"points": near}), 0.01)
    assert len(collapsed.points) == len(near) - 16
    assert health(collapsed).flat_faces == 0


def test_faces_are_turned_outward_whatever_way_they_were(otter_mesh):
    rng = np.random.default_rng(11)
    part = otter_mesh.part("body")
    flip = np.zeros(len(topology_of(otter_mesh).sizes), bool)
    flip[part.faces[0] : part.faces[1]] = rng.random(part.faces[1] - part.faces[0]) < 0.4
    bad = mending.flipped(otter_mesh, flip)
    assert health(bad).turned_edges > 1000
    good = mending.outward(bad)
    assert health(good).turned_edges == 0
    assert signed_volume(good.points, topology_of(good).triangles) > 0
    same = np.sort(good.arrays["face_corners"].reshape(-1)) == np.sort(otter_mesh.arrays["face_corners"].reshape(-1))
    assert same.all()
    with pytest.raises(StepRefused, match="outward already"):
        mending.outward(good)
    inside_out = mending.flipped(otter_mesh, np.ones(len(flip), bool))
    again = mending.outward(inside_out)
    assert signed_volume(again.points, topology_of(again).triangles) == pytest.approx(
        signed_volume(otter_mesh.points, topology_of(otter_mesh).triangles)
    )


def test_strays_go_and_the_rest_stays_to_the_bit(tube_character):
    topo, n = topology_of(tube_character), len(tube_character.points)
    crumb = np.array([[2.0, 0, 0], [2.1, 0, 0], [2.0, 0.1, 0]])
    points = np.vstack([tube_character.points, crumb, [[5.0, 5, 5]]])
    corners = np.concatenate([topo.corners, [n, n + 1, n + 2], topo.corners[:4], [0, 1, 1]])
    starts = np.concatenate([topo.starts, topo.starts[-1] + np.array([3, 7, 10])])
    c = character_from_mesh(RawMesh(points, starts, corners, np.zeros(len(starts) - 1, int), ["body"]), "untidy")
    made = mending.without_strays(c)
    assert np.array_equal(made.points, tube_character.points) and whole(made)
    with pytest.raises(StepRefused, match="nothing astray"):
        mending.without_strays(made)


@pytest.mark.parametrize("side", ["both", "left", "right"])
def test_symmetrising_makes_partners_equal_to_the_bit(otter_mesh, side):
    rng = np.random.default_rng(2)
    dented = otter_mesh.with_(arrays={"points": otter_mesh.points + rng.normal(0, 2e-4, otter_mesh.points.shape)})
    made = mending.symmetrised(dented, 0.004, side)
    h = health(made)
    assert h.asymmetry < 0.004 and len(h.asymmetry_points) < 0.02 * len(made.points)
    assert np.abs(made.points - dented.points).max() < 0.004
    if side == "left":
        left = dented.points[:, 0] > 0
        assert np.array_equal(
            made.points[left & (made.points[:, 0] > 0)], dented.points[left & (made.points[:, 0] > 0)]
        )
    with pytest.raises(StepRefused, match="have a partner"):
        mending.symmetrised(dented.with_(arrays={"points": dented.points + [1.0, 0, 0]}), 0.004)


def test_parts_are_split_and_joined_without_losing_anything(otter_mesh):
    joined = mending.joined_parts(otter_mesh, tuple(p.name for p in otter_mesh.parts))
    assert len(joined.parts) == 1 and len(joined.points) == len(otter_mesh.points)
    split = mending.split_part(joined, joined.parts[0].name, "island")
    assert len(split.parts) == health(otter_mesh).islands
    rows = lambda c: c.points[np.lexsort(c.points.T)]  # noqa: E731
    assert np.array_equal(rows(split), rows(otter_mesh))
    for p in split.parts:
        faces = split.arrays["face_corners"][
            split.arrays["face_starts"][p.faces[0]] : split.arrays["face_starts"][p.faces[1]]
        ]
        assert faces.min() >= p.points[0] and faces.max() < p.points[1]
    less = mending.without_part(otter_mesh, "tongue")
    assert "tongue" not in {p.name for p in less.parts} and len(less.points) < len(otter_mesh.points)


def test_splitting_by_the_groups_that_faces_came_with():
    from vonkel.core.formats import read_character

    text = "o box\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 2 0 0\nv 2 1 0\ng left\nf 1 2 3 4\ng right\nf 2 5 6 3\n"
    c = read_character("box.obj", text.encode())
    assert c.groups == ("left", "right") and len(c.parts) == 1
    made = mending.split_part(c, "box", "group")
    assert [p.name for p in made.parts] == ["box", "right"] and len(made.points) == 8  # the shared edge is doubled


def test_nothing_left_is_refused(tube_character):
    knife = Knife(tube_character)
    knife.keep_face[:] = False
    knife.drop_loose()
    with pytest.raises(StepRefused, match="Nothing of the mesh"):
        knife.finish()


def test_settling_keeps_every_point_and_resizing_carries_all(otter_mesh):
    from vonkel.core.formats import read_character
    from vonkel.demo import DATA

    c = read_character("crated.glb", (DATA / "crated.glb").read_bytes())
    assert c.parts[0].carried is not None and c.parts[0].carried[0] == pytest.approx(0.01)
    made, said = apply_step(c, "model.settle", {})
    assert made.parts[0].carried is None and np.array_equal(made.points, c.points) and "no point moved" in said
    high = int(np.argmax(otter_mesh.points[:, 1]))
    scaled, _ = apply_step(otter_mesh, "model.resize", {"measure": "place", "points": [high], "metres": 2.0})
    assert np.ptp(scaled.points[:, 1]) == pytest.approx(2.0)
