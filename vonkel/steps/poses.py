"""Steps that keep poses under a name."""

from __future__ import annotations

from pydantic import Field

from ..core.character import Character, SavedPose
from ..core.errors import NotFound
from .registry import Params, step


class SavePose(Params):
    name: str = Field(min_length=1, max_length=60)
    values: dict[str, dict[str, float]] = Field(description="control → channel → value")


@step("poses.save", SavePose, lambda c, p: f"Saved the pose {p.name}")
def save(character: Character, p: SavePose) -> Character:
    """Keep a pose under a name; an older one of that name gives way."""
    pose = SavedPose(name=p.name, values=p.values)
    return character.with_(poses=tuple(q for q in character.poses if q.name != p.name) + (pose,))


class NamedPose(Params):
    name: str


@step("poses.delete", NamedPose, lambda c, p: f"Deleted the pose {p.name}")
def delete(character: Character, p: NamedPose) -> Character:
    """Forget a saved pose."""
    if p.name not in {q.name for q in character.poses}:
        raise NotFound(f"There is no pose called “{p.name}”.", character.name)
    return character.with_(poses=tuple(q for q in character.poses if q.name != p.name))
