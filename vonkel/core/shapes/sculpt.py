"""Sculpting a shape: what a stroke of a brush makes of the figure's surface, in any pose.

Pulling carries what lies under the hand along with it; swelling, sinking and bringing back lay their effect on once,
however often the hand passes; evening and flattening go on as long as it rubs.  What is done in a pose is carried back to
rest point by point, so that the pose gives back exactly what was sculpted.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ..character import Character, opposite_name
from ..errors import BadParameters
from ..geometry.health import mirror_partners
from ..geometry.strokes import Dab, Hand, Sample, Tip, checked
from ..geometry.topology import point_normals
from ..rig import Pose
from .edits import FLIP
from .moves import moves_of, with_moves
from .posed import Posed
from .regions import amounts_of
from .rims import rims_kept

BRUSHES = {
    "pull": "Pull",
    "swell": "Swell",
    "sink": "Sink",
    "even": "Even out",
    "calm": "Calm",
    "flatten": "Flatten",
    "back": "Back to rest",
}
"""What a brush does → in words.  Evening smooths the surface; calming smooths what the shape moves, and keeps what was
modelled."""
RUBBED = ("even", "calm", "flatten")
HIGH = 0.3  # of the radius: how far a full stroke swells


@dataclass(frozen=True)
class SculptBrush(Tip):
    """kind: one of BRUSHES; region: what the brush may touch, by its soft edge; rims: coloured bands stay even."""

    kind: str = "pull"
    region: str = ""
    rims: bool = False


class Sculpting:
    """A stroke as it grows.  `moves` are what the shapes in hand move by now: the shape's own, and its partner's where a
    shape of one side is sculpted on both."""

    def __init__(
        self, character: Character, shape: str, brush: SculptBrush, pose: Pose | None = None, over: bool = False
    ) -> None:  # fmt: skip
        """Raises NotFound, StepRefused and BadParameters: no such shape, one that is off in the pose, an unknown brush."""
        if brush.kind not in BRUSHES:
            raise BadParameters(f"There is no brush “{brush.kind}”.", "", f"There are: {', '.join(BRUSHES)}.")
        self.character, self.brush, self.shape = character, brush, shape
        self.posed = Posed(character, shape, pose, over)
        other = opposite_name(shape)
        self.partner = other if brush.both and other != shape and other in {s.name for s in character.shapes} else ""
        if self.partner:  # which takes the image of what this side's hand does
            self.brush = brush = replace(brush, both=False)
        self.hand = Hand(character, brush)
        self.ground = self.hand.ground
        self.moves = {n: moves_of(character, n) for n in (shape, self.partner) if n}
        self.before = {n: m.copy() for n, m in self.moves.items()}
        self.amounts = amounts_of(character, brush.region)
        self.mask = np.zeros((2, len(self.ground.places)))  # on this side, on the other
        self.held: list[Dab] = []  # what pulling took hold of
        self.way = np.zeros(3)
        self.touched = np.zeros(len(self.ground.places), bool)

    # -- the hand ------------------------------------------------------------------------------------------------
    def put(self, samples: Iterable[Sample]) -> np.ndarray:
        """Take more places of the stroke; returns the points (k,) that may have moved.  Raises BadParameters.

        Of a pull the first is a place, and all after it end in the way that the hand has gone since, metres in the pose.
        """
        joined: list[np.ndarray] = []
        for sample in samples:
            if self.brush.kind == "pull":
                joined += self._pull(sample)
                continue
            for dab in self.hand.dabs(sample):
                joined.append(self._rub(dab) if self.brush.kind in RUBBED else self._lay(dab))
        if not joined:
            return np.zeros(0, np.int64)
        at = np.unique(np.concatenate(joined))
        self.touched[at] = True
        points = self.hand.members(at)
        if self.brush.kind == "pull":
            self._pulled(points)
        elif self.brush.kind not in RUBBED:
            self._laid(points)
        return np.union1d(points, self._on_partner(points)) if self.partner else points

    def _on_partner(self, points: np.ndarray) -> np.ndarray:
        """The image of what these points' moves have become, on the shape of the other side; the points (k,) there."""
        _, across = mirror_partners(self.character)
        there = np.unique(across[points])
        change = (self.moves[self.shape] - self.before[self.shape])[across[there]]
        self.moves[self.partner][there] = self.before[self.partner][there] + FLIP * change
        return there

    def _pull(self, sample: Sample) -> list[np.ndarray]:
        if not self.held:
            self.held = list(self.hand.dabs(sample))
            for dab in self.held:
                self.mask[int(dab.mirrored), dab.at] = dab.amount
            return [dab.at for dab in self.held]
        self.way = np.asarray(checked(sample)[4:7], float)
        return [dab.at for dab in self.held]

    def _lay(self, dab: Dab) -> np.ndarray:
        mask = self.mask[int(dab.mirrored)]
        more = dab.amount > mask[dab.at]
        mask[dab.at[more]] = dab.amount[more]
        return np.asarray(dab.at[more])

    # -- what it does --------------------------------------------------------------------------------------------
    def _shares(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(k, 1) each: how much points feel of this side's hand and of the other's; where both reach they share."""
        own, other = self.mask[:, self.ground.of[points]]
        total = np.maximum(own + other, 1e-12)
        room = self.amounts[points]
        return (own * own / total * room)[:, None], (other * other / total * room)[:, None]

    def _pulled(self, points: np.ndarray) -> None:
        own, other = self._shares(points)
        moved = self.posed.at_rest(np.broadcast_to(self.way, (len(points), 3)), points)
        turned = self._mirrored_way(points)
        self.moves[self.shape][points] = self.before[self.shape][points] + own * moved + other * turned

    def _mirrored_way(self, points: np.ndarray) -> np.ndarray:
        """(k, 3) at rest: what the way of the hand is on the other side."""
        if not self.brush.both:
            return np.zeros((len(points), 3))
        middle = self.hand.members(self.held[0].at[self.held[0].far.argmin()][None])[:1]
        return np.broadcast_to(self.posed.at_rest(self.way[None], middle)[0] * FLIP, (len(points), 3))

    def _laid(self, points: np.ndarray) -> None:
        """These points anew from what the stroke began with."""
        own, other = self.mask[:, self.ground.of[points]] * self.amounts[points]
        before = self.before[self.shape][points]
        if self.brush.kind == "back":
            self.moves[self.shape][points] = before * (1.0 - np.maximum(own, other))[:, None]
            return
        out = self.posed.at_rest(self.normals[points], points) * own[:, None]
        if other.any():  # what the other hand does is the image of what this one would do over there
            across = mirror_partners(self.character)[1][points]
            image = FLIP * self.posed.at_rest(self.normals[across], across) * other[:, None]
            both = (own == other)[:, None]
            out = np.where(both, 0.5 * (out + image), np.where((other > own)[:, None], image, out))
        high = HIGH * self.brush.radius * (-1.0 if self.brush.kind == "sink" else 1.0)
        self.moves[self.shape][points] = before + high * out

    @cached_property
    def normals(self) -> np.ndarray:
        """(n, 3): out of the surface as it is when the stroke begins."""
        joined = self.posed.points[self.ground.first]
        return np.asarray(point_normals(joined, self.ground.of[self.ground.triangles])[self.ground.of])

    def _rub(self, dab: Dab) -> np.ndarray:
        """One touch more of what goes on as long as the hand rubs."""
        points = self.ground.first[dab.at]
        share = (dab.amount * self.amounts[points])[:, None]
        if self.brush.kind == "calm":
            moves, first = self.moves[self.shape], self.ground.first
            change = share * (self._mean_beside(lambda at: moves[first[at]], dab.at) - moves[points])
        else:
            places = self._joined_places
            if self.brush.kind == "even":
                change = np.asarray(self._mean_beside(lambda at: places[at], dab.at) - places[dab.at])
            else:
                change = self._flattened(places, dab)
            places[dab.at] += share * change
            change = self.posed.at_rest(share * change, points)
        self._moved_alike(dab.at, points, change)
        return dab.at

    @cached_property
    def _joined_places(self) -> np.ndarray:
        """(m, 3): where joined points are by now, in the pose."""
        return np.array(self.posed.points[self.ground.first])

    def _mean_beside(self, of: Callable[[np.ndarray], np.ndarray], at: np.ndarray) -> np.ndarray:
        """(k, 3): the mean over each joined point's neighbours; its own value where it has none."""
        starts, around = self.ground.beside(at)
        counts = np.diff(starts)
        padded = np.vstack([of(around), np.zeros((1, 3))])
        total = np.add.reduceat(padded, starts[:-1], axis=0)
        mean: np.ndarray = np.where(counts[:, None] > 0, total / np.maximum(counts, 1)[:, None], of(at))
        return mean

    def _flattened(self, places: np.ndarray, dab: Dab) -> np.ndarray:
        """On to the plane that lies best through what is touched."""
        own, weight = places[dab.at], np.maximum(dab.amount, 1e-9)
        centre = np.average(own, axis=0, weights=weight)
        spread = (own - centre) * np.sqrt(weight)[:, None]
        normal = np.linalg.svd(spread, full_matrices=False)[2][-1] if len(own) > 2 else np.zeros(3)
        return np.asarray(-((own - centre) @ normal)[:, None] * normal)

    def _moved_alike(self, at: np.ndarray, points: np.ndarray, change: np.ndarray) -> None:
        """Joined points moved on, and all that each stands for alike."""
        moves = self.moves[self.shape]
        moves[points] += change
        twins = self.hand.members(at)
        if len(twins) > len(points):
            moves[twins] = moves[self.ground.first[self.ground.of[twins]]]

    def result(self) -> Character:
        """The character with the stroke on it."""
        made = self.character
        for name, moves in self.moves.items():
            made = with_moves(made, name, moves)
            if self.brush.rims:
                made = rims_kept(made, name, self.touched[self.ground.of])
        return made
