"""Files as they are found: valid ones that were refused once, and bad ones that once got past, fell over or never ended."""

import base64
import gzip
import io
import json
import time
import zipfile

import numpy as np
import pytest

from tests.fuzz.seeds import binary_ply, gltf_json, rigged, tail
from vonkel.core.errors import BadFile, TooLarge, VonkelError
from vonkel.core.formats import read_character, read_mesh, together
from vonkel.core.formats.gltf_tree import Writer
from vonkel.core.formats.reading import LIMITS, array_from_npy, claim, count, npy, reading
from vonkel.core.handover import written
from vonkel.core.soundness import unsound
from vonkel.readings import findings
from vonkel.steps import apply_step
from vonkel.workshop import Workshop
from vonkel.workshop.package import opened


def parted(tree: dict, name: str = "its data.bin") -> tuple[bytes, bytes]:
    """A .gltf whose data lies in a file beside it."""
    data = base64.b64decode(tree["buffers"][0]["uri"].split(",", 1)[1])
    tree["buffers"][0]["uri"] = name.replace(" ", "%20")
    return json.dumps(tree).encode(), data


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as z:
        for name, data in files.items():
            z.writestr(name, data)
    return out.getvalue()


# -- valid files -----------------------------------------------------------------------------------------------------
def test_a_gltf_finds_the_file_beside_it():
    inside = read_character("a.gltf", gltf_json())
    text, data = parted(json.loads(gltf_json()))
    beside = read_character("a.gltf", text, beside={"its data.bin": data})
    assert np.array_equal(beside.points, inside.points)
    name, given, others = together({"folder/its data.bin": data, "folder/a.gltf": text, "folder/a.png": b"x"})
    assert (name, given, set(others)) == ("a.gltf", text, {"its data.bin", "a.png"})
    packed = read_character("both.zip", zipped({"in/a.gltf": text, "in/its data.bin": data, "__MACOSX/a.gltf": b""}))
    assert np.array_equal(packed.points, inside.points)
    with pytest.raises(BadFile, match="its data.bin.*drop both together"):
        read_character("a.gltf", text)
    with pytest.raises(BadFile, match="several meshes"):
        together({"a.obj": b"", "b.obj": b""})
    with pytest.raises(BadFile, match="None of these"):
        together({"a.bin": b"", "b.png": b""})


def test_a_name_that_leads_out_of_the_folder_leads_nowhere(tmp_path):
    """Only the last part of a URI counts, and only files that were given."""
    text, data = parted(json.loads(gltf_json()), "../../etc/passwd")
    with pytest.raises(BadFile, match="“passwd”"):
        read_character("a.gltf", text, beside={"its data.bin": data})


def test_strips_and_fans_are_triangles():
    """glTF 2.0, section 3.7.2.1: strip p_i = {i, i + (1 + i mod 2), i + (2 − i mod 2)}; fan p_i = {i + 1, i + 2, 0}."""
    c = read_character("a.gltf", gltf_json())
    strip, fan = c.parts
    faces = c.arrays["face_corners"].reshape(-1, 3)
    assert faces[slice(*strip.faces)].tolist() == [[0, 1, 2], [1, 3, 2]]
    at = fan.points[0]
    assert (faces[slice(*fan.faces)] - at).tolist() == [[1, 2, 0], [2, 3, 0]]


def test_one_impossible_target_is_left_out_and_told():
    """The mesh is of use without it; a finding says what is missing, until that is noted."""
    tree = json.loads(gltf_json())
    raw = bytearray(base64.b64decode(tree["buffers"][0]["uri"].split(",", 1)[1]))
    moves = tree["accessors"][tree["meshes"][0]["primitives"][0]["targets"][0]["POSITION"]]
    at = tree["bufferViews"][moves["bufferView"]]["byteOffset"]
    raw[at : at + 48] = np.full(12, 50.0, np.float32).tobytes()  # fifty times as far as the mesh is large
    tree["buffers"][0]["uri"] = "data:;base64," + base64.b64encode(bytes(raw)).decode()
    c = read_character("a.gltf", json.dumps(tree).encode())
    assert len(c.points) == 8
    assert [s.name for s in c.shapes] == ["shape 1"]  # the other part's is read
    note = next(f for f in findings(c) if "couldn't be used" in f.title)
    assert "“up”" in note.detail
    done, said = apply_step(c, note.mend.step, note.mend.params)
    assert done.left_out == () and "left out" in said
    assert not any("couldn't be used" in f.title for f in findings(done))


def test_lines_of_an_obj_may_go_on_in_the_next():
    """Wavefront's text: a backslash at the end of a line joins the next one to it."""
    text = b"v 0 0 \\\n0\nv 1 0 0\r\nv 1 1 0\nv 0 1 0\nf 1 2 \\\r\n 3 \\\n4\n"
    c = read_character("a.obj", text)
    assert c.arrays["face_corners"].tolist() == [0, 1, 2, 3]
    utf16 = read_character(
        "a.obj", ("\ufeff" + text.decode().replace("\\\n", " ").replace("\\\r\n", " ")).encode("utf-16-le")
    )
    assert np.array_equal(utf16.points, c.points)
    with pytest.raises(BadFile, match="Line 3 can't be read"):  # told by the line it began on
        read_character("a.obj", b"v 0 0 0\nv 1 0 0\nv 1 \\\nx 0\n")


def drawn(inside: str, more: str = "") -> np.ndarray:
    """Points of a drawing in its own units: x to the right, y down, as drawn."""
    text = f'<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink">{more}{inside}</svg>'
    mesh = read_mesh("a.svg", text.encode())
    return mesh.points[:, :2] * [1000, -1000]


def spans(points: np.ndarray) -> list[float]:
    return np.ptp(points, axis=0).round(6).tolist()


def test_rectangles_uses_and_packed_flags_are_drawn():
    """SVG 1.1: 9.2 (rect), 5.6 (use), 8.3.9 (numbers of path data may stand together)."""
    assert len(drawn('<rect x="5" y="7" width="20" height="10"/>')) == 4
    assert spans(drawn('<rect x="5" y="7" width="20" height="10"/>')) == [20, 10]
    round_ = drawn('<rect width="20" height="10" rx="3"/>')
    assert spans(round_) == [20, 10]
    corner = round_[(round_[:, 0] < round_[:, 0].min() + 2.9) & (round_[:, 1] < round_[:, 1].min() + 2.9)]
    far = np.linalg.norm(corner - (round_.min(0) + 3), axis=1)
    assert far == pytest.approx(np.full(len(corner), 3.0), abs=1e-6)  # on the corner's own circle
    twice = drawn('<path id="a" d="M0 0L4 0L4 3"/><use xlink:href="#a" x="10" y="20"/><use href="#a" x="30"/>')
    assert len(twice) == 9
    assert spans(twice) == [34, 23]
    hidden = drawn('<use href="#a"/>', '<defs><path id="a" d="M0 0L4 0L4 3"/></defs>')
    assert len(hidden) == 3  # what is only defined shows where it is used
    apart = drawn('<path d="M 0 0 a 1 1 0 0 1 1 1"/>')
    together_ = drawn('<path d="M0 0a1 1 0 011 1"/>')
    assert np.allclose(apart, together_)
    assert len(drawn('<path d="M0 0a25,25-30 0150-25"/>')) == 17


def test_what_uses_itself_is_refused():
    with pytest.raises(VonkelError):
        drawn('<g id="a"><path d="M0 0L1 1"/><use href="#a"/></g>')
    many = "".join(f'<g id="g{i}"><use href="#g{i + 1}"/><use href="#g{i + 1}"/></g>' for i in range(20))
    began = time.perf_counter()
    with pytest.raises(TooLarge, match="more shapes"):
        drawn(f'{many}<path id="g20" d="M0 0L1 1"/>')
    assert time.perf_counter() - began < 20


def test_sixteen_bit_colours_are_scaled():
    for order in "<>":
        c = read_character("a.ply", binary_ply(order))
        assert (
            c.arrays["colours"][0].tolist() == [round(40000 / 257)] * 3
            or abs(int(c.arrays["colours"][0, 0]) - 155) <= 1
        )
        assert c.points[2].tolist() == [1.0, 1.0, 0.5]


def test_faces_of_many_lengths_are_read_alike_as_text_and_as_bytes():
    rng = np.random.default_rng(4)
    sizes = rng.integers(3, 7, 40)
    faces = [rng.permutation(12)[:n] for n in sizes]
    places = rng.normal(size=(12, 3)).astype(np.float32)
    head = "element vertex 12\nproperty float x\nproperty float y\nproperty float z\nelement face 40\nproperty list uchar int vertex_indices\nend_header\n"  # fmt: skip
    text = f"ply\nformat ascii 1.0\n{head}" + "\n".join(" ".join(repr(float(v)) for v in p) for p in places)
    text += "\n" + "\n".join(f"{len(f)} " + " ".join(map(str, f)) for f in faces)
    binary = f"ply\nformat binary_little_endian 1.0\n{head}".encode() + places.tobytes()
    binary += b"".join(bytes([len(f)]) + f.astype("<i4").tobytes() for f in faces)
    a, b = read_mesh("a.ply", text.encode()), read_mesh("a.ply", binary)
    assert np.array_equal(a.corners, b.corners) and np.array_equal(a.starts, b.starts)
    assert np.array_equal(a.corners, np.concatenate(faces))
    assert np.allclose(a.points, b.points)


def test_a_rigged_glb_keeps_points_that_lie_on_one_another():
    """Closed lips: two points at one place, with a texture layout, are two points again."""
    c = tail()
    places = c.points.copy()
    places[1] = places[0]
    c = c.with_(arrays={"points": places.astype(np.float32).astype(float)})
    back = read_character("a.glb", written(c, ".glb"))
    assert len(back.points) == len(c.points)
    assert np.allclose(back.points, c.points)
    assert np.allclose(back.arrays["skin/weights"][:, :2], c.arrays["skin/weights"], atol=1e-6)
    triangles = back.arrays["face_corners"]
    ours = read_character("b.glb", written(c.with_(arrays={"uvs": None}), ".glb")).arrays["face_corners"]
    assert np.array_equal(triangles, ours)  # the faces go between the same points as without a layout
    assert back.arrays["uvs"].shape == (len(triangles), 2)


def test_names_of_files_become_names_that_can_be_stored():
    text = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
    assert read_character("a.obj", text, "Fox / v2").name == "Fox   v2"
    assert read_character("a\\b.obj", text).name == "a b"
    assert read_character("a.obj", text, "\n").name == "a"
    assert unsound(read_character("a.obj", text, "x" * 200)) == ""


# -- bad files -------------------------------------------------------------------------------------------------------
def gltf(**changes) -> bytes:
    tree = json.loads(gltf_json())
    for path, value in changes.items():
        at = tree
        *way, last = path.split("__")
        for k in way:
            at = at[int(k) if k.isdigit() else k]
        at[int(last) if last.isdigit() else last] = value
    return json.dumps(tree).encode()


PLY = "ply\nformat ascii 1.0\nelement vertex {n}\nproperty {t} x\nproperty float y\nproperty float z\n{more}end_header\n{body}"
FACE = "element face 1\nproperty list {c} int vertex_indices\n"


def ply(body: str, n: int = 3, t: str = "float", more: str = "") -> bytes:
    return PLY.format(n=n, t=t, more=more, body=body).encode()


BAD = {
    "buffers that are none": ("a.gltf", gltf(buffers=[7])),
    "extensions that are no words": ("a.gltf", gltf(extensionsRequired=[{}])),
    "a stride beyond all": ("a.gltf", gltf(bufferViews__0__byteStride=10**30)),
    "a rotation of nothing": ("a.gltf", gltf(nodes__0__rotation=[0, 0, 0, 0])),
    "texture places of one number": ("a.gltf", gltf(accessors__3__type="SCALAR")),
    "a colour of two numbers": ("a.gltf", gltf(materials__0__pbrMetallicRoughness__baseColorFactor=[1, 2])),
    "rows without data": ("a.gltf", gltf(accessors__4__count=16_000_000)),
    "a byte of three hundred": ("a.ply", ply("300 0 0\n1 0 0\n0 1 0\n3 0 1 2", t="uchar", more=FACE.format(c="uchar"))),
    "a face that names nan": ("a.ply", ply("0 0 0\n1 0 0\n0 1 0\n3 0 1 nan", more=FACE.format(c="uchar"))),
    "a face that names what no number holds": ("a.ply", ply("0 0 0\n1 0 0\n0 1 0\n3 0 1 99999999999999999999", more=FACE.format(c="uchar"))),
    "a list of endless length": ("a.ply", ply("0 0 0\n1 0 0\n0 1 0\ninf 0 1 2", more=FACE.format(c="float"))),
    "places that are lists": ("a.ply", ply("1 0 0 0", n=1, t="list uchar float")),
    "faces of one point": ("a.ply", ply("0 0 0\n1 0 0\n0 1 0\n0", more="element face 1\nproperty int vertex_indices\n")),
    "no points and a face": ("a.ply", ply("3 0 1 2", n=0, more=FACE.format(c="uchar"))),
    "words for numbers": ("a.ply", ply("0 0 zero\n1 0 0\n0 1 0")),
    "an obj of no points and a face": ("a.obj", b"f 1 2 3\n"),
    "an obj face far beyond": ("a.obj", b"v 0 0 0\nf 1 2 99999999999999999999999\n"),
    "an svg in no known letters": ("a.svg", b'<?xml version="1.0" encoding="zzz"?><svg/>'),
    "entities of one's own": ("a.svg", b'<!DOCTYPE svg [<!ENTITY a "b">]><svg><path d="M0 0L1 1"/></svg>'),
    "entities in other letters": ("a.svg", '<?xml version="1.0" encoding="UTF-16"?><!DOCTYPE svg [<!ENTITY a "M0 0L1 1">]><svg><path d="&a;"/></svg>'.encode("utf-16")),
    "an svg that names a file": ("a.svg", b'<!DOCTYPE svg [<!ENTITY a SYSTEM "file:///etc/passwd">]><svg><text>&a;</text></svg>'),
    "words in path data": ("a.svg", b'<svg><path d="M0 0 hello"/></svg>'),
    "no zip": ("a.zip", b"PK nonsense"),
    "a zip without a mesh": ("a.zip", zipped({"a.txt": b"x"})),
}  # fmt: skip


@pytest.mark.parametrize("what", BAD)
def test_bad_files_are_refused_in_our_own_words(what):
    name, data = BAD[what]
    began = time.perf_counter()
    with pytest.raises(BadFile) as caught:
        read_character(name, data)
    assert time.perf_counter() - began < 5
    assert caught.value.where and caught.value.todo
    for word in ("Error", "object", "NoneType", "dtype", "codec", "literal"):
        assert word not in caught.value.what + caught.value.where, word


def test_what_can_be_read_of_odd_files_is_read():
    """An arc between points too near to tell apart, and lines of one point, hurt nobody."""
    assert len(drawn('<path d="M0 0L5 5a1 1 0 0 1 1e-200 1e-200L9 9"/>')) > 3
    c = read_character("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\nl\nl 2\n")
    assert "line_starts" not in c.arrays
    nan = json.loads(gltf_json())
    raw = bytearray(base64.b64decode(nan["buffers"][0]["uri"].split(",", 1)[1]))
    at = nan["bufferViews"][nan["accessors"][3]["bufferView"]]["byteOffset"]
    raw[at : at + 4] = np.array([np.nan], np.float32).tobytes()
    nan["buffers"][0]["uri"] = "data:;base64," + base64.b64encode(bytes(raw)).decode()
    c = read_character("a.gltf", json.dumps(nan).encode())
    assert "uvs" not in c.arrays
    assert any("texture places" in s for s in c.left_out)


ENDLESS = {
    "a transform of letters": ("a.svg", b'<svg><path transform="' + b"a" * 200_000 + b'" d="M0 0L1 1"/></svg>'),
    "a transform of brackets": ("a.svg", b'<svg><path transform="' + b"a(" * 100_000 + b'" d="M0 0L1 1"/></svg>'),
    "a path without end": ("a.svg", b'<svg><path d="M0 0' + b"L1 1" * 2_000_000 + b'"/></svg>'),
    "elements of nothing": ("a.ply", b"ply\nformat ascii 1.0\n" + b"".join(b"element e%d 4000000\n" % i for i in range(1000)) + b"end_header\n"),
    "nodes without end": ("a.gltf", json.dumps({"asset": {"version": "2.0"}, "nodes": [{}] * 300_000, "scenes": [{"nodes": list(range(300_000))}]}).encode()),
    "groups without end": ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\n" + b"".join(b"g %d\nf 1 2 3\n" % i for i in range(120_000))),
}  # fmt: skip


@pytest.mark.parametrize("what", ENDLESS)
def test_no_file_takes_for_ever(what):
    name, data = ENDLESS[what]
    began = time.perf_counter()
    try:
        read_character(name, data)
    except BadFile:
        pass
    assert time.perf_counter() - began < 12  # of a busy machine; seconds at the most, where it was minutes


def test_many_groups_of_one_body_are_read_in_time():
    text = b"v 0 0 0\nv 1 0 0\nv 0 1 0\n" + b"".join(b"g %d\nf 1 2 3\n" % i for i in range(30_000))
    began = time.perf_counter()
    c = read_character("a.obj", text)
    assert len(c.parts) == 1 and len(c.groups) == 30_000
    assert time.perf_counter() - began < 12


def test_a_reader_counts_as_it_goes(monkeypatch):
    """Points are counted while they are read, not when the whole file is in memory."""
    monkeypatch.setitem(LIMITS, "points", 5_000)
    text = b"v 0 0 0\n" * 400_000
    began = time.perf_counter()
    with pytest.raises(TooLarge, match="more than 5,000 points"):
        read_mesh("a.obj", text)
    assert time.perf_counter() - began < 1.0


def test_the_guard_keeps_time_and_memory():
    with pytest.raises(TooLarge, match="takes too long"), reading("a.file", seconds=-1.0):
        count("points", 1)
    with pytest.raises(TooLarge, match="more memory"), reading("a.file"):
        claim(10**12)
    with pytest.raises(TooLarge, match="no room in memory"), reading("a.file"):
        raise MemoryError
    with pytest.raises(BadFile, match="nested too deeply"), reading("a.file"):
        raise RecursionError
    with pytest.raises(BadFile, match="can't be read through") as caught, reading("a.file"):
        raise AttributeError("'NoneType' object has no attribute 'get'")
    assert "NoneType" not in str(caught.value)
    count("points", 10**9)  # outside a guard nobody counts


# -- whole characters ------------------------------------------------------------------------------------------------
def test_arrays_say_what_they_hold_before_they_are_made():
    good = np.arange(6, dtype=np.float32).reshape(2, 3)
    assert np.array_equal(array_from_npy(npy(good)), good)
    huge = npy(good).replace(b"(2, 3)", b"(2000000000, 1000)"[:6])
    assert array_from_npy(huge) is None
    for broken in (
        b"",
        b"\x93NUMPY",
        npy(good)[:-1],
        npy(good).replace(b"'<f4'", b"'|O8'"),
        npy(good).replace(b"{'descr'", b"{'descr(("),
    ):
        assert array_from_npy(broken) is None


def test_a_description_that_unpacks_without_end_is_refused(tmp_path):
    shop = Workshop(tmp_path)
    whole = shop.pack(shop.add(rigged(), {}, "Made"))
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(whole)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            body = old.read(name)
            new.writestr(name, body + b" " * (70 * 1024 * 1024) if name == "character.json" else body)
    assert len(out.getvalue()) < 1024 * 1024
    with pytest.raises(TooLarge, match="description is larger"):
        opened(out.getvalue(), "a.vonkel")
    with pytest.raises(BadFile):
        opened(gzip.compress(b"x"), "a.vonkel")


def test_an_own_glb_is_checked_whole():
    """Weights that don't sum to one, a parent that isn't there: a file that says it is ours is looked at like any other."""
    data = written(rigged(), ".glb")
    size = int.from_bytes(data[12:16], "little")
    tree = json.loads(data[20 : 20 + size])
    attributes = tree["meshes"][0]["primitives"][0]["attributes"]
    view = tree["bufferViews"][tree["accessors"][attributes["WEIGHTS_0"]]["bufferView"]]
    raw = bytearray(data)
    at = 20 + size + 8 + view["byteOffset"]
    raw[at : at + 4] = np.array([0.25], np.float32).tobytes()
    with pytest.raises(BadFile, match="weights"):
        read_character("a.glb", bytes(raw))
    raw[at : at + 4] = np.array([np.nan], np.float32).tobytes()
    with pytest.raises(BadFile, match="not a number"):
        read_character("a.glb", bytes(raw))


def test_a_part_without_faces_stays_out_of_the_file():
    """glTF wants a primitive in every mesh: what has none is left out, and the rest comes back."""
    c = tail()
    two = c.parts[0].model_copy(
        update={"name": "crumbs", "points": (len(c.points), len(c.points) + 2), "faces": (c.parts[0].faces[1],) * 2}
    )
    k = c.arrays["skin/joints"].shape[1]
    more = c.with_(
        parts=(*c.parts, two),
        arrays={
            "points": np.concatenate([c.points, np.ones((2, 3))]), "colours": np.concatenate([c.arrays["colours"], np.zeros((2, 3), np.uint8)]),
            "skin/joints": np.concatenate([c.arrays["skin/joints"], np.zeros((2, k), np.uint16)]),
            "skin/weights": np.concatenate([c.arrays["skin/weights"], np.tile(np.eye(1, k, dtype=np.float32), (2, 1))]),
        },
    )  # fmt: skip
    assert unsound(more) == ""
    back = read_character("a.glb", written(more, ".glb"))
    assert [p.name for p in back.parts] == ["body"]


def test_obj_writes_what_it_reads():
    c = tail()
    again = read_character("a.obj", written(c, ".obj"))
    assert np.allclose(again.points, c.points, atol=1e-6)
    assert np.array_equal(again.arrays["face_corners"], c.arrays["face_corners"])
    assert Writer().blob == bytearray()
