"""What chains share: fine controls on top of a solve, and turns shared out along a chain."""

from __future__ import annotations

from ...character import Kit
from ..builder import Builder
from ..frames import IDENTITY, Frame, compose, inverse, turn_in_order
from ..program import Operation, State, Values
from ..slots import Slot


def curve_slot(builder: Builder, joint: str) -> str:
    """The slot for where a chain's solve puts a joint before its fine control turns it."""
    name = Slot.curve(joint)
    builder.new_slot(name, builder.rest(Slot.joint(joint)))
    return name


def fine_operation(
    builder: Builder, kit: Kit, names: tuple[str, ...], sentence: str, along: tuple[str, ...] = ()
) -> Operation:
    """Each joint where its `curve_slot` is, turned by its fine control; what comes after it goes along.

    A joint without a fine control only goes along, and so do the controls `along` behind the last one.
    """
    rows = []
    controls: list[str] = []
    for n in names:
        c = builder.fine(kit, n)
        if c:
            controls.append(c.name)
        rows.append(
            (
                builder.slots[Slot.curve(n)],
                builder.slots[Slot.joint(n)],
                builder.slots[Slot.control(c.name)] if c else -1,
                [builder.value(c, f"turn {a}") for a in "xyz"] if c else [0, 0, 0],
                c.order if c else "xyz",
            )
        )
    behind = [builder.slots[Slot.control(c)] for c in along]

    def run(state: State, values: Values) -> None:
        moved: Frame = IDENTITY
        for curve, joint, grip, (x, y, z), order in rows:
            given = state[curve]
            frame = compose(moved, given) if moved is not IDENTITY else given
            if grip >= 0:
                a, b, c = values[x], values[y], values[z]
                if a or b or c:
                    frame = compose(frame, turn_in_order(order, a, b, c))
                    moved = compose(frame, inverse(given))
                state[grip] = frame
            state[joint] = frame
        if moved is not IDENTITY:
            for grip in behind:
                state[grip] = compose(moved, state[grip])

    writes = tuple(Slot.joint(n) for n in names) + tuple(Slot.control(n) for n in controls)
    amends = tuple(Slot.control(c) for c in along)
    reads = tuple(Slot.curve(n) for n in names)
    return Operation(sentence, reads, writes + amends, run, tuple(controls), amends=amends)
