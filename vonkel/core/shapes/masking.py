"""Painting a region."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ..character import Character, Region
from ..geometry.strokes import Hand, Sample, Tip
from .regions import amounts_of, with_region


class Masking:
    """A stroke over a region as it grows; `amounts` (n,) are the region's by now.  It lays its effect on once."""

    def __init__(self, character: Character, region: str, adds: bool, tip: Tip) -> None:
        self.character, self.hand, self.adds = character, Hand(character, tip), adds
        known = next((r for r in character.regions if r.name == region), None)
        self.region = known or Region(name=region)
        self.before = amounts_of(character, region) if known else np.zeros(len(character.points))
        self.amounts = self.before.copy()
        self.mask = np.zeros(len(self.hand.ground.places))

    def put(self, samples: Iterable[Sample]) -> np.ndarray:
        """Take more places of the stroke; returns the points (k,) that may have changed.  Raises BadParameters."""
        joined = []
        for dab in (d for s in samples for d in self.hand.dabs(s)):
            self.mask[dab.at] = np.maximum(self.mask[dab.at], dab.amount)
            joined.append(dab.at)
        if not joined:
            return np.zeros(0, np.int64)
        points = self.hand.members(np.unique(np.concatenate(joined)))
        mask, was = self.mask[self.hand.ground.of[points]], self.before[points]
        self.amounts[points] = np.maximum(was, mask) if self.adds else np.minimum(was, 1.0 - mask)
        return points

    def result(self) -> Character:
        """The character with the stroke on it.  Raises StepRefused where the region holds nothing any more."""
        return with_region(self.character, self.region, self.amounts)
