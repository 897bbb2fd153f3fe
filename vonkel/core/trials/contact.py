"""Skin that goes through itself, and parts that come through it: by pairs of near points, against how they lie at rest."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character
from ..compiled import compiled
from ..derived import derived
from ..geometry.rays import winding_numbers
from ..geometry.topology import point_normals, runs, skin_triangles, topology_of

LEAST = 16  # points that a skin has at least
AGAINST = -0.2  # normals of two skins that meet: their cosine is less
ROUNDS, STEPS = 120, 8  # of the search inside from a rim, and along the other skin for each
MOST_BESIDE = 12  # neighbours of a point that are looked at
CELL = 1.0  # of a long edge: how far off skins that face one another are seen to cross
LIKELY = 48  # points of a part that are looked at closely
INNER = ("eye", "teeth", "tongue")


@dataclass(frozen=True)
class Depth:
    """How deep at most, metres; where; and what, by its name."""

    depth: float = 0.0
    point: int = 0
    what: str = ""


@derived("points", "face_starts", "face_corners", "parts", most=4)
def _beside_of(character: Character) -> np.ndarray:
    """(n, k): each point's neighbours along edges of the skin, itself where it has fewer."""
    t, n = skin_triangles(character), len(character.points)
    edges = np.unique(np.sort(np.vstack([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1), axis=0)
    both = np.vstack([edges, edges[:, ::-1]])
    both = both[np.argsort(both[:, 0], kind="stable")]
    count = np.bincount(both[:, 0], minlength=n)
    k = int(min(count.max(initial=1), MOST_BESIDE))
    out = np.tile(np.arange(n)[:, None], (1, k))
    rank = runs(np.zeros_like(count), count)
    keep = rank < k
    out[both[keep, 0], rank[keep]] = both[keep, 1]
    return out


class Contacts:
    """What can be prepared for one character."""

    def __init__(self, character: Character) -> None:
        self.character, self.rest = character, np.asarray(character.points, float)
        self.triangles = topology_of(character).triangles
        self.skin_triangles = skin_triangles(character)
        self.skin = np.unique(self.skin_triangles)
        self.rest_normals = point_normals(self.rest, self.triangles)
        self.parts = [p for p in character.parts if p.role in INNER and p.points[1] > p.points[0]]
        self.noise = 1e-4 * character.size
        t = self.skin_triangles
        edges = np.linalg.norm(self.rest[t[:, 0]] - self.rest[t[:, 1]], axis=1) if len(t) else np.ones(1)
        self.cell = CELL * float(np.percentile(edges, 95)) or 1.0
        self._last: tuple[np.ndarray, np.ndarray] | None = None

    def _normals(self, points: np.ndarray) -> np.ndarray:
        """(n, 3) of posed points: both measures ask for them, one after the other."""
        if self._last is None or self._last[0] is not points:
            self._last = points, point_normals(points, self.triangles)
        return self._last[1]

    def both(self, points: np.ndarray) -> tuple[Depth, Depth]:
        """`with_itself` and `through`, side by side: their loops let other threads run."""
        self._normals(points)  # made once, not by each
        if not self.parts:
            return self.with_itself(points), Depth()
        with ThreadPoolExecutor(1) as hand:
            through = hand.submit(self.through, points)
            return self.with_itself(points), through.result()

    def with_itself(self, points: np.ndarray) -> Depth:
        """How deep the skin is in itself at posed points (n, 3) where at rest it lay outside."""
        skin = self.skin
        if len(skin) < LEAST:
            return Depth()
        normals = self._normals(points)
        at = nearest_against(points[skin], normals[skin], self.cell)
        p, q = skin[at >= 0], skin[at[at >= 0]]
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

    @property
    def _beside(self) -> np.ndarray:
        return _beside_of(self.character)

    def through(self, points: np.ndarray) -> Depth:
        """How deep an eye, teeth or a tongue are in the flesh at posed points (n, 3) with what lay free of it at rest.

        What lies in the flesh at rest, as teeth behind a mouth that is shut, may come out of it: a mouth opens so.
        """
        best = Depth()
        if not len(self.skin) or not self.parts:
            return best
        normals = self._normals(points)
        rows = [np.arange(*part.points) for part in self.parts]
        every_far, every_near = self._skin_near(points, points[np.concatenate(rows)])
        ends = np.cumsum([len(r) for r in rows])[:-1]
        for part, own, far, q in zip(
            self.parts, rows, np.split(every_far, ends), np.split(every_near, ends), strict=True
        ):
            now = ((points[own] - points[q]) * normals[q]).sum(1)
            was = ((self.rest[own] - self.rest[q]) * self.rest_normals[q]).sum(1)
            depth = np.where((now * was < 0) & (np.abs(was) > self.noise), np.minimum(np.abs(now), far), 0.0)
            likely = np.argsort(-depth, kind="stable")[:LIKELY]
            likely = likely[depth[likely] > max(best.depth, self.noise)]
            inside = winding_numbers(points, self.skin_triangles, points[own[likely]]) > 0.5
            before = winding_numbers(self.rest, self.skin_triangles, self.rest[own[likely]]) > 0.5
            crossed = likely[inside & ~before]
            if len(crossed):
                best = Depth(float(depth[crossed[0]]), int(own[crossed[0]]), part.name)
        return best

    def _skin_near(self, points: np.ndarray, of: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How far some places (k, 3) are from the nearest point of the posed skin, and which it is.  A tree of what lies about them will
        do, unless it leaves open that something beyond is nearer."""
        low, high = of.min(0), of.max(0)
        margin = 0.5 * float(np.linalg.norm(high - low)) + self.cell
        skin = points[self.skin]
        about = self.skin[((skin > low - margin) & (skin < high + margin)).all(1)]
        if len(about):
            far, near = cKDTree(points[about]).query(of)
            if far.max() <= margin:
                return far, about[near]
        far, near = cKDTree(skin).query(of)
        return far, self.skin[near]


def nearest_against(points: np.ndarray, normals: np.ndarray, cell: float) -> np.ndarray:
    """(n,) for points (n, 3) with unit normals the nearest other within `cell` whose normal is against theirs; −1 where there is none."""
    at = np.floor((points - points.min(0)) / cell).astype(np.int64) + 1
    wide = at.max(0) + 2
    key = (at[:, 0] * wide[1] + at[:, 1]) * wide[2] + at[:, 2]
    order = np.argsort(key, kind="stable")  # points of one cell stand together
    cells, starts = np.unique(key[order], return_index=True)
    found, ends = np.full(len(points), -1, np.int64), np.append(starts, len(points))
    _against(points[order], normals[order], cells, ends, int(wide[1] * wide[2]), int(wide[2]), cell * cell, found)
    out = np.full(len(points), -1, np.int64)
    out[order] = np.where(found >= 0, order[found], -1)
    return out


@compiled
def _against(
    p: np.ndarray, n: np.ndarray, cells: np.ndarray, starts: np.ndarray, dx: int, dy: int, most: float, out: np.ndarray
) -> None:
    """Points (n, 3) in the order of their cells: those of cell c from starts[c] on."""
    for c in range(len(cells)):
        for x in range(-1, 2):
            for y in range(-1, 2):
                first = cells[c] + x * dx + y * dy - 1
                k = np.searchsorted(cells, first)
                end = k
                while end < len(cells) and cells[end] <= first + 2:
                    end += 1
                if end == k:
                    continue
                for i in range(starts[c], starts[c + 1]):
                    px, py, pz = p[i, 0], p[i, 1], p[i, 2]
                    best = most
                    if out[i] >= 0:
                        j = out[i]
                        u, v, w = px - p[j, 0], py - p[j, 1], pz - p[j, 2]
                        best = u * u + v * v + w * w
                    for j in range(starts[k], starts[end]):
                        u, v, w = px - p[j, 0], py - p[j, 1], pz - p[j, 2]
                        d = u * u + v * v + w * w
                        if d < best and n[i, 0] * n[j, 0] + n[i, 1] * n[j, 1] + n[i, 2] * n[j, 2] < AGAINST:
                            best = d
                            out[i] = j
