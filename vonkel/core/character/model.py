"""The structure of a character, as frozen Pydantic models.

Units: metres, radians; quaternions are (w, x, y, z); right-handed, Y up, facing +Z (as glTF 2.0, section 3.4).
The character's own left is +X.
"""

from __future__ import annotations

import hashlib
from functools import cached_property
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import ConfigDict, Field, model_validator

from ..errors import NotFound
from .arrays import Arrays
from .base import NAME_LENGTH, Frozen, Name, Number
from .boards import Board
from .refs import ControlName, Inputs, JointName, KitName, Names, Ref, RegionName, ShapeName, To
from .rules import Rule
from .upgrade import VERSION

MAX_END = 100_000  # frames of a keyed motion

Side = Literal["L", "R", "C"]
Vector = tuple[Number, Number, Number]
Quaternion = tuple[Number, Number, Number, Number]
Order = Literal["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"]
Axis = Literal["x", "y", "z", "-x", "-y", "-z"]

REST_TURN: Quaternion = (1.0, 0.0, 0.0, 0.0)


def opposite(side: Side) -> Side:
    return {"L": "R", "R": "L", "C": "C"}[side]  # type: ignore[return-value]


def opposite_name(name: str) -> str:
    """`hand_L` → `hand_R` and back; a name without a side tag stays."""
    if name.endswith("_L"):
        return name[:-2] + "_R"
    return name[:-2] + "_L" if name.endswith("_R") else name


def without_side(name: str) -> str:
    """The name less its side tag."""
    return name[:-2] if name.endswith(("_L", "_R")) else name


def unique_name(wanted: str, taken: set[str] | frozenset[str]) -> str:
    """`wanted`, or `wanted 2`, `wanted 3` …; the side tag stays at the end, and the whole no longer than a name may be."""
    base = without_side(wanted)
    tag = wanted[len(base) :]
    name, n = base[: NAME_LENGTH - len(tag)] + tag, 1
    while name in taken:
        n += 1
        name = f"{base[: NAME_LENGTH - len(tag) - len(str(n)) - 1].rstrip()} {n}{tag}"
    return name


class Part(Frozen):
    """A named piece of the mesh: a run of points and the run of faces that use only them.

    `lines` is the run of drawn lines of a part that has some.  `carried` is a transform that the part was brought
    in with and that is not settled yet, as the rows of a 3 × 4 matrix: its points are in the character's space all
    the same, so settling forgets the transform and moves nothing.
    """

    name: Name
    role: Literal["skin", "eye", "lid", "teeth", "tongue", "rigid", "prop", "line"] = "skin"
    points: tuple[int, int]
    faces: tuple[int, int]
    lines: tuple[int, int] = (0, 0)
    shading: Literal["smooth", "hard"] = "smooth"
    carried: Annotated[tuple[Number, ...], Field(min_length=12, max_length=12)] | None = None
    colour: str = Field("#d8c9ae", pattern=r"^#[0-9a-f]{6}$")
    hidden: bool = False
    locked: bool = False


class Freedom(Frozen):
    """How far a joint may turn about its own x, y and z from rest, radians; None is no limit.

    `stiffness` from 0 (free) to 1 (stays as it is) is how little a solve may use the joint.  `source` says where
    the figures come from.
    """

    low: tuple[Number | None, Number | None, Number | None] = (None, None, None)
    high: tuple[Number | None, Number | None, Number | None] = (None, None, None)
    locked: tuple[bool, bool, bool] = (False, False, False)
    stiffness: Annotated[Number, Field(ge=0.0, le=1.0)] = 0.0
    source: Annotated[str, Field(max_length=120)] = ""


class Picture(Frozen):
    """A reference picture under a drawing.  Its file is the array `picture/<name>`, as bytes.

    `place` is its middle and `width` its width, metres, in the drawing's own plane (right, up).
    """

    name: Name
    view: Literal["front", "side", "top"]
    place: tuple[Number, Number] = (0.0, 0.0)
    width: Annotated[Number, Field(gt=1e-4, lt=1e4)] = 1.0
    strength: Annotated[Number, Field(ge=0.0, le=1.0)] = 0.6
    hidden: bool = False


class Joint(Frozen):
    """A joint at rest.  `place` and `turn` are in the character's space, not the parent's."""

    name: Annotated[Name, Names("joint", own=True)]
    parent: JointName | None = None
    side: Side = "C"
    place: Vector
    turn: Quaternion = REST_TURN
    deforms: bool = True
    role: str = ""  # what it is on the body, e.g. "forearm"; trials and kits look for it
    order: Order = "xyz"  # turns are about the joint's own axes at rest, the first letter first
    aim: Axis = "x"  # which of its axes runs down the bone
    hinge: Axis = "z"  # about which a positive turn closes the bend
    freedom: Freedom | None = None
    # How far it may lie from where it should, as a share of the body's size: what a plan wasn't sure of.  Zero once
    # it was looked at.
    doubt: Annotated[float, Field(ge=0, le=1)] = 0.0


class Channel(Frozen):
    """One number an animator may set on a control.  It rests at `rest`, which is zero but for switches and sizes.

    Limits are in the parent's space.  A locked channel stays at rest and isn't shown; `added` ones were made by hand, and
    `limited` ones keep the limits that were set by hand when their kit's controls are made anew.
    """

    name: Annotated[str, Field(min_length=1, max_length=60)]
    kind: Literal["move", "turn", "size", "value"] = "value"
    rest: Number = 0.0
    low: Number | None = None
    high: Number | None = None
    locked: bool = False
    added: bool = False
    limited: bool = False


class Control(Frozen):
    """Something to grab.  `place` and `turn` are its rest frame in the character's space.

    `key` is what it is within its kit.  `level` is the set it is shown with: body, fine, face or one of one's own.
    `shape` is empty for the line that its kit gives it, or the name of the shape chosen instead; `grow` sizes it.
    """

    name: Annotated[Name, Names("control", own=True)]
    kit: KitName
    key: str = ""
    label: str = ""
    side: Side = "C"
    level: Annotated[str, Field(min_length=1, max_length=30)] = "body"
    place: Vector
    turn: Quaternion = REST_TURN
    order: Order = "xyz"
    channels: tuple[Channel, ...] = ()
    outline: tuple[Vector, ...] = ()  # closed line in the control's own frame, metres
    shape: str = ""
    grow: Annotated[Number, Field(gt=0.01, lt=100)] = 1.0

    @property
    def moves(self) -> bool:
        return any(c.name.startswith("move ") for c in self.channels)

    @property
    def turns(self) -> bool:
        return any(c.name.startswith("turn ") for c in self.channels)


class Kit(Frozen):
    """A ready-made set of solves on chosen joints.  `joints` maps the kit's own words to joint names.

    `places` are points that the kit turns about, such as a heel, in the character's space.
    """

    name: Annotated[Name, Names("kit", own=True)]
    kind: str
    side: Side = "C"
    joints: dict[str, tuple[JointName, ...]] = {}
    options: dict[str, float | int | str | bool] = {}
    places: dict[str, Vector] = {}
    shapes: dict[str, ShapeName] = {}  # the kit's own words to the morph targets that it turns on


MarkName = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[a-z_]+(_[LR])?$")]


class FaceMark(Frozen):
    """Where something of a face is, in the character's space: found with how `sure` it is, or put there by hand (`settled`)."""

    name: MarkName
    place: Vector
    sure: Annotated[Number, Field(ge=0.0, le=1.0)] = 1.0
    how: Annotated[str, Field(max_length=80)] = ""
    settled: bool = False


class Face(Frozen):
    """What is where on a face.  `apart`: marks, without their side, whose partners are moved on their own.  `made`: of which places
    what was last made of them was made: product → mark → place."""

    marks: Annotated[tuple[FaceMark, ...], Field(max_length=80)] = ()
    apart: Annotated[tuple[str, ...], Field(max_length=40)] = ()
    made: Annotated[dict[str, dict[str, Vector]], Field(max_length=12)] = {}

    def mark(self, name: str) -> FaceMark | None:
        return next((m for m in self.marks if m.name == name), None)

    @property
    def places(self) -> dict[str, Vector]:
        return {m.name: m.place for m in self.marks}

    @property
    def stale(self) -> tuple[str, ...]:
        """Products whose marks have moved since they were made."""
        return tuple(n for n, places in self.made.items() if places != self.places)


class Region(Frozen):
    """Points of the mesh under a name, with soft edges: arrays `region/<name>/points` (m,) and `…/amounts` (m,), 0 to 1.

    `rim`: a coloured band, such as lips or lids, that should stay an even one in every shape.  `allow`: how many times as far as
    usual its skin may be stretched, squeezed and distorted in the trials: a mouth more, a shell less.
    """

    name: Annotated[Name, Names("region", own=True)]
    rim: bool = False
    allow: Annotated[Number, Field(ge=0.1, le=20)] = 1.0


class Shape(Frozen):
    """A morph target.  Moved points only: arrays `shape/<name>/points` (m,) and `shape/<name>/moves` (m, 3).

    Its strength is what is set by hand and what leads it.  A shape `of` others, a combination, comes on as all of these
    do; one `between` comes on where another is at `at` of its strength, and adds to it.  `region`: it should move nothing
    else.  `even`: it claims to be the same on both sides.
    """

    name: Annotated[Name, Names("shape", own=True)]
    low: Number = 0.0
    high: Number = 1.0
    heading: Annotated[str, Field(max_length=60)] = ""
    region: RegionName = ""
    even: bool = False
    of: Annotated[tuple[ShapeName, ...], Field(max_length=8)] = ()
    between: ShapeName = ""
    at: Annotated[Number, Field(ge=-2.0, le=3.0)] = 0.5


class SavedPose(Frozen):
    name: Name
    values: Inputs


class Track(Frozen):
    """One value of a clip: a control's channel, a board's bead (`across`, `up`), or a morph target's strength (channel empty)."""

    thing: Annotated[Ref, To("control", "shape", "board")]
    channel: str = ""


class Stand(Frozen):
    """When a foot stands in a motion: its target, and frames from the first to the last of each stand."""

    control: ControlName
    frames: tuple[tuple[Annotated[int, Field(ge=0)], Annotated[int, Field(ge=0)]], ...] = Field((), max_length=10_000)


class Clip(Frozen):
    """A motion: the array `clip/<name>/values` (f, t) holds every track's value at every frame; where it is `keyed`, the array
    `clip/<name>/keys` (k, 6) holds its keys (`motion/keys.py`), and it lasts from frame 0 to `end`.

    `rate` in frames a second; values in metres, radians or plain numbers, as the tracks' channels.  A `loop` is at its last frame what
    it is at its first.
    """

    name: Annotated[Name, Names("clip", own=True)]
    rate: Annotated[Number, Field(gt=0.0, le=1000)] = 30.0
    tracks: tuple[Track, ...] = Field(min_length=1, max_length=4096)
    keyed: bool = False
    end: int = Field(0, ge=0, le=MAX_END)
    loop: bool = False
    stands: tuple[Stand, ...] = Field((), max_length=200)  # where that is known

    @property
    def array(self) -> str:
        """What its numbers are called among the character's arrays."""
        return f"clip/{self.name}/{'keys' if self.keyed else 'values'}"

    @model_validator(mode="after")
    def _each_once(self) -> Clip:
        if len({(t.thing, t.channel) for t in self.tracks}) != len(self.tracks):
            raise ValueError("no two tracks are of one channel")
        return self


class Between(Frozen):
    """A joint that only what goes out has: it moves half-way between joints `a` and `b`, turned as `b` is at rest, and swells
    as they turn against each other (`skin/between.py`).  Its own place at rest is what it turns about."""

    name: Name
    a: JointName
    b: JointName
    place: Vector


class Corrective(Frozen):
    """A morph target that only what goes out has; its strength is the sum of `weights` times the nine numbers of its joint's turn
    (`skin/correctives.py`).  Arrays `handed/target/<name>/points` and `…/moves`, as of shapes."""

    name: Name
    joint: JointName
    weights: Annotated[tuple[Number, ...], Field(min_length=9, max_length=9)]


class HandedSkin(Frozen):
    """The skin as it goes out: linear weights of its own, solved so that they come near the live skin.

    Arrays `handed/joints` (n, k) into the skin's joints and then `between`, and `handed/weights` (n, k).  `seal` says of
    which live skin they were made.
    """

    between: tuple[Between, ...] = ()
    correctives: tuple[Corrective, ...] = ()
    seal: str = Field("", max_length=64)


class Skin(Frozen):
    """How the mesh follows.  Arrays `skin/joints` (n, k) uint16 into `joints` here, and `skin/weights` (n, k).

    `mixed` blends both methods: `skin/mix` (n,) is the dual one's share.  `smoothing`: rounds of smoothing after skinning,
    done after the blend once it is posed, or worked out beforehand.
    What `locked` joints hold is left alone by whatever changes single weights.
    """

    joints: tuple[JointName, ...]
    locked: tuple[JointName, ...] = ()
    handed: HandedSkin | None = None
    method: Literal["linear", "dual", "mixed"] = "dual"
    smoothing: Annotated[int, Field(ge=0, le=40)] = 0
    smoother: Literal["posed", "beforehand"] = "posed"
    influences: int = 4


class Character(Frozen):
    """Everything about one character.  Arrays of the mesh:

    `points` (n, 3) float64, metres; `face_starts` (f + 1,) int32 and `face_corners` (m,) int32: face i is
    corners[starts[i]:starts[i+1]], counter-clockwise from outside; optional `colours` (n, 3) uint8 sRGB and
    `uvs` (m, 2) float32 per corner, V running down from the top as in glTF; `face_groups` (f,) uint16 into `groups`,
    the names that faces came with; `line_starts` (l + 1,) and `line_points` int32, drawn lines from point to point;
    `texture`, a PNG or JPEG file as bytes.
    """

    model_config = ConfigDict(
        frozen=True, extra="forbid", arbitrary_types_allowed=True, ignored_types=(cached_property,)
    )

    version: Literal[2] = VERSION  # of the document: `upgrade.py` brings older ones to it
    name: Name
    about: str = ""
    parts: tuple[Part, ...] = ()
    joints: tuple[Joint, ...] = ()
    kits: tuple[Kit, ...] = ()
    controls: tuple[Control, ...] = ()
    rules: tuple[Rule, ...] = ()
    order: tuple[str, ...] = ()  # kits and rules as they should be solved, where what they read leaves a choice
    shapes: tuple[Shape, ...] = ()
    regions: tuple[Region, ...] = ()
    boards: tuple[Board, ...] = ()
    face: Face | None = None
    poses: tuple[SavedPose, ...] = ()
    clips: tuple[Clip, ...] = ()
    rate: Annotated[Number, Field(gt=0.0, le=1000)] = 24.0  # frames a second that its motions are made at
    limits: dict[str, Annotated[Number, Field(gt=0, le=1e6)]] = Field(
        {}, max_length=100
    )  # measure → what just passes in trials
    skin: Skin | None = None
    plan: str = ""
    groups: tuple[str, ...] = ()
    pictures: tuple[Picture, ...] = ()
    left_out: tuple[str, ...] = ()  # what of the file it came from couldn't be used, until that was noted
    arrays: Arrays = Field(default_factory=Arrays, exclude=True)

    def with_(self, arrays: dict[str, np.ndarray | None] | None = None, **changes: Any) -> Character:
        """A copy with fields and arrays changed; arrays given as None are dropped."""
        if arrays:
            changes["arrays"] = self.arrays.with_(**arrays)
        copy = self.model_copy(update=changes)
        for name in [n for n in copy.__dict__ if n not in type(self).model_fields]:
            del copy.__dict__[name]  # what was worked out from the old fields is not true of the new ones
        return copy

    # -- lookups -------------------------------------------------------------------------------------------------
    @cached_property
    def joint_index(self) -> dict[str, int]:
        return {j.name: i for i, j in enumerate(self.joints)}

    @cached_property
    def control_named(self) -> dict[str, Control]:
        return {c.name: c for c in self.controls}

    @cached_property
    def children(self) -> dict[str | None, tuple[Joint, ...]]:
        found: dict[str | None, list[Joint]] = {}
        for j in self.joints:
            found.setdefault(j.parent, []).append(j)
        return {k: tuple(v) for k, v in found.items()}

    def joint(self, name: str) -> Joint:
        try:
            return self.joints[self.joint_index[name]]
        except KeyError:
            raise NotFound(f"There is no joint called “{name}”.", self.name, "Pick one from the hierarchy.") from None

    def partner(self, name: str) -> str | None:
        """The joint of that name on the other side, where there is one."""
        other = opposite_name(name)
        return other if other != name and other in self.joint_index else None

    def part(self, name: str) -> Part:
        for p in self.parts:
            if p.name == name:
                return p
        raise NotFound(f"There is no part called “{name}”.", self.name, "Pick one from the list of parts.")

    def board(self, name: str) -> Board:
        """Raises NotFound."""
        for b in self.boards:
            if b.name == name:
                return b
        raise NotFound(f"There is no board called “{name}”.", self.name, "Choose one from the list.")

    def joint_with_role(self, role: str, side: Side = "C") -> Joint | None:
        return next((j for j in self.joints if j.role == role and j.side == side), None)

    # -- mesh ----------------------------------------------------------------------------------------------------
    @property
    def points(self) -> np.ndarray:
        """(n, 3) float64, metres, rest space."""
        return self.arrays["points"] if "points" in self.arrays else np.zeros((0, 3))

    def part_numbers(self, of: Literal["points", "faces", "lines"]) -> np.ndarray:
        """(n,) int64: the part that each point, face or drawn line belongs to."""
        rows = {"points": "points", "faces": "face_starts", "lines": "line_starts"}[of]
        count = len(self.arrays[rows]) - (of != "points") if rows in self.arrays else 0
        out = np.zeros(count, np.int64)
        for i, p in enumerate(self.parts):
            out[slice(*getattr(p, of))] = i
        return out

    @cached_property
    def height(self) -> float:
        """Size along Y in metres, at least a millimetre so that shares of it stay finite."""
        p = self.points
        return max(float(np.ptp(p[:, 1])), 1e-3) if len(p) else 1.0

    @cached_property
    def size(self) -> float:
        """Largest side of the bounding box in metres."""
        p = self.points
        return max(float(np.ptp(p, axis=0).max()), 1e-3) if len(p) else 1.0

    def only(self, *names: str) -> Character:
        """A view of these fields and arrays alone: looking at any other field raises AttributeError.

        Arrays that the character hasn't are not there in the view either.
        """
        view: Character = object.__new__(type(self))
        held = {n: getattr(self, n) for n in names if n in type(self).model_fields}
        held["arrays"] = self.arrays.only([n for n in names if n not in held])
        object.__setattr__(view, "__dict__", held)
        for slot, value in (
            ("__pydantic_fields_set__", set(held)),
            ("__pydantic_extra__", None),
            ("__pydantic_private__", None),
        ):
            object.__setattr__(view, slot, value)
        return view

    def seal(self, *names: str) -> str:
        """Hash of these fields and arrays alone: what is kept for a character is kept under all that it was read from."""
        seals = self.__dict__.setdefault("_seals", {})  # gone with the next change, as all that is worked out
        if names not in seals:
            seals[names] = self._sealed(names)
        return str(seals[names])

    def _sealed(self, names: tuple[str, ...]) -> str:
        fields = {n for n in names if n in type(self).model_fields}
        body = self.model_dump_json(include=fields) if fields else ""
        body += "".join(f"{n}={self.arrays.hash_of(n) if n in self.arrays else ''};" for n in names if n not in fields)
        return hashlib.blake2b(body.encode(), digest_size=16).hexdigest()

    @cached_property
    def key(self) -> str:
        """Hash of the whole character: equal keys mean equal characters."""
        body = self.model_dump_json() + "".join(f"{n}={self.arrays.hash_of(n)};" for n in sorted(self.arrays))
        return hashlib.blake2b(body.encode(), digest_size=16).hexdigest()
