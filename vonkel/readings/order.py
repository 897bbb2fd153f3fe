"""The rig as a list to be read: what is solved, in which order, from what, and what each line costs."""

from __future__ import annotations

import time
from typing import Any

from ..core.character import Character
from ..core.rig import Clock, compile_rig
from ..core.rig.program import CLOCK
from ..core.rig.slots import Slot

TIMED_ROUNDS = 24


def order_of(character: Character) -> list[dict[str, Any]]:
    """Every operation from top to bottom: its group, sentence, what it reads and writes in words, and microseconds.

    The cost is the middle of several runs on this machine, all values at rest but a trace, so that nothing is skipped.
    """
    program = compile_rig(character)
    costs = _costs(program)
    kits = {k.name: k.kind for k in character.kits}
    rules = {r.name: r.kind for r in character.rules}
    return [
        {
            "group": o.group,
            "kind": kits.get(o.group) or rules.get(o.group, ""),
            "sentence": o.sentence,
            "reads": _words((*o.reads, *o.amends, *(Slot.value(c) for c in o.controls))),
            "writes": _words((*o.writes, *(Slot.value(c) for c in o.drives))),
            "amends": bool(o.amends),
            "timed": o.timed,
            "micros": round(1e6 * cost, 1),
        }
        for o, cost in zip(program.operations, costs, strict=True)
    ]


def _costs(program) -> list[float]:  # type: ignore[no-untyped-def]
    clock = Clock()
    runs: list[list[float]] = [[] for _ in program.operations]
    trace: dict[str, dict[str, float]] = {}
    for (control, channel), index in program.channels.items():
        rest = program.rest_values[index]
        if control != "shapes" and not any(i == index and high - low < 1e-9 for i, low, high in program.bounds):
            trace.setdefault(control, {})[channel] = rest + (1e-3 if rest == 0 else 0.0)
    for _ in range(TIMED_ROUNDS):
        state = list(program.initial)
        state[CLOCK] = clock if program.timed else None
        values = program.values(trace)
        for o, row in zip(program.operations, runs, strict=True):
            start = time.perf_counter()
            o.run(state, values)
            row.append(time.perf_counter() - start)
    return [sorted(row)[len(row) // 2] for row in runs]


KINDS = {
    "joint": "{}", "control": "control {}", "stand": "where {} stands", "goal": "the goal of {}", "scale": "the size of {}",
    "curve": "{} on its curve", "rolled": "how {} rolled", "value": "values of {}", "heading": "the heading of {}",
}  # fmt: skip


def _words(slots: tuple[str, ...]) -> list[str]:
    out = []
    for slot in dict.fromkeys(slots):
        kind, _, name = slot.partition(":")
        out.append(KINDS.get(kind, "{}").format(name))
    return list(dict.fromkeys(out))


def group_costs(rows: list[dict[str, Any]]) -> dict[str, float]:
    """Microseconds of each group."""
    out: dict[str, float] = {}
    for r in rows:
        out[r["group"]] = out.get(r["group"], 0.0) + r["micros"]
    return out
