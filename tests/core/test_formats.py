"""Reading and writing open formats; every bad file gets one clear refusal."""

import json
import struct

import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import tube
from vonkel.core.errors import BadFile, TooLarge, VonkelError
from vonkel.core.formats import read_character, read_mesh
from vonkel.core.formats.gltf_tree import Writer
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.handover import written
from vonkel.demo import DATA

OBJ = b"o one\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1/1 2/2 3/3 4/4\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n"


def test_obj_keeps_quads_order_names_and_colours():
    text = "# two parts\no left paw\nv 0 0 0 1 0 0\nv 1 0 0 1 0 0\nv 1 1 0 1 0 0\nv 0 1 0 1 0 0\nf 1 2 3 4\no tongue\nv 0 0 1 0 0 1\nv 1 0 1 0 0 1\nv 1 1 1 0 0 1\nf -3 -2 -1\n"
    c = read_character("x.obj", text.encode())
    assert [(p.name, p.role, p.points) for p in c.parts] == [("left paw", "skin", (0, 4)), ("tongue", "tongue", (4, 7))]
    assert np.diff(c.arrays["face_starts"]).tolist() == [4, 3] and c.arrays["colours"][0].tolist() == [255, 0, 0]
    again = read_character("y.obj", written(c, ".obj"))
    assert np.allclose(again.points, c.points) and np.array_equal(
        again.arrays["face_corners"], c.arrays["face_corners"]
    )
    assert np.array_equal(again.arrays["colours"], c.arrays["colours"])


def test_obj_texture_places_may_come_last():
    c = read_character("x.obj", OBJ)
    assert c.arrays["uvs"].tolist() == [[0, 1], [1, 1], [1, 0], [0, 0]]  # kept as glTF does: V runs down
    again = read_character("y.obj", written(c, ".obj"))
    assert again.arrays["uvs"].tolist() == c.arrays["uvs"].tolist()


@pytest.mark.parametrize("order", ["ascii", "binary_little_endian", "binary_big_endian"])
def test_ply_in_all_its_forms(order):
    head = f"ply\nformat {order} 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n"
    rows = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
    if order == "ascii":
        body = "".join(f"{x} {y} {z} 9 8 7\n" for x, y, z in rows).encode() + b"4 0 1 2 3\n"
    else:
        e = "<" if "little" in order else ">"
        body = b"".join(struct.pack(e + "fffBBB", *r, 9, 8, 7) for r in rows) + struct.pack(e + "Biiii", 4, 0, 1, 2, 3)
    c = read_character("x.ply", head.encode() + body)
    assert np.allclose(c.points, rows) and np.diff(c.arrays["face_starts"]).tolist() == [4]
    assert c.arrays["colours"][2].tolist() == [9, 8, 7]


def test_foreign_glb_is_read_with_its_transforms(tmp_path):
    """Written by trimesh: two meshes, one moved, turned and scaled."""
    scene = trimesh.Scene()
    box = trimesh.creation.box((1, 2, 3))
    m = trimesh.transformations.compose_matrix(scale=(2, 2, 2), angles=(0.1, 0.2, 0.3), translate=(5, 0, 1))
    scene.add_geometry(box, node_name="body", transform=m)
    scene.add_geometry(trimesh.creation.icosphere(1), node_name="eye left")
    c = read_character("t.glb", scene.export(file_type="glb"))
    assert {p.name: p.role for p in c.parts} == {"body": "skin", "eye left": "eye"}
    body = c.part("body")
    expected = trimesh.transform_points(box.vertices, m)
    got = c.points[body.points[0] : body.points[1]]
    assert len(got) == 8 and all(np.abs(expected - g).max(1).min() < 1e-6 for g in got)


def test_the_rig_comes_back_from_its_own_glb(otter):
    back = read_character("otter.glb", written(otter, ".glb"))
    assert [j.name for j in back.joints] == [j.name for j in otter.joints]
    assert np.allclose([j.place for j in back.joints], [j.place for j in otter.joints], atol=1e-6)
    assert np.allclose(
        np.abs(np.sum(np.array([j.turn for j in back.joints]) * [j.turn for j in otter.joints], 1)), 1, atol=1e-6
    )
    assert back.skin.joints == otter.skin.joints and back.skin.method == "dual"
    assert (
        np.allclose(back.arrays["skin/weights"], otter.arrays["skin/weights"])
        and np.abs(back.points - otter.points).max() < 1e-6
    )
    assert [(p.name, p.role, p.points) for p in back.parts] == [(p.name, p.role, p.points) for p in otter.parts]
    assert [s.name for s in back.shapes] == ["mouth open"]
    assert np.abs(back.arrays["colours"].astype(int) - otter.arrays["colours"]).max() <= 1


def test_texture_seams_make_copies_after_all_points():
    mesh = tube(3, 6)
    mesh.uvs = np.random.default_rng(0).random((len(mesh.corners), 2)).round(2)
    c = character_from_mesh(mesh, "seams")
    raw = read_mesh("seams.glb", written(c, ".glb"))
    assert len(raw.points) == len(c.points)  # joined again: copies stand in the same place
    from vonkel.core.formats.gltf_tree import Tree

    tree = Tree("seams.glb", written(c, ".glb"))
    places = tree.accessor(tree.json["meshes"][0]["primitives"][0]["attributes"]["POSITION"])
    assert len(places) > len(c.points) and np.allclose(places[: len(c.points)], c.points, atol=1e-6)


def glb(points, faces, **changes):
    w = Writer()
    attributes = {"POSITION": w.add(np.asarray(points, np.float32), "VEC3", 34962)}
    primitive = {"attributes": attributes, "indices": w.add(np.asarray(faces, np.uint32).ravel(), "SCALAR", 34963)}
    for key, value in changes.items():
        w.accessors[0][key] = value
    tree = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [primitive]}],
    }
    return w.glb(tree)


TRIANGLE = [[0, 0, 0], [1, 0, 0], [0, 1, 0]]
GOOD = glb(TRIANGLE, [0, 1, 2])
BAD = {
    "truncated .glb": ("a.glb", GOOD[: len(GOOD) // 2], "cut short|claims"),
    "2 GB claim in the header": ("a.glb", GOOD[:8] + struct.pack("<I", 2**31) + GOOD[12:], "claims 2,147,483,648 bytes"),
    "2 GB claim in an accessor": ("a.glb", glb(TRIANGLE, [0, 1, 2], count=2**31), "too long"),
    "more points than bytes": ("a.glb", glb(TRIANGLE, [0, 1, 2], count=90_000), "ends before"),
    "text renamed .glb": ("a.glb", b"just some words, nothing more than that", "doesn't begin"),
    "NaN points in .glb": ("a.glb", glb([[0, 0, np.nan], [1, 0, 0], [0, 1, 0]], [0, 1, 2]), "not numbers"),
    "index out of range": ("a.glb", glb(TRIANGLE, [0, 1, 7]), "names point 8, but there are 3"),
    "NaN points in OBJ": ("a.obj", b"v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "Point 1 has a place that is not a number"),
    "face names a missing vertex": ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "Face 1 names point 9, but there are 3"),
    "face names vertex zero": ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n", "line 4"),
    "no faces": ("a.obj", b"v 0 0 0\nv 1 0 0\n", "no faces"),
    "no points": ("a.obj", b"hello\n", "no points"),
    "binary renamed .obj": ("a.obj", GOOD, "not text"),
    "empty": ("a.ply", b"", "empty"),
    "ply without a header": ("a.ply", b"plymouth", "doesn't begin as a PLY"),
    "ply claims a billion points": ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 1000000000\nproperty float x\nend_header\n", "claims 1,000,000,000"),
    "ply cut short": ("a.ply", b"ply\nformat binary_little_endian 1.0\nelement vertex 9\nproperty float x\nproperty float y\nproperty float z\nend_header\nxx", "ends before"),
    "another kind of file": ("a.stl", b"solid", "can't read"),
    "gltf with files beside it": ("a.gltf", json.dumps({"asset": {"version": "2.0"}, "buffers": [{"uri": "../../etc/passwd", "byteLength": 3}]}).encode(), "another file"),
    "deep json": ("a.gltf", b"[" * 100_000, "not JSON"),
    "gltf of the wrong shape": ("a.gltf", b'{"asset": {"version": "2.0"}, "scenes": 7, "meshes": {}}', "not a list"),
}  # fmt: skip


@pytest.mark.parametrize("what", BAD)
def test_bad_files_are_refused_in_words(what):
    name, data, words = BAD[what]
    with pytest.raises(BadFile, match=words) as caught:
        read_character(name, data)
    assert caught.value.what
    assert caught.value.where
    assert caught.value.todo


def test_too_large_says_so():
    with pytest.raises(TooLarge, match="element|claims"):
        read_mesh(
            "a.ply",
            b"ply\nformat ascii 1.0\nelement face 99999999\nproperty list uchar int vertex_indices\nend_header\n",
        )


@settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.binary(max_size=40), st.integers(0, len(GOOD) - 1), st.sampled_from(["a.glb", "a.obj", "a.ply"]))
def test_damaged_files_never_do_worse_than_a_refusal(junk, at, name):
    data = {
        "a.glb": GOOD,
        "a.obj": OBJ,
        "a.ply": b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nend_header\n1\n",
    }[name]
    at = at % len(data)
    try:
        read_character(name, data[:at] + junk + data[at + len(junk) :])
    except VonkelError:
        pass


SMALL = {
    "a.glb": (DATA / "crated.glb").read_bytes(),
    "a.obj": b"o body\n" + b"".join(b"v %d %d %d\n" % (i & 1, i >> 1 & 1, i >> 2) for i in range(8))
    + b"f 1 3 4 2\nf 5 6 8 7\nf 1 2 6 5\nf 3 7 8 4\nf 1 5 7 3\nf 2 4 8 6\nl 1 8\n",
    "a.svg": b'<svg xmlns="http://www.w3.org/2000/svg" width="10cm" height="20cm" viewBox="0 0 10 20">'
    b'<path d="M0 0 L5 5 C1 2 3 4 5 6 A3 3 0 0 1 8 8 Z"/><circle cx="1" cy="2" r="3" transform="rotate(30) scale(2)"/></svg>',
    "a.ply": b"ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
    b"element face 2\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n0 0 1\n3 0 1 2\n3 0 2 3\n",
}  # fmt: skip


@pytest.mark.parametrize("name", SMALL)
def test_damaged_bytes_are_read_or_refused_in_words_and_nothing_worse(name):
    """Seeded damage, half of it in the first 2500 bytes, where the structure of every format is told."""
    rng = np.random.default_rng(1)
    read_character(name, SMALL[name])
    read = refused = 0
    for i in range(300):
        data = bytearray(SMALL[name])
        if i % 5 == 0:
            del data[int(rng.integers(len(data))) :]
        for _ in range(int(rng.integers(1, 4))):
            at = int(rng.integers(min(len(data), 2500) if i % 2 else len(data))) if data else 0
            if data:
                data[at] = int(rng.integers(256)) if i % 3 else int(rng.choice(list(b'0123456789-{}[],.e"')))
        try:
            c = read_character(name, bytes(data))
        except VonkelError as error:
            refused += 1
            assert error.what and error.todo
        else:
            read += 1
            assert np.isfinite(c.points).all() and c.arrays["face_corners"].max(initial=0) < len(c.points)
    assert read and refused
