"""Steps of the Shapes station."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from ..core.character import Character, Ref, Shape
from ..core.character.references import renamed
from ..core.errors import BadParameters, NotFound
from ..core.shapes import add_shape, remove_shape
from .registry import Array, Params, step


class AddShape(Params):
    name: str = Field(min_length=1, max_length=60)
    points: Array = Field(description="moved points (n, 3) in the character's order, metres")


@step("shapes.add", AddShape, lambda c, p: f"Added the shape {p.name}")
def add(character: Character, p: AddShape) -> Character:
    """Add a morph target from a mesh with the same points."""
    if p.points.ndim != 2 or p.points.shape[-1] != 3:
        raise BadParameters("A shape is points of three numbers.", p.name)
    return add_shape(character, p.name, np.asarray(p.points, float))


class NamedShape(Params):
    shape: str


@step("shapes.remove", NamedShape, lambda c, p: f"Deleted the shape {p.shape}")
def remove(character: Character, p: NamedShape) -> Character:
    """Delete a morph target."""
    return remove_shape(character, p.shape)


class EditShape(Params):
    shape: str
    name: str = Field("", max_length=60)
    low: float = Field(0.0, ge=-3, le=0)
    high: float = Field(1.0, ge=0.1, le=3)


@step("shapes.set", EditShape, lambda c, p: f"Set the shape {p.shape}", renames=True)
def edit(character: Character, p: EditShape) -> Character:
    """Name a morph target and say how far its strength may go."""
    if p.shape not in {s.name for s in character.shapes}:
        raise NotFound(f"There is no shape called “{p.shape}”.", character.name)
    name = p.name or p.shape
    if name != p.shape and name in {s.name for s in character.shapes}:
        raise BadParameters(f"There is a shape called “{name}” already.", character.name, "Choose another name.")
    Shape.model_validate({"name": name})  # refuses what can't be a name
    shapes = tuple(
        s.model_copy(update={"low": p.low, "high": p.high}) if s.name == p.shape else s for s in character.shapes
    )
    result = character.with_(shapes=shapes)
    return renamed(result, {Ref.shape(p.shape): Ref.shape(name)}) if name != p.shape else result
