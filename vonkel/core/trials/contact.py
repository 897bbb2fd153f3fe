"""Skin that goes through itself, and parts that come through it: by pairs of near points, against how they lie at rest."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character
from ..geometry.rays import winding_numbers
from ..geometry.topology import point_normals, skin_triangles, topology_of

NEAREST = 16  # points looked at from each: its own neighbours are the first half dozen
AGAINST = -0.2  # normals of two skins that meet: their cosine is less
ROUNDS, STEPS = 120, 8  # of the search inside from a rim, and along the other skin for each
MOST_BESIDE = 12  # neighbours of a point that are looked at
LIKELY = 48  # points of a part that are looked at closely
INNER = ("eye", "teeth", "tongue")


@dataclass(frozen=True)
class Depth:
    """How deep at most, metres; where; and what, by its name."""

    depth: float = 0.0
    point: int = 0
    what: str = ""


class Contacts:
    """What can be prepared for one character."""

    def __init__(self, character: Character) -> None:
        self.rest = np.asarray(character.points, float)
        self.triangles = topology_of(character).triangles
        self.skin_triangles = skin_triangles(character)
        self.skin = np.unique(self.skin_triangles)
        self.rest_normals = point_normals(self.rest, self.triangles)
        self.parts = [p for p in character.parts if p.role in INNER and p.points[1] > p.points[0]]
        self.noise = 1e-4 * character.size

    def _pairs(self, of: np.ndarray, skin: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """For places (a, 3) the nearest of the skin's points (b, 3): how far and which (a, k)."""
        far, at = cKDTree(skin).query(of, min(NEAREST, len(skin)))
        return far.reshape(len(of), -1), at.reshape(len(of), -1)

    def with_itself(self, points: np.ndarray) -> Depth:
        """How deep the skin is in itself at posed points (n, 3) where at rest it lay outside."""
        skin = self.skin
        if len(skin) < NEAREST:
            return Depth()
        normals = point_normals(points, self.triangles)
        _, near = self._pairs(points[skin], points[skin])
        p, q = np.repeat(skin, near.shape[1]), skin[near.ravel()]
        against = (normals[p] * normals[q]).sum(1) < AGAINST
        p, q = p[against], q[against]
        depth = -((points[p] - points[q]) * normals[q]).sum(1)
        was = -((self.rest[p] - self.rest[q]) * self.rest_normals[q]).sum(1)
        # Both see the other inside: a fold's rim is deep in one alone.
        back = -((points[q] - points[p]) * normals[p]).sum(1)
        deep = np.where((was < self.noise) & (back > self.noise), np.minimum(depth, back), 0.0)
        met = deep > self.noise
        if not met.any():
            return Depth()
        return self._followed(points, normals, p[met], q[met], deep[met])

    def _followed(
        self, points: np.ndarray, normals: np.ndarray, p: np.ndarray, q: np.ndarray, deep: np.ndarray
    ) -> Depth:
        """From the rims where two skins were seen to cross on over what lies inside: each point's neighbours look for the nearest of the
        other skin about where it found its own, as long as both see one another inside."""
        order = np.argsort(deep, kind="stable")
        found, best = np.zeros(len(points)), np.full(len(points), -1)
        found[p[order]], best[p[order]] = deep[order], q[order]
        front = np.unique(p)
        for _ in range(ROUNDS):
            near = self._beside[front]
            to, from_ = near.ravel(), np.repeat(best[front], near.shape[1])
            fresh = (best[to] < 0) & (to != np.repeat(front, near.shape[1]))
            to, first = np.unique(to[fresh], return_index=True)
            at = self._nearest(points, to, from_[fresh][first])
            way = points[to] - points[at]
            depth, back = -(way * normals[at]).sum(1), (way * normals[to]).sum(1)
            was = -((self.rest[to] - self.rest[at]) * self.rest_normals[at]).sum(1)
            against = (normals[to] * normals[at]).sum(1) < AGAINST
            inside = against & (was < self.noise) & (np.minimum(depth, back) > self.noise)
            front = to[inside]
            if not len(front):
                break
            best[front], found[front] = at[inside], np.minimum(depth, back)[inside]
        i = int(found.argmax())
        return Depth(float(found[i]), i, "the skin")

    def _nearest(self, points: np.ndarray, of: np.ndarray, start: np.ndarray) -> np.ndarray:
        """From points of the other skin downhill along its edges to the nearest of some points."""
        at = start
        for _ in range(STEPS):
            around = self._beside[at]
            far = np.linalg.norm(points[around] - points[of][:, None], axis=2)
            now = np.linalg.norm(points[at] - points[of], axis=1)
            k = far.argmin(1)
            better = far[np.arange(len(of)), k] < now
            if not better.any():
                break
            at = np.where(better, around[np.arange(len(of)), k], at)
        return at

    @cached_property
    def _beside(self) -> np.ndarray:
        """(n, k): each point's neighbours along edges of the skin, itself where it has fewer."""
        t = self.skin_triangles
        edges = np.unique(np.sort(np.vstack([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1), axis=0)
        both = np.vstack([edges, edges[:, ::-1]])
        both = both[np.argsort(both[:, 0], kind="stable")]
        count = np.bincount(both[:, 0], minlength=len(self.rest))
        k = int(min(count.max(initial=1), MOST_BESIDE))
        out = np.tile(np.arange(len(self.rest))[:, None], (1, k))
        rank = np.arange(len(both)) - np.repeat(np.cumsum(count) - count, count)
        keep = rank < k
        out[both[keep, 0], rank[keep]] = both[keep, 1]
        return out

    def through(self, points: np.ndarray) -> Depth:
        """How deep an eye, teeth or a tongue are in the flesh at posed points (n, 3) with what lay free of it at rest.

        What lies in the flesh at rest, as teeth behind a mouth that is shut, may come out of it: a mouth opens so.
        """
        best = Depth()
        if not len(self.skin) or not self.parts:
            return best
        normals = point_normals(points, self.triangles)
        for part in self.parts:
            own = np.arange(*part.points)
            far, near = self._pairs(points[own], points[self.skin])
            q = self.skin[near[:, 0]]
            now = ((points[own] - points[q]) * normals[q]).sum(1)
            was = ((self.rest[own] - self.rest[q]) * self.rest_normals[q]).sum(1)
            depth = np.where((now * was < 0) & (np.abs(was) > self.noise), np.minimum(np.abs(now), far[:, 0]), 0.0)
            likely = np.argsort(-depth, kind="stable")[:LIKELY]
            likely = likely[depth[likely] > max(best.depth, self.noise)]
            inside = winding_numbers(points, self.skin_triangles, points[own[likely]]) > 0.5
            before = winding_numbers(self.rest, self.skin_triangles, self.rest[own[likely]]) > 0.5
            crossed = likely[inside & ~before]
            if len(crossed):
                best = Depth(float(depth[crossed[0]]), int(own[crossed[0]]), part.name)
        return best
