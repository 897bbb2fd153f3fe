"""What kits are given to write their operations with."""

from __future__ import annotations

from functools import cached_property

from ..character import Character, Control, Joint, Kit
from ..character.hierarchy import descendants
from ..character.refs import SHAPES
from ..tolerances import SAME_FRAME
from .frames import IDENTITY, Frame, compose, inverse, rest_frame, turn_in_order
from .program import UNIT_SCALE, Operation, State, Values
from .slots import Slot

WHOLE = "whole"  # the control that carries the figure as a whole, where a rig has one


class Builder:
    """Hands out slots and rest frames for one character."""

    def __init__(self, character: Character, size: float) -> None:
        """size: of the figure, metres; nothing else of the mesh is the rig's business."""
        self.character, self.size = character, size
        self.slots: dict[str, int] = {}
        self.initial: list[object] = []
        self.channels: dict[tuple[str, str], int] = {}
        self.rest_values: list[float] = []
        self.bounds: list[tuple[int, float, float]] = []
        self.rests: dict[str, Frame] = {}
        self.written_with: dict[str, tuple[str, ...]] = {}  # slot → all that the kit operation writing it writes
        self.parent_of: dict[str, str | None] = {}  # what each control stands on
        self._stills: dict[float, int] = {}
        self.stands: set[str] = set()  # controls whose standing place somebody amends
        self.new_slot("clock", None)
        for joint in character.joints:
            self.new_slot(Slot.joint(joint.name), rest_frame(joint.place, joint.turn))
        for control in character.controls:
            self.new_slot(Slot.control(control.name), rest_frame(control.place, control.turn))
            for c in control.channels:
                low, high = (c.rest, c.rest) if c.locked else (c.low, c.high)
                self.new_channel(control.name, c.name, c.rest, low, high)

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
        return Slot.joint(joint.parent) if joint.parent else self.world()

    def world(self) -> str | None:
        """The slot that stands for the ground: the whole-figure control, or None where there is none."""
        return Slot.control(WHOLE) if Slot.control(WHOLE) in self.slots else None

    def local(self, slot: str, parent: str | None) -> Frame:
        """Rest frame of `slot` given in `parent`'s rest frame."""
        return compose(inverse(self.rest(parent)), self.rest(slot)) if parent else self.rest(slot)

    def mine(self, kit: Kit, key: str) -> Control:
        """The kit's own control by its key."""
        return self._by_key[(kit.name, key)]

    def optional(self, kit: Kit, key: str) -> Control | None:
        """The kit's own control by its key, where it has one: kits of earlier versions lack what came later."""
        return self._by_key.get((kit.name, key))

    def shapes_of(self, kit: Kit) -> dict[str, int]:
        """By the kit's own words: the values of the shapes that it turns on, of those that are there."""
        found = {w: self.channels.get((SHAPES, s)) for w, s in kit.shapes.items()}
        return {w: i for w, i in found.items() if i is not None}

    def fine(self, kit: Kit, joint: str) -> Control | None:
        """The kit's fine control on a joint, where it has one."""
        return self._by_key.get((kit.name, f"turn:{joint}"))

    @cached_property
    def _by_key(self) -> dict[tuple[str, str], Control]:
        return {(c.kit, c.key): c for c in self.character.controls if c.key}

    def scale_slot(self, joint: str) -> int:
        """The slot of a joint's own scale, made when first asked for."""
        return self.new_slot(Slot.scale(joint), UNIT_SCALE)

    def value(self, control: Control, channel: str, absent: float = 0.0) -> int:
        """The index of a channel's value; where the control has none, of one that stays `absent`."""
        found = self.channels.get((control.name, channel))
        return self._still(absent) if found is None else found

    def has(self, control: Control, *channels: str) -> bool:
        """Whether a control has all of these channels."""
        return all((control.name, c) in self.channels for c in channels)

    def _still(self, value: float) -> int:
        """The index of a value that nobody sets: it belongs to no control."""
        if value not in self._stills:
            self._stills[value] = len(self.rest_values)
            self.rest_values.append(value)
        return self._stills[value]

    def thing(self, name: str) -> str | None:
        """The slot of a thing that a rule speaks of; None for the ground where nothing carries the figure."""
        return self.world() if name == "ground" else name

    def carried(self, joint: str) -> list[int]:
        """Slots of the joints below one that the same operation places: they go along when it is moved afterwards."""
        together = self.written_with.get(Slot.joint(joint), ())
        return [self.slots[w] for n in descendants(self.character, joint) if (w := Slot.joint(n)) in together]

    def chain_amends(self, joint: str) -> tuple[str, ...]:
        """The slots that moving a joint afterwards changes: its own, and those of `carried`."""
        below = set(self.carried(joint))
        together = self.written_with.get(Slot.joint(joint), ())
        return (Slot.joint(joint), *(w for w in together if self.slots.get(w) in below))

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

    def control(self, control: Control, parent: str | None, into: str = "") -> Operation:
        """The control's frame: its rest place in `parent`, then its own move and turn.

        Where somebody amends what it stands on, that is a slot of its own, `stand:<name>`.  `into`: another slot than the
        control's own, for a kit that has the last word on where its control is.
        """
        slot = Slot.control(control.name)
        sentence = f"{control.name} stands on {_plain(parent)}"
        self.parent_of[control.name] = parent
        if control.name in self.stands:
            parent, local = self.stand_slot(control.name), IDENTITY
        else:
            local = self.local(slot, parent)
        written = into or slot
        out = self.new_slot(written, self.rest(slot))
        source = self.slots[parent] if parent else -1
        mx, my, mz = (self.value(control, f"move {a}") for a in "xyz")
        tx, ty, tz = (self.value(control, f"turn {a}") for a in "xyz")
        order = control.order
        can_move, can_turn = (any(self.has(control, f"{k} {a}") for a in "xyz") for k in ("move", "turn"))

        def run(state: State, values: Values) -> None:
            frame = compose(state[source], local) if source >= 0 else local
            own: Frame | None = None
            if can_turn:
                x, y, z = values[tx], values[ty], values[tz]
                if x or y or z:
                    own = turn_in_order(order, x, y, z)
            if can_move:
                x, y, z = values[mx], values[my], values[mz]
                if x or y or z:
                    r = own or IDENTITY
                    own = (r[0], r[1], r[2], x, r[4], r[5], r[6], y, r[8], r[9], r[10], z)
            state[out] = compose(frame, own) if own else frame

        return Operation(sentence, (parent,) if parent else (), (written,), run, (control.name,))

    def stand_slot(self, control: str) -> str:
        """Where a control stands before its own move and turn."""
        name = Slot.stand(control)
        self.new_slot(name, self.rest(Slot.control(control)))
        return name

    def standing(self, control: Control, parent: str | None, into: str = "") -> list[Operation]:
        """As `control`, with an operation of its own for what it stands on where somebody amends that."""
        made = [self.control(control, parent, into)]
        if control.name in self.stands:
            slot = self.stand_slot(control.name)
            made.insert(0, self.follow(slot, parent, f"{control.name} has its place on {_plain(parent)}"))
        return made

    def joint_on(self, joint: str, control: str) -> Operation:
        """A joint held by a control with the rest offset kept."""
        return self.follow(Slot.joint(joint), Slot.control(control), f"{joint} is held by {control}")


def bring_along(state: State, below: list[int], before: Frame, after: Frame) -> None:
    """What the slots in `below` hold goes as a frame went from `before` to `after`."""
    if below:
        moved = compose(after, inverse(before))
        for slot in below:
            state[slot] = compose(moved, state[slot])


def _plain(thing: str | None) -> str:
    return Slot(thing).name if thing else "the ground"
