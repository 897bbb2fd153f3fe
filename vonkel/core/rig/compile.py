"""From a character to the list of operations that moves it."""

from __future__ import annotations

import heapq
from dataclasses import replace

from ..character import Character
from ..derived import derived
from ..errors import RigLoop, StepRefused
from .blends import GROUP, blend_operation, board_operations
from .builder import WHOLE, Builder
from .kits import KINDS, with_all_options
from .program import UNIT_SCALE, Operation, RigProgram
from .rules import rule_operations
from .slots import Slot

PLAIN = "plain joints"  # the group of joints that no kit moves


def compile_rig(character: Character, off: frozenset[str] = frozenset()) -> RigProgram:
    """The program of a character's rig; `off` are sentences of operations to leave out, to see what they do.

    Raises RigLoop naming the operations that wait for one another, and StepRefused where two operations write
    the same thing.
    """
    if off:
        return _compile(character, character.size, off)
    return _program(character, character.size)


@derived("joints", "kits", "controls", "rules", "order", "shapes", "boards", most=16)
def _program(character: Character, size: float) -> RigProgram:
    return _compile(character, size, frozenset())


def _compile(character: Character, size: float, off: frozenset[str]) -> RigProgram:
    builder = Builder(character, size)
    for rule in character.rules:
        if rule.on:
            builder.stands.update(rule.stands())
    for kit in character.kits:
        builder.stands.update(KINDS[kit.kind].stands(builder, kit))
    for shape in character.shapes:
        builder.new_channel("shapes", shape.name, 0.0, shape.low, shape.high)
    operations: list[Operation] = []
    for kit in character.kits:
        operations += [replace(o, group=kit.name) for o in KINDS[kit.kind].operations(builder, with_all_options(kit))]
    written = {w for o in operations for w in o.writes if w not in o.amends}
    for joint in character.joints:
        if Slot.joint(joint.name) not in written:
            parent = builder.parent_slot(joint)
            words = f"{joint.name} follows {joint.parent}" if joint.parent else f"{joint.name} stays on the ground"
            operations.append(replace(builder.follow(Slot.joint(joint.name), parent, words), group=PLAIN))
    builder.written_with = {w: o.writes for o in operations for w in o.writes if w not in o.amends}
    for rule in character.rules:
        if rule.on:
            operations += [replace(o, group=rule.kit or rule.name) for o in rule_operations(builder, rule)]
    for board in character.boards:
        operations += board_operations(builder, board)
    blended = blend_operation(builder, character.shapes)
    if blended is not None:
        operations.append(blended)
    if off:
        operations = [_left_out(builder, o) if o.sentence in off else o for o in operations]
    for o in operations:
        for w in o.writes:
            if Slot(w).kind == "scale":
                builder.new_slot(w, UNIT_SCALE)
    return RigProgram(
        operations=tuple(in_order(operations, character.order)),
        slots=dict(builder.slots),
        initial=tuple(builder.initial),
        channels=dict(builder.channels),
        rest_values=tuple(builder.rest_values),
        bounds=tuple(builder.bounds),
        joint_names=tuple(j.name for j in character.joints),
        control_names=tuple(c.name for c in character.controls),
        shape_names=tuple(s.name for s in character.shapes),
        orders={c.name: c.order for c in character.controls},
        size_value=builder.channels.get((WHOLE, "size"), -1),
        whole_slot=builder.slots.get(Slot.control(WHOLE), -1),
    )


def _left_out(builder: Builder, operation: Operation) -> Operation:
    """What stands in for an operation that is switched off: all it writes keeps its rest place in its parent."""
    if operation.amends or operation.drives:
        return replace(operation, run=lambda state, values: None, timed=False)
    follow, reads = [], set()
    for w in operation.writes:
        kind, name = Slot(w).kind, Slot(w).name
        if kind == "joint":
            parent = builder.parent_slot(builder.character.joint(name))
        elif kind in ("control", "stand"):
            parent = builder.world() if w != Slot.control(WHOLE) else None
        else:
            continue
        follow.append(builder.follow(w, parent, "").run)
        reads.update({parent} - {None} - set(operation.writes))

    def run(state, values):  # type: ignore[no-untyped-def]
        for f in follow:
            f(state, values)

    return replace(operation, run=run, reads=tuple(str(r) for r in reads), controls=())


def in_order(operations: list[Operation], order: tuple[str, ...] = ()) -> list[Operation]:
    """Each operation after those that write what it reads; otherwise by the groups in `order`, then as given.

    A group is kept together as far as that goes.  What amends a slot comes after what writes it and before what reads
    it; several amend it in the order of their groups.
    """
    last = len(order)
    rank = {g: i for i, g in enumerate(order)} | {GROUP: last + 1}  # after all that lead shapes
    rows = sorted(range(len(operations)), key=lambda i: (rank.get(operations[i].group, last), i))
    operations = [operations[i] for i in rows]
    writer: dict[str, int] = {}
    changers: dict[str, list[int]] = {}
    for i, o in enumerate(operations):
        for w in (*o.writes, *(Slot.value(c) for c in o.drives)):
            if w in o.amends or Slot(w).kind == "value":
                changers.setdefault(w, []).append(i)
                continue
            if w in writer:
                raise StepRefused(
                    f"Two operations move {Slot(w).name}.",
                    f"“{operations[writer[w]].sentence}” and “{o.sentence}”",
                    "Take one of the two kits off.",
                )
            writer[w] = i
    waits: list[set[int]] = []
    for i, o in enumerate(operations):
        awaited: set[int] = set()
        for r in (*o.reads, *(Slot.value(c) for c in o.controls), *o.amends, *(Slot.value(c) for c in o.drives)):
            if r in writer:
                awaited.add(writer[r])
            changing = changers.get(r, [])
            awaited.update(changing[: changing.index(i)] if i in changing else changing)
        waits.append(awaited - {i})
    followers: list[list[int]] = [[] for _ in operations]
    for i, awaited in enumerate(waits):
        for j in awaited:
            followers[j].append(i)
    ready = [i for i, w in enumerate(waits) if not w]
    heapq.heapify(ready)
    order_found: list[int] = []
    now = ""
    while ready:
        # The next of the same group, where one is ready: a list that reads kit by kit.
        same = [i for i in ready if operations[i].group == now]
        if same:
            i = min(same)
            ready.remove(i)
            heapq.heapify(ready)
        else:
            i = heapq.heappop(ready)
        now = operations[i].group
        order_found.append(i)
        for j in followers[i]:
            waits[j].discard(i)
            if not waits[j]:
                heapq.heappush(ready, j)
    if len(order_found) < len(operations):
        raise _loop_error(operations, waits)
    return [operations[i] for i in order_found]


def _loop_error(operations: list[Operation], waits: list[set[int]]) -> RigLoop:
    here = next(i for i, w in enumerate(waits) if w)
    seen: list[int] = []
    while here not in seen:
        seen.append(here)
        here = min(waits[here])
    names = [operations[i].sentence for i in seen[seen.index(here) :]]
    return RigLoop(
        "The rig goes in a circle: " + "; ".join(f"“{n}”" for n in names) + ".",
        todo="Let one of them follow something else.",
    )
