"""Joints that help others: twist joints along a bone, a muscle between two joints."""

from __future__ import annotations

import numpy as np

from ..character import Character, Joint, opposite_name, unique_name, without_side
from ..errors import StepRefused
from ..geometry.rotations import vector
from ..tolerances import MAX_JOINTS
from .edit import _shared_along
from .orient import MIRROR, bone_child


def add_twist_joints(character: Character, name: str, count: int, from_end: bool) -> tuple[Character, tuple[str, ...]]:
    """`count` joints along a bone, all hanging from the joint where it begins; the skin that it holds is shared out.

    from_end: they stand from the first cut to the last and the bone's own joint keeps the first piece; otherwise they stand
    from the bone's beginning and its own joint keeps the last.  Raises StepRefused where there is no bone.
    """
    joint = character.joint(name)
    child = bone_child(character, joint)
    if child is None:
        raise StepRefused(f"{name} has no bone to twist.", character.name, "Choose a joint with a child.")
    if len(character.joints) + count > MAX_JOINTS:
        raise StepRefused(f"A character has {MAX_JOINTS} joints at most.", character.name)
    a, b = np.array(joint.place), np.array(child.place)
    taken = set(character.joint_index)
    stem, names, new = without_side(name), [], []
    tag = name[len(stem) :]
    for i in range(count):
        made = unique_name(f"{stem}_twist{i + 1}{tag}", taken)
        taken.add(made)
        share = (i + 1) / (count + 1) if from_end else i / (count + 1)
        p = a + share * (b - a)
        role = f"{joint.role}_twist{i + 1}" if joint.role else "twist"
        new.append(
            joint.model_copy(
                update={
                    "name": made, "parent": name, "place": vector(p), "role": role,
                    "freedom": None,
                }
            )
        )  # fmt: skip
        names.append(made)
    result = character.with_(joints=character.joints + tuple(new))
    if character.skin and name in character.skin.joints:
        order = [name, *names] if from_end else [*names, name]
        result = _shared_along(result, name, names, a, b, order)
    return result, tuple(names)


def add_muscle_joint(
    character: Character, name: str, first: str, second: str, off: np.ndarray | None = None, both_sides: bool = True
) -> tuple[Character, str]:
    """A deforming joint halfway between two joints (moved by `off` (3,) metres), hanging from the first.

    Off the middle it gets the side tag of the first, and with both_sides a partner.  Returns the character and its name.
    """
    a, b = character.joint(first), character.joint(second)
    place = 0.5 * (np.array(a.place) + np.array(b.place)) + (np.zeros(3) if off is None else off)
    side = a.side if a.side != "C" else b.side
    tag = "" if side == "C" else f"_{side}"
    made = unique_name(f"{without_side(name)}{tag}", set(character.joint_index))
    joint = Joint(
        name=made, parent=first, side=side, place=tuple(map(float, place)), turn=a.turn, role="muscle",
        aim=a.aim, hinge=a.hinge, order=a.order,
    )  # fmt: skip
    added = [joint]
    other = opposite_name(made)
    parents = {opposite_name(first), opposite_name(second)}
    if both_sides and side != "C" and other not in character.joint_index and parents <= set(character.joint_index):
        partner = character.joint(opposite_name(first))
        place = place * MIRROR
        added.append(
            joint.model_copy(
                update={
                    "name": other, "parent": partner.name, "side": partner.side, "turn": partner.turn,
                    "place": tuple(map(float, place)), "aim": partner.aim, "hinge": partner.hinge,
                }
            )
        )  # fmt: skip
    result = character.with_(joints=character.joints + tuple(added))
    for j, one, two in (
        (added[0], first, second),
        *((x, opposite_name(first), opposite_name(second)) for x in added[1:]),
    ):
        reach = 0.55 * float(np.linalg.norm(np.array(result.joint(one).place) - np.array(result.joint(two).place)))
        result = shared_around(result, j.name, (one, two), reach)
    return result, made


def shared_around(
    character: Character, name: str, holders: tuple[str, ...], reach: float, most: float = 0.7
) -> Character:
    """A new joint takes a share of the skin that others hold near it: `most` at its place, softly none at `reach` metres."""
    skin = character.skin
    if skin is None or name in skin.joints:
        return character
    joints, weights = character.arrays["skin/joints"].copy(), character.arrays["skin/weights"].copy()
    columns = [skin.joints.index(h) for h in holders if h in skin.joints]
    far = np.linalg.norm(character.points - np.array(character.joint(name).place), axis=1)
    share = most * np.clip(1 - (far / max(reach, 1e-9)) ** 2, 0, 1) ** 2
    theirs = np.isin(joints, columns)
    given = (np.where(theirs, weights, 0).sum(1) * share).astype(weights.dtype)
    rows = np.flatnonzero(given > 0.01)
    number = len(skin.joints)
    for r in rows:
        free = int(np.argmin(weights[r]))
        if weights[r, free] > given[r]:
            continue
        weights[r, theirs[r]] *= 1 - share[r]
        joints[r, free], weights[r, free] = number, given[r]
        weights[r] /= weights[r].sum()
    made = skin.model_copy(update={"joints": (*skin.joints, name)})
    return character.with_(skin=made, arrays={"skin/joints": joints, "skin/weights": weights})
