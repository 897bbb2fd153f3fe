"""Body: the whole figure, the body's middle, and hips and chest that move and turn without each other."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from ...character import Channel, Character, Control, Kit
from ..builder import WHOLE, Builder
from ..frames import (
    Frame,
    add,
    compose,
    inverse,
    length,
    place_of,
    rotate,
    slerp,
    sub,
    swing,
    turn_in_order,
    unit,
    with_place,
)
from ..outlines import ring
from ..program import Operation, State, Values
from ..slots import Slot
from .base import MOVE, SIZE, TURN, KitKind, Options, control_at, lengthened
from .fine import curve_slot, fine_operation
from .turns import turn_controls

CHEST = (
    Channel(name="stretch", rest=0.0, low=0.0, high=1.0),
    Channel(name="volume", rest=1.0, low=0.0, high=1.0),
)


class BodyOptions(Options):
    falloff: float = Field(
        0.5, gt=0, lt=1, description="where along the spine the turn is half and half (0: near the hips, 1: the chest)"
    )


def whole_control(character: Character, kit: Kit) -> list[Control]:
    """The control of the whole figure's place, turn and size, unless another kit has it."""
    if any(c.name == WHOLE and c.kit != kit.name for c in character.controls):
        return []
    low = character.points[:, 1].min() if len(character.points) else 0.0
    outline = ring(0.28 * character.size)
    place = (0.0, float(low), 0.0)
    return [Control(name=WHOLE, kit=kit.name, key=WHOLE, place=place, channels=MOVE + TURN + SIZE, outline=outline)]


def whole_operations(builder: Builder, kit: Kit) -> list[Operation]:
    mine = next((c for c in builder.character.controls if c.name == WHOLE and c.kit == kit.name), None)
    return [builder.control(mine, None)] if mine else []


class Whole(KitKind):
    kind = "whole"
    about = "The whole figure's place, turn and size in one control."
    roles = {}

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        return whole_control(character, kit)

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        return whole_operations(builder, kit)


class Body(KitKind):
    kind = "body"
    provides = frozenset({"lengthens", "trunk"})
    about = "Whole-figure, body, hips and chest controls; the links between share hips' and chest's turns, and stretch."
    roles = {"hips": (1, 1, "the lowest joint"), "spine": (1, 24, "the links above it, the chest last")}
    options = BodyOptions

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        spine = kit.joints["spine"]
        hips, chest = character.joint(kit.joints["hips"][0]), character.joint(spine[-1])
        # The body's line lies round the waist: on the hips it would lie on theirs.
        waist = (character.joint(spine[0] if len(spine) < 3 else spine[1]), 0.6)
        body = control_at(character, kit, hips, "body", MOVE + TURN, grow=1.45, upright=True, key="body", towards=waist)
        lowered = control_at(character, kit, hips, "hips move", MOVE + TURN, grow=1.15, upright=True, key="hips")
        upper = control_at(character, kit, chest, "chest turn", MOVE + TURN + CHEST, grow=1.12, key="chest")
        return [*whole_control(character, kit), body, lowered, upper, *turn_controls(character, kit, spine[:-1])]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        hips, spine = kit.joints["hips"][0], kit.joints["spine"]
        body = builder.mine(kit, "body")
        lowered, chest = builder.mine(kit, "hips"), builder.mine(kit, "chest")
        made = [
            *whole_operations(builder, kit),
            *builder.standing(body, builder.world()),
            *builder.standing(lowered, Slot.control(body.name)),
            builder.joint_on(hips, lowered.name),
            *builder.standing(chest, Slot.control(body.name)),
        ]
        fine = any(builder.fine(kit, n) for n in spine)
        made.append(self._spine(builder, kit, hips, spine, lowered, chest, fine))
        if fine:
            words = f"{spine[0]} to {spine[-1]} take their own fine turns"
            made.append(fine_operation(builder, kit, spine, words, (chest.name,)))
        return made

    @staticmethod
    def _spine(
        builder: Builder, kit: Kit, hips: str, spine: tuple[str, ...], lowered: Control, chest: Control, fine: bool
    ) -> Operation:
        """Each link stands on the one below and is turned between "as the hips" and "as the chest control".

        Where the chest is moved, the links above the first lean that way, and lengthen as far as stretch lets them.
        """
        outs = [curve_slot(builder, n) if fine else Slot.joint(n) for n in spine]
        slots = [builder.slots[n] for n in outs]
        chest_slot, hips_slot = builder.slots[Slot.control(chest.name)], builder.slots[Slot.control(lowered.name)]
        below_slot = builder.slots[Slot.joint(hips)]
        chain = (hips, *spine)
        locals_ = [builder.local(Slot.joint(c), Slot.joint(p)) for p, c in zip(chain, chain[1:], strict=False)]
        heights = np.cumsum([np.linalg.norm([f[3], f[7], f[11]]) for f in locals_])
        t = heights / heights[-1]
        middle = min(max(float(kit.options["falloff"]), 0.05), 0.95)
        shares = [float(x) for x in t ** (np.log(0.5) / np.log(middle))]
        # How each link sits at rest, read from the chest control and from the hips control.
        in_control = [builder.local(Slot.joint(n), Slot.control(chest.name)) for n in spine]
        in_hips = [builder.local(Slot.joint(n), Slot.control(lowered.name)) for n in spine]
        scales = [builder.scale_slot(n) for n in spine[:-1]]
        longer = [lengthened(builder.character.joint(n)) for n in spine[:-1]]
        stretch, volume = builder.value(chest, "stretch"), builder.value(chest, "volume")
        moves = [builder.value(chest, f"move {a}") for a in "xyz"]
        can_move = builder.has(chest, "move x", "move y", "move z") and len(spine) > 1
        last = len(spine) - 1

        def run(state: State, values: Values) -> None:
            chest_frame, hips_frame = state[chest_slot], state[hips_slot]
            below: Frame = state[below_slot]
            frames: list[Frame] = []
            for i, share in enumerate(shares):
                place = place_of(compose(below, locals_[i]))
                as_hips = compose(hips_frame, in_hips[i])
                as_chest = compose(chest_frame, in_control[i])
                below = with_place(slerp(as_hips, as_chest, share), place)
                frames.append(below)
            factor = 1.0
            if can_move:
                x, y, z = (values[m] for m in moves)
                if x or y or z:
                    # The chest control's own move, in the axes it stands in, is where its top is wanted.
                    root, top = place_of(frames[0]), place_of(frames[last])
                    stood = compose(chest_frame, _unturned(values, turns, order))
                    wanted = add(top, rotate(stood, (x, y, z)))
                    way, now = sub(top, root), sub(wanted, root)
                    if length(now) > 1e-9:
                        factor = 1.0 + (length(now) / length(way) - 1.0) * values[stretch]
                        lean = swing(unit(way), unit(now))
                        for i in range(last + 1):
                            q = add(root, rotate(lean, sub(place_of(frames[i]), root)), factor)
                            frames[i] = with_place(compose(lean, frames[i]) if i < last else frames[i], q)
            for slot, frame in zip(slots, frames, strict=True):
                state[slot] = frame
            keep = values[volume]
            for slot, long in zip(scales, longer, strict=True):
                state[slot] = long(factor, keep)
            state[chest_slot] = with_place(chest_frame, place_of(frames[last]))

        turns, order = [builder.value(chest, f"turn {a}") for a in "xyz"], chest.order
        chest_slot_name = Slot.control(chest.name)
        writes = (*outs, *(Slot.scale(n) for n in spine[:-1]), chest_slot_name)
        reads = (Slot.joint(hips), Slot.control(lowered.name))
        words = f"{spine[0]} to {spine[-1]} turn from hips to chest"
        return Operation(words, reads, writes, run, (chest.name,), amends=(chest_slot_name,))


def _unturned(values: Values, turns: list[int], order: str) -> Frame:
    """The inverse of a control's own turn."""
    x, y, z = (values[t] for t in turns)
    return inverse(turn_in_order(order, x, y, z))
