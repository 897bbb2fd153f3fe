"""Jaw: opens, goes to a side and slides; lips may stay sealed while it opens."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from ...character import Channel, Character, Control, Joint, Kit
from ...character.refs import SHAPES
from ...geometry.rotations import matrix_from_quaternion, unit, vector
from ..builder import Builder
from ..frames import Frame, Vec, add, compose, frame_about, place_of, rotate, with_place
from ..outlines import bud
from ..program import Operation, State, Values
from ..slots import Slot
from .base import KitKind, Options
from .led import hinge_of, tip_of

SEAL = "seal"
"""The kit's word for the shape that brings parted lips together with the jaw wholly open."""


class JawOptions(Options):
    degrees: float = Field(25.0, gt=0.0, le=90.0)  # how far it opens
    side_degrees: float = Field(9.0, ge=0.0, le=45.0)
    slide: float = Field(0.0, ge=0.0)  # metres; 0: a twelfth of its length


class JawKit(KitKind):
    kind = "jaw"
    about = "A jaw that opens, goes to a side and slides, with lips that may stay sealed."
    roles = {"jaw": (1, 1, "the jaw's joint, at its hinge")}
    options = JawOptions
    lengths = frozenset({"slide"})
    lateral = frozenset({"side"})

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        joint = character.joint(kit.joints["jaw"][0])
        tip = tip_of(character, joint)
        way = unit((tip - np.array(joint.place)) * [1, 0, 1])
        place = tip + 0.05 * character.size * (way if np.linalg.norm(way) > 0.5 else np.array([0.0, 0.0, 1.0]))
        channels = (
            Channel(name="open", low=-0.1, high=1.0), Channel(name="side", low=-1.0, high=1.0),
            Channel(name="slide", low=-1.0, high=1.0), Channel(name="seal", low=0.0, high=1.0),
        )  # fmt: skip
        return [
            Control(
                name=kit.name, kit=kit.name, key="jaw", level="face", place=tuple(map(float, place)), channels=channels,
                outline=bud(0.026 * character.size),
            )
        ]  # fmt: skip

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        joint = builder.character.joint(kit.joints["jaw"][0])
        control = builder.mine(kit, "jaw")
        parent = builder.parent_slot(joint)
        slot = Slot.joint(joint.name)
        local = builder.local(slot, parent)
        hinge, over, ahead, long = jaw_axes(builder.character, joint)
        degrees, aside = np.radians(float(kit.options["degrees"])), np.radians(float(kit.options["side_degrees"]))
        slide = float(kit.options["slide"]) or long / 12.0
        opened, side, slid, seal = (builder.value(control, n) for n in ("open", "side", "slide", "seal"))
        out, source = builder.slots[slot], builder.slots[parent] if parent else -1
        sealed = builder.shapes_of(kit).get(SEAL)

        def run(state: State, values: Values) -> None:
            frame: Frame = compose(state[source], local) if source >= 0 else local
            turn = compose(frame_about(over, aside * values[side]), frame_about(hinge, degrees * values[opened]))
            place = place_of(frame)
            if values[slid]:
                place = add(place, rotate(frame, ahead), slide * values[slid])
            state[out] = with_place(compose(frame, turn), place)

        made = [
            *builder.standing(control, parent),
            Operation(
                f"{joint.name} opens and slides as {control.name} says",
                (parent,) if parent else (),
                (slot,),
                run,
                (control.name,),
            ),
        ]
        if sealed is not None:

            def lips(state: State, values: Values) -> None:
                values[sealed] += values[seal] * max(0.0, values[opened])

            made.append(
                Operation(f"lips stay sealed as {control.name} says", (), (), lips, (control.name,), drives=(SHAPES,))
            )
        return made


def jaw_axes(character: Character, joint: Joint) -> tuple[Vec, Vec, Vec, float]:
    """In the joint's own axes: about which it opens, about which it goes to its left, which way it slides; and its length, metres."""
    axes = matrix_from_quaternion(joint.turn)
    way = tip_of(character, joint) - np.array(joint.place)
    long = float(np.linalg.norm(way))
    level = unit(np.cross([0.0, 1.0, 0.0], way))
    hinge = axes @ hinge_of(joint)
    if abs(float(hinge @ level)) < 0.7:  # a joint that was never turned to its hinge
        hinge = level
    if np.cross(hinge, way)[1] > 0:  # opening takes the chin down
        hinge = -hinge
    over = unit(np.cross(way, hinge))
    left = hinge if hinge[0] >= 0 else -hinge
    if np.cross(over, way) @ left < 0:
        over = -over

    def own(v: np.ndarray) -> Vec:
        return vector(axes.T @ v)

    return own(hinge), own(over), own(unit(way)), long
