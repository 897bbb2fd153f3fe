"""Twist: extra joints along a bone that share out the twist between its ends, and a bend for style."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...character import Character, Control, Kit
from ...errors import BadParameters
from ...geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ...joints.orient import bone_frame
from ..builder import Builder
from ..frames import ORIGIN, add, compose, frame_about, inverse, place_of, rotate, scaled, twist_angle, with_place
from ..outlines import outline_of, slice_outline
from ..program import UNIT_SCALE, Operation, State, Values
from ..rules.links import OWN
from ..slots import Slot
from .base import AIM, MOVE, KitKind, Options, gives


class TwistOptions(Options):
    comes_from: Literal["end", "start"] = (
        "end"  # end: a hand twists its forearm; start: a shoulder twists the upper arm
    )


class Twist(KitKind):
    kind = "twist"
    about = "Joints along a bone that share out its twist, right at both ends at once; a control bends the bone."
    roles = {
        "from": (1, 1, "the joint where the bone begins"),
        "to": (1, 1, "the joint where it ends"),
        "twists": (1, 12, "the joints between, in order"),
    }
    options = TwistOptions
    leans = frozenset({"from", "to"})

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        start, end = kit.joints["from"][0], kit.joints["to"][0]
        wrong = [n for n in kit.joints["twists"] if character.joint(n).parent != start]
        if character.joint(end).parent != start or wrong:
            raise BadParameters(
                f"{', '.join((end, *kit.joints['twists']))} must all hang from {start}.", kit.name,
                "Add twist joints to the bone first.",
            )  # fmt: skip

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        joint = character.joint(kit.joints["from"][0])
        a, b = np.array(joint.place), np.array(character.joint(kit.joints["to"][0]).place)
        middle = 0.5 * (a + b)
        axes = bone_frame(joint)
        own = matrix_from_quaternion(joint.turn)
        line = np.array(slice_outline(character, middle, axes, 1.3)).reshape(-1, 3) @ axes.T @ own
        return [
            Control(
                name=f"{joint.name} bend", kit=kit.name, key="bend", side=kit.side, level="fine",
                place=tuple(map(float, middle)), turn=tuple(map(float, quaternion_from_matrix(own))),
                channels=MOVE, outline=outline_of(line),
            )
        ]  # fmt: skip

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        start, end, twists = kit.joints["from"][0], kit.joints["to"][0], kit.joints["twists"]
        joint = builder.character.joint(start)
        control = builder.mine(kit, "bend")
        axis = OWN[joint.aim]
        from_slot, to_slot = builder.slots[Slot.joint(start)], builder.slots[Slot.joint(end)]
        parent = builder.parent_slot(joint)
        parent_slot = builder.slots[parent] if parent else -1
        stood = builder.local(Slot.joint(start), parent)
        end_rest = with_place(builder.local(Slot.joint(end), Slot.joint(start)), ORIGIN)
        end_back = inverse(end_rest)
        locals_ = [builder.local(Slot.joint(n), Slot.joint(start)) for n in twists]
        outs = [builder.slots[Slot.joint(n)] for n in twists]
        from_end = kit.options["comes_from"] == "end"
        n = len(twists)
        # From the end: the bone's own joint keeps its skin untwisted, the last twist joint turns with the end.
        # From the start: the first twist joint undoes the whole twist, the bone's own joint has all of it.
        shares = [(i + 1) / n if from_end else i / n - 1.0 for i in range(n)]
        spots = twist_places(n, from_end)
        bends = [4.0 * s * (1.0 - s) for s in spots]
        moves = [builder.value(control, f"move {a}") for a in "xyz"]
        # A limb that lengthens its bone takes the twist joints along, and they lengthen with it.
        long_name = Slot.scale(start)
        lengthening = any(
            gives(k, "lengthens") and start in {n for names in k.joints.values() for n in names}
            for k in builder.character.kits
        )
        long_slot = builder.scale_slot(start) if lengthening else -1
        own_scales = [builder.scale_slot(n) for n in twists] if long_slot >= 0 else []
        along = AIM[joint.aim[-1]]

        def run(state: State, values: Values) -> None:
            frame = state[from_slot]
            if from_end:
                turn = compose(
                    compose(inverse(with_place(frame, ORIGIN)), with_place(state[to_slot], ORIGIN)), end_back
                )
            else:
                base = compose(state[parent_slot], stood) if parent_slot >= 0 else stood
                turn = compose(inverse(with_place(base, ORIGIN)), with_place(frame, ORIGIN))
            angle = twist_angle(turn, axis)
            x, y, z = (values[m] for m in moves)
            longer = state[long_slot] if long_slot >= 0 else UNIT_SCALE
            for slot in own_scales:
                state[slot] = longer
            for out, local, share, bend in zip(outs, locals_, shares, bends, strict=True):
                own = compose(frame_about(axis, share * angle), with_place(local, ORIGIN))
                at = place_of(local)
                if longer is not UNIT_SCALE:
                    at = scaled(at, longer[along])
                placed = compose(frame, with_place(own, at))
                if x or y or z:
                    placed = with_place(placed, add(place_of(placed), rotate(frame, (x, y, z)), bend))
                state[out] = placed

        source = Slot.joint(end) if from_end else parent
        reads = (Slot.joint(start), *((source,) if source else ()), *((long_name,) if long_slot >= 0 else ()))
        writes = tuple(Slot.joint(t) for t in twists) + tuple(Slot.scale(t) for t in twists if long_slot >= 0)
        words = f"{twists[0]} to {twists[-1]} share the twist that comes from {end if from_end else 'above'}"
        return [
            *builder.standing(control, Slot.joint(start)),
            Operation(words, reads, writes, run, (control.name,)),
        ]


def twist_places(count: int, from_end: bool) -> list[float]:
    """Where along the bone its twist joints stand, as shares of it: the bone is cut into count + 1 equal pieces."""
    return [(i + 1) / (count + 1) if from_end else i / (count + 1) for i in range(count)]
