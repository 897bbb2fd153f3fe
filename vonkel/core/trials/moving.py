"""What only a motion shows: joints that pop from frame to frame, feet that slide while they stand, limbs that miss their targets."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ..character import Character, Clip
from ..motion.clips import length_of
from ..motion.keys import AT, HELD, MANNER
from ..retargeting.feet import Contact, slide, standing_joint
from ..rig import Pose, RigProgram, compile_rig
from ..rig.frames import Frame, compose, inverse, place_of
from ..rig.kits import gives
from ..rig.kits.limb import limb_joints
from ..rig.motion import clip_motion
from ..rig.slots import Slot
from ..walking import feet_of
from .measure import Moving

RATE = 24.0  # frames a second at which jumps are counted: others are brought to it


class MotionLook:
    """A motion as its joints go, looked at as a whole; frames are then asked for one by one."""

    def __init__(self, character: Character, clip: Clip) -> None:
        self.character, self.clip = character, clip
        self.program: RigProgram = compile_rig(character)
        self.motion = clip_motion(self.program, character, clip.name)
        self.count = length_of(character, clip)
        self.aims = _aims(character, self.program)

    @cached_property
    def places(self) -> np.ndarray:
        """(f, j, 3)."""
        return np.array([self.motion.pose(f).joints[:, :, 3] for f in range(self.count)])

    @cached_property
    def pops(self) -> np.ndarray:
        """(f, j): how suddenly joints go, of the size: second differences against the figure's hips, as at RATE; nothing at the
        ends, and where keys are held on purpose."""
        places = self.places - self.places[:, :1]
        out = np.zeros(places.shape[:2])
        if self.count > 2:
            step = np.linalg.norm(places[2:] - 2 * places[1:-1] + places[:-2], axis=2)
            out[1:-1] = step * (self.clip.rate / RATE) ** 2 / max(self.character.size, 1e-9)
        out[self._held] = 0.0
        return out

    @cached_property
    def _held(self) -> np.ndarray:
        """(f,) bool: frames beside which a held key lets go."""
        out = np.zeros(self.count, bool)
        if self.clip.keyed:
            keys = self.character.arrays[self.clip.array]
            before = np.r_[False, (keys[:-1, MANNER] == HELD) & (keys[:-1, 0] == keys[1:, 0])]
            for f in np.unique(keys[before, AT]):
                out[max(int(f) - 2, 0) : int(f) + 3] = True
        return out

    @cached_property
    def _stands(self) -> list[tuple[str, int, tuple[tuple[int, int], ...], float]]:
        told = {s.control: s.frames for s in self.clip.stands if s.frames}
        if not told:
            return []
        index = self.character.joint_index
        return [
            (f.control.name, index[standing_joint(self.character, f)], told[f.control.name], f.reach)
            for f in feet_of(self.character)
            if f.control.name in told
        ]

    def contacts(self) -> list[Contact]:
        """How well each foot that stands stays where it stands."""
        return [
            Contact(
                name,
                frames,
                sum(b - a + 1 for a, b in frames) / self.count,
                slide(self.places[:, joint], list(frames), leg),
            )
            for name, joint, frames, leg in self._stands
        ]

    def worst_frames(self) -> list[int]:
        """The frame that pops most, and where feet slide most."""
        out = [int(self.pops.max(1).argmax())] if self.count > 2 else []
        for _, joint, frames, _ in self._stands:
            far = [
                (float(np.linalg.norm(self.places[f, joint] - self.places[a : b + 1, joint].mean(0))), f)
                for a, b in frames
                for f in range(a, min(b + 1, self.count))
            ]
            if far:
                out.append(max(far)[1])
        return sorted(set(out))

    def at(self, frame: int) -> Moving:
        """What is seen at a frame."""
        joint = int(self.pops[frame].argmax())
        slid, sliding = 0.0, ""
        for name, row, frames, leg in self._stands:
            for a, b in frames:
                if a <= frame <= b:
                    off = float(np.linalg.norm(self.places[frame, row] - self.places[a : b + 1, row].mean(0))) / leg
                    if off > slid:
                        slid, sliding = off, name
        missed, missing = off_target(self.program, self.motion.pose(frame), self.aims)
        popped = float(self.pops[frame, joint])
        return Moving(popped, self.character.joints[joint].name, slid, sliding, missed, missing)


Aim = tuple[
    str, int, float, Frame
]  # target, the joint that it holds, the limb's length, and from the one to the other at rest


def _aims(character: Character, program: RigProgram) -> list[Aim]:
    out = []
    for kit in character.kits:
        target = next((c.name for c in character.controls if c.kit == kit.name and c.key == "target"), "")
        if not gives(kit, "goal") or not target or (target, "ik") not in program.channels:
            continue
        names = limb_joints(kit)
        at = np.array([character.joint(n).place for n in names])
        length = float(np.linalg.norm(np.diff(at, axis=0), axis=1).sum())
        rest: Frame = program.initial[program.slots[Slot.control(target)]]
        end: Frame = program.initial[program.slots[Slot.joint(names[-1])]]
        out.append((target, character.joint_index[names[-1]], length, compose(inverse(rest), end)))
    return out


def off_target(program: RigProgram, pose: Pose, aims: list[Aim]) -> tuple[float, str]:
    """The farthest that a limb led by its target is from where that would have its end, of its length; and whose it is.

    A foot that rolls is led elsewhere on purpose: limbs whose target carries such a foot are looked at where nothing rolls.
    """
    worst, whose = 0.0, ""
    for target, joint, length, way in aims:
        if pose.values[program.channels[(target, "ik")]] < 0.999 or pose.size != 1.0:
            continue
        if any(
            abs(pose.values[i]) > 1e-6
            for (c, k), i in program.channels.items()
            if c.startswith("foot roll") and k != "toe lift"
        ):
            continue
        wanted = np.array(place_of(compose(pose.controls[target], way)))
        off = float(np.linalg.norm(pose.joints[joint, :, 3] - wanted)) / max(length, 1e-9)
        if off > worst:
            worst, whose = off, target
    return worst, whose
