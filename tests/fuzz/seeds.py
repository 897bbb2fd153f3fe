"""Small whole files of every kind, from which damaged ones are made."""

from __future__ import annotations

import base64
import json
import tempfile
from functools import cache
from pathlib import Path

import numpy as np

from tests.conftest import tube
from vonkel.core.character import Joint
from vonkel.core.formats.gltf_tree import Writer
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.handover import written
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.plans import save_plan
from vonkel.core.shapes import add_shape
from vonkel.steps import apply_step
from vonkel.workshop import Workshop

SVG = b"""<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 90 90">
<defs><path id="lash" d="M0 0 q5 5 10 0"/></defs>
<g transform="translate(5,5) rotate(12 3 4)"><path id="brow" d="M1 1L9 2 8 7zm3 3a4 3 10 011 6c1 1 2 2 3 0s1 1 2 2t3 1V3h2"/></g>
<rect x="2" y="3" width="20" height="11" rx="3"/><use xlink:href="#lash" x="4" y="60"/><circle cx="9" cy="9" r="4"/>
<polyline points="1,1 2,2 3,1"/><polygon points="1 1 4 4 1 4"/><line x1="0" y1="1" x2="5" y2="6"/><ellipse rx="3" ry="2"/></svg>"""

PLY_TEXT = b"""ply
format ascii 1.0
element vertex 5
property float x
property float y
property float z
property uchar red
property uchar green
property uchar blue
element face 4
property list uchar int vertex_indices
end_header
0 0 0 255 0 0
1 0 0 0 255 0
1 1 0 0 0 255
0 1 0 9 9 9
0.5 0.5 1 9 9 200
4 0 1 2 3
3 0 1 4
3 1 2 4
3 2 3 4
"""


def tail():
    """A small rigged, bound character with a shape and a texture layout."""
    c = character_from_mesh(tube(rings=5, around=6), "tail")
    joints = tuple(
        Joint(name=f"tail_{i + 1}", parent=f"tail_{i}" if i else None, place=(0.0, y, 0.0), role=f"tail_{i + 1}")
        for i, y in enumerate((0.05, 0.4, 0.75))
    )
    c = turn_down_bones(c.with_(joints=joints))
    n = len(c.points)
    near = np.clip((c.points[:, 1] - 0.2) / 0.35, 0, 2)
    low = np.minimum(near.astype(np.uint16), 1)
    weights = np.stack([1 - (near - low), near - low], 1).astype(np.float32)
    from vonkel.core.character import Skin

    corners = len(c.arrays["face_corners"])
    c = c.with_(
        skin=Skin(joints=("tail_1", "tail_2", "tail_3"), influences=2),
        arrays={
            "skin/joints": np.stack([low, low + 1], 1).astype(np.uint16), "skin/weights": weights,
            "uvs": (np.arange(2 * corners).reshape(-1, 2) % 7 / 7).astype(np.float32),
            "colours": np.full((n, 3), 120, np.uint8),
        },
    )  # fmt: skip
    return add_shape(c, "bulge", c.points * [1.2, 1.0, 1.2])


def rigged():
    """The tail with a kit and rules, as a finished small rig."""
    c, _ = apply_step(tail(), "limbs.add_kit", {"kind": "chain", "name": "tail", "joints": {"chain": ["tail_1", "tail_2", "tail_3"]}})  # fmt: skip
    control = next(k.name for k in c.controls if k.moves or k.turns)
    rule = {"kind": "spring", "name": "sway", "things": ["joint:tail_2", "joint:tail_3"]}
    c, _ = apply_step(c, "rules.add", {"rule": rule, "both_sides": False})
    c, _ = apply_step(c, "controls.add_channel", {"control": control, "name": "puff"})
    link = {
        "kind": "link", "name": "puffs", "lead": {"thing": f"control:{control}", "channel": "puff"},
        "followers": [{"thing": "shape:bulge", "curve": {"keys": [{"at": 0, "value": 0}, {"at": 1, "value": 1}]}}],
    }  # fmt: skip
    return apply_step(c, "rules.add", {"rule": link, "both_sides": False})[0]


def binary_ply(order: str) -> bytes:
    name = {"<": "little", ">": "big"}[order]
    head = (
        f"ply\nformat binary_{name}_endian 1.0\nelement vertex 4\nproperty float x\nproperty double y\nproperty float z\n"
        "property ushort red\nproperty ushort green\nproperty ushort blue\nelement face 2\n"
        "property list uchar int vertex_index\nend_header\n"
    ).encode()
    rows = np.zeros(4, [("x", order + "f4"), ("y", order + "f8"), ("z", order + "f4"), ("c", order + "u2", 3)])
    rows["x"], rows["y"], rows["z"], rows["c"] = [0, 1, 1, 0], [0, 0, 1, 1], 0.5, 40000
    faces = (
        b"\x03" + np.array([0, 1, 2], order + "i4").tobytes() + b"\x03" + np.array([0, 2, 3], order + "i4").tobytes()
    )
    return head + rows.tobytes() + faces


def gltf_json() -> bytes:
    """A .gltf with its data inside, of a strip, a fan, a sparse accessor and a morph target."""
    w = Writer()
    places = w.add(np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0.0]], np.float32), "VEC3", bounds=True)
    index = w.add(np.array([0, 1, 2, 3], np.uint16), "SCALAR")
    moves = w.add(np.array([[0, 0, 0.2]] * 4, np.float32), "VEC3", bounds=True)
    uv = w.add(np.zeros((4, 2), np.float32), "VEC2")
    w.accessors.append(
        {
            "componentType": 5126, "count": 4, "type": "VEC3",
            "sparse": {
                "count": 1, "indices": {"bufferView": w.view(np.array([1], np.uint16).tobytes()), "componentType": 5123},
                "values": {"bufferView": w.view(np.array([0, 0, 1], np.float32).tobytes())},
            },
        }
    )  # fmt: skip
    one = {"attributes": {"POSITION": places, "TEXCOORD_0": uv}, "indices": index}
    tree = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0, 1]}],
        "nodes": [
            {"mesh": 0, "name": "a", "rotation": [0, 0, 0.7071, 0.7071], "children": [2]}, {"mesh": 1, "scale": [2, 2, 2]},
            {"translation": [1, 2, 3]},
        ],
        "meshes": [
            {"primitives": [{**one, "mode": 5, "targets": [{"POSITION": moves}], "material": 0}], "extras": {"targetNames": ["up"]}},
            {"primitives": [{**one, "mode": 6, "targets": [{"POSITION": len(w.accessors) - 1}]}]},
        ],
        "materials": [{"pbrMetallicRoughness": {"baseColorFactor": [1, 0.5, 0, 1]}}],
        "bufferViews": w.views, "accessors": w.accessors,
        "buffers": [{"byteLength": len(w.blob), "uri": "data:;base64," + base64.b64encode(bytes(w.blob)).decode()}],
    }  # fmt: skip
    return json.dumps(tree, indent=0).encode()


@cache
def seeds() -> dict[str, list[tuple[str, bytes]]]:
    """Reader → whole files that it reads, as (name, data)."""
    small, made = tail(), rigged()
    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder))
        number = shop.add(made, {}, "Made")
        shop.apply(number, "model.rename", {"name": "Tail"})
        whole = shop.pack(number)
        recipe = json.dumps(shop.recipe(number, "r").model_dump()).encode()
    text = written(small, ".obj") + b"g other\\\n word\nusemtl x\nf -1/-1 -2 -3\nl 1 2 \\\n3\n"
    return {
        "obj": [("a.obj", text)],
        "ply": [("a.ply", PLY_TEXT), ("a.ply", binary_ply("<")), ("a.ply", binary_ply(">"))],
        "svg": [("a.svg", SVG)],
        "gltf": [
            ("a.gltf", gltf_json()),
            (
                "a.glb",
                written(small.with_(joints=(), skin=None, arrays={"skin/joints": None, "skin/weights": None}), ".glb"),
            ),
        ],  # fmt: skip
        "rigged": [("a.glb", written(small, ".glb"))],
        "vonkel": [("a.vonkel", whole)],
        "recipe": [("a.json", recipe)],
        "plan": [("a.json", save_plan(made, "p").model_dump_json().encode())],
    }
