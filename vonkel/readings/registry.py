"""The readings by name: the same ones for the page, the command line and scripts.  A new one is a function and a line."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..core.character import Character
from ..core.plans import acceptance, propose
from ..core.trials import run_trials
from .findings import findings
from .order import order_of
from .report import counts, listed, report
from .skin import behind, binding, strays_told


@dataclass(frozen=True)
class Reading:
    """`about` in one line; `read` gives what can be written as JSON: lengths in metres, angles in radians."""

    about: str
    read: Callable[[Character], Any]


def _trials(character: Character) -> list[dict[str, Any]]:
    return [c.as_dict() for c in run_trials(character, pictures=False)]


READINGS: dict[str, Reading] = {
    "counts": Reading("how much of everything there is", counts),
    "findings": Reading("what looks wrong, and the step that mends it", lambda c: listed(findings(c))),
    "plan": Reading("which plan the body asks for, and why", lambda c: propose(c).as_dict()),
    "acceptance": Reading(
        "joints that are empty, stacked, outside the flesh or on the wrong side",
        lambda c: [{"kind": f.kind, "joints": list(f.joints)} for f in acceptance(c)],
    ),
    "order": Reading("the rig as a list of operations, with what each costs", order_of),
    "trials": Reading("every trial pose measured, the worst first", _trials),
    "strays": Reading(
        "what joints hold where they have no business, and whether the trials are calmer without", strays_told
    ),
    "behind": Reading("points that stay behind in some pose, in groups", behind),
    "binding": Reading(
        "how the skin is bound through the volume: points, cells, what finer ones cost and gain, what easing changes",
        binding,
    ),
    "report": Reading("counts, findings and trials in one", lambda c: report(c, _trials(c) if c.skin else [])),
}
