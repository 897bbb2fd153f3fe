"""Changing joints: place, name, parent, turn, mirror.  Every function gives a new character."""

from __future__ import annotations

import numpy as np

from ..character import Character, Joint, opposite, opposite_name
from ..errors import BadParameters, StepRefused
from ..geometry.rotations import frame_from_axes, matrix_from_quaternion, quaternion_from_matrix
from ..geometry.topology import skin_triangles
from ..geometry.voxels import Solid, solid_from_mesh
from ..tolerances import MAX_JOINTS, SAME_PLACE

MIRROR = np.array([-1.0, 1.0, 1.0])

_solids: dict[tuple[str, str, int], Solid] = {}


def body_solid(character: Character, cells: int = 120) -> Solid:
    """The filled skin parts, cells symmetric about x = 0; kept for the last few meshes."""
    roles = "".join(f"{p.name}:{p.role};" for p in character.parts)
    key = (character.arrays.hash_of("points") + character.arrays.hash_of("face_corners"), roles, cells)
    if key not in _solids:
        h = character.size / cells
        low, high = character.points.min(0) - 2 * h, character.points.max(0) + 2 * h
        half = np.ceil(max(-low[0], high[0]) / h) * h
        low[0], high[0] = -half, half
        while len(_solids) >= 4:
            _solids.pop(next(iter(_solids)))
        _solids[key] = solid_from_mesh(character.points, skin_triangles(character), h, (low, high))
    return _solids[key]


def may_stick_out(character: Character, joint: Joint) -> bool:
    """End joints and control joints may lie outside the body; deforming joints with children may not."""
    return not joint.deforms or not character.children.get(joint.name)


def kept_inside(character: Character, joint: Joint, place: np.ndarray) -> np.ndarray:
    """The place, or for a deforming joint outside the body the nearest place inside it."""
    if may_stick_out(character, joint) or joint.role == "eye" or not len(character.points):
        return place
    solid = body_solid(character)
    if not len(solid.cells) or solid.contains(place[None])[0]:
        return place
    return solid.centres[solid.nearest(place[None])[0]]


def move_joint(
    character: Character, name: str, place: np.ndarray, both_sides: bool = True, with_children: bool = False,
    inside: bool = True,
) -> Character:  # fmt: skip
    """Put a joint at `place` (3,) metres.

    both_sides: its partner goes to the mirrored place, and a joint on the body plane stays on it;
    with_children: everything below moves along; inside: deforming joints are kept inside the body.
    The turns of the joint, its parent and their partners follow, bones staying down their axis.
    """
    joint = character.joint(name)
    place = np.asarray(place, float)
    if both_sides and joint.side == "C" and abs(joint.place[0]) < 1e-6 * character.size + SAME_PLACE:
        place = place * [0.0, 1.0, 1.0]
    if inside:
        place = kept_inside(character, joint, place)
    moves = {name: place - np.array(joint.place)}
    partner = opposite_name(name)
    if both_sides and partner != name and partner in character.joint_index:
        moves[partner] = place * MIRROR - np.array(character.joint(partner).place)
    if with_children:
        for top, by in list(moves.items()):
            for below in descendants(character, top):
                moves[below] = by
    joints = tuple(
        j.model_copy(update={"place": _vector(np.array(j.place) + moves[j.name])}) if j.name in moves else j
        for j in character.joints
    )
    moved = character.with_(joints=joints)
    touched = {n for m in moves for n in (m, character.joint(m).parent) if n}
    return refreshed(turn_down_bones(moved, touched, keep_hinge=True), character)


def refreshed(character: Character, before: Character | None = None) -> Character:
    """The character with its kits' controls made anew where the joints now are; kits, names and poses stay.

    With `before`, only kits that stand on a joint that moved or turned since, or hold the bone above one.
    """
    from ..rig.kits import KINDS

    stale = {k.name for k in character.kits}
    if before is not None:
        old = {j.name: j for j in before.joints}
        moved = {j.name for j in character.joints if old.get(j.name) != j}
        moved |= {character.joint(n).parent or n for n in moved}
        stale = {k.name for k in character.kits if any(n in moved for names in k.joints.values() for n in names)}
    if not stale:
        return character
    fresh = {k.name: KINDS[k.kind].controls(character, k) for k in character.kits if k.name in stale}
    kept = {k.name: [c for c in character.controls if c.kit == k.name] for k in character.kits}
    return character.with_(controls=tuple(c for k in character.kits for c in fresh.get(k.name, kept[k.name])))


def descendants(character: Character, name: str) -> list[str]:
    found, todo = [], [name]
    while todo:
        for child in character.children.get(todo.pop(), ()):
            found.append(child.name)
            todo.append(child.name)
    return found


def _vector(v: np.ndarray) -> tuple[float, float, float]:
    return (float(v[0]), float(v[1]), float(v[2]))


def turned(joint: Joint, axes: np.ndarray) -> Joint:
    return joint.model_copy(update={"turn": tuple(float(x) for x in quaternion_from_matrix(axes))})


def mirrored_axes(axes: np.ndarray) -> np.ndarray:
    """Axes (3, 3) of the partner: x still down the bone, and the same turn about z bends both sides alike.

    A turn by θ about an axis a is mirrored into one by −θ about the mirrored axis, so z is mirrored and reversed.
    """
    m = axes * MIRROR[:, None]
    return np.stack([m[:, 0], m[:, 1], -m[:, 2]], 1)


def bone_child(character: Character, joint: Joint) -> Joint | None:
    """The child that a joint's bone runs to."""
    kids = character.children.get(joint.name, ())
    kids = tuple(k for k in kids if k.role != "eye")
    if not kids:
        return None
    if len(kids) > 1:
        middle = [k for k in kids if k.role.startswith(("middle", "point"))]
        same = [k for k in kids if k.side == joint.side]
        return (middle or same or list(kids))[0]
    return kids[0]


def turn_down_bones(
    character: Character, which: set[str] | None = None, hinges: dict[str, np.ndarray] | None = None,
    keep_hinge: bool = False,
) -> Character:  # fmt: skip
    """x of each joint down its bone; z as near as can be to its hinge (given, or kept, or found from the bend).

    Joints without a child are turned as their parent.  Right partners are turned from the left ones.
    """
    axes: dict[str, np.ndarray] = {}
    joints = list(character.joints)
    all_axes = matrix_from_quaternion(np.array([j.turn for j in joints])) if joints else np.zeros((0, 3, 3))
    olds = {j.name: m for j, m in zip(joints, all_axes, strict=True)}
    for j in joints:
        old = olds[j.name]
        if which is not None and j.name not in which:
            axes[j.name] = old
            continue
        partner = opposite_name(j.name)
        left = character.joint(partner) if j.side == "R" and partner in character.joint_index else None
        if left is not None and np.allclose(np.array(left.place) * MIRROR, j.place, atol=1e-6 * character.size):
            continue  # from its partner, below
        child = bone_child(character, j)
        if child is None or np.allclose(child.place, j.place):
            if child is None and j.parent and hinges is not None:
                axes[j.name] = axes.get(j.parent, old)
            else:
                axes[j.name] = old
            continue
        along = np.array(child.place) - np.array(j.place)
        hinge = (hinges or {}).get(j.name)
        if hinge is None:
            hinge = old[:, 2] if keep_hinge else bend_hinge(character, j, child)
        axes[j.name] = frame_from_axes(along, hinge)
    for j in joints:
        if j.name not in axes:
            axes[j.name] = mirrored_axes(axes[opposite_name(j.name)])
    same = {j.name for j in joints if axes[j.name] is olds[j.name]}  # untouched turns stay exactly as they are
    return character.with_(joints=tuple(j if j.name in same else turned(j, axes[j.name]) for j in joints))


def bend_hinge(character: Character, joint: Joint, child: Joint) -> np.ndarray:
    """The axis about which a positive turn closes the bend at `child`; +X where the chain is straight there."""
    after = bone_child(character, child)
    if after is not None:
        a, b, c = (np.array(x.place) for x in (joint, child, after))
        n = np.cross(b - a, c - b)
        if np.linalg.norm(n) > 0.02 * np.linalg.norm(b - a) * np.linalg.norm(c - b):
            return n
    return np.array([1.0, 0.0, 0.0])


def add_joint(character: Character, joint: Joint) -> Character:
    """Hang a new joint below its parent.  Raises where the name is taken or the parent isn't there."""
    if joint.name in character.joint_index:
        raise StepRefused(f"There is a joint called “{joint.name}” already.", character.name, "Choose another name.")
    if len(character.joints) >= MAX_JOINTS:
        raise StepRefused(f"A character has {MAX_JOINTS} joints at most.", character.name)
    if joint.parent:
        character.joint(joint.parent)
    added = character.with_(joints=character.joints + (joint,))
    return turn_down_bones(added, {joint.name} | ({joint.parent} if joint.parent else set()))


def remove_joint(character: Character, name: str) -> Character:
    """Take a joint out; its children hang from its parent, and its skin weights go to the parent.

    Refused while a kit moves it, and for a holder of skin that has no parent.
    """
    joint = character.joint(name)
    for k in character.kits:
        if any(name in names for names in k.joints.values()):
            raise StepRefused(f"{name} is moved by the kit “{k.name}”.", character.name, "Take that kit off first.")
    joints = tuple(
        j.model_copy(update={"parent": joint.parent}) if j.parent == name else j
        for j in character.joints
        if j.name != name
    )
    result = character.with_(joints=joints)
    if character.skin and name in character.skin.joints:
        if joint.parent is None:
            raise StepRefused(
                f"{name} holds skin and has no parent to give it to.", character.name, "Bind again after."
            )
        result = result.with_(skin=_skin_without(character, name, joint.parent))
    return result


def _skin_without(character: Character, name: str, heir: str):  # type: ignore[no-untyped-def]
    """The list of holding joints with `name` standing for `heir`; weights are kept as they are."""
    assert character.skin
    return character.skin.model_copy(update={"joints": tuple(heir if j == name else j for j in character.skin.joints)})


def rename_joint(character: Character, name: str, new: str, both_sides: bool = True) -> Character:
    """Give a joint another name everywhere it is used; its partner's follows when both end in a side tag."""
    renames = {name: new}
    partner, new_partner = opposite_name(name), opposite_name(new)
    if both_sides and partner != name and new_partner != new and partner in character.joint_index:
        renames[partner] = new_partner
    character.joint(name)
    taken = set(character.joint_index) - set(renames)
    for n in renames.values():
        if n in taken or len(set(renames.values())) < len(renames):
            raise BadParameters(f"There is a joint called “{n}” already.", character.name, "Choose another name.")

    def now(n: str | None) -> str | None:
        return renames.get(n, n) if n else n

    joints = tuple(j.model_copy(update={"name": now(j.name), "parent": now(j.parent)}) for j in character.joints)
    kits = tuple(
        k.model_copy(update={"joints": {r: tuple(str(now(n)) for n in names) for r, names in k.joints.items()}})
        for k in character.kits
    )
    skin = character.skin and character.skin.model_copy(
        update={"joints": tuple(str(now(n)) for n in character.skin.joints)}
    )
    labels = {f"{a} turn": f"{b} turn" for a, b in renames.items()}
    controls = tuple(c.model_copy(update={"name": labels.get(c.name, c.name)}) for c in character.controls)
    poses = tuple(
        p.model_copy(update={"values": {labels.get(c, c): v for c, v in p.values.items()}}) for p in character.poses
    )
    return character.with_(joints=joints, kits=kits, skin=skin, controls=controls, poses=poses)


def mirror_joints(character: Character, top: str) -> Character:
    """Make (or set) the partners of `top` and all below it on the other side, names and turns mirrored."""
    names = [top, *descendants(character, top)]
    first = character.joint(top)
    if first.side == "C":
        raise StepRefused(f"{top} stands in the middle.", character.name, "Mirror a joint of one side.")
    result = {j.name: j for j in character.joints}
    for n in names:
        j = character.joint(n)
        if opposite_name(n) == n:
            raise StepRefused(f"{n} has no side in its name.", character.name, "End its name in _L or _R.")
        result[opposite_name(n)] = turned(
            j.model_copy(
                update={
                    "name": opposite_name(n), "side": opposite(j.side), "place": _vector(np.array(j.place) * MIRROR),
                    "parent": opposite_name(j.parent) if j.parent and (j.parent in names or opposite_name(j.parent) in character.joint_index) else j.parent,
                }
            ),
            mirrored_axes(matrix_from_quaternion(j.turn)),
        )  # fmt: skip
    return refreshed(character.with_(joints=tuple(result.values())))
