"""Steps of the Limbs station."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field, ValidationError

from ..core.character import Character, Kit, opposite, opposite_name, unique_name, without_side
from ..core.errors import BadParameters, NotFound, StepRefused, first_fault
from ..core.joints.extra import add_muscle_joint, add_twist_joints
from ..core.joints.orient import bone_child
from ..core.progress import tell
from ..core.rig import compile_rig
from ..core.rig.fitting import add_kit, remove_kit, with_controls_anew
from ..core.rig.kits import KINDS, PROVIDED
from ..core.rig.opposite import mirrored_kit
from ..core.rig.outfit import kit_of, outfit
from ..core.upkeep import kept_up
from .registry import Params, Place, step


class AddKit(Params):
    kind: str
    name: str = Field("", max_length=60, description="empty: named after its kind and side")
    joints: dict[str, tuple[str, ...]] = Field(description="role → joints; `vonkel kits` lists the roles")
    options: dict[str, float | int | str | bool] = {}
    both_sides: bool = Field(True, description="put the same kit on the partners' side")


def _kit(character: Character, p: AddKit) -> Kit:
    first = next((n for names in p.joints.values() for n in names if character.joint(n).side != "C"), "")
    moved = {n for names in p.joints.values() for n in names}
    both = any(character.partner(n) in moved for n in moved)  # eyes, say: the one kit holds both sides
    side = "C" if both or "unsided" in PROVIDED.get(p.kind, ()) or not first else character.joint(first).side
    base = p.name or p.kind
    name = base if side == "C" or base.endswith(f"_{side}") else f"{base}_{side}"
    taken = frozenset(k.name for k in character.kits)
    return Kit(name=unique_name(name, taken), kind=p.kind, side=side, joints=p.joints, options=p.options)


@step("limbs.add_kit", AddKit, lambda c, p: f"Put on the kit {p.name or p.kind}")
def add(character: Character, p: AddKit) -> Character:
    """Put a kit on chosen joints, and its mirror image on the partners; nothing moves."""
    kit = _kit(character, p)
    result = add_kit(character, kit)
    moved = KINDS[kit.kind].moves(kit)
    partners = {r: tuple(character.partner(n) or n for n in names) for r, names in kit.joints.items()}
    there = all(character.partner(n) for n in moved)
    if p.both_sides and kit.side != "C" and there and partners != kit.joints:
        mirrored = kit.model_copy(
            update={"name": opposite_name(kit.name), "side": opposite(kit.side), "joints": partners}
        )
        result = add_kit(result, mirrored)
    return result


class RemoveKit(Params):
    kit: str


@step("limbs.remove_kit", RemoveKit, lambda c, p: f"Took off the kit {p.kit}")
def remove(character: Character, p: RemoveKit) -> Character:
    """Take a kit and its controls off; joints and skin stay."""
    return remove_kit(character, p.kit)


class MirrorKit(Params):
    kit: str


@step("limbs.mirror_kit", MirrorKit, lambda c, p: f"Mirrored the kit {p.kit}")
def mirror(character: Character, p: MirrorKit) -> Character:
    """Make a kit again on the other side with all that was done to it: options, points, shapes, limits, rules."""
    return mirrored_kit(character, p.kit)


class FromEnd(Params):
    end: str = Field(description="the joint that the target is to hold")
    bones: int = Field(2, ge=2, le=9)
    kind: str = Field("", pattern="^(|arm|leg)$", description="empty: by what the joints are")
    both_sides: bool = True


@step("limbs.from_end", FromEnd, lambda c, p: f"Made a limb of {p.bones} bones that ends in {p.end}")
def from_end(character: Character, p: FromEnd) -> Character:
    """Make an IK/FK limb from its end joint alone: the bones above it are its own."""
    chain = [character.joint(p.end)]
    while len(chain) <= p.bones:
        above = chain[-1].parent
        if above is None:
            raise StepRefused(f"Only {len(chain) - 1} bones lie above {p.end}.", character.name, "Choose fewer bones.")
        chain.append(character.joint(above))
    chain.reverse()
    names = [j.name for j in chain]
    arm = any(w in j.role for j in chain for w in ("arm", "hand", "wing"))
    only = not any(k.kind == (p.kind or ("arm" if arm else "leg")) for k in character.kits)
    joints = {"upper": (names[0],), "middle": tuple(names[1:-1]), "end": (names[-1],)}
    kind = p.kind or ("arm" if arm else "leg")
    name = kind if only else f"{kind} {without_side(p.end).replace('_', ' ')}"
    return add(character, AddKit(kind=kind, name=name, joints=joints, both_sides=p.both_sides))


class Twists(Params):
    joint: str = Field(description="the joint where the bone begins")
    count: int = Field(3, ge=1, le=8)
    comes_from: Literal["end", "start"] = Field("end", description="end: as a hand twists a forearm; start: a shoulder")
    both_sides: bool = True


@step("limbs.twist", Twists, lambda c, p: f"Spread the twist of {p.joint} over {p.count} joints")
def twist(character: Character, p: Twists) -> Character:
    """Add twist joints along a bone, give them their share of the skin, and put a twist kit on them."""
    result = character
    partner = character.partner(p.joint)
    for name in (p.joint, *((partner,) if p.both_sides and partner else ())):
        child = bone_child(result, result.joint(name))
        result, made = add_twist_joints(result, name, p.count, p.comes_from == "end")
        assert child is not None  # add_twist_joints has refused a joint without a bone
        joints = {"from": (name,), "to": (child.name,), "twists": made}
        kit = Kit(
            name=f"{without_side(name)} twist", kind="twist", side=result.joint(name).side, joints=joints,
            options={"comes_from": p.comes_from},
        )  # fmt: skip
        tag = name[len(without_side(name)) :]
        result = add_kit(result, kit.model_copy(update={"name": kit.name + tag}))
    return result


class Muscles(Params):
    name: str = Field("muscle", min_length=1, max_length=40)
    first: str
    second: str
    flexes: str = Field("", description="the joint whose bend makes it bulge")
    off: Place = Field((0, 0, 0), description="metres from the middle between the two")
    weight: float = Field(0.5, ge=0, le=1)
    bulge: float = Field(0.25, ge=0, le=2)
    jiggle: float = Field(0.0, ge=0, le=30)
    both_sides: bool = True


@step("limbs.muscle", Muscles, lambda c, p: f"Set the muscle {p.name} between {p.first} and {p.second}")
def muscle(character: Character, p: Muscles) -> Character:
    """Add a joint between two others that follows both, bulges as a third bends, and may jiggle."""
    result, made = add_muscle_joint(character, p.name, p.first, p.second, np.array(p.off, float), p.both_sides)
    joints = {"muscle": (made,), "first": (p.first,), "second": (p.second,)}
    joints |= {"flexes": (p.flexes,)} if p.flexes else {}
    options = {"weight": p.weight, "bulge": p.bulge, "jiggle": p.jiggle}
    return add(
        result, AddKit(kind="muscle", name=without_side(made), joints=joints, options=options, both_sides=p.both_sides)
    )


class SetOptions(Params):
    kit: str
    options: dict[str, float | int | str | bool]
    both_sides: bool = True


@step("limbs.set_options", SetOptions, lambda c, p: f"Changed {', '.join(p.options)} of the kit {p.kit}")
def set_options(character: Character, p: SetOptions) -> Character:
    """Change a kit's options; its controls stay where they are as far as the options leave them."""
    names = {p.kit} | ({opposite_name(p.kit)} if p.both_sides else set())
    if p.kit not in {k.name for k in character.kits}:
        raise NotFound(f"There is no kit called “{p.kit}”.", character.name, "Reload the page.")
    kits = []
    for k in character.kits:
        if k.name in names:
            try:
                options = KINDS[k.kind].options(**{**k.options, **p.options}).model_dump()
            except ValidationError as error:
                field, why = first_fault(error)
                raise BadParameters(f"Option “{field}”: {why}.", k.name) from None
            k = k.model_copy(update={"options": options})
        kits.append(k)
    changed = character.with_(kits=tuple(kits))
    result = with_controls_anew(changed, set(names))
    result = kept_up(result, character)  # rules lose the controls that went
    compile_rig(result)
    return result


class SetPlace(Params):
    kit: str
    point: str
    place: Place
    both_sides: bool = True


@step("limbs.set_place", SetPlace, lambda c, p: f"Moved the {p.point} of the kit {p.kit}")
def set_place(character: Character, p: SetPlace) -> Character:
    """Put a point that a kit turns about, such as a foot's heel, somewhere else; its partner is put opposite."""
    found = next((k for k in character.kits if k.name == p.kit), None)
    if found is None or p.point not in found.places:
        raise NotFound(f"The kit “{p.kit}” has no point “{p.point}”.", character.name, "Reload the page.")
    places = {p.kit: p.place}
    if p.both_sides and opposite_name(p.kit) != p.kit:
        places[opposite_name(p.kit)] = (-p.place[0], p.place[1], p.place[2])
    kits = tuple(
        k.model_copy(update={"places": {**k.places, p.point: places[k.name]}})
        if k.name in places and p.point in k.places
        else k
        for k in character.kits
    )
    changed = character.with_(kits=kits)
    return with_controls_anew(changed, set(places))


class Outfit(Params):
    digits: bool = True
    tail: bool = True


@step("limbs.outfit", Outfit, lambda c, p: "Put on the kits that the plan's joints call for", long=True)
def put_on(character: Character, p: Outfit) -> Character:
    """Put on every kit that the joints call for: body, neck and head, arms, legs, digits, tail, ears, jaw, eyes."""
    result = character
    plans = list(outfit(character, p.digits, p.tail))
    if not plans:
        raise StepRefused(
            "No joints here call for a kit.", character.name, "Lay a plan first, or choose joints yourself."
        )
    for i, plan in enumerate(plans):
        tell(i / len(plans), f"putting on {plan.name}")
        result = add_kit(result, kit_of(result, plan))
    return result
