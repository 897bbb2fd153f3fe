"""Links: one value leads others, each through a curve."""

from __future__ import annotations

from collections.abc import Callable
from math import acos

import numpy as np

from ...character import Character, Follower, Lead, Link
from ...character.rules import curve_function, rounded
from ...errors import NotFound
from ..builder import Builder, bring_along
from ..frames import compose, frame_of, inverse, length, place_of, rotate, sub, turn_in_order, twist_angle, with_place
from ..program import Operation, State, Values
from ..slots import Slot

AT_REST = 1e-9  # a lead nearer to its value at rest than this is at rest
Reader = Callable[[State, Values], float]
OWN = {
    "x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0),
    "-x": (-1.0, 0.0, 0.0), "-y": (0.0, -1.0, 0.0), "-z": (0.0, 0.0, -1.0),
}  # fmt: skip


def lead_reader(builder: Builder, lead: Lead) -> tuple[tuple[str, ...], tuple[str, ...], Reader]:
    """Slots and controls that a lead reads, and how: zero at rest but for channels that rest elsewhere."""
    if lead.kind == "channel":
        control = lead.thing.name
        index = builder.channels.get((control, lead.channel))
        if index is None:
            raise NotFound(f"{control} has no channel “{lead.channel}”.", "", "Choose another lead.")
        at = index
        return (), (control,), lambda state, values: values[at]
    if lead.kind == "distance":
        a, b = builder.thing(lead.thing), builder.thing(lead.other)
        ends = [builder.slots[s] if s else -1 for s in (a, b)]

        def apart(state: list[object]) -> float:
            p, q = (place_of(state[s]) if s >= 0 else (0.0, 0.0, 0.0) for s in ends)  # type: ignore[arg-type]
            return length(sub(p, q))

        rest = apart(builder.initial)
        return tuple(s for s in (a, b) if s), (), lambda state, values: apart(state) - rest
    name = lead.thing.name
    joint = builder.character.joint(name)
    slot, parent = Slot.joint(name), builder.parent_slot(joint)
    local, own = builder.local(slot, parent), builder.slots[slot]
    above = builder.slots[parent] if parent else -1
    axis = OWN[joint.hinge if lead.kind == "bend" else joint.aim]
    swinging = lead.kind == "swing"
    toward, whole = axis, 0.0
    if lead.kind == "toward":
        back = rotate(with_place(inverse(builder.rest(slot)), (0.0, 0.0, 0.0)), lead.way)
        toward = tuple(v / length(back) for v in back)  # type: ignore[assignment]
        whole = _angle(axis, toward)

    def turned(state: State, values: Values) -> float:
        stood = compose(state[above], local) if above >= 0 else local
        turn = compose(inverse(with_place(stood, (0.0, 0.0, 0.0))), with_place(state[own], (0.0, 0.0, 0.0)))
        if swinging:
            return _angle(rotate(turn, axis), axis)
        if whole:
            return whole - _angle(rotate(turn, axis), toward)
        return twist_angle(turn, axis)

    return (slot, *((parent,) if parent else ())), (), turned


def _angle(a: tuple[float, float, float], b: tuple[float, float, float]) -> float:
    """Between two directions of length one, radians."""
    return acos(max(-1.0, min(1.0, a[0] * b[0] + a[1] * b[1] + a[2] * b[2])))


def lead_value(character: Character, lead: Lead, joints: np.ndarray) -> float:
    """What a lead by a joint's turn, or by a distance of joints, reads where joints (j, 3, 4) are so."""
    builder = Builder(character, character.size)
    _, _, read = lead_reader(builder, lead)
    state = list(builder.initial)
    for joint, frame in zip(character.joints, joints, strict=True):
        state[builder.slots[Slot.joint(joint.name)]] = frame_of(frame)
    return read(state, list(builder.rest_values))


def _rest(builder: Builder, rule: Link) -> float:
    if rule.lead.kind != "channel":
        return 0.0
    return builder.rest_values[builder.channels[(rule.lead.thing.name, rule.lead.channel)]]


def lead_words(lead: Lead) -> str:
    name = lead.thing.name
    if lead.kind == "channel":
        return f"“{lead.channel}” of {name}"
    if lead.kind == "distance":
        return f"the way from {name} to {lead.other.partition(':')[2] or 'the ground'}"
    return f"the {lead.kind} of {name}"


def link_operations(builder: Builder, rule: Link) -> list[Operation]:
    """One operation for all channels that the link leads, and one for each joint."""
    reads, controls, read = lead_reader(builder, rule.lead)
    rounding = rule.rounding
    words = lead_words(rule.lead)
    made: list[Operation] = []
    led: list[tuple[int, Callable[[float], float]]] = []
    names: list[str] = []
    joints: dict[str, list[Follower]] = {}
    for f in rule.followers:
        kind, name = f.thing.kind, f.thing.name
        if kind == "joint":
            joints.setdefault(name, []).append(f)
            continue
        index = builder.channels.get(("shapes", name) if kind == "shape" else (name, f.channel))
        if index is not None:
            led.append((index, curve_function(f.curve)))
            names.append("shapes" if kind == "shape" else name)
    rest = _rest(builder, rule)
    # At rest it leads nothing, to the last bit: a steep or stepped curve would make much of what rounding leaves of zero.
    quiet = all(
        abs(curve_function(f.curve)(rounded(rest, rounding)))
        < AT_REST * max(1.0, *(abs(k.value) for k in f.curve.keys))
        for f in rule.followers
    )
    if led:

        def drive(state: State, values: Values) -> None:
            given = read(state, values)
            if quiet and abs(given - rest) < AT_REST:
                return
            value = rounded(given, rounding)
            for index, curve in led:
                values[index] += curve(value)

        drives = tuple(dict.fromkeys(names))
        made.append(Operation(f"{words} leads {_few(drives)}", reads, (), drive, controls, drives=drives))
    for name, followers in joints.items():

        def settled(state: State, values: Values) -> float | None:
            given = read(state, values)
            return None if quiet and abs(given - rest) < AT_REST else rounded(given, rounding)

        made += _lead_joint(builder, name, followers, reads, controls, settled, words)
    return made


def _few(names: tuple[str, ...]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def _lead_joint(
    builder: Builder, name: str, followers: list[Follower], reads: tuple[str, ...], controls: tuple[str, ...],
    read: Callable[[State, Values], float | None], words: str,
) -> list[Operation]:  # fmt: skip
    """`read` gives the lead's value, or None at rest."""
    joint = builder.character.joint(name)
    out, below = builder.slots[Slot.joint(name)], builder.carried(name)
    amends = builder.chain_amends(name)
    curves = {f.channel: curve_function(f.curve) for f in followers}
    turning = [curves.get(f"turn {a}") for a in "xyz"]
    moving = [curves.get(f"move {a}") for a in "xyz"]
    sizing = [curves.get(f"size {a}", curves.get("size")) for a in "xyz"]
    made = []
    if any(turning) or any(moving):

        def run(state: State, values: Values) -> None:
            value = read(state, values)
            if value is None:
                return
            frame = state[out]
            angles = [c(value) if c else 0.0 for c in turning]
            own = turn_in_order(joint.order, *angles)
            own = with_place(own, tuple(c(value) if c else 0.0 for c in moving))  # type: ignore[arg-type]
            now = compose(frame, own)
            state[out] = now
            bring_along(state, below, frame, now)

        free = tuple(r for r in reads if r not in amends)
        made.append(Operation(f"{words} leads {name}", free, amends, run, controls, amends=amends))
    if any(sizing):
        slot = Slot.scale(name)
        scale = builder.scale_slot(name)
        written = slot in builder.written_with

        def grow(state: State, values: Values) -> None:
            value = read(state, values)
            own = state[scale] if written else (1.0, 1.0, 1.0)
            if value is None:
                state[scale] = own
                return
            state[scale] = tuple(o * (1.0 + c(value)) if c else o for o, c in zip(own, sizing, strict=True))

        free = tuple(r for r in reads if r != slot)
        made.append(
            Operation(f"{words} sizes {name}", free, (slot,), grow, controls, amends=(slot,) if written else ())
        )
    return made
