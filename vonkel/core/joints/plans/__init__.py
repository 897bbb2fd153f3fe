"""Plans: starting layouts of joints for a body type, fitted to a mesh by its shape."""

from __future__ import annotations

from collections.abc import Callable

from pydantic import BaseModel

from ...character import Character
from .biped import BipedOptions, lay_biped

PLANS: dict[str, tuple[str, type[BaseModel], Callable]] = {
    "biped": ("Stands on two legs: spine, neck, head, arms, hands, legs, feet, and a tail where there is one.", BipedOptions, lay_biped),
}  # fmt: skip


def lay_plan(character: Character, plan: str, options: dict) -> Character:
    """Fit a plan's joints to the character's mesh, in place of any joints there are."""
    _, model, lay = PLANS[plan]
    return lay(character, model(**options))


__all__ = ["PLANS", "lay_plan"]
