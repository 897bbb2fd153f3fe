"""Handing a character over: a scene is baked once, and a format writes it."""

from __future__ import annotations

from collections.abc import Mapping

from ..character import Character
from ..errors import BadParameters
from ..formats import FORMATS
from .baking import baked, scene_of

__all__ = ["baked", "scene_of", "written"]


def written(character: Character, ending: str, names: Mapping[str, str] | None = None) -> bytes:
    """The character as a file of that ending (`.glb`, `.obj` …).  names: joint → what it is called in the file.

    Raises BadParameters for what no format writes.
    """
    form = FORMATS.get(ending.lower())
    if form is None or form.write is None:
        known = ", ".join(e for e, f in FORMATS.items() if f.write)
        raise BadParameters(f"Vonkel can't write “{ending}” files.", character.name, f"Choose one of: {known}.")
    return form.write(scene_of(character, names))
