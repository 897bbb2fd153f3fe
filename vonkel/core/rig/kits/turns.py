"""Turns: one control per joint of a chain, each turning its joint in its parent."""

from __future__ import annotations

from ...character import Character, Control, Kit
from ..builder import Builder
from ..program import Operation
from .base import TURN, KitKind, Options, control_at


class TurnsOptions(Options):
    level: str = "fine"


def turn_controls(character: Character, kit: Kit, names: tuple[str, ...], level: str = "fine") -> list[Control]:
    """A turning control on each of these joints."""
    return [
        control_at(
            character, kit, character.joint(name), f"{name} turn", TURN, level=level, reach=0.35, key=f"turn:{name}"
        ).model_copy(update={"side": character.joint(name).side})
        for name in names
    ]


def turn_operations(builder: Builder, kit: Kit, names: tuple[str, ...]) -> list[Operation]:
    """Each joint held by its turning control, which stands on the joint's parent."""
    made = []
    for name in names:
        control = builder.mine(kit, f"turn:{name}")
        made += builder.standing(control, builder.parent_slot(builder.character.joint(name)))
        made.append(builder.joint_on(name, control.name))
    return made


class Turns(KitKind):
    kind = "turns"
    about = "One turning control per joint of a chain: digits, ears, jaw, anything."
    roles = {"chain": (1, 64, "from the first joint to the last")}
    options = TurnsOptions

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        return turn_controls(character, kit, kit.joints["chain"], str(kit.options["level"]))

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        return turn_operations(builder, kit, kit.joints["chain"])
