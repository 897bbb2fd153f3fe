"""Muscle: a joint between two others, that bulges as a third one bends, and may jiggle."""

from __future__ import annotations

from pydantic import Field

from ...character import Channel, Character, Control, Kit, Lead, Ref, Rule, Spring
from ..builder import Builder
from ..frames import blend, compose
from ..program import Operation, State, Values
from ..rules.links import lead_reader
from ..slots import Slot
from .base import AIM, MOVE, KitKind, Options, control_at

BULGE = (Channel(name="bulge", rest=1.0, low=0.0, high=3.0),)


class MuscleOptions(Options):
    weight: float = Field(0.5, ge=0, le=1, description="how much of the second joint it follows")
    bulge: float = Field(0.25, ge=0, le=2, description="how much thicker it is when the bend has gone 90 degrees")
    jiggle: float = Field(0.0, ge=0, le=30, description="own frequency of its jiggle in Hz; 0: none")


class Muscle(KitKind):
    kind = "muscle"
    about = "A joint that follows two others by weights, thickens as a third bends, and may jiggle."
    roles = {
        "muscle": (1, 1, "the joint itself"),
        "first": (1, 1, "the first joint that it follows"),
        "second": (1, 1, "the second"),
        "flexes": (0, 1, "the joint whose bend makes it bulge"),
    }
    options = MuscleOptions
    leans = frozenset({"first", "second", "flexes"})

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        joint = character.joint(kit.joints["muscle"][0])
        return [control_at(character, kit, joint, joint.name, MOVE + BULGE, level="fine", key="muscle")]

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        hertz = float(kit.options["jiggle"])
        if hertz <= 0:
            return []
        thing = Ref.joint(kit.joints["muscle"][0])
        return [
            Spring(name=f"{kit.name} jiggle", kit=kit.name, things=(thing,), stiffness=max(hertz, 0.1), damping=0.15)
        ]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        name = kit.joints["muscle"][0]
        first, second = (Slot.joint(kit.joints[r][0]) for r in ("first", "second"))
        control = builder.mine(kit, "muscle")
        slot = Slot.joint(name)
        stand = builder.stand_slot(control.name)
        out = builder.slots[stand]
        a, b = builder.slots[first], builder.slots[second]
        in_a, in_b = builder.local(slot, first), builder.local(slot, second)
        weight = float(kit.options["weight"])

        def between(state: State, values: Values) -> None:
            state[out] = blend(compose(state[a], in_a), compose(state[b], in_b), weight)

        made = [
            Operation(f"{name} lies between {first.name} and {second.name}", (first, second), (stand,), between),
            builder.control(control, stand),
            builder.joint_on(name, control.name),
        ]
        scale = builder.scale_slot(name)
        strength = builder.value(control, "bulge")
        axis = AIM[builder.character.joint(name).aim[-1]]
        if not kit.joints.get("flexes"):
            return made
        reads, controls, bent = lead_reader(builder, Lead(kind="bend", thing=Ref.joint(kit.joints["flexes"][0])))
        amount = float(kit.options["bulge"])

        def bulge(state: State, values: Values) -> None:
            grown = 1.0 + amount * values[strength] * max(bent(state, values), 0.0) / 1.5708
            sides = [grown, grown, grown]
            sides[axis] = 1.0
            state[scale] = (sides[0], sides[1], sides[2])

        words = f"{name} bulges as {kit.joints['flexes'][0]} bends"
        made.append(Operation(words, reads, (Slot.scale(name),), bulge, (*controls, control.name)))
        return made

    def stands(self, builder: Builder, kit: Kit) -> set[str]:
        return {builder.mine(kit, "muscle").name}
