"""Skin weights as a value: how much of each point each joint holds.

Sparse rows: a point is held by few joints.  Every operation gives a new table; rows are points, columns joints.  Weights are
never negative; they sum to one where `normalised` has seen to it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix

from .character import Character, Skin
from .tolerances import WEIGHT_FLOOR


@dataclass(frozen=True)
class WeightTable:
    """joints: the holders' names, each once; held (n, j): the weights."""

    joints: tuple[str, ...]
    held: csr_matrix

    @classmethod
    def from_dense(cls, joints: tuple[str, ...], weights: np.ndarray) -> WeightTable:
        """From weights (n, j)."""
        return cls(joints, csr_matrix(np.asarray(weights, np.float64)))

    @classmethod
    def from_rows(cls, joints: tuple[str, ...], index: np.ndarray, weights: np.ndarray) -> WeightTable:
        """From the arrays of a skin: index (n, k) into `joints` and weights (n, k)."""
        n, k = index.shape
        rows = np.repeat(np.arange(n), k)
        held = csr_matrix((weights.ravel().astype(np.float64), (rows, index.ravel())), shape=(n, len(joints)))
        held.eliminate_zeros()
        return cls(joints, held)

    def __len__(self) -> int:
        return int(self.held.shape[0])

    def dense(self) -> np.ndarray:
        """(n, j) float64."""
        return np.asarray(self.held.toarray())

    def of(self, joint: str) -> np.ndarray:
        """(n,) float64: what one joint holds; zeros for one that holds nothing."""
        if joint not in self.joints:
            return np.zeros(len(self))
        return np.asarray(self.held[:, self.joints.index(joint)].toarray().ravel())

    def sums(self) -> np.ndarray:
        """(n,)."""
        return np.asarray(self.held.sum(1)).ravel()

    # -- one after the other -------------------------------------------------------------------------------------
    def with_joints(self, joints: tuple[str, ...]) -> WeightTable:
        """The same weights with these joints as columns, in their order; those that are not among them are dropped."""
        place = {n: i for i, n in enumerate(joints)}
        table = self.held.tocoo()
        column = np.array([place.get(n, -1) for n in self.joints], np.int64)[table.col] if len(table.col) else table.col
        keep = column >= 0
        shape = (len(self), len(joints))
        return WeightTable(joints, csr_matrix((table.data[keep], (table.row[keep], column[keep])), shape=shape))

    def given_over(self, heirs: Mapping[str, str]) -> WeightTable:
        """What the keys hold goes to their heirs, who take a column where they had none; the keys are gone."""
        left = [n for n in self.joints if n not in heirs]
        left += [h for h in dict.fromkeys(heirs.values()) if h not in left]
        place = {n: i for i, n in enumerate(left)}
        column = np.array([place[heirs.get(n, n)] for n in self.joints], np.int64)
        table = self.held.tocoo()
        where = (table.row, column[table.col]) if len(table.col) else (table.row, table.col)
        return WeightTable(tuple(left), csr_matrix((table.data, where), shape=(len(self), len(left))))

    def scaled(self, factors: Mapping[str, float]) -> WeightTable:
        """Columns times a factor each; those not named stay."""
        by = np.array([factors.get(n, 1.0) for n in self.joints])
        return WeightTable(self.joints, self.held.multiply(by[None]).tocsr())

    def added(self, joint: str, amounts: np.ndarray) -> WeightTable:
        """`amounts` (n,) added to what a joint holds; nothing falls below zero."""
        return self.replaced(joint, np.maximum(self.of(joint) + amounts, 0.0))

    def replaced(self, joint: str, weights: np.ndarray) -> WeightTable:
        """A joint's weights (n,) in place of what it held."""
        table = self if joint in self.joints else self.with_joints((*self.joints, joint))
        column = table.joints.index(joint)
        others = table.scaled({joint: 0.0}).held
        rows = np.flatnonzero(weights)
        new = csr_matrix((np.asarray(weights, float)[rows], (rows, np.full(len(rows), column))), shape=others.shape)
        return WeightTable(table.joints, (others + new).tocsr())

    def given_rows(self, points: np.ndarray, joint: str) -> WeightTable:
        """These points (p,) held by one joint alone."""
        table = self if joint in self.joints else self.with_joints((*self.joints, joint))
        others = np.ones(len(self))
        others[points] = 0.0
        column = np.full(len(points), table.joints.index(joint))
        new = csr_matrix((np.ones(len(points)), (points, column)), shape=table.held.shape)
        return WeightTable(table.joints, table.held.multiply(others[:, None]).tocsr() + new)

    def smoothed(self, mean: csr_matrix, share: float, points: np.ndarray | None = None) -> WeightTable:
        """Every row taken a share of the way to its neighbours' mean; mean (n, n) gives that, its rows summing to one.

        points: only these rows.
        """
        by = np.full(len(self), share) if points is None else np.zeros(len(self))
        if points is not None:
            by[points] = share
        there = (mean @ self.held).multiply(by[:, None]).tocsr()
        return WeightTable(self.joints, self.held.multiply((1.0 - by)[:, None]).tocsr() + there)

    def locked(self, was: WeightTable, joints: Collection[str]) -> WeightTable:
        """These joints hold what they held in `was`; the others share what that leaves of one, in their proportions.

        Where the others hold nothing and something is left, they share as they did in `was`; where they held nothing then,
        the locked ones take all.
        """
        names = tuple(dict.fromkeys((*self.joints, *was.joints)))
        now, then = self.with_joints(names), was.with_joints(names)
        fixed = np.array([n in joints for n in names])
        kept, free = then.held.multiply(fixed[None]).tocsr(), now.held.multiply(~fixed[None]).tocsr()
        before = then.held.multiply(~fixed[None]).tocsr()
        free_sum, before_sum = (np.asarray(m.sum(1)).ravel() for m in (free, before))
        left = np.clip(1.0 - np.asarray(kept.sum(1)).ravel(), 0.0, 1.0)
        use_now, use_then = free_sum > WEIGHT_FLOOR, (free_sum <= WEIGHT_FLOOR) & (before_sum > WEIGHT_FLOOR)
        a = np.where(use_now, left / np.maximum(free_sum, 1e-300), 0.0)
        b = np.where(use_then, left / np.maximum(before_sum, 1e-300), 0.0)
        made = kept + free.multiply(a[:, None]).tocsr() + before.multiply(b[:, None]).tocsr()
        return WeightTable(names, made.tocsr()).normalised()

    def mirrored(self, other: np.ndarray, partner: Mapping[str, str]) -> WeightTable:
        """What each point's mirror point is held by, on the other side: other (n,) the mirror points, partner: joints'."""
        names = tuple(dict.fromkeys(partner.get(n, n) for n in self.joints))
        column = np.array([names.index(partner.get(n, n)) for n in self.joints], np.int64)
        table = self.held[other].tocoo()
        where = (table.row, column[table.col]) if len(table.col) else (table.row, table.col)
        return WeightTable(names, csr_matrix((table.data, where), shape=(len(self), len(names))))

    def pruned(self, influences: int) -> WeightTable:
        """At most so many joints a point.

        The next largest weight is taken off the others first, so that a joint which drops out along the surface has faded
        to nothing there: cutting alone leaves a step wherever more joints than that share a region.
        """
        index, weights = self.rows(influences)
        return WeightTable.from_rows(self.joints, index, weights)

    def normalised(self) -> WeightTable:
        """Every row's weights summing to one; rows of nothing stay empty."""
        sums = self.sums()
        by = np.where(sums > 0, 1.0 / np.where(sums > 0, sums, 1.0), 0.0)
        made = self.held.multiply(by[:, None]).tocsr()
        made.eliminate_zeros()
        return WeightTable(self.joints, made)

    def rows(self, influences: int) -> tuple[np.ndarray, np.ndarray]:
        """The arrays of a skin: the `influences` strongest of each row, uint16 and float32 (n, influences).

        As `pruned`; weights sum to one, the largest first.  Every row must hold something.
        """
        n, most = len(self), min(influences, len(self.joints))
        counts = np.diff(self.held.indptr)
        wide = max(int(counts.max(initial=1)), most)
        index, values = np.zeros((n, wide), np.int64), np.zeros((n, wide))
        slots = np.arange(wide)[None] < counts[:, None]
        index[slots], values[slots] = self.held.indices, self.held.data
        order = np.argsort(-values, axis=1, kind="stable")
        index, values = np.take_along_axis(index, order, 1), np.take_along_axis(values, order, 1)
        largest = values[:, 0].copy()
        if most < wide:
            values = np.maximum(values - values[:, most : most + 1], 0.0)
        index, values = index[:, :most], values[:, :most]
        values = np.where(values < WEIGHT_FLOOR, 0.0, values)
        lost = (values[:, 0] <= 0.0) & (
            largest > 0.0
        )  # joints held the point alike: taking one off left nothing to any
        values[lost, 0] = 1.0
        values /= np.maximum(values.sum(1, keepdims=True), 1e-300)
        index = np.where(values > 0, index, index[:, :1])
        pad = influences - most
        index = np.concatenate([index, np.repeat(index[:, :1], pad, 1)], 1)
        values = np.concatenate([values, np.zeros((n, pad))], 1)
        return index.astype(np.uint16), values.astype(np.float32)


def table_of(character: Character) -> WeightTable:
    """A character's weights; of one without a skin an empty table."""
    if character.skin is None:
        return WeightTable((), csr_matrix((len(character.points), 0)))
    return WeightTable.from_rows(
        character.skin.joints, character.arrays["skin/joints"], character.arrays["skin/weights"]
    )


def with_table(character: Character, table: WeightTable, influences: int = 0) -> Character:
    """The character held as the table says, by `influences` joints a point at most; 0: by as many as before."""
    skin = character.skin or Skin(joints=table.joints)
    most = influences or skin.influences
    wide = max(most, character.arrays["skin/joints"].shape[1] if character.skin and not influences else 0)
    index, weights = table.rows(wide)
    changed = skin.model_copy(update={"joints": table.joints, "influences": most})
    return character.with_(skin=changed, arrays={"skin/joints": index, "skin/weights": weights})
