"""The last of binding: the strongest few holds of every point, without steps along edges and without islands."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.sparse import csr_matrix

from ..compiled import compiled
from ..geometry.voxels import heap_pop, heap_push
from ..weights import WeightTable
from .easing import Easing, keep_strongest
from .mirror import Mirror
from .patches import islands, patches

JUMP, CALMING = 0.25, 40  # where a weight changes more along an edge its ends are evened, for so many rounds
PATIENT, AT_LAST = 10, 0.36  # rounds after which only what differs by more than this is evened with one another
AGAIN = 0.3  # the same once islands were flooded, which is nearly as far as it may
HAIR = 0.002  # how much stronger
LARGE = 0.1  # of the largest patch of a bone: islands from which on are no slips, but joined to it by a way
ON_WAY, STEP = 0.3, 0.01  # how much stronger others may be there at most, and what every point of a way costs
JOINED = 2  # times at most, after which two whose ways would cross stop taking it from one another
EASINGS = 3  # the later ones where islands that yield tear skin again
# What is done about islands, time after time: they are flooded (True) or yield.  What comes back after a flood is held nearly
# alike by two and yields; so is what easing leaves, and floods tear it off again: they are for what doesn't give way.
AT_FIRST = (*(True,) * 2, *(False,) * 8)
AFTER_EASING = (*(False,) * 6, *(True,) * 2, *(False,) * 6)


def settled(
    own_rows: np.ndarray, own_cols: np.ndarray, piece: np.ndarray, area: np.ndarray, table: csr_matrix, influences: int,
    mirror: Mirror | None = None, easing: Easing | None = None,
) -> csr_matrix:  # fmt: skip
    """Weights (n, bones) made to be held by at most `influences` a point; of a mirrored body right from left, to the bit.

    own_rows, own_cols: the neighbours of each point along the edges of the mesh; piece (n,): the piece that it lies
    in; area (n,): how much of the surface is its.
    """
    bones = table.shape[1]
    names = tuple(str(b) for b in range(bones))
    held = np.diff(table.indptr) > 0
    index, weight = (np.asarray(a) for a in WeightTable(names, table).rows(influences))
    index, weight = index.astype(np.int32), weight.astype(np.float64)
    weight[~held] = 0.0
    rows, cols, shared = own_rows, own_cols, (own_rows, own_cols)
    if mirror:  # edges of either side count on both
        (rows, cols), shared = _of_sides(rows, cols, mirror.other)
    on_both = (mirror.other, mirror.partner, mirror.side) if mirror else ()
    side = mirror.side if mirror else np.ones(len(piece), np.int64)

    def loose() -> np.ndarray:
        """Both sides made alike, and what are islands then."""
        if mirror:
            _make_alike(index, weight, mirror)
        off = islands(own_rows, own_cols, piece, area, index[:, 0]) & held
        return np.asarray(off | off[mirror.other] if mirror else off)

    for turn in range(1 + EASINGS if easing and influences > 1 else 1):
        if turn and easing and not easing.ease(rows, cols, index, weight, turn > 1, *on_both):
            break
        calm = AGAIN if turn else JUMP
        for time, flood in enumerate((*(AFTER_EASING if turn else AT_FIRST), None)):
            if calm:
                _calmed(rows, cols, index, weight, bones, calm, CALMING)
            off = loose()
            if not off.any() or flood is None:
                break
            if time < JOINED and _joined(own_rows, own_cols, *shared, piece, area, index, weight, side):
                off = loose()
            if flood:
                _flooded(rows, cols, index, weight, off, bones)
            else:
                yielded(rows, cols, index, weight, off)
            calm = AGAIN if flood else 0.0
    return WeightTable.from_rows(names, index, weight).held


def _make_alike(index: np.ndarray, weight: np.ndarray, mirror: Mirror) -> None:
    """Right made the mirror of left, in place; points on the middle the mean of themselves and their mirror image."""
    right = np.flatnonzero(mirror.side < 0)
    index[right], weight[right] = mirror.partner[index[mirror.other[right]]], weight[mirror.other[right]]
    middle = np.flatnonzero(mirror.side == 0)
    if len(middle):
        own = np.zeros((len(middle), len(mirror.partner)))
        np.add.at(own, (np.arange(len(middle))[:, None], index[middle]), weight[middle])
        both = 0.5 * (own + own[:, mirror.partner])
        index[middle], weight[middle] = _in_pairs(both, mirror.partner, index.shape[1])


def _in_pairs(dense: np.ndarray, partner: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """The strongest `most` of rows (m, bones) that hold partners alike, and never one of a pair without the other."""
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


def _of_sides(
    rows: np.ndarray, cols: np.ndarray, other: np.ndarray
) -> tuple[tuple[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """Neighbours along edges that are there on either side, and along those that are there on both."""
    n = len(other)
    here = csr_matrix((np.ones(len(cols), np.int8), cols, rows), (n, n))
    there = here[other][:, other]
    either, both = (here + there).tocsr(), here.multiply(there).tocsr()
    for table in (either, both):
        table.sort_indices()
    return tuple((t.indptr.astype(np.int64), t.indices.astype(np.int32)) for t in (either, both))  # type: ignore[return-value]


@compiled
def _joined(
    rows: np.ndarray, cols: np.ndarray, way_rows: np.ndarray, way_cols: np.ndarray, piece: np.ndarray, area: np.ndarray, index: np.ndarray,
    weight: np.ndarray, side: np.ndarray,
) -> bool:  # fmt: skip
    """Large islands joined to the largest patch of their bone by a way along which it becomes the strongest; whether any was.

    Which of two large patches is the larger is chance, and to take the bone away from either would change half of what it
    holds.  Ways lead along edges that a mirrored body has on both sides, on its left, where side (n,) isn't below 0.
    """
    patch, size, largest = patches(rows, cols, piece, area, index[:, 0].copy())
    any_joined = False
    for k in range(len(size)):
        if largest[k] != k and size[k] >= LARGE * size[largest[k]]:
            for i, m in _way(way_rows, way_cols, patch, largest[k], k, index, weight, side):
                if m > 0:
                    _made_strongest(i, m, index, weight)
                    any_joined = True
    return any_joined


@compiled
def _way(
    rows: np.ndarray, cols: np.ndarray, patch: np.ndarray, start: Any, goal: Any, index: np.ndarray, weight: np.ndarray, side: np.ndarray
) -> np.ndarray:  # fmt: skip
    """(k, 2) points of the way from one patch to another of the same bone where others outweigh it least, with the place that the
    bone has in their rows; none where it would have to be raised too far."""
    n = len(patch)
    cost, came, slot = np.full(n, np.inf), np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    heap_key, heap_node = np.empty(8 * n + 16), np.empty(8 * n + 16, np.int32)
    bone, left = -1, 0
    for i in range(n):
        if patch[i] == start and side[i] >= 0:
            bone, cost[i] = index[i, 0], 0.0
            heap_push(heap_key, heap_node, left, 0.0, i)
            left += 1
    for i in range(n):
        for m in range(index.shape[1]):
            if slot[i] < 0 and side[i] >= 0 and index[i, m] == bone and weight[i, m] > 0.0:
                slot[i] = m
    end, count = -1, 0
    while left > 0 and end < 0:
        at, i = heap_pop(heap_key, heap_node, left)
        left -= 1
        if at > cost[i]:
            continue
        if patch[i] == goal:
            end = i
        for e in range(rows[i], rows[i + 1]):
            j = cols[e]
            if slot[j] < 0:
                continue
            over = weight[j, 0] - weight[j, slot[j]]
            new = at + STEP + over
            if over <= ON_WAY and new < cost[j] and left < len(heap_key):
                cost[j], came[j] = new, i
                heap_push(heap_key, heap_node, left, new, j)
                left += 1
    i = end
    while i >= 0:
        i, count = came[i], count + 1
    out = np.empty((count, 2), np.int64)
    for k in range(count):
        out[k, 0], out[k, 1] = end, slot[end]
        end = came[end]
    return out


@compiled
def _made_strongest(i: Any, chosen: Any, index: np.ndarray, weight: np.ndarray) -> None:
    """One of a row's bones becomes its strongest, by a hair; those that are stronger come down to one level, no more of them than
    must.  The strongest first afterwards, too."""
    slots, level = index.shape[1], 0.0
    for _ in range(slots):  # the level rises as fewer must come down to it
        some, count = weight[i, chosen] - HAIR, 1
        for k in range(slots):
            if k != chosen and weight[i, k] > level:
                some += weight[i, k]
                count += 1
        if some / count <= level:
            break
        level = some / count
    for k in range(slots):
        if k != chosen:
            weight[i, k] = min(weight[i, k], level)
    weight[i, chosen] = level + HAIR
    for k in range(1, slots):
        m = k
        while m > 0 and weight[i, m] > weight[i, m - 1]:
            index[i, m], index[i, m - 1] = index[i, m - 1], index[i, m]
            weight[i, m], weight[i, m - 1] = weight[i, m - 1], weight[i, m]
            m -= 1


@compiled
def _mean_row(
    i: Any, rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, own: float, skip: np.ndarray,
    total: np.ndarray, who: np.ndarray,
) -> bool:  # fmt: skip
    """A point's row averaged with its neighbours', over all their bones, strongest first: into its own row.

    skip (n,): neighbours that don't count.
    total (b,) and who (b,): room, total zero before and after.
    """
    count = 0
    for e in range(rows[i] - 1, rows[i + 1]):
        j = i if e < rows[i] else cols[e]
        if j != i and skip[j]:
            continue
        share = own * (rows[i + 1] - rows[i]) if j == i else 1.0
        for k in range(index.shape[1]):
            b, x = index[j, k], share * weight[j, k]
            if x > 0.0:
                if total[b] == 0.0:
                    who[count] = b
                    count += 1
                total[b] += x
    if count:
        keep_strongest(i, total, who, count, who, False, index, weight)
    return count > 0


@compiled
def _flooded(
    rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, off: np.ndarray, bones: int
) -> None:
    """Rows of the points `off` taken from the neighbours that aren't, inwards from the shore; never the strongest as before."""
    total, who = np.zeros(bones), np.empty(bones, np.int64)
    todo = np.flatnonzero(off)
    while len(todo) > 0:
        done = np.zeros(len(todo), np.bool_)
        for u in range(len(todo)):
            i = todo[u]
            owner = index[i, 0]
            done[u] = _mean_row(i, rows, cols, index, weight, 0.0, off, total, who)
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
def yielded(rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, off: np.ndarray) -> None:
    """At the points `off` that one becomes the strongest which is the strongest next to them."""
    for i in np.flatnonzero(off):
        chosen = 1
        for k in range(index.shape[1] - 1, 0, -1):
            for e in range(rows[i], rows[i + 1]):
                j = cols[e]
                if not off[j] and weight[i, k] > 0.0 and index[j, 0] == index[i, k]:
                    chosen = k
        if chosen < index.shape[1] and weight[i, chosen] > 0.0:
            _made_strongest(i, chosen, index, weight)


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
    none, total, who = np.zeros(n, np.bool_), np.zeros(bones), np.empty(bones, np.int64)
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
                if _mean_row(i, rows, cols, index0, weight0, own, none, total, who):
                    index[i], weight[i] = index0[i], weight0[i]
                index0[i], weight0[i] = one_index, one_weight
                for e in range(rows[i], rows[i + 1]):
                    none[cols[e]] = False
