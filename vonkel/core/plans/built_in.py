"""The built-in plans: one for each body type."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

import numpy as np
from pydantic import BaseModel, ValidationError

from ..character import Character
from ..errors import BadParameters, NotFound, StepRefused, first_fault
from .biped import BipedOptions, sketch_biped
from .carrying import carried
from .chain import ChainPlanOptions, sketch_chain
from .finned import FinnedOptions, sketch_finned
from .head import HeadPlanOptions, sketch_head
from .many_legged import ManyLeggedOptions, sketch_many_legged
from .quadruped import QuadrupedOptions, sketch_quadruped
from .sketch import Sketch
from .winged import WingedOptions, sketch_winged

log = logging.getLogger("vonkel.plans")
PLANS: dict[str, tuple[str, type[BaseModel], Callable[..., Sketch]]] = {
    "biped": ("Stands on two legs: spine, neck, head, arms, hands, legs, feet, and a tail where there is one.", BipedOptions, sketch_biped),
    "quadruped": ("Stands on four legs, flat-footed, on toes or on hooves: trunk along z, neck, head, tail.", QuadrupedOptions, sketch_quadruped),
    "winged": ("Wings spread to the sides, with fingers or without, on two legs.", WingedOptions, sketch_winged),
    "many-legged": ("Two or more pairs of legs spread to the sides, head, abdomen, feelers.", ManyLeggedOptions, sketch_many_legged),
    "finned": ("A long trunk with flippers or fins.", FinnedOptions, sketch_finned),
    "chain": ("One long chain: larva, snake, trunk, rope.", ChainPlanOptions, sketch_chain),
    "head": ("A head alone: base, neck, jaw, eyes, ears.", HeadPlanOptions, sketch_head),
}  # fmt: skip


def check_plan(plan: str) -> None:
    """Raises NotFound for what is no built-in plan."""
    if plan not in PLANS:
        raise NotFound(f"There is no plan “{plan}”.", "", f"There are: {', '.join(PLANS)}.")


def sketch_of(character: Character, plan: str, options: dict[str, Any]) -> Sketch:
    """A plan's joints as the shape alone puts them.  Raises NotFound, BadParameters and StepRefused."""
    check_plan(plan)
    _, model, draw = PLANS[plan]
    try:
        checked = model(**options)
    except ValidationError as error:
        field, why = first_fault(error, "options")
        raise BadParameters(f"“{field}”: {why}.", plan) from None
    try:
        return draw(character, checked)
    except (IndexError, ValueError, ArithmeticError, np.linalg.LinAlgError) as error:
        # A shape may lack whatever the plan looks for, in more ways than its own refusals foresee.
        log.info("the plan %s can't read %s", plan, character.name, exc_info=error)
        raise StepRefused(
            f"The plan “{plan}” can't make out this shape.", character.name,
            "Choose another plan, or draw the joints by hand.",
        ) from None  # fmt: skip


def landmarks_of(character: Character, plan: str, options: dict[str, Any]) -> dict[str, tuple[str, np.ndarray]]:
    """What a plan found by the shape, for the rigger to put right: name → (its words, place (3,) metres)."""
    sketch = sketch_of(character, plan, options)
    return {n: (word, sketch.found[n][1]) for n, word in sketch.marks.items()}


def lay_plan(
    character: Character, plan: str, options: dict[str, Any], landmarks: dict[str, tuple[float, float, float]] | None = None
) -> Character:  # fmt: skip
    """A plan's joints fitted to the character's mesh, in place of any joints there are.

    landmarks: those put right by hand; the joints between them follow.
    """
    sketch = sketch_of(character, plan, options)
    given = landmarks or {}
    unknown = set(given) - set(sketch.marks)
    if unknown:
        raise NotFound(f"The plan has no landmark “{sorted(unknown)[0]}” here.", plan, "Fit the plan again.")
    if given:
        source = np.array([sketch.found[n][1] for n in sketch.marks])
        target = np.array([np.array(given.get(n, sketch.found[n][1]), float) for n in sketch.marks])
        names = list(sketch.found)
        places = np.array([sketch.found[n][1] for n in names])
        moved = carried(source, target, places)
        for n, p in zip(names, moved, strict=True):
            parent, _, role, deforms = sketch.found[n]
            sketch.found[n] = (parent, np.array(given[n], float) if n in given else p, role, deforms)
    return sketch.laid(character, plan)
