"""The last of binding: the strongest few holds of every point, without steps along edges and without islands."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components

from ..compiled import compiled
from ..weights import WeightTable

JUMP, CALMING = 0.25, 40  # where a weight changes more along an edge its ends are evened, for so many rounds
PATIENT, AT_LAST = 10, 0.36  # rounds after which only what differs by more than this is evened with one another
AGAIN = 0.3  # the same once islands were flooded, which is nearly as far as it may
HAIR = 0.002  # how much stronger
FLOODS, YIELDS = 2, 8  # how often islands are flooded, and how often after that they yield


@dataclass(frozen=True)
class Mirror:
    """Of a body that is the same on both sides: other (n,) each point's mirror point, partner (b,) each bone's, side (n,) the
    sign of x, 0 on the middle."""

    other: np.ndarray
    partner: np.ndarray
    side: np.ndarray

    def faded(self, table: csr_matrix, x: np.ndarray, over: float) -> csr_matrix:
        """Weights (n, bones) whose left bones let go of what lies beyond the middle, and right ones too: on such a body no
        limb does.  x (n,) metres; over: the metres past the middle in which they do."""
        sided = self.partner != np.arange(len(self.partner))
        left = np.zeros(len(sided))  # which of two bones is the left one shows in what it holds
        weights = np.asarray(table.T @ x).ravel()
        left[sided] = np.sign(weights[sided] - weights[self.partner[sided]])
        held = table.tocoo()
        beyond = np.maximum(-x[held.row] * left[held.col], 0.0)
        out = csr_matrix((held.data * np.clip(1.0 - beyond / over, 0.0, 1.0), (held.row, held.col)), held.shape)
        total = np.asarray(out.sum(1)).ravel()
        return csr_matrix(out.multiply(1.0 / np.where(total > 0, total, 1.0)[:, None]))


def settled(
    own_rows: np.ndarray, own_cols: np.ndarray, piece: np.ndarray, table: csr_matrix, influences: int,
    mirror: Mirror | None = None,
) -> csr_matrix:  # fmt: skip
    """Weights (n, bones) made to be held by at most `influences` a point; of a mirrored body right from left, to the bit.

    own_rows, own_cols: the neighbours of each point along the edges of the mesh; piece (n,): the piece that it lies in.
    """
    bones = table.shape[1]
    names = tuple(str(b) for b in range(bones))
    held = np.diff(table.indptr) > 0
    index, weight = (np.asarray(a) for a in WeightTable(names, table).rows(influences))
    index, weight = index.astype(np.int32), weight.astype(np.float64)
    weight[~held] = 0.0
    rows, cols = own_rows, own_cols
    if mirror:  # edges of either side count on both
        rows, cols = _of_both_sides(rows, cols, mirror.other)
    for again in range(FLOODS + 1 + YIELDS):
        if again <= FLOODS:
            _calmed(rows, cols, index, weight, bones, AGAIN if again else JUMP, CALMING)
        if mirror:
            _make_alike(index, weight, mirror, names)
        off = islands(own_rows, own_cols, piece, index[:, 0]) & held
        if mirror:
            off |= off[mirror.other]
        if not off.any():
            break
        if again < FLOODS:
            _flooded(rows, cols, index, weight, off, bones)
        else:  # what comes back is held nearly alike by two
            _yielded(rows, cols, index, weight, off)
    return WeightTable.from_rows(names, index, weight).held


def _make_alike(index: np.ndarray, weight: np.ndarray, mirror: Mirror, names: tuple[str, ...]) -> None:
    """Right made the mirror of left, in place; points on the middle the mean of themselves and their mirror image."""
    right = np.flatnonzero(mirror.side < 0)
    index[right], weight[right] = mirror.partner[index[mirror.other[right]]], weight[mirror.other[right]]
    middle = np.flatnonzero(mirror.side == 0)
    if len(middle):
        own = WeightTable.from_rows(names, index[middle], weight[middle]).held
        index[middle], weight[middle] = _in_pairs(0.5 * (own + own[:, mirror.partner]), mirror.partner, index.shape[1])


def _in_pairs(held: csr_matrix, partner: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """The strongest `most` of rows (m, bones) that hold partners alike, and never one of a pair without the other."""
    dense = held.toarray()
    b = np.arange(len(partner))
    order = np.lexsort((np.broadcast_to(b, dense.shape), np.broadcast_to(np.minimum(b, partner), dense.shape), -dense))
    # of few bones the first again, for nothing
    order = np.concatenate([order, np.repeat(order[:, :1], most + 1, 1)], 1)
    index, following = order[:, :most], order[:, most]
    weight = np.take_along_axis(dense, index, 1)
    weight[:, len(b) :] = 0.0
    last = index[:, -1]
    split = (following == partner[last]) & (partner[last] != last) & (1 < most < len(b))
    weight[split, -1] = 0.0
    index = np.where(weight > 0.0, index, index[:, :1])
    return index.astype(np.int32), weight / weight.sum(1, keepdims=True)


def _of_both_sides(rows: np.ndarray, cols: np.ndarray, other: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Neighbours along the edges and along the mirror images of the edges."""
    n = len(other)
    here = csr_matrix((np.ones(len(cols), np.int8), cols, rows), (n, n))
    both = (here + here[other][:, other]).tocsr()
    both.sort_indices()
    return both.indptr.astype(np.int64), both.indices.astype(np.int32)


def islands(rows: np.ndarray, cols: np.ndarray, piece: np.ndarray, owner: np.ndarray) -> np.ndarray:
    """(n,) bool: points in patches of one owner (n,) that are not its largest within their piece (n,) of the mesh."""
    n = len(owner)
    row = np.repeat(np.arange(n), np.diff(rows))
    same = owner[row] == owner[cols]
    alike = csr_matrix((same[same].astype(np.int8), (row[same], cols[same])), (n, n))
    patch = connected_components(alike, directed=False)[1]
    size = np.bincount(patch)
    first = np.unique(patch, return_index=True)[1]
    order = np.lexsort((-size, owner[first], piece[first]))  # by piece and owner, the largest first
    key = np.stack([piece[first], owner[first]], 1)[order]
    main = np.concatenate([[True], (key[1:] != key[:-1]).any(1)])
    kept = np.zeros(len(size), bool)
    kept[order[main]] = True
    return np.asarray(~kept[patch])


@compiled
def _mean_row(
    i: Any, rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, own: float, skip: np.ndarray, total: np.ndarray
) -> bool:  # fmt: skip
    """A point's row averaged with its neighbours', over all their bones, strongest first: into its own row.

    skip (n,): neighbours that don't count.
    total (b,): room, zero before and after.
    """
    most = index.shape[1]
    some = 0.0
    for k in range(most):
        total[index[i, k]] += own * (rows[i + 1] - rows[i]) * weight[i, k]
        some += own * weight[i, k]
    for e in range(rows[i], rows[i + 1]):
        j = cols[e]
        if not skip[j]:
            for k in range(most):
                total[index[j, k]] += weight[j, k]
                some += weight[j, k]
    if some <= 0.0:
        return False
    best, value = np.full(most + 1, -1), np.zeros(most + 1)
    for e in range(rows[i] - 1, rows[i + 1]):
        j = i if e < rows[i] else cols[e]
        for k in range(most):
            b = index[j, k]
            x = total[b]
            if x <= 0.0:
                continue
            total[b] = 0.0
            m = most
            if x < value[m] or (x == value[m] and (best[m] >= 0 and b > best[m])):
                continue
            while m > 0 and (x > value[m - 1] or (x == value[m - 1] and b < best[m - 1])):
                best[m], value[m] = best[m - 1], value[m - 1]
                m -= 1
            best[m], value[m] = b, x
    whole = 0.0
    for k in range(most):
        whole += value[k]
    for k in range(most):
        if best[k] < 0:
            index[i, k], weight[i, k] = best[0], 0.0
        else:
            index[i, k] = best[k]
            weight[i, k] = value[k] / whole
    return True


@compiled
def _flooded(
    rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, off: np.ndarray, bones: int
) -> None:
    """Rows of the points `off` taken from the neighbours that aren't, inwards from the shore; never the strongest as before."""
    total = np.zeros(bones)
    todo = np.flatnonzero(off)
    while len(todo) > 0:
        done = np.zeros(len(todo), np.bool_)
        for u in range(len(todo)):
            i = todo[u]
            owner = index[i, 0]
            done[u] = _mean_row(i, rows, cols, index, weight, 0.0, off, total)
            if done[u] and index.shape[1] > 1 and index[i, 0] == owner and weight[i, 1] > 0.0:
                weight[i, 0], weight[i, 1] = weight[i, 1], 0.5 * weight[i, 1]
                index[i, 0], index[i, 1] = index[i, 1], owner
                weight[i] /= weight[i].sum()
        if not done.any():
            break
        for u in range(len(todo)):
            if done[u]:
                off[todo[u]] = False
        todo = todo[~done]


@compiled
def _yielded(rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, off: np.ndarray) -> None:
    """At the points `off` that one becomes the strongest, by a hair, which is the strongest next to them; those that are stronger come
    down to one level, no more of them than must."""
    for i in np.flatnonzero(off):
        chosen = 1
        for k in range(index.shape[1] - 1, 0, -1):
            for e in range(rows[i], rows[i + 1]):
                j = cols[e]
                if not off[j] and weight[i, k] > 0.0 and index[j, 0] == index[i, k]:
                    chosen = k
        if chosen < index.shape[1] and weight[i, chosen] > 0.0:
            some, level = weight[i, chosen] - HAIR, 0.0
            for k in range(chosen):
                some += weight[i, k]
                level = some / (k + 2)
                if weight[i, k + 1] <= level or k + 1 == chosen:
                    break
            for k in range(chosen):
                weight[i, k] = min(weight[i, k], level)
            weight[i, chosen] = level + HAIR
            index[i, chosen], index[i, 0] = index[i, 0], index[i, chosen]
            weight[i, chosen], weight[i, 0] = weight[i, 0], weight[i, chosen]


@compiled
def _jump(i: Any, j: Any, index: np.ndarray, weight: np.ndarray, most: float) -> bool:
    for k in range(index.shape[1]):
        x = 0.0
        for m in range(index.shape[1]):
            if index[j, m] == index[i, k]:
                x += weight[j, m]
        if weight[i, k] - x > most:
            return True
    return False


@compiled
def _calmed(
    rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, bones: int, most: float, rounds: int
) -> None:  # fmt: skip
    """Where a weight changes by more than `most` along an edge both ends are evened, in place, until none does."""
    n = len(index)
    todo, near, look = np.zeros(n, np.bool_), np.zeros(n, np.bool_), np.arange(n)
    none, total = np.zeros(n, np.bool_), np.zeros(bones)
    for turn in range(rounds):
        todo[:] = False
        if turn == PATIENT:
            most = max(most, AT_LAST)
        for i in look:
            for e in range(rows[i], rows[i + 1]):
                j = cols[e]
                if _jump(i, j, index, weight, most) or _jump(j, i, index, weight, most):
                    todo[i] = todo[j] = True
        if not todo.any():
            break
        near[:] = False
        for i in look:
            if todo[i]:
                near[i] = True
                for e in range(rows[i], rows[i + 1]):
                    near[cols[e]] = True
        look = np.flatnonzero(near)
        index0, weight0 = index.copy(), weight.copy()
        for i in look:
            if todo[i]:
                one_index, one_weight = index0[i].copy(), weight0[i].copy()
                own = 0.5
                if turn >= PATIENT:  # keeping the strongest undoes it where many meet: only what differs is evened then
                    some = 0
                    for e in range(rows[i], rows[i + 1]):
                        j = cols[e]
                        none[j] = not (_jump(i, j, index0, weight0, most) or _jump(j, i, index0, weight0, most))
                        some += not none[j]
                    own = some / (rows[i + 1] - rows[i])
                if _mean_row(i, rows, cols, index0, weight0, own, none, total):
                    index[i], weight[i] = index0[i], weight0[i]
                index0[i], weight0[i] = one_index, one_weight
                for e in range(rows[i], rows[i + 1]):
                    none[cols[e]] = False
