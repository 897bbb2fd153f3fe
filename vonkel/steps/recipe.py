"""Recipes: a list of steps saved from a ledger, to run again on another model."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..core.character import Character
from ..core.errors import BadFile, NotFound, VonkelError, first_fault
from ..core.progress import tell
from .registry import apply_step, parsed

HERE = Path(__file__).parent
BUILT_IN = ("biped", "quadruped", "winged", "many-legged", "finned", "chain", "head")


class RecipeStep(BaseModel):
    model_config = ConfigDict(extra="forbid")
    step: str
    params: dict[str, Any] = {}


class Recipe(BaseModel):
    """The file's own form: JSON with these fields."""

    model_config = ConfigDict(extra="forbid")
    vonkel_recipe: int = Field(1, ge=1, le=1)
    name: str = Field(max_length=80)
    about: str = Field("", max_length=400)
    steps: list[RecipeStep] = Field(max_length=10_000)


def parse_recipe(text: str | bytes, where: str) -> Recipe:
    """A recipe from its text.  Raises BadFile saying which field is wrong."""
    try:
        recipe = Recipe.model_validate_json(text)
    except ValidationError as error:
        field, why = first_fault(error, "file")
        raise BadFile(f"This is no recipe: “{field}”: {why}.", where, "Save one from a ledger.") from None
    for i, s in enumerate(recipe.steps):
        try:
            parsed(s.step, s.params)
        except VonkelError as error:
            raise BadFile(f"Step {i + 1} can't be used: {error.what}", where, error.todo) from None
    return recipe


def load_recipe(name_or_path: str) -> Recipe:
    """A built-in recipe by name, or one from a file."""
    if name_or_path in BUILT_IN:
        return parse_recipe((HERE / f"recipes/{name_or_path}.json").read_text("utf-8"), name_or_path)
    path = Path(name_or_path)
    if not path.is_file():
        raise NotFound(f"There is no recipe “{name_or_path}”.", "", f"Built in: {', '.join(BUILT_IN)}; or name a file.")
    return parse_recipe(path.read_bytes(), str(path))


def run_recipe(character: Character, recipe: Recipe) -> tuple[Character, list[str]]:
    """Run every step in order.  Returns the character and the sentences; stops at the first refusal, saying which."""
    sentences = []
    for i, s in enumerate(recipe.steps):
        tell(i / max(len(recipe.steps), 1), s.step)
        try:
            character, sentence = apply_step(character, s.step, s.params)
        except VonkelError as error:
            error.where = f"step {i + 1} of {len(recipe.steps)}, {s.step}" + (f": {error.where}" if error.where else "")
            raise
        sentences.append(sentence)
    return character, sentences


def dump_recipe(recipe: Recipe) -> str:
    return json.dumps(recipe.model_dump(), indent=1, ensure_ascii=False) + "\n"
