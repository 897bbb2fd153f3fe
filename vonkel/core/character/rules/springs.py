"""What lags behind and settles, and what swings of itself."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field

from ..base import Frozen, Number
from ..refs import ControlName, Ref
from .base import BaseRule, Known, Mirror, Share, Thing

Gust = Annotated[Number, Field(ge=-100, le=100)]


class Spring(BaseRule):
    """Joints in a row, or a control, lag behind where the rig puts them, swing and settle.

    stiffness: own frequency in Hz; damping: 1 settles without swinging; pull: how much of the lag the pull back to the
    pose leaves (1: none is taken off); weight: how much it droops when it is turned against the ground's pull.  wind: how hard
    air pulls at it, metres a second squared in the world's axes, in gusts so many times a second; only in motion.
    """

    kind: Literal["spring"] = "spring"
    things: tuple[Thing, ...] = Field(min_length=1, max_length=64)
    stiffness: Annotated[Number, Field(gt=0.05, le=60)] = 3.0
    damping: Annotated[Number, Field(ge=0.0, le=4)] = 0.25
    pull: Share = 0.0
    weight: Annotated[Number, Field(ge=0.0, le=4)] = 0.0
    strength: Share = 1.0
    wind: tuple[Gust, Gust, Gust] = (0.0, 0.0, 0.0)
    gusts: Annotated[Number, Field(gt=0.0, le=20)] = 0.5

    def subjects(self) -> set[Ref]:
        return set(self.things)

    def sized(self, scale: float) -> Self:
        x, y, z = self.wind
        return self._with(wind=(scale * x, scale * y, scale * z))

    def mirrored(self, mirror: Mirror) -> Self:
        x, y, z = self.wind
        return super(Spring, self._with(wind=(-x, y, z))).mirrored(mirror)

    def without(self, gone: set[Ref]) -> Self | None:
        left = tuple(t for t in self.things if t not in gone)
        return self._with(things=left) if left else None


class Swinger(Frozen):
    """One channel that swings: by `angle` (radians; metres for moves), `phase` as a share of the round."""

    control: ControlName
    channel: str
    angle: Number
    phase: Number = 0.0

    @property
    def thing(self) -> Ref:
        return Ref.control(self.control)


class Swing(BaseRule):
    """A steady oscillation, `rate` in rounds a second; several channels on one rate stay in step."""

    kind: Literal["swing"] = "swing"
    rate: Annotated[Number, Field(gt=0.0, le=60)] = 1.0
    swingers: tuple[Swinger, ...] = Field(min_length=1, max_length=64)
    strength: Annotated[Number, Field(ge=0.0, le=2)] = 1.0

    def subjects(self) -> set[Ref]:
        return {s.thing for s in self.swingers}

    def _left(self, swingers: tuple[Swinger, ...]) -> Self | None:
        if len(swingers) == len(self.swingers):
            return self
        return self._with(swingers=swingers) if swingers else None

    def without(self, gone: set[Ref]) -> Self | None:
        return self._left(tuple(s for s in self.swingers if s.thing not in gone))

    def without_channels(self, control: str, gone: set[str]) -> Self | None:
        return self._left(tuple(s for s in self.swingers if s.control != control or s.channel not in gone))

    def sized(self, scale: float) -> Self:
        return self._with(
            swingers=tuple(
                s.model_copy(update={"angle": s.angle * scale}) if s.channel.startswith("move ") else s
                for s in self.swingers
            )
        )

    def mirrored(self, mirror: Mirror) -> Self:
        swingers = []
        for s in self.swingers:
            other = mirror.names.get(s.thing, s.thing).name
            for channel, angle in mirror.values(s.thing, {s.channel: s.angle}).items():
                if abs(angle) > 1e-9:
                    swingers.append(s.model_copy(update={"control": other, "channel": channel, "angle": angle}))
        return super().mirrored(mirror)._with(swingers=tuple(swingers))

    def check(self, known: Known) -> None:
        super().check(known)
        for s in self.swingers:
            self._has(known, s.control, s.channel)
