"""Steps of the Model station."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, unique_name
from ..core.errors import BadParameters
from ..core.geometry.transform import transformed
from .registry import Params, step

AXES = {"height": 1, "width": 0, "length": 2}


class Resize(Params):
    measure: Literal["height", "width", "length"] = "height"
    metres: float = Field(gt=0.001, lt=1000.0, description="what that measure must be")
    part: str = Field("", description="measure this part only; empty: everything")


@step("model.resize", Resize, lambda c, p: f"Set the {p.measure} to {100 * p.metres:.4g} cm")
def resize(character: Character, p: Resize) -> Character:
    """Scale mesh, joints, controls and shapes together until a measure is right."""
    points = character.points
    if p.part:
        part = character.part(p.part)
        points = points[part.points[0] : part.points[1]]
    now = float(np.ptp(points[:, AXES[p.measure]])) if len(points) else 0.0
    if now < 1e-9:
        raise BadParameters(f"The model has no {p.measure} to measure.", character.name, "Choose another measure.")
    return transformed(character, np.eye(3) * (p.metres / now), np.zeros(3))


class Stand(Params):
    up: Literal["y", "z", "-z"] = Field("y", description="which axis of the model points up now")
    turn: Literal[0, 90, 180, 270] = Field(0, description="degrees to turn about the upright axis, so that it faces +Z")
    ground: bool = Field(True, description="put the lowest point on the ground")
    centre: bool = Field(True, description="put the middle of its width and length over the origin")


@step("model.stand", Stand, lambda c, p: "Stood the model upright" + (f", turned by {p.turn}°" if p.turn else ""))
def stand(character: Character, p: Stand) -> Character:
    """Set up axis, facing, ground and centre; everything settled into the points."""
    up = {
        "y": np.eye(3),
        "z": np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]),
        "-z": np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]),
    }
    a = np.radians(p.turn)
    c, s = round(float(np.cos(a)), 15), round(float(np.sin(a)), 15)
    rotation = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]) @ up[p.up]
    moved = character.points @ rotation.T
    low, high = moved.min(0), moved.max(0)
    offset = np.zeros(3)
    if p.ground:
        offset[1] = -low[1]
    if p.centre:
        offset[0] = -0.5 * (low[0] + high[0])
        # A tail must not drag the body off the middle: length is centred on the mean of the points.
        offset[2] = -float(moved[:, 2].mean())
    return transformed(character, rotation, offset)


class EditPart(Params):
    part: str
    name: str = Field("", max_length=60)
    role: Literal["", "skin", "eye", "teeth", "tongue", "rigid", "prop"] = ""
    colour: str = Field("", pattern=r"^(#[0-9a-f]{6})?$")
    hidden: bool | None = None
    locked: bool | None = None


def _part_sentence(c: Character, p: EditPart) -> str:
    said = [f"named {p.name}"] * bool(p.name) + [f"set to {p.role}"] * bool(p.role) + ["coloured"] * bool(p.colour)
    said += ["hidden" if p.hidden else "shown"] * (p.hidden is not None)
    said += ["locked" if p.locked else "unlocked"] * (p.locked is not None)
    return f"Part {p.part} " + (", ".join(said) or "left as it was")


@step("model.part", EditPart, _part_sentence)
def edit_part(character: Character, p: EditPart) -> Character:
    """Name a part, say what it is, colour, hide or lock it."""
    old = character.part(p.part)
    changes: dict = {k: v for k, v in (("role", p.role), ("colour", p.colour)) if v}
    changes |= {k: v for k, v in (("hidden", p.hidden), ("locked", p.locked)) if v is not None}
    if p.name and p.name != old.name:
        if unique_name(p.name, {q.name for q in character.parts}) != p.name:
            raise BadParameters(f"There is a part called “{p.name}” already.", character.name, "Choose another name.")
        changes["name"] = p.name
    new = type(old).model_validate(old.model_dump() | changes)
    return character.with_(parts=tuple(new if q.name == p.part else q for q in character.parts))


class Rename(Params):
    name: str = Field(min_length=1, max_length=80)
    about: str = Field("", max_length=200)


@step("model.rename", Rename, lambda c, p: f"Called the character {p.name}")
def rename(character: Character, p: Rename) -> Character:
    """Give the character a name and a word about who it is."""
    name = p.name.strip()
    if not name or not name.isprintable():
        raise BadParameters("A name needs something to read.", character.name, "Type a name.")
    return character.with_(name=name, about=p.about.strip())
