"""From a character to the list of operations that moves it."""

from __future__ import annotations

import heapq

from ..character import Character
from ..errors import RigLoop, StepRefused
from ..recent import Recent
from .builder import Builder
from .program import UNIT_SCALE, Operation, RigProgram

_programs: Recent[str, RigProgram] = Recent(8)


def compile_rig(character: Character) -> RigProgram:
    """The program of a character's rig.

    Raises RigLoop naming the operations that wait for one another, and StepRefused where two operations write
    the same thing.
    """
    key = character.model_dump_json(include={"joints", "kits", "controls", "shapes"})
    return _programs.get(key, lambda: _compile(character))


def _compile(character: Character) -> RigProgram:
    from .kits import KINDS

    builder = Builder(character)
    operations: list[Operation] = []
    for kit in character.kits:
        operations += KINDS[kit.kind].operations(builder, kit)
    written = {w for o in operations for w in o.writes}
    for joint in character.joints:
        if f"joint:{joint.name}" not in written:
            parent = builder.parent_slot(joint)
            words = f"{joint.name} follows {joint.parent}" if joint.parent else f"{joint.name} stays on the ground"
            operations.append(builder.follow(f"joint:{joint.name}", parent, words))
    for shape in character.shapes:
        builder.new_channel("shapes", shape.name, 0.0, shape.low, shape.high)
    for o in operations:
        for w in o.writes:
            if w.startswith("scale:"):
                builder.new_slot(w, UNIT_SCALE)
    return RigProgram(
        operations=tuple(in_order(operations)),
        slots=dict(builder.slots),
        initial=tuple(builder.initial),
        channels=dict(builder.channels),
        rest_values=tuple(builder.rest_values),
        bounds=tuple(builder.bounds),
        joint_names=tuple(j.name for j in character.joints),
        control_names=tuple(c.name for c in character.controls),
        shape_names=tuple(s.name for s in character.shapes),
        orders={c.name: c.order for c in character.controls},
    )


def in_order(operations: list[Operation]) -> list[Operation]:
    """Each operation after those that write what it reads; otherwise as given."""
    writer: dict[str, int] = {}
    for i, o in enumerate(operations):
        for w in o.writes:
            if w in writer:
                raise StepRefused(
                    f"Two operations move {w.split(':', 1)[-1]}.",
                    f"“{operations[writer[w]].sentence}” and “{o.sentence}”",
                    "Take one of the two kits off.",
                )
            writer[w] = i
    waits: list[set[int]] = [{writer[r] for r in o.reads if r in writer} for o in operations]
    followers: list[list[int]] = [[] for _ in operations]
    for i, awaited in enumerate(waits):
        for j in awaited:
            followers[j].append(i)
    ready = [i for i, w in enumerate(waits) if not w]
    heapq.heapify(ready)
    order: list[int] = []
    while ready:
        i = heapq.heappop(ready)
        order.append(i)
        for j in followers[i]:
            waits[j].discard(i)
            if not waits[j]:
                heapq.heappush(ready, j)
    if len(order) < len(operations):
        raise _loop_error(operations, waits)
    return [operations[i] for i in order]


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
