"""Figures of a deformed mesh against its rest: stretch, area, folds, points left behind, volume."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components

from ..character import Character
from ..compiled import compiled
from ..derived import derived
from ..errors import NotFound
from ..geometry.health import mirror_distance
from ..geometry.measures import area, lengths
from ..geometry.topology import signed_volume, skin_triangles, topology_of_triangles, welded_points
from ..joints.limbs import limb_of
from ..recent import Recent
from ..tolerances import PAIR
from .contact import Contacts, Depth
from .distortion import distortions, rest_maps, worst_distortion
from .limits import limits_of

FOLD = -0.5  # faces folded onto each other: normals more than 120° apart
SLIVER = 0.2  # an edge so much shorter than others at its ends measures noise
PLACES, APART, WORTH = (
    5,
    0.06,
    0.2,
)  # worst places: so many, so far from one another (of the size), from so much stretch on (log2)
LEFT_BEHIND = 2.0  # a point this many edge lengths from where its neighbours went


@compiled
def _pass(
    p: np.ndarray,
    tri: np.ndarray,
    rest_area: np.ndarray,
    edges: np.ndarray,
    rest_length: np.ndarray,
    edge_tri: np.ndarray,
    rest_fold: np.ndarray,
    gathers: np.ndarray,
    allow: np.ndarray,
    stretch: np.ndarray,
    normal: np.ndarray,
    areas: np.ndarray,
) -> Any:
    """One pass over triangles and edges.  Fills `stretch` (n,) with the largest |log2 ratio| of a point's edges; of those that
    gather, (e,) bool, only what stretches counts.  allow (e,): how many times as far as usual an edge may go off its length.
    Fills `areas` (t,) with posed over rest.

    Returns (largest ratio, its edge, smallest ratio, its edge, largest area ratio, smallest area ratio, folds); ratios of edges
    are as they would weigh with the usual allowance.
    """
    big_area, small_area = 1.0, 1.0
    for t in range(len(tri)):
        a, b, c = p[tri[t, 0]], p[tri[t, 1]], p[tri[t, 2]]
        ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        n = np.sqrt(x * x + y * y + z * z)
        if n > 0:
            normal[t, 0], normal[t, 1], normal[t, 2] = x / n, y / n, z / n
        else:
            normal[t, 0], normal[t, 1], normal[t, 2] = 0.0, 0.0, 0.0
        areas[t] = 1.0
        if rest_area[t] > 0:
            ratio = 0.5 * n / rest_area[t]
            areas[t] = ratio
            big_area = max(big_area, ratio)
            small_area = min(small_area, ratio)
    stretch[:] = 0.0
    big, small, big_edge, small_edge, folds = 1.0, 1.0, 0, 0, 0
    for e in range(len(edges)):
        i, j = edges[e, 0], edges[e, 1]
        dx, dy, dz = p[i, 0] - p[j, 0], p[i, 1] - p[j, 1], p[i, 2] - p[j, 2]
        if rest_length[e] > 0:
            ratio = np.sqrt(dx * dx + dy * dy + dz * dz) / rest_length[e]
            weighed = 1.0 + (ratio - 1.0) / allow[e]
            if weighed > big:
                big, big_edge = weighed, e
            if gathers[e]:
                ratio = max(ratio, 1.0)
            weighed = 1.0 / (1.0 + (1.0 / max(ratio, 1e-6) - 1.0) / allow[e])
            if weighed < small:
                small, small_edge = weighed, e
            s = abs(np.log2(max(ratio, 1e-6)))
            stretch[i] = max(stretch[i], s)
            stretch[j] = max(stretch[j], s)
        f, g = edge_tri[e, 0], edge_tri[e, 1]
        if g >= 0 and not gathers[e]:
            d = normal[f, 0] * normal[g, 0] + normal[f, 1] * normal[g, 1] + normal[f, 2] * normal[g, 2]
            if d < FOLD and rest_fold[e] > FOLD + 0.3:
                folds += 1
    return big, big_edge, small, small_edge, big_area, small_area, folds


@compiled
def _worst_apart(p: np.ndarray, left: np.ndarray, apart: float, out: np.ndarray) -> int:
    """Fill `out` with the points (n, 3) where `left` (n,) is largest, each farther than √apart from those before; how many there are."""
    for k in range(len(out)):
        if not len(left):
            return k
        at = np.argmax(left)
        if left[at] < WORTH:
            return k
        out[k] = at
        for i in range(len(p)):
            x, y, z = p[i, 0] - p[at, 0], p[i, 1] - p[at, 1], p[i, 2] - p[at, 2]
            if x * x + y * y + z * z < apart:
                left[i] = 0.0
    return len(out)


@dataclass(frozen=True)
class Lidded:
    """What lids leave open where they should meet, a share of the opening, and how deep an eyeball comes through, a share of its radius."""

    gap: float = 0.0
    gap_point: int = 0
    pierced: float = 0.0
    pierced_point: int = 0


@dataclass(frozen=True)
class Moving:
    """What only a motion shows at one of its frames: how suddenly a joint goes (`popped`, of the size), how far a foot that stands is
    off its place (`slid`, of its leg), how far a limb's end is off its target (`missed`, of the limb); and whose each is."""

    popped: float = 0.0
    popping: str = ""
    slid: float = 0.0
    sliding: str = ""
    missed: float = 0.0
    missing: str = ""


@dataclass(frozen=True)
class Figures:
    """What one pose does to the skin.  Ratios are posed over rest.  What is `weighed` is as it would be with the usual allowance,
    where regions may stretch more or less than that."""

    stretch_most: float
    stretch_point: int
    squeeze_most: float
    squeeze_point: int
    area_most: float
    area_least: float
    folded: int
    left_behind: np.ndarray  # point indices
    volumes: dict[str, float]  # limb → change of the volume between skin and bones, −0.14 is a loss of 14 %
    heat: np.ndarray  # (n,) float32, 0 calm – 1 an edge doubled or halved
    contact: Depth = Depth()  # of the skin with itself, where that is looked at
    through: Depth = Depth()  # of eyes, teeth or a tongue through the skin, likewise
    touching_told: bool = False  # what is in contact or comes through is told and not weighed
    size: float = 1.0  # of the figure, metres
    lidded: Lidded | None = None  # of a face's trials
    distortion: float = 1.0  # symmetric Dirichlet energy over that of a stiff move, see distortion.py
    distortion_point: int = 0
    rough: float = 0.0  # how far a point departs from where its neighbours go, in edge lengths, of 999 in 1000 points
    rough_point: int = 0
    uneven: float = 0.0  # metres that both sides differ by in a pose that is the same on both
    uneven_point: int = 0
    places: tuple[int, ...] = ()  # points where it is worst, apart from one another, the worst first
    stretch_weighed: float = 1.0
    squeeze_weighed: float = 1.0
    distortion_weighed: float = 1.0
    rough_weighed: float = 0.0
    area_99: float = 1.0  # faces' areas over rest, of all but a hundredth of the skin: the largest
    area_99_point: int = 0
    area_1: float = 1.0  # and the smallest
    area_1_point: int = 0
    moving: Moving | None = None  # of frames of a motion


@dataclass(frozen=True)
class EdgeTable:
    """Triangles (t, 3) with their rest areas; edges (e, 2) with rest lengths, the two triangles of each (−1: none), and
    the cosine between those at rest.  What is far smaller than usual measures noise, not skin, and counts as 0."""

    triangles: np.ndarray
    rest_area: np.ndarray
    edges: np.ndarray
    rest_length: np.ndarray
    edge_tri: np.ndarray
    rest_fold: np.ndarray


def edge_table(points: np.ndarray, triangles: np.ndarray) -> EdgeTable:
    """What a pass over posed points needs to know of rest."""
    t = np.ascontiguousarray(triangles)
    flat = topology_of_triangles(t, len(points))
    edges = flat.edges
    rows, cols = flat.edge_corners
    edge_tri = np.full((len(edges), 2), -1, np.int32)
    edge_tri[:, 0] = cols[rows[:-1]] // 3
    two = np.flatnonzero(flat.edge_faces == 2)
    edge_tri[two, 1] = cols[rows[two] + 1] // 3
    rest_length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
    cross = np.cross(points[t[:, 1]] - points[t[:, 0]], points[t[:, 2]] - points[t[:, 0]])
    rest_area = 0.5 * np.linalg.norm(cross, axis=1)
    unit = cross / np.maximum(np.linalg.norm(cross, axis=1, keepdims=True), 1e-30)
    inner = edge_tri[:, 1] >= 0
    rest_fold = np.ones(len(edges))
    rest_fold[inner] = (unit[edge_tri[inner, 0]] * unit[edge_tri[inner, 1]]).sum(1)
    count = np.maximum(np.bincount(edges.ravel(), minlength=len(points)), 1)
    usual = np.bincount(edges.ravel(), np.repeat(rest_length, 2), len(points)) / count
    rest_length[rest_length < SLIVER * usual[edges].min(1)] = 0.0
    rest_area[rest_area < 1e-3 * np.median(rest_area)] = 0.0
    return EdgeTable(t, rest_area, edges, rest_length, edge_tri, rest_fold)


@derived("points", "face_starts", "face_corners", "parts", most=4)
def _rest_table(character: Character) -> EdgeTable:
    return edge_table(character.points, skin_triangles(character))


@derived("points", most=4)
def _partners_of(character: Character) -> np.ndarray | None:
    if not len(character.points):
        return None
    far, other = mirror_distance(character.points)
    return other if far.max() < PAIR * character.size and (other[other] == np.arange(len(other))).all() else None


WHOLE = "whole body"
LEAST_LIMB = 5e-3  # a limb of less than this share of the body's volume is a scrap
OPEN = 0.7  # a limb whose rims are more than this share of its skin is a patch of something (half a ball has ½)
# A limb whose volume is less than this share of its area to the power of 1.5 is a sheet (a tube ten times as long as thick
# has 0.04).
SOLID = 0.012


@dataclass(frozen=True)
class _Region:
    """A limb's triangles (t, 3) and its rims: directed edges (e, 2) as the triangles run, and the rim of each."""

    triangles: np.ndarray
    edges: np.ndarray
    rim: np.ndarray
    count: np.ndarray

    @classmethod
    def of(cls, triangles: np.ndarray) -> _Region | None:
        """None where an edge lies between more than two of them, which encloses nothing that could be told."""
        if not len(triangles):
            return None
        edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)
        n = int(edges.max()) + 1
        key, back = edges[:, 0] * n + edges[:, 1], edges[:, 1] * n + edges[:, 0]
        if len(np.unique(key)) < len(key):
            return None
        rim = edges[~np.isin(key, back)]
        used, at = np.unique(rim, return_inverse=True)
        at = at.reshape(-1, 2)
        graph = csr_matrix((np.ones(len(at)), (at[:, 0], at[:, 1])), (len(used), len(used)))
        of = connected_components(graph, directed=False)[1] if len(used) else np.zeros(0, int)
        name = of[at[:, 0]] if len(at) else np.zeros(0, int)
        return cls(triangles, rim, name, np.bincount(name, minlength=1))

    def _fans(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Corners (e, 3) of the fans' triangles: the middle of the rim, and its edges against the way they run."""
        start, end = points[self.edges[:, 0]], points[self.edges[:, 1]]
        middle = np.stack([np.bincount(self.rim, start[:, k], len(self.count)) for k in range(3)], 1)
        return (middle / np.maximum(self.count, 1)[:, None])[self.rim], end, start

    def volume(self, points: np.ndarray) -> float:
        """m³ between the triangles and the fans that close their rims."""
        a, b, c = self._fans(points)
        return signed_volume(points, self.triangles) + float(np.einsum("ij,ij->", a, np.cross(b, c))) / 6

    def open_area(self, points: np.ndarray) -> float:
        """m² of the fans."""
        a, b, c = self._fans(points)
        return 0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


_LIMBS: Recent[str, dict[str, tuple[_Region, float]]] = Recent(8)


def gathering_points(character: Character) -> np.ndarray:
    """(n,) bool: points of membranes, which are there to lie in folds where the limbs they hang between come together."""
    if character.skin is None:
        return np.zeros(len(character.points), bool)
    soft = np.array([character.joint(n).role.startswith(("membrane", "wing")) for n in character.skin.joints])
    own = soft[character.arrays["skin/joints"]] * (character.arrays["skin/weights"] > 0)
    return np.asarray(own.any(1))


def allowance(character: Character) -> np.ndarray:
    """(n,) how many times as far as usual skin may go: the most that a region allows there, as far as the point belongs to it."""
    out = np.ones(len(character.points))
    for region in character.regions:
        if region.allow != 1.0:
            rows, amounts = (character.arrays[f"region/{region.name}/{k}"] for k in ("points", "amounts"))
            out[rows] = (
                np.maximum(out[rows], 1 + amounts * (region.allow - 1))
                if region.allow > 1
                else out[rows] * (1 + amounts * (region.allow - 1))
            )
    return out


class Measurer:
    """What can be prepared for measuring one character's skin parts."""

    def __init__(self, character: Character) -> None:
        self.character, self.points = character, character.points
        table = _rest_table(character)
        self.triangles, self.edges, self.edge_tri = table.triangles, table.edges, table.edge_tri
        self.rest_length, self.rest_area, self.rest_fold = table.rest_length, table.rest_area, table.rest_fold
        self.gathers = gathering_points(character)[self.edges].all(1)
        self.allow = allowance(character)
        self.edge_allow = self.allow[self.edges].mean(1) if len(self.edges) else np.ones(0)
        self.triangle_allow = self.allow[self.triangles].mean(1) if len(self.triangles) else np.ones(0)
        self.normal, self.areas = np.zeros((len(self.triangles), 3)), np.ones(len(self.triangles))
        self.stretch = np.zeros(len(self.points))
        folds = np.zeros(len(self.points), bool)
        folds[self.edges[self.gathers]] = True  # membranes are there to lie in folds
        self.rest_maps = np.where(folds[self.triangles].all(1)[:, None], 0.0, rest_maps(self.points, self.triangles))
        self.energy = np.ones(len(self.triangles))

    @cached_property
    def _around(self) -> tuple[csr_matrix, np.ndarray]:
        """What gives each point its neighbours' mean (n, n), and how far apart they are (n,)."""
        n, e = len(self.points), self.edges
        both = np.concatenate([e, e[:, ::-1]])
        mean = csr_matrix((np.ones(len(both)), (both[:, 0], both[:, 1])), shape=(n, n))
        degree = np.maximum(np.asarray(mean.sum(1)).ravel(), 1)
        mean.data /= np.repeat(degree, np.diff(mean.indptr))
        lengths = np.bincount(e.ravel(), np.repeat(np.maximum(self.rest_length, 1e-9), 2), n) / degree
        return mean, np.where(lengths > 0, np.maximum(lengths, 1e-9), np.inf)  # points of other parts never count

    @cached_property
    def _limbs(self) -> dict[str, tuple[_Region, float]]:
        """The limbs that enclose something, with what they do at rest, m³.

        Each triangle belongs to the limb whose joints hold its corners most; rims are closed by fans from their middles, which
        move with them.  Thin sheets and scraps don't count.  Kept for the next skin that parts the body alike.
        """
        character = self.character
        if character.skin is None or not len(self.triangles):
            return {}
        of = [limb_of(character, n) for n in character.skin.joints]
        names = sorted(set(of))
        number = np.array([names.index(n) for n in of], np.int16)
        a, b, c = number[character.arrays["skin/joints"][:, 0][self.triangles]].T
        mine = np.where((b == c) & (a != b), b, a)  # as two of three corners say
        body = character.seal("points", "face_starts", "face_corners", "parts")
        key = body + hashlib.blake2b(mine.tobytes() + "\0".join(names).encode(), digest_size=16).hexdigest()
        return _LIMBS.get(key, lambda: self._enclosed(names, mine))

    def _enclosed(self, names: list[str], mine: np.ndarray) -> dict[str, tuple[_Region, float]]:
        """Limbs by their names, of the triangles that are each's, mine (t,)."""
        found = dict[str, tuple[_Region, float]]()
        first, at = welded_points(self.points, PAIR * self.character.size)
        whole = first[at][self.triangles]  # a texture's seam is no rim
        least = LEAST_LIMB * abs(signed_volume(self.points, self.triangles))
        for name, triangles in [*((n, whole[mine == k]) for k, n in enumerate(names)), (WHOLE, whole)]:
            region = _Region.of(triangles)
            if region is None:
                continue
            volume = region.volume(self.points)
            skin = area(self.points, triangles)
            solid = volume > max(least, 1e-15) and (name == WHOLE or volume > SOLID * skin**1.5)
            if solid and region.open_area(self.points) < OPEN * skin:
                found[name] = region, volume
        return found

    def _passed(self, points: np.ndarray) -> Any:
        return _pass(
            np.ascontiguousarray(points, np.float64), self.triangles, self.rest_area, self.edges, self.rest_length, self.edge_tri,
            self.rest_fold, self.gathers, self.edge_allow, self.stretch, self.normal, self.areas,
        )  # fmt: skip

    def heat(self, points: np.ndarray) -> np.ndarray:
        """(n,) float32 of posed points (n, 3): as Figures.heat, and nothing else."""
        self._passed(points)
        return np.minimum(self.stretch, 1.0).astype(np.float32)

    def _away(self, points: np.ndarray) -> np.ndarray:
        """(n,) how far posed points (n, 3) depart from where their neighbours go, in lengths of their edges."""
        mean, spacing = self._around
        moved = points - self.points
        return np.asarray(lengths(moved - mean @ moved) / spacing)

    def left_behind(self, points: np.ndarray) -> np.ndarray:
        """Which of posed points (n, 3) don't go with their neighbours."""
        return np.flatnonzero(self._away(points) > LEFT_BEHIND)

    @property
    def partners(self) -> np.ndarray | None:
        """(n,) the mirrored point of each, where the mesh is the same on both sides of x = 0; else None."""
        return _partners_of(self.character)

    def _uneven(self, points: np.ndarray) -> tuple[float, int]:
        if self.partners is None:
            return 0.0, 0
        off = lengths(points[self.partners] * [-1.0, 1.0, 1.0] - points)
        at = int(off.argmax())
        return float(off[at]), at

    def places(self) -> tuple[int, ...]:
        """Points where the pose that was passed last stretches or squeezes most, apart from one another."""
        out = np.empty(PLACES, np.int64)
        count = _worst_apart(self.points, self.stretch.copy(), (APART * self.character.size) ** 2, out)
        return tuple(out[:count].tolist())

    @cached_property
    def _contacts(self) -> Contacts:
        return Contacts(self.character)

    def measure(self, points: np.ndarray, contact: bool = False, even: bool = False) -> Figures:
        """Figures of posed points (n, 3).  `contact`: the skin with itself and inner parts through it are looked at, too:
        shapes should bring neither about, a bent elbow must.  `even`: the pose is the same on both sides, so the skin should be."""
        points = np.ascontiguousarray(points, np.float64)
        big, big_edge, small, small_edge, most, least, folds = self._passed(points)
        away = self._away(points)
        behind = np.flatnonzero(away > LEFT_BEHIND)
        distortions(points, self.triangles, self.rest_maps, self.energy)
        weighed = 1 + (self.energy - 1) / self.triangle_allow
        energy, triangle = worst_distortion(weighed, self.rest_area)
        swollen, swollen_at = self._areas(False)
        shrunk, shrunk_at = self._areas(True)
        rank = int(0.999 * (len(away) - 1))
        rough = int(np.argpartition(away / self.allow, rank)[rank]) if len(away) else 0
        uneven = self._uneven(points) if even else (0.0, 0)
        volumes = {n: max(float(region.volume(points) / rest - 1), -1.0) for n, (region, rest) in self._limbs.items()}
        return Figures(
            self._ratio(points, big_edge, big), int(self.edges[big_edge, 0]), self._ratio(points, small_edge, small),
            int(self.edges[small_edge, 0]), float(most),
            float(least), int(folds), behind, volumes, np.minimum(self.stretch, 1.0).astype(np.float32),
            *(self._contacts.both(points) if contact else (Depth(), Depth())),
            size=self.character.size, distortion=float(self.energy[triangle]) if len(self.energy) else 1.0, distortion_point=int(self.triangles[triangle, 0]) if len(self.triangles) else 0,
            rough=float(away[rough]) if len(away) else 0.0, rough_point=rough, uneven=uneven[0], uneven_point=uneven[1],
            places=self.places(), stretch_weighed=float(big), squeeze_weighed=float(small), distortion_weighed=energy,
            area_99=swollen, area_99_point=swollen_at, area_1=shrunk, area_1_point=shrunk_at,
            rough_weighed=float(away[rough] / self.allow[rough]) if len(away) else 0.0,
        )  # fmt: skip

    def _areas(self, smaller: bool) -> tuple[float, int]:
        """The area that a face of all but a hundredth of the skin's is under, or over, against rest, and a point of it; what gathers is left out."""
        count = np.flatnonzero(self.rest_maps[:, 0] > 0)
        if not len(count):
            return 1.0, 0
        ratio = 1.0 / np.maximum(self.areas[count], 1e-3) if smaller else self.areas[count]
        worst, at = worst_distortion(ratio, self.rest_area[count])
        return (1.0 / worst if smaller else worst), int(self.triangles[count[at], 0])

    def _ratio(self, points: np.ndarray, edge: int, weighed: float) -> float:
        """An edge's length over that at rest; 1 where the pass found none."""
        if weighed == 1.0 or not len(self.edges):
            return 1.0
        a, b = self.edges[edge]
        return float(np.linalg.norm(points[a] - points[b]) / self.rest_length[edge])

    def field(self, points: np.ndarray, key: str) -> np.ndarray:
        """(n,) float32 of posed points (n, 3): what a measure sees at each point, of what would pass there.  Raises NotFound for one that
        isn't seen point by point."""
        fields: dict[str, Callable[[float], np.ndarray]] = {
            "longest_edge": lambda limit: self._edges_far(points, True) / (limit - 1),
            "shortest_edge": lambda limit: self._edges_far(points, False) / (1 / limit - 1),
            "distortion": lambda limit: self._distorted(points) / (limit - 1),
            "rough": lambda limit: self._away(points) / self.allow / limit,
            "left_behind": lambda limit: self._away(points) / LEFT_BEHIND,
            "uneven": lambda limit: self._apart(points) / self.character.size / limit,
        }
        if key not in fields:
            raise NotFound(f"“{key}” isn't seen point by point.", "", f"There are: {', '.join(fields)}.")
        return np.asarray(fields[key](limits_of(self.character)[key]), np.float32)

    def _edges_far(self, points: np.ndarray, longer: bool) -> np.ndarray:
        """(n,) how far the edges at a point are longer, or shorter, than at rest: ratio − 1, weighed."""
        length = np.linalg.norm(points[self.edges[:, 0]] - points[self.edges[:, 1]], axis=1)
        ratio = np.divide(length, self.rest_length, out=np.ones(len(length)), where=self.rest_length > 0)
        far = (ratio - 1 if longer else np.where(self.gathers, 0.0, 1 / np.maximum(ratio, 1e-6) - 1)) / self.edge_allow
        out = np.zeros(len(points))
        np.maximum.at(out, self.edges.ravel(), np.repeat(far, 2))
        return out

    def _distorted(self, points: np.ndarray) -> np.ndarray:
        distortions(np.ascontiguousarray(points, np.float64), self.triangles, self.rest_maps, self.energy)
        out = np.zeros(len(points))
        np.maximum.at(out, self.triangles.ravel(), np.repeat(self.energy - 1, 3))
        return np.asarray(out / self.allow)

    def _apart(self, points: np.ndarray) -> np.ndarray:
        if self.partners is None:
            return np.zeros(len(points))
        return np.asarray(np.linalg.norm(points[self.partners] * [-1.0, 1.0, 1.0] - points, axis=1))


FIELDS = ("longest_edge", "shortest_edge", "distortion", "rough", "left_behind", "uneven")
"""The measures that can be shown as heat."""
