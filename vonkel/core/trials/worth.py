"""Whether a mend makes the skin calmer: the strain over all trial poses, before and after it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..character import Character
from ..derived import ALL, derived
from ..poses import pose_from_turns, trial_poses
from ..rig import Pose
from ..skin import Deformer
from ..skin.deform import HANDED
from ..skin.edits import taken_off
from ..skin.strays import Stray, strays_of
from .measure import Measurer

MOST = 16  # rows that are tried


def strain(character: Character, measurer: Measurer, poses: Sequence[Pose]) -> np.ndarray:
    """(n,) each point's stretch or squeeze squared, summed over poses, of the skin as it goes out."""
    deformer = Deformer(character)
    total = np.zeros(len(character.points))
    for pose in poses:
        total += measurer.heat(deformer.deform(pose, HANDED).astype(float)).astype(float) ** 2
    return total


def calmer_by(stray: Stray, before: np.ndarray, after: np.ndarray) -> float:
    """How much less strain there is, as a share of what lay on the stray's own points; below 0: there is more."""
    return float((before.sum() - after.sum()) / max(before[stray.points].sum(), 1e-6 * len(stray.points)))


@derived(*ALL, most=4)
def worth_taking_off(character: Character) -> tuple[tuple[str, str, float], ...]:
    """Of the first strays: joint, where, and how much calmer the trials are without it (`calmer_by`)."""
    poses = [pose_from_turns(character, p.turns) for p in trial_poses(character)]
    measurer, found = Measurer(character), []
    before = strain(character, measurer, poses)
    locked = character.skin.locked if character.skin else ()
    for stray in strays_of(character)[:MOST]:
        if stray.joint in locked:
            continue
        after = strain(taken_off(character, stray.joint, stray.points), measurer, poses)
        found.append((stray.joint, stray.where, round(calmer_by(stray, before, after), 4)))
    return tuple(found)
