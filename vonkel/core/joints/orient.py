"""How joints are turned at rest.

Each joint says which of its own axes runs down the bone (`aim`) and about which a positive turn closes the bend
(`hinge`); both may be negative.  Plans use x and z.  Of two partners the right one is turned from the left one, in one
of two manners: counter-motion, so that the same value about the hinge bends both sides alike, or parallel axes.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..character import REST_TURN, Character, Joint, opposite_name
from ..character.words import FINGERS
from ..errors import BadParameters
from ..geometry.rotations import cross, frame_from_axes, matrix_from_quaternion, quaternion_from_matrix, unit

MIRROR = np.array([-1.0, 1.0, 1.0])
Manner = Literal["counter", "parallel"]
INDEX = {"x": 0, "y": 1, "z": 2}


def axis_of(axes: np.ndarray, name: str) -> np.ndarray:
    """The axis (3,) that `name`, such as “x” or “-z”, means in axes (3, 3) given as columns."""
    return -axes[:, INDEX[name[1]]] if name[0] == "-" else axes[:, INDEX[name]]


def own_axes(frame: np.ndarray, aim: str, hinge: str) -> np.ndarray:
    """The joint's own axes (3, 3) for a bone frame whose x runs down the bone and whose z is the hinge."""
    out = np.zeros((3, 3))
    a, h = INDEX[aim[-1]], INDEX[hinge[-1]]
    if a == h:
        raise BadParameters("The hinge can't run down the bone.", "", "Choose two different axes.")
    out[:, a] = frame[:, 0] * (-1 if aim[0] == "-" else 1)
    out[:, h] = frame[:, 2] * (-1 if hinge[0] == "-" else 1)
    k = 3 - a - h
    out[:, k] = cross(out[:, (k + 1) % 3], out[:, (k + 2) % 3])
    return out


def bone_frame(joint: Joint) -> np.ndarray:
    """(3, 3): x as the joint's aim says, z its hinge."""
    axes = matrix_from_quaternion(joint.turn)
    x, z = axis_of(axes, joint.aim), axis_of(axes, joint.hinge)
    return np.stack([x, cross(z, x), z], 1)


def turned(joint: Joint, axes: np.ndarray) -> Joint:
    return joint.model_copy(update={"turn": tuple(float(x) for x in quaternion_from_matrix(axes))})


def mirrored_axes(axes: np.ndarray, hinge: str = "z") -> np.ndarray:
    """Axes (3, 3) of the partner in counter-motion: the bone still runs down its axis, and the same turn about the
    hinge bends both sides alike.

    A turn by θ about an axis a is mirrored into one by −θ about the mirrored axis, so the hinge is mirrored and
    reversed.
    """
    m = axes * MIRROR[:, None]
    m[:, INDEX[hinge[-1]]] *= -1
    return np.asarray(m)


def partner_axes(axes: np.ndarray, hinge: str, manner: Manner) -> np.ndarray:
    return axes.copy() if manner == "parallel" else mirrored_axes(axes, hinge)


def manner_of(left: Joint, right: Joint) -> Manner:
    """In which manner two partners are turned; counter-motion unless their axes are the same.

    Joints that were never turned count as counter-motion too.
    """
    same = abs(float(np.dot(left.turn, right.turn))) > 1 - 1e-9
    if not same or left.turn == REST_TURN:
        return "counter"
    axes = matrix_from_quaternion(left.turn)
    return "counter" if np.allclose(mirrored_axes(axes, left.hinge), axes, atol=1e-6) else "parallel"


def partner_values(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    """(3, 3) signs that take small turns about the left joint's axes to the mirrored turns about the right's."""
    return np.asarray((right.T @ np.diag([1.0, -1.0, -1.0]) @ left).round(6))


def bone_child(character: Character, joint: Joint) -> Joint | None:
    """The child that a joint's bone runs to."""
    kids = tuple(k for k in character.children.get(joint.name, ()) if k.role != "eye")
    if not kids:
        return None
    if len(kids) > 1:
        middle = [k for k in kids if k.role.startswith(("middle", "index"))]
        onward = [
            k for k in kids if k.role.rstrip("0123456789") == joint.role.rstrip("0123456789") and k.side == joint.side
        ]
        same = [k for k in kids if k.side == joint.side]
        return (middle or onward or same or list(kids))[0]
    return kids[0]


def bend_angle(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> float:
    """Radians by which the way from a (3,) over b to c turns at b."""
    return float(np.arctan2(np.linalg.norm(np.cross(b - a, c - b)), (b - a) @ (c - b)))


def bend_normal(character: Character, joint: Joint, child: Joint) -> np.ndarray | None:
    """The axis (3,) about which a positive turn closes the bend at `child`; None where the chain is straight there."""
    after = bone_child(character, child)
    if after is not None:
        a, b, c = (np.array(x.place) for x in (joint, child, after))
        n = cross(b - a, c - b)
        if np.linalg.norm(n) > 0.02 * np.linalg.norm(b - a) * np.linalg.norm(c - b):
            return n
    return None


def turn_down_bones(
    character: Character, which: set[str] | None = None, hinges: dict[str, np.ndarray] | None = None,
    keep_hinge: bool = False,
) -> Character:  # fmt: skip
    """The aim axis of each joint down its bone; the hinge given, or kept, or found from the bend.

    Joints without a child are turned as their parent.  Right partners are turned from the left ones, in the manner
    that they are in.
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
        left = _left_partner(character, j)
        if left is not None and np.allclose(np.array(left.place) * MIRROR, j.place, atol=1e-6 * character.size):
            continue  # from its partner, below
        child = bone_child(character, j)
        if child is None or np.allclose(child.place, j.place):
            axes[j.name] = axes.get(j.parent, old) if child is None and j.parent and hinges is not None else old
            continue
        along = np.array(child.place) - np.array(j.place)
        hinge = (hinges or {}).get(j.name)
        if hinge is None and keep_hinge:
            hinge = axis_of(old, j.hinge)
        if hinge is None:
            found = bend_normal(character, j, child)
            hinge = found if found is not None else np.array([1.0, 0.0, 0.0])
        axes[j.name] = own_axes(frame_from_axes(along, hinge), j.aim, j.hinge)
    for j in joints:
        if j.name not in axes:
            left = character.joint(opposite_name(j.name))
            axes[j.name] = partner_axes(axes[left.name], left.hinge, manner_of(left, j))
    same = {j.name for j in joints if axes[j.name] is olds[j.name]}  # untouched turns stay exactly as they are
    return character.with_(joints=tuple(j if j.name in same else turned(j, axes[j.name]) for j in joints))


def _left_partner(character: Character, joint: Joint) -> Joint | None:
    partner = character.partner(joint.name)
    return character.joint(partner) if joint.side == "R" and partner else None


TurnRule = Literal["bend", "up", "world x", "world y", "world z", "copy", "keep"]


def orient(
    character: Character, names: list[str], rule: TurnRule = "bend", aim: str = "", hinge: str = "", like: str = "",
    flip: bool = False, both_sides: bool = True,
) -> Character:  # fmt: skip
    """Joints turned by a rule for their second axis.

    rule: “bend”, the hinge across the plane of the bend at the joint (of a limb's first joint: at the next one); “up”, the hinge level, so that the third axis points up as
    nearly as it can; “world x/y/z”, the hinge along that axis; “copy”, along the hinge of the joint `like`; “keep”, as
    it is.  aim, hinge: which of their own axes these are from now on.  flip: the hinge the other way round.  Joints
    without a bone are turned as their parent.  Raises BadParameters for joints that aren't there.
    """
    chosen = [character.joint(n) for n in names]
    if rule == "copy" and not like:
        raise BadParameters("Copying needs a joint to copy from.", "", "Choose the joint whose hinge is right.")
    result = {j.name: j for j in character.joints}
    copied = bone_frame(character.joint(like))[:, 2] if like else np.zeros(3)
    done = set(names)
    for j in chosen:
        child = bone_child(character, j)
        old = bone_frame(result[j.parent]) if child is None and j.parent else bone_frame(j)
        along = np.array(child.place) - np.array(j.place) if child is not None else old[:, 0]
        if np.linalg.norm(along) < 1e-12:
            continue
        wanted = _hinge_by(character, rule, j, child, unit(along), old, copied)
        new = j.model_copy(update={"aim": aim or j.aim, "hinge": hinge or j.hinge})
        result[j.name] = turned(new, own_axes(frame_from_axes(along, -wanted if flip else wanted), new.aim, new.hinge))
    if both_sides:
        for j in chosen:
            partner = character.partner(j.name)
            if partner and partner not in done:
                new, other = result[j.name], result[partner]
                axes = partner_axes(matrix_from_quaternion(new.turn), new.hinge, manner_of(j, other))
                result[partner] = turned(other.model_copy(update={"aim": new.aim, "hinge": new.hinge}), axes)
    return character.with_(joints=tuple(result.values()))


def _hinge_by(
    character: Character, rule: TurnRule, joint: Joint, child: Joint | None, along: np.ndarray, old: np.ndarray,
    copied: np.ndarray,
) -> np.ndarray:  # fmt: skip
    if rule == "keep":
        return old[:, 2]
    if rule == "copy":
        return copied
    if rule.startswith("world"):
        return np.asarray(np.eye(3)[INDEX[rule[-1]]])
    if rule == "up":
        level = np.cross(along, [0.0, 1.0, 0.0])
        return level if np.linalg.norm(level) > 0.05 else np.array([1.0, 0.0, 0.0])
    above = character.joint(joint.parent) if joint.parent else None
    own = (
        above is not None
        and above.side == joint.side
        and above.role != "collar"
        and bone_child(character, above) is joint
    )
    # A joint within a limb turns in the plane of its own bend; a limb's first joint in that of the next one.
    n = bend_normal(character, above, joint) if own and above is not None else None
    if n is None and child is not None:
        n = bend_normal(character, joint, child)
    return n if n is not None else old[:, 2]


# -- what looks wrong --------------------------------------------------------------------------------------------
def off_bone(character: Character, joint: Joint) -> float:
    """Radians between a joint's aim axis and its bone; 0 where it has none, and for a parallel right partner."""
    child = bone_child(character, joint)
    if child is None:
        return 0.0
    left = _left_partner(character, joint)
    if left is not None and manner_of(left, joint) == "parallel":
        return 0.0
    way = np.array(child.place) - np.array(joint.place)
    n = float(np.linalg.norm(way))
    if n < 1e-9:
        return 0.0
    return float(np.arccos(np.clip(bone_frame(joint)[:, 0] @ way / n, -1, 1)))


def off_bend(character: Character, joint: Joint) -> float:
    """Radians between a joint's hinge and the axis of the bend at its own place; 0 where there is no clear bend.

    π means that a positive turn opens what it should close.
    """
    if joint.parent is None:
        return 0.0
    above = character.joint(joint.parent)
    left = _left_partner(character, joint)
    if bone_child(character, above) is not joint or (left is not None and manner_of(left, joint) == "parallel"):
        return 0.0
    n = bend_normal(character, above, joint)
    child = bone_child(character, joint)
    if n is None or child is None:
        return 0.0
    a, b, c = (np.array(x.place) for x in (above, joint, child))
    if np.linalg.norm(n) < 0.12 * np.linalg.norm(b - a) * np.linalg.norm(c - b):
        return 0.0  # less than seven degrees say nothing
    return float(np.arccos(np.clip(bone_frame(joint)[:, 2] @ unit(n), -1, 1)))


def curl_senses(character: Character) -> dict[str, dict[str, float]]:
    """For each hand or foot with digits: digit joint → how far its tip goes towards the palm for a turn by 30° about
    its hinge, as a share of its length.  A fist needs one sign for all of them.

    The palm's side is where the sum of all digits' curls goes.
    """
    groups: dict[str, dict[str, np.ndarray]] = {}
    digits = (*FINGERS, "toe_")
    for j in character.joints:
        if not (j.role.startswith(digits) and j.deforms) or j.role.endswith("end"):
            continue
        child = bone_child(character, j)
        root = j
        while root.parent and character.joint(root.parent).role.startswith(digits):
            root = character.joint(root.parent)
        if child is None or not root.parent:
            continue
        way = np.array(child.place) - np.array(j.place)
        hinge = bone_frame(j)[:, 2]
        a = np.radians(30)
        curled = way * np.cos(a) + np.cross(hinge, way) * np.sin(a) + hinge * (hinge @ way) * (1 - np.cos(a))
        groups.setdefault(root.parent, {})[j.name] = (curled - way) / max(float(np.linalg.norm(way)), 1e-9)
    out = {}
    for holder, moves in groups.items():
        palm = np.sum(list(moves.values()), axis=0)
        if np.linalg.norm(palm) > 1e-9:
            out[holder] = {n: float(m @ unit(palm)) for n, m in moves.items()}
    return out
