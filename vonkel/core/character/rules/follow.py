"""What goes where something else goes: follow, and the spaces of a control."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..base import Number
from ..refs import ControlName, Ref
from .base import BaseRule, Share, Thing


class Follow(BaseRule):
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

    def subjects(self) -> set[Ref]:
        return {self.thing}

    def without(self, gone: set[Ref]) -> Self | None:
        weights = self.weights + (1.0,) * (len(self.sources) - len(self.weights))
        left = [(s, w) for s, w in zip(self.sources, weights, strict=False) if s not in gone]
        if self.thing in gone or not left:
            return None
        return self._with(sources=tuple(s for s, _ in left), weights=tuple(w for _, w in left))

    def stands(self) -> Iterator[str]:
        if self.thing.kind == "control":
            yield self.thing.name


class Space(BaseRule):
    """A control may stand in other spaces than its own: a channel `in <label>` for each, from 0 to 1."""

    kind: Literal["space"] = "space"
    control: ControlName
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

    def _labels(self) -> tuple[str, ...]:
        return self.labels or tuple(s.name for s in self.sources)

    def channels(self) -> tuple[str, ...]:
        return tuple(f"in {label}" for label in self._labels())

    def wanted_channels(self) -> Mapping[str, tuple[str, ...]]:
        return {self.control: self.channels()}

    def subjects(self) -> set[Ref]:
        return {Ref.control(self.control)}

    def stands(self) -> Iterator[str]:
        yield self.control

    def renamed(self, names: Mapping[Ref, Ref]) -> Self:
        # The channels keep the names that saved poses know.
        return super().renamed(names)._with(labels=self._labels())

    def without(self, gone: set[Ref]) -> Self | None:
        left = [(s, w) for s, w in zip(self.sources, self._labels(), strict=True) if s not in gone]
        if Ref.control(self.control) in gone or not left:
            return None
        return self._with(sources=tuple(s for s, _ in left), labels=tuple(w for _, w in left))
