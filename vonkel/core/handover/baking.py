"""From a character to a scene: nodes, meshes with split corners, skin, morph targets and motions, baked once."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..character import Between, Character, Clip, Part
from ..derived import ALL, derived
from ..formats.colours import linear_from_srgb
from ..formats.gltf import LEAF
from ..formats.scene import Material, Mesh, Node, Polygons, Scene, SkinOver, Take
from ..geometry.rotations import quaternion_from_matrix
from ..geometry.topology import point_normals, topology_of
from ..motion.clips import frames_of
from ..rig import Pose, compile_rig
from ..rig.motion import clip_motion
from ..rig.slots import Slot
from ..skin.between import Betweens, handed_fresh
from ..skin.correctives import Correctives
from ..skin.deform import rest_inverses


def scaling_joints(character: Character) -> set[str]:
    """Joints that some operation of the rig may scale."""
    return {s.name for s in map(Slot, compile_rig(character).slots) if s.kind == "scale"}


def baked(character: Character, pose: Pose) -> dict[str, tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """Each exported node's place (3,), turn (w, x, y, z) and scale (3,) at a pose, in its parent.

    Joints are rigid; a joint that can lengthen has a leaf node of its own that carries the scale and holds the
    skin.  So plain parent–child multiplication reproduces every pose, and scale reaches no child.
    """
    out = {}
    frames = np.tile(np.eye(4), (len(character.joints), 1, 1))
    frames[:, :3] = pose.joints
    leaves = scaling_joints(character)
    for i, j in enumerate(character.joints):
        local = frames[i] if j.parent is None else np.linalg.inv(frames[character.joint_index[j.parent]]) @ frames[i]
        out[j.name] = (local[:3, 3], quaternion_from_matrix(local[:3, :3]), np.ones(3))
        if j.name in leaves:
            out[j.name + LEAF] = (np.zeros(3), np.array([1.0, 0, 0, 0]), pose.scales[i])
    return out | _between(character, pose)


def _between(character: Character, pose: Pose) -> dict[str, tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """The same of the joints between others, which hang from the first of the two."""
    between, moved = _betweens(character)
    if not between:
        return {}
    own, sizes = moved.frames_at(pose, rest_inverses(character))
    out = {}
    for h, frame, size in zip(between, own, sizes, strict=True):
        above = np.eye(4)
        above[:3] = pose.joints[character.joint_index[h.a]]
        local = np.linalg.inv(above) @ frame
        out[h.name] = (local[:3, 3], quaternion_from_matrix(local[:3, :3]), size)
    return out


@derived(*ALL, most=4)
def _betweens(character: Character) -> tuple[tuple[Between, ...], Betweens]:
    """The joints between others that go out, ready to be moved: a motion asks for them frame by frame."""
    handed = character.skin.handed if character.skin and handed_fresh(character) else None
    between = handed.between if handed else ()
    return between, Betweens(character, between)


def scene_of(character: Character, names: Mapping[str, str] | None = None) -> Scene:
    """The character as it leaves the house.  names: joint → what it is called outside; its own name stays beside it."""
    nodes, number = _nodes(character, names or {})
    skin = None
    if character.skin:
        holders = tuple(number.get(n + LEAF, number[n]) for n in character.skin.joints)
        inverse = rest_inverses(character)[[character.joint_index[n] for n in character.skin.joints]]
        between, moved = _betweens(character)
        holders += tuple(number[h.name] for h in between)
        inverse = np.concatenate([inverse, moved.rest_inverses()])
        skin = SkinOver(holders, inverse)
    drawn = [p for p in character.parts if p.faces[0] < p.faces[1] or p.lines[0] < p.lines[1]]
    topo = topology_of(character)
    normals = point_normals(character.points, topo.triangles)
    about = {
        "name": character.name, "about": character.about, "plan": character.plan,
        "method": character.skin.method if character.skin else "linear",
        "shapes": [s.model_dump(mode="json", exclude={"region"}) for s in character.shapes],
        "correctives": [t.name for t in _correctives(character).list],
        "parts": [{"name": p.name, "role": p.role, "colour": p.colour, "shading": p.shading} for p in drawn],
    }  # fmt: skip
    return Scene(
        name=character.name, nodes=tuple(nodes), meshes=tuple(_mesh(character, p, normals) for p in drawn), skin=skin,
        targets=tuple(s.name for s in character.shapes) + tuple(t.name for t in _correctives(character).list), takes=tuple(take_of(character, c) for c in character.clips),
        texture=character.arrays["texture"].tobytes() if "texture" in character.arrays else None,
        polygons=_polygons(character), about=about,
    )  # fmt: skip


def _nodes(character: Character, names: Mapping[str, str]) -> tuple[list[Node], dict[str, int]]:
    nodes: list[Node] = []
    number: dict[str, int] = {}
    rest = baked(character, compile_rig(character).evaluate({})) if character.joints else {}
    for j in character.joints:
        about = {"side": j.side, "role": j.role, "deforms": j.deforms, "order": j.order}
        called = names.get(j.name, j.name)
        if called != j.name:
            about["name"] = j.name
        number[j.name] = len(nodes)
        nodes.append(Node(called, number[j.parent] if j.parent else -1, *rest[j.name], about=about, joint=j.name))
        if j.name + LEAF in rest:
            number[j.name + LEAF] = len(nodes)
            nodes.append(Node(called + LEAF, number[j.name], *rest[j.name + LEAF]))
    for h in _betweens(character)[0] if character.joints else ():
        number[h.name] = len(nodes)
        nodes.append(Node(h.name, number[h.a], *rest[h.name], about={"between": [h.a, h.b]}))
    return nodes, number


def take_of(character: Character, clip: Clip) -> Take:
    """A clip solved from its first frame on, springs and swings with it, and baked for every node."""
    motion, count = clip_motion(compile_rig(character), character, clip.name), len(frames_of(character, clip.name))
    poses = [motion.pose(i) for i in range(count)]
    rows = [list(baked(character, p).values()) for p in poses]
    places, turns, scales = (np.array([[part[k] for part in row] for row in rows], float) for k in range(3))
    put_right, inverse = _correctives(character), rest_inverses(character)
    strengths = np.array(
        [
            [*(p.shapes.get(s.name, 0.0) for s in character.shapes), *put_right.strengths(p.rigid_matrices(inverse))]
            for p in poses
        ],
        float,
    )
    return Take(clip.name, np.arange(count) / clip.rate, places, _near(turns), scales, strengths)


def _correctives(character: Character) -> Correctives:
    """The targets that only what goes out has; none where they aren't of the live skin as it is."""
    skin = character.skin
    fresh = skin is not None and skin.handed is not None and handed_fresh(character)
    return Correctives(character, skin.handed.correctives if fresh and skin and skin.handed else ())


def _near(turns: np.ndarray) -> np.ndarray:
    """(f, n, 4): of the two quaternions of each turn the one nearer to the frame before, so that none goes the long way."""
    signs = np.ones(turns.shape[:2])
    if len(turns) > 1:
        back = (turns[1:] * turns[:-1]).sum(-1) < 0
        signs[1:] = np.where(np.cumsum(back, axis=0) % 2, -1.0, 1.0)
    return np.asarray(turns * signs[..., None])


def _mesh(character: Character, part: Part, normals: np.ndarray) -> Mesh:
    topo, arrays = topology_of(character), character.arrays
    lo, hi = part.points
    inside = (topo.triangle_face >= part.faces[0]) & (topo.triangle_face < part.faces[1])
    triangles = topo.triangles[inside].astype(np.int64) - lo
    copies, uvs = np.zeros(0, np.int64), None
    if "uvs" in arrays:
        triangles, copies, uvs = split_seams(triangles, arrays["uvs"][topo.triangle_corners[inside]], hi - lo)
    which = np.concatenate([np.arange(lo, hi), lo + copies])
    moves = []
    for shape in character.shapes:
        whole = np.zeros((len(character.points), 3), np.float32)
        whole[arrays[f"shape/{shape.name}/points"]] = arrays[f"shape/{shape.name}/moves"]
        moves.append(whole[which])
    put_right = _correctives(character)
    for index, some in zip(put_right.points, put_right.moves, strict=True):
        whole = np.zeros((len(character.points), 3), np.float32)
        whole[index] = some
        moves.append(whole[which])
    colours = linear_from_srgb(arrays["colours"][which]) if "colours" in arrays else None
    skinned = character.skin is not None
    held = "handed" if handed_fresh(character) else "skin"
    return Mesh(
        name=part.name, first=lo, point=which, points=character.points[which], triangles=triangles,
        strokes=_strokes(character, part) - lo, normals=normals[which] if part.shading == "smooth" else None, uvs=uvs,
        colours=colours, joints=arrays[f"{held}/joints"][which] if skinned else None,
        weights=arrays[f"{held}/weights"][which] if skinned else None, moves=tuple(moves), material=_material(character, part),
    )  # fmt: skip


def _material(character: Character, part: Part) -> Material:
    flat = linear_from_srgb(np.frombuffer(bytes.fromhex(part.colour[1:]), np.uint8))
    colour = np.ones(3) if "colours" in character.arrays else flat
    textured = {"texture", "uvs"} <= set(character.arrays) and part.faces[0] < part.faces[1]
    return Material(part.name, colour, 0.25 if part.role == "eye" else 0.8, textured)


def _strokes(character: Character, part: Part) -> np.ndarray:
    """Both ends of every piece of a part's drawn lines, one after the other."""
    if part.lines[0] == part.lines[1]:
        return np.zeros(0, np.int64)
    starts, points = character.arrays["line_starts"], character.arrays["line_points"]
    runs = [points[starts[i] : starts[i + 1]] for i in range(*part.lines)]
    return np.concatenate([np.stack([r[:-1], r[1:]], 1).ravel() for r in runs]).astype(np.int64)


def _polygons(character: Character) -> Polygons:
    a = character.arrays
    return Polygons(
        character.points, a["face_starts"], a["face_corners"], a.get("uvs"), a.get("colours"), a.get("line_starts"),
        a.get("line_points"), tuple((p.name, p.points, p.faces, p.lines) for p in character.parts),
    )  # fmt: skip


def split_seams(index: np.ndarray, uv: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles (t, 3) over points and copies, which point each copy is of, and texture places for all.

    A row has one texture place.
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
