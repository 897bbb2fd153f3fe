"""Steps of the Joints station."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Freedom, Inputs, Joint, opposite_name, unique_name, without_side
from ..core.character.hierarchy import descendants
from ..core.character.words import few
from ..core.errors import BadParameters, StepRefused
from ..core.joints import edit, freedom, names, orient
from ..core.joints.mirroring import mirror_joints
from ..core.joints.orient import bone_child
from ..core.plans import OwnPlan, check_plan, lay_own_plan, lay_plan
from ..core.rig.kits import gives
from ..core.skin.rest import new_rest
from .registry import Params, Place, step

Axis = Literal["", "x", "y", "z", "-x", "-y", "-z"]


# -- plans -------------------------------------------------------------------------------------------------------
class LayPlan(Params):
    plan: str = "biped"
    options: dict[str, Any] = {}
    landmarks: dict[str, Place] = Field({}, description="landmarks put right by hand: name → metres")


@step("joints.lay_plan", LayPlan, lambda c, p: f"Laid the {p.plan} plan into the mesh", long=True)
def lay(character: Character, p: LayPlan) -> Character:
    """Fit a plan's joints to the mesh, in place of any joints, kits and skin there are."""
    check_plan(p.plan)
    if not len(character.points):
        raise StepRefused("There is no mesh to fit to.", character.name, "Bring one in at the Model station.")
    return lay_plan(character, p.plan, p.options, p.landmarks)


class LayOwn(Params):
    plan: OwnPlan = Field(description="as `vonkel plan` or “Save the skeleton” wrote it")


@step("joints.lay_own", LayOwn, lambda c, p: f"Laid the own plan {p.plan.name} into the mesh", long=True)
def lay_own(character: Character, p: LayOwn) -> Character:
    """Fit a saved skeleton to this mesh, in place of any joints, kits and skin there are."""
    return lay_own_plan(character, p.plan)


# -- places ------------------------------------------------------------------------------------------------------
class Move(Params):
    joint: str
    place: Place = Field(description="metres, in the character's space")
    both_sides: bool = True
    with_children: bool = False
    inside: bool = Field(True, description="keep a deforming joint inside the body")


def _moved(c: Character, p: Move) -> str:
    far = 100 * float(np.linalg.norm(np.array(p.place) - c.joint(p.joint).place)) if p.joint in c.joint_index else 0
    partner = p.both_sides and c.partner(p.joint)
    return (
        f"Moved {p.joint} by {far:.1f} cm"
        + (", with all below it" if p.with_children else "")
        + (", with its partner" if partner else "")
    )


@step("joints.move", Move, _moved)
def move(character: Character, p: Move) -> Character:
    """Put a joint somewhere else; its bones, its partner and the kits on it follow."""
    return edit.move_joint(character, p.joint, np.array(p.place), p.both_sides, p.with_children, p.inside)


class Add(Params):
    parent: str = ""
    place: Place
    name: str = "joint"
    deforms: bool = True
    both_sides: bool = True


@step("joints.add", Add, lambda c, p: f"Added {p.name}" + (f" below {p.parent}" if p.parent else ""))
def add(character: Character, p: Add) -> Character:
    """Hang a new joint below another; off the middle its partner comes with it."""
    if p.parent:
        character.joint(p.parent)
    side: Literal["L", "R", "C"] = edit.side_of(character, np.array(p.place))  # type: ignore[assignment]
    if not p.both_sides:
        joint = Joint(name=unique_name(p.name, set(character.joint_index)), parent=p.parent or None, side=side, place=p.place, deforms=p.deforms)  # fmt: skip
        return edit.add_joint(character, joint)
    base = without_side(p.name)
    name = unique_name(base if side == "C" else f"{base}_{side}", set(character.joint_index))
    place = p.place if side != "C" else (0.0, p.place[1], p.place[2])
    result = edit.add_joint(
        character, Joint(name=name, parent=p.parent or None, side=side, place=place, deforms=p.deforms)
    )
    if side != "C":
        other = result.partner(p.parent) or p.parent or None
        mirrored = Joint(
            name=opposite_name(name), parent=other, side="R" if side == "L" else "L",
            place=(-place[0], place[1], place[2]), deforms=p.deforms,
        )  # fmt: skip
        result = edit.add_joint(result, mirrored)
    return result


class Draw(Params):
    places: tuple[Place, ...] = Field(min_length=1, max_length=400, description="metres, from the first joint on")
    parent: str = Field("", description="what the chain hangs from; empty: a root of its own")
    name: str = Field("joint", min_length=1, max_length=60, description="numbered: name_1, name_2 … name_end")
    both_sides: bool = True
    end: bool = Field(True, description="the last one is an end joint that holds no skin")
    deforms: bool = True


@step(
    "joints.draw",
    Draw,
    lambda c, p: f"Drew {p.name}, {len(p.places)} joints" + (f", from {p.parent}" if p.parent else ""),
)
def draw(character: Character, p: Draw) -> Character:
    """Draw a chain of joints through places in the body."""
    return edit.draw_chain(character, np.array(p.places), p.parent, p.name, p.both_sides, p.end, p.deforms)


class Insert(Params):
    joint: str
    count: int = Field(1, ge=1, le=60, description="how many joints between it and its child")
    both_sides: bool = True


@step("joints.insert", Insert, lambda c, p: f"Split the bone of {p.joint} into {p.count + 1}")
def insert(character: Character, p: Insert) -> Character:
    """Split a bone into equal pieces; its skin is shared out among them."""
    both = {p.joint, opposite_name(p.joint)} if p.both_sides else {p.joint}
    for name in sorted(both & set(character.joint_index)):
        child = bone_child(character, character.joint(name))
        for kit in character.kits:
            if (
                child
                and gives(kit, "neighbours")
                and {name, child.name} <= {n for js in kit.joints.values() for n in js}
            ):
                raise StepRefused(
                    f"The kit “{kit.name}” holds {name} and {child.name} as neighbours.",
                    character.name,
                    "Take it off first.",
                )
    return edit.insert_joints(character, p.joint, p.count, p.both_sides)


class Extend(Params):
    joint: str = Field(description="the last joint of a chain")
    centimetres: float = Field(0.0, ge=0, lt=10_000, description="how far on; 0: as long as the bone before")
    both_sides: bool = True


@step("joints.extend", Extend, lambda c, p: f"Went on from {p.joint}")
def extend(character: Character, p: Extend) -> Character:
    """Hang one more joint behind the last one of a chain, straight on."""
    joint = character.joint(p.joint)
    if joint.parent is None:
        raise StepRefused(f"{p.joint} has no bone to go on from.", character.name, "Draw a chain instead.")
    way = np.array(joint.place) - np.array(character.joint(joint.parent).place)
    length = float(np.linalg.norm(way))
    if length < 1e-9:
        raise StepRefused(f"The bone before {p.joint} has no length.", character.name, "Move it first.")
    place = np.array(joint.place) + way / length * (p.centimetres / 100.0 or length)
    stem, _, side = names.split_name(p.joint)
    made = edit.draw_chain(character, place[None], p.joint, f"{stem}_next", p.both_sides and bool(side), False)
    return made


class Named(Params):
    joint: str
    both_sides: bool = True


def _taken_out(character: Character, p: Named, take: Callable[[Character, str], Character]) -> Character:
    result = take(character, p.joint)
    partner = result.partner(p.joint)
    if p.both_sides and partner:
        result = take(result, partner)
    return orient.turn_down_bones(result, keep_hinge=True)


@step("joints.remove", Named, lambda c, p: f"Took out {p.joint}")
def remove(character: Character, p: Named) -> Character:
    """Take a joint out; its children hang from its parent, which also takes over its skin."""
    return _taken_out(character, p, edit.remove_joint)


@step("joints.remove_chain", Named, lambda c, p: f"Took out {p.joint} and all below it")
def remove_chain(character: Character, p: Named) -> Character:
    """Take a joint out with everything below it; the parent takes over the skin."""
    return _taken_out(character, p, edit.remove_chain)


class Chosen(Params):
    joints: tuple[str, ...] = Field(min_length=1)


@step(
    "joints.bring_inside",
    Chosen,
    lambda c, p: f"Brought {few(p.joints, 3)} inside the body",
)
def bring_inside(character: Character, p: Chosen) -> Character:
    """Move deforming joints that lie outside the body to the nearest place inside it."""
    result = character
    for n in p.joints:
        result = edit.move_joint(result, n, np.array(result.joint(n).place), both_sides=False)
    return result


@step(
    "joints.accept",
    Chosen,
    lambda c, p: f"Looked at {few(p.joints, 3)} and left {'it' if len(p.joints) == 1 else 'them'} there",
)
def accept(character: Character, p: Chosen) -> Character:
    """Say that joints which a plan was unsure of lie where they should."""
    for n in p.joints:
        character.joint(n)
    chosen = set(p.joints)
    joints = tuple(j.model_copy(update={"doubt": 0.0}) if j.name in chosen else j for j in character.joints)
    return character.with_(joints=joints)


class Reparent(Params):
    joint: str
    parent: str = Field("", description="empty: a root of its own")
    both_sides: bool = True


@step("joints.reparent", Reparent, lambda c, p: f"Hung {p.joint} from {p.parent or 'nothing'}")
def reparent(character: Character, p: Reparent) -> Character:
    """Hang a joint and all below it from another; nothing moves."""
    return edit.reparent(character, p.joint, p.parent or None, p.both_sides)


# -- names and sides ---------------------------------------------------------------------------------------------
class Rename(Params):
    joint: str
    name: str = Field(min_length=1, max_length=80)
    both_sides: bool = True


@step("joints.rename", Rename, lambda c, p: f"Renamed {p.joint} to {p.name}", renames=True)
def rename(character: Character, p: Rename) -> Character:
    """Give a joint another name everywhere it is used."""
    return names.rename_joint(character, p.joint, p.name, p.both_sides)


class Replace(Params):
    find: str = Field(min_length=1, max_length=80)
    put: str = Field("", max_length=80)
    joints: tuple[str, ...] = Field((), description="which; none: all of them")


@step("joints.replace_names", Replace, lambda c, p: f"Replaced “{p.find}” by “{p.put}” in names", renames=True)
def replace_names(character: Character, p: Replace) -> Character:
    """Find letters in joints' names and put others in their place."""
    return names.renamed(character, names.replaced(character, p.find, p.put, list(p.joints) or None))


class Number(Params):
    joints: tuple[str, ...] = Field(min_length=1, description="a chain, from its first joint on")
    pattern: str = Field("{part}_{n}", max_length=80, description="{n} counts from 1, {part} is the old name")
    both_sides: bool = True


@step("joints.number_names", Number, lambda c, p: f"Named {len(p.joints)} joints {p.pattern}", renames=True)
def number_names(character: Character, p: Number) -> Character:
    """Name joints in a row by a pattern."""
    made = names.numbered(character, list(p.joints), p.pattern)
    return names.renamed(character, names.with_partners(character, made) if p.both_sides else made)


class Mirror(Params):
    joint: str
    manner: Literal["counter", "parallel"] = Field(
        "counter", description="counter: the same value bends both alike; parallel: both have the same axes"
    )


@step(
    "joints.mirror", Mirror,
    lambda c, p: f"Mirrored {p.joint} and all below it" + (", axes parallel" if p.manner == "parallel" else ""),
)  # fmt: skip
def mirror(character: Character, p: Mirror) -> Character:
    """Make or set the other side's joints from these: places, names, turns and freedom mirrored."""
    return mirror_joints(character, p.joint, p.manner)


# -- turns -------------------------------------------------------------------------------------------------------
class TurnDown(Params):
    joints: tuple[str, ...] = Field((), description="which; none: all of them")


@step(
    "joints.turn_down_bones",
    TurnDown,
    lambda c, p: "Turned " + (", ".join(p.joints[:3]) if p.joints else "all joints") + " down their bones",
)
def turn_down(character: Character, p: TurnDown) -> Character:
    """Turn joints so that their aim axis runs down the bone, the hinge kept."""
    for n in p.joints:
        character.joint(n)
    return orient.turn_down_bones(character, set(p.joints) or None, keep_hinge=True)


class Orient(Params):
    joints: tuple[str, ...] = Field(min_length=1)
    rule: Literal["bend", "up", "world x", "world y", "world z", "copy", "keep"] = Field(
        "bend", description="what the hinge follows: the plane of the bend, level, an axis, another joint's"
    )
    like: str = Field("", description="for copy: the joint whose hinge is taken")
    down_chain: bool = Field(False, description="and every joint below them")
    aim: Axis = Field("", description="which own axis runs down the bone from now on")
    hinge: Axis = Field("", description="about which a positive turn closes the bend from now on")
    flip: bool = Field(False, description="the hinge the other way round")
    both_sides: bool = True


@step(
    "joints.orient",
    Orient,
    lambda c, p: f"Turned {few(p.joints, 3)} by the rule “{p.rule}”",
)
def orient_joints(character: Character, p: Orient) -> Character:
    """Turn joints by a rule for their second axis."""
    chosen = list(dict.fromkeys(p.joints))
    if p.down_chain:
        chosen = list(dict.fromkeys(n for j in chosen for n in (j, *descendants(character, j))))
    made = orient.orient(character, chosen, p.rule, p.aim, p.hinge, p.like, p.flip, p.both_sides)
    return made


class CurlAlike(Params):
    holder: str = Field(description="the hand or foot whose digits shall curl about one axis in one sense")


@step("joints.curl_alike", CurlAlike, lambda c, p: f"Made all digits of {p.holder} curl alike")
def curl_alike(character: Character, p: CurlAlike) -> Character:
    """Turn the digits of a hand or foot so that the same turn curls them all the same way."""
    senses = orient.curl_senses(character).get(p.holder)
    if not senses:
        raise StepRefused(f"{p.holder} has no digits.", character.name, "Choose a hand or a foot.")
    wrong = [n for n, s in senses.items() if s < 0]
    if not wrong:
        raise StepRefused(f"All digits of {p.holder} curl alike already.", character.name)
    return orient.orient(character, wrong, "keep", flip=True)


# -- what a joint is ---------------------------------------------------------------------------------------------
class Edit(Params):
    joint: str
    deforms: bool | None = None
    order: Literal["", "xyz", "xzy", "yxz", "yzx", "zxy", "zyx"] = ""
    role: str | None = Field(None, max_length=40)
    both_sides: bool = True


@step("joints.set", Edit, lambda c, p: f"Set what {p.joint} does")
def set_joint(character: Character, p: Edit) -> Character:
    """Say whether a joint deforms skin, what it is, and its rotation order."""
    character.joint(p.joint)
    changes: dict[str, Any] = {k: v for k, v in (("deforms", p.deforms), ("role", p.role)) if v is not None}
    if p.order:
        changes["order"] = p.order
    which = {p.joint} | ({opposite_name(p.joint)} if p.both_sides else set())
    made = character.with_(
        joints=tuple(j.model_copy(update=changes) if j.name in which else j for j in character.joints)
    )
    return made


Degrees = tuple[float | None, float | None, float | None]


class Free(Params):
    joint: str
    low: Degrees = Field((None, None, None), description="degrees about its own x, y and z from rest; none: no limit")
    high: Degrees = (None, None, None)
    locked: tuple[bool, bool, bool] = (False, False, False)
    stiffness: float = Field(0.0, ge=0, le=1)
    both_sides: bool = True


@step("joints.free", Free, lambda c, p: f"Set how far {p.joint} may turn")
def free(character: Character, p: Free) -> Character:
    """Set a joint's limits, locked axes and stiffness; its partner's are mirrored."""
    if any(v is not None and not -360 <= v <= 360 for v in (*p.low, *p.high)):
        raise BadParameters("A limit lies within a whole turn: −360° to 360°.", p.joint, "Type a smaller one.")

    def radians(d: Degrees) -> tuple[float | None, float | None, float | None]:
        return tuple(None if v is None else float(np.radians(v)) for v in d)  # type: ignore[return-value]

    made = Freedom(low=radians(p.low), high=radians(p.high), locked=p.locked, stiffness=p.stiffness, source="by hand")
    return freedom.with_freedom(character, p.joint, None if made == Freedom(source="by hand") else made, p.both_sides)


class FreeByTable(Params):
    table: Literal["people", "dog"] = "people"


@step("joints.free_by_table", FreeByTable, lambda c, p: f"Set limits from {freedom.TABLES[p.table][0]}")
def free_by_table(character: Character, p: FreeByTable) -> Character:
    """Give every joint that a table of normal ranges knows its limits, less its bend at rest."""
    return freedom.by_table(character, p.table)


class StiffLinks(Params):
    joints: tuple[str, ...] = Field(min_length=1)
    degrees: float = Field(freedom.STIFF_LINK, gt=0, le=180)


@step("joints.stiffen", StiffLinks, lambda c, p: f"Let {len(p.joints)} joints turn by ±{p.degrees:g}° only")
def stiffen(character: Character, p: StiffLinks) -> Character:
    """Let joints turn a little either way about every axis, as the links of a stiff spine do."""
    r = float(np.radians(p.degrees))
    made = Freedom(low=(-r, -r, -r), high=(r, r, r), source="by hand")
    for n in p.joints:
        character = freedom.with_freedom(character, n, made)
    return character


class Bend(Params):
    joint: str = Field(description="the middle joint of a straight limb")
    degrees: float = Field(4.0, gt=0.2, lt=45)
    both_sides: bool = True


@step("joints.bend", Bend, lambda c, p: f"Bent the limb at {p.joint} by {p.degrees:g}°")
def bend(character: Character, p: Bend) -> Character:
    """Give a straight limb the slight bend that IK needs, elbows backward and knees forward."""
    joint = character.joint(p.joint)
    child = orient.bone_child(character, joint)
    if joint.parent is None or child is None:
        raise StepRefused(f"{p.joint} has no bone on both sides.", character.name, "Choose an elbow or a knee.")
    a, b, c = (np.array(character.joint(n).place) for n in (joint.parent, joint.name, child.name))
    way = (c - a) / np.linalg.norm(c - a)
    wanted = np.array([0.0, 0.0, 1.0 if joint.role in ("shin", "knee") else -1.0])
    out = wanted - way * (wanted @ way)
    out = out / max(float(np.linalg.norm(out)), 1e-9)
    first, second = float(np.linalg.norm(b - a)), float(np.linalg.norm(c - b))
    # With bones of lengths p and q and a bend β between them the middle lies p q sin β / |c − a| off the line.
    off = first * second * np.sin(np.radians(p.degrees)) / float(np.linalg.norm(c - a))
    foot = a + way * float((b - a) @ way)
    return edit.move_joint(character, p.joint, foot + out * off, p.both_sides)


class NewRest(Params):
    values: Inputs = Field(description="the pose: control → channel → value")


@step(
    "joints.new_rest", NewRest, lambda c, p: "Took the pose as the new rest",
    figures=lambda a, b: f"points moved by up to {100 * float(np.abs(b.points - a.points).max()):.1f} cm",
)  # fmt: skip
def take_rest(character: Character, p: NewRest) -> Character:
    """Make a pose the rest pose: mesh, joints, weights, shapes and controls follow, nothing jumps."""
    return new_rest(character, p.values)
