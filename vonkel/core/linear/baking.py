"""The skin that goes out, made: joints between others chosen, weights solved, and how near it comes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..character import Between, Character, HandedSkin, opposite_name
from ..errors import StepRefused
from ..geometry.topology import topology_of
from ..progress import tell
from ..rig import Pose
from ..skin.between import Betweens, seal_of
from ..skin.deform import HANDED, Deformer
from ..skin.mirror import Mirror, mirror_of
from ..trials.samples import sample_poses
from ..weights import WeightTable, table_of
from .choosing import Pairs, chosen, pairs_of
from .solving import Problem

AROUND = 2  # rings: a joint that holds a point so near may hold this one
SEEN = 0.02  # a hold less than this doesn't count there
MANY, ALL = 24, 64  # candidates a point: for solving, for choosing
EVERY = 4  # points, of which one is looked at when joints between are chosen
RIGID = 0.98  # held by one joint more than this: nothing to choose there
AT_ONCE = 12  # poses
UNLIKE = 0.01  # a live skin whose sides differ by more than this is solved on each side by itself
LEAST = 1e-4  # solved weights below this go
MOST_POINTS = 200_000


@dataclass(frozen=True)
class Nearness:
    """How far what goes out is from the live skin, over points and poses, as shares of the body's size."""

    rms: float
    most: float  # of 99 in 100 points
    largest: float


def nearness(character: Character, poses: Sequence[Pose], method: str = HANDED) -> Nearness:
    """How far the skin is from the live one, deformed by another method."""
    deformer = Deformer(character)
    away = np.empty((len(poses), len(character.points)), np.float32)
    for i, pose in enumerate(poses):
        live = deformer.deform(pose).copy()
        away[i] = np.linalg.norm(deformer.deform(pose, method) - live, axis=1)
    away /= max(character.size, 1e-12)
    return Nearness(float(np.sqrt((away.astype(float) ** 2).mean())), float(np.percentile(away, 99)), float(away.max()))


def handed_over(character: Character, most: int = 30, influences: int = 4) -> Character:
    """The character with a skin that goes out: at most `most` joints between others, at most `influences` a point.

    Raises StepRefused where there is no skin, or too much of it.
    """
    skin = character.skin
    if skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
    if len(character.points) > MOST_POINTS:
        raise StepRefused(
            f"The mesh has {len(character.points):,} points.", character.name,
            f"Solving keeps up to {MOST_POINTS:,} in mind. Hand it over as it is.",
        )  # fmt: skip
    tell(0.02, "posing it for the solve")
    work = _Work(character)
    if skin.method == "linear" and not skin.smoothing:
        return work.baked((), influences)
    pairs = pairs_of(character, work.table)
    taken = work.choose(pairs, most) if most and pairs.between else []
    tell(0.5, f"solving weights with {len(taken)} joints between others")
    return work.baked([pairs.between[k] for k in taken], influences)


class _Work:
    """What choosing and solving have in common: the poses, where points should come, who might hold them."""

    def __init__(self, character: Character) -> None:
        self.character, self.deformer = character, Deformer(character)
        self.joints = tuple(j.name for j in character.joints)
        self.table: WeightTable = table_of(character).with_joints(self.joints)
        self.poses = sample_poses(character)
        self.rigid = np.stack([p.rigid_matrices(self.deformer.rest_inverse) for p in self.poses])
        rows, cols = topology_of(character).neighbours
        self.rows, self.cols = rows.astype(np.int64), cols.astype(np.int64)
        self.near = self._near()

    def _near(self) -> np.ndarray:
        """(n, j) float32: the most that each joint holds within a few rings; of rigid parts what it holds."""
        held = self.table.held.toarray().astype(np.float32)
        edges, near = topology_of(self.character).edges, held.copy()
        for _ in range(AROUND):
            grown = near.copy()
            np.maximum.at(grown, edges[:, 0], near[edges[:, 1]])
            np.maximum.at(grown, edges[:, 1], near[edges[:, 0]])
            near = grown
        near[(near < SEEN) & (held <= 0)] = 0.0
        for part in self.character.parts:
            if part.role != "skin":
                near[slice(*part.points)] = held[slice(*part.points)]
        return np.asarray(near)

    def candidates(self, between: Sequence[Between], most: int, points: np.ndarray) -> np.ndarray:
        """(p, c) int32, −1 where there are fewer: joints near each of these points, and those between two such."""
        near = self.near[points]
        if between:
            number = self.character.joint_index
            a, b = (np.array([number[getattr(h, k)] for h in between]) for k in "ab")
            both = np.minimum(near[:, a], near[:, b])
            near = np.concatenate([near, np.where(both > 0, both + 1.0, 0.0)], 1)  # those between before the others
            own = self.table.held[points].toarray() > 0
            near[:, : own.shape[1]] += 2.0 * own  # whoever holds it now stays in the choice
        count = int(min((near > 0).sum(1).max(initial=1), most))
        pick = np.argsort(-near, axis=1, kind="stable")[:, :count]
        return np.where(np.take_along_axis(near, pick, 1) > 0, pick, -1).astype(np.int32)

    def heard(self, between: Sequence[Between], points: np.ndarray, most: int) -> Problem:
        """The problem over these points, all poses heard."""
        rows, cols = self._neighbours(points)
        candidates = self.candidates(between, most, points)
        held = np.concatenate([self.table.held[points].toarray(), np.zeros((len(points), len(between)))], 1)
        problem = Problem.of(candidates, held, rows, cols)
        middle, rest = Betweens(self.character, between), self.character.points[points]
        for at in range(0, len(self.poses), AT_ONCE):
            rigid = self.rigid[at : at + AT_ONCE]
            wanted = np.stack([self.deformer.deform(p)[points] for p in self.poses[at : at + AT_ONCE]])
            matrices = np.concatenate([rigid, middle.moves(rigid)], 1) if between else rigid
            problem.hear(rest, matrices, wanted, 1.0 / len(self.poses))
        return problem

    def _neighbours(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        if len(points) == len(self.character.points):
            return self.rows, self.cols
        return np.zeros(len(points) + 1, np.int64), np.zeros(0, np.int64)

    def choose(self, pairs: Pairs, most: int) -> list[int]:
        """The pairs worth having."""
        strongest = self.character.arrays["skin/weights"].max(1)
        soft = np.flatnonzero(strongest < RIGID)[::EVERY]
        if not len(soft):
            return []
        problem = self.heard(pairs.between, soft, ALL)
        tell(0.3, "choosing joints between others")
        return chosen(problem, pairs, len(self.joints), most)

    def baked(self, between: Sequence[Between], influences: int) -> Character:
        """The character with weights solved for its joints and these between them."""
        character, skin = self.character, self.character.skin
        assert skin is not None
        problem = self.heard(between, np.arange(len(character.points)), MANY)
        tell(0.8, "solving weights")
        total = len(self.joints) + len(between)
        weights, _ = problem.solve(total, influences)
        names = self.joints + tuple(h.name for h in between)
        index = np.maximum(problem.candidates, 0)
        table = WeightTable.from_rows(names, index, np.where(problem.candidates >= 0, weights, 0.0))
        mirror = self._mirror(between)
        if mirror is not None:
            table = _alike(table, mirror)
        own = skin.joints + names[len(self.joints) :]
        rest = tuple(n for n in self.joints if n not in skin.joints)
        table = table.with_joints(own + rest)
        assert table.held[:, len(own) :].sum() == 0  # candidates are holders of the skin alone
        joints, kept = _rows(table.with_joints(own), influences)
        handed = HandedSkin(between=tuple(between), seal=seal_of(character))
        return character.with_(
            skin=skin.model_copy(update={"handed": handed}),
            arrays={"handed/joints": joints, "handed/weights": kept},
        )

    def _mirror(self, between: Sequence[Between]) -> Mirror | None:
        """How the body is mirrored, with its joints and those between; None where it, or what holds it live, isn't."""
        names = [*self.joints, *(h.name for h in between)]
        number = {n: i for i, n in enumerate(names)}
        pairs = {(h.a, h.b): number[h.name] for h in between} | {(h.b, h.a): number[h.name] for h in between}
        partner = [number.get(opposite_name(n), number[n]) for n in self.joints]
        partner += [pairs.get((opposite_name(h.a), opposite_name(h.b)), -1) for h in between]
        mirror = mirror_of(self.character.points, np.array(partner, np.int64), self.character.size)
        if mirror is None:
            return None
        own = Mirror(mirror.other, mirror.partner[: len(self.joints)], mirror.side)
        unlike = abs(self.table.held - self.table.held[own.other][:, own.partner])
        return mirror if unlike.max() < UNLIKE else None


def _alike(table: WeightTable, mirror: Mirror) -> WeightTable:
    """Left decides right; points in the middle take the mean of both."""
    side = mirror.side
    other = table.held[mirror.other][:, mirror.partner]
    left, right, middle = ((side == s).astype(float)[:, None] for s in (1, -1, 0))
    made = table.held.multiply(left) + other.multiply(right) + (table.held + other).multiply(0.5 * middle)
    return WeightTable(table.joints, made.tocsr())


def _rows(table: WeightTable, influences: int) -> tuple[np.ndarray, np.ndarray]:
    """The strongest of each row, uint16 and float32 (n, influences), summing to one: nothing is taken off the others, they
    were solved for as they are."""
    dense = table.held.toarray()
    dense[dense < LEAST] = 0.0
    most = min(influences, dense.shape[1])
    index = np.argsort(-dense, axis=1, kind="stable")[:, :most]
    weights = np.take_along_axis(dense, index, 1)
    weights /= weights.sum(1, keepdims=True)
    index = np.where(weights > 0, index, index[:, :1])
    return index.astype(np.uint16), weights.astype(np.float32)
