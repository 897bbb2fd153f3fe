"""Steps of motions: kept, renamed, taken away."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from ..core.character import Character, Clip, Name, Number, Ref, Track
from ..core.character.references import renamed
from ..core.errors import BadParameters
from ..core.motion import with_clip, without_clip
from ..core.motion.clips import clip_named
from .registry import Array, Params, step


class AddClip(Params):
    name: Annotated[Name, Field(max_length=60)]
    rate: Annotated[Number, Field(gt=0, le=1000, description="frames a second")] = 30.0
    tracks: tuple[Track, ...] = Field(min_length=1, max_length=4096)
    values: Array = Field(description="(frames, tracks): metres, radians or plain numbers, as the tracks' channels")


@step("motion.add", AddClip, lambda c, p: f"Kept the motion {p.name}")
def add(character: Character, p: AddClip) -> Character:
    """Keep a motion: the values of channels and shapes at every frame."""
    if not np.issubdtype(p.values.dtype, np.number):
        raise BadParameters("A motion is made of numbers.", p.name)
    return with_clip(character, p.name, p.rate, p.tracks, p.values)


class NamedClip(Params):
    clip: str


@step("motion.remove", NamedClip, lambda c, p: f"Deleted the motion {p.clip}")
def remove(character: Character, p: NamedClip) -> Character:
    """Delete a motion."""
    return without_clip(character, p.clip)


class EditClip(Params):
    clip: str
    name: Annotated[Name, Field(max_length=60)]
    rate: Annotated[Number, Field(gt=0, le=1000)] | None = Field(None, description="frames a second; none: as it is")


@step("motion.set", EditClip, lambda c, p: f"Set the motion {p.clip}")
def edit(character: Character, p: EditClip) -> Character:
    """Name a motion and say how fast it is played."""
    clip = clip_named(character, p.clip)
    if p.name != p.clip and any(c.name == p.name for c in character.clips):
        raise BadParameters(f"There is a motion called “{p.name}” already.", character.name, "Choose another name.")
    new = Clip(name=clip.name, rate=p.rate or clip.rate, tracks=clip.tracks)
    result = character.with_(clips=tuple(new if c is clip else c for c in character.clips))
    return renamed(result, {Ref.of("clip", p.clip): Ref.of("clip", p.name)}) if p.name != p.clip else result
