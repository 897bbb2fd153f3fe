"""Morph targets that only what goes out has: each comes on with how one joint is turned against its parent.

Its strength is a weighted sum of the nine numbers of that turn, in the joint's own axes, less those of no turn (Loper et al.
2015, “SMPL: a skinned multi-person linear model”, equation 8, drives its targets so).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..character import Character, Corrective
from ..geometry.rotations import matrix_from_quaternion


def turns_against(character: Character, joints: Sequence[str], rigid: np.ndarray) -> np.ndarray:
    """(…, c, 9): how joints are turned against their parents, in their own axes, less the identity.

    rigid (…, j, 3, 4): the joints' rigid moves from rest.
    """
    number = character.joint_index
    own = np.array([number[n] for n in joints], np.int64)
    above = np.array([number.get(character.joint(n).parent or "", -1) for n in joints], np.int64)
    axes = matrix_from_quaternion(np.array([character.joint(n).turn for n in joints], float).reshape(-1, 4))
    turn = rigid[..., own, :, :3]
    parent = np.where((above >= 0)[:, None, None], rigid[..., above, :, :3], np.eye(3))
    against = np.swapaxes(axes, -1, -2) @ np.swapaxes(parent, -1, -2) @ turn @ axes
    return np.asarray((against - np.eye(3)).reshape(*against.shape[:-2], 9))


class Correctives:
    """The targets of one character that goes out, ready to be added."""

    def __init__(self, character: Character, correctives: Sequence[Corrective]) -> None:
        self.character, self.list = character, tuple(correctives)
        self.joints = [c.joint for c in correctives]
        self.weights = np.array([c.weights for c in correctives], float).reshape(-1, 9)
        self.points = [character.arrays[f"handed/target/{c.name}/points"] for c in correctives]
        self.moves = [
            np.ascontiguousarray(character.arrays[f"handed/target/{c.name}/moves"], np.float32) for c in correctives
        ]

    def strengths(self, rigid: np.ndarray) -> np.ndarray:
        """(c,) of one pose's rigid moves (j, 3, 4)."""
        return np.asarray((turns_against(self.character, self.joints, rigid) * self.weights).sum(-1))

    def add(self, strengths: np.ndarray, points: np.ndarray) -> None:
        """Add them to rest points (n, 3) float32, in place."""
        for strength, index, moves in zip(strengths, self.points, self.moves, strict=True):
            if abs(strength) > 1e-4:
                points[index] += np.float32(strength) * moves
