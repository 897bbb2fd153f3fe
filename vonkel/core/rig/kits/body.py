"""Body: the whole figure, the body's middle, and hips and chest that turn without each other."""

from __future__ import annotations

import numpy as np

from ...character import Character, Control, Kit
from ..builder import WHOLE, Builder
from ..frames import compose, place_of, slerp, with_place
from ..outlines import ring
from ..program import Operation, State, Values
from .base import MOVE, TURN, KitKind, Options, control_at


class BodyOptions(Options):
    falloff: float = 0.5  # where along the spine the turn is shared half and half (0: near the hips, 1: the chest)


class Body(KitKind):
    kind = "body"
    about = "Whole-figure, body, hips and chest controls; the links between share hips' and chest's turns."
    roles = {"hips": (1, 1, "the lowest joint"), "spine": (1, 24, "the links above it, the chest last")}
    options = BodyOptions

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        hips = character.joint(kit.joints["hips"][0])
        chest = character.joint(kit.joints["spine"][-1])
        size = character.size
        low = character.points[:, 1].min() if len(character.points) else 0.0
        ground = Control(
            name=WHOLE, kit=kit.name, place=(0.0, float(low), 0.0), channels=MOVE + TURN, outline=ring(0.28 * size)
        )
        body = control_at(character, kit, hips, "body", MOVE + TURN, grow=1.45, upright=True)
        lowered = control_at(character, kit, hips, "hips move", MOVE + TURN, grow=1.15, upright=True)
        upper = control_at(character, kit, chest, "chest turn", TURN, grow=1.12)
        return [ground, body, lowered, upper]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        named = builder.character.control_named
        hips, spine = kit.joints["hips"][0], kit.joints["spine"]
        return [
            builder.control(named[WHOLE], None),
            builder.control(named["body"], f"control:{WHOLE}"),
            builder.control(named["hips move"], "control:body"),
            builder.joint_on(hips, "hips move"),
            self._spine(builder, kit, hips, spine),
        ]

    @staticmethod
    def _spine(builder: Builder, kit: Kit, hips: str, spine: tuple[str, ...]) -> Operation:
        """Each link stands on the one below and is turned between "as the hips" and "as the chest control"."""
        chest_control = builder.character.control_named["chest turn"]
        inner = builder.control(chest_control, "control:body")
        control_slot, hips_control = builder.slots["control:chest turn"], builder.slots["control:hips move"]
        chain = (hips, *spine)
        slots = [builder.slots[f"joint:{n}"] for n in chain]
        locals_ = [builder.local(f"joint:{c}", f"joint:{p}") for p, c in zip(chain, chain[1:], strict=False)]
        heights = np.cumsum([np.linalg.norm([f[3], f[7], f[11]]) for f in locals_])
        t = heights / heights[-1]
        middle = min(max(float(kit.options["falloff"]), 0.05), 0.95)
        shares = [float(x) for x in t ** (np.log(0.5) / np.log(middle))]
        # How each link sits at rest, read from the chest control and from the hips control.
        in_control = [builder.local(f"joint:{n}", "control:chest turn") for n in spine]
        in_hips = [builder.local(f"joint:{n}", "control:hips move") for n in spine]

        def run(state: State, values: Values) -> None:
            inner.run(state, values)
            chest_frame, hips_frame = state[control_slot], state[hips_control]
            below = state[slots[0]]
            for i, share in enumerate(shares):
                place = place_of(compose(below, locals_[i]))
                as_hips = compose(hips_frame, in_hips[i])
                as_chest = compose(chest_frame, in_control[i])
                below = with_place(slerp(as_hips, as_chest, share), place)
                state[slots[i + 1]] = below
            state[control_slot] = with_place(chest_frame, place_of(below))

        writes = tuple(f"joint:{n}" for n in spine) + ("control:chest turn",)
        reads = (f"joint:{hips}", "control:body", "control:hips move")
        return Operation(f"{spine[0]} to {spine[-1]} turn from hips to chest", reads, writes, run, ("chest turn",))
