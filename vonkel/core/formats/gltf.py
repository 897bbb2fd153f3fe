"""glTF 2.0: meshes in; the whole rigged character out and in again."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from typing import Any

import numpy as np

from ..character import Arrays, Between, Character, HandedSkin, Joint, Part, Shape, Skin
from ..character.hierarchy import parents_first
from ..character.words import clean_name
from ..errors import BadFile
from ..geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ..skin.between import seal_of
from ..tolerances import MAX_PICTURE_BYTES
from ..weights import WeightTable
from .colours import srgb_from_linear
from .gltf_tree import POINT, Tree
from .mesh import RawMesh
from .pictures import picture_kind
from .reading import claim, count, reading

LEAF = " stretch"  # the end of the name of a node that carries a joint's own scale


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
    return srgb_from_linear(np.asarray(c, float) / (np.iinfo(c.dtype).max if c.dtype.kind == "u" else 1.0))


def _material_colour(tree: Tree, primitive: dict[str, Any]) -> str:
    if "material" not in primitive:
        return "#c9b79c"
    pbr = tree.get("materials", primitive["material"]).get("pbrMetallicRoughness", {})
    factor = np.array(pbr.get("baseColorFactor", [0.55, 0.47, 0.35, 1])[:3], float)
    if factor.shape != (3,) or not np.isfinite(factor).all():
        raise ValueError("a colour needs three numbers")
    return "#" + bytes(srgb_from_linear(factor)).hex()


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
    joints: list[Joint] = []
    between: list[Between] = []
    for i, node in enumerate(nodes):
        mine = (node.get("extras") or {}).get("vonkel")
        if mine is None:
            continue
        m = matrix(i)
        if "between" in mine:
            between.append(
                Between(
                    name=own[node["name"]], a=mine["between"][0], b=mine["between"][1], place=tuple(m[:3, 3].tolist())
                )
            )
            continue
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
            colours.append(srgb_from_linear(tree.accessor(attributes["COLOR_0"])[first, :3]))
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
        named = {h.name for h in between}
        arrays |= _apart(arrays, names, between)
        names = [n for n in names if n not in named]
    if colours:
        arrays["colours"] = np.concatenate(colours)
    if len(flat) and sum(map(len, uvs)) == len(flat):
        arrays["uvs"] = np.concatenate(uvs).astype(np.float32)
        picture = _texture(tree)
        arrays |= {} if picture is None else {"texture": np.frombuffer(picture, np.uint8)}
    if lines:
        arrays["line_starts"] = np.concatenate([[0], np.cumsum([len(x) for x in lines])]).astype(np.int32)
        arrays["line_points"] = np.concatenate(lines).astype(np.int32)
    for shape in about.get("correctives", []):
        shapes.pop(shape, None)  # of what went out, not of the character
    for shape, runs in shapes.items():
        moves = np.concatenate(runs).astype(np.float32)
        hit = np.flatnonzero(np.abs(moves).max(1) > 0).astype(np.uint32)
        arrays |= {f"shape/{shape}/points": hit, f"shape/{shape}/moves": moves[hit]}
    ordered = parents_first(joints)
    character = Character(
        name=called or about["name"], about=about.get("about", ""), plan=about.get("plan", ""), parts=tuple(parts),
        joints=tuple(ordered), shapes=_shapes_told(about, list(shapes)), arrays=Arrays(arrays),
        skin=Skin(joints=tuple(names), method=about.get("method", "linear"), influences=arrays["skin/joints"].shape[1])
        if names else None,
    )  # fmt: skip
    if not names or not between:
        return character
    handed = HandedSkin(between=tuple(between), seal=seal_of(character))
    return character.with_(skin=character.skin and character.skin.model_copy(update={"handed": handed}))


def _apart(arrays: dict[str, np.ndarray], names: list[str], between: list[Between]) -> dict[str, np.ndarray]:
    """A skin that went out, as it is, and the live one that it stands for as well as can be said: what a joint between two
    holds, each holds half of."""
    if not between:
        return {}
    joints, weights = arrays["skin/joints"], arrays["skin/weights"]
    named = {h.name: h for h in between}
    own = [n for n in names if n not in named]
    place = {n: i for i, n in enumerate([*own, *named])}
    table = WeightTable.from_rows(tuple(names), joints, weights).with_joints((*own, *named))
    live = table.with_joints(tuple(own))
    for h in between:
        for n in (h.a, h.b):
            live = live.added(n, 0.5 * table.of(h.name))
    index, kept = live.with_joints(tuple(own)).normalised().rows(weights.shape[1])
    order = np.array([place[n] for n in names], np.uint16)
    return {"skin/joints": index, "skin/weights": kept, "handed/joints": order[joints], "handed/weights": weights}


def _shapes_told(about: dict[str, Any], names: list[str]) -> tuple[Shape, ...]:
    """The shapes with what the file says of them beside their targets."""
    told = {str(s.get("name")): s for s in about.get("shapes", []) if isinstance(s, dict)}
    return tuple(Shape(**{**told.get(n, {}), "name": n}) for n in names)


def _lines_from_strokes(ends: np.ndarray) -> list[list[int]]:
    """Lines again, from pairs of ends: a pair that begins where the last one ended goes on with it."""
    lines: list[list[int]] = []
    for a, b in ends.reshape(-1, 2).tolist():
        if lines and lines[-1][-1] == a:
            lines[-1].append(b)
        else:
            lines.append([a, b])
    return lines
