"""Eyes: both aim at one control that rides on the head."""

from __future__ import annotations

import numpy as np

from ...character import Character, Control, Kit
from ..builder import Builder
from ..frames import compose, inverse, length, place_of, rotate, sub, swing, unit, with_place
from ..outlines import bud
from ..program import Operation, State, Values
from ..slots import Slot
from .base import MOVE, KitKind, Options


class EyesOptions(Options):
    distance: float = 0.0  # metres ahead of the eyes; 0: as far as half the figure's height


class Eyes(KitKind):
    kind = "eyes"
    provides = frozenset({"sight", "unsided"})
    about = "Eye joints that look at one target, which rides on their parent."
    roles = {"eyes": (1, 8, "the eye joints, each at the centre of its eyeball")}
    options = EyesOptions
    lengths = frozenset({"distance"})

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        eyes = [np.array(character.joint(n).place) for n in kit.joints["eyes"]]
        ahead = float(kit.options["distance"]) or 0.5 * character.height
        place = np.mean(eyes, axis=0) + [0.0, 0.0, ahead]
        return [
            Control(
                name=f"{kit.name} aim", kit=kit.name, key="aim", level="face", place=tuple(map(float, place)),
                channels=MOVE, outline=bud(0.045 * character.size),
            )
        ]  # fmt: skip

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        character = builder.character
        aim = builder.mine(kit, "aim")
        first = character.joint(kit.joints["eyes"][0])
        made = builder.standing(aim, builder.parent_slot(first))
        for name in kit.joints["eyes"]:
            made.append(self._look(builder, name, Slot.control(aim.name)))
        return made

    @staticmethod
    def _look(builder: Builder, name: str, aim: Slot) -> Operation:
        """Turn the eye by the smallest turn that takes its rest line of sight to the aim.

        The line of sight at rest is straight at the aim, so that nothing moves when the kit is made.
        """
        joint = builder.character.joint(name)
        parent = builder.parent_slot(joint)
        slot = Slot.joint(name)
        local = builder.local(slot, parent)
        out, source, target = builder.slots[slot], builder.slots[parent] if parent else -1, builder.slots[aim]
        rest = builder.rest(slot)
        sight = rotate(inverse(with_place(rest, (0, 0, 0))), unit(sub(place_of(builder.rest(aim)), place_of(rest))))

        def run(state: State, values: Values) -> None:
            frame = compose(state[source], local) if source >= 0 else local
            eye = place_of(frame)
            way = sub(place_of(state[target]), eye)
            if length(way) > 1e-9:
                turn = swing(rotate(frame, sight), unit(way))
                frame = with_place(compose(turn, frame), eye)
            state[out] = frame

        return Operation(f"{name} looks at {aim.name}", (aim,) + ((parent,) if parent else ()), (slot,), run)
