"""What kits are given to write their operations with."""

from __future__ import annotations

from ..character import Character, Control, Joint
from ..tolerances import SAME_FRAME
from .frames import IDENTITY, Frame, compose, inverse, rest_frame, turn_in_order
from .program import Operation, State, Values

WHOLE = "whole"  # the control that carries the figure as a whole, where a rig has one


class Builder:
    """Hands out slots and rest frames for one character."""

    def __init__(self, character: Character) -> None:
        self.character = character
        self.slots: dict[str, int] = {}
        self.initial: list[object] = []
        self.channels: dict[tuple[str, str], int] = {}
        self.rest_values: list[float] = []
        self.bounds: list[tuple[int, float, float]] = []
        self.rests: dict[str, Frame] = {}
        for joint in character.joints:
            self.new_slot(f"joint:{joint.name}", rest_frame(joint.place, joint.turn))
        for control in character.controls:
            self.new_slot(f"control:{control.name}", rest_frame(control.place, control.turn))
            for c in control.channels:
                self.new_channel(control.name, c.name, c.rest, c.low, c.high)

    def new_slot(self, name: str, initial: object) -> int:
        if name not in self.slots:
            self.slots[name] = len(self.initial)
            self.initial.append(initial)
            if isinstance(initial, tuple) and len(initial) == 12:
                self.rests[name] = initial
        return self.slots[name]

    def new_channel(self, control: str, channel: str, rest: float, low: float | None, high: float | None) -> None:
        index = len(self.rest_values)
        self.channels[(control, channel)] = index
        self.rest_values.append(rest)
        if low is not None or high is not None:
            self.bounds.append((index, -1e30 if low is None else low, 1e30 if high is None else high))

    def rest(self, slot: str) -> Frame:
        return self.rests[slot]

    def parent_slot(self, joint: Joint) -> str | None:
        return f"joint:{joint.parent}" if joint.parent else self.world()

    def world(self) -> str | None:
        """The slot that stands for the ground: the whole-figure control, or None where there is none."""
        return f"control:{WHOLE}" if f"control:{WHOLE}" in self.slots else None

    def local(self, slot: str, parent: str | None) -> Frame:
        """Rest frame of `slot` given in `parent`'s rest frame."""
        return compose(inverse(self.rest(parent)), self.rest(slot)) if parent else self.rest(slot)

    # -- operations that many kits share -------------------------------------------------------------------------
    def follow(self, child: str, parent: str | None, sentence: str) -> Operation:
        """`child` keeps its rest place in `parent`."""
        out, local = self.slots[child], self.local(child, parent)
        if parent is None:

            def stay(state: State, values: Values) -> None:
                state[out] = local

            return Operation(sentence, (), (child,), stay)
        source = self.slots[parent]
        if all(abs(a - b) < SAME_FRAME for a, b in zip(local, IDENTITY, strict=True)):

            def same(state: State, values: Values) -> None:
                state[out] = state[source]

            return Operation(sentence, (parent,), (child,), same)

        def run(state: State, values: Values) -> None:
            state[out] = compose(state[source], local)

        return Operation(sentence, (parent,), (child,), run)

    def control(self, control: Control, parent: str | None) -> Operation:
        """The control's frame: its rest place in `parent`, then its own move and turn."""
        slot = f"control:{control.name}"
        out, local = self.slots[slot], self.local(slot, parent)
        source = self.slots[parent] if parent else -1
        moves = [self.channels.get((control.name, f"move {a}"), -1) for a in "xyz"]
        turns = [self.channels.get((control.name, f"turn {a}"), -1) for a in "xyz"]
        mx, my, mz = moves
        tx, ty, tz = turns
        order = control.order
        can_move, can_turn = any(i >= 0 for i in moves), any(i >= 0 for i in turns)

        def run(state: State, values: Values) -> None:
            frame = compose(state[source], local) if source >= 0 else local
            own: Frame | None = None
            if can_turn:
                x = values[tx] if tx >= 0 else 0.0
                y = values[ty] if ty >= 0 else 0.0
                z = values[tz] if tz >= 0 else 0.0
                if x or y or z:
                    own = turn_in_order(order, x, y, z)
            if can_move:
                x = values[mx] if mx >= 0 else 0.0
                y = values[my] if my >= 0 else 0.0
                z = values[mz] if mz >= 0 else 0.0
                if x or y or z:
                    r = own or IDENTITY
                    own = (r[0], r[1], r[2], x, r[4], r[5], r[6], y, r[8], r[9], r[10], z)
            state[out] = compose(frame, own) if own else frame

        where = parent.split(":", 1)[1] if parent else "the ground"
        return Operation(
            f"{control.name} stands on {where}", (parent,) if parent else (), (slot,), run, (control.name,)
        )

    def joint_on(self, joint: str, control: str) -> Operation:
        """A joint held by a control with the rest offset kept."""
        return self.follow(f"joint:{joint}", f"control:{control}", f"{joint} is held by {control}")
