"""Switching a limb between IK and FK without a jump: the other side's controls are brought to where the limb is."""

from __future__ import annotations

import numpy as np

from ..character import Character, Inputs, Kit
from ..errors import NotFound, StepRefused
from .drag import brought_to, moved_to, turned_to
from .frames import (
    Frame,
    add,
    compose,
    dot,
    inverse,
    length,
    place_of,
    scaled,
    sub,
    unit,
)
from .program import RigProgram


def switched(character: Character, program: RigProgram, inputs: Inputs, kit: str, to: str) -> Inputs:
    """Values at which the limb stands as it does at `inputs`, but is led by `to`: “ik” or “fk”.

    From FK to IK the target takes the end's frame, and the bend guide is put into the limb's own plane, as far off as it
    was made; a limb that is straight in the pose keeps the side on which its guide stands.  From IK to FK each joint's
    turn control takes its joint's turn.  Stretch belongs to IK alone: a limb longer than its bones, or limits that a
    control can't pass, leave a difference.  Raises NotFound for a kit that isn't there, StepRefused for one that has no
    IK.
    """
    found = next((k for k in character.kits if k.name == kit), None)
    if found is None:
        raise NotFound(f"There is no kit called “{kit}”.", character.name, "Reload the page.")
    if found.kind not in ("arm", "leg"):
        raise StepRefused(f"The kit “{kit}” has no IK to switch to.", character.name, "Choose an arm or a leg.")
    target, guide = _controls(character, found)
    state = program.evaluate(inputs)
    names = [found.joints[r][0] for r in ("upper", "middle", "end")]
    index = {n: i for i, n in enumerate(program.joint_names)}
    frames = [_frame(state.joints[index[n]]) for n in names]
    if to == "fk":
        return _to_fk(program, inputs, names, frames, target)
    return _to_ik(character, program, inputs, names, frames, target, guide)


def _controls(character: Character, kit: Kit) -> tuple[str, str]:
    """The limb's target, which carries the switch, and its bend guide."""
    own = [c for c in character.controls if c.kit == kit.name]
    target = next(c.name for c in own if any(ch.name == "ik" for ch in c.channels))
    guide = next(c.name for c in own if c.moves and not c.turns and c.name != target)
    return target, guide


def _frame(m: np.ndarray) -> Frame:
    """A frame of plain floats from (3, 4)."""
    a, b, c, d, e, f, g, h, i, j, k, x = (float(v) for v in m.ravel())
    return (a, b, c, d, e, f, g, h, i, j, k, x)


def _to_fk(program: RigProgram, inputs: Inputs, names: list[str], frames: list[Frame], target: str) -> Inputs:
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    for name, frame in zip(names, frames, strict=True):
        out[f"{name} turn"] = turned_to(program, out, f"{name} turn", _control_for(program, name, frame))
    out[target] = {**out.get(target, {}), "ik": 0.0}
    return out


def _control_for(program: RigProgram, joint: str, frame: Frame) -> Frame:
    """The frame of a joint's turn control at which the joint has `frame`, by their places at rest."""
    rest_joint: Frame = program.initial[program.slots[f"joint:{joint}"]]
    rest_control: Frame = program.initial[program.slots[f"control:{joint} turn"]]
    return compose(frame, compose(inverse(rest_joint), rest_control))


def _to_ik(
    character: Character, program: RigProgram, inputs: Inputs, names: list[str], frames: list[Frame], target: str,
    guide: str,
) -> Inputs:  # fmt: skip
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    rest_end: Frame = program.initial[program.slots[f"joint:{names[2]}"]]
    rest_target: Frame = program.initial[program.slots[f"control:{target}"]]
    held = compose(frames[2], compose(inverse(rest_end), rest_target))
    out[target] = brought_to(program, out, target, held)
    a, b, c = (place_of(f) for f in frames)
    along = unit(sub(c, a))
    off = sub(sub(b, a), scaled(along, dot(sub(b, a), along)))
    guide_now = program.evaluate(out).controls[guide]
    if length(off) < 1e-5 * length(sub(c, a)):
        off = sub(sub(place_of(guide_now), a), scaled(along, dot(sub(place_of(guide_now), a), along)))
    middle = next(j for j in character.joints if j.name == names[1])
    reach = length(sub(place_of(program.initial[program.slots[f"control:{guide}"]]), middle.place))
    out[guide] = moved_to(program, out, guide, guide_now, add(b, unit(off), reach))
    out[target] = {**out[target], "ik": 1.0}
    return out
