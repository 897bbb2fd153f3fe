"""Head: one control turns the head, the links of the neck share its turn, and it may keep its heading."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from ...character import GROUND, Character, Control, Kit, Rule, Space
from ..builder import Builder
from ..frames import compose, inverse, place_of, slerp, with_place
from ..program import Operation, State, Values
from ..slots import Slot
from .base import TURN, KitKind, Options, control_at
from .fine import curve_slot, fine_operation
from .turns import turn_controls


class HeadOptions(Options):
    falloff: float = Field(0.5, gt=0, lt=1, description="where along the neck half of the turn is reached")
    leads: Literal["head", "neck"] = Field(
        "head",
        description="head: the neck shares the head's turn; neck: a control of its own bends it, and the head rides on it",
    )


class Head(KitKind):
    kind = "head"
    about = (
        "A head control whose turn the neck shares; it goes with the torso or keeps its heading; fine turns per link."
    )
    roles = {"neck": (0, 24, "the links below the head"), "head": (1, 1, "the head")}
    options = HeadOptions

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        head = character.joint(kit.joints["head"][0])
        neck = kit.joints.get("neck", ())
        main = [control_at(character, kit, head, f"{head.name} turn", TURN, grow=1.2, reach=0.35, key="head")]
        if neck and kit.options["leads"] == "neck":
            first = character.joint(neck[0])
            main.append(control_at(character, kit, first, f"{first.name} lead", TURN, grow=1.35, reach=0.2, key="neck"))
        return [*main, *turn_controls(character, kit, neck)]

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        named = {c.key: c.name for c in character.controls if c.kit == kit.name}
        return [Space(name=f"{kit.name} heading", kit=kit.name, control=named["head"], sources=(GROUND,), what="turn")]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        head, neck = kit.joints["head"][0], kit.joints.get("neck", ())
        chain = (*neck, head)
        control = builder.mine(kit, "head")
        base = builder.parent_slot(builder.character.joint(chain[0]))
        if not neck:
            return [*builder.standing(control, base), builder.joint_on(head, control.name)]
        leads = kit.options["leads"] == "neck"
        lead = builder.mine(kit, "neck") if leads else control
        heading = Slot.control(lead.name) if leads else Slot.heading(control.name)
        made = builder.standing(lead, base) if leads else builder.standing(control, base, heading)
        outs = [curve_slot(builder, n) for n in neck]
        slots = [builder.slots[n] for n in outs]
        base_slot = builder.slots[base] if base else -1
        locals_ = [builder.local(Slot.joint(chain[0]), base)]
        locals_ += [builder.local(Slot.joint(c), Slot.joint(p)) for p, c in zip(chain, chain[1:], strict=False)]
        sizes = np.cumsum([np.linalg.norm([f[3], f[7], f[11]]) for f in locals_])
        t = (sizes - sizes[0]) / max(sizes[-1] - sizes[0], 1e-12) if len(sizes) > 1 else np.ones(1)
        t = np.clip(t + 0.5 / len(t), 0, 1)
        shares = [float(x) for x in t ** (np.log(0.5) / np.log(float(kit.options["falloff"])))][: len(neck)]
        if leads:  # the neck's end goes all the way
            shares = [x / shares[-1] for x in shares]
        grip, stood = builder.slots[heading], builder.local(Slot.control(lead.name), base)
        in_base = [builder.local(Slot.joint(n), base) for n in neck]

        def run(state: State, values: Values) -> None:
            under = state[base_slot] if base_slot >= 0 else (1.0, 0, 0, 0, 0, 1.0, 0, 0, 0, 0, 1.0, 0)
            # How what leads is turned against where its base would carry it, shared out along the neck.
            turn = compose(with_place(state[grip], (0, 0, 0)), inverse(with_place(compose(under, stood), (0, 0, 0))))
            below = under
            for i, share in enumerate(shares):
                natural = compose(under, in_base[i])
                place = place_of(compose(below, locals_[i]))
                full = compose(turn, with_place(natural, (0.0, 0.0, 0.0)))
                below = with_place(slerp(natural, full, share), place)
                state[slots[i]] = below

        reads = (heading, *((base,) if base else ()))
        made.append(Operation(f"{neck[0]} to {neck[-1]} share the turn of {lead.name}", reads, tuple(outs), run))
        made.append(fine_operation(builder, kit, neck, f"{neck[0]} to {neck[-1]} take their own fine turns"))
        if leads:
            return [*made, *builder.standing(control, Slot.joint(neck[-1])), builder.joint_on(head, control.name)]
        return [*made, self._on_neck(builder, head, neck[-1], control)]

    @staticmethod
    def _on_neck(builder: Builder, head: str, below: str, control: Control) -> Operation:
        """The head's place is the neck's end, its turn the control's; the control comes along."""
        out, grip = builder.slots[Slot.joint(head)], builder.slots[Slot.control(control.name)]
        source, heading = builder.slots[Slot.joint(below)], builder.slots[Slot.heading(control.name)]
        local = builder.local(Slot.joint(head), Slot.joint(below))
        held = builder.local(Slot.joint(head), Slot.control(control.name))
        in_head = builder.local(Slot.control(control.name), Slot.joint(head))

        def run(state: State, values: Values) -> None:
            place = place_of(compose(state[source], local))
            frame = with_place(compose(state[heading], held), place)
            state[out] = frame
            state[grip] = compose(frame, in_head)

        reads = (Slot.joint(below), Slot.heading(control.name))
        writes = (Slot.joint(head), Slot.control(control.name))
        return Operation(f"{head} sits on {below}, turned by {control.name}", reads, writes, run)
