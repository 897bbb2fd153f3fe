"""Keyed motions of a character: begun, posed, cleaned, baked."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from ..character import Character, Clip, Inputs, Ref, Track, unique_name
from ..character.boards import ACROSS, UP
from ..character.refs import SHAPES
from ..errors import BadParameters, NotFound, StepRefused
from .clips import clip_named, control_of, frames_of, rows_between
from .keys import AT, MANNERS, NEAR, TRACK, closed, no_keys, of_tracks, only_tracks, ordered, put, thinned, values_of

SAME = 1e-6  # a channel that differs by less is as it was


def keyed_clip(character: Character, name: str) -> tuple[Clip, np.ndarray]:
    """A motion that has keys, and these.  Raises NotFound, or StepRefused for one that is all frames."""
    clip = clip_named(character, name)
    if not clip.keyed:
        raise StepRefused(
            f"The motion “{name}” has no keys: it is a row of frames.", name, "Make keys of its frames first."
        )
    return clip, character.arrays[clip.array]


def with_keys(character: Character, clip: Clip, keys: np.ndarray, **changes: object) -> Character:
    """The character with a motion's keys replaced, and fields of it.  Raises BadParameters where a track would be left without one."""
    new = clip.model_copy(update=changes)
    keys = ordered(keys)
    if new.loop and new.end > 0:
        keys = closed(keys, new.end)
    have = set(keys[:, TRACK].astype(int))
    if not have:
        raise BadParameters("A motion without any key would be none.", clip.name, "Delete the motion instead.")
    if len(have) < len(new.tracks):  # tracks go with their last key
        keep = [k in have for k in range(len(new.tracks))]
        keys = only_tracks(keys, keep)
        new = new.model_copy(update={"tracks": tuple(t for t, k in zip(new.tracks, keep, strict=True) if k)})
    last = float(keys[:, AT].max())
    if not new.loop and last > new.end:
        new = new.model_copy(update={"end": int(np.ceil(last))})
    new = Clip.model_validate(new.model_dump())
    return character.with_(
        clips=tuple(new if c.name == clip.name else c for c in character.clips),
        arrays={new.array: keys.astype(np.float32)},
    )


def stands_along(clip: Clip, keys: np.ndarray, to: np.ndarray) -> Clip:
    """The clip whose feet stand when their own keys say: `to` (k,) are the frames that its keys (k, 6) go to.  Between keys a stand
    goes as they do, past them with the last one, round the end of a loop; one whose keys have passed each other is none any more."""
    stands = []
    for stand in clip.stands:
        mine = of_tracks(keys, [k for k, t in enumerate(clip.tracks) if control_of(t) == stand.control])
        if not mine.any() or np.allclose(to[mine], keys[mine, AT]):
            stands.append(stand)
            continue
        at, place = np.unique(keys[mine, AT].round(3), return_inverse=True)
        new = np.bincount(place.reshape(-1), to[mine]) / np.bincount(place.reshape(-1))
        was = np.array(stand.frames, float).reshape(-1, 2)
        now = np.interp(was, at, new) + np.minimum(was - at[0], 0.0) + np.maximum(was - at[-1], 0.0)
        if clip.loop and clip.end:
            now = now - clip.end * np.floor(now[:, :1] / clip.end)
            over = now[:, 1] > clip.end
            now = np.vstack([np.minimum(now, clip.end), np.c_[np.zeros(over.sum()), now[over, 1] - clip.end]])
        kept = sorted((max(round(a), 0), round(b)) for a, b in now if b >= a and b >= 0)
        stands.append(stand.model_copy(update={"frames": tuple(kept)}))
    return clip.model_copy(update={"stands": tuple(s for s in stands if s.frames)})


def keyable(character: Character, values: Inputs) -> dict[tuple[Ref, str], float]:
    """The channels of a pose that may have keys: those that are there and aren't locked, boards' beads, strengths of shapes."""
    out: dict[tuple[Ref, str], float] = {}
    shapes, boards = {s.name for s in character.shapes}, {str(Ref.board(b.name)): b.name for b in character.boards}
    named = character.control_named
    for thing, given in values.items():
        for channel, value in given.items():
            if thing == SHAPES:
                if channel in shapes:
                    out[(Ref.shape(channel), "")] = value
            elif thing in boards:
                if channel in (ACROSS, UP):
                    out[(Ref.board(boards[thing]), channel)] = value
            elif thing in named and any(k.name == channel and not k.locked for k in named[thing].channels):
                out[(Ref.control(thing), channel)] = value
    return out


def rest_of(character: Character, track: Track) -> float:
    """What a track's channel is at rest."""
    if track.thing.kind != "control" or track.thing.name not in character.control_named:
        return 0.0
    channels = character.control_named[track.thing.name].channels
    return next((k.rest for k in channels if k.name == track.channel), 0.0)


def posed_at(
    character: Character, name: str, frame: float, values: Inputs, manner: str = "smooth",
    only: Collection[str] = (), changed: bool = False,
) -> Character:  # fmt: skip
    """The character with a pose set as keys at a frame of a motion, which begins with it where there is none of that name.

    only: these controls alone.  changed: only channels that stand otherwise than the motion has them there.  A channel that had
    no key before was at rest: it gets keys of rest at the poses before and after, so that they stay as they were.  Raises
    BadParameters where nothing is left to be set.
    """
    given = {
        k: v
        for k, v in keyable(character, values).items()
        if not only or control_of(Track(thing=k[0], channel=k[1])) in only
    }
    clip = next((c for c in character.clips if c.name == name), None)
    if clip is not None and not clip.keyed:
        keyed_clip(character, name)
    keys = character.arrays[clip.array] if clip is not None else no_keys()
    tracks = list(clip.tracks) if clip is not None else []
    if clip is not None and not changed:  # whatever the motion moves is part of the whole pose
        for t in tracks:
            if (not only or control_of(t) in only) and (t.thing, t.channel) not in given:
                given[(t.thing, t.channel)] = rest_of(character, t)
    index = {(t.thing, t.channel): i for i, t in enumerate(tracks)}
    now = values_of(keys, len(tracks), np.array([frame]), clip.end, clip.loop)[0] if clip is not None else np.zeros(0)
    poses = np.unique(keys[:, AT]) if len(keys) else np.zeros(0)
    before, after = poses[poses < frame - NEAR][-1:], poses[poses > frame + NEAR][:1]
    rows, how = [], MANNERS.index(manner)
    for (thing, channel), value in given.items():
        track = Track(thing=thing, channel=channel)
        known = index.get((thing, channel))
        rest = rest_of(character, track)
        if changed and abs(value - (now[known] if known is not None else rest)) < SAME:
            continue
        if known is None:
            if abs(value - rest) < SAME:
                continue
            known = len(tracks)
            tracks.append(track)
            rows += [(known, f, rest, how, 0.0, 0.0) for f in (*before, *after)]
        rows.append((known, frame, value, how, 0.0, 0.0))
    if not rows:
        raise BadParameters(
            "Nothing is posed that could be set.", name, "Move a control first, or choose another frame."
        )
    new = put(keys, np.array(rows))
    if clip is None:
        clip = Clip(name=unique_name(name, {c.name for c in character.clips}), rate=character.rate, tracks=tuple(tracks), keyed=True,
                    end=max(int(np.ceil(frame)), round(2 * character.rate)))  # fmt: skip
        character = character.with_(clips=(*character.clips, clip), arrays={clip.array: new})
    return with_keys(character, clip, new, tracks=tuple(tracks))


def tolerances(character: Character, clip: Clip, share: float) -> np.ndarray:
    """(t,) how far a track may be off: `share` of a radian for turns, of the height for moves, of the plain number for others."""
    kinds = {(c.name, k.name): k.kind for c in character.controls for k in c.channels}
    of = {"move": max(character.height, 1e-6), "turn": 1.0}
    return np.array([share * of.get(kinds.get((t.thing.name, t.channel), "value"), 1.0) for t in clip.tracks])


def keys_made(character: Character, name: str, share: float) -> Character:
    """A motion of frames as one of keys: channels that don't move have one key, or go where they are at rest; the others as many as
    keep within `share` (`tolerances`).  Raises NotFound; a motion that has keys already is thinned anew."""
    clip = clip_named(character, name)
    values = frames_of(character, name).astype(float)
    tolerance = tolerances(character, clip, share)
    rests = np.array([rest_of(character, t) for t in clip.tracks])
    still = (np.abs(values - rests) <= tolerance).all(0)
    if still.all():
        still[0] = False
    keep = np.flatnonzero(~still)
    keys = thinned(values[:, keep], tolerance[keep])
    new = clip.model_copy(update={"keyed": True, "end": len(values) - 1, "tracks": tuple(clip.tracks[k] for k in keep)})
    character = character.with_(
        clips=tuple(new if c is clip else c for c in character.clips), arrays={clip.array: None, new.array: keys}
    )
    return with_keys(character, new, keys)


def baked(character: Character, name: str) -> Character:
    """A motion of keys as one of frames.  Raises NotFound, StepRefused."""
    clip, _ = keyed_clip(character, name)
    new = clip.model_copy(update={"keyed": False, "end": 0})
    return character.with_(
        clips=tuple(new if c is clip else c for c in character.clips),
        arrays={clip.array: None, new.array: frames_of(character, name)},
    )


def at_rate(character: Character, name: str, rate: float) -> Character:
    """A motion at another rate that lasts as long as it did: keys move with the time, frames are read between frames."""
    clip = clip_named(character, name)
    share = rate / clip.rate
    stands = tuple(
        s.model_copy(update={"frames": tuple((round(a * share), round(b * share)) for a, b in s.frames)})
        for s in clip.stands
    )
    clip = clip.model_copy(update={"stands": stands})
    if clip.keyed:
        keys = character.arrays[clip.array].astype(float)
        keys[:, AT] *= share
        keys[:, 4:] /= share
        end = max(round(clip.end * share), 1)
        changed = clip.model_copy(update={"rate": rate, "end": end})
        if clip.loop and clip.end:  # both ends stay where the loop closes
            keys[:, AT] *= end / (clip.end * share)
        return with_keys(character, changed, keys)
    values = frames_of(character, name).astype(float)
    count = max(round((len(values) - 1) * share), 0) + 1
    new = rows_between(values, np.linspace(0, len(values) - 1, count))
    changed = clip.model_copy(update={"rate": rate})
    return character.with_(
        clips=tuple(changed if c.name == name else c for c in character.clips),
        arrays={clip.array: new.astype(np.float32)},
    )


def tracks_of(clip: Clip, controls: Collection[str]) -> list[int]:
    """The tracks of these controls, boards (`board:<name>`) or shapes (`shapes`).  Raises NotFound where one has none."""
    found = {c: [k for k, t in enumerate(clip.tracks) if control_of(t) == c] for c in controls}
    empty = [c for c, k in found.items() if not k]
    if empty:
        raise NotFound(f"The motion doesn't move “{empty[0]}”.", clip.name, "Choose a control that has keys in it.")
    return [k for own in found.values() for k in own]
