"""A pose of the trials by its name, whatever it is a trial of."""

from __future__ import annotations

from ..character import Character
from ..rig import Pose, compile_rig
from .clips import frame_called
from .faces import face_pose, face_trials
from .poses import pose_from_turns, trial_poses
from .shapes import shape_trials, shaped_pose
from .sweeps import swept


def trial_pose(character: Character, name: str) -> Pose | None:
    """The pose called `name`: a trial pose, an angle of a sweep, a frame of a kept motion, one of the character's saved poses, or a trial of its face or shapes."""
    for p in trial_poses(character):
        if p.name == name:
            return pose_from_turns(character, p.turns)
    for saved in character.poses:
        if saved.name == name:
            return compile_rig(character).evaluate(saved.values)
    frame = frame_called(character, name)
    if frame is not None:
        return frame
    at = swept(character, name)
    if at is not None:
        return pose_from_turns(character, at[0].turns(character, at[1]))
    face = next((t for t in face_trials(character) if t.name == name), None)
    if face is not None:
        return face_pose(character, face)
    tried = next((strengths for called, _, strengths in shape_trials(character) if called == name), None)
    return None if tried is None else shaped_pose(character, tried)
