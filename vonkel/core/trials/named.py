"""Everything that can be tried, by name; a pose is only made when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from ..character import Character
from ..poses import pose_from_turns, pose_set
from ..rig import Pose, compile_rig
from .clips import frame_called, name_at
from .faces import FaceTrial, face_pose, face_trials
from .measure import Moving
from .moving import MotionLook
from .shapes import shape_trials, shaped_pose
from .sweeps import Sweep, swept


@dataclass(frozen=True)
class Tried:
    """One pose to be tried.  contact: the skin in itself and parts through it are looked at, too; body: they are looked at, but told and
    not weighed, as an elbow that bends must touch itself."""

    name: str
    about: str
    pose: Callable[[], Pose]
    contact: bool = False
    body: bool = False
    face: FaceTrial | None = None
    moving: Callable[[], Moving] | None = None


def posed(character: Character) -> Iterator[Tried]:
    """The poses of its plan, and its saved ones."""
    for p in pose_set(character):
        yield Tried(p.name, p.about, partial(pose_from_turns, character, p.turns), body=True)
    for s in character.poses:
        yield Tried(s.name, "a saved pose", partial(compile_rig(character).evaluate, s.values), body=True)


def shown_close(character: Character) -> Iterator[Tried]:
    """What its face's controls and its shapes do."""
    for t in face_trials(character):
        yield Tried(t.name, t.about, partial(face_pose, character, t), contact=True, face=t)
    for name, about, strengths in shape_trials(character):
        yield Tried(name, about, partial(shaped_pose, character, strengths), contact=True)


def angle_tried(character: Character, sweep: Sweep, angle: float) -> Tried:
    """One angle of a sweep."""
    about = f"{sweep.joint} turned by {np.degrees(angle):.0f}° through its freedom"
    turns = partial(sweep.turns, character, angle)
    return Tried(sweep.name_at(angle), about, lambda: pose_from_turns(character, turns()))


def frame_tried(look: MotionLook, frame: int) -> Tried:
    """One frame of a kept motion."""
    about = f"the motion {look.clip.name}"
    return Tried(name_at(look.clip, frame), about, partial(look.motion.pose, frame), moving=partial(look.at, frame))


def trial_called(character: Character, name: str) -> Tried | None:
    """What is called `name`: a pose, an angle of a sweep, a frame of a kept motion, or a trial of the face or the shapes."""
    found = next((t for t in posed(character) if t.name == name), None)
    if found is not None:
        return found
    frame = frame_called(character, name)
    if frame is not None:
        return frame_tried(MotionLook(character, frame[0]), frame[1])
    angle = swept(character, name)
    if angle is not None:
        return angle_tried(character, *angle)
    return next((t for t in shown_close(character) if t.name == name), None)


def trial_pose(character: Character, name: str) -> Pose | None:
    """The pose of the trial that is called `name`."""
    found = trial_called(character, name)
    return found.pose() if found is not None else None
