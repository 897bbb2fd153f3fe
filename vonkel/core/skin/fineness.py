"""What binding through the volume does with a body: by how many points and cells, what finer ones cost and gain, where it eases."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.topology import skin_points, skin_triangles, topology_of
from ..poses import pose_from_turns, trial_poses
from ..progress import tell
from ..weights import table_of
from .bind import WholeSkin, bind_skin, whole_skin
from .bones import Reach, bones_of, reach_of
from .deform import Deformer
from .mirror import mirror_of
from .owners import owners

RUNGS = 0.5, 2, 4  # of the cells that are chosen
MOST = 150_000  # cells that may be asked for
TWICE = 2.0  # times as long as at rest: an edge is torn
ALIKE = 1.1  # times as many cells as another fineness has, from which on it is worth a row


@dataclass(frozen=True)
class Fineness:
    """A body filled with `cells`, each `edge` metres long: `bare`, the share of the skin's points that lie over none; `otherwise`, the
    share that another bone owns than with the finest; what filling and owning take, seconds of one core."""

    cells: int
    edge: float
    chosen: bool
    bare: float
    otherwise: float
    seconds: float


@dataclass(frozen=True)
class HowBound:
    """points: of the skin; by: how many of those it is bound by; eased (n,): how much easing changes what holds each point of the
    character, 0 to 1; torn: the share of edges that some ordinary pose makes more than TWICE as long, without and with easing; the
    poses that do so most without."""

    points: int
    by: int
    fineness: tuple[Fineness, ...]
    eased: np.ndarray
    torn: tuple[float, float]
    poses: tuple[str, ...]


def how_bound(character: Character, influences: int = 4) -> HowBound:
    """How a body is bound through the volume by default, whatever its skin is now.  Raises StepRefused where there is nothing to bind
    to, or no skin."""
    soft, bones = skin_points(character), bones_of(character)
    if not soft.any() or not bones:
        raise StepRefused("There is nothing to bind.", character.name, "Bring a mesh in and lay a plan first.")
    tell(0.0, "filling the body")
    mesh = whole_skin(character.points[soft], (np.cumsum(soft) - 1)[skin_triangles(character)], character.size)
    rows = _finenesses(mesh, reach_of(character, bones).in_sizes(character.size), character.size)
    tell(0.6, "binding without easing")
    plain = bind_skin(character, influences, deforming="linear", eased=False)
    tell(0.8, "binding with easing")
    eased = bind_skin(character, influences, deforming="linear")
    tell(0.9, "bending both")
    changed = abs(table_of(plain).held - table_of(eased).held).max(1).toarray().ravel()
    without, poses = _torn(plain)
    return HowBound(
        int(soft.sum()), len(mesh.fewer.points if mesh.fewer else mesh.points), rows, changed.astype(np.float32),
        (without, _torn(eased)[0]), poses,
    )  # fmt: skip


def _finenesses(mesh: WholeSkin, reach: Reach, size: float) -> tuple[Fineness, ...]:
    def looked_at(cells: int) -> tuple[Fineness, np.ndarray]:
        before = time.thread_time()
        ways = mesh.ways(cells)
        own, _ = owners(ways, reach, mirror_of(ways.points, reach.partner, 1.0))
        took, bare = time.thread_time() - before, float((ways.under[:, 0] < 0).mean())
        row = Fineness(ways.cells, ways.solid.h * size, cells == 0, bare, 0.0, took)
        return row, np.where(own >= 0, reach.bone[np.maximum(own, 0)], -1)

    made = [looked_at(0)]
    chosen = made[0][0].cells
    for rung in RUNGS:
        tell(0.1 + 0.1 * RUNGS.index(rung), "filling the body more finely" if rung > 1 else "filling the body")
        row, owner = looked_at(min(int(rung * chosen), MOST))
        # cells are neither as small nor as large as one likes
        if all(max(row.cells, r.cells) >= ALIKE * min(row.cells, r.cells) for r, _ in made):
            made.append((row, owner))
    made.sort(key=lambda m: m[0].cells)
    finest = made[-1][1]
    return tuple(replace(r, otherwise=float((owner != finest).mean())) for r, owner in made)


def _torn(bound: Character) -> tuple[float, tuple[str, ...]]:
    """The share of the skin's edges that some ordinary pose makes more than TWICE as long, and the three poses that do so most."""
    edges = topology_of(bound).edges
    edges = edges[skin_points(bound)[edges[:, 0]]]
    rest = np.linalg.norm(bound.points[edges[:, 0]] - bound.points[edges[:, 1]], axis=1)
    deformer, ever = Deformer(bound), np.zeros(len(edges), bool)
    by_pose: dict[str, int] = {}
    for pose in trial_poses(bound):
        if pose.ordinary:
            placed = deformer.deform(pose_from_turns(bound, pose.turns))
            over = np.linalg.norm(placed[edges[:, 0]] - placed[edges[:, 1]], axis=1) > TWICE * rest
            by_pose[pose.name] = int(over.sum())
            ever |= over
    worst = sorted((n for n in by_pose if by_pose[n]), key=lambda n: -by_pose[n])[:3]
    return float(ever.mean()) if len(ever) else 0.0, tuple(worst)
