"""Kept motions tried frame by frame: what the skin does over time, and a card of the worst frame."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character, Clip
from ..motion.clips import values_at
from ..rig import Pose, compile_rig
from ..rig.motion import Motion

MOST = 36  # frames of a motion that are looked at, evenly spaced


@dataclass(frozen=True)
class Played:
    """A kept motion, solved from its first frame on, and the frames of it that are tried."""

    clip: Clip
    motion: Motion
    frames: tuple[int, ...]

    def name_at(self, frame: int) -> str:
        """What the pose at a frame is called."""
        return f"{self.clip.name}, frame {frame}"


def played_clips(character: Character) -> list[Played]:
    """Every motion that the character has kept."""
    return [_played(character, clip) for clip in character.clips]


def _played(character: Character, clip: Clip) -> Played:
    values = character.arrays[f"clip/{clip.name}/values"]
    count = min(MOST, len(values))
    frames = tuple(int(x) for x in np.unique(np.linspace(0, len(values) - 1, count).round()))
    motion = Motion(compile_rig(character), lambda frame: values_at(clip, values, frame), float(clip.rate))
    return Played(clip, motion, frames)


def frame_called(character: Character, name: str) -> Pose | None:
    """The pose of a motion's frame that a name says."""
    title, word, number = name.rpartition(", frame ")
    clip = next((c for c in character.clips if c.name == title), None)
    if not word or clip is None or not number.isdecimal():
        return None
    frame = int(number)
    return (
        _played(character, clip).motion.pose(frame) if frame < len(character.arrays[f"clip/{title}/values"]) else None
    )
