"""Steps of motions: kept, renamed, taken away."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Name, Number, Ref, Track
from ..core.character.references import renamed
from ..core.character.refs import ControlName, JointName
from ..core.errors import BadParameters, NotFound
from ..core.motion import with_clip, without_clip
from ..core.motion.capture import Capture, Skeleton
from ..core.motion.clips import clip_named
from ..core.retargeting import matched, played
from ..core.retargeting.feet import kept
from ..core.rig.builder import WHOLE
from ..core.walking import Course, Gait, Ground, Path, course, feet_of, pattern, walked, without_hold
from .registry import Array, Coordinate, Params, step

STRIDE, LIFT = 0.9, 0.12  # of the shortest leg: metres a period, and how high feet are lifted, where nothing is said


class AddClip(Params):
    name: Annotated[Name, Field(max_length=60)]
    rate: Annotated[Number, Field(gt=0, le=1000, description="frames a second")] = 30.0
    tracks: tuple[Track, ...] = Field(min_length=1, max_length=4096)
    values: Array = Field(description="(frames, tracks): metres, radians or plain numbers, as the tracks' channels")


@step("motion.add", AddClip, lambda c, p: f"Kept the motion {p.name}")
def add(character: Character, p: AddClip) -> Character:
    """Keep a motion: the values of channels and shapes at every frame."""
    if not np.issubdtype(p.values.dtype, np.number):
        raise BadParameters("A motion is made of numbers.", p.name)
    return with_clip(character, p.name, p.rate, p.tracks, p.values)


class Walking(Params):
    name: Annotated[Name, Field(max_length=60)] = "walk"
    rate: Annotated[Number, Field(ge=1, le=240)] | None = Field(
        None, description="frames a second; none: as this work has them"
    )
    gait: Literal["walk", "trot", "pace", "amble", "tripod", "one after the other"] = Field(
        "walk", description="which foot follows which"
    )
    stride: float = Field(0.0, ge=0.0, le=1e3, description="metres a period; 0: as the legs' length has it")
    lift: float = Field(0.0, ge=0.0, le=1e3, description="metres that a foot is lifted; 0: as the legs' length has it")
    period: float = Field(1.0, ge=0.05, le=60.0, description="seconds from one step of a foot to its next")
    duty: float = Field(0.0, ge=0.0, le=0.95, description="share of a period that a foot stands; 0: the gait's own")
    phases: dict[ControlName, Annotated[float, Field(ge=0.0, lt=1.0)]] = Field(
        {}, max_length=64, description="when a foot comes down, share of a period; those not named as the gait has them"
    )
    path: list[tuple[Coordinate, Coordinate]] = Field(
        [], max_length=200, description="x and z of places along the way, metres; none: four strides straight ahead"
    )
    bumps: list[tuple[Coordinate, Coordinate, Annotated[float, Field(gt=0, le=1e6)], Coordinate]] = Field(
        [], max_length=500, description="x, z, radius and height of hills in the ground, metres"
    )
    holes: list[tuple[Coordinate, Coordinate, Annotated[float, Field(gt=0, le=1e6)]]] = Field(
        [], max_length=500, description="x, z and radius of where there is no ground, metres"
    )
    aside: float = Field(
        0.0, ge=0.0, le=1e3, description="metres round which a foot looks for its foothold; 0: a fifth of the leg"
    )
    deep: float = Field(0.0, ge=0.0, le=1e3, description="metres down that a foothold may lie; 0: a quarter of the leg")
    high: float = Field(0.0, ge=0.0, le=1e3, description="metres up that a foothold may lie; 0: a quarter of the leg")
    tilt: float = Field(0.7, ge=0.0, le=1.0, description="how much of the ground's tilt the body takes on")
    standing: bool = Field(False, description="it begins and ends standing, by whole steps; else in mid stride")


def gait_of(character: Character, p: Walking) -> Gait:
    """The gait that parameters ask for, with what they leave open.  Raises StepRefused where no foot steps."""
    feet = feet_of(character)
    phases, duty = pattern(feet, p.gait)
    unknown = set(p.phases) - {f.control.name for f in feet}
    if unknown:
        raise NotFound(
            f"No foot is called “{sorted(unknown)[0]}”.",
            character.name,
            f"There are: {', '.join(f.control.name for f in feet)}.",
        )
    own = tuple(p.phases.get(f.control.name, phase) for f, phase in zip(feet, phases, strict=True))
    leg = min(f.reach for f in feet)
    return Gait(
        p.stride or STRIDE * leg, p.lift or LIFT * leg, p.period, p.duty or duty, own, p.aside or 0.2 * leg, p.deep or 0.25 * leg,
        p.high or 0.25 * leg, p.tilt,
    )  # fmt: skip


def _way(character: Character, p: Walking) -> tuple[Course, Ground, float]:
    """Course, ground and rate that parameters ask for."""
    gait = gait_of(character, p)
    whole = character.control_named.get(WHOLE)
    start = np.array([whole.place[0], whole.place[2]]) if whole is not None else np.zeros(2)
    places = np.array(p.path, float).reshape(-1, 2) if len(p.path) > 1 else start + [[0.0, 0.0], [0.0, 4 * gait.stride]]
    ground = Ground(np.array(p.bumps, float).reshape(-1, 4), np.array(p.holes, float).reshape(-1, 3))
    rate = p.rate or character.rate
    return course(gait, Path(places), rate, p.standing), ground, rate


def _walk_said(character: Character, p: Walking) -> str:
    way, ground, _ = _way(character, p)
    lost = without_hold(character, way, ground)
    found = f"; {lost} steps find no foothold, those feet hold nothing" if lost else ""
    return f"Made the motion {p.name}: {p.gait}{found}"


@step("motion.walk", Walking, _walk_said)
def walk(character: Character, p: Walking) -> Character:
    """Let legs step along a path over the ground, the body riding and tilting on them."""
    way, ground, rate = _way(character, p)
    walk = walked(character, way, ground, rate)
    made = with_clip(character, p.name, rate, walk.tracks, walk.values)
    clip = made.clips[-1].model_copy(update={"stands": walk.stands})
    return made.with_(clips=(*made.clips[:-1], clip))


class CaptureJoint(Params):
    name: Name
    parent: int = Field(ge=-1, le=2000)
    offset: tuple[Coordinate, Coordinate, Coordinate]
    channels: list[Literal["move x", "move y", "move z", "turn x", "turn y", "turn z"]] = Field([], max_length=9)
    ends: list[tuple[Coordinate, Coordinate, Coordinate]] = Field([], max_length=50)
    rest: tuple[Coordinate, Coordinate, Coordinate] | None = Field(
        None, description="its place at rest; none: as offsets say"
    )


class Bringing(Params):
    name: Annotated[Name, Field(max_length=60)]
    joints: list[CaptureJoint] = Field(min_length=1, max_length=2000, description="the other skeleton, parents first")
    rows: Array = Field(description="(frames, channels): each joint's numbers in their order, turns in degrees")
    rate: Annotated[Number, Field(gt=0, le=1000, description="frames a second that the rows have")] = 30.0
    matches: dict[JointName, str] = Field(
        {}, max_length=2000, description="our joint → theirs; none: as they are found to match"
    )
    plant: bool = Field(True, description="feet that stand there stand here")
    travel: bool = Field(True, description="the figure goes where that one goes")


def capture_of(p: Bringing) -> Capture:
    """The motion of another skeleton that parameters hold.  Raises BadParameters."""
    if any(j.parent >= i or (j.parent < 0) != (i == 0) for i, j in enumerate(p.joints)):
        raise BadParameters("The first joint is the root, and parents come before their children.", p.name)
    channels = tuple(tuple((c[:4], "xyz".index(c[-1])) for c in j.channels) for j in p.joints)
    ends = [(e, i) for i, j in enumerate(p.joints) for e in j.ends]
    skeleton = Skeleton(
        tuple(j.name for j in p.joints), tuple(j.parent for j in p.joints), np.array([j.offset for j in p.joints], float), channels,
        np.array([e for e, _ in ends], float).reshape(-1, 3), tuple(i for _, i in ends),
        np.array([j.rest for j in p.joints], float) if all(j.rest is not None for j in p.joints) else None,
    )  # fmt: skip
    if (
        p.rows.ndim != 2
        or p.rows.shape[1] != skeleton.width
        or not len(p.rows)
        or not np.issubdtype(p.rows.dtype, np.number)
    ):
        raise BadParameters(f"A frame of it has {skeleton.width} numbers.", p.name, "Bring the file in again.")
    return Capture(skeleton, p.rows.astype(float), p.rate)


def bringing(
    name: str, capture: Capture, matches: dict[str, str], plant: bool = True, travel: bool = True
) -> dict[str, Any]:
    """The parameters that hold a motion of another skeleton."""
    s = capture.skeleton
    ends: dict[int, list[list[float]]] = {}
    for e, k in zip(s.ends.tolist(), s.end_of, strict=True):
        ends.setdefault(k, []).append(e)
    joints = [
        {
            "name": n,
            "parent": up,
            "offset": o,
            "channels": [f"{kind} {'xyz'[axis]}" for kind, axis in c],
            "ends": ends.get(i, []),
        }
        | ({"rest": s.rest[i].tolist()} if s.stands is not None else {})
        for i, (n, up, o, c) in enumerate(zip(s.names, s.parents, s.offsets.tolist(), s.channels, strict=True))
    ]
    return {
        "name": name, "joints": joints, "rows": capture.rows.astype(np.float32), "rate": capture.rate, "matches": matches,
        "plant": plant, "travel": travel,
    }  # fmt: skip


def _stands(before: Character, after: Character) -> str:
    found = kept(after, after.clips[-1].name)
    if not found:
        return "no foot stands in it"
    return f"feet stand in {max(k.share for k in found):.0%} of it and slide {max(k.slid for k in found):.2%} of the leg at most"


@step("motion.bring", Bringing, lambda c, p: f"Brought in the motion {p.name}", long=True, figures=_stands)
def bring(character: Character, p: Bringing) -> Character:
    """Play the motion of another skeleton on this rig."""
    capture = capture_of(p)
    matches = dict(p.matches) or {m.joint: m.source for m in matched(character, capture.skeleton)}
    strange = [j for j in matches if j not in character.joint_index]
    if strange:
        raise NotFound(f"There is no joint called “{strange[0]}”.", character.name, "Match joints that are there.")
    return played(character, capture, matches, p.name, plant=p.plant, travel=p.travel).character


class NamedClip(Params):
    clip: str


@step("motion.remove", NamedClip, lambda c, p: f"Deleted the motion {p.clip}")
def remove(character: Character, p: NamedClip) -> Character:
    """Delete a motion."""
    return without_clip(character, p.clip)


class EditClip(Params):
    clip: str
    name: Annotated[Name, Field(max_length=60)]
    rate: Annotated[Number, Field(gt=0, le=1000)] | None = Field(None, description="frames a second; none: as it is")


@step("motion.set", EditClip, lambda c, p: f"Set the motion {p.clip}")
def edit(character: Character, p: EditClip) -> Character:
    """Name a motion and say how fast it is played."""
    clip = clip_named(character, p.clip)
    if p.name != p.clip and any(c.name == p.name for c in character.clips):
        raise BadParameters(f"There is a motion called “{p.name}” already.", character.name, "Choose another name.")
    new = clip.model_copy(update={"rate": p.rate or clip.rate})
    result = character.with_(clips=tuple(new if c is clip else c for c in character.clips))
    return renamed(result, {Ref.of("clip", p.clip): Ref.of("clip", p.name)}) if p.name != p.clip else result
