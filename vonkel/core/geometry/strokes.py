"""What a hand with a brush passes over: points of the mesh, each by how much.

A stroke is the places that the hand passed, on the mesh at rest, so that it says the same whatever the pose it was made in.
Places between two of the hand's are filled in along the way.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..errors import BadParameters
from .easing import smoothstep
from .health import mirror_partners
from .walking import Ground, ground_of, tree_of

APART = 0.25  # of the radius: how far apart places are filled in
JUMP = 4.0  # radii: farther than this from the last place the hand has gone over to something else
Sample = Sequence[float]  # triangle, its second and third corner's share, press (0–1), the way one looks, at rest


def checked(sample: Sample) -> Sample:
    """Raises BadParameters for what is no sample."""
    if len(sample) != 7 or not np.isfinite(sample).all():
        raise BadParameters("A place of a stroke is seven numbers.", "samples", "Reload the page.")
    return sample


@dataclass(frozen=True)
class Tip:
    """The brush's tip: radius in metres; strength 0–1; fading: the share of the radius over which it fades, 0 a hard rim;
    through: all that lies in the ball, not along the skin; front: only what faces the eye; both: the mirrored place too."""

    radius: float = 0.05
    strength: float = 0.5
    fading: float = 1.0
    through: bool = False
    front: bool = True
    both: bool = True

    def faded(self, distance: np.ndarray) -> np.ndarray:
        """(k,) 1 in the middle, 0 at the rim, with no kink at either."""
        core = self.radius * (1.0 - self.fading)
        return np.asarray(1.0 - smoothstep((distance - core) / max(self.radius - core, 1e-12)))


@dataclass(frozen=True)
class Dab:
    """One touch: joined points `at` (k,) and how much each is touched (k,), 0–1; `mirrored`: the one on the other side.
    `far` (k,): metres from its middle."""

    at: np.ndarray
    amount: np.ndarray
    mirrored: bool
    far: np.ndarray


class Hand:
    """The hand as it goes over the mesh of a character at rest."""

    def __init__(self, character: Character, tip: Tip) -> None:
        self.character, self.tip = character, tip
        self.ground: Ground = ground_of(character)
        self.last: np.ndarray | None = None
        order = np.argsort(self.ground.of, kind="stable")
        self._members = np.searchsorted(self.ground.of[order], np.arange(len(self.ground.places) + 1)), order

    def dabs(self, sample: Sample) -> Iterator[Dab]:
        """The touches from the last place to this one.  Raises BadParameters for what is no place of a stroke."""
        triangle, place, press, look = self.read(sample)
        corners = np.unique(self.ground.of[self.ground.triangles[triangle]])
        for at in self._filled(place):
            near = corners if at is place else self._beside(at, look)
            yield self._dab(at, near, press, look, False)
            if self.tip.both:
                across = mirror_partners(self.character)[1]
                yield self._dab(at, np.unique(self.ground.of[across[self.ground.first[near]]]), press, look, True)
        self.last = place

    def members(self, joined: np.ndarray) -> np.ndarray:
        """All points of the mesh that these joined ones stand for."""
        starts, order = self._members
        count = starts[joined + 1] - starts[joined]
        if (count == 1).all():
            return np.asarray(order[starts[joined]])
        return np.concatenate([order[starts[j] : starts[j + 1]] for j in joined]) if len(joined) else order[:0]

    def read(self, sample: Sample) -> tuple[int, np.ndarray, float, np.ndarray]:
        """A sample's triangle, place (3,), press, and the way one looks (3,).  Raises BadParameters."""
        checked(sample)
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
        if far > JUMP * self.tip.radius:
            return [place]
        steps = max(int(np.ceil(far / (APART * self.tip.radius))), 1)
        return [*(self.last + (place - self.last) * k / steps for k in range(1, steps)), place]

    def _beside(self, place: np.ndarray, look: np.ndarray) -> np.ndarray:
        """(k,) the joined points nearest to a place beside the skin, on the side that the eye sees."""
        _, near = tree_of(self.character).query(place, min(6, len(self.ground.of)))
        near = np.atleast_1d(near)
        seen = near[self.ground.normals[near] @ look <= 0.0]
        return np.unique(self.ground.of[(seen if len(seen) else near)[:3]])

    def _dab(self, place: np.ndarray, near: np.ndarray, press: float, look: np.ndarray, mirrored: bool) -> Dab:
        """One touch with the joined points `near` (k,) it, which are the mirrored place's own where it is that."""
        tip, ground, flip = self.tip, self.ground, np.array([-1.0 if mirrored else 1.0, 1.0, 1.0])
        place, look = place * flip, look * flip
        if tip.through:
            inside = tree_of(self.character).query_ball_point(place, tip.radius)
            at = np.unique(ground.of[np.asarray(inside, np.int64)])
            distance = np.linalg.norm(ground.places[at] - place, axis=1)
        else:
            at, distance = ground.from_points(near, np.linalg.norm(ground.places[near] - place, axis=1), tip.radius)
        if tip.front and look.any():
            facing = ground.normals[ground.first[at]] @ look <= 0.0
            at, distance = at[facing], distance[facing]
        return Dab(np.asarray(at, np.int64), tip.faded(distance) * press * tip.strength, mirrored, distance)
