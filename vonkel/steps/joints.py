"""Steps of the Joints station."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Joint, opposite_name, unique_name
from ..core.errors import NotFound, StepRefused
from ..core.joints import edit
from ..core.joints.plans import PLANS, lay_plan
from .registry import Params, step

Place = tuple[float, float, float]


class LayPlan(Params):
    plan: str = "biped"
    options: dict[str, Any] = {}


@step("joints.lay_plan", LayPlan, lambda c, p: f"Laid the {p.plan} plan into the mesh", long=True)
def lay(character: Character, p: LayPlan) -> Character:
    """Fit a plan's joints to the mesh, in place of any joints, kits and skin there are."""
    if p.plan not in PLANS:
        raise NotFound(f"There is no plan “{p.plan}”.", "", f"There are: {', '.join(PLANS)}.")
    if not len(character.points):
        raise StepRefused("There is no mesh to fit to.", character.name, "Bring one in at the Model station.")
    return lay_plan(character, p.plan, p.options)


class Move(Params):
    joint: str
    place: Place = Field(description="metres, in the character's space")
    both_sides: bool = True
    with_children: bool = False
    inside: bool = Field(True, description="keep a deforming joint inside the body")


def _moved(c: Character, p: Move) -> str:
    far = 100 * float(np.linalg.norm(np.array(p.place) - c.joint(p.joint).place)) if p.joint in c.joint_index else 0
    partner = p.both_sides and opposite_name(p.joint) in c.joint_index and opposite_name(p.joint) != p.joint
    return f"Moved {p.joint} by {far:.1f} cm" + (", with its partner" if partner else "")


@step("joints.move", Move, _moved)
def move(character: Character, p: Move) -> Character:
    """Put a joint somewhere else; its bones, its partner and the kits on it follow."""
    return edit.move_joint(character, p.joint, np.array(p.place), p.both_sides, p.with_children, p.inside)


class Rename(Params):
    joint: str
    name: str = Field(min_length=1, max_length=80)
    both_sides: bool = True


@step("joints.rename", Rename, lambda c, p: f"Renamed {p.joint} to {p.name}")
def rename(character: Character, p: Rename) -> Character:
    """Give a joint another name everywhere it is used."""
    return edit.rename_joint(character, p.joint, p.name, p.both_sides)


class Add(Params):
    parent: str = ""
    place: Place
    name: str = "joint"
    deforms: bool = True
    both_sides: bool = True


@step("joints.add", Add, lambda c, p: f"Added {p.name}" + (f" below {p.parent}" if p.parent else ""))
def add(character: Character, p: Add) -> Character:
    """Hang a new joint below another; off the middle its partner comes with it."""
    parent = character.joint(p.parent) if p.parent else None
    eps = 0.005 * character.size
    side: Literal["L", "R", "C"] = "L" if p.place[0] > eps else "R" if p.place[0] < -eps else "C"
    if not p.both_sides:
        joint = Joint(name=unique_name(p.name, set(character.joint_index)), parent=p.parent or None, side=side, place=p.place, deforms=p.deforms)  # fmt: skip
        return edit.add_joint(character, joint)
    base = p.name[:-2] if p.name.endswith(("_L", "_R")) else p.name
    name = unique_name(base if side == "C" else f"{base}_{side}", set(character.joint_index))
    place = p.place if side != "C" else (0.0, p.place[1], p.place[2])
    result = edit.add_joint(
        character, Joint(name=name, parent=p.parent or None, side=side, place=place, deforms=p.deforms)
    )
    if side != "C":
        other = (
            opposite_name(parent.name)
            if parent and opposite_name(parent.name) in result.joint_index
            else p.parent or None
        )
        mirrored = Joint(
            name=opposite_name(name), parent=other, side="R" if side == "L" else "L",
            place=(-place[0], place[1], place[2]), deforms=p.deforms,
        )  # fmt: skip
        result = edit.add_joint(result, mirrored)
    return result


class Named(Params):
    joint: str
    both_sides: bool = True


@step("joints.remove", Named, lambda c, p: f"Took out {p.joint}")
def remove(character: Character, p: Named) -> Character:
    """Take a joint out; its children hang from its parent, which also takes over its skin."""
    result = edit.remove_joint(character, p.joint)
    partner = opposite_name(p.joint)
    if p.both_sides and partner != p.joint and partner in result.joint_index:
        result = edit.remove_joint(result, partner)
    return edit.refreshed(result)


class Mirror(Params):
    joint: str


@step("joints.mirror", Mirror, lambda c, p: f"Mirrored {p.joint} and all below it")
def mirror(character: Character, p: Mirror) -> Character:
    """Make or set the other side's joints from these, names and turns mirrored."""
    return edit.mirror_joints(character, p.joint)


class TurnDown(Params):
    joints: tuple[str, ...] = Field((), description="which; none: all of them")


@step(
    "joints.turn_down_bones",
    TurnDown,
    lambda c, p: "Turned " + (", ".join(p.joints[:3]) if p.joints else "all joints") + " down their bones",
)
def turn_down(character: Character, p: TurnDown) -> Character:
    """Turn joints so that x runs down the bone and z is the hinge."""
    for n in p.joints:
        character.joint(n)
    return edit.refreshed(edit.turn_down_bones(character, set(p.joints) or None, keep_hinge=True))


class Edit(Params):
    joint: str
    deforms: bool | None = None
    order: Literal["", "xyz", "xzy", "yxz", "yzx", "zxy", "zyx"] = ""
    role: str | None = Field(None, max_length=40)


@step("joints.set", Edit, lambda c, p: f"Set what {p.joint} does")
def set_joint(character: Character, p: Edit) -> Character:
    """Say whether a joint deforms skin, what it is, and its rotation order."""
    old = character.joint(p.joint)
    changes = {k: v for k, v in (("deforms", p.deforms), ("role", p.role)) if v is not None}
    if p.order:
        changes["order"] = p.order
    new = old.model_copy(update=changes)
    return character.with_(joints=tuple(new if j.name == p.joint else j for j in character.joints))


class Bend(Params):
    joint: str = Field(description="the middle joint of a straight limb")
    degrees: float = Field(4.0, gt=0.2, lt=45)
    both_sides: bool = True


@step("joints.bend", Bend, lambda c, p: f"Bent the limb at {p.joint} by {p.degrees:g}°")
def bend(character: Character, p: Bend) -> Character:
    """Give a straight limb the slight bend that IK needs, elbows backward and knees forward."""
    joint = character.joint(p.joint)
    child = edit.bone_child(character, joint)
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
