"""Points that stay behind, or run ahead, in some pose: found over the trials and each joint's range, in groups."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..character import Character
from ..errors import StepRefused
from ..geometry.topology import topology_of
from ..poses import WorldTurns, pose_from_turns, trial_poses
from ..progress import tell
from ..skin import Deformer
from .measure import Measurer
from .picture import picture, png
from .samples import swept

OF_MARKED = (0.785, 0.282, 0.102)  # the ember that marks them in their picture


@dataclass(frozen=True)
class Behind:
    """Points (k,) that hang together, in how many of the poses some of them stay behind, the pose in which most do, in words,
    and how it looks there, PNG."""

    points: np.ndarray
    poses: int
    worst: str
    picture: bytes


def left_behind(character: Character, pictures: bool = True) -> list[Behind]:
    """Groups of points that don't go with what lies round them, the largest first.  Raises StepRefused without a skin."""
    if character.skin is None:
        raise StepRefused("There is no skin to try yet.", character.name, "Bind the skin first.")
    named: list[tuple[str, WorldTurns]] = [(p.name, p.turns) for p in trial_poses(character)]
    named += [(" and ".join(turns).replace("_", " ") + " alone", turns) for turns in swept(character)]
    deformer, measurer = Deformer(character), Measurer(character)
    found: list[np.ndarray] = []
    for i, (name, turns) in enumerate(named):
        tell(i / max(len(named), 1), f"trying “{name}”")
        found.append(measurer.left_behind(deformer.deform(pose_from_turns(character, turns)).astype(float)))
    count = np.bincount(np.concatenate(found), minlength=len(character.points)) if found else np.zeros(0)
    points = np.flatnonzero(count)
    groups = []
    for group in _together(character, points):
        inside = [int(np.isin(f, group).sum()) for f in found]
        worst = int(np.argmax(inside))
        image = _pictured(character, deformer, named[worst][1], group) if pictures else b""
        groups.append(Behind(group, int(np.count_nonzero(inside)), named[worst][0], image))
    return sorted(groups, key=lambda g: -len(g.points))


def _together(character: Character, points: np.ndarray) -> list[np.ndarray]:
    """Points in pieces that share edges."""
    if not len(points):
        return []
    number = np.full(len(character.points), -1)
    number[points] = np.arange(len(points))
    a, b = number[topology_of(character).edges.T]
    keep = (a >= 0) & (b >= 0)
    graph = coo_matrix((np.ones(keep.sum()), (a[keep], b[keep])), shape=(len(points),) * 2)
    count, piece = connected_components(graph, directed=False)
    return [points[piece == k] for k in range(count)]


def _pictured(character: Character, deformer: Deformer, turns: WorldTurns, group: np.ndarray) -> bytes:
    posed = deformer.deform(pose_from_turns(character, turns)).astype(float)
    colours = np.full((len(posed), 3), (215.0, 205.0, 185.0))
    colours[group] = 255 * np.array(OF_MARKED)
    middle = posed[group].mean(0)
    half = max(0.09 * character.size, 2.5 * float(np.ptp(posed[group], axis=0).max()))
    turn = float(np.arctan2(*(middle - posed.mean(0))[[0, 2]]))
    return png(picture(posed, topology_of(character).triangles, colours, (120, 120), turn, 0.12, (middle, half)))
