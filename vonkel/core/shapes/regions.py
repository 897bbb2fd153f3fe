"""Regions: points under a name, with soft edges."""

from __future__ import annotations

import numpy as np

from ..character import Character, Region
from ..errors import BadParameters, NotFound, StepRefused
from ..geometry.choosing import grown
from ..geometry.easing import smoothstep
from ..geometry.walking import ground_of


def region_named(character: Character, name: str) -> Region:
    """Raises NotFound."""
    found = next((r for r in character.regions if r.name == name), None)
    if found is None:
        raise NotFound(f"There is no region called “{name}”.", character.name, "Choose one from the list, or make it.")
    return found


def amounts_of(character: Character, name: str) -> np.ndarray:
    """(n,) float64, 0 to 1; all of everything where no region is named.  Raises NotFound."""
    if not name:
        return np.ones(len(character.points))
    region_named(character, name)
    whole = np.zeros(len(character.points))
    whole[character.arrays[f"region/{name}/points"]] = character.arrays[f"region/{name}/amounts"]
    return whole


def with_region(character: Character, region: Region, amounts: np.ndarray) -> Character:
    """The character with a region of amounts (n,); one of that name gives way.  Raises StepRefused where it holds nothing."""
    kept = np.clip(amounts, 0.0, 1.0).astype(np.float32)
    index = np.flatnonzero(kept > 0).astype(np.uint32)
    if not len(index):
        raise StepRefused("No point is in it.", region.name, "Choose points, or paint some.")
    rows = [region if r.name == region.name else r for r in character.regions]
    if not any(r is region for r in rows):
        rows.append(region)
    arrays = {f"region/{region.name}/points": index, f"region/{region.name}/amounts": kept[index]}
    return character.with_(regions=tuple(rows), arrays=arrays)


def without_region(character: Character, name: str) -> Character:
    """Raises NotFound."""
    region_named(character, name)
    return character.with_(
        regions=tuple(r for r in character.regions if r.name != name),
        arrays={f"region/{name}/points": None, f"region/{name}/amounts": None},
    )


def softened(character: Character, points: np.ndarray, width: float) -> np.ndarray:
    """(n,): all of points (p,), fading to nothing `width` metres outside, along the skin, with no kink at either end."""
    if not len(points):
        raise BadParameters("No points are given.", character.name, "Choose some.")
    out = np.zeros(len(character.points))
    out[points] = 1.0
    if width <= 0.0:
        return out
    ground = ground_of(character)
    sources = np.unique(ground.of[points])
    at, far = ground.from_points(sources, np.zeros(len(sources)), width)
    joined = np.zeros(len(ground.places))
    joined[at] = 1.0 - smoothstep(far / width)
    return np.asarray(np.maximum(out, joined[ground.of]))


def resized(character: Character, points: np.ndarray, by: float) -> np.ndarray:
    """Points (p,) and all within `by` metres of them along the skin, a ring of neighbours at least; or, where `by` is negative,
    those that aren't so near to any other."""
    everyone = np.arange(len(character.points))
    if by == 0.0 or not len(points):
        return points
    if by < 0.0:
        return np.setdiff1d(points, resized(character, np.setdiff1d(everyone, points), -by))
    return np.union1d(np.flatnonzero(softened(character, points, by) > 0), grown(character, points))
