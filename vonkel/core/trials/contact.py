"""Skin that goes through itself, and parts that come through it: by pairs of near points, against how they lie at rest."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character
from ..geometry.rays import winding_numbers
from ..geometry.topology import point_normals, skin_triangles, topology_of

NEAREST = 16  # points looked at from each: its own neighbours are the first half dozen
AGAINST = -0.2  # normals of two skins that meet: their cosine is less
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
        if not len(deep) or deep.max() <= self.noise:
            return Depth()
        i = int(deep.argmax())
        return Depth(float(deep[i]), int(p[i]), "the skin")

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
