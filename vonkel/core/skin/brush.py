"""Brushes over skin weights: what a stroke does to the points that it passes.

It lays its effect on once, however often it passes a point and however fast; another stroke adds to it.  Evening out alone
goes on as long as the hand rubs.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ..character import Character, opposite_name
from ..errors import BadParameters
from ..geometry.strokes import Dab, Hand, Sample, Tip
from . import amounts
from .deform import mix_of
from .edits import Rows, beside, nearest_others

BRUSHES = {
    "add": "Add",
    "take": "Take away",
    "set": "Bring to",
    "even": "Even out",
    "sharpen": "Sharpen",
    "blend": "Blend",
}
"""What a brush does → in words.  The first three are for one joint, the others for all that hold a point; the last doesn't
touch weights: it brings the dual method's share of a mixed skin to the value."""
OF_ONE = ("add", "take", "set")
SHARPER = 2.0  # what a full stroke of sharpening adds to the power


@dataclass(frozen=True)
class Brush(Tip):
    """kind: one of BRUSHES; value 0–1; with both sides the mirrored place is for the joint's partner."""

    kind: str = "add"
    joint: str = ""
    value: float = 1.0


class Painting:
    """A stroke as it grows.  `index` and `weights` (n, k) are the skin's rows as they are by now; the character's stay."""

    def __init__(self, character: Character, brush: Brush) -> None:
        """Raises StepRefused and BadParameters: no skin, an unknown brush or joint, a locked joint."""
        self.rows = Rows(character)
        if brush.kind not in BRUSHES:
            raise BadParameters(f"There is no brush “{brush.kind}”.", "", f"There are: {', '.join(BRUSHES)}.")
        self.character, self.brush, self.ground = character, brush, self.rows.ground
        self.hand = Hand(character, brush)
        self.names, self.index, self.weights = self.rows.names, self.rows.index, self.rows.weights
        self.before = character.arrays["skin/joints"], character.arrays["skin/weights"]
        self.most = self.rows.most
        self.joints = np.array(self._meant(), np.int64)
        self.locked = self.rows.locked
        self.mask = np.zeros((len(self.ground.places), max(len(self.joints), 1)))
        self.mix = mix_of(character).copy() if brush.kind == "blend" else None
        self._heirs: np.ndarray | None = None

    def _meant(self) -> list[int]:
        """The joint of the brush, and with both sides its partner, by their numbers."""
        brush, known = self.brush, self.character.joint_index
        if brush.kind not in OF_ONE:
            return []
        own, partner = self.rows.number(brush.joint), opposite_name(brush.joint)
        both = brush.both and partner != brush.joint and partner in known and self.character.joint(partner).deforms
        return [own, self.rows.entered(partner)] if both else [own]

    # -- the hand ------------------------------------------------------------------------------------------------
    def put(self, samples: Iterable[Sample]) -> np.ndarray:
        """Take more places of the stroke.  Returns the points (k,) whose rows may have changed.  Raises BadParameters."""
        touched = [self._dab(dab) for sample in samples for dab in self.hand.dabs(sample)]
        if not touched:
            return np.zeros(0, np.int64)
        joined = np.unique(np.concatenate(touched))
        points = self.hand.members(joined)
        if self.brush.kind != "even":
            self._from_before(points)
        return points

    def _dab(self, dab: Dab) -> np.ndarray:
        """The joined points that one touch changed."""
        if self.brush.kind == "even":
            self._evened(dab.at, dab.amount)
            return dab.at
        column = len(self.joints) - 1 if dab.mirrored and len(self.joints) else 0
        more = dab.amount > self.mask[dab.at, column]
        self.mask[dab.at[more], column] = dab.amount[more]
        return np.asarray(dab.at[more], np.int64)

    # -- what it does --------------------------------------------------------------------------------------------
    def _from_before(self, points: np.ndarray) -> None:
        """These points (k,) anew from the rows that the stroke began with."""
        brush = self.brush
        mask = self.mask[self.ground.of[points]]
        if self.mix is not None:
            was = mix_of(self.character)[points]
            self.mix[points] = was + mask[:, 0].astype(np.float32) * (np.float32(brush.value) - was)
            return
        self.index[points], self.weights[points] = self.before[0][points], self.before[1][points]
        if brush.kind == "sharpen":
            amounts.sharpen(self.index, self.weights, points, SHARPER * mask[:, 0], self.locked, self.most)
            return
        held = np.stack([self._held_before(points, j) for j in self.joints], 1)
        wanted = {
            "add": held + mask, "take": held - mask, "set": held + mask * (brush.value - held)
        }[brush.kind]  # fmt: skip
        wanted = np.where(mask > 0.0, np.clip(wanted, 0.0, 1.0), -1.0)
        heirs = self._heirs_of(points, held)
        amounts.put(self.index, self.weights, points, self.joints, wanted, self.locked, heirs, self.most)

    def _held_before(self, points: np.ndarray, joint: int) -> np.ndarray:
        index, weights = self.before
        return np.asarray(np.where(index[points] == joint, weights[points], 0.0).sum(1), float)

    def _heirs_of(self, points: np.ndarray, held: np.ndarray) -> np.ndarray:
        """(k,) who would hold a point if these joints let go of it altogether: whoever holds the nearest other point."""
        out = np.full(len(points), -1, np.int64)
        alone = held.sum(1) > 1.0 - 1e-6
        if self.brush.kind == "add" or not alone.any():
            return out
        if self._heirs is None:
            self._heirs = nearest_others(self.ground, *self.before, self.joints, self.locked)
        out[alone] = self._heirs[self.ground.of[points[alone]]]
        return out

    def _evened(self, at: np.ndarray, share: np.ndarray) -> None:
        """These joined points (k,) a share of the way to their neighbours' mean, and all that they stand for alike."""
        ground = self.ground
        starts, around = beside(ground, at)
        points = np.ascontiguousarray(ground.first[at], np.int64)
        amounts.mix(self.index, self.weights, points, np.clip(share, 0.0, 1.0), starts, around, self.locked, self.most)
        twins = self.hand.members(np.asarray(at, np.int64))
        if len(twins) > len(points):
            own = ground.first[ground.of[twins]]
            self.index[twins], self.weights[twins] = self.index[own], self.weights[own]

    def result(self) -> Character:
        """The character with the stroke on it."""
        if self.mix is None:
            return self.rows.result()
        mixed = self.rows.skin.model_copy(update={"method": "mixed"})
        return self.character.with_(skin=mixed, arrays={"skin/mix": self.mix})
