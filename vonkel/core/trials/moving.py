"""What only a motion shows: joints that pop from frame to frame, feet that slide while they stand, limbs that miss their targets."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ..character import Character, Clip
from ..motion.clips import length_of
from ..motion.keys import AT, HELD, MANNER
from ..retargeting.feet import Contact, Standing, off_stands, standings
from ..rig import Pose, RigProgram, compile_rig
from ..rig.frames import Frame, compose, inverse, place_of
from ..rig.kits import gives
from ..rig.kits.limb import limb_joints, limb_length, limb_target
from ..rig.motion import clip_motion
from ..rig.slots import Slot
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
    def _standings(self) -> list[Standing]:
        return standings(self.character, self.clip)

    @cached_property
    def _slides(self) -> np.ndarray:
        """(s, f): how far each foot that stands is off its place, of its leg."""
        return np.array([off_stands(self.places[:, s.joint], s.stands) / s.leg for s in self._standings])

    def contacts(self) -> list[Contact]:
        """How well each foot that stands stays where it stands."""
        return [s.contact(self.places) for s in self._standings]

    def worst_frames(self) -> list[int]:
        """The frame that pops most, and where feet slide most."""
        out = {int(row.argmax()) for row in self._slides}
        if self.count > 2:
            out.add(int(self.pops.max(1).argmax()))
        return sorted(out)

    def at(self, frame: int) -> Moving:
        """What is seen at a frame."""
        joint = int(self.pops[frame].argmax())
        slid, sliding = 0.0, ""
        if self._standings:
            k = int(self._slides[:, frame].argmax())
            slid = float(self._slides[k, frame])
            sliding = self._standings[k].foot if slid else ""
        missed, missing = off_target(self.program, self.motion.pose(frame), self.aims)
        popped = float(self.pops[frame, joint])
        return Moving(popped, self.character.joints[joint].name, slid, sliding, missed, missing)


# Target, the joint that it holds, the limb's length, and from the one to the other at rest.
Aim = tuple[str, int, float, Frame]


def _aims(character: Character, program: RigProgram) -> list[Aim]:
    out = []
    for kit in character.kits:
        target = limb_target(character, kit) if gives(kit, "goal") else None
        if target is None or (target.name, "ik") not in program.channels:
            continue
        last = limb_joints(kit)[-1]
        rest: Frame = program.initial[program.slots[Slot.control(target.name)]]
        end: Frame = program.initial[program.slots[Slot.joint(last)]]
        length = limb_length(character, kit)
        out.append((target.name, character.joint_index[last], length, compose(inverse(rest), end)))
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
