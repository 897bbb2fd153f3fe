"""Eyes: all aim at one control that rides on the head, each may be led off it by its own, and they cross by a value."""

from __future__ import annotations

import numpy as np

from ...character import Channel, Character, Control, Kit, without_side
from ...geometry.rotations import vector
from ..builder import Builder
from ..frames import add, apply, compose, inverse, length, place_of, rotate, sub, swing, unit, with_place
from ..outlines import bud
from ..program import Operation, State, Values
from ..slots import Slot
from .base import MOVE, KitKind, Options

CLOSE = 0.85
"""How much nearer the eyes' target comes when they are wholly crossed, a share of its distance."""


class EyesOptions(Options):
    distance: float = 0.0  # metres ahead of the eyes; 0: as far as half the figure's height


class Eyes(KitKind):
    kind = "eyes"
    provides = frozenset({"sight", "unsided"})
    about = "Eye joints that look at one target, which rides on their parent; each may be led off it, and they cross by a value."
    roles = {"eyes": (1, 8, "the eye joints, each at the centre of its eyeball")}
    options = EyesOptions
    lengths = frozenset({"distance"})

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        eyes = [np.array(character.joint(n).place) for n in kit.joints["eyes"]]
        ahead = float(kit.options["distance"]) or 0.5 * character.height
        place = np.mean(eyes, axis=0) + [0.0, 0.0, ahead]
        several = len(eyes) > 1
        cross = (Channel(name="cross", low=0.0, high=1.0),) if several else ()
        made = [
            Control(
                name=f"{kit.name} aim", kit=kit.name, key="aim", level="face", place=tuple(map(float, place)),
                channels=(*MOVE, *cross), outline=bud(0.045 * character.size),
            )
        ]  # fmt: skip
        for name, at in zip(kit.joints["eyes"], eyes, strict=True) if several else ():
            joint = character.joint(name)
            own = np.array([at[0], at[1], place[2]])
            made.append(
                Control(
                    name=f"{without_side(name)} aim{name[len(without_side(name)) :]}", kit=kit.name, key=f"aim:{name}",
                    side=joint.side, level="face", place=tuple(map(float, own)), channels=MOVE, outline=bud(0.02 * character.size),
                )
            )  # fmt: skip
        return made

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        character = builder.character
        aim = builder.mine(kit, "aim")
        first = character.joint(kit.joints["eyes"][0])
        parent = builder.parent_slot(first)
        made = builder.standing(aim, parent)
        between = np.mean([character.joint(n).place for n in kit.joints["eyes"]], axis=0)
        middle = vector(between)
        if parent:
            middle = apply(inverse(builder.rest(parent)), middle)
        for name in kit.joints["eyes"]:
            own = builder.optional(kit, f"aim:{name}")
            if own is not None:
                made += builder.standing(own, Slot.control(aim.name))
            made.append(self._look(builder, name, aim, own, middle))
        return made

    @staticmethod
    def _look(
        builder: Builder, name: str, aim: Control, own: Control | None, middle: tuple[float, float, float]
    ) -> Operation:
        """Turn the eye by the smallest turn that takes its rest line of sight to the aim, or as far beside it as its own target was moved.

        The line of sight at rest is straight at the aim, so that nothing moves when the kit is made.
        """
        joint = builder.character.joint(name)
        parent = builder.parent_slot(joint)
        slot, target = Slot.joint(joint.name), Slot.control(aim.name)
        local = builder.local(slot, parent)
        out, source, at = builder.slots[slot], builder.slots[parent] if parent else -1, builder.slots[target]
        rest = builder.rest(slot)
        sight = rotate(inverse(with_place(rest, (0, 0, 0))), unit(sub(place_of(builder.rest(target)), place_of(rest))))
        beside = builder.slots[Slot.control(own.name)] if own is not None else -1
        stands = place_of(builder.local(Slot.control(own.name), target)) if own is not None else (0.0, 0.0, 0.0)
        cross = builder.value(aim, "cross")

        def run(state: State, values: Values) -> None:
            frame = compose(state[source], local) if source >= 0 else local
            eye, goal = place_of(frame), place_of(state[at])
            if values[cross]:
                near = apply(state[source], middle) if source >= 0 else middle
                goal = add(goal, sub(near, goal), CLOSE * values[cross])
            if beside >= 0:
                goal = add(goal, sub(place_of(state[beside]), apply(state[at], stands)))
            way = sub(goal, eye)
            if length(way) > 1e-9:
                turn = swing(rotate(frame, sight), unit(way))
                frame = with_place(compose(turn, frame), eye)
            state[out] = frame

        reads = (target, *((Slot.control(own.name),) if own is not None else ()), *((parent,) if parent else ()))
        return Operation(f"{name} looks at {aim.name}", reads, (slot,), run, (aim.name,))
