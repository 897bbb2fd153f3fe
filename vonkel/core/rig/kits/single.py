"""Single: one joint with its own place, turn and size."""

from __future__ import annotations

from dataclasses import replace

from ...character import Character, Control, Kit
from ..builder import Builder
from ..program import Operation, State, Values
from ..slots import Slot
from .base import MOVE, SIZE, TURN, KitKind, control_at


class Single(KitKind):
    kind = "single"
    provides = frozenset({"trunk"})
    about = "One control that moves, turns and sizes one joint."
    roles = {"joint": (1, 1, "the joint")}

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        joint = character.joint(kit.joints["joint"][0])
        return [control_at(character, kit, joint, joint.name, MOVE + TURN + SIZE, reach=0.35, key="single")]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        name = kit.joints["joint"][0]
        control = builder.mine(kit, "single")
        size, scale = builder.value(control, "size", absent=1.0), builder.scale_slot(name)
        held = builder.joint_on(name, control.name)

        def run(state: State, values: Values) -> None:
            held.run(state, values)
            s = values[size]
            state[scale] = (s, s, s)

        return [
            *builder.standing(control, builder.parent_slot(builder.character.joint(name))),
            replace(held, run=run, writes=(*held.writes, Slot.scale(name)), controls=(control.name,)),
        ]
