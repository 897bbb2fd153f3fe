"""Steps that keep poses under a name."""

from __future__ import annotations

from pydantic import Field

from ..core.character import Character, Inputs, Name, Number, SavedPose
from ..core.character.references import known_values
from ..core.errors import BadParameters, NotFound
from ..core.rig.mirror import mirrored_pose
from ..core.rig.motion import mixed
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


def _pose(character: Character, name: str) -> Inputs:
    found = next((q for q in character.poses if q.name == name), None)
    if found is None:
        raise NotFound(f"There is no pose called “{name}”.", character.name, "Choose one from the list.")
    return found.values


class MirrorPose(Params):
    name: str
    to: Name = Field(max_length=60, description="what the mirrored one is called")


@step("poses.mirror", MirrorPose, lambda c, p: f"Mirrored the pose {p.name}")
def mirror(character: Character, p: MirrorPose) -> Character:
    """Keep the mirror image of a saved pose."""
    return save(character, SavePose(name=p.to, values=mirrored_pose(character, _pose(character, p.name))))


class BlendPoses(Params):
    a: str
    b: str
    share: float = Field(0.5, ge=-1, le=2, description="of the way from one to the other")
    to: Name = Field(max_length=60, description="what the new one is called")


@step("poses.blend", BlendPoses, lambda c, p: f"Blended the poses {p.a} and {p.b}")
def blend(character: Character, p: BlendPoses) -> Character:
    """Keep a pose part of the way from one saved pose to another; turns go the short way."""
    return save(
        character, SavePose(name=p.to, values=mixed(character, _pose(character, p.a), _pose(character, p.b), p.share))
    )


class BringPoses(Params):
    poses: dict[Name, dict[str, dict[str, Number]]] = Field(min_length=1, max_length=1000)


@step(
    "poses.bring",
    BringPoses,
    lambda c, p: f"Brought in {len(p.poses)} poses" if len(p.poses) > 1 else "Brought in a pose",
)
def bring(character: Character, p: BringPoses) -> Character:
    """Keep poses from elsewhere; of each what this character has controls for."""
    made = {name: known_values(character, values) for name, values in p.poses.items()}
    kept = tuple(SavedPose(name=n, values=v) for n, v in made.items() if v)
    if not kept:
        raise BadParameters("No control that they speak of is here.", character.name, "Put the same kits on first.")
    names = {q.name for q in kept}
    return character.with_(poses=tuple(q for q in character.poses if q.name not in names) + kept)
