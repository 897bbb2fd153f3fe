"""Changing the hierarchy: places, new joints, cut bones, parents.  Every function gives a new character."""

from __future__ import annotations

import numpy as np

from ..character import Character, Joint, opposite_name, unique_name, without_side
from ..character.hierarchy import descendants, parents_first
from ..errors import BadParameters, StepRefused
from ..geometry.rotations import vector
from ..tolerances import IN_A_POSE, MAX_JOINTS, SAME_PLACE
from ..weights import table_of, with_table
from .inside import kept_inside
from .orient import MIRROR, bone_child, turn_down_bones


def move_joint(
    character: Character, name: str, place: np.ndarray, both_sides: bool = True, with_children: bool = False,
    inside: bool = True,
) -> Character:  # fmt: skip
    """Put a joint at `place` (3,) metres.

    both_sides: its partner goes to the mirrored place where it lies near it (not on a body in a pose), and a joint on the body plane stays on it;
    with_children: everything below moves along; inside: deforming joints are kept inside the body.
    The turns of the joint, its parent and their partners follow, bones staying down their axis.
    """
    places = moved_places(character, name, place, both_sides, with_children, inside)
    joints = tuple(
        j.model_copy(update={"place": vector(places[j.name]), "doubt": 0.0}) if j.name in places else j
        for j in character.joints
    )
    moved = character.with_(joints=joints)
    touched = {n for m in places for n in (m, character.joint(m).parent) if n}
    return turn_down_bones(moved, touched, keep_hinge=True)


def moved_places(
    character: Character, name: str, place: np.ndarray, both_sides: bool, with_children: bool, inside: bool
) -> dict[str, np.ndarray]:
    """Where `move_joint` puts every joint that it moves: joint → (3,) metres."""
    joint = character.joint(name)
    place = np.asarray(place, float)
    if both_sides and joint.side == "C" and abs(joint.place[0]) < 1e-6 * character.size + SAME_PLACE:
        place = place * [0.0, 1.0, 1.0]
    if inside:
        place = kept_inside(character, joint, place)
    places = {name: place}
    partner = character.partner(name)
    if both_sides and partner and _alike(character, joint, partner):
        places[partner] = place * MIRROR
    if with_children:
        for top, there in list(places.items()):
            by = there - np.array(character.joint(top).place)
            places |= {n: np.array(character.joint(n).place) + by for n in descendants(character, top)}
    return places


def _alike(character: Character, joint: Joint, partner: str) -> bool:
    """Whether two partners lie near each other's mirrored places: those of a body in a pose don't, and go their own ways."""
    apart = np.array(joint.place) * MIRROR - np.array(character.joint(partner).place)
    return bool(np.linalg.norm(apart) < IN_A_POSE * character.size)


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
        result = with_table(result, table_of(result).given_over({name: joint.parent}))
    return result


def remove_chain(character: Character, name: str) -> Character:
    """Take a joint out with everything below it; their skin weights go to the parent of the first."""
    for n in [*descendants(character, name)[::-1], name]:
        character = remove_joint(character, n)
    return character


def side_of(character: Character, place: np.ndarray) -> str:
    """L, R or C by the place's distance from the body plane."""
    eps = 0.005 * character.size
    return "L" if place[0] > eps else "R" if place[0] < -eps else "C"


def draw_chain(
    character: Character, places: np.ndarray, parent: str = "", name: str = "joint", both_sides: bool = True,
    end: bool = True, deforms: bool = True,
) -> Character:  # fmt: skip
    """A new chain through places (n, 3) metres, hung below `parent` (a root of its own where that is empty).

    Off the middle its joints get a side tag and, with both_sides, partners; near the middle they are put on x = 0.
    end: the last joint is an end joint that holds no skin.  The hinge of the whole chain is the normal of its own
    bend; of a straight one it is level.  Raises BadParameters for fewer than two places without a parent.
    """
    places = np.asarray(places, float).reshape(-1, 3)
    if len(places) < (1 if parent else 2):
        raise BadParameters("A chain has at least two joints.", character.name, "Click once more.")
    if not np.isfinite(places).all():
        raise BadParameters("A place is not a number.", character.name)
    gaps = np.linalg.norm(np.diff(places, axis=0), axis=1)
    if len(gaps) and gaps.min() < 1e-6 * character.size:
        raise BadParameters("Two joints would lie in the same place.", character.name, "Click farther apart.")
    if parent:
        character.joint(parent)
    side = side_of(character, places[int(np.argmax(np.abs(places[:, 0])))]) if both_sides else "C"
    if not both_sides:
        side = side_of(character, places.mean(0))
    if side == "C":
        places = places * [0.0, 1.0, 1.0] if both_sides else places
    base = without_side(name)
    taken = set(character.joint_index)
    tag = "" if side == "C" else f"_{side}"
    names = []
    last = len(places) - 1
    for i in range(len(places)):
        wanted = f"{base}_end" if end and i == last and last else (f"{base}_{i + 1}" if last else base)
        made = unique_name(wanted + tag, taken)
        while both_sides and tag and opposite_name(made) in taken:
            taken.add(made)
            made = unique_name(wanted + tag, taken)
        taken.add(made)
        names.append(made)
    new = []
    for i, (n, place) in enumerate(zip(names, places, strict=True)):
        above = names[i - 1] if i else parent or None
        new.append(_new_joint(n, above, side, place, deforms and not (end and i == last and last)))
        if side != "C" and both_sides:
            other = opposite_name(above) if above and (i or opposite_name(above) in character.joint_index) else above
            new.append(
                _new_joint(opposite_name(n), other, "R" if side == "L" else "L", place * MIRROR, new[-1].deforms)
            )
    if len(character.joints) + len(new) > MAX_JOINTS:
        raise StepRefused(f"A character has {MAX_JOINTS} joints at most.", character.name)
    grown = character.with_(joints=character.joints + tuple(new))
    chain = set(names) | {opposite_name(n) for n in names if side != "C" and both_sides}
    return turn_down_bones(grown, chain | _turned_anew(grown, parent), _chain_hinges(places, names))


def _new_joint(name: str, parent: str | None, side: str, place: np.ndarray, deforms: bool) -> Joint:
    role = without_side(name)
    return Joint(name=name, parent=parent, side=side, place=vector(place), deforms=deforms, role=role)


def _turned_anew(character: Character, parent: str) -> set[str]:
    """The parent, where its only bone is the new one."""
    return {parent} if parent and len(character.children.get(parent, ())) == 1 else set()


def _chain_hinges(places: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
    """One hinge for a whole chain: the mean normal of its bends, or level across it."""
    if len(places) < 2:
        return {}
    ways = np.diff(places, axis=0)
    normal = np.cross(ways[:-1], ways[1:]).sum(0) if len(ways) > 1 else np.zeros(3)
    whole = places[-1] - places[0]
    if np.linalg.norm(normal) < 0.02 * float(whole @ whole):
        normal = np.cross(whole, [0.0, 1.0, 0.0])
    if np.linalg.norm(normal) < 1e-9:
        normal = np.array([1.0, 0.0, 0.0])
    return dict.fromkeys(names, normal)


def insert_joints(character: Character, name: str, count: int = 1, both_sides: bool = True) -> Character:
    """The bone from a joint to its child cut into count + 1 equal pieces.

    Skin that the joint holds goes over to the new joints by where along the bone it lies, softly from one to the
    next.  Raises StepRefused where there is no bone.
    """
    joint = character.joint(name)
    child = bone_child(character, joint)
    if child is None:
        raise StepRefused(f"{name} has no bone to split.", character.name, "Choose a joint with a child.")
    if len(character.joints) + 2 * count > MAX_JOINTS:
        raise StepRefused(f"A character has {MAX_JOINTS} joints at most.", character.name)
    a, b = np.array(joint.place), np.array(child.place)
    taken = set(character.joint_index)
    stem = without_side(name)
    tag = name[len(stem) :]
    names: list[str] = []
    result = list(character.joints)
    at = result.index(child)
    for i in range(count):
        made = unique_name(f"{stem}_part{i + 2}{tag}", taken)
        taken.add(made)
        above = names[-1] if names else name
        new = joint.model_copy(
            update={
                "name": made, "parent": above, "place": vector(a + (b - a) * (i + 1) / (count + 1)),
                "role": f"{joint.role}_part{i + 2}" if joint.role else "", "freedom": None,
            }
        )  # fmt: skip
        result.insert(at + i, new)
        names.append(made)
    result = [j.model_copy(update={"parent": names[-1]}) if j.name == child.name else j for j in result]
    made_character = character.with_(joints=tuple(result))
    if character.skin and name in character.skin.joints:
        made_character = _shared_along(made_character, name, names, a, b)
    partner = character.partner(name)
    if both_sides and partner:
        made_character = insert_joints(made_character, partner, count, both_sides=False)
    return made_character


def _shared_along(
    character: Character, name: str, new: list[str], a: np.ndarray, b: np.ndarray, order: list[str] | None = None
) -> Character:
    """The skin of a split bone's joint shared out among its pieces along the bone from a to b.

    order: the joints that hold the pieces, from a to b; by default the old one and then the new.
    """
    skin = character.skin
    assert skin is not None
    old = skin.joints.index(name)
    joints, weights = character.arrays["skin/joints"].copy(), character.arrays["skin/weights"].copy()
    number = {name: old} | {n: len(skin.joints) + i for i, n in enumerate(new)}
    numbers = np.array([number[n] for n in order or [name, *new]])
    rows, cols = np.nonzero((joints == old) & (weights > 0))
    along = np.clip((character.points[rows] - a) @ (b - a) / float((b - a) @ (b - a)), 0, 1) * len(numbers) - 0.5
    low = np.clip(np.floor(along).astype(int), 0, len(numbers) - 1)
    high = np.minimum(low + 1, len(numbers) - 1)
    share = np.clip(along - low, 0, 1)
    for r, c, lo, hi, s in zip(rows, cols, low, high, share, strict=True):
        w = weights[r, c]
        free = int(np.argmin(weights[r]))
        joints[r, c] = numbers[lo if s <= 0.5 else hi]
        if lo != hi and 0 < s < 1 and weights[r, free] <= min(s, 1 - s) * w and free != c:
            joints[r, c], joints[r, free] = numbers[lo], numbers[hi]
            weights[r, c], weights[r, free] = (1 - s) * w, s * w
            weights[r] /= weights[r].sum()
    return character.with_(
        skin=skin.model_copy(update={"joints": skin.joints + tuple(new)}),
        arrays={"skin/joints": joints, "skin/weights": weights},
    )


def reparent(character: Character, name: str, parent: str | None, both_sides: bool = True) -> Character:
    """Hang a joint, with all below it, from another; nothing moves.

    Raises StepRefused for a loop, and where a kit holds the joint to its present parent.
    """
    joint = character.joint(name)
    if parent is not None:
        character.joint(parent)
        if parent == name or parent in descendants(character, name):
            raise StepRefused(
                f"{parent} hangs below {name} itself.", character.name, "Choose a joint outside that chain."
            )
    if parent == joint.parent:
        raise StepRefused(f"{name} hangs there already.", character.name)
    for k in character.kits:
        held = [n for names in k.joints.values() for n in names]
        if name in held and joint.parent in held:
            raise StepRefused(
                f"The kit “{k.name}” holds {name} to {joint.parent}.", character.name, "Take it off first."
            )
    wanted: dict[str, str | None] = {name: parent}
    partner = character.partner(name)
    if both_sides and partner:
        other = opposite_name(parent) if parent else None
        wanted[partner] = other if other is None or other in character.joint_index else parent
    result = character
    for n, p in wanted.items():
        if p is not None and (p == n or p in descendants(result, n)):
            raise StepRefused(f"{p} hangs below {n} itself.", character.name, "Choose another, or this side alone.")
        old = result.joint(n).parent
        joints = [j.model_copy(update={"parent": p}) if j.name == n else j for j in result.joints]
        result = result.with_(joints=tuple(parents_first(joints)))
        touched = {x for x in (old, p) if x}
        result = turn_down_bones(result, touched, keep_hinge=True)
    return result
