"""Morph targets from what is left between the skin that goes out and the live one.

What is left is carried back to rest through the blended matrix, fitted point by point to how the joints near it are turned, and of
what each joint explains the strongest directions are kept.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from ..character import Character, Corrective, opposite_name, unique_name
from ..character.words import EYE_JOINTS
from ..errors import StepRefused
from ..progress import tell
from ..rig import Pose
from ..skin.between import handed_fresh
from ..skin.correctives import turns_against
from ..skin.deform import HANDED, Deformer
from ..trials.samples import sample_poses
from ..weights import table_of

LISTENS = 3  # joints that one point's rest depends on, at most
HELD = 0.05
RIDGE = 0.002  # of the features' own strength
DAMPING = 0.03  # where blending has pressed a body flat it can't be undone
APART = np.radians(120.0)  # holders turned farther apart than this: the live blend itself breaks there
CALM = 0.3  # of what is usually left: poses with less than this count no more for it
SEEN = 2e-5  # of the size: a move less than this isn't kept
STRONGEST = 4  # directions of one joint that are ever kept


def with_correctives(character: Character, most: int = 32) -> Character:
    """The character whose skin that goes out has at most `most` targets of its own.

    Raises StepRefused where no such skin is made yet, or where it is of an earlier one.
    """
    skin = character.skin
    if skin is None or skin.handed is None or not handed_fresh(character):
        raise StepRefused(
            "The skin that goes out isn't made.",
            character.name,
            "Make it come near first; targets are of what is left.",
        )
    bare = without_correctives(character)
    tell(0.05, "posing it for the targets")
    deformer, poses = Deformer(bare), sample_poses(bare)
    rigid = np.stack([p.rigid_matrices(deformer.rest_inverse) for p in poses])
    joints = [j.name for j in bare.joints if j.deforms and j.parent is not None and j.role not in EYE_JOINTS]
    features = turns_against(bare, joints, rigid)  # (p, j, 9)
    groups = _groups(bare, joints)
    left = _left(bare, deformer, poses, np.sort(np.concatenate([*groups.values(), np.zeros(0, np.int64)])))
    tell(0.6, "fitting what is left")
    coefficients = _fitted(len(bare.points), features, groups, left)
    return _kept(bare, joints, features, groups, left, _chosen(joints, features, coefficients, most))


def without_correctives(character: Character) -> Character:
    """The character whose skin that goes out has no targets of its own."""
    skin = character.skin
    assert skin is not None and skin.handed is not None
    gone: dict[str, np.ndarray | None] = {n: None for n in character.arrays if n.startswith("handed/target/")}
    plain = skin.handed.model_copy(update={"correctives": ()})
    return character.with_(skin=skin.model_copy(update={"handed": plain}), arrays=gone)


def _groups(character: Character, joints: list[str]) -> dict[tuple[int, ...], np.ndarray]:
    """Points by the joints whose turns they listen to: those that hold them most, one of which isn't all of it."""
    held = table_of(character).with_joints(tuple(joints)).held.toarray()
    order = np.argsort(-held, axis=1, kind="stable")[:, :LISTENS]
    strong = np.take_along_axis(held, order, 1) > HELD
    strong[:, 0] &= held.max(1) > HELD
    found = defaultdict(list)
    for i in np.flatnonzero(strong[:, 0] & (held.max(1) < 1.0 - HELD)):
        found[tuple(sorted(order[i][strong[i]].tolist()))].append(i)
    return {k: np.array(v) for k, v in found.items()}


@dataclass(frozen=True)
class Left:
    """What is left, at rest: place (n,) of each point among those looked at, moves (p, k, 3), heard (p, k): where it can be told;
    counts (p,): how much each pose counts, gentle ones as much as wild ones."""

    place: np.ndarray
    moves: np.ndarray
    heard: np.ndarray
    counts: np.ndarray

    def fit(self, features: np.ndarray, points: np.ndarray) -> np.ndarray:
        """(f, p, 3): what features (poses, f) move of points (p,), by ridge regression."""
        at = self.place[points]
        features = features * self.counts[:, None]
        rest = np.where(self.heard[:, at, None], self.moves[:, at], 0.0).reshape(len(features), -1)
        rest *= self.counts[:, None]
        gram = features.T @ features
        gram += (RIDGE * np.trace(gram) / len(gram) + 1e-12) * np.eye(len(gram))
        return np.asarray(np.linalg.solve(gram, features.T @ rest).reshape(-1, len(points), 3))


def _left(character: Character, deformer: Deformer, poses: list[Pose], points: np.ndarray) -> Left:
    """What is left at these points (k,) in all poses."""
    handed = deformer.handed
    assert handed is not None and deformer.joints is not None
    moves, heard = np.zeros((len(poses), len(points), 3), np.float32), np.ones((len(poses), len(points)), bool)
    index, weights = handed.joints[points].astype(int), handed.weights[points].astype(float)
    pair = deformer.joints[points][:, :2].astype(int)
    second = deformer.weights[points][:, 1] > HELD if pair.shape[1] > 1 else np.zeros(len(points), bool)
    for p, pose in enumerate(poses):
        live = deformer.deform(pose)[points].astype(float)
        out = deformer.deform(pose, HANDED)[points].astype(float)
        blended = np.einsum("ks,ksij->kij", weights, handed.matrices(pose, deformer.rest_inverse)[:, :, :3][index])
        normal = np.swapaxes(blended, 1, 2) @ blended + DAMPING**2 * np.eye(3)
        moves[p] = np.linalg.solve(normal, np.einsum("kji,kj->ki", blended, live - out)[..., None])[..., 0]
        turned = pose.rigid_matrices(deformer.rest_inverse)[:, :, :3]
        cosine = (np.einsum("kij,kij->k", turned[pair[:, 0]], turned[pair[:, -1]]) - 1.0) / 2.0
        heard[p] = ~(second & (cosine < np.cos(APART)))
        if p % 40 == 0:
            tell(0.05 + 0.5 * p / len(poses), "looking at what is left")
    place = np.full(len(character.points), -1)
    place[points] = np.arange(len(points))
    rms = np.sqrt(np.where(heard, np.square(moves).sum(2), 0.0).mean(1))
    counts = 1.0 / (rms + CALM * max(float(np.median(rms)), 1e-12))
    return Left(place, moves, heard, counts / counts.mean())


def _fitted(
    count: int, features: np.ndarray, groups: dict[tuple[int, ...], np.ndarray], left: Left
) -> dict[int, np.ndarray]:
    """Joint → (9, n, 3): what each number of its turn moves of each point at rest."""
    out: dict[int, np.ndarray] = {}
    for near, points in groups.items():
        found = left.fit(features[:, near].reshape(len(features), -1), points).reshape(len(near), 9, len(points), 3)
        for k, joint in enumerate(near):
            out.setdefault(joint, np.zeros((9, count, 3), np.float32))[:, points] = found[k]
    return out


def _chosen(
    joints: list[str], features: np.ndarray, coefficients: dict[int, np.ndarray], most: int
) -> list[tuple[int, np.ndarray]]:
    """Joint and weights (9,) of the strongest directions over all joints, those of partners together; at their strongest over
    the poses each is 1."""
    ranks: dict[str, list[tuple[float, int, np.ndarray]]] = defaultdict(list)
    for j, c in coefficients.items():
        spread = features[:, j].T @ features[:, j] / len(features)
        value, vector = np.linalg.eigh(spread)
        least = 1e-6 * max(float(value.max()), 1e-12)
        root = (vector * np.sqrt(np.maximum(value, 0.0))) @ vector.T
        back = (vector * np.where(value > least, 1.0 / np.sqrt(np.maximum(value, least)), 0.0)) @ vector.T
        u, s, _ = np.linalg.svd(root @ c.reshape(9, -1).astype(float), full_matrices=False)
        for k in range(min(STRONGEST, len(s))):
            weights = back @ u[:, k]
            largest = float(np.abs(features[:, j] @ weights).max())
            if largest > 0:
                ranks[joints[j]].append((float(s[k] ** 2), j, weights / largest))
    pairs = {tuple(sorted({n, opposite_name(n)} & set(ranks))) for n in ranks}
    rounds = [
        (sum(ranks[n][k][0] for n in pair if k < len(ranks[n])), pair, k) for pair in pairs for k in range(STRONGEST)
    ]
    out: list[tuple[int, np.ndarray]] = []
    for _, pair, k in sorted(rounds, key=lambda x: (-x[0], x[1], x[2])):
        mine = [ranks[n][k][1:] for n in pair if k < len(ranks[n])]
        if len(out) + len(mine) <= most:
            out += mine
    return out


def _kept(
    character: Character, joints: list[str], features: np.ndarray, groups: dict[tuple[int, ...], np.ndarray],
    left: Left, chosen: list[tuple[int, np.ndarray]],
) -> Character:  # fmt: skip
    """The chosen directions as targets: what each moves is fitted once more, now that it is known which there are."""
    strengths = np.stack([features[:, j] @ w for j, w in chosen], 1) if chosen else np.zeros((len(features), 0))
    moves = np.zeros((len(chosen), len(character.points), 3), np.float32)
    for near, points in groups.items():
        mine = [t for t, (j, _) in enumerate(chosen) if j in near]
        if mine:
            moves[np.array(mine)[:, None], points] = left.fit(strengths[:, mine], points)
    targets, arrays = list[Corrective](), dict[str, np.ndarray | None]()
    taken = {s.name for s in character.shapes}
    for (j, weights), move in zip(chosen, moves, strict=True):
        points = np.flatnonzero(np.linalg.norm(move, axis=1) > SEEN * character.size)
        if not len(points):
            continue
        name = unique_name(f"{joints[j][:60]} put right", taken)
        taken.add(name)
        targets.append(Corrective(name=name, joint=joints[j], weights=tuple(float(w) for w in weights)))
        arrays[f"handed/target/{name}/points"] = points.astype(np.uint32)
        arrays[f"handed/target/{name}/moves"] = move[points]
    skin = character.skin
    assert skin is not None and skin.handed is not None
    handed = skin.handed.model_copy(update={"correctives": tuple(targets)})
    return character.with_(skin=skin.model_copy(update={"handed": handed}), arrays=arrays)
