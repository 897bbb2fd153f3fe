"""Motions of the other side: a whole one mirrored, or one side's copied to the other for part of the time."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..character import Character, Clip, Inputs, Track, unique_name
from ..character.refs import SHAPES, Ref
from ..errors import StepRefused
from ..motion.clips import clip_named, control_of, frames_of, values_at
from ..motion.keyed import rest_of, with_keys
from ..motion.keys import AT, BENT, MANNER, NEAR, SMOOTH, TRACK, ordered, put, values_of
from .builder import WHOLE
from .mirror import mirrored_pose, mirrored_values, opposite_control

STEP = 0.01  # frames over which a slope is measured


def mirrored(character: Character, inputs: Inputs) -> Inputs:
    """A pose with left and right exchanged, the way of the figure as a whole too."""
    out = mirrored_pose(character, inputs)
    whole = character.control_named.get(WHOLE)
    if whole is not None and WHOLE in inputs:
        out[WHOLE] = mirrored_values(whole, whole, inputs[WHOLE])
    return out


def mirrored_clip(character: Character, clip: str, name: str) -> Character:
    """The character with one more motion: the mirror image of one that it has.  Raises NotFound."""
    source = clip_named(character, clip)
    new = _reflected(character, source, lambda control: True)
    title = unique_name(name, {c.name for c in character.clips})
    return _with(character, source.model_copy(update={"name": title, "stands": ()}), *new)


def side_copied(character: Character, clip: str, side: str, first: float, last: float, later: float = 0.0) -> Character:
    """The motion with one side's (“L” or “R”) also on the other between two frames, `later` frames after it; in a loop what goes past
    its end comes in again.  Raises NotFound, or StepRefused where nothing of that side moves."""
    source = clip_named(character, clip)
    named = character.control_named

    def own(control: str) -> bool:
        if control == SHAPES:
            return False
        there = named.get(control)
        return there is not None and there.side == side and opposite_control(character, control) != control

    if not any(own(control_of(t)) for t in source.tracks):
        raise StepRefused(
            f"Nothing of the side {side} moves in it.", clip, "Pose that side first, or choose the other."
        )
    tracks, array = _reflected(character, source, own)
    count = len(frames_of(character, clip))
    have = {(t.thing, t.channel): k for k, t in enumerate(source.tracks)}
    both = list(source.tracks) + [t for t in tracks if (t.thing, t.channel) not in have]
    index = {(t.thing, t.channel): k for k, t in enumerate(both)}
    rows = [index[(t.thing, t.channel)] for t in tracks]
    if source.keyed:
        keys = character.arrays[source.array]
        array = array[(array[:, AT] >= first - NEAR) & (array[:, AT] <= last + NEAR)].astype(float)
        array[:, TRACK] = np.array(rows)[array[:, TRACK].astype(int)]
        array[:, AT] += later
        low, high = first + later, last + later
        if source.loop:
            if last - first > source.end - NEAR:
                low, high = 0.0, float(source.end)
                array = array[array[:, AT] < source.end + later - NEAR]
            array[:, AT] = np.mod(array[:, AT], max(source.end, 1))
        gone = np.isin(keys[:, TRACK], rows) & (keys[:, AT] >= low - NEAR) & (keys[:, AT] <= high + NEAR)
        return with_keys(character, source, put(keys[~gone], array), tracks=tuple(both))
    values = np.concatenate(
        [frames_of(character, clip), np.zeros((count, len(both) - len(source.tracks)), np.float32)], 1
    )
    values[:, len(source.tracks) :] = [rest_of(character, t) for t in both[len(source.tracks) :]]
    where = np.arange(int(np.ceil(first)), min(int(last), count - 1) + 1)
    to = where + round(later)
    to = np.mod(to, max(count - 1, 1)) if source.loop else to
    inside = (to >= 0) & (to < count)
    values[np.ix_(to[inside], np.array(rows))] = array[where[inside]]
    changed = source.model_copy(update={"tracks": tuple(both)})
    return character.with_(
        clips=tuple(changed if c is source else c for c in character.clips), arrays={source.array: values}
    )


def _with(character: Character, clip: Clip, tracks: list[Track], array: np.ndarray) -> Character:
    new = Clip.model_validate(clip.model_dump() | {"tracks": [t.model_dump() for t in tracks]})
    return character.with_(clips=(*character.clips, new), arrays={new.array: array.astype(np.float32)})


def _reflected(character: Character, clip: Clip, of: Callable[[str], bool]) -> tuple[list[Track], np.ndarray]:
    """The mirror image of what some controls do: tracks of the other side, and their frames, or keys where the motion has such."""
    mine = [k for k, t in enumerate(clip.tracks) if of(control_of(t))]
    if not clip.keyed:
        values = frames_of(character, clip.name)
        told = [mirrored(character, values_at(_part(clip, mine), values[:, mine], f)) for f in range(len(values))]
        tracks = _tracks(told)
        rests = [rest_of(character, t) for t in tracks]
        return tracks, np.array(
            [[_read(p, t, r) for t, r in zip(tracks, rests, strict=True)] for p in told], np.float32
        )
    keys = character.arrays[clip.array].astype(float)
    rows: list[tuple[float, ...]] = []
    tracks, index = [], dict[tuple[Ref, str], int]()
    for control in dict.fromkeys(control_of(clip.tracks[k]) for k in mine):
        its = [k for k in mine if control_of(clip.tracks[k]) == control]
        own = keys[np.isin(keys[:, TRACK], its)]
        frames = np.unique(own[:, AT].round(3))
        dense = (frames[:, None] + np.array([-STEP, 0.0, STEP])).ravel()
        table = values_of(keys, len(clip.tracks), dense, clip.end, clip.loop)[:, its]
        part = _part(clip, its)
        told = [mirrored(character, values_at(part, table, i)) for i in range(len(dense))]
        for t in _tracks(told):
            k = index.setdefault((t.thing, t.channel), len(index))
            if k == len(tracks):
                tracks.append(t)
            rest = rest_of(character, t)
            for i, frame in enumerate(frames):
                a, b, c = (_read(told[3 * i + j], t, rest) for j in range(3))
                there = own[np.abs(own[:, AT] - frame) < NEAR][:, MANNER]
                manner = there.max() if (there == there[0]).all() else SMOOTH
                into, out = ((b - a) / STEP, (c - b) / STEP) if manner == BENT else (0.0, 0.0)
                rows.append((k, frame, b, manner, into, out))
    return tracks, ordered(np.array(rows))


def _part(clip: Clip, rows: list[int]) -> Clip:
    return clip.model_copy(update={"tracks": tuple(clip.tracks[k] for k in rows)})


def _tracks(told: list[Inputs]) -> list[Track]:
    """A track for everything that poses set."""
    names = dict.fromkeys((c, k) for p in told for c, given in p.items() for k in given)
    out = []
    for control, channel in names:
        if control == SHAPES:
            out.append(Track(thing=Ref.shape(channel), channel=""))
        elif control.startswith("board:"):
            out.append(Track(thing=Ref.board(control.removeprefix("board:")), channel=channel))
        else:
            out.append(Track(thing=Ref.control(control), channel=channel))
    return out


def _read(pose: Inputs, track: Track, rest: float) -> float:
    given = pose.get(control_of(track), {})
    return given.get(track.thing.name if track.thing.kind == "shape" else track.channel, rest)
