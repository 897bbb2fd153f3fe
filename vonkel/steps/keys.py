"""Steps of keys: poses set in a motion, and what is done with keys in time."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Clip, Name, Number
from ..core.errors import BadParameters, NotFound
from ..core.expression.making import PAD
from ..core.motion.keyed import at_rate, baked, keyed_clip, keys_made, posed_at, stands_along, tracks_of, with_keys
from ..core.motion.keys import (
    AT,
    BENT,
    INTO,
    MANNER,
    MANNERS,
    OUT,
    TRACK,
    VALUE,
    between,
    closed,
    frames_moved,
    frames_spaced,
    later,
    moved,
    ordered,
    put,
    slopes_of,
    spaced,
    those,
    whole_poses,
)  # fmt: skip
from ..core.motion.speech import Sound, pad_places, poses_of, spoken, viseme_of
from ..core.rig import compile_rig
from ..core.rig.inworld import into_world, out_of_world
from ..core.rig.sides import mirrored_clip, side_copied
from .registry import Params, step

Frame = Annotated[float, Field(ge=0, le=100_000, allow_inf_nan=False)]
Manner = Literal["held", "linear", "smooth", "bent"]
KeyPlace = tuple[Annotated[int, Field(ge=0, le=4096)], Frame]
Some = Annotated[list[KeyPlace], Field(min_length=1, max_length=100_000, description="keys by track number and frame")]


class PoseKeys(Params):
    clip: Annotated[Name, Field(max_length=60)]
    frame: Frame = 0.0
    values: dict[str, dict[str, Number]] = Field(description="control → channel → value")
    manner: Manner = Field("smooth", description="how the motion goes on from there")
    only: list[str] = Field([], max_length=4096, description="these controls alone; none: all")
    changed: bool = Field(False, description="only channels that stand otherwise than the motion has them there")


@step("keys.pose", PoseKeys, lambda c, p: f"Set the pose at frame {p.frame:g} of {p.clip}")
def pose(character: Character, p: PoseKeys) -> Character:
    """Set a pose as keys at a frame; the motion begins with it where there is none of that name."""
    return posed_at(character, p.clip, p.frame, p.values, p.manner, only=p.only, changed=p.changed)


class KeyRow(Params):
    track: int = Field(ge=0, le=4096)
    frame: Frame
    value: Number
    manner: Manner = "smooth"
    into: Number = Field(0.0, description="slope that a bent key comes in by, a frame")
    out: Number = Field(0.0, description="slope that it leaves by")


class SetKeys(Params):
    clip: str
    gone: list[KeyPlace] = Field([], max_length=100_000, description="keys that go, by track number and frame")
    keys: list[KeyRow] = Field([], max_length=100_000)


@step(
    "keys.set",
    SetKeys,
    lambda c, p: f"Set {len(p.keys)} keys of {p.clip}" if len(p.keys) != 1 else f"Set a key of {p.clip}",
)
def put_keys(character: Character, p: SetKeys) -> Character:
    """Set keys one by one, in the place of others."""
    clip, keys = keyed_clip(character, p.clip)
    strange = [k.track for k in p.keys if k.track >= len(clip.tracks)]
    if strange:
        raise NotFound(f"The motion has no track {strange[0]}.", p.clip, "Reload the page.")
    kept = keys[~those(keys, p.gone)] if p.gone else keys
    rows = [(k.track, k.frame, k.value, MANNERS.index(k.manner), k.into, k.out) for k in p.keys]
    return with_keys(character, clip, put(kept, np.array(rows)) if rows else kept)


class DropKeys(Params):
    clip: str
    keys: Some


@step("keys.drop", DropKeys, lambda c, p: f"Took {len(p.keys)} keys out of {p.clip}")
def drop(character: Character, p: DropKeys) -> Character:
    """Take keys out; a channel goes with its last one."""
    clip, keys = keyed_clip(character, p.clip)
    return with_keys(character, clip, keys[~_chosen(keys, p.keys, p.clip)])


class MoveKeys(DropKeys):
    by: float = Field(0.0, ge=-1e5, le=1e5, description="frames")
    scale: float = Field(1.0, ge=-100, le=100, description="how far they are spread, about a frame")
    about: Frame = 0.0
    snap: bool = Field(True, description="they come to whole frames")


@step("keys.move", MoveKeys, lambda c, p: f"Moved {len(p.keys)} keys of {p.clip}")
def move(character: Character, p: MoveKeys) -> Character:
    """Move keys in time, or spread them about a frame."""
    if abs(p.scale) < 1e-3:
        raise BadParameters("Keys can't all stand at one frame.", p.clip, "Spread them by more.")
    clip, keys = keyed_clip(character, p.clip)
    chosen = _chosen(keys, p.keys, p.clip)
    return _moved(character, clip, keys, chosen, p.by, p.scale, p.about, p.snap)


def _moved(
    character: Character, clip: Clip, keys: np.ndarray, chosen: np.ndarray, by: float, scale: float = 1.0,
    about: float = 0.0, snap: bool = True,
) -> Character:  # fmt: skip
    """With the chosen keys where `frames_moved` has them; what stands goes along."""
    clip = stands_along(clip, keys, frames_moved(keys, chosen, by, scale, about, snap))
    return with_keys(character, clip, moved(keys, chosen, by, scale, about, snap))


class MannerOf(DropKeys):
    manner: Manner


@step("keys.manner", MannerOf, lambda c, p: f"Let {len(p.keys)} keys of {p.clip} go on {p.manner}")
def manner_of(character: Character, p: MannerOf) -> Character:
    """Say how the motion goes on from keys: held, straight, smooth, or by slopes of their own."""
    clip, keys = keyed_clip(character, p.clip)
    chosen, new = _chosen(keys, p.keys, p.clip), keys.copy()
    if p.manner == "bent":  # it begins as the smooth curve that is there
        for track in np.unique(keys[chosen, TRACK]):
            mine = keys[:, TRACK] == track
            slopes = slopes_of(
                keys[mine, AT].astype(float), keys[mine, VALUE].astype(float), clip.end if clip.loop else 0.0
            )
            both = np.flatnonzero(mine)[chosen[mine] & (keys[mine, MANNER] != BENT)]
            new[both, INTO] = new[both, OUT] = slopes[chosen[mine] & (keys[mine, MANNER] != BENT)]
    new[chosen, MANNER] = MANNERS.index(p.manner)
    return with_keys(character, clip, new)


def _chosen(keys: np.ndarray, places: list[KeyPlace], clip: str) -> np.ndarray:
    found = those(keys, places)
    if not found.any():
        raise NotFound("There are no such keys.", clip, "Choose keys that are there.")
    return found


class SpacePoses(Params):
    clip: str
    apart: Annotated[float, Field(gt=0, le=1000, description="frames")] = 5.0
    first: Frame = 0.0
    held: bool = Field(False, description="every pose is held until the next one")


@step("keys.space", SpacePoses, lambda c, p: f"Stood the poses of {p.clip} {p.apart:g} frames apart")
def space(character: Character, p: SpacePoses) -> Character:
    """Stand whole poses evenly apart, in their order."""
    clip, keys = keyed_clip(character, p.clip)
    new = spaced(keys, p.apart, p.first)
    clip = stands_along(clip, keys, frames_spaced(keys, p.apart, p.first))
    if p.held:
        new[:, MANNER] = 0
    return with_keys(character, clip, new, end=int(np.ceil(new[:, AT].max())) if not clip.loop else clip.end)


class MovePose(Params):
    clip: str
    frame: Frame = Field(description="where the pose stands")
    to: Frame = Field(description="where it shall stand")
    after: bool = Field(False, description="all that come after it go along")


@step("keys.move_pose", MovePose, lambda c, p: f"Moved the pose at frame {p.frame:g} of {p.clip} to {p.to:g}")
def move_pose(character: Character, p: MovePose) -> Character:
    """Move a whole pose in time."""
    clip, keys = keyed_clip(character, p.clip)
    at = keys[:, AT].astype(float)
    chosen = at >= p.frame - 0.5e-3 if p.after else np.abs(at - p.frame) < 1e-3
    if not chosen.any():
        raise NotFound(f"No pose stands at frame {p.frame:g}.", p.clip, "Choose one that is there.")
    return _moved(character, clip, keys, chosen, p.to - p.frame, snap=False)


class BetweenPoses(Params):
    clip: str
    frame: Frame
    share: float = Field(0.5, ge=-0.5, le=1.5, description="of the way from the pose before to the one after")


@step("keys.between", BetweenPoses, lambda c, p: f"Put a pose between two of {p.clip}, at frame {p.frame:g}")
def put_between(character: Character, p: BetweenPoses) -> Character:
    """Put a whole pose between its two neighbours."""
    clip, keys = keyed_clip(character, p.clip)
    poses = whole_poses(keys)
    if not (poses < p.frame - 1e-3).any() or not (poses > p.frame + 1e-3).any():
        raise BadParameters(f"Frame {p.frame:g} lies between no two poses.", p.clip, "Choose a frame that does.")
    return with_keys(character, clip, between(keys, len(clip.tracks), p.frame, p.share, clip.loop))


class LaterParts(Params):
    clip: str
    controls: list[str] = Field(min_length=1, max_length=1000, description="what comes later, the first first")
    by: float = Field(1.0, ge=-1000, le=1000, description="frames")
    each: float = Field(
        0.0, ge=-1000, le=1000, description="frames more for each control after the first: a tail follows itself"
    )
    snap: bool = Field(True, description="keys come to whole frames")


@step(
    "keys.later",
    LaterParts,
    lambda c, p: f"Let {p.controls[0]}{' and others' * (len(p.controls) > 1)} come later in {p.clip}",
)
def later_parts(character: Character, p: LaterParts) -> Character:
    """Shift a part in time, so that it follows what leads it."""
    clip, keys = keyed_clip(character, p.clip)
    delays = {k: p.by + i * p.each for i, c in enumerate(p.controls) for k in tracks_of(clip, [c])}
    clip = stands_along(clip, keys, keys[:, AT] + np.array([delays.get(int(t), 0.0) for t in keys[:, TRACK]]))
    return with_keys(character, clip, later(keys, delays, clip.end, clip.loop, p.snap))


class ClipSpan(Params):
    clip: str
    end: int | None = Field(None, ge=1, le=100_000, description="the last frame; none: as it is")
    loop: bool | None = Field(None, description="whether it ends as it begins; none: as it is")


@step("keys.span", ClipSpan, lambda c, p: f"Set how long {p.clip} lasts")
def span(character: Character, p: ClipSpan) -> Character:
    """Say how long a keyed motion lasts, and whether it ends as it begins."""
    clip, keys = keyed_clip(character, p.clip)
    end, loop = p.end if p.end is not None else clip.end, p.loop if p.loop is not None else clip.loop
    if loop:
        keys = keys[keys[:, AT] <= end]
        if not len(keys):
            raise BadParameters("No key would be left.", p.clip, "Let it last longer.")
        keys = closed(keys, end)
    elif end < keys[:, AT].max():
        raise BadParameters(
            f"Keys stand up to frame {keys[:, AT].max():g}.", p.clip, "Move them first, or let it last longer."
        )
    return with_keys(character, clip, ordered(keys), end=end, loop=loop)


class CleanClip(Params):
    clip: str
    share: float = Field(0.005, gt=0, le=0.5, description="how far it may be off: radians, and of the height for moves")


@step("motion.make_keys", CleanClip, lambda c, p: f"Made keys of the frames of {p.clip}")
def make_keys(character: Character, p: CleanClip) -> Character:
    """Clean a motion of frames: what doesn't move goes, and the rest becomes few keys that keep within a tolerance."""
    return keys_made(character, p.clip, p.share)


class OneClip(Params):
    clip: str


@step("motion.bake", OneClip, lambda c, p: f"Wrote {p.clip} down frame by frame")
def bake(character: Character, p: OneClip) -> Character:
    """Make frames of a keyed motion."""
    return baked(character, p.clip)


class RateOf(OneClip):
    rate: Annotated[Number, Field(gt=0, le=1000, description="frames a second")]


@step("motion.at_rate", RateOf, lambda c, p: f"Brought {p.clip} to {p.rate:g} frames a second")
def bring_to_rate(character: Character, p: RateOf) -> Character:
    """Bring a motion to another rate; it lasts as long as before."""
    return at_rate(character, p.clip, p.rate)


class ProjectRate(Params):
    rate: Annotated[Number, Field(gt=0, le=1000, description="frames a second")]


@step("motion.rate", ProjectRate, lambda c, p: f"Set the rate to {p.rate:g} frames a second")
def set_rate(character: Character, p: ProjectRate) -> Character:
    """Say how many frames a second this work goes by; motions keep their own until they are brought to it."""
    return character.with_(rate=p.rate)


class MirrorClip(OneClip):
    name: Annotated[Name, Field(max_length=60)]


@step("motion.mirror", MirrorClip, lambda c, p: f"Mirrored the motion {p.clip}")
def mirror(character: Character, p: MirrorClip) -> Character:
    """Make the mirror image of a motion."""
    return mirrored_clip(character, p.clip, p.name)


class CopySide(OneClip):
    side: Literal["L", "R"] = Field("L", description="the side that is copied")
    first: Frame = 0.0
    last: Frame = 100_000.0
    later: float = Field(0.0, ge=-1e5, le=1e5, description="frames")


@step("motion.copy_side", CopySide, lambda c, p: f"Copied the side {p.side} of {p.clip} to the other")
def copy_side(character: Character, p: CopySide) -> Character:
    """Copy what one side does to the other, in part of a motion, at once or later."""
    clip, last = next((c for c in character.clips if c.name == p.clip), None), p.last
    if clip is not None and clip.keyed:
        last = min(last, float(clip.end))
    return side_copied(character, p.clip, p.side, p.first, last, p.later)


class WorldControl(OneClip):
    control: str


@step("motion.into_world", WorldControl, lambda c, p: f"Held {p.control} in the world in {p.clip}")
def hold_in_world(character: Character, p: WorldControl) -> Character:
    """Say a control's way in the world's space, whatever carries it, so that it can be changed there."""
    return into_world(character, compile_rig(character), p.clip, p.control)


@step("motion.out_of_world", WorldControl, lambda c, p: f"Brought {p.control} back from the world in {p.clip}")
def bring_back(character: Character, p: WorldControl) -> Character:
    """Let a control's own channels say its way again; nothing moves."""
    return out_of_world(character, compile_rig(character), p.clip, p.control)


class SpokenSound(Params):
    start: Annotated[float, Field(ge=0, le=36_000, description="seconds")]
    end: Annotated[float, Field(ge=0, le=36_000)]
    sound: str = Field(min_length=1, max_length=20)


class Speech(Params):
    name: Annotated[Name, Field(max_length=60)] = "speech"
    sounds: list[SpokenSound] = Field(min_length=1, max_length=20_000)
    by: Literal["visemes", "pad"] = Field(
        "visemes", description="what is keyed: the poses of visemes, or the mouth pad's bead"
    )
    blend: float = Field(0.08, ge=0, le=1, description="seconds from one sound to the next")
    held: bool = Field(False, description="the face jumps from one to the next, as a drawn one does")
    strength: float = Field(1.0, gt=0, le=2)


@step(
    "motion.speak",
    Speech,
    lambda c, p: f"Let it say {' '.join(s.sound for s in p.sounds[:8])}{' …' if len(p.sounds) > 8 else ''}",
)
def speak(character: Character, p: Speech) -> Character:
    """Make a motion of sounds in time: keys of visemes, or of the mouth pad."""
    bad = next((s for s in p.sounds if s.end <= s.start), None)
    if bad is not None:
        raise BadParameters(f"“{bad.sound}” ends before it begins.", p.name, "Let it end later.")
    sounds = [Sound(s.start, s.end, s.sound, viseme_of(s.sound)) for s in p.sounds]
    poses = poses_of(character) if p.by == "visemes" else pad_places(character, PAD)
    return spoken(character, p.name, sounds, poses, character.rate, p.blend, p.held, p.strength)
