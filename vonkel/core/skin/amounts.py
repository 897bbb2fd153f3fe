"""Changing what holds single points, in place: rows of a skin as they are stored.

Every row stays a row: weights not negative, summing to one, at most so many joints; what a locked joint holds keeps its very
bits, and the others share what that leaves.  A wish that a row can't grant (all of it locked, say) leaves it as it was.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..compiled import compiled

LEAST = (
    1e-3  # what is less isn't kept (as WEIGHT_FLOOR; a number here, so that the loops know it when they are compiled)
)


@compiled
def _kept(
    ids: np.ndarray, amounts: np.ndarray, fixed: np.ndarray, meant: np.ndarray, count: int, most: int,
    index: np.ndarray, weights: np.ndarray, i: int,
) -> Any:  # fmt: skip
    """Write `count` holders to row i: `fixed` ones as they are, of the others those `meant` before the strongest.

    False where that leaves no row: nothing is written then.
    """
    left, room = 1.0, most
    for s in range(count):
        if fixed[s]:
            left -= amounts[s]
            room -= 1
    if left < 0.0:
        left = 0.0
    free = 0
    for s in range(count):
        if not fixed[s] and amounts[s] > 0.0:
            free += 1
    while free > max(room, 0):  # the weakest goes, those meant last
        weakest = -1
        for s in range(count):
            if fixed[s] or amounts[s] <= 0.0:
                continue
            if weakest < 0 or (meant[s], amounts[s]) < (meant[weakest], amounts[weakest]):
                weakest = s
        amounts[weakest] = 0.0
        free -= 1
    total = 0.0
    for s in range(count):
        if not fixed[s]:
            total += amounts[s]
    if total <= 0.0:
        if left > 1e-6:
            return False
    else:
        again = 0.0
        for s in range(count):
            if not fixed[s]:
                amounts[s] *= left / total
                if amounts[s] < LEAST and amounts[s] < left:
                    amounts[s] = 0.0
                again += amounts[s]
        if again <= 0.0:
            return False
        for s in range(count):
            if not fixed[s]:
                amounts[s] *= left / again
    # As they are stored, the strongest first; the strongest of the free ones takes what rounding leaves.
    strongest, sum_of = -1, 0.0
    for s in range(count):
        if not fixed[s] and (strongest < 0 or amounts[s] > amounts[strongest]):
            strongest = s
    for s in range(count):
        if s != strongest:
            amounts[s] = np.float64(np.float32(amounts[s]))
            sum_of += amounts[s]
    if strongest >= 0 and total > 0.0:
        amounts[strongest] = max(1.0 - sum_of, 0.0)
    wide = weights.shape[1]
    for slot in range(wide):
        best = -1
        for s in range(count):
            if amounts[s] > 0.0 and (best < 0 or amounts[s] > amounts[best]):
                best = s
        if best < 0:
            index[i, slot], weights[i, slot] = index[i, 0], np.float32(0.0)
        else:
            index[i, slot], weights[i, slot] = ids[best], np.float32(amounts[best])
            amounts[best] = 0.0
    return True


@compiled
def _row(
    index: np.ndarray, weights: np.ndarray, i: int, locked: np.ndarray,
    ids: np.ndarray, amounts: np.ndarray, fixed: np.ndarray, meant: np.ndarray,
) -> Any:  # fmt: skip
    """Read row i: how many hold it."""
    count = 0
    for slot in range(weights.shape[1]):
        if weights[i, slot] > 0.0:
            ids[count], amounts[count] = index[i, slot], weights[i, slot]
            fixed[count], meant[count] = locked[index[i, slot]], False
            count += 1
    return count


@compiled
def _slot(ids: np.ndarray, amounts: np.ndarray, fixed: np.ndarray, meant: np.ndarray, count: int, joint: int) -> Any:
    """Where a joint stands among `count` holders; one more place at their end where it doesn't."""
    for s in range(count):
        if ids[s] == joint:
            return s
    ids[count], amounts[count], fixed[count], meant[count] = joint, 0.0, False, False
    return count


@compiled
def put(
    index: np.ndarray, weights: np.ndarray, points: np.ndarray, joints: np.ndarray, wanted: np.ndarray,
    locked: np.ndarray, heirs: np.ndarray, most: int,
) -> None:  # fmt: skip
    """Let joints (c,) hold points (p,) by `wanted` (p, c), their other holders sharing the rest; negative: as it is.

    index (n, k) and weights (n, k) are changed.  locked (j,): joints that keep what they hold; heirs (p,): who takes what
    a point's only holders let go of, −1 for nobody; most: how many joints may hold a point.
    """
    room = weights.shape[1] + len(joints) + 1
    ids, amounts = np.empty(room, np.int64), np.empty(room)
    fixed, meant = np.empty(room, np.bool_), np.empty(room, np.bool_)
    for p in range(len(points)):
        i = points[p]
        count = _row(index, weights, i, locked, ids, amounts, fixed, meant)
        left, asked, any_asked = 1.0, 0.0, False
        for s in range(count):
            if fixed[s]:
                left -= amounts[s]
        left = max(left, 0.0)
        for c in range(len(joints)):
            if wanted[p, c] < 0.0 or locked[joints[c]]:
                continue
            s = _slot(ids, amounts, fixed, meant, count, joints[c])
            count = max(count, s + 1)
            amounts[s], meant[s], any_asked = wanted[p, c], True, True
            asked += wanted[p, c]
        if not any_asked:
            continue
        if asked > left and asked > 0.0:
            for s in range(count):
                if meant[s]:
                    amounts[s] *= left / asked
            asked = left
        others = 0.0
        for s in range(count):
            if not fixed[s] and not meant[s]:
                others += amounts[s]
        rest = left - asked
        if rest > 1e-9 and others <= 0.0:
            heir = heirs[p]
            if heir < 0 or locked[heir]:
                if asked <= 0.0:
                    continue  # nobody else is there to hold it
            else:
                s = _slot(ids, amounts, fixed, meant, count, heir)
                if s < count:
                    continue  # the heir is one of those that let go
                count = s + 1
                amounts[s] = rest
        elif others > 0.0:
            for s in range(count):
                if not fixed[s] and not meant[s]:
                    amounts[s] *= rest / others
        _kept(ids, amounts, fixed, meant, count, most, index, weights, i)


@compiled
def mix(
    index: np.ndarray, weights: np.ndarray, points: np.ndarray, share: np.ndarray, starts: np.ndarray, around: np.ndarray,
    locked: np.ndarray, most: int,
) -> None:  # fmt: skip
    """Take points (p,) a `share` (p,) of the way to what holds, on the mean, the points around[starts[p]:starts[p + 1]].

    All read the rows as they are before the call.
    """
    wide = weights.shape[1]
    new_index, new_weights = np.empty((len(points), wide), index.dtype), np.empty((len(points), wide), weights.dtype)
    mean, seen = np.zeros(len(locked)), np.empty(len(locked), np.int64)
    room = len(locked) + wide + 1
    ids, amounts = np.empty(room, np.int64), np.empty(room)
    fixed, meant = np.empty(room, np.bool_), np.empty(room, np.bool_)
    for p in range(len(points)):
        i = points[p]
        new_index[p], new_weights[p] = index[i], weights[i]
        near = starts[p + 1] - starts[p]
        if near == 0 or share[p] <= 0.0:
            continue
        count = _row(index, weights, i, locked, ids, amounts, fixed, meant)
        known = 0
        for k in range(starts[p], starts[p + 1]):
            q = around[k]
            for slot in range(wide):
                j = index[q, slot]
                if weights[q, slot] > 0.0 and not locked[j]:
                    if mean[j] == 0.0:
                        seen[known] = j
                        known += 1
                    mean[j] += weights[q, slot] / near
        for s in range(count):
            if not fixed[s]:
                amounts[s] *= 1.0 - share[p]
        for k in range(known):
            j = seen[k]
            s = _slot(ids, amounts, fixed, meant, count, j)
            count = max(count, s + 1)
            amounts[s] += share[p] * mean[j]
            mean[j] = 0.0
        _kept(ids, amounts, fixed, meant, count, most, new_index, new_weights, p)
    for p in range(len(points)):
        index[points[p]], weights[points[p]] = new_index[p], new_weights[p]


@compiled
def sharpen(
    index: np.ndarray, weights: np.ndarray, points: np.ndarray, by: np.ndarray, locked: np.ndarray, most: int
) -> None:
    """The strongest of what isn't locked grow at the others' cost: amounts to the power 1 + by (p,)."""
    room = weights.shape[1] + 1
    ids, amounts = np.empty(room, np.int64), np.empty(room)
    fixed, meant = np.empty(room, np.bool_), np.empty(room, np.bool_)
    for p in range(len(points)):
        count = _row(index, weights, points[p], locked, ids, amounts, fixed, meant)
        for s in range(count):
            if not fixed[s]:
                amounts[s] = amounts[s] ** (1.0 + by[p])
        _kept(ids, amounts, fixed, meant, count, most, index, weights, points[p])


@compiled
def whole(index: np.ndarray, weights: np.ndarray, points: np.ndarray, locked: np.ndarray, most: int) -> None:
    """Rows of points (p,) written anew, after single weights of them were taken away."""
    room = weights.shape[1] + 1
    ids, amounts = np.empty(room, np.int64), np.empty(room)
    fixed, meant = np.empty(room, np.bool_), np.empty(room, np.bool_)
    for p in range(len(points)):
        count = _row(index, weights, points[p], locked, ids, amounts, fixed, meant)
        _kept(ids, amounts, fixed, meant, count, most, index, weights, points[p])
