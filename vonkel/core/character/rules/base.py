"""What every rule is, and answers for itself."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Protocol, Self

from pydantic import Field

from ...errors import NotFound
from ..base import Frozen, Name, Number
from ..refs import KitName, Names, Ref, To, rewritten, spoken_of

Thing = Annotated[Ref, To("ground", "joint", "control")]
Share = Annotated[Number, Field(ge=0.0, le=1.0)]


@dataclass(frozen=True)
class Known:
    """What a rule may speak of, and each control's channels."""

    things: set[Ref]
    channels: Mapping[str, set[str]]


class Mirror(Protocol):
    """The other side of a character, for the things of one rule."""

    @property
    def names(self) -> Mapping[Ref, Ref]:
        """Each thing of the rule and the one that stands for it over there."""
        ...

    def values(self, thing: Ref, given: Mapping[str, float]) -> dict[str, float]:
        """The values at which the partner does on its side what the thing does at `given`."""
        ...

    def signs_alone(self, thing: Ref) -> bool:
        """Whether the partner's axes are the reflected ones, each one way or the other."""
        ...

    def turns_over(self, thing: Ref, kind: str, channel: str) -> bool:
        """Whether the partner's lead of this kind reads the mirrored pose with the other sign."""
        ...


class BaseRule(Frozen, ABC):
    """A rule by its name.  What moves, sizes, renames or takes away parts of a character asks the rule itself."""

    name: Annotated[Name, Names("rule", own=True)]
    kit: KitName = ""  # the kit that made it and takes it away again; empty for a rule of one's own
    on: bool = True

    def speaks_of(self) -> set[Ref]:
        """Everything that the rule speaks of."""
        return {r for r in spoken_of(self) if r.kind != "kit"}

    @abstractmethod
    def subjects(self) -> set[Ref]:
        """What the rule is laid on: where these have partners it has a mirror image."""

    def renamed(self, names: Mapping[Ref, Ref]) -> Self:
        """The rule with every thing under its new name."""
        return rewritten(self, names)

    @abstractmethod
    def without(self, gone: set[Ref]) -> Self | None:
        """The rule once these things are gone; None where nothing of it is left."""

    def without_channels(self, control: str, gone: set[str]) -> Self | None:
        """The rule once these channels of a control are gone; None where nothing of it is left."""
        return self

    def sized(self, scale: float) -> Self:
        """The rule of a figure that was made `scale` times as large: what is in metres grows with it."""
        return self

    def mirrored(self, mirror: Mirror) -> Self:
        """The rule on the other side, under the name it has there."""
        from_here = {a: b for a, b in mirror.names.items() if a != b}
        return self.renamed(from_here)

    def wanted_channels(self) -> Mapping[str, tuple[str, ...]]:
        """Channels from 0 to 1 that the rule needs: control → their names.  They come and go with it."""
        return {}

    def stands(self) -> Iterator[str]:
        """The controls whose standing place the rule amends."""
        return iter(())

    def check(self, known: Known) -> None:
        """Raises NotFound for a rule that speaks of what isn't there, BadParameters for one led by what can't lead so."""
        for thing in sorted(self.speaks_of()):
            if thing not in known.things:
                raise NotFound(
                    f"There is no {thing.kind} called “{thing.name}”.", self.name, "Choose one that is there."
                )

    def _has(self, known: Known, control: str, channel: str) -> None:
        if channel not in known.channels.get(control, ()):
            raise NotFound(f"{control} has no channel “{channel}”.", self.name, "Choose one that it has, or add it.")

    def _with(self, **changes: Any) -> Self:
        return self.model_copy(update=changes)
