"""Steps of the trials: what passes in them."""

from __future__ import annotations

from pydantic import Field

from ..core.character import Character
from ..core.errors import BadParameters, NotFound
from ..core.trials.limits import USUAL
from ..core.trials.measures import MEASURES
from .registry import Params, step


class TrialLimits(Params):
    limits: dict[str, float | None] = Field(
        max_length=100, description="measure → what would just pass; none: as usual"
    )


@step("trials.limits", TrialLimits, lambda c, p: f"Set what passes in the trials: {', '.join(p.limits)}")
def limits(character: Character, p: TrialLimits) -> Character:
    """Say what would just pass in this character's trials, measure by measure."""
    strange = sorted(set(p.limits) - set(USUAL))
    if strange:
        raise NotFound(
            f"Nothing is measured under “{strange[0]}”.", character.name, f"There are: {', '.join(sorted(USUAL))}."
        )
    now = dict(character.limits)
    for key, value in p.limits.items():
        if value is None or abs(value - USUAL[key]) < 1e-12:
            now.pop(key, None)
        elif value <= 0 or (MEASURES[key].unit.startswith("×") and (value - 1) * (USUAL[key] - 1) <= 0):
            raise BadParameters(f"{value:g} can't be a limit of “{key}”.", character.name, f"Usual is {USUAL[key]:g}.")
        else:
            now[key] = value
    return character.with_(limits=now)
