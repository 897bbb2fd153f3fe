"""A scene as .glb (glTF 2.0).  Section numbers are those of the specification, 2.0.1 of the Khronos registry."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..errors import StepRefused
from .gltf_tree import POINT, Writer
from .pictures import picture_kind
from .scene import Material, Mesh, Node, Scene, Take

MOST_BY_FLOAT = 2**24  # the whole numbers that a float32 tells apart
ARRAY, INDEX = 34962, 34963
ORDER = [1, 2, 3, 0]  # (w, x, y, z) as glTF has it


def write(scene: Scene, generator: str = "Vonkel") -> bytes:
    """The scene as one file: parts as skinned meshes, joints, weights, morph targets, motions."""
    w = Writer()
    nodes = _nodes(scene)
    tree: dict[str, Any] = {}
    if scene.skin:
        inverse = scene.skin.inverse.astype(np.float32)
        inverse[:, 3] = (0, 0, 0, 1)
        matrices = w.add(np.ascontiguousarray(inverse.transpose(0, 2, 1)).reshape(-1, 16), "MAT4")
        skin: dict[str, Any] = {"joints": list(scene.skin.nodes), "inverseBindMatrices": matrices}
        roots = [i for i, n in enumerate(scene.nodes) if n.parent < 0]
        if len(roots) == 1:
            skin["skeleton"] = roots[0]
        tree["skins"] = [skin]
    meshes = [_mesh(w, scene, m, i) for i, m in enumerate(scene.meshes)]
    if scene.texture is not None:
        kind = picture_kind(scene.texture)
        tree["images"] = [{"bufferView": w.view(scene.texture), "mimeType": f"image/{kind}"}]
        tree["textures"] = [{"source": 0}]
    for i, mesh in enumerate(scene.meshes):
        node: dict[str, Any] = {"name": mesh.name, "mesh": i}
        if scene.skin:
            node["skin"] = 0
        nodes.append(node)
    if scene.takes:
        tree["animations"] = [_animation(w, scene, take) for take in scene.takes]
    held = {c for n in nodes for c in n.get("children", [])}
    tree |= {
        "asset": {"version": "2.0", "generator": generator, "extras": {"vonkel": scene.about}},
        "scene": 0, "scenes": [{"name": scene.name, "nodes": [i for i in range(len(nodes)) if i not in held]}],
        "nodes": nodes, "meshes": meshes, "materials": [_material(m.material) for m in scene.meshes],
    }  # fmt: skip
    return w.glb(tree)


def _floats(values: np.ndarray) -> list[float]:
    return [float(np.float32(v)) for v in values]


def _nodes(scene: Scene) -> list[dict[str, Any]]:
    nodes: list[dict[str, Any]] = []
    for n in scene.nodes:
        node: dict[str, Any] = {"name": n.name}
        if n.joint or n.about:  # a leaf lies on its joint
            node |= {"translation": _floats(n.place), "rotation": _floats(n.turn[ORDER])}
        if n.about:
            node["extras"] = {"vonkel": n.about}
        nodes.append(node)
    for i in sorted(range(len(scene.nodes)), key=lambda i: bool(scene.nodes[i].joint)):  # a joint's leaf stands first
        if scene.nodes[i].parent >= 0:
            nodes[scene.nodes[i].parent].setdefault("children", []).append(i)
    return nodes


def _material(m: Material) -> dict[str, Any]:
    pbr: dict[str, Any] = {
        "baseColorFactor": [*(round(float(c), 5) for c in m.colour), 1.0],
        "metallicFactor": 0.0,
        "roughnessFactor": m.roughness,
    }
    if m.textured:
        pbr["baseColorTexture"] = {"index": 0}
    return {"name": m.name, "pbrMetallicRoughness": pbr}


def _mesh(w: Writer, scene: Scene, mesh: Mesh, material: int) -> dict[str, Any]:
    if len(mesh.point) > MOST_BY_FLOAT:
        raise StepRefused(f"{mesh.name} has more points than the file can number.", scene.name, "Split the part.")
    attributes = _attributes(w, mesh)
    kind = np.uint16 if len(mesh.point) < 65535 else np.uint32
    primitives: list[dict[str, Any]] = []
    if len(mesh.triangles):
        faces = w.add(mesh.triangles.astype(kind).ravel(), "SCALAR", INDEX)
        primitives.append({"attributes": attributes, "indices": faces, "material": material})
    if len(mesh.strokes):
        bare = {k: v for k, v in attributes.items() if k not in ("NORMAL", "TEXCOORD_0", POINT)}
        strokes = w.add(mesh.strokes.astype(kind), "SCALAR", INDEX)
        primitives.append({"attributes": bare, "indices": strokes, "material": material, "mode": 1})
    out: dict[str, Any] = {"name": mesh.name, "primitives": primitives}
    if scene.targets:
        targets = [{"POSITION": w.add(m, "VEC3", ARRAY, bounds=True)} for m in mesh.moves]
        for primitive in primitives:
            primitive["targets"] = targets
        out["weights"] = [0.0] * len(scene.targets)
        out["extras"] = {"targetNames": list(scene.targets)}
    return out


def _attributes(w: Writer, mesh: Mesh) -> dict[str, int]:
    out = {"POSITION": w.add(mesh.points.astype(np.float32), "VEC3", ARRAY, bounds=True)}
    if mesh.normals is not None and len(mesh.triangles):  # without normals a reader shades each face flat (3.7.2.1)
        out["NORMAL"] = w.add(mesh.normals.astype(np.float32), "VEC3", ARRAY)
    if mesh.copies:  # which point each is: two points at one place are two
        out[POINT] = w.add((mesh.point - mesh.first).astype(np.float32), "SCALAR", ARRAY)
    if mesh.uvs is not None:
        out["TEXCOORD_0"] = w.add(mesh.uvs, "VEC2", ARRAY)
    if mesh.colours is not None:
        colours = (mesh.colours * 65535 + 0.5).astype(np.uint16)
        colours = np.concatenate([colours, np.full((len(colours), 1), 65535, np.uint16)], 1)
        out["COLOR_0"] = w.add(colours, "VEC4", ARRAY, normalized=True)
    if mesh.joints is not None and mesh.weights is not None:
        pad = -mesh.joints.shape[1] % 4
        joints, weights = np.pad(mesh.joints, ((0, 0), (0, pad))), np.pad(mesh.weights, ((0, 0), (0, pad)))
        joints = np.where(weights > 0, joints, 0).astype(np.uint16)
        for s in range(joints.shape[1] // 4):
            out[f"JOINTS_{s}"] = w.add(joints[:, 4 * s : 4 * s + 4], "VEC4", ARRAY)
            out[f"WEIGHTS_{s}"] = w.add(weights[:, 4 * s : 4 * s + 4].astype(np.float32), "VEC4", ARRAY)
    return out


def _animation(w: Writer, scene: Scene, take: Take) -> dict[str, Any]:
    """Every node that moves, sampled at every frame; morph targets on every mesh (3.11)."""
    times = w.add(take.times.astype(np.float32), "SCALAR", bounds=True)
    samplers: list[dict[str, Any]] = []
    channels: list[dict[str, Any]] = []

    def add(node: int, path: str, values: np.ndarray, kind: str) -> None:
        samplers.append({"input": times, "output": w.add(values.astype(np.float32), kind), "interpolation": "LINEAR"})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": node, "path": path}})

    for i, node in enumerate(scene.nodes):
        for path, kind, moved, rest in _paths(take, node, i):
            if np.abs(moved - rest).max() > 1e-7:
                add(i, path, moved, kind)
    if scene.targets and np.abs(take.strengths).max() > 0:
        for k in range(len(scene.meshes)):
            add(len(scene.nodes) + k, "weights", take.strengths.ravel(), "SCALAR")
    if not channels:  # nothing moves: a motion has one channel at least
        add(0, "translation", take.places[:, 0], "VEC3")
    return {"name": take.name, "samplers": samplers, "channels": channels}


def _paths(take: Take, node: Node, i: int) -> list[tuple[str, str, np.ndarray, np.ndarray]]:
    turns = take.turns[:, i]
    return [
        ("translation", "VEC3", take.places[:, i], node.place),
        ("rotation", "VEC4", turns[:, ORDER], node.turn[ORDER]),
        ("scale", "VEC3", take.scales[:, i], node.scale),
    ]
