"""Steps of regions: points under a name, with soft edges."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Name, Ref, Region
from ..core.character.references import renamed
from ..core.errors import BadParameters
from ..core.geometry.strokes import Tip
from ..core.shapes.masking import Masking
from ..core.shapes.regions import amounts_of, region_named, resized, softened, with_region, without_region
from ..core.tolerances import MAX_POINTS
from .registry import Params, step

Title = Annotated[Name, Field(max_length=60)]


class SetRegion(Params):
    name: Title
    points: list[Annotated[int, Field(ge=0, lt=MAX_POINTS)]] = Field(max_length=MAX_POINTS)
    soft: float = Field(0.0, ge=0, le=1e3, description="metres over which it fades outside these, along the skin")
    rim: bool = Field(False, description="a coloured band, such as lips, that keeps its width in every shape")


@step("regions.set", SetRegion, lambda c, p: f"Made the region {p.name} of {len(p.points):,} points")
def set_region(character: Character, p: SetRegion) -> Character:
    """Make a region of chosen points, fading out along the skin; an older one of that name gives way."""
    points = np.array(sorted(set(p.points)), np.int64)
    if points.max(initial=0) >= len(character.points):
        raise BadParameters("There is no such point.", p.name, "Choose points of the mesh.")
    return with_region(character, Region(name=p.name, rim=p.rim), softened(character, points, p.soft))


class EditRegion(Params):
    region: str
    name: str = Field("", max_length=60)
    rim: bool | None = None
    allow: float | None = Field(
        None, ge=0.1, le=20, description="how many times as far as usual its skin may stretch in the trials"
    )
    grow: float = Field(0.0, ge=-1e3, le=1e3, description="metres by which it grows along the skin; negative: shrinks")
    soft: float = Field(0.0, ge=0, le=1e3, description="where it grows or shrinks: metres over which its edge fades")


@step("regions.edit", EditRegion, lambda c, p: f"Changed the region {p.region}", renames=True)
def edit(character: Character, p: EditRegion) -> Character:
    """Name a region, grow or shrink it, or say that it is a coloured band."""
    region = region_named(character, p.region)
    if p.rim is not None:
        region = region.model_copy(update={"rim": p.rim})
    if p.allow is not None:
        region = region.model_copy(update={"allow": p.allow})
    amounts = amounts_of(character, p.region)
    if p.grow or p.soft:
        inside = resized(character, np.flatnonzero(amounts >= 0.5), p.grow)
        amounts = softened(character, inside, p.soft) if len(inside) else np.zeros(len(amounts))
    result = with_region(character, region, amounts)
    if p.name and p.name != p.region:
        if p.name in {r.name for r in character.regions}:
            raise BadParameters(f"There is a region called “{p.name}” already.", p.region, "Choose another name.")
        Region.model_validate({"name": p.name})
        result = renamed(result, {Ref.of("region", p.region): Ref.of("region", p.name)})
    return result


class PaintRegion(Params):
    """A stroke.  `samples`: triangle, its second and third corner's share, press, and the way one looks, at rest."""

    region: Title = Field(description="made where there is none of that name")
    way: Literal["add", "take"] = "add"
    radius: float = Field(0.05, gt=1e-6, lt=1e3, description="metres")
    strength: float = Field(1.0, ge=0, le=1)
    fading: float = Field(0.5, ge=0, le=1)
    through: bool = False
    front: bool = False
    both_sides: bool = True
    samples: list[tuple[float, float, float, float, float, float, float]] = Field(min_length=1, max_length=20_000)

    def masking(self, character: Character) -> Masking:
        tip = Tip(self.radius, self.strength, self.fading, self.through, self.front, self.both_sides)
        return Masking(character, self.region, self.way == "add", tip)


@step(
    "regions.paint", PaintRegion, lambda c, p: f"{'Added to' if p.way == 'add' else 'Took from'} the region {p.region}"
)
def paint(character: Character, p: PaintRegion) -> Character:
    """Paint a region: one stroke of a brush."""
    masking = p.masking(character)
    masking.put(p.samples)
    return masking.result()


class OfRegion(Params):
    region: str


@step("regions.remove", OfRegion, lambda c, p: f"Deleted the region {p.region}")
def remove(character: Character, p: OfRegion) -> Character:
    """Delete a region; shapes and boards that were of it stay."""
    return without_region(character, p.region)
