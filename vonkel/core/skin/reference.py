"""Plain numpy twins of the compiled loops: their check, and what works out new rests in double precision."""

from __future__ import annotations

import numpy as np

from ..character import Character
from ..geometry.rotations import quaternion_from_matrix
from ..rig.program import Pose
from .deform import rest_inverses


def linear(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, matrices: np.ndarray) -> np.ndarray:
    """Linear blend skinning: points (n, 3), joints and weights (n, k), matrices (j, 3, 4) → (n, 3)."""
    blended = np.einsum("nk,nkrc->nrc", weights.astype(float), matrices[joints])
    return np.asarray(np.einsum("nrc,nc->nr", blended[:, :, :3], points) + blended[:, :, 3])


def dual_quaternions(matrices: np.ndarray) -> np.ndarray:
    """Rigid (j, 3, 4) → (j, 8): unit rotation quaternion and dual part ½ t q (Kavan et al. 2008, section 3.2)."""
    q = quaternion_from_matrix(matrices[:, :, :3])
    w, x, y, z = q.T
    tx, ty, tz = matrices[:, :, 3].T
    d = 0.5 * np.stack(
        [-tx * x - ty * y - tz * z, tx * w + ty * z - tz * y, ty * w + tz * x - tx * z, tz * w + tx * y - ty * x], 1
    )
    return np.concatenate([q, d], 1)


def dual(points: np.ndarray, joints: np.ndarray, weights: np.ndarray, matrices: np.ndarray) -> np.ndarray:
    """Dual-quaternion skinning; the signs are taken against each point's first influence."""
    q = dual_quaternions(matrices)[joints]  # (n, k, 8)
    sign = np.where((q[:, :1, :4] * q[:, :, :4]).sum(-1, keepdims=True) < 0, -1.0, 1.0)
    b = (weights[:, :, None] * sign * q).sum(1)
    b = b / np.linalg.norm(b[:, :4], axis=1, keepdims=True)
    w, r, e, d = b[:, :1], b[:, 1:4], b[:, 4:5], b[:, 5:]
    turned = points + 2 * np.cross(r, np.cross(r, points) + w * points)
    return np.asarray(turned + 2 * (w * d - e * r + np.cross(r, d)))


def deform(character: Character, pose: Pose, strengths: dict[str, float] | None = None) -> np.ndarray:
    """(n, 3) float64: what `Deformer.deform` gives, in double precision and without its shortcuts.

    strengths: of the morph targets; none given: those of the pose.
    """
    points = character.points.copy()
    for name, strength in (pose.shapes if strengths is None else strengths).items():
        if strength:
            points[character.arrays[f"shape/{name}/points"]] += strength * character.arrays[
                f"shape/{name}/moves"
            ].astype(float)
    if character.skin is None or not character.joints:
        return points
    order = np.array([character.joint_index[n] for n in character.skin.joints])
    joints = order[character.arrays["skin/joints"]]
    weights = character.arrays["skin/weights"].astype(float)
    heavy = np.argsort(-weights, axis=1, kind="stable")
    joints, weights = np.take_along_axis(joints, heavy, 1), np.take_along_axis(weights, heavy, 1)
    weights = weights / np.maximum(weights.sum(1, keepdims=True), 1e-12)
    inverse = rest_inverses(character)
    if character.skin.method == "linear":
        return linear(points, joints, weights, pose.skin_matrices(inverse))
    if pose.scaled:
        scaled = np.linalg.inv(inverse)[:, :3]
        scaled[:, :, :3] *= pose.scales[:, None, :]
        points = linear(points, joints, weights, scaled @ inverse)
    return dual(points, joints, weights, pose.rigid_matrices(inverse))


def direct(
    points: np.ndarray, weights: np.ndarray, evened: np.ndarray, matrices: np.ndarray, ball: float
) -> np.ndarray:
    """Direct delta mush (Le & Lewis 2019, section 3): homogeneous moments, and the nearest rotation by singular values.

    points (n, 3); weights (n, j) of all joints; evened (n, n): what each point has in the evened others; matrices (j, 3, 4).
    ball: of each patch's spread, added to its second moments the same in all directions.
    """
    four = np.column_stack([points, np.ones(len(points))])
    out = np.empty_like(points)
    for i, row in enumerate(evened):
        some = np.flatnonzero(row)
        u, share = four[some], row[some, None] * weights[some]  # (s, 4), (s, j)
        moments = np.einsum("sj,sa,sb->jab", share, u, u)
        middle = row[some] @ points[some]
        spread = row[some] @ ((points[some] - middle) ** 2).sum(1)
        moments[:, :3, :3] += (ball * spread if spread > 0 else 1.0) * np.eye(3) * share.sum(0)[:, None, None]
        moved = np.einsum("jra,jab->rb", matrices, moments)
        q = moved[:, 3]
        a, _, b = np.linalg.svd(moved[:, :3] - np.outer(q, middle))
        turn = a @ np.diag([1.0, 1.0, np.sign(np.linalg.det(a @ b))]) @ b
        out[i] = turn @ (points[i] - middle) + q
    return out
