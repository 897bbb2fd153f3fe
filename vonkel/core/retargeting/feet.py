"""When feet stand, by how high and how fast they are; and what keeps them where they stand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d

from ..character import Character, Clip
from ..geometry.easing import smoothstep
from ..motion.clips import clip_named, length_of
from ..rig import compile_rig
from ..rig.kits import gives
from ..rig.kits.limb import limb_joints
from ..rig.motion import clip_motion
from ..walking import Foot, feet_of

LOW = 0.12  # of the leg's length: a foot that stands is no higher over where it gets lowest
SLOW = 0.3  # leg lengths a second: nor faster
SHORTEST, GAP = 0.08, 0.05  # seconds that a foot stands at least, and lifts at least between two stands
NEAR_GROUND = 0.1  # of the leg's length: a stand nearer to the rest's height is on the ground
EASED = 0.25  # seconds over which a correction comes and goes where no stand is near


@dataclass(frozen=True)
class Contact:
    """A foot's stands in a capture: frames (s, 2), first and last, and the share of all frames in them.  slid: the farthest that
    it moves on our rig while it stands, of its leg's length."""

    foot: str
    stands: tuple[tuple[int, int], ...]
    share: float
    slid: float = 0.0


def stands_of(place: np.ndarray, leg: float, rate: float) -> list[tuple[int, int]]:
    """When a joint of a foot stands: first and last frames.  place (f, 3) and leg in one unit, rate in frames a second."""
    if len(place) < 3:
        return []
    even = uniform_filter1d(place, max(1, round(0.04 * rate)), axis=0, mode="nearest")
    speed = np.linalg.norm(np.gradient(even, axis=0), axis=1) * rate
    low = float(np.percentile(place[:, 1], 5))
    on = (speed < SLOW * leg) & (place[:, 1] < low + LOW * leg)
    out: list[tuple[int, int]] = []
    edges = np.flatnonzero(np.diff(np.r_[False, on, False])).reshape(-1, 2)
    for first, after in edges.tolist():
        if out and first - out[-1][1] <= GAP * rate:
            out[-1] = (out[-1][0], after - 1)
        else:
            out.append((first, after - 1))
    return [(a, b) for a, b in out if b - a + 1 >= SHORTEST * rate]


def corrections(place: np.ndarray, stands: list[tuple[int, int]], rest: float, leg: float, rate: float) -> np.ndarray:
    """(f, 3): what takes a foot from where it is (f, 3) to where it stands; between two stands it goes from one to the next.

    Each stand is at the mean of its places, on the ground (`rest`, metres high) where it is near it.
    """
    out = np.zeros_like(place)
    if not stands:
        return out
    for a, b in stands:
        fixed = place[a : b + 1].mean(0)
        if abs(fixed[1] - rest) < NEAR_GROUND * leg:
            fixed[1] = rest
        out[a : b + 1] = fixed - place[a : b + 1]
    ease = max(round(EASED * rate), 1)
    edges = [
        (0, stands[0][0]),
        *((a[1], b[0]) for a, b in zip(stands, stands[1:], strict=False)),
        (stands[-1][1], len(place) - 1),
    ]
    for i, (a, b) in enumerate(edges):
        inner = np.arange(a + (i > 0), b + (i == len(edges) - 1))
        if not len(inner):
            continue
        before, after = out[a] if i > 0 else None, out[b] if i < len(edges) - 1 else None
        if before is not None and after is not None:
            share = smoothstep((inner - a) / max(b - a, 1))[:, None]
            out[inner] = (1 - share) * before + share * after
        elif after is not None:
            out[inner] = smoothstep(np.clip(1 - (b - inner) / ease, 0, 1))[:, None] * after
        elif before is not None:
            out[inner] = smoothstep(np.clip(1 - (inner - a) / ease, 0, 1))[:, None] * before
    return out


def off_stands(place: np.ndarray, stands: Sequence[tuple[int, int]]) -> np.ndarray:
    """(f,) how far a foot's place (f, 3) is from the middle of its stand; nothing while it doesn't stand."""
    out = np.zeros(len(place))
    for a, b in stands:
        own = place[a : b + 1]
        if len(own):
            out[a : b + 1] = np.linalg.norm(own - own.mean(0), axis=1)
    return out


def standing_joint(character: Character, foot: Foot) -> str:
    """The joint of a foot that stays where it stands: its ball, or what its target holds."""
    kit = next(k for k in character.kits if k.name == foot.control.kit)
    end = limb_joints(kit)[-1]
    roll = next((k for k in character.kits if gives(k, "roll") and k.joints["foot"] == (end,)), None)
    return roll.joints["ball"][0] if roll is not None and roll.joints.get("ball") else end


@dataclass(frozen=True)
class Standing:
    """A foot that is known to stand in a motion: its target, the row of the joint that stays, the frames, its leg's length."""

    foot: str
    joint: int
    stands: tuple[tuple[int, int], ...]
    leg: float

    def contact(self, places: np.ndarray) -> Contact:
        """How well it stays, of where all joints are at all frames (f, j, 3)."""
        off = off_stands(places[:, self.joint], self.stands)
        share = sum(b - a + 1 for a, b in self.stands) / len(places)
        return Contact(self.foot, self.stands, share, float(off.max(initial=0.0)) / self.leg)


def standings(character: Character, clip: Clip) -> list[Standing]:
    """The feet that are known to stand in a motion."""
    told = {s.control: s.frames for s in clip.stands if s.frames}
    return [
        Standing(f.control.name, character.joint_index[standing_joint(character, f)], told[f.control.name], f.reach)
        for f in (feet_of(character) if told else ())
        if f.control.name in told
    ]


def kept(character: Character, clip: str) -> list[Contact]:
    """How well the feet that stand in a motion stay where they stand.  Raises NotFound."""
    own = clip_named(character, clip)
    found = standings(character, own)
    if not found:
        return []
    motion = clip_motion(compile_rig(character), character, clip)
    places = np.array([motion.pose(f).joints[:, :, 3] for f in range(length_of(character, own))])
    return [s.contact(places) for s in found]
