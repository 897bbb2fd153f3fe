"""One value leads others, each through a curve."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ...errors import BadParameters
from ..base import Frozen, Number
from ..refs import GROUND, Ref, To
from .base import BaseRule, Known, Mirror, Thing
from .curves import curve_function

MOST_KEYS = 60  # that mirroring sets; a curve takes 64
Points = list[tuple[float, float]]


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

    def through(self, points: Points) -> Curve:
        """The curve through other keys (at, value)."""
        return self.model_copy(update={"keys": tuple(CurveKey(at=a, value=v) for a, v in points)})

    def sized(self, across: float, up: float) -> Curve:
        """The curve with its leads' values times `across` and its followers' times `up`."""
        return self.through([(k.at * across, k.value * up) for k in self.keys])

    def read_backwards(self) -> Curve:
        """The curve of a lead that comes with the other sign."""
        return self.through([(-k.at, k.value) for k in reversed(self.keys)])


class Lead(Frozen):
    """What leads: a control's channel; the distance between two things; or how far a joint is turned in its parent.

    `distance` is in metres more than at rest.  `swing` is the angle between the bone and its rest direction, `twist` the
    turn about the bone, `bend` the turn about the hinge: radians, from rest.  `toward` is how far the bone has swung towards
    `way`, a direction in the character's space with the joint's parent at rest: nothing at rest, the whole angle between
    once it points there, less again past it or beside it.
    """

    kind: Literal["channel", "distance", "swing", "twist", "bend", "toward"] = "channel"
    thing: Thing
    channel: str = ""
    other: Thing = GROUND
    way: tuple[Number, Number, Number] = (0.0, 0.0, 0.0)

    @property
    def long(self) -> bool:
        """Whether it is read in metres."""
        return self.kind == "distance" or self.channel.startswith("move ")


class Follower(Frozen):
    """What is led: a channel of a control, of a joint (`turn x` … `size z`) or a shape (channel empty)."""

    thing: Annotated[Ref, To("joint", "control", "shape")]
    channel: str = ""
    curve: Curve


class Link(BaseRule):
    """One value leads others, each through a curve.  `rounding` rounds the lead to whole, half … steps first."""

    kind: Literal["link"] = "link"
    lead: Lead
    followers: tuple[Follower, ...] = Field((), max_length=200)
    rounding: Literal["none", "whole", "half", "third", "quarter"] = "none"

    def subjects(self) -> set[Ref]:
        return {self.lead.thing}

    def without(self, gone: set[Ref]) -> Self | None:
        if self.lead.thing in gone or (self.lead.kind == "distance" and self.lead.other in gone):
            return None
        return self._with(followers=tuple(f for f in self.followers if f.thing not in gone))

    def without_channels(self, control: str, gone: set[str]) -> Self | None:
        thing = Ref.control(control)
        if self.lead.kind == "channel" and self.lead.thing == thing and self.lead.channel in gone:
            return None
        kept = tuple(f for f in self.followers if f.thing != thing or f.channel not in gone)
        return self if len(kept) == len(self.followers) else self._with(followers=kept)

    def sized(self, scale: float) -> Self:
        across = scale if self.lead.long else 1.0
        followers = []
        for f in self.followers:
            up = scale if f.channel.startswith("move ") else 1.0
            followers.append(f.model_copy(update={"curve": f.curve.sized(across, up)}))
        return self._with(followers=tuple(followers))

    def mirrored(self, mirror: Mirror) -> Self:
        followers = _mirrored_followers(self, mirror)
        if mirror.turns_over(self.lead.thing, self.lead.kind, self.lead.channel):
            followers = tuple(f.model_copy(update={"curve": f.curve.read_backwards()}) for f in followers)
        x, y, z = self.lead.way
        lead = self.lead if self.lead.kind != "toward" else self.lead.model_copy(update={"way": (-x, y, z)})
        return super(Link, self._with(lead=lead)).mirrored(mirror)._with(followers=followers)

    def check(self, known: Known) -> None:
        super().check(known)
        lead = self.lead
        kind = "control" if lead.kind == "channel" else "" if lead.kind == "distance" else "joint"
        if kind and lead.thing.kind != kind:
            name = "the ground" if lead.thing == GROUND else lead.thing.name
            raise BadParameters(
                f"{name} is no {kind}, so it has no {lead.kind} to lead by.", self.name, f"Choose a {kind}."
            )
        if lead.kind == "channel":
            self._has(known, lead.thing.name, lead.channel)
        if lead.kind == "toward" and sum(v * v for v in lead.way) < 1e-12:
            raise BadParameters("It isn't said towards what the joint swings.", self.name, "Give a direction.")
        for f in self.followers:
            if f.thing.kind == "control":
                self._has(known, f.thing.name, f.channel)


def _mirrored_followers(link: Link, mirror: Mirror) -> tuple[Follower, ...]:
    """Everything that is led, on the other side: at every key the pose that its channels take together is mirrored.

    Which channels turn their sign is read from both rest frames, so it holds for partners turned in counter-motion, with
    parallel axes, or in no such manner.  Where axes don't simply turn their signs, a turn about one is a turn about
    several that doesn't grow evenly: there keys are set in between as well.
    """
    together: dict[Ref, dict[str, Curve]] = {}
    out = []
    for f in link.followers:
        if f.thing.kind == "shape":
            out.append(f.model_copy(update={"thing": mirror.names.get(f.thing, f.thing)}))
        else:
            together.setdefault(f.thing, {})[f.channel] = f.curve
    for thing, curves in together.items():
        spots = sorted({k.at for c in curves.values() for k in c.keys})
        functions = {channel: curve_function(c) for channel, c in curves.items()}
        first = next(iter(curves.values()))
        finer = any(ch.startswith("turn ") for ch in curves) and not mirror.signs_alone(thing)
        if finer:
            spots = _between(spots, first.manner)
        rows = [mirror.values(thing, {ch: f(at) for ch, f in functions.items()}) for at in spots]
        for channel in sorted({ch for row in rows for ch in row}):
            values = [row.get(channel, 0.0) for row in rows]
            if any(abs(v) > 1e-9 for v in values):
                keys = _needed(spots, values, finer and first.manner == "linear")
                curve = curves.get(channel, first).through(keys)
                out.append(Follower(thing=mirror.names.get(thing, thing), channel=channel, curve=curve))
    return tuple(out)


def _between(spots: list[float], manner: str) -> list[float]:
    """The spots with others between them, as many as a curve may have."""
    pieces = min(8, MOST_KEYS // max(len(spots) - 1, 1)) if manner != "stepped" else 1
    if pieces < 2:
        return spots
    finer = [a + (b - a) * k / pieces for a, b in zip(spots, spots[1:], strict=False) for k in range(pieces)]
    return finer + spots[-1:]


def _needed(spots: list[float], values: list[float], thinned: bool) -> Points:
    """The keys (at, value); thinned: without those that lie on the straight line between their neighbours."""
    kept = list(zip(spots, values, strict=True))
    k = 1
    while thinned and k < len(kept) - 1:
        (a, va), (b, vb), (c, vc) = kept[k - 1 : k + 2]
        if abs(va + (vc - va) * (b - a) / (c - a) - vb) < 1e-9:
            del kept[k]
        else:
            k += 1
    return kept
