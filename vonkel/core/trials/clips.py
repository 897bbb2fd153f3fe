"""Which frames of a kept motion are tried, and what their poses are called."""

from __future__ import annotations

import numpy as np

from ..character import Character, Clip
from ..motion.clips import length_of

MOST = 36  # frames of a motion that are looked at, evenly spaced


def tried_frames(character: Character, clip: Clip) -> tuple[int, ...]:
    """The frames of a motion that are tried, the first and the last among them."""
    count = length_of(character, clip)
    return tuple(int(x) for x in np.unique(np.linspace(0, count - 1, min(MOST, count)).round()))


def name_at(clip: Clip, frame: int) -> str:
    """What the pose at a frame is called."""
    return f"{clip.name}, frame {frame}"


def frame_called(character: Character, name: str) -> tuple[Clip, int] | None:
    """The motion and the frame of it that a pose's name says."""
    title, word, number = name.rpartition(", frame ")
    clip = next((c for c in character.clips if c.name == title), None)
    if not word or clip is None or not number.isdecimal() or int(number) >= length_of(character, clip):
        return None
    return clip, int(number)
