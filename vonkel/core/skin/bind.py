"""Binding: what joints hold which points, and how strongly.

Through the volume: bones own what is nearest to them by the way through the body (`owners`), over ways that no gap cuts
(`ways`), and holds fade along the skin from there (`blending`), farther where ordinary poses would pull it too long (`easing`).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags

from ..character import Character, Skin
from ..errors import NotFound, StepRefused
from ..geometry.measures import distance_to_segments
from ..geometry.topology import (
    middles,
    skin_points,
    skin_triangles,
    topology_of_triangles,
    welded_points,
    whole_triangles,
)
from ..progress import tell
from ..tolerances import PAIR
from ..weights import WeightTable
from .blending import blended
from .bones import Bone, bones_of, holds_skin, in_sizes, reach_of
from .coarse import DENSE, Coarse, coarse
from .easing import Easing, moves_of
from .heat import heat_weights
from .middle import Middle
from .mirror import Mirror, mirror_of
from .owners import owners
from .settling import settled
from .stiff import stiffened
from .ways import Ways, neighbours, point_areas, ways_of

USUAL_FALLOFF, USUAL_SMOOTH = 5.0, 20  # what a softness of 1 is said by


@dataclass(frozen=True)
class Surface:
    """What a binding method is given: points (n, 3) and triangles (t, 3) of the skin, which points are skin (n,) bool, the
    bones, how fast a hold fades (higher: sharper), how far it is evened along the surface, how many joints may
    hold a point, how many cells fill the body, and whether it is eased where ordinary poses stretch it."""

    character: Character
    points: np.ndarray
    triangles: np.ndarray
    soft: np.ndarray
    bones: list[Bone]
    falloff: float
    smooth: int
    influences: int = 4
    cells: int = 0
    eased: bool = True


@dataclass(frozen=True)
class Binding:
    """A way to bind: `weights` gives (s, b), sparse or not, for the skin's points and the bones, rows summing to one."""

    title: str
    about: str
    weights: Callable[[Surface], csr_matrix | np.ndarray]


BINDINGS: dict[str, Binding] = {}
"""The ways to bind, by the word that the step takes.  A new one is a function and a line here."""


def bind_skin(
    character: Character, influences: int = 4, falloff: float = USUAL_FALLOFF, smooth: int = USUAL_SMOOTH,
    deforming: str = "dual", by: str = "volume", cells: int = 0, joints: Collection[str] = (),
    falloffs: Mapping[str, float] | None = None, eased: bool = True,
) -> Character:  # fmt: skip
    """Bind every skin part to the deforming joints; other parts follow one joint each, rigidly.

    influences: the most joints that may hold a point; falloff: how fast a joint's hold fades with distance
    (higher: sharper); smooth: how far holds are evened along the surface; deforming: how joints' moves are blended; by: one of
    BINDINGS; cells: how many the body is filled with, 0 for as many as its thin parts want; joints: only these may hold skin; falloffs: joint →
    how much sharper (above 1) or softer its own hold fades; eased: whether holds through the volume are eased where
    ordinary poses stretch the skin.  Raises StepRefused where there
    are no deforming joints, or where the method can't work on this mesh.
    """
    if by not in BINDINGS:
        raise NotFound(f"There is no way to bind “{by}”.", character.name, f"There are: {', '.join(BINDINGS)}.")
    bones = [b for b in bones_of(character) if not joints or b.joint in joints]
    if not bones:
        raise StepRefused("There is nothing to bind to.", "no deforming joints", "Lay a plan or draw joints first.")
    points = character.points
    holders = tuple(b.joint for b in bones)
    holders += tuple(j.name for j in character.joints if j.deforms and not holds_skin(j))
    soft = skin_points(character)
    held = csr_matrix((len(points), len(holders)))
    if soft.any():
        triangles = skin_triangles(character)
        surface = Surface(character, points, triangles, soft, bones, falloff, smooth, influences, cells, eased)
        own = coo_matrix(BINDINGS[by].weights(surface))
        if falloffs:
            own = _refaded(own, [falloffs.get(b.joint, 1.0) for b in bones])
        held = csr_matrix((own.data, (np.flatnonzero(soft)[own.row], own.col)), held.shape)
    table = _with_rigid_parts(character, WeightTable(holders, held))
    index, weights = table.rows(influences)
    return character.with_(
        skin=Skin(
            joints=holders,
            method=deforming,
            influences=influences,
            smoothing=character.skin.smoothing if character.skin else 0,
            smoother=character.skin.smoother if character.skin else "posed",
        ),
        arrays={"skin/joints": index, "skin/weights": weights},
    )


def _refaded(held: coo_matrix, powers: Sequence[float]) -> coo_matrix:
    """Weights (n, bones), each bone's to its power and rows whole again: above 1 it lets go sooner where others hold, too."""
    made = csr_matrix((held.data ** np.array(powers)[held.col], (held.row, held.col)), held.shape)
    sums = np.asarray(made.sum(1)).ravel()
    return coo_matrix(diags(1.0 / np.where(sums > 0, sums, 1.0)) @ made)


def weights_through_volume(s: Surface) -> csr_matrix:
    """Owned through the filled body, blended along the skin (see the head of this file)."""
    tell(0.05, "filling the body")
    size, mesh = s.character.size, whole_skin(s.points[s.soft], (np.cumsum(s.soft) - 1)[s.triangles], s.character.size)
    points, triangles, of, fewer = mesh.points, mesh.triangles, mesh.of, mesh.fewer
    reach = reach_of(s.character, s.bones).in_sizes(size)
    ways = mesh.ways(s.cells)
    tell(0.3, "measuring whose each point is")
    mirror = mirror_of(ways.points, reach.partner, 1.0)
    own, radii = owners(ways, reach, mirror)
    tell(0.6, "blending along the skin")
    softness = USUAL_FALLOFF / s.falloff * float(np.sqrt(s.smooth / USUAL_SMOOTH))
    held = blended(ways, reach, own, radii, softness).table(len(s.bones))
    lost = np.flatnonzero(own < 0)
    if len(lost):
        near = _nearest_bones(ways.points[lost] * size, s.bones)
        held = (held + csr_matrix((np.ones(len(near)), (lost, near)), held.shape)).tocsr()
    tell(0.8, "easing what ordinary poses stretch")
    moves = moves_of(s.character, [b.joint for b in s.bones]) if s.eased else None
    owner = np.where(own >= 0, reach.bone[np.maximum(own, 0)], -1)
    middle = Middle.of(ways.points, owner, reach)
    easing = None if moves is None else Easing(ways.points, moves, middle)
    held = both_sides_alike(stiffened(middle.let_go(held), ways, reach), mirror)
    held = settled(ways.rows, ways.cols, ways.piece, ways.areas, held, s.influences, mirror, easing)
    if fewer:
        edges, mirror = topology_of_triangles(triangles, len(points)), mirror_of(points, reach.partner, 1.0)
        middle = Middle.of(points, owner[fewer.of], reach)
        easing = None if moves is None else Easing(points, moves, middle, mend=True)
        held = both_sides_alike((fewer.carry @ held).tocsr(), mirror)
        held = settled(
            *neighbours(edges), edges.islands, point_areas(points, triangles), held, s.influences, mirror, easing
        )
    return held[of]


@dataclass(frozen=True)
class WholeSkin:
    """A skin as it is bound: points (m, 3), in sizes, what lies in one place being one of them; triangles (t, 3); of (n,): which of
    them each point of the mesh is; fewer: those that a dense one is bound by."""

    points: np.ndarray
    triangles: np.ndarray
    of: np.ndarray
    fewer: Coarse | None

    def ways(self, cells: int = 0) -> Ways:
        """Its ways, or those of the fewer points; cells: how many, 0 for as many as its thin parts want."""
        own = self.points, self.triangles
        return (
            ways_of(self.fewer.points, self.fewer.triangles, 1.0, cells, own)
            if self.fewer
            else ways_of(*own, 1.0, cells)
        )


def whole_skin(points: np.ndarray, triangles: np.ndarray, size: float) -> WholeSkin:
    """Of points (n, 3), metres, and triangles (t, 3) of a character of a size."""
    own, faces, of = _joined(in_sizes(points, size), triangles)
    return WholeSkin(own, faces, of, coarse(own, faces) if len(own) > DENSE else None)


def _joined(points: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points (m, 3) and triangles (t, 3) with what lies in one place made one, and which of those each point is (n,).

    Their middle stands for them, not the first of them: that one may be another one on either side of a mirrored body.
    """
    of = welded_points(points, PAIR)[1]
    return middles(points, of), whole_triangles(of[triangles]), of


def _nearest_bones(points: np.ndarray, bones: list[Bone]) -> np.ndarray:
    return np.asarray(np.stack([distance_to_segments(points, b.segments) for b in bones], 1).argmin(1))


def _with_rigid_parts(character: Character, table: WeightTable) -> WeightTable:
    """Each part that isn't skin is held by one joint: eyes by the eye joint at their centre, others by the nearest."""
    index = {n: i for i, n in enumerate(table.joints)}
    for part in character.parts:
        if part.role != "skin":
            middle = character.points[part.points[0] : part.points[1]].mean(0)
            holder = holder_of(character, part.role, part.name, middle, index)
            table = table.given_rows(np.arange(*part.points), holder)
    return table


def holder_of(character: Character, role: str, name: str, middle: np.ndarray, index: dict[str, int]) -> str:
    """The joint that should hold a rigid part."""

    def nearest(wanted: list[str]) -> str:
        return min(wanted, key=lambda n: float(np.linalg.norm(np.array(character.joint(n).place) - middle)))

    eyes = [j.name for j in character.joints if j.role == "eye" and j.name in index]
    if role == "eye" and eyes:
        return nearest(eyes)
    which = "lid_lower" if "lower" in name.lower() else "lid_upper"
    lids = [j.name for j in character.joints if j.role == which and j.name in index]
    if role == "lid" and lids:
        return nearest(lids)
    jaw = next((j.name for j in character.joints if j.role == "jaw" and j.name in index), None)
    head = next((j.name for j in character.joints if j.role == "head" and j.name in index), None)
    if role == "tongue" and jaw:
        return jaw
    if role == "teeth" and head:
        return jaw if jaw and "lower" in name.lower() else head
    return nearest(list(index))


def both_sides_alike(held: csr_matrix, mirror: Mirror | None) -> csr_matrix:
    """Weights (n, b) whose right is the mirror of their left, to the bit; as they are where nothing is mirrored."""
    if mirror is None:
        return held
    swapped = held[mirror.other][:, mirror.partner]

    sides = ((1, held), (0, 0.5 * (held + swapped)), (-1, swapped))
    return sum(
        (diags((mirror.side == side).astype(float)) @ one for side, one in sides), csr_matrix(held.shape)
    ).tocsr()


def weights_by_nearest_bone(s: Surface) -> csr_matrix:
    """Each point to the bone that is nearest in a straight line, then evened.  For open or flat meshes and hard things."""
    points = s.points[s.soft]
    near = _nearest_bones(points, s.bones)
    held = csr_matrix((np.ones(len(points)), (np.arange(len(points)), near)), (len(points), len(s.bones)))
    n = len(points)
    rows, cols = neighbours(topology_of_triangles((np.cumsum(s.soft) - 1)[s.triangles], n))
    mean = csr_matrix((np.ones(len(cols)), cols, rows), (n, n)) + diags(np.ones(n))
    mean = (diags(1.0 / np.asarray(mean.sum(1)).ravel()) @ mean).tocsr()
    for _ in range(s.smooth):
        held = mean @ held
    partner = reach_of(s.character, s.bones).partner
    return both_sides_alike(held.tocsr(), mirror_of(points, partner, s.character.size))


def weights_by_heat(s: Surface) -> csr_matrix:
    """Warmed by the bones that are seen (`heat.py`).  For closed bodies whose limbs stand apart."""
    size = s.character.size
    points, triangles, of = _joined(s.points[s.soft] / size, (np.cumsum(s.soft) - 1)[s.triangles])
    bones = [Bone(b.joint, b.segments / size) for b in s.bones]
    held = heat_weights(points, triangles, bones)
    partner = reach_of(s.character, s.bones).partner
    return both_sides_alike(held, mirror_of(points, partner, 1.0))[of]


BINDINGS |= {
    "volume": Binding(
        "through the volume",
        "by distance through the filled body: a hand beside a thigh is far from it",
        weights_through_volume,
    ),
    "heat": Binding(
        "by heat",
        "bones warm the skin that they see (Baran & Popović 2007): closed bodies with limbs that stand apart",
        weights_by_heat,
    ),
    "nearest": Binding(
        "by the nearest bone", "in a straight line: for open or flat meshes and hard things", weights_by_nearest_bone
    ),
}


def weights_of(character: Character, joint: str) -> np.ndarray:
    """(n,) float32: how much `joint` holds each point; zeros where it holds none."""
    out = np.zeros(len(character.points), np.float32)
    if character.skin is None or joint not in character.skin.joints:
        return out
    index = character.skin.joints.index(joint)
    hit = character.arrays["skin/joints"] == index
    return np.asarray(np.where(hit, character.arrays["skin/weights"], 0).sum(1).astype(np.float32))
