"""Beads that flash a picture: on the straight way between two pictures of a board a third one lies.

For a drawn look expressions jump.  A bead that is moved from one picture to another over a third shows it for a moment, which
nobody meant; held still and then let jump, it doesn't.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Board, Character, Ref
from ..character.boards import ACROSS, UP, picture_strengths
from ..errors import BadParameters
from .clips import clip_named, frames_of
from .keys import AT, HELD, NEAR, SMOOTH, of_tracks, put

FLASH = 0.25  # a picture that comes on by so much more than at both ends of the way is seen
STILL = 1e-4  # steps a frame: slower than this a bead stands
BEND = np.cos(np.radians(20.0))  # a way that bends more than this has a key there
FINE = 32  # places looked at between two frames or two poses


@dataclass(frozen=True)
class Passing:
    """Between frames `start` and `end` of a motion a board's bead passes over the picture `key`, `strength` at most."""

    clip: str
    board: str
    start: int
    end: int
    key: str
    strength: float


def flashed(board: Board, way: np.ndarray) -> list[tuple[str, float]]:
    """The pictures that a bead flashes on its way (f, 2), steps: key and how strong it gets."""
    if len(way) < 2 or not board.pictures:
        return []
    strengths = picture_strengths(board)
    dense = np.concatenate(
        [a + (b - a) * np.linspace(0, 1, FINE, endpoint=False)[:, None] for a, b in zip(way, way[1:], strict=False)]
    )
    on = np.array([strengths(float(x), float(y)) for x, y in dense])
    ends = np.maximum(strengths(*map(float, way[0])), strengths(*map(float, way[-1])))
    most = on.max(0)
    return [(q.key, float(m)) for q, m, e in zip(board.pictures, most, ends, strict=True) if m > e + FLASH and q.shapes]


def passings(character: Character) -> list[Passing]:
    """Every way of a bead in every motion that flashes a picture."""
    out = []
    boards = {b.name: b for b in character.boards}
    for clip in character.clips:
        for name, board in boards.items():
            columns = _columns(character, clip.name, name)
            if columns is None:
                continue
            values = frames_of(character, clip.name).astype(float)
            way = np.stack([values[:, k] if k >= 0 else np.zeros(len(values)) for k in columns], 1)
            for start, end in _stretches(way):
                found = flashed(board, way[start : end + 1])
                out += [Passing(clip.name, name, start, end, key, most) for key, most in found]
    return out


def jumped(character: Character, clip: str, board: str, start: int, end: int) -> Character:
    """The motion with that bead held from `start` on and at its place of `end` from there.  Raises BadParameters."""
    clip_named(character, clip)
    columns = _columns(character, clip, board)
    values = frames_of(character, clip).copy()
    if columns is None or not 0 <= start < end < len(values):
        raise BadParameters("The motion doesn't move that bead there.", clip, "Look at its findings again.")
    there = [k for k in columns if k >= 0]
    own = clip_named(character, clip)
    if own.keyed:
        keys = character.arrays[own.array]
        within = of_tracks(keys, there) & (keys[:, AT] >= start) & (keys[:, AT] < end)
        held = [(k, start, values[start, k], HELD, 0.0, 0.0) for k in there]
        lands = [(k, end, values[end, k], SMOOTH, 0.0, 0.0) for k in there]
        at_end = of_tracks(keys, there) & (np.abs(keys[:, AT] - end) < NEAR)
        new = put(keys[~within], np.array(held + ([] if at_end.any() else lands)))
        return character.with_(arrays={own.array: new})
    for k in there:
        values[start:end, k] = values[start, k]
    return character.with_(arrays={own.array: values})


def _columns(character: Character, clip: str, board: str) -> tuple[int, int] | None:
    """The tracks of a bead in a motion, −1 where one is missing; None where it isn't moved."""
    tracks = {(t.thing, t.channel): k for k, t in enumerate(clip_named(character, clip).tracks)}
    thing = Ref.board(board)
    found = tracks.get((thing, ACROSS), -1), tracks.get((thing, UP), -1)
    return None if found == (-1, -1) else found


def _stretches(way: np.ndarray) -> list[tuple[int, int]]:
    """From where to where the bead goes in one go, as frames: from rest to rest, or to where its way bends."""
    steps = np.diff(way, axis=0)
    far = np.linalg.norm(steps, axis=1)
    out, start = [], -1
    for i in range(len(steps)):
        if far[i] < STILL:
            if start >= 0:
                out.append((start, i))
            start = -1
            continue
        bends = start >= 0 and i > start and steps[i] @ steps[i - 1] < BEND * far[i] * far[i - 1]
        if bends:
            out.append((start, i))
        if start < 0 or bends:
            start = i
    if start >= 0:
        out.append((start, len(steps)))
    return [(a, b) for a, b in out if b - a > 1]
