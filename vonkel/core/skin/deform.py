"""From a pose to points.  What depends on the character alone is prepared once."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ..character import Character
from ..geometry.rotations import matrix_from_quaternion
from ..rig.program import Pose


def rest_inverses(character: Character) -> np.ndarray:
    """(j, 4, 4): inverse of each joint's world frame at rest."""
    m = np.tile(np.eye(4), (len(character.joints), 1, 1))
    if character.joints:
        m[:, :3, :3] = matrix_from_quaternion(np.array([j.turn for j in character.joints]))
        m[:, :3, 3] = [j.place for j in character.joints]
    return np.linalg.inv(m)


HALVES_FROM = 12_000  # points from which a second thread is worth its start
_second = ThreadPoolExecutor(1, thread_name_prefix="deform") if (os.cpu_count() or 1) > 1 else None


def in_halves(kernel: Callable[..., None], points: np.ndarray, *arrays: np.ndarray, out: np.ndarray) -> None:
    """Run a loop over points on two threads: it lets go of the interpreter's lock and each half is its own.

    `arrays`: joints and weights, cut like the points, then the transforms, given whole.
    """
    joints, weights, transforms = arrays
    if _second is None or len(points) < HALVES_FROM:
        kernel(points, joints, weights, transforms, out)
        return
    h = len(points) // 2
    other = _second.submit(kernel, points[h:], joints[h:], weights[h:], transforms, out[h:])
    kernel(points[:h], joints[:h], weights[:h], transforms, out[:h])
    other.result()


class Deformer:
    """Deforms one character.  `deform(pose)` gives (n, 3) float32 in world metres.

    The array that `deform` returns is used again by the next call; copy it to keep it.
    """

    def __init__(self, character: Character) -> None:
        self.character = character
        self.rest = np.ascontiguousarray(character.points, np.float32)
        self.rest_inverse = rest_inverses(character)
        self.method = character.skin.method if character.skin else "linear"
        self.shapes: list[tuple[str, np.ndarray, np.ndarray]] = [
            (
                s.name,
                np.ascontiguousarray(character.arrays[f"shape/{s.name}/points"]),
                np.ascontiguousarray(character.arrays[f"shape/{s.name}/moves"], np.float32),
            )
            for s in character.shapes
        ]
        self._shaped = self.rest.copy()
        self._out = np.empty_like(self.rest)
        self._scratch = np.empty_like(self.rest)
        self.joints: np.ndarray | None = None
        if character.skin is not None and character.joints:
            order = np.array([character.joint_index.get(n, 0) for n in character.skin.joints], np.uint16)
            joints = order[character.arrays["skin/joints"]]
            weights = np.ascontiguousarray(character.arrays["skin/weights"], np.float32)
            heavy = np.argsort(-weights, axis=1, kind="stable")  # heaviest first, as the loops expect
            self.joints = np.ascontiguousarray(np.take_along_axis(joints, heavy, 1))
            self.weights = np.ascontiguousarray(np.take_along_axis(weights, heavy, 1))

    def shaped(self, strengths: dict[str, float]) -> np.ndarray:
        """(n, 3) float32: rest points with the morph targets added."""
        active = [(i, m, strengths.get(n, 0.0)) for n, i, m in self.shapes if strengths.get(n, 0.0)]
        if not active:
            return self.rest
        self._shaped[:] = self.rest
        for index, moves, strength in active:
            self._shaped[index] += np.float32(strength) * moves
        return self._shaped

    def deform(self, pose: Pose, method: str | None = None) -> np.ndarray:
        """Points at `pose`, by the skin's own method or the one given ("linear" or "dual")."""
        points = self.shaped(pose.shapes)
        if self.joints is None:
            return points
        if (method or self.method) == "dual":
            if pose.scaled:  # scale cannot be blended as a rotation: it goes first, linearly, at rest
                points = self._scaled_at_rest(points, pose)
            return self._dual(points, pose.rigid_matrices(self.rest_inverse))
        return self._linear(points, pose.skin_matrices(self.rest_inverse), self._out)

    def _scaled_at_rest(self, points: np.ndarray, pose: Pose) -> np.ndarray:
        rest = np.linalg.inv(self.rest_inverse)[:, :3]
        scaled = rest.copy()
        scaled[:, :, :3] *= pose.scales[:, None, :]
        return self._linear(points, scaled @ self.rest_inverse, self._scratch)

    def _linear(self, points: np.ndarray, matrices: np.ndarray, out: np.ndarray) -> np.ndarray:
        from .kernels import linear4, linear_any

        assert self.joints is not None
        flat = np.ascontiguousarray(matrices.reshape(-1, 12), np.float32)
        run = linear4 if self.joints.shape[1] == 4 else linear_any
        in_halves(run, points, self.joints, self.weights, flat, out=out)
        return out

    def _dual(self, points: np.ndarray, matrices: np.ndarray) -> np.ndarray:
        from .kernels import dual, dual_quaternions

        q = np.empty((len(matrices), 8), np.float32)
        dual_quaternions(np.ascontiguousarray(matrices), q)
        assert self.joints is not None
        in_halves(dual, points, self.joints, self.weights, q, out=self._out)
        return self._out
