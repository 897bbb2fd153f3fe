"""A new rest pose: mesh, joints, shapes, controls and saved poses follow the present pose, and nothing jumps."""

from __future__ import annotations

import numpy as np

from ..character import Character, Inputs, Kit, SavedPose
from ..errors import StepRefused
from ..geometry.rotations import matrix_from_quaternion, quaternion_from_matrix, vector
from ..rig import Pose, RigProgram, compile_rig
from ..rig.drag import brought_to
from ..rig.fitting import with_controls_anew
from ..rig.frames import compose, inverse
from .reference import deform


def new_rest(character: Character, values: Inputs) -> Character:
    """The pose at `values` made the rest pose: every control reads zero in it.

    Points go where the skin carries them, each shape's moves are turned as the skin turns them, weights stay.
    Morph targets that are on in the pose become part of the rest.  Saved poses get values that bring every control to
    where it was, as nearly as its channels allow.  Raises StepRefused for a pose that is the rest pose already.
    """
    program = compile_rig(character)
    pose = program.evaluate(values)
    moved = deform(character, pose)
    frames = pose.joints
    same = (
        np.abs(frames[:, :, 3] - np.array([j.place for j in character.joints]).reshape(-1, 3)).max(initial=0.0) < 1e-9
    )
    if same and np.abs(moved - character.points).max(initial=0.0) < 1e-9:
        raise StepRefused("This is the rest pose already.", character.name, "Pose the character first.")
    arrays: dict[str, np.ndarray | None] = {"points": moved}
    for shape in character.shapes:
        with_it = dict(pose.shapes) | {shape.name: pose.shapes.get(shape.name, 0.0) + 1.0}
        index = character.arrays[f"shape/{shape.name}/points"]
        arrays[f"shape/{shape.name}/moves"] = (deform(character, pose, with_it)[index] - moved[index]).astype(
            np.float32
        )
    turns = quaternion_from_matrix(frames[:, :, :3]) if len(frames) else np.zeros((0, 4))
    joints = tuple(
        j.model_copy(update={"place": tuple(map(float, frames[i, :, 3])), "turn": tuple(map(float, turns[i]))})
        for i, j in enumerate(character.joints)
    )
    kits = tuple(_carried_points(k, character, frames) for k in character.kits)
    made = with_controls_anew(character.with_(joints=joints, arrays=arrays, kits=kits), {k.name for k in kits})
    new_program = compile_rig(made)
    poses = tuple(
        SavedPose(name=p.name, values=_carried(program, new_program, values, p.values)) for p in character.poses
    )
    return made.with_(poses=poses)


def _carried_points(kit: Kit, character: Character, frames: np.ndarray) -> Kit:
    """The kit with the points that it turns about where its first joint carries them."""
    if not kit.places:
        return kit
    first = next(n for names in kit.joints.values() for n in names)
    joint, now = character.joint(first), frames[character.joint_index[first]]
    turn = now[:, :3] @ matrix_from_quaternion(joint.turn).T
    moved = {n: now[:, 3] + turn @ (np.array(p) - joint.place) for n, p in kit.places.items()}
    return kit.model_copy(update={"places": {n: vector(p) for n, p in moved.items()}})


def _carried(old: RigProgram, new: RigProgram, rest: Inputs, wanted: Inputs) -> Inputs:
    """Values in the new rig that bring every control where `wanted` had it in the old one, as seen from the old rest."""
    before, after = old.evaluate(rest), old.evaluate(wanted)
    at_rest = new.evaluate({})
    out: Inputs = {}
    shapes = wanted.get("shapes", {})
    if shapes:
        given = rest.get("shapes", {})
        out["shapes"] = {n: v - given.get(n, 0.0) for n, v in shapes.items()}
    controls = [c for o in new.operations for c in o.controls if c in new.control_names]
    for control in dict.fromkeys(controls):
        if control not in after.controls or control not in at_rest.controls:
            continue
        went = compose(after.controls[control], inverse(before.controls[control]))
        goal = compose(went, at_rest.controls[control])
        out[control] = brought_to(new, out, control, goal)
        own = wanted.get(control, {})
        for channel in (c for k, c in new.channels if k == control):
            if not channel.startswith(("move ", "turn ")) and channel in own:
                out[control][channel] = own[channel]
    kept = {c: {k: v for k, v in given.items() if abs(v) > 1e-9} for c, given in out.items()}
    return {c: given for c, given in kept.items() if given}


def rest_error(character: Character, values: Inputs) -> float:
    """How far, in metres, any joint or point of the new rest at zero lies from the old pose: what “nothing jumps” means."""
    pose: Pose = compile_rig(character).evaluate(values)
    made = new_rest(character, values)
    again = compile_rig(made).evaluate({})
    joints = np.abs(again.joints[:, :, 3] - pose.joints[:, :, 3]).max(initial=0.0)
    points = np.abs(deform(made, again) - deform(character, pose)).max(initial=0.0)
    return float(max(joints, points))
