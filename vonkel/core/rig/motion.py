"""Rigs in motion: springs and swings solved from the first frame on, kept, so that scrubbing back shows the same."""

from __future__ import annotations

import copy
from collections.abc import Callable

import numpy as np
from scipy.spatial.transform import Rotation

from ..character import Character, Control, Inputs
from ..geometry.rotations import matrix_from_quaternion
from ..motion.clips import clip_named, frames_of, values_at
from .drag import grip, turned_to
from .frames import angles_in_order, matrices, turn_in_order
from .program import Clock, Pose, RigProgram

WORLD = "world "  # how channels begin that say where a control is in the world (`rig/inworld.py`)
KEEP_EVERY = 12  # frames between kept memories: from there the frames after are solved again, exactly as before


class Motion:
    """A rig played through frames.  `inputs_at(frame)` gives the control values; the rate is in frames a second.

    Any frame may be asked for in any order; each gives the same pose every time.
    """

    def __init__(self, program: RigProgram, inputs_at: Callable[[int], Inputs], rate: float = 24.0) -> None:
        self.program, self.inputs_at, self.rate = program, inputs_at, rate
        self._kept: dict[int, dict[str, object]] = {0: {}}
        self._last: tuple[int, dict[str, object], Pose] | None = None

    def pose(self, frame: int) -> Pose:
        """The pose at a frame (0, 1 …).  Frames before it that were not yet solved are solved first."""
        if not self.program.timed:
            return self.program.evaluate(self.inputs_at(frame))
        if self._last is not None and self._last[0] == frame:
            return self._last[2]
        start = max(k for k in self._kept if k <= frame)
        memory = copy.copy(self._kept[start])
        if self._last is not None and start <= self._last[0] < frame:
            start, memory = self._last[0] + 1, self._last[1]
        pose: Pose | None = None
        for i in range(start, frame + 1):
            if i % KEEP_EVERY == 0 and i not in self._kept:
                self._kept[i] = copy.copy(memory)
            clock = Clock(i / self.rate, 1.0 / self.rate, memory)
            pose = self.program.evaluate(self.inputs_at(i), clock)
        assert pose is not None
        self._last = (frame, memory, pose)
        return pose

    def forget(self) -> None:
        """Begin anew: springs start settled at the first frame."""
        self._kept, self._last = {0: {}}, None


def clip_motion(program: RigProgram, character: Character, name: str) -> Motion:
    """A kept motion of the character, played on its rig.  Raises NotFound."""
    clip, values = clip_named(character, name), frames_of(character, name)
    held = dict.fromkeys(t.thing.name for t in clip.tracks if t.channel.startswith(WORLD))
    controls = [character.control_named[c] for c in held if c in character.control_named]

    def inputs_at(frame: int) -> Inputs:
        out = values_at(clip, values, frame)
        for control in controls:
            out[control.name] = world_values(program, out, control)
        return out

    return Motion(program, inputs_at, float(clip.rate))


def world_values(program: RigProgram, inputs: Inputs, control: Control) -> dict[str, float]:
    """A control's own values where `inputs` say by `world …` channels how far off its rest it stands in the world."""
    asked = inputs[control.name]
    out = {k: v for k, v in asked.items() if not k.startswith(WORLD)}
    if any(k.startswith(f"{WORLD}turn") for k in asked):
        turn = Rotation.from_euler("xyz", [asked.get(f"{WORLD}turn {a}", 0.0) for a in "xyz"]).as_matrix()
        goal = np.zeros((3, 4))
        goal[:, :3] = turn @ matrix_from_quaternion(np.array(control.turn))
        out = turned_to(program, {**inputs, control.name: out}, control.name, tuple(float(v) for v in goal.ravel()))
    if any(k.startswith(f"{WORLD}{a}") for k in asked for a in "xyz"):
        taken = grip(program, {**inputs, control.name: out}, control.name)
        x, y, z = (p + asked.get(f"{WORLD}{a}", 0.0) for p, a in zip(control.place, "xyz", strict=True))
        if taken.size != 1.0:
            x, y, z = (c + taken.size * (p - c) for p, c in zip((x, y, z), taken.centre, strict=True))
        out = taken.moved_to((x, y, z))
    return out


def between(a: Inputs, b: Inputs, share: float) -> Inputs:
    """Values part of the way from one pose to another that sets the same channels."""
    return {c: {k: v + share * (b[c][k] - v) for k, v in given.items()} for c, given in a.items()}


def there_and_back(a: Inputs, b: Inputs, frames: int, rests: dict[str, dict[str, float]]) -> Callable[[int], Inputs]:
    """A try of a motion: a third of the frames from `a` to `b`, a third held, a third back, eased at both ends.

    rests: what each channel is at rest, control → channel → value.
    """
    full_a = _filled(a, b, rests)
    full_b = _filled(b, a, rests)

    def at(frame: int) -> Inputs:
        t = frame / max(frames - 1, 1) * 3.0
        share = t if t < 1 else 1.0 if t < 2 else 3.0 - t
        return between(full_a, full_b, share * share * (3 - 2 * share))

    return at


def _filled(a: Inputs, b: Inputs, rests: dict[str, dict[str, float]]) -> Inputs:
    """`a` with every channel that only `b` sets, at rest."""
    out: Inputs = {c: dict(v) for c, v in a.items()}
    for control, given in b.items():
        for channel in given:
            out.setdefault(control, {}).setdefault(channel, rests.get(control, {}).get(channel, 0.0))
    return out


def mixed(character: Character, a: Inputs, b: Inputs, share: float) -> Inputs:
    """Values part of the way from one pose to another: turns the short way about one axis, what one of them leaves at rest from rest."""
    rests = {c.name: {k.name: k.rest for k in c.channels} for c in character.controls}
    full_a, full_b = _filled(a, b, rests), _filled(b, a, rests)
    out = between(full_a, full_b, share)
    named = character.control_named
    for control, given in out.items():
        if control not in named or not any(k.startswith("turn ") for k in given):
            continue
        order = named[control].order
        one, other = (
            turn_in_order(order, *(v[control].get(f"turn {k}", 0.0) for k in "xyz")) for v in (full_a, full_b)
        )
        ends = matrices([one, other])[:, :, :3]
        way = Rotation.from_matrix(ends[0].T @ ends[1]).as_rotvec()
        m = np.zeros((3, 4))
        m[:, :3] = ends[0] @ Rotation.from_rotvec(share * way).as_matrix()
        for k, v in zip("xyz", angles_in_order(order, tuple(m.ravel().tolist())), strict=True):
            if f"turn {k}" in given or abs(v) > 1e-9:
                given[f"turn {k}"] = v
    return out
