"""glTF 2.0: meshes in; the whole rigged character out and in again."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from typing import Any

import numpy as np

from ..character import Arrays, Character, Joint, Part, Shape, Skin
from ..character.hierarchy import parents_first
from ..character.words import clean_name
from ..errors import BadFile, StepRefused
from ..geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ..geometry.topology import point_normals, topology_of
from ..rig import Pose, compile_rig
from ..rig.slots import Slot
from ..skin.deform import rest_inverses
from ..tolerances import MAX_PICTURE_BYTES
from .gltf_tree import Tree, Writer
from .mesh import RawMesh
from .pictures import picture_kind
from .reading import claim, count, reading

POINT = (
    "_POINT"  # an attribute of our own: which point of its part each vertex is (3.7.2.1 allows such names, not uint32)
)
MOST_BY_FLOAT = 2**24  # the whole numbers that a float32 tells apart
LEAF = " stretch"  # the node that carries a joint's own scale, so that its children don't inherit it


# -- reading meshes ----------------------------------------------------------------------------------------------
def read_mesh(name: str, data: bytes, beside: Mapping[str, bytes] | None = None) -> RawMesh:
    """All meshes of the default scene, nodes' transforms settled into the points.

    Points that the format had to repeat (at texture seams and hard edges) are joined again: same place, same
    node.  Triangles, strips and fans are read, other primitives passed over.  `beside`: files that it may name.
    """
    with reading(name):
        return _read_mesh(Tree(name, data, beside))


def _read_mesh(tree: Tree) -> RawMesh:
    points, corners, piece_of, pieces, colours, uvs = [], [], [], [], [], []
    piece_colours: dict[str, str] = {}
    carried: dict[str, np.ndarray] = {}
    shapes: dict[str, list[tuple[int, np.ndarray]]] = {}
    left_out: list[str] = []
    base = 0
    for node, world in _nodes(tree):
        mesh = tree.get("meshes", node["mesh"])
        label = clean_name(str(node.get("name") or mesh.get("name") or f"mesh {node['mesh']}"))
        names = (mesh.get("extras") or {}).get("targetNames", []) if isinstance(mesh.get("extras"), dict) else []
        for primitive in mesh.get("primitives", []):
            if primitive.get("mode", 4) not in (4, 5, 6):
                continue
            attributes = primitive["attributes"]
            p = tree.rows(attributes["POSITION"], 3).astype(float)
            count("points", len(p))
            index = _triangles(tree, primitive, len(p))
            count("faces", len(index))
            if len(index) and index.max() >= len(p):
                raise BadFile(
                    f"A face names point {index.max() + 1}, but there are {len(p)}.", tree.name, "Export again."
                )
            if not np.isfinite(p).all():
                raise BadFile(f"“{label}” has places that are not numbers.", tree.name, "Mend it and export again.")
            placed = p @ world[:3, :3].T + world[:3, 3]
            if np.linalg.det(world[:3, :3]) < 0:
                index = index[:, ::-1]
            first, new = _joined(placed)
            points.append(placed[first])
            face = new[index]
            solid = (face[:, 0] != face[:, 1]) & (face[:, 1] != face[:, 2]) & (face[:, 0] != face[:, 2])
            corners.append(base + face[solid])
            pieces.append(label)
            piece_of.append(np.full(int(solid.sum()), len(pieces) - 1))
            colours.append(_colours(tree, attributes, first))
            uv = tree.rows(attributes["TEXCOORD_0"], 2) if "TEXCOORD_0" in attributes else None
            uvs.append(None if uv is None else uv[index[solid]].reshape(-1, 2))
            piece_colours[label] = _material_colour(tree, primitive)
            if np.abs(world - np.eye(4)).max() > 1e-9:
                carried[label] = world[:3]
            for t, target in enumerate(primitive.get("targets", [])):
                if "POSITION" in target:
                    shape = str(names[t]) if isinstance(names, list) and t < len(names) else f"shape {t + 1}"
                    claim(len(p) * 24, "The morph targets")
                    moves = tree.rows(target["POSITION"], 3).astype(float) @ world[:3, :3].T
                    if len(moves) == len(p):
                        shapes.setdefault(shape, []).append((base, moves[first]))
                    else:
                        left_out.append(
                            f"The morph target “{shape}”: it has {len(moves):,} points, its mesh {len(p):,}."
                        )
            base += len(first)
    if not corners or not sum(len(c) for c in corners):
        raise BadFile("The file has no triangles.", tree.name, "Export the surface too.")
    everything = np.concatenate(points)
    flat = np.concatenate(corners).ravel()
    moved = {}
    for shape, runs in shapes.items():
        claim(everything.nbytes, "The morph targets")
        moved[shape] = everything.copy()
        for at, moves in runs:
            moved[shape][at : at + len(moves)] += moves
    coloured = any(c is not None for c in colours)
    return RawMesh(
        everything, np.arange(0, len(flat) + 1, 3), flat, np.concatenate(piece_of).astype(np.int64), pieces,
        np.concatenate([c if c is not None else np.full((len(p), 3), 200, np.uint8) for c, p in zip(colours, points, strict=True)])
        if coloured else None,
        np.concatenate([u for u in uvs if u is not None]) if all(u is not None for u in uvs) else None,
        piece_colours, moved, carried=carried, texture=_texture(tree), left_out=left_out,
    )  # fmt: skip


def _triangles(tree: Tree, primitive: dict[str, Any], points: int) -> np.ndarray:
    """(t, 3) int64 of a primitive of triangles, a strip or a fan (glTF 2.0, 3.7.2.1)."""
    index = tree.accessor(primitive["indices"]) if "indices" in primitive else np.arange(points)
    if index.ndim != 1 or index.dtype.kind not in "iu":
        raise BadFile("Its faces are no list of points.", tree.name, "Export it again.")
    index = index.astype(np.int64)
    mode = primitive.get("mode", 4)
    if mode == 4 or len(index) < 3:
        return index[: len(index) // 3 * 3].reshape(-1, 3)
    if mode == 6:
        return np.stack([index[1:-1], index[2:], np.full(len(index) - 2, index[0])], 1)
    i = np.arange(len(index) - 2)
    return np.stack([index[i], index[i + 1 + i % 2], index[i + 2 - i % 2]], 1)


def _nodes(tree: Tree) -> list[tuple[dict[str, Any], np.ndarray]]:
    """Nodes with a mesh, each with its world matrix (4, 4).  Skinned meshes ignore their node's transform (3.7.3.3)."""
    scenes = tree.list("scenes")
    roots = tree.get("scenes", tree.json.get("scene", 0)).get("nodes", []) if scenes else range(len(tree.list("nodes")))
    held = set() if scenes else {c for n in tree.list("nodes") if isinstance(n, dict) for c in n.get("children", [])}
    found: list[tuple[dict[str, Any], np.ndarray]] = []
    seen: set[int] = set()
    waiting = deque((i, np.eye(4)) for i in roots if i not in held)
    count("nodes", len(waiting))
    while waiting:
        i, above = waiting.popleft()
        node = tree.get("nodes", i)
        if i in seen:
            raise BadFile("A node hangs below itself.", tree.name, "Export it again.")
        seen.add(i)
        world = above @ local_matrix(node)
        if "mesh" in node:
            found.append((node, np.eye(4) if "skin" in node else world))
        children = node.get("children", [])
        count("nodes", len(children))
        waiting.extend((c, world) for c in children)
    return found


def local_matrix(node: dict[str, Any]) -> np.ndarray:
    """(4, 4) of a node: its matrix, or translation · rotation · scale."""
    if "matrix" in node:
        return np.array(node["matrix"], float).reshape(4, 4).T
    m = np.eye(4)
    x, y, z, w = node.get("rotation", (0, 0, 0, 1))
    if not x * x + y * y + z * z + w * w > 0:
        raise ValueError("a node's rotation is no rotation")
    m[:3, :3] = matrix_from_quaternion((w, x, y, z)) * np.array(node.get("scale", (1, 1, 1)), float)
    m[:3, 3] = node.get("translation", (0, 0, 0))
    return m


def _joined(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """First point of each place, in order, and for each point its number among those."""
    _, first, inverse = np.unique(points.round(9), axis=0, return_index=True, return_inverse=True)
    order = np.argsort(first)
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    return first[order], rank[np.asarray(inverse).ravel()]


def _colours(tree: Tree, attributes: dict[str, Any], first: np.ndarray) -> np.ndarray | None:
    if "COLOR_0" not in attributes:
        return None
    c = tree.rows(attributes["COLOR_0"], 3, 4)[first, :3]
    return _srgb(np.asarray(c, float) / (np.iinfo(c.dtype).max if c.dtype.kind == "u" else 1.0))


def _srgb(linear: np.ndarray) -> np.ndarray:
    """Linear 0–1 to sRGB bytes (IEC 61966-2-1)."""
    c = np.clip(linear, 0, 1)
    return np.asarray(
        (np.where(c <= 0.0031308, 12.92 * c, 1.055 * c ** (1 / 2.4) - 0.055) * 255 + 0.5).astype(np.uint8)
    )


def _linear(srgb: np.ndarray) -> np.ndarray:
    c = np.asarray(srgb, float) / 255
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)


def _material_colour(tree: Tree, primitive: dict[str, Any]) -> str:
    if "material" not in primitive:
        return "#c9b79c"
    pbr = tree.get("materials", primitive["material"]).get("pbrMetallicRoughness", {})
    factor = np.array(pbr.get("baseColorFactor", [0.55, 0.47, 0.35, 1])[:3], float)
    if factor.shape != (3,) or not np.isfinite(factor).all():
        raise ValueError("a colour needs three numbers")
    return "#" + bytes(_srgb(factor)).hex()


def _texture(tree: Tree) -> bytes | None:
    """The file's first base colour picture, where it holds one inside or it lies beside."""
    for material in tree.list("materials"):
        info = (material.get("pbrMetallicRoughness") or {}).get("baseColorTexture")
        if info is None:
            continue
        image = tree.get("images", tree.get("textures", info["index"]).get("source", 0))
        if "bufferView" in image:
            data = tree.view_bytes(image["bufferView"])
        else:
            try:
                data = tree.named(image.get("uri"), "A picture")
            except BadFile:
                return None  # a mesh is of use without its picture
        return data if picture_kind(data) and len(data) <= MAX_PICTURE_BYTES else None
    return None


# -- writing -----------------------------------------------------------------------------------------------------
def baked(character: Character, pose: Pose) -> dict[str, tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """Each exported node's translation (3,), rotation (x, y, z, w) and scale (3,) at a pose.

    Joints are rigid; a joint that can lengthen has a leaf node of its own that carries the scale and holds the
    skin.  So plain parent–child multiplication reproduces every pose, and scale reaches no child.
    """
    out = {}
    frames = np.tile(np.eye(4), (len(character.joints), 1, 1))
    frames[:, :3] = pose.joints
    leaves = scaling_joints(character)
    for i, j in enumerate(character.joints):
        local = frames[i] if j.parent is None else np.linalg.inv(frames[character.joint_index[j.parent]]) @ frames[i]
        q = quaternion_from_matrix(local[:3, :3])
        out[j.name] = (local[:3, 3], q[[1, 2, 3, 0]], np.ones(3))
        if j.name in leaves:
            out[j.name + LEAF] = (np.zeros(3), np.array([0.0, 0, 0, 1]), pose.scales[i])
    return out


def scaling_joints(character: Character) -> set[str]:
    """Joints that some operation of the rig may scale."""
    return {s.name for s in map(Slot, compile_rig(character).slots) if s.kind == "scale"}


def write_rigged(character: Character, generator: str = "Vonkel", names: dict[str, str] | None = None) -> bytes:
    """The character as .glb: parts as skinned meshes in point order, joints, weights, morph targets, names.

    Points keep their order; where texture places differ at a point, copies follow after all the points of the
    part.  Faces become triangles.  names: joint → what it is called in the file; its own name stands in the extras.
    """
    w = Writer()
    topo = topology_of(character)
    nodes: list[dict[str, Any]] = []
    node_of: dict[str, int] = {}
    rest = baked(character, compile_rig(character).evaluate({})) if character.joints else {}
    leaves = scaling_joints(character)
    for j in character.joints:
        node_of[j.name] = len(nodes)
        t, q, _ = rest[j.name]
        extras: dict[str, Any] = {"side": j.side, "role": j.role, "deforms": j.deforms, "order": j.order}
        called = (names or {}).get(j.name, j.name)
        if called != j.name:
            extras["name"] = j.name
        nodes.append({"name": called, "translation": _floats(t), "rotation": _floats(q), "extras": {"vonkel": extras}})
        if j.name in leaves:
            node_of[j.name + LEAF] = len(nodes)
            nodes.append({"name": called + LEAF})
            nodes[node_of[j.name]].setdefault("children", []).append(len(nodes) - 1)
    for j in character.joints:
        if j.parent:
            nodes[node_of[j.parent]].setdefault("children", []).append(node_of[j.name])
    tree: dict[str, Any] = {}
    if character.skin:
        holders = [n + LEAF if n in leaves else n for n in character.skin.joints]
        inverse = rest_inverses(character)[[character.joint_index[n] for n in character.skin.joints]].astype(np.float32)
        inverse[:, 3] = (0, 0, 0, 1)
        matrices = w.add(np.ascontiguousarray(inverse.transpose(0, 2, 1)).reshape(-1, 16), "MAT4")
        root = next(node_of[j.name] for j in character.joints if j.parent is None)
        tree["skins"] = [{"joints": [node_of[n] for n in holders], "inverseBindMatrices": matrices, "skeleton": root}]
        if sum(j.parent is None for j in character.joints) > 1:
            del tree["skins"][0]["skeleton"]
    normals = point_normals(character.points, topo.triangles).astype(np.float32)
    meshes: list[dict[str, Any]] = []
    materials: list[dict[str, Any]] = []
    if "texture" in character.arrays:
        data = character.arrays["texture"].tobytes()
        tree["images"] = [{"bufferView": w.view(data), "mimeType": f"image/{picture_kind(data)}"}]
        tree["textures"] = [{"source": 0}]
    drawn = [p for p in character.parts if p.faces[0] < p.faces[1] or p.lines[0] < p.lines[1]]  # glTF has no empty mesh
    for part in drawn:
        meshes.append(_write_part(w, character, part, normals, len(materials)))
        linear = [round(float(c), 5) for c in _linear(np.frombuffer(bytes.fromhex(part.colour[1:]), np.uint8))]
        if "colours" in character.arrays:
            linear = [1.0, 1.0, 1.0]
        pbr: dict[str, Any] = {
            "baseColorFactor": [*linear, 1.0],
            "metallicFactor": 0.0,
            "roughnessFactor": 0.25 if part.role == "eye" else 0.8,
        }
        if "textures" in tree and "uvs" in character.arrays and part.faces[0] < part.faces[1]:
            pbr["baseColorTexture"] = {"index": 0}
        materials.append({"name": part.name, "pbrMetallicRoughness": pbr})
        node: dict[str, Any] = {"name": part.name, "mesh": len(meshes) - 1}
        if character.skin:
            node["skin"] = 0
        nodes.append(node)
    held = {c for n in nodes for c in n.get("children", [])}
    about = {
        "name": character.name, "about": character.about, "plan": character.plan,
        "method": character.skin.method if character.skin else "linear",
        "parts": [{"name": p.name, "role": p.role, "colour": p.colour, "shading": p.shading} for p in drawn],
    }  # fmt: skip
    tree |= {
        "asset": {"version": "2.0", "generator": generator, "extras": {"vonkel": about}},
        "scene": 0, "scenes": [{"name": character.name, "nodes": [i for i in range(len(nodes)) if i not in held]}],
        "nodes": nodes, "meshes": meshes, "materials": materials,
    }  # fmt: skip
    return w.glb(tree)


def _strokes(character: Character, part: Part) -> np.ndarray:
    """Both ends of every piece of a part's drawn lines, one after the other."""
    starts, points = character.arrays["line_starts"], character.arrays["line_points"]
    runs = [points[starts[i] : starts[i + 1]] for i in range(*part.lines)]
    return np.concatenate([np.stack([r[:-1], r[1:]], 1).ravel() for r in runs])


def _lines_from_strokes(ends: np.ndarray) -> list[list[int]]:
    """Lines again, from pairs of ends: a pair that begins where the last one ended goes on with it."""
    lines: list[list[int]] = []
    for a, b in ends.reshape(-1, 2).tolist():
        if lines and lines[-1][-1] == a:
            lines[-1].append(b)
        else:
            lines.append([a, b])
    return lines


def _floats(values: np.ndarray) -> list[float]:
    return [float(np.float32(v)) for v in values]


def _write_part(w: Writer, character: Character, part: Part, normals: np.ndarray, material: int) -> dict[str, Any]:
    topo = topology_of(character)
    lo, hi = part.points
    in_part = (topo.triangle_face >= part.faces[0]) & (topo.triangle_face < part.faces[1])
    index = topo.triangles[in_part].astype(np.int64) - lo
    copies = np.zeros(0, np.int64)
    uv = None
    if "uvs" in character.arrays:
        index, copies, uv = _split_seams(index, character.arrays["uvs"][topo.triangle_corners[in_part]], hi - lo)
    which = np.concatenate([np.arange(lo, hi), lo + copies])
    if len(which) > MOST_BY_FLOAT:
        raise StepRefused(f"{part.name} has more points than the file can number.", character.name, "Split the part.")
    attributes = {"POSITION": w.add(character.points[which].astype(np.float32), "VEC3", 34962, bounds=True)}
    if part.shading == "smooth" and len(index):  # without normals a reader shades each face flat (3.7.2.1)
        attributes["NORMAL"] = w.add(normals[which], "VEC3", 34962)
    if len(copies):  # which point each is: two points at one place are two
        attributes[POINT] = w.add((which - lo).astype(np.float32), "SCALAR", 34962)
    if uv is not None:
        attributes["TEXCOORD_0"] = w.add(uv, "VEC2", 34962)
    if "colours" in character.arrays:
        colours = (_linear(character.arrays["colours"][which]) * 65535 + 0.5).astype(np.uint16)
        colours = np.concatenate([colours, np.full((len(colours), 1), 65535, np.uint16)], 1)
        attributes["COLOR_0"] = w.add(colours, "VEC4", 34962, normalized=True)
    if character.skin:
        joints, weights = character.arrays["skin/joints"][which], character.arrays["skin/weights"][which]
        pad = -joints.shape[1] % 4
        joints, weights = np.pad(joints, ((0, 0), (0, pad))), np.pad(weights, ((0, 0), (0, pad)))
        joints = np.where(weights > 0, joints, 0).astype(np.uint16)
        for s in range(joints.shape[1] // 4):
            attributes[f"JOINTS_{s}"] = w.add(joints[:, 4 * s : 4 * s + 4], "VEC4", 34962)
            attributes[f"WEIGHTS_{s}"] = w.add(weights[:, 4 * s : 4 * s + 4].astype(np.float32), "VEC4", 34962)
    kind = np.uint16 if len(which) < 65535 else np.uint32
    primitives: list[dict[str, Any]] = []
    if len(index):
        faces = w.add(index.astype(kind).ravel(), "SCALAR", 34963)
        primitives.append({"attributes": attributes, "indices": faces, "material": material})
    if part.lines[1] > part.lines[0]:
        bare = {k: v for k, v in attributes.items() if k not in ("NORMAL", "TEXCOORD_0", POINT)}
        strokes = w.add((_strokes(character, part) - lo).astype(kind), "SCALAR", 34963)
        primitives.append({"attributes": bare, "indices": strokes, "material": material, "mode": 1})
    mesh: dict[str, Any] = {"name": part.name, "primitives": primitives}
    if character.shapes:
        targets: list[dict[str, int]] = []
        for primitive in primitives:
            primitive["targets"] = targets
        for shape in character.shapes:
            moves = np.zeros((len(character.points), 3), np.float32)
            moves[character.arrays[f"shape/{shape.name}/points"]] = character.arrays[f"shape/{shape.name}/moves"]
            targets.append({"POSITION": w.add(moves[which], "VEC3", 34962, bounds=True)})
        mesh["weights"] = [0.0] * len(character.shapes)
        mesh["extras"] = {"targetNames": [s.name for s in character.shapes]}
    return mesh


def _split_seams(index: np.ndarray, uv: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles (t, 3) over points and copies, which point each copy is of, and texture places for all.

    glTF has one texture place per point.
    """
    flat, places = index.ravel(), uv.reshape(-1, 2)
    keys = np.concatenate([flat[:, None].astype(float), places.round(6)], 1)
    unique, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    inverse = np.asarray(inverse).ravel()
    point = unique[:, 0].astype(np.int64)
    original = np.concatenate([[True], np.diff(point) != 0])
    number = np.empty(len(unique), np.int64)
    number[original] = point[original]
    copies = point[~original]
    number[~original] = count + np.arange(len(copies))
    out = np.zeros((count + len(copies), 2), np.float32)
    out[number] = places[first]
    return number[inverse].reshape(-1, 3), copies, out


# -- reading what we wrote ---------------------------------------------------------------------------------------
def read_rigged(name: str, data: bytes, called: str) -> Character | None:
    """The character of a .glb that `write_rigged` wrote, without its kits; None for any other file."""
    with reading(name):
        tree = Tree(name, data)
        extras = tree.json["asset"].get("extras")
        about = extras.get("vonkel") if isinstance(extras, dict) else None
        return _read_rigged(tree, about, called) if isinstance(about, dict) else None


def _own_points(tree: Tree, attributes: dict[str, Any], p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The vertex that each point is read from, and the point that each vertex is.

    Files say it themselves where texture seams made copies; those of 0.3 and before didn't: there, points at one place are
    one.
    """
    if POINT in attributes:
        new = tree.accessor(attributes[POINT]).astype(np.int64)
        first = np.unique(new, return_index=True)[1]
        if new.shape != (len(p),) or len(new) and (new.min() < 0 or new.max() != len(first) - 1):
            raise BadFile("Its points are numbered out of order.", tree.name, "Export it again.")
        return first, new
    return (np.arange(len(p)), np.arange(len(p))) if "TEXCOORD_0" not in attributes else _joined(p)


def _read_rigged(tree: Tree, about: dict[str, Any], called: str) -> Character:
    nodes = tree.list("nodes")
    parent = {c: i for i, n in enumerate(nodes) for c in n.get("children", [])}
    world: dict[int, np.ndarray] = {}

    def matrix(i: int) -> np.ndarray:
        if i not in world:
            world[i] = (matrix(parent[i]) if i in parent else np.eye(4)) @ local_matrix(nodes[i])
        return world[i]

    # A file written under other names keeps each joint's own name beside it.
    said = {n["name"]: (n.get("extras") or {}).get("vonkel") for n in nodes if "name" in n}
    own = {n: (v or {}).get("name", n) for n, v in said.items()}
    joints = []
    for i, node in enumerate(nodes):
        mine = (node.get("extras") or {}).get("vonkel")
        if mine is None:
            continue
        m = matrix(i)
        above = own[nodes[parent[i]]["name"]] if i in parent else None
        mine = {k: v for k, v in mine.items() if k != "name"}
        joints.append(
            Joint(
                name=own[node["name"]], parent=above, place=tuple(m[:3, 3].tolist()),
                turn=tuple(quaternion_from_matrix(m[:3, :3]).tolist()), **mine,
            )
        )  # fmt: skip
    parts, points, corners, sj, sw, colours, uvs = [], [], [], [], [], [], []
    shapes: dict[str, list[np.ndarray]] = {}
    lines: list[list[int]] = []
    at = faces = 0
    names = (
        [own[nodes[i]["name"].removesuffix(LEAF)] for i in tree.get("skins", 0)["joints"]] if tree.list("skins") else []
    )
    meshes = [n for n in nodes if "mesh" in n]
    for node, about_part in zip(meshes, about.get("parts", []), strict=True):
        mesh = tree.get("meshes", node["mesh"])
        primitive = mesh["primitives"][0]
        attributes = primitive["attributes"]
        p = tree.rows(attributes["POSITION"], 3).astype(float)
        count("points", len(p))
        first, new = _own_points(tree, attributes, p)
        index, strokes = np.zeros(0, np.int64), []
        uv = np.zeros((0, 2), np.float32)
        for each in mesh["primitives"]:
            ends = tree.accessor(each["indices"]).astype(np.int64)
            if each.get("mode", 4) == 1:
                strokes = [[v + at for v in line] for line in _lines_from_strokes(new[ends])]
            else:
                index = new[ends]
                uv = tree.rows(attributes["TEXCOORD_0"], 2)[ends] if "TEXCOORD_0" in attributes else uv
        uvs.append(uv)
        points.append(p[first])
        corners.append(index + at)
        if names:
            sets = range(sum(k.startswith("JOINTS_") for k in attributes))
            sj.append(np.concatenate([tree.accessor(attributes[f"JOINTS_{s}"])[first] for s in sets], 1))
            sw.append(np.concatenate([tree.accessor(attributes[f"WEIGHTS_{s}"])[first] for s in sets], 1))
        if "COLOR_0" in attributes:
            colours.append(_srgb(tree.accessor(attributes["COLOR_0"])[first, :3]))
        for t, shape in enumerate((mesh.get("extras") or {}).get("targetNames", [])):
            shapes.setdefault(shape, []).append(tree.accessor(primitive["targets"][t]["POSITION"])[first])
        f = len(index) // 3
        run = (len(lines), len(lines) + len(strokes))
        parts.append(Part(points=(at, at + len(first)), faces=(faces, faces + f), lines=run, **about_part))
        lines += strokes
        at, faces = at + len(first), faces + f
    flat = np.concatenate(corners)
    arrays = {
        "points": np.concatenate(points), "face_corners": flat.astype(np.int32),
        "face_starts": np.arange(0, len(flat) + 1, 3, dtype=np.int32),
    }  # fmt: skip
    if names:
        arrays |= {
            "skin/joints": np.concatenate(sj).astype(np.uint16),
            "skin/weights": np.concatenate(sw).astype(np.float32),
        }
    if colours:
        arrays["colours"] = np.concatenate(colours)
    if len(flat) and sum(map(len, uvs)) == len(flat):
        arrays["uvs"] = np.concatenate(uvs).astype(np.float32)
        picture = _texture(tree)
        arrays |= {} if picture is None else {"texture": np.frombuffer(picture, np.uint8)}
    if lines:
        arrays["line_starts"] = np.concatenate([[0], np.cumsum([len(x) for x in lines])]).astype(np.int32)
        arrays["line_points"] = np.concatenate(lines).astype(np.int32)
    for shape, runs in shapes.items():
        moves = np.concatenate(runs).astype(np.float32)
        hit = np.flatnonzero(np.abs(moves).max(1) > 0).astype(np.uint32)
        arrays |= {f"shape/{shape}/points": hit, f"shape/{shape}/moves": moves[hit]}
    ordered = parents_first(joints)
    return Character(
        name=called or about["name"], about=about.get("about", ""), plan=about.get("plan", ""), parts=tuple(parts),
        joints=tuple(ordered), shapes=tuple(Shape(name=s) for s in shapes), arrays=Arrays(arrays),
        skin=Skin(joints=tuple(names), method=about.get("method", "linear"), influences=arrays["skin/joints"].shape[1])
        if names else None,
    )  # fmt: skip
