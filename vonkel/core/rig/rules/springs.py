"""Springs and swings.  A still pose shows them settled; in a motion the clock carries what they remember.

A spring is a damped oscillator pulled to where the rig puts its thing.  Each frame is solved in closed form for a pull that
moves evenly from one frame to the next, so it neither explodes nor depends on the frame rate (any text on vibrations, for
instance Den Hartog 1934, Mechanical Vibrations, chapter 2).
"""

from __future__ import annotations

from functools import lru_cache
from math import cos, cosh, exp, pi, sin, sinh, sqrt

from ...character import Spring, Swing
from ...errors import BadParameters
from ...joints.orient import bone_child
from ..builder import Builder, bring_along
from ..frames import (
    ORIGIN,
    Frame,
    Vec,
    add,
    compose,
    frame_about,
    inverse,
    length,
    place_of,
    rotate,
    slerp,
    sub,
    swing,
    turn_vector,
    turned_by_vector,
    unit,
    with_place,
)
from ..program import CLOCK, Clock, Operation, State, Values
from ..slots import Slot

DOWN: Vec = (0.0, -1.0, 0.0)
PULL = 9.81  # m/s², the standard acceleration of gravity, rounded


@lru_cache(maxsize=256)
def transition(hertz: float, damping: float, step: float) -> tuple[float, float, float, float]:
    """(a, b, c, d): a free oscillator's place and speed after `step` seconds are a·x + b·v and c·x + d·v."""
    w, z, t = 2 * pi * hertz, damping, step
    fall = exp(-z * w * t)
    if abs(z - 1.0) < 1e-6:
        return fall * (1 + w * t), fall * t, -fall * w * w * t, fall * (1 - w * t)
    if z < 1.0:
        f = w * sqrt(1 - z * z)
        c, s = cos(f * t), sin(f * t) / f
    else:
        f = w * sqrt(z * z - 1)
        c, s = cosh(f * t), sinh(f * t) / f
    return fall * (c + z * w * s), fall * s, -fall * w * w * s, fall * (c - z * w * s)


def followed(
    place: Vec, speed: Vec, before: Vec, goal: Vec, hertz: float, damping: float, step: float
) -> tuple[Vec, Vec]:
    """Place and speed of a point on a spring after its goal went evenly from `before` to `goal` in `step` seconds."""
    a, b, c, d = transition(hertz, damping, step)
    lag = 2 * damping / (2 * pi * hertz)
    out_p, out_v = [], []
    for p, v, g0, g1 in zip(place, speed, before, goal, strict=True):
        rate = (g1 - g0) / step
        x, u = p - (g0 - lag * rate), v - rate
        out_p.append(a * x + b * u + g1 - lag * rate)
        out_v.append(c * x + d * u + rate)
    return (out_p[0], out_p[1], out_p[2]), (out_v[0], out_v[1], out_v[2])


def _point(clock: Clock, key: str, goal: Vec, rule: Spring) -> Vec:
    """Where the point remembered under `key` is now that its goal is at `goal`; it begins there."""
    remembered = clock.memory.get(key)
    if remembered is None:
        clock.memory[key] = (goal, ORIGIN, goal)
        return goal
    place, speed, before = remembered
    place, speed = followed(place, speed, before, goal, rule.stiffness, rule.damping, clock.step)
    clock.memory[key] = (place, speed, goal)
    return place


def spring_operations(builder: Builder, rule: Spring) -> list[Operation]:
    """For joints one operation each, or one for all that a single operation places; for a control its place and turn."""
    controls = [t.name for t in rule.things if t.kind == "control"]
    joints = [t.name for t in rule.things if t.kind == "joint"]
    if not controls and not joints:
        raise BadParameters("The ground doesn't spring.", rule.name, "Choose joints or a control.")
    made = [_on_control(builder, rule, c) for c in controls]
    groups: dict[tuple[str, ...], list[str]] = {}
    for j in joints:
        together = builder.written_with.get(Slot.joint(j), (Slot.joint(j),))
        groups.setdefault(together, []).append(j)
    for together, names in groups.items():
        made += [_on_chain(builder, rule, names, together)]
    return made


def _blown(rule: Spring, time: float, along: float) -> Vec:
    """How far the wind pulls a spring's goal off, metres: two rates that never meet, coming to each joint a little later."""
    t = 2 * pi * (rule.gusts * time - 0.12 * along)
    gust = (0.6 + 0.3 * sin(t) + 0.2 * sin(2.618 * t + 1.0)) / (2 * pi * rule.stiffness) ** 2
    x, y, z = rule.wind
    return (gust * x, gust * y, gust * z)


def _tip(builder: Builder, name: str) -> Vec:
    """The end of a joint's bone in its own frame: where its child is, or half a hand's breadth down its aim."""
    joint = builder.character.joint(name)
    child = bone_child(builder.character, joint)
    if child is not None:
        return place_of(builder.local(Slot.joint(child.name), Slot.joint(name)))
    size = 0.05 * builder.size * (-1 if joint.aim.startswith("-") else 1)
    axis = "xyz".index(joint.aim[-1])
    return (size * (axis == 0), size * (axis == 1), size * (axis == 2))


def _on_chain(builder: Builder, rule: Spring, names: list[str], together: tuple[str, ...]) -> Operation:
    """Each bone's end lags on its spring, and the joint swings after it; those below go along."""
    depth = {j.name: i for i, j in enumerate(builder.character.joints)}
    names = sorted(names, key=lambda n: depth[n])
    slots = [builder.slots[Slot.joint(n)] for n in names]
    rests = [builder.rest(Slot.joint(n)) for n in names]
    tips = [_tip(builder, n) for n in names]
    below = [builder.carried(n) for n in names]
    amends = tuple(dict.fromkeys(w for n in names for w in builder.chain_amends(n)))
    share = rule.strength * (1.0 - rule.pull)
    droop = rule.weight * PULL / (2 * pi * rule.stiffness) ** 2
    keys = [f"{rule.name}/{n}" for n in names]
    windy = any(rule.wind)

    def run(state: State, values: Values) -> None:
        clock: Clock | None = state[CLOCK]
        if clock is None and not droop:
            return
        for i, (slot, rest, tip, under, key) in enumerate(zip(slots, rests, tips, below, keys, strict=True)):
            frame: Frame = state[slot]
            here = place_of(frame)
            goal = add(here, rotate(frame, tip))
            pulled = goal
            if droop:  # at rest the model hangs as it was made: only what turned away from that droops
                was = rotate(compose(frame, inverse(with_place(rest, ORIGIN))), DOWN)
                pulled = add(goal, sub(DOWN, was), droop)
            if windy and clock is not None:
                pulled = add(pulled, _blown(rule, clock.time, i))
            now = _point(clock, key, pulled, rule) if clock is not None else pulled
            way, wanted = sub(goal, here), sub(now, here)
            if length(way) < 1e-9 or length(wanted) < 1e-9:
                continue
            turn = swing(unit(way), unit(wanted))
            if share < 1.0:
                turn = slerp(frame_about((1.0, 0.0, 0.0), 0.0), turn, share)
            swung = with_place(compose(turn, with_place(frame, ORIGIN)), here)
            state[slot] = swung
            bring_along(state, under, frame, swung)

    words = f"{names[0]} to {names[-1]} spring" if len(names) > 1 else f"{names[0]} springs"
    return Operation(words, (), amends, run, amends=amends, timed=True)


def _on_control(builder: Builder, rule: Spring, name: str) -> Operation:
    slot = Slot.control(name)
    out = builder.slots[slot]
    share = rule.strength * (1.0 - rule.pull)
    place_key, turn_key = f"{rule.name}/{name}/place", f"{rule.name}/{name}/turn"
    windy = any(rule.wind)

    def run(state: State, values: Values) -> None:
        clock: Clock | None = state[CLOCK]
        if clock is None:
            return
        frame: Frame = state[out]
        goal = place_of(frame)
        place = _point(clock, place_key, add(goal, _blown(rule, clock.time, 0)) if windy else goal, rule)
        # The turn's lag behind its goal is an oscillator of its own, taken along as the goal turns.
        remembered = clock.memory.get(turn_key)
        lag, speed = ORIGIN, ORIGIN
        if remembered is not None:
            lag, speed, before = remembered
            went = turn_vector(compose(with_place(frame, ORIGIN), inverse(with_place(before, ORIGIN))))
            start = ORIGIN
            lag, speed = followed(lag, speed, start, went, rule.stiffness, rule.damping, clock.step)
            lag = sub(lag, went)
        clock.memory[turn_key] = (lag, speed, frame)
        turn = turned_by_vector((share * lag[0], share * lag[1], share * lag[2]))
        at = add(goal, sub(place, goal), share)
        state[out] = with_place(compose(turn, with_place(frame, ORIGIN)), at)

    return Operation(f"{name} springs", (), (slot,), run, amends=(slot,), timed=True)


def swing_operations(builder: Builder, rule: Swing) -> list[Operation]:
    """All channels on one rate: value + strength · angle · sin(2π (rate · time + phase)); nothing in a still pose."""
    led = [
        (builder.channels[(s.control, s.channel)], s.angle * rule.strength, s.phase)
        for s in rule.swingers
        if (s.control, s.channel) in builder.channels
    ]
    rate = rule.rate

    def run(state: State, values: Values) -> None:
        clock: Clock | None = state[CLOCK]
        if clock is None:
            return
        for index, angle, phase in led:
            values[index] += angle * sin(2 * pi * (rate * clock.time + phase))

    names = tuple(dict.fromkeys(s.control for s in rule.swingers))
    words = f"{', '.join(names[:3])} swing {rate:g} times a second"
    return [Operation(words, (), (), run, drives=names, timed=True)]
