"""Brushes over skin weights: what a stroke does to the points that it passes.

A stroke is the places that the hand passed, on the mesh at rest, so that it says the same whatever the pose it was painted
in.  It lays its effect on once, however often it passes a point and however fast; another stroke adds to it.  Evening out
alone goes on as long as the hand rubs.  Places between two of the hand's are filled in along the way.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from ..character import Character, opposite_name
from ..errors import BadParameters
from ..geometry.walking import tree_of
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
APART = 0.25  # of the radius: how far apart places are filled in
JUMP = 4.0  # radii: farther than this from the last place the hand has gone over to something else
SHARPER = 2.0  # what a full stroke of sharpening adds to the power
Sample = Sequence[float]  # triangle, its second and third corner's share, press (0–1), the way one looks, at rest


@dataclass(frozen=True)
class Brush:
    """kind: one of BRUSHES; radius in metres; strength and value 0–1; fading: the share of the radius over which it fades,
    0 a hard rim; through: all that lies in the ball, not along the skin; front: only what faces the eye; both: the mirrored
    place too, for the joint's partner."""

    kind: str
    joint: str = ""
    radius: float = 0.05
    strength: float = 0.5
    value: float = 1.0
    fading: float = 1.0
    through: bool = False
    front: bool = True
    both: bool = True

    def faded(self, distance: np.ndarray) -> np.ndarray:
        """(k,) 1 in the middle, 0 at the rim, with no kink at either."""
        core = self.radius * (1.0 - self.fading)
        t = np.clip((distance - core) / max(self.radius - core, 1e-12), 0.0, 1.0)
        return np.asarray(1.0 - t * t * (3.0 - 2.0 * t))


class Painting:
    """A stroke as it grows.  `index` and `weights` (n, k) are the skin's rows as they are by now; the character's stay."""

    def __init__(self, character: Character, brush: Brush) -> None:
        """Raises StepRefused and BadParameters: no skin, an unknown brush or joint, a locked joint."""
        self.rows = Rows(character)
        if brush.kind not in BRUSHES:
            raise BadParameters(f"There is no brush “{brush.kind}”.", "", f"There are: {', '.join(BRUSHES)}.")
        self.character, self.brush, self.ground = character, brush, self.rows.ground
        self.names, self.index, self.weights = self.rows.names, self.rows.index, self.rows.weights
        self.before = character.arrays["skin/joints"], character.arrays["skin/weights"]
        self.most = self.rows.most
        self.joints = np.array(self._meant(), np.int64)
        self.locked = self.rows.locked
        self.mask = np.zeros((len(self.ground.places), max(len(self.joints), 1)))
        self.mix = mix_of(character).copy() if brush.kind == "blend" else None
        self.last: np.ndarray | None = None
        order = np.argsort(self.ground.of, kind="stable")
        self._members = np.searchsorted(self.ground.of[order], np.arange(len(self.ground.places) + 1)), order
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
        touched = []
        for sample in samples:
            triangle, place, press, look = self._read(sample)
            corners = self.ground.places[self.ground.of[self.ground.triangles[triangle]]]
            for at in self._filled(place):
                near = corners if at is place else self._beside(at, look)
                touched.append(self._dab(at, near, press, look, 0, 1.0))
                if self.brush.both:
                    touched.append(self._dab(at, near, press, look, len(self.joints) - 1, -1.0))
            self.last = place
        if not touched:
            return np.zeros(0, np.int64)
        joined = np.unique(np.concatenate(touched))
        points = self._all_of(joined)
        if self.brush.kind != "even":
            self._from_before(points)
        return points

    def _read(self, sample: Sample) -> tuple[int, np.ndarray, float, np.ndarray]:
        if len(sample) != 7 or not np.isfinite(sample).all():
            raise BadParameters("A place of a stroke is seven numbers.", "samples", "Reload the page.")
        triangle = int(sample[0])
        if not 0 <= triangle < len(self.ground.triangles):
            raise BadParameters("There is no such triangle.", "samples", "Reload the page.")
        u, v = (float(np.clip(x, 0.0, 1.0)) for x in sample[1:3])
        corners = self.ground.places[self.ground.of[self.ground.triangles[triangle]]]
        place = (1.0 - u - v) * corners[0] + u * corners[1] + v * corners[2]
        return triangle, place, float(np.clip(sample[3], 0.0, 1.0)), np.asarray(sample[4:7], float)

    def _filled(self, place: np.ndarray) -> list[np.ndarray]:
        """This place, and those on the way to it from the last."""
        if self.last is None:
            return [place]
        far = float(np.linalg.norm(place - self.last))
        if far > JUMP * self.brush.radius:
            return [place]
        steps = max(int(np.ceil(far / (APART * self.brush.radius))), 1)
        return [*(self.last + (place - self.last) * k / steps for k in range(1, steps)), place]

    def _beside(self, place: np.ndarray, look: np.ndarray) -> np.ndarray:
        """(k, 3) the points nearest to a place beside the skin, on the side that the eye sees."""
        _, near = tree_of(self.character).query(place, min(6, len(self.ground.of)))
        near = np.atleast_1d(near)
        seen = near[self.ground.normals[near] @ look <= 0.0]
        return np.asarray(self.ground.places[self.ground.of[seen if len(seen) else near][:3]])

    def _dab(
        self, place: np.ndarray, near: np.ndarray, press: float, look: np.ndarray, column: int, side: float
    ) -> np.ndarray:
        """One touch with points `near` (k, 3) it; side −1: mirrored.  The joined points that it changed."""
        brush, ground, flip = self.brush, self.ground, np.array([side, 1.0, 1.0])
        place, look = place * flip, look * flip
        if brush.through:
            inside = tree_of(self.character).query_ball_point(place, brush.radius)
            at = np.unique(ground.of[np.asarray(inside, np.int64)])
            distance = np.linalg.norm(ground.places[at] - place, axis=1)
        else:
            sources = np.unique(ground.of[tree_of(self.character).query(near * flip)[1]])
            at, distance = ground.from_points(
                sources, np.linalg.norm(ground.places[sources] - place, axis=1), brush.radius
            )
        if brush.front and look.any():
            facing = ground.normals[ground.first[at]] @ look <= 0.0
            at, distance = at[facing], distance[facing]
        strength = brush.faded(distance) * press * brush.strength
        if brush.kind == "even":
            self._evened(at, strength)
            return np.asarray(at, np.int64)
        more = strength > self.mask[at, column]
        self.mask[at[more], column] = strength[more]
        return np.asarray(at[more], np.int64)

    # -- what it does --------------------------------------------------------------------------------------------
    def _all_of(self, joined: np.ndarray) -> np.ndarray:
        """All points of the mesh that these joined ones stand for."""
        starts, order = self._members
        count = starts[joined + 1] - starts[joined]
        if (count == 1).all():
            return np.asarray(order[starts[joined]])
        return np.concatenate([order[starts[j] : starts[j + 1]] for j in joined]) if len(joined) else order[:0]

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
        twins = self._all_of(np.asarray(at, np.int64))
        if len(twins) > len(points):
            own = ground.first[ground.of[twins]]
            self.index[twins], self.weights[twins] = self.index[own], self.weights[own]

    def result(self) -> Character:
        """The character with the stroke on it."""
        if self.mix is None:
            return self.rows.result()
        mixed = self.rows.skin.model_copy(update={"method": "mixed"})
        return self.character.with_(skin=mixed, arrays={"skin/mix": self.mix})
