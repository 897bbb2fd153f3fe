"""Switching what leads a limb or a control without a jump: the other side's values are brought to where things are."""

from __future__ import annotations

from math import atan2

import numpy as np
from scipy.optimize import brentq

from ..character import Character, Inputs, Kit, Space
from ..errors import NotFound, StepRefused
from .builder import WHOLE
from .drag import brought_to, moved_to, turned_to
from .frames import (
    Frame,
    Vec,
    add,
    compose,
    cross,
    dot,
    frame_about,
    inverse,
    length,
    place_of,
    rotate,
    scaled,
    sub,
    unit,
)
from .kits import gives
from .program import PartialEvaluator, Pose, RigProgram
from .slots import Slot


def switched(character: Character, program: RigProgram, inputs: Inputs, kit: str, to: str) -> Inputs:
    """Values at which the limb stands as it does at `inputs`, but is led by `to`: “ik” or “fk”.

    From FK to IK the target takes the end's frame, and the bend guide is put into the limb's own plane, as far off as it
    was made; a limb that is straight in the pose keeps the side on which its guide stands.  The foot's roll, pin and the
    like go back to rest, since the target alone now says where the end is; a limb of three bones takes its lift from the
    pose.  From IK to FK each joint's turn control takes its joint's turn.  Stretch belongs to IK alone: a limb longer than
    its bones, or limits that a control can't pass, leave a difference, and so do more bones than the fold can follow.
    Raises NotFound for a kit that isn't there, StepRefused for one that has no IK.
    """
    found = next((k for k in character.kits if k.name == kit), None)
    if found is None:
        raise NotFound(f"There is no kit called “{kit}”.", character.name, "Reload the page.")
    if not gives(found, "goal"):
        raise StepRefused(f"The kit “{kit}” has no IK to switch to.", character.name, "Choose an arm or a leg.")
    sized = inputs.get(WHOLE, {}).get("size")
    if sized is not None:  # the figure's size as a whole changes nothing within it
        inputs = {**inputs, WHOLE: {k: v for k, v in inputs[WHOLE].items() if k != "size"}}
    names = [n for role in ("upper", "middle", "end") for n in found.joints[role]]
    frames = joint_frames(program.evaluate(inputs), program, names)
    bring = _to_fk if to == "fk" else _to_ik
    made = bring(character, program, inputs, found, names, frames)
    if sized is not None:
        made[WHOLE] = {**made.get(WHOLE, {}), "size": sized}
    return made


def _controls(character: Character, kit: Kit) -> tuple[str, str]:
    """The limb's target, which carries the switch, and its bend guide."""
    own = [c for c in character.controls if c.kit == kit.name]
    target = next(c.name for c in own if any(ch.name == "ik" for ch in c.channels))
    guide = next(c.name for c in own if c.moves and not c.turns and c.name != target)
    return target, guide


def joint_frames(pose: Pose, program: RigProgram, names: list[str]) -> list[Frame]:
    """Frames of plain floats of these joints."""
    index = {n: i for i, n in enumerate(program.joint_names)}
    return [_frame(pose.joints[index[n]]) for n in names]


def _frame(m: np.ndarray) -> Frame:
    return tuple(float(v) for v in m.ravel())


def _turn_control(character: Character, kit: Kit, joint: str) -> str:
    """The kit's turning control on a joint."""
    own = (c.name for c in character.controls if c.kit == kit.name and c.key == f"turn:{joint}")
    return next(own, f"{joint} turn")


def _to_fk(
    character: Character, program: RigProgram, inputs: Inputs, kit: Kit, names: list[str], frames: list[Frame]
) -> Inputs:
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    target, _ = _controls(character, kit)
    for name, frame in zip(names, frames, strict=True):
        control = _turn_control(character, kit, name)
        rest_joint: Frame = program.initial[program.slots[Slot.joint(name)]]
        rest_control: Frame = program.initial[program.slots[Slot.control(control)]]
        goal = compose(frame, compose(inverse(rest_joint), rest_control))
        out[control] = turned_to(program, out, control, goal)
    out[target] = {**out.get(target, {}), "ik": 0.0}
    return out


def _to_ik(
    character: Character, program: RigProgram, inputs: Inputs, kit: Kit, names: list[str], frames: list[Frame]
) -> Inputs:
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    target, guide = _controls(character, kit)
    for other in character.kits:  # a foot that rolls would put the end elsewhere
        if gives(other, "roll") and other.joints["foot"] == kit.joints["end"]:
            for c in character.controls:
                if c.kit == other.name:
                    kept = {k: v for k, v in out.get(c.name, {}).items() if k == "toe lift"}
                    out[c.name] = kept
    own = out.get(target, {})
    out[target] = {k: v for k, v in own.items() if k not in ("pin", "lift", "keep turn")}
    rest_end: Frame = program.initial[program.slots[Slot.joint(names[-1])]]
    rest_target: Frame = program.initial[program.slots[Slot.control(target)]]
    held = compose(frames[-1], compose(inverse(rest_end), rest_target))
    out[target] = brought_to(program, out, target, held)
    out[guide] = _guide_in_plane(character, program, out, guide, names, [place_of(f) for f in frames])
    out[target] = {**out[target], "ik": 1.0}
    if len(names) > 3:  # the fold turns with its guide, but isn't flat: how far it is off is turned back
        places = [place_of(f) for f in frames]
        for _ in range(3):
            if (target, "lift") in program.channels:
                out[target]["lift"] = _lift(program, out, target, names, places)
            out[guide] = _guide_turned(character, program, out, guide, names, places)
    return out


def _guide_turned(
    character: Character, program: RigProgram, out: Inputs, guide: str, names: list[str], places: list[Vec]
) -> dict[str, float]:
    """The guide brought round the line from root to end by as much as the limb's bend is off it."""
    state = program.evaluate(out)
    now = [place_of(f) for f in joint_frames(state, program, names)]
    a, along = places[0], unit(sub(places[-1], places[0]))

    def off_line(p: Vec) -> Vec:
        return sub(sub(p, a), scaled(along, dot(sub(p, a), along)))

    k = _bent_most(character, names)
    is_, wanted = off_line(now[k]), off_line(places[k])
    angle = atan2(dot(cross(is_, wanted), along), dot(is_, wanted))
    there = place_of(state.controls[guide])
    return moved_to(program, out, guide, add(a, rotate(frame_about(along, angle), sub(there, a))))


def _bent_most(character: Character, names: list[str]) -> int:
    """The joint that the bend guide was made for: the one farthest off the line from root to end at rest."""
    rests = [character.joint(n).place for n in names]
    line = unit(sub(rests[-1], rests[0]))
    offs = [sub(sub(p, rests[0]), scaled(line, dot(sub(p, rests[0]), line))) for p in rests[1:-1]]
    return 1 + max(range(len(offs)), key=lambda i: length(offs[i]))


def _guide_in_plane(
    character: Character, program: RigProgram, out: Inputs, guide: str, names: list[str], places: list[Vec]
) -> dict[str, float]:
    """Values that put the bend guide on the side to which the limb bends in the pose."""
    a, c = places[0], places[-1]
    along = unit(sub(c, a))

    def off_line(p: Vec) -> Vec:
        return sub(sub(p, a), scaled(along, dot(sub(p, a), along)))

    k = _bent_most(character, names)
    rests = [character.joint(n).place for n in names]
    off = off_line(places[k])
    if length(off) < 1e-5 * length(sub(c, a)):
        off = off_line(place_of(program.evaluate(out).controls[guide]))
    reach = length(sub(place_of(program.initial[program.slots[Slot.control(guide)]]), rests[k]))
    return moved_to(program, out, guide, add(places[k], unit(off), reach))


def _lift(program: RigProgram, out: Inputs, target: str, names: list[str], places: list[Vec]) -> float:
    """The lift at which the last bone lies as it does in the pose, found between its ends: the hock moves one way with it."""
    low, high = next((a, b) for i, a, b in program.bounds if i == program.channels[(target, "lift")])
    follower = PartialEvaluator(program)  # one value changes at a time

    def turned(lift: float) -> float:
        """The signed angle from the bone as it would be to the bone as it is, about the bend's normal."""
        trial = {**out, target: {**out[target], "lift": lift}}
        now = [place_of(f) for f in joint_frames(follower.evaluate(trial), program, names)]
        a, b = sub(now[-2], now[-1]), sub(places[-2], places[-1])
        normal = cross(sub(places[-1], places[0]), sub(places[-2], places[0]))
        return dot(cross(a, b), normal)

    if turned(low) * turned(high) > 0:
        return 0.0
    return float(brentq(turned, low, high, xtol=1e-13))


def in_space(character: Character, program: RigProgram, inputs: Inputs, rule: str, to: str) -> Inputs:
    """Values at which a control stands as it does at `inputs`, but in the space of the channel `to`; empty: its own.

    Raises NotFound where the rule or the channel isn't there.
    """
    found = next((r for r in character.rules if isinstance(r, Space) and r.name == rule), None)
    if found is None or (to and to not in found.channels()):
        raise NotFound(f"There is no such space for “{rule}”.", character.name, "Reload the page.")
    pose = program.evaluate(inputs)
    goal = pose.controls[found.control]
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    own = {k: v for k, v in out.get(found.control, {}).items() if k not in found.channels()}
    out[found.control] = own | ({to: 1.0} if to else {})
    out[found.control] = brought_to(program, out, found.control, goal)
    return out
