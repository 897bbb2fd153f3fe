"""What would just pass, by measure: the usual values, and a character's own in their place."""

from __future__ import annotations

from ..character import Character

USUAL: dict[str, float] = {}
"""Measure → what would just pass; filled where measures are registered."""


def limits_of(character: Character) -> dict[str, float]:
    """Measure → what would just pass for this character."""
    return {**USUAL, **{k: v for k, v in character.limits.items() if k in USUAL}}
