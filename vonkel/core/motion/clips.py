"""Clips: the values of channels at every frame of a motion."""

from __future__ import annotations

import numpy as np

from ..character import Character, Clip, Inputs, Track, unique_name
from ..character.refs import SHAPES
from ..errors import BadParameters, NotFound


def with_clip(character: Character, name: str, rate: float, tracks: tuple[Track, ...], values: np.ndarray) -> Character:
    """The character with a motion: values (f, t), a row a frame, a column a track, in the tracks' units.

    The name is made unique.  Raises BadParameters where values don't fit the tracks, NotFound for a track of nothing.
    """
    values = np.asarray(values)
    if values.ndim != 2 or values.shape[1] != len(tracks) or not len(values):
        raise BadParameters("A motion has a row of values for each frame, one for each track.", name)
    channels = {c.name: {k.name for k in c.channels} for c in character.controls}
    shapes = {s.name for s in character.shapes}
    for t in tracks:
        there = t.thing.name in shapes if t.thing.kind == "shape" else t.channel in channels.get(t.thing.name, ())
        if not there:
            what = (
                f"{t.thing.name} has no channel “{t.channel}”"
                if t.channel
                else f"There is no {t.thing.kind} called “{t.thing.name}”"
            )
            raise NotFound(f"{what}.", name, "Choose one that is there.")
    clip = Clip(name=unique_name(name, {c.name for c in character.clips}), rate=rate, tracks=tracks)
    return character.with_(
        clips=character.clips + (clip,), arrays={f"clip/{clip.name}/values": values.astype(np.float32)}
    )


def without_clip(character: Character, name: str) -> Character:
    """The character without that motion.  Raises NotFound."""
    clip_named(character, name)
    return character.with_(
        clips=tuple(c for c in character.clips if c.name != name), arrays={f"clip/{name}/values": None}
    )


def clip_named(character: Character, name: str) -> Clip:
    found = next((c for c in character.clips if c.name == name), None)
    if found is None:
        raise NotFound(f"There is no motion called “{name}”.", character.name, "Choose one from the list.")
    return found


def values_at(clip: Clip, values: np.ndarray, frame: int) -> Inputs:
    """What a frame sets: control → channel → value, the strengths of shapes under `shapes`."""
    out: Inputs = {}
    for track, value in zip(clip.tracks, values[frame].tolist(), strict=True):
        if track.thing.kind == "shape":
            out.setdefault(SHAPES, {})[track.thing.name] = value
        else:
            out.setdefault(track.thing.name, {})[track.channel] = value
    return out


def values_between(clip: Clip, values: np.ndarray, time: float) -> Inputs:
    """What a moment (seconds) sets, straight between two frames; before the first and after the last these are held."""
    at = float(np.clip(time * clip.rate, 0.0, len(values) - 1))
    low = int(at)
    high = min(low + 1, len(values) - 1)
    row = values[low] + (at - low) * (values[high] - values[low])
    return values_at(clip, row[None], 0)
