"""What a page may say over the live socket, as types: a kind each."""

from __future__ import annotations

from math import isfinite
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, TypeAdapter, ValidationError

from ..core.character import Inputs
from ..core.errors import BadParameters, first_fault
from ..core.tolerances import FARTHEST

MOST_OFF = 500  # operations that may be left out at once

LARGEST = 2**53
MOST_SAMPLES = 4096  # places of a stroke in one message
MOST_NUMBERS = 96  # numbers of one sample


def number(value: Any) -> float | None:
    """A finite number, or nothing."""
    if not isinstance(value, (int, float)) or isinstance(value, bool):
        return None
    try:
        found = float(value)
    except OverflowError:
        return None
    return found if isfinite(found) else None


def _values(value: Any) -> Inputs:
    """What of a pose is numbers: a page that holds something else is shown what is left."""
    given = value.items() if isinstance(value, dict) else ()
    return {str(control): _numbers(channels) for control, channels in given if isinstance(channels, dict)}


def _numbers(channels: dict[Any, Any]) -> dict[str, float]:
    if set(map(type, channels.values())) == {float} and all(map(isfinite, channels.values())):
        return channels  # a face has hundreds, in every frame
    return {str(k): n for k, v in channels.items() if (n := number(v)) is not None}


def _sentences(value: Any) -> frozenset[str]:
    return frozenset(str(v) for v in value[:MOST_OFF]) if isinstance(value, list) else frozenset()


def _coordinate(value: Any) -> float:
    found = number(value)
    if found is None or abs(found) > FARTHEST:
        raise ValueError("numbers are wanted, none of them too large")
    return found


Whole = Annotated[int, Field(ge=0, le=LARGEST, strict=True)]
Values = Annotated[dict[str, dict[str, float]], BeforeValidator(_values)]
Off = Annotated[frozenset[str], BeforeValidator(_sentences)]
Coordinate = Annotated[float, BeforeValidator(_coordinate)]
Place = tuple[Coordinate, Coordinate, Coordinate]
Turn = tuple[Coordinate, Coordinate, Coordinate, Coordinate]


class Message(BaseModel):
    """`seq` comes back with the answer; `step` is the state looked at; `off`: operations left out, to see what they do;
    `heat`: how far edges are stretched or squeezed, or what the measure `heat_of` sees, of what would pass;
    `over`: as the skin will be handed over, not as it is worked with; `wanted`: then also where the live skin would be;
    `run` lets the clock go on by the time since the message before (“reset” begins anew), without it springs are settled;
    `knows`: the frame whose points the page still has, so that only what moved since is sent."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    seq: Whole = 0
    step: Whole = 0
    off: Off = frozenset()
    heat: bool = False
    heat_of: Annotated[str, Field(max_length=40)] = ""
    over: bool = False
    wanted: bool = False
    knows: Whole = 0
    run: bool | Literal["reset"] | None = None
    values: Values = {}


class PoseMessage(Message):
    """Show these values."""

    kind: Literal["pose"] = "pose"


class MoveMessage(Message):
    """Bring a control to a place, metres."""

    kind: Literal["move"]
    control: str
    to: Place


class TurnMessage(Message):
    """Turn a control by a quaternion (w, x, y, z)."""

    kind: Literal["turn"]
    control: str
    by: Turn


class ReachMessage(Message):
    """Bring a joint to a place by the turns above it."""

    kind: Literal["reach"]
    joint: str
    to: Place


class MotionMessage(Message):
    """A frame of a try from `start` to the values and back."""

    kind: Literal["motion"]
    start: Values = {}
    frame: Whole = 0
    frames: Annotated[int, Field(ge=2, le=2000, strict=True)] = 72
    rate: Annotated[int, Field(ge=1, le=240, strict=True)] = 24


class ClipMessage(Message):
    """A frame of a kept motion, solved from its first frame on."""

    kind: Literal["clip"]
    name: str
    frame: Whole = 0


class HeardMessage(Message):
    """Show what the device that is listened to said last."""

    kind: Literal["heard"]


class TrialMessage(Message):
    """Show a trial pose, or a saved one."""

    kind: Literal["trial"]
    name: str


class JointMessage(Message):
    """Where a dragged joint and its partner would come to lie."""

    kind: Literal["joint"]
    joint: str
    to: Place
    both: bool = True
    below: bool = False
    inside: bool = True


AnyMessage = Annotated[
    PoseMessage
    | MoveMessage
    | TurnMessage
    | ReachMessage
    | MotionMessage
    | ClipMessage
    | HeardMessage
    | TrialMessage
    | JointMessage,
    Field(discriminator="kind"),
]
_MESSAGES: TypeAdapter[AnyMessage] = TypeAdapter(AnyMessage)
LIGHT = (PoseMessage, MoveMessage, TurnMessage, JointMessage)
"""What takes a millisecond or two where the state is at hand."""


class Samples(BaseModel):
    """Places that a brush passed: of one stroke, in their order, beginning with the sample numbered `first`.

    A sample is a row of numbers; what they mean is the brush's own, and so is what `how` says of it.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)
    kind: Literal["samples"]
    step: Whole
    stroke: Whole
    brush: str = Field(max_length=40)
    first: Whole
    how: dict[str, Any] = {}
    samples: Annotated[
        tuple[Annotated[tuple[Coordinate, ...], Field(max_length=MOST_NUMBERS)], ...], Field(max_length=MOST_SAMPLES)
    ]
    done: bool = False


_SAMPLES = TypeAdapter(Samples)


def samples_of(asked: dict[str, Any]) -> Samples:
    """The samples that a page sent.  Raises BadParameters."""
    try:
        return _SAMPLES.validate_python(asked)
    except ValidationError as error:
        field, why = first_fault(error, "samples")
        raise BadParameters(f"“{field}”: {why}.", "live", "Reload the page.") from None


def message_of(asked: dict[str, Any]) -> AnyMessage:
    """The message that a page sent.  Raises BadParameters: what, in one line."""
    try:
        return _MESSAGES.validate_python({"kind": "pose", **asked})
    except ValidationError as error:
        field, why = first_fault(error, "message")
        raise BadParameters(f"“{field}”: {why}.", "live", "Reload the page.") from None
