"""Turns: one control per joint of a chain, each turning its joint in its parent."""

from __future__ import annotations

from ...character import Character, Control, Kit
from ..builder import Builder
from ..program import Operation
from .base import TURN, KitKind, Options, control_at


class TurnsOptions(Options):
    level: str = "fine"


class Turns(KitKind):
    kind = "turns"
    about = "One turning control per joint of a chain: neck, head, tail, digits, ears, jaw."
    roles = {"chain": (1, 64, "from the first joint to the last")}
    options = TurnsOptions

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        return [
            control_at(
                character, kit, character.joint(name), f"{name} turn", TURN, level=str(kit.options["level"]), reach=0.35
            ).model_copy(update={"side": character.joint(name).side})
            for name in kit.joints["chain"]
        ]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        made = []
        for name in kit.joints["chain"]:
            joint = builder.character.joint(name)
            control = builder.character.control_named[f"{name} turn"]
            made.append(builder.control(control, builder.parent_slot(joint)))
            made.append(builder.joint_on(name, control.name))
        return made
