"""Rules between the parts of a rig: what follows, what leads, what springs and swings.

Things are named `joint:<name>`, `control:<name>` or `ground`.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from .base import Frozen, Name, Number

Thing = Annotated[str, Field(pattern=r"^(ground|joint:.+|control:.+)$", max_length=100)]
Share = Annotated[Number, Field(ge=0.0, le=1.0)]


class CurveKey(Frozen):
    at: Number
    value: Number


class Curve(Frozen):
    """From a lead's value to a follower's: through keys, in the leads' and followers' own units.

    `past` is what happens beyond the first and last key: the value is held, or goes on at the end's slope.
    """

    keys: tuple[CurveKey, ...] = Field(min_length=1, max_length=64)
    manner: Literal["linear", "smooth", "stepped"] = "linear"
    past: Literal["hold", "continue"] = "hold"

    @model_validator(mode="after")
    def _in_order(self) -> Curve:
        places = [k.at for k in self.keys]
        if any(b - a < 1e-9 for a, b in zip(places, places[1:], strict=False)):
            raise ValueError("keys stand one after the other, no two at one place")
        return self


class Lead(Frozen):
    """What leads: a control's channel; the distance between two things; or how far a joint is turned in its parent.

    `distance` is in metres more than at rest.  `swing` is the angle between the bone and its rest direction, `twist` the
    turn about the bone, `bend` the turn about the hinge: radians, from rest.
    """

    kind: Literal["channel", "distance", "swing", "twist", "bend"] = "channel"
    thing: Thing
    channel: str = ""
    other: Thing = "ground"


class Follower(Frozen):
    """What is led: a channel of a control, of a joint (`turn x` … `size z`) or a shape (channel empty)."""

    thing: Annotated[str, Field(pattern=r"^(joint|control|shape):.+$", max_length=100)]
    channel: str = ""
    curve: Curve


class _Rule(Frozen):
    name: Name
    kit: str = ""  # the kit that made it and takes it away again; empty for a rule of one's own
    on: bool = True


class Follow(_Rule):
    """One thing goes where others go, with the offset it had at rest.

    `aim` turns it towards the sources instead.  `axes` are those of the world for places and of the follower at rest
    for turns.  `reading`: “world” takes the sources as they stand; “local” only what they do in their own parents.
    """

    kind: Literal["follow"] = "follow"
    thing: Thing
    sources: tuple[Thing, ...] = Field(min_length=1, max_length=12)
    weights: tuple[Annotated[Number, Field(ge=0.0)], ...] = ()
    what: Literal["all", "place", "turn", "size", "aim"] = "all"
    axes: tuple[bool, bool, bool] = (True, True, True)
    strength: Share = 1.0
    reading: Literal["world", "local"] = "world"


class Space(_Rule):
    """A control may stand in other spaces than its own: a channel `in <label>` for each, from 0 to 1."""

    kind: Literal["space"] = "space"
    control: str
    sources: tuple[Thing, ...] = Field(min_length=1, max_length=8)
    labels: tuple[Annotated[str, Field(min_length=1, max_length=40)], ...] = ()
    what: Literal["all", "turn", "place"] = "all"

    @model_validator(mode="after")
    def _labelled(self) -> Space:
        if self.labels and len(self.labels) != len(self.sources):
            raise ValueError("there are as many labels as sources, or none")
        if len(set(self.channels())) != len(self.sources):
            raise ValueError("no two spaces have one label, or one source")
        return self

    def channels(self) -> tuple[str, ...]:
        own = self.labels or tuple(s.split(":", 1)[-1] for s in self.sources)
        return tuple(f"in {label}" for label in own)


class Link(_Rule):
    """One value leads others, each through a curve.  `rounding` rounds the lead to whole, half … steps first."""

    kind: Literal["link"] = "link"
    lead: Lead
    followers: tuple[Follower, ...] = Field((), max_length=200)
    rounding: Literal["none", "whole", "half", "third", "quarter"] = "none"


class Spring(_Rule):
    """Joints in a row, or a control, lag behind where the rig puts them, swing and settle.

    stiffness: own frequency in Hz; damping: 1 settles without swinging; pull: how much of the lag the pull back to the
    pose leaves (1: none is taken off); weight: how much it droops when it is turned against the ground's pull.
    """

    kind: Literal["spring"] = "spring"
    things: tuple[Thing, ...] = Field(min_length=1, max_length=64)
    stiffness: Annotated[Number, Field(gt=0.05, le=60)] = 3.0
    damping: Annotated[Number, Field(ge=0.0, le=4)] = 0.25
    pull: Share = 0.0
    weight: Annotated[Number, Field(ge=0.0, le=4)] = 0.0
    strength: Share = 1.0


class Swinger(Frozen):
    """One channel that swings: by `angle` (radians; metres for moves), `phase` as a share of the round."""

    control: str
    channel: str
    angle: Number
    phase: Number = 0.0


class Swing(_Rule):
    """A steady oscillation, `rate` in rounds a second; several channels on one rate stay in step."""

    kind: Literal["swing"] = "swing"
    rate: Annotated[Number, Field(gt=0.0, le=60)] = 1.0
    swingers: tuple[Swinger, ...] = Field(min_length=1, max_length=64)
    strength: Annotated[Number, Field(ge=0.0, le=2)] = 1.0


Rule = Annotated[Follow | Space | Link | Spring | Swing, Field(discriminator="kind")]
