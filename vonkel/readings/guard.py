"""Limits that a character's trials must keep: what a studio's own checks run, and what fails them."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..core.errors import BadFile, first_fault
from ..core.trials.measures import GRADES, MEASURES

Grade = Literal["A", "B", "C", "D"]
ORDER = [*(g for g, _ in GRADES), "D"]


class CardLimits(BaseModel):
    """What one card, or every card, must keep.  measures: key → the largest value; for ratios that shrink, the least."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    grade: Grade | None = Field(None, description="the worst grade that passes")
    measures: dict[str, float] = Field({}, max_length=60, description="a measure's key: the value that just passes")


class Limits(CardLimits):
    """cards: limits of their own for cards by name, in place of the general ones; without: cards that aren't looked at."""

    cards: dict[str, CardLimits] = Field({}, max_length=2000)
    without: Annotated[list[str], Field(max_length=2000)] = []


SHRINKING = {k for k, m in MEASURES.items() if m.unit == "×" and m.limit < 1}


def parse_limits(data: bytes, where: str) -> Limits:
    """Limits from a JSON file.  Raises BadFile, which says which entry is wrong."""
    try:
        made = Limits.model_validate(json.loads(data))
    except (json.JSONDecodeError, UnicodeDecodeError):
        raise BadFile("The limits are no JSON.", where, 'Write {"grade": "C"}, for instance.') from None
    except ValidationError as error:
        entry, why = first_fault(error, "the limits")
        raise BadFile(f"{entry}: {why}.", where, "See docs/trials.md for what there is.") from None
    known = {*made.measures, *(k for c in made.cards.values() for k in c.measures)} - set(MEASURES)
    if known:
        raise BadFile(
            f"Nothing is measured under “{sorted(known)[0]}”.", where, f"There are: {', '.join(sorted(MEASURES))}."
        )
    return made


def breaches(cards: list[dict[str, Any]], limits: Limits) -> list[str]:
    """What the cards break, a sentence each, worst cards first; nothing when all is kept."""
    out = []
    for card in cards:
        if card["name"] in limits.without:
            continue
        own = limits.cards.get(card["name"], limits)
        if own.grade is not None and ORDER.index(card["grade"]) > ORDER.index(own.grade):
            out.append(f"{card['name']}: grade {card['grade']}, {own.grade} would pass ({card['worst']})")
        values = {m["key"]: m for m in card["measures"]}
        for key, limit in own.measures.items():
            value = values[key]["value"]
            if value < limit if key in SHRINKING else value > limit:
                out.append(f"{card['name']}: {values[key]['title']} {value:g}, {limit:g} would pass")
    missing = sorted(set(limits.cards) - {c["name"] for c in cards})
    return [*out, *(f"{n}: there is no such trial" for n in missing)]
