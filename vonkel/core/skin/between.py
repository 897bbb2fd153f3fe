"""Joints between two others, which only what goes out has: linear skin that hangs on them thins less where the two turn.

Such a joint moves by the dual-quaternion mean of both moves (Kavan et al. 2008, equation 14, with equal weights) and swells
across the axis of the turn between them by SWELL (1 − cos(θ / 2)), in its own axes, so that it is a plain place, turn and size.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence

import numpy as np

from ..character import Between, Character
from ..geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ..rig.program import Pose

SWELL = 0.6


def between_moves(
    moves: np.ndarray, a: np.ndarray, b: np.ndarray, places: np.ndarray, turns: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Rigid moves (…, h, 3, 4) of such joints from rest, and their sizes (…, h, 3) in their own axes.

    moves (…, j, 3, 4): the joints' rigid moves from rest; a, b (h,): between which; places (h, 3) and turns (h, 3, 3): at rest.
    """
    q = _dual(moves)
    qa, qb = q[..., a, :], q[..., b, :]
    toward = np.sign((qa[..., :4] * qb[..., :4]).sum(-1, keepdims=True))
    mean = qa + np.where(toward < 0, -1.0, 1.0) * qb
    mean /= np.maximum(np.linalg.norm(mean[..., :4], axis=-1, keepdims=True), 1e-12)
    real, dual = mean[..., :4], mean[..., 4:]
    dual = dual - (real * dual).sum(-1, keepdims=True) * real
    turn = matrix_from_quaternion(real)
    w, r = real[..., :1], real[..., 1:]
    shift = 2 * (w * dual[..., 1:] - dual[..., :1] * r + np.cross(r, dual[..., 1:]))
    against = np.swapaxes(moves[..., a, :, :3], -1, -2) @ moves[..., b, :, :3]
    axis = np.stack(
        [
            against[..., 2, 1] - against[..., 1, 2],
            against[..., 0, 2] - against[..., 2, 0],
            against[..., 1, 0] - against[..., 0, 1],
        ],
        -1,
    )
    angle = np.arccos(np.clip((np.trace(against, axis1=-2, axis2=-1) - 1) / 2, -1, 1))
    axis /= np.maximum(np.linalg.norm(axis, axis=-1, keepdims=True), 1e-9)
    own = np.einsum("...hj,hjk->...hk", axis, turns)
    sizes = 1 + (SWELL * (1 - np.cos(angle / 2)))[..., None] * (1 - own**2)
    return np.concatenate([turn, shift[..., None]], -1), sizes


def sized(moves: np.ndarray, sizes: np.ndarray, places: np.ndarray, turns: np.ndarray) -> np.ndarray:
    """Moves (…, h, 3, 4) with the sizes (…, h, 3) in them, about the joints' own places."""
    grown = moves[..., :3] @ ((turns * sizes[..., None, :]) @ np.swapaxes(turns, -1, -2))
    stays = np.einsum("...ij,...j->...i", moves[..., :3], places) + moves[..., 3]
    shift = stays - np.einsum("...ij,...j->...i", grown, places)
    return np.concatenate([grown, shift[..., None]], -1)


class Betweens:
    """The joints between of one character, ready to be moved."""

    def __init__(self, character: Character, between: Sequence[Between]) -> None:
        number = character.joint_index
        self.a = np.array([number[h.a] for h in between], np.int64)
        self.b = np.array([number[h.b] for h in between], np.int64)
        self.places = np.array([h.place for h in between], float).reshape(-1, 3)
        self.turns = matrix_from_quaternion(
            np.array([character.joint(h.b).turn for h in between], float).reshape(-1, 4)
        )

    def at(self, pose: Pose, rest_inverse: np.ndarray) -> np.ndarray:
        """(h, 3, 4): from rest to a pose, sizes in them, the figure's own as well."""
        moves = self.moves(unsized(pose) @ rest_inverse)
        if pose.size != 1.0:
            moves *= pose.size
            moves[:, :, 3] += (1.0 - pose.size) * np.array(pose.centre)
        return moves

    def moves(self, rigid: np.ndarray) -> np.ndarray:
        """(…, h, 3, 4), sizes in them; rigid (…, j, 3, 4): the joints' moves from rest."""
        moves, sizes = between_moves(rigid, self.a, self.b, self.places, self.turns)
        return sized(moves, sizes, self.places, self.turns)

    def frames_at(self, pose: Pose, rest_inverse: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """World frames (h, 4, 4), without sizes, and the sizes (h, 3), the figure's own among them."""
        moves, sizes = between_moves(unsized(pose) @ rest_inverse, self.a, self.b, self.places, self.turns)
        out = np.tile(np.eye(4), (len(self.a), 1, 1))
        out[:, :3, :3] = moves[:, :, :3] @ self.turns
        at = np.einsum("hij,hj->hi", moves[:, :, :3], self.places) + moves[:, :, 3]
        out[:, :3, 3] = pose.size * at + (1.0 - pose.size) * np.array(pose.centre)
        return out, pose.size * sizes

    def rest_inverses(self) -> np.ndarray:
        """(h, 4, 4)."""
        out = np.tile(np.eye(4), (len(self.a), 1, 1))
        out[:, :3, :3], out[:, :3, 3] = self.turns, self.places
        return np.linalg.inv(out)


def unsized(pose: Pose) -> np.ndarray:
    """(j, 3, 4): the joints' frames before the figure is sized as a whole."""
    if pose.size == 1.0:
        return pose.joints
    joints, centre = pose.joints.copy(), np.array(pose.centre)
    joints[:, :, 3] = centre + (joints[:, :, 3] - centre) / pose.size
    return joints


def _dual(moves: np.ndarray) -> np.ndarray:
    """(…, 8): rotation (w, x, y, z), then ½ t q."""
    q = quaternion_from_matrix(moves[..., :3])
    t = moves[..., 3]
    w, v = q[..., :1], q[..., 1:]
    dual = 0.5 * np.concatenate([-(t * v).sum(-1, keepdims=True), t * w + np.cross(t, v)], -1)
    return np.concatenate([q, dual], -1)


def seal_of(character: Character) -> str:
    """What the live skin deforms by: points, joints at rest, weights, how moves are blended."""
    skin, arrays = character.skin, character.arrays
    assert skin is not None
    said = [
        *(arrays.hash_of(n) for n in ("points", "skin/joints", "skin/weights")),
        arrays.hash_of("skin/mix") if skin.method == "mixed" and "skin/mix" in arrays else "",
        skin.method,
        skin.smoothing,
        *([skin.smoother] if skin.smoothing and skin.smoother != "posed" else []),
        [(j.place, j.turn) for j in character.joints],
        [character.joint_index.get(n, -1) for n in skin.joints],
    ]
    return hashlib.blake2b(json.dumps(said).encode(), digest_size=12).hexdigest()


def handed_fresh(character: Character) -> bool:
    """Whether the weights that go out were made of the live skin as it is."""
    skin = character.skin
    return bool(skin and skin.handed and skin.handed.seal == seal_of(character))
