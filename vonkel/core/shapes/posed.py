"""A shape in a pose: where its points are there, and what moving them there means at rest."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ..character import Character, Lead
from ..errors import StepRefused
from ..geometry.rotations import matrix_from_quaternion
from ..rig import Pose
from ..rig.rules.links import lead_value
from ..skin import Deformer
from .moves import shape_named

OFF = 0.05  # of full strength: a shape that is on less can't be sculpted in the pose


class Posed:
    """The figure in a pose in which a shape is on.  Without a pose: at rest, the shape fully on.  over: as it goes out."""

    def __init__(self, character: Character, shape: str, pose: Pose | None, over: bool = False) -> None:
        """Raises NotFound, and StepRefused where the shape is off in that pose."""
        shape_named(character, shape)
        self.character, self.shape, self.pose, self.over = character, shape, pose, over
        self.strength = 1.0 if pose is None else pose.shapes.get(shape, 0.0)
        if abs(self.strength) < OFF:
            raise StepRefused(f"“{shape}” is off in this pose.", shape, "Turn its strength up, then sculpt.")

    @cached_property
    def _deformer(self) -> Deformer:
        return Deformer(self.character)

    @cached_property
    def points(self) -> np.ndarray:
        """(n, 3) float64: where the points are, without the smoothing after skinning."""
        d = self._deformer
        if self.pose is None:
            return np.asarray(d.shaped({self.shape: 1.0}), float)
        shaped = d.shaped(self.pose.shapes)
        return np.asarray(d.plainly(self.pose, shaped, self.over) if d.joints is not None else shaped, float)

    @cached_property
    def turns(self) -> np.ndarray | None:
        """(n, 3, 3): what a move at rest becomes in the pose; None: the same."""
        if self.pose is None or self._deformer.joints is None:
            return None
        return self._deformer.turns_of_moves(self.pose, self.over)

    def at_rest(self, moves: np.ndarray, rows: np.ndarray) -> np.ndarray:
        """(r, 3): what the shape must move points `rows` by at rest so that they move by (r, 3) in the pose."""
        if self._back is not None:
            moves = np.einsum("nij,nj->ni", self._back[rows], moves)
        return np.asarray(moves / self.strength)

    @cached_property
    def _back(self) -> np.ndarray | None:
        """(n, 3, 3): what a move in the pose is at rest.  Raises StepRefused."""
        if self.turns is None:
            return None
        try:
            return np.asarray(np.linalg.inv(self.turns))
        except np.linalg.LinAlgError:
            raise StepRefused(
                "Something is squashed flat in this pose: what is done there says nothing of rest.", self.shape,
                "Sculpt in another pose.",
            ) from None  # fmt: skip

    def in_pose(self, moves: np.ndarray, rows: np.ndarray) -> np.ndarray:
        """(r, 3): the other way round."""
        moves = moves * self.strength
        return np.asarray(moves if self.turns is None else np.einsum("nij,nj->ni", self.turns[rows], moves))


def lead_in_pose(character: Character, joint: str, reading: str, pose: Pose) -> tuple[Lead, float]:
    """How a joint's turn in a pose leads a corrective: by its `bend`, its `twist`, or its swing `toward` where the bone
    points; and what that reads there, radians.  Raises StepRefused where the joint is hardly turned so."""
    found = character.joint(joint)
    thing = f"joint:{joint}"
    if reading == "toward":
        axis = "xyz".index(found.aim[-1])
        own = pose.joints[character.joint_index[joint], :, axis] * (-1.0 if found.aim[0] == "-" else 1.0)
        if found.parent is not None:  # where the parent is at rest
            i = character.joint_index[found.parent]
            rest = _rest_turn(character, found.parent)
            own = rest @ pose.joints[i, :, :3].T @ own
        lead = Lead.model_validate({"kind": "toward", "thing": thing, "way": tuple(own.tolist())})
    else:
        lead = Lead.model_validate({"kind": reading, "thing": thing})
    value = lead_value(character, lead, pose.joints)
    if abs(value) < np.radians(2.0):
        words = {"toward": "swung", "bend": "bent", "twist": "twisted"}[reading]
        raise StepRefused(f"{joint} is hardly {words} in this pose.", joint, "Pose it, or read it otherwise.")
    return lead, value


def _rest_turn(character: Character, joint: str) -> np.ndarray:
    return matrix_from_quaternion(character.joint(joint).turn)
