"""Poses that are the same on both sides: there the skin of an even body should be, too."""

from __future__ import annotations

import numpy as np

from ..character import Character, opposite_name
from ..joints.orient import MIRROR
from ..rig import Pose

NEAR = 1e-4  # radians, and of the size: poses that differ by less are the same on both sides


def even_pose(character: Character, pose: Pose, moves: np.ndarray) -> bool:
    """Whether a pose is its own mirror image about x = 0.  moves (j, 3, 4): the joints' moves from rest."""
    partner = []
    for j in character.joints:
        other = character.partner(j.name) if j.side != "C" else j.name
        if other is None and j.deforms:
            return False
        partner.append(character.joint_index[other or j.name])
    image = moves[partner] * MIRROR[:, None]
    image = np.concatenate([image[:, :, :3] * MIRROR, image[:, :, 3:]], axis=2)
    off = np.abs(image - moves)
    off[:, :, 3] /= character.size
    deforming = np.array([j.deforms for j in character.joints], bool)
    return bool(off[deforming].max(initial=0.0) < NEAR) and all(
        abs(v - pose.shapes.get(opposite_name(k), 0.0)) < NEAR for k, v in pose.shapes.items()
    )
