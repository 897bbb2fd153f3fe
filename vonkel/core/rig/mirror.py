"""The other side: opposite controls, and values that give the mirrored pose."""

from __future__ import annotations

from collections.abc import Collection

from ..character import Character, Control, Inputs, opposite_name
from ..character.refs import SHAPES
from .builder import WHOLE
from .frames import (
    ORIGIN,
    Frame,
    Vec,
    angles_in_order,
    compose,
    inverse,
    rest_frame,
    rotate,
    slerp,
    turn_in_order,
    with_place,
)
from .kits import KINDS


def opposite_control(character: Character, name: str) -> str:
    """The control of the same kit and key on the other side; the control itself where there is none."""
    there = character.control_named
    if name not in there:
        return name
    own = there[name]
    kit = opposite_name(own.kit)
    key = ":".join(opposite_name(part) for part in own.key.split(":"))
    if own.key:
        found = next((c.name for c in character.controls if c.kit == kit and c.key == key and c.name != name), None)
        if found:
            return found
    other = opposite_name(name)
    words = name.split(" ")
    for candidate in (other, " ".join(opposite_name(w) for w in words)):
        if candidate != name and candidate in there:
            return candidate
    return name


def _reflected(v: Vec) -> Vec:
    return (-v[0], v[1], v[2])


def mirrored_values(
    own: Control, other: Control, given: dict[str, float], lateral: Collection[str] = ()
) -> dict[str, float]:
    """The values at which `other` does on its side what `own` does at `given`.

    Moves and turns are reflected in the body plane and read in the other control's axes; other channels are taken over, but for those
    of a control in the middle that are `lateral`.
    """
    out = {k: v for k, v in given.items() if not k.startswith(("move ", "turn "))}
    a = with_place(rest_frame(own.place, own.turn), ORIGIN)
    b = with_place(rest_frame(other.place, other.turn), ORIGIN)
    if any(k.startswith("turn ") for k in given):
        x, y, z = (given.get(f"turn {k}", 0.0) for k in "xyz")
        world = compose(compose(a, turn_in_order(own.order, x, y, z)), inverse(a))
        r = world
        flipped: Frame = (r[0], -r[1], -r[2], 0.0, -r[4], r[5], r[6], 0.0, -r[8], r[9], r[10], 0.0)
        angles = angles_in_order(other.order, compose(compose(inverse(b), flipped), b))
        out |= {f"turn {k}": v for k, v in zip("xyz", angles, strict=True)}
    if any(k.startswith("move ") for k in given):
        m: Vec = tuple(given.get(f"move {k}", 0.0) for k in "xyz")  # type: ignore[assignment]
        moved = rotate(inverse(b), _reflected(rotate(a, m)))
        out |= {f"move {k}": v for k, v in zip("xyz", moved, strict=True)}
    if own.name == other.name:
        out |= {k: -v for k, v in out.items() if k in lateral}
    has = {c.name for c in other.channels}
    return {k: v for k, v in out.items() if k in has and (abs(v) > 1e-15 or k in given)}


def mirrored_pose(character: Character, inputs: Inputs) -> Inputs:
    """The whole pose with left and right exchanged; the figure as a whole stays where it is."""
    out: Inputs = {}
    named = character.control_named
    for control, given in inputs.items():
        if control == SHAPES:
            known = {s.name for s in character.shapes}
            out[control] = {opposite_name(k) if opposite_name(k) in known else k: v for k, v in given.items()}
            continue
        if control == WHOLE or control not in named:
            out[control] = dict(given)
            continue
        other = opposite_control(character, control)
        values = mirrored_values(named[control], named[other], given, _lateral(character, control))
        if values:
            out[other] = values
    return out


def _lateral(character: Character, control: str) -> Collection[str]:
    kit = next((k for k in character.kits if k.name == character.control_named[control].kit), None)
    return KINDS[kit.kind].lateral if kit is not None else ()


def copied_to_other_side(character: Character, inputs: Inputs, side: str) -> Inputs:
    """The pose of one side (“L” or “R”) also on the other, shapes of that side too; what is in the middle is brought to the middle,
    half way between what it does and the mirror of that."""
    named = character.control_named
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    for control in named.values():
        other = opposite_control(character, control.name)
        if other == control.name != WHOLE and control.side == "C" and control.name in out:
            out[control.name] = _to_the_middle(control, out[control.name], _lateral(character, control.name))
        if control.side != side or other == control.name:
            continue
        values = mirrored_values(control, named[other], inputs.get(control.name, {}))
        if values:
            out[other] = values
        else:
            out.pop(other, None)
    if SHAPES in out:
        known, own = {s.name for s in character.shapes}, out[SHAPES]
        pairs = {n: opposite_name(n) for n in known if n.endswith(f"_{side}") and opposite_name(n) in known}
        own |= {other: own.get(name, 0.0) for name, other in pairs.items()}
        out[SHAPES] = {k: v for k, v in own.items() if v}
    return out


def _to_the_middle(control: Control, given: dict[str, float], lateral: Collection[str]) -> dict[str, float]:
    image = mirrored_values(control, control, given, lateral)
    out = {k: 0.5 * (v + image.get(k, 0.0)) for k, v in given.items()}
    out |= {k: 0.5 * v for k, v in image.items() if k not in given}
    if any(k.startswith("turn ") for k in out):
        one, other = (
            with_place(turn_in_order(control.order, *(v.get(f"turn {k}", 0.0) for k in "xyz")), ORIGIN)
            for v in (given, image)
        )
        angles = angles_in_order(control.order, slerp(one, other, 0.5))
        out |= {f"turn {k}": v for k, v in zip("xyz", angles, strict=True)}
    return {k: v for k, v in out.items() if abs(v) > 1e-12}
