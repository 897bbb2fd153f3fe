"""A control's way said in the space of the ground: taken out of what carries it, changed there, and brought back.

While it is held so, a motion has tracks `world x … world turn z` of the control instead of its own moves and turns: metres and radians
off where it rests.  Whoever plays the motion (`rig/motion.py`) finds the control's own values anew at each frame.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from ..character import Character, Clip, Control, Ref, Track
from ..errors import NotFound, StepRefused
from ..geometry.rotations import matrix_from_quaternion
from ..motion.keyed import keyed_clip, with_keys
from ..motion.keys import TRACK, only_tracks, ordered, thinned
from .frames import Frame
from .motion import WORLD, clip_motion
from .program import RigProgram

OWN = ("move", "turn")
NEAR_ENOUGH = 1e-4  # of the height, and radians: how far keys may be off the frames that they are made of


def _axes(control: Control) -> list[str]:
    """What of a control can be held in the world: its moves, its turns."""
    kinds = [k for k, has in (("", control.moves), ("turn ", control.turns)) if has]
    return [f"{WORLD}{kind}{axis}" for kind in kinds for axis in "xyz"]


def into_world(character: Character, program: RigProgram, clip: str, control: str) -> Character:
    """The motion with a control held in the world.  Raises NotFound, StepRefused."""
    own, keys = keyed_clip(character, clip)
    there = character.control_named.get(control)
    if there is None:
        raise NotFound(f"There is no control called “{control}”.", clip, "Choose one that is there.")
    if any(t.thing == Ref.control(control) and t.channel.startswith(WORLD) for t in own.tracks):
        raise StepRefused(f"{control} is held in the world already.", clip, "Bring it back first.")
    channels = _axes(there)
    if not channels:
        raise StepRefused(f"{control} neither moves nor turns.", clip, "Choose a control that does.")
    motion = clip_motion(program, character, clip)
    rows = np.array([_told(there, motion.pose(f).controls[control], channels) for f in range(own.end + 1)])
    turns = [k for k, c in enumerate(channels) if "turn" in c]
    rows[:, turns] = np.unwrap(rows[:, turns], axis=0)
    kinds = tuple(k for k, has in zip(OWN, (there.moves, there.turns), strict=True) if has)
    return _replaced(character, own, keys, control, channels, rows, kinds)


def out_of_world(character: Character, program: RigProgram, clip: str, control: str) -> Character:
    """The motion with a control led by its own channels again.  Raises StepRefused where it isn't held in the world."""
    own, keys = keyed_clip(character, clip)
    held = [t for t in own.tracks if t.thing == Ref.control(control) and t.channel.startswith(WORLD)]
    if not held:
        raise StepRefused(f"{control} isn't held in the world.", clip, "Choose one that is.")
    motion = clip_motion(program, character, clip)
    there = character.control_named[control]
    channels = [c.name for c in there.channels if c.name.split(" ")[0] in OWN and not c.locked]
    rows = np.array([[motion.inputs_at(f)[control].get(c, 0.0) for c in channels] for f in range(own.end + 1)])
    turns = [k for k, c in enumerate(channels) if c.startswith("turn")]
    rows[:, turns] = np.unwrap(rows[:, turns], axis=0)
    return _replaced(character, own, keys, control, channels, rows, (WORLD.strip(),))


def _replaced(
    character: Character, clip: Clip, keys: np.ndarray, control: str, channels: list[str], rows: np.ndarray, gone: tuple[str, ...]
) -> Character:  # fmt: skip
    """The motion with some of a control's tracks in the place of others: rows (f, c), keys made of them."""
    keep = [t.thing != Ref.control(control) or t.channel.split(" ")[0] not in gone for t in clip.tracks]
    tracks = [t for t, stays in zip(clip.tracks, keep, strict=True) if stays]
    size = np.array([1.0 if "turn" in c else max(character.height, 1e-6) for c in channels])
    new = thinned(rows, NEAR_ENOUGH * size).astype(float)
    new[:, TRACK] += len(tracks)
    tracks += [Track(thing=Ref.control(control), channel=c) for c in channels]
    both = ordered(np.vstack([only_tracks(keys, keep), new]))
    return with_keys(character, clip, both, tracks=tuple(tracks))


def _told(control: Control, frame: Frame, channels: list[str]) -> list[float]:
    """Where a control stands in the world, off its rest."""
    m = np.array(frame).reshape(3, 4)
    rest = matrix_from_quaternion(np.array(control.turn))
    moved = m[:, 3] - np.array(control.place)
    turned = Rotation.from_matrix(m[:, :3] @ rest.T).as_euler("xyz")
    return [float((turned if "turn" in c else moved)["xyz".index(c[-1])]) for c in channels]
