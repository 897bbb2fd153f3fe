"""Clips: the values of channels at every frame of a motion."""

from __future__ import annotations

import numpy as np

from ..character import Character, Clip, Inputs, Ref, Track, unique_name
from ..character.boards import ACROSS, UP
from ..character.refs import SHAPES
from ..errors import BadParameters, NotFound
from .keys import only_tracks, values_of


def with_clip(character: Character, name: str, rate: float, tracks: tuple[Track, ...], values: np.ndarray) -> Character:
    """The character with a motion: values (f, t), a row a frame, a column a track, in the tracks' units.

    The name is made unique.  Raises BadParameters where values don't fit the tracks, NotFound for a track of nothing.
    """
    values = np.asarray(values)
    if values.ndim != 2 or values.shape[1] != len(tracks) or not len(values):
        raise BadParameters("A motion has a row of values for each frame, one for each track.", name)
    channels = {c.name: {k.name for k in c.channels} for c in character.controls}
    channels |= {str(Ref.board(b.name)): {ACROSS, UP} for b in character.boards}
    shapes = {s.name for s in character.shapes}
    for t in tracks:
        if t.thing.kind == "shape":
            there = t.thing.name in shapes
        else:
            there = t.channel in channels.get(control_of(t), ())
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


def control_of(track: Track) -> str:
    """What stands for a track's thing among the controls of a pose: a control's name, `board:<name>`, or `shapes`."""
    if track.thing.kind == "shape":
        return SHAPES
    return str(track.thing) if track.thing.kind == "board" else track.thing.name


def without_tracks(character: Character) -> Character:
    """The character whose clips have lost the tracks of shapes and boards that are not there any more."""
    there = {Ref.shape(s.name) for s in character.shapes} | {Ref.board(b.name) for b in character.boards}
    clips, arrays = [], dict[str, np.ndarray | None]()
    for clip in character.clips:
        keep = [t.thing.kind == "control" or t.thing in there for t in clip.tracks]
        if all(keep):
            clips.append(clip)
        elif any(keep):
            tracks = tuple(t for t, stays in zip(clip.tracks, keep, strict=True) if stays)
            clips.append(clip.model_copy(update={"tracks": tracks}))
            own = character.arrays[clip.array]
            arrays[clip.array] = only_tracks(own, keep) if clip.keyed else np.ascontiguousarray(own[:, keep])
        else:
            arrays[clip.array] = None
    return character.with_(clips=tuple(clips), arrays=arrays) if arrays else character


def without_clip(character: Character, name: str) -> Character:
    """The character without that motion.  Raises NotFound."""
    clip = clip_named(character, name)
    return character.with_(clips=tuple(c for c in character.clips if c.name != name), arrays={clip.array: None})


def clip_named(character: Character, name: str) -> Clip:
    found = next((c for c in character.clips if c.name == name), None)
    if found is None:
        raise NotFound(f"There is no motion called “{name}”.", character.name, "Choose one from the list.")
    return found


def frames_of(character: Character, name: str) -> np.ndarray:
    """(f, t) a motion's values: a row a frame, a column a track.  Raises NotFound."""
    clip = clip_named(character, name)
    array = character.arrays[clip.array]
    if not clip.keyed:
        return array
    return values_of(array, len(clip.tracks), np.arange(clip.end + 1.0), clip.end, clip.loop).astype(np.float32)


def length_of(character: Character, clip: Clip) -> int:
    """How many frames a motion has, without making them."""
    return clip.end + 1 if clip.keyed else len(character.arrays[clip.array])


def values_at(clip: Clip, values: np.ndarray, frame: int) -> Inputs:
    """What a frame sets: control → channel → value, the strengths of shapes under `shapes`."""
    out: Inputs = {}
    for track, value in zip(clip.tracks, values[frame].tolist(), strict=True):
        if track.thing.kind == "shape":
            out.setdefault(SHAPES, {})[track.thing.name] = value
        else:
            out.setdefault(control_of(track), {})[track.channel] = value
    return out


def values_between(clip: Clip, values: np.ndarray, time: float) -> Inputs:
    """What a moment (seconds) sets, straight between two frames; before the first and after the last these are held."""
    at = np.clip(time * clip.rate, 0.0, len(values) - 1)
    return values_at(clip, rows_between(values, np.array([at])), 0)


def rows_between(values: np.ndarray, at: np.ndarray) -> np.ndarray:
    """(k, t): rows of (f, t) at places (k,) from 0 to f − 1, straight between two."""
    low = np.floor(at).astype(int)
    high = np.minimum(low + 1, len(values) - 1)
    return np.asarray(values[low] + (at - low)[:, None] * (values[high] - values[low]))
