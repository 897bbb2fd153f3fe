"""Weights for which linear blending comes nearest to wanted places, point by point, over many poses.

For a point x that should come to y in pose p, joint a alone would miss by M_a x − y.  With G_ab the mean over the poses of two
misses' product, weights w miss by wᵀ G w: what is looked for is the least of wᵀ G w + λ |w − the neighbours' mean|² over
weights that are not negative and sum to one.  It is found by exact steps between two weights at a time, those whose slopes
differ most (Platt 1998, “Sequential minimal optimization”, takes steps of this kind).  Smooth skinning from examples: Mohr &
Gleicher 2003; Le & Deng 2012, “Smooth skinning decomposition with rigid bones”, section 4.1.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..compiled import compiled

SMOOTH = 0.02  # λ, as a share of how much a point's own joints disagree
ROUNDS, AGAIN = 6, 3  # passes with every candidate, and once the weakest are gone
STEPS = 120  # between two weights, at most, each time a point is looked at
CHEAP = 0.34  # a weight above this is never dropped


@dataclass
class Problem:
    """misses (n, c, c) float32: G; candidates (n, c) int32: which joints, −1 where there are fewer; rows, cols: neighbours,
    compressed; start (n, c): the weights to begin with."""

    misses: np.ndarray
    candidates: np.ndarray
    rows: np.ndarray
    cols: np.ndarray
    start: np.ndarray

    @classmethod
    def of(cls, candidates: np.ndarray, held: np.ndarray, rows: np.ndarray, cols: np.ndarray) -> Problem:
        """Without any pose yet; held (n, j): what the joints hold now."""
        n, c = candidates.shape
        start = np.where(candidates >= 0, np.take_along_axis(held, np.maximum(candidates, 0), 1), 0.0)
        start[start.sum(1) <= 0, 0] = 1.0
        start /= start.sum(1, keepdims=True)
        return cls(np.zeros((n, c, c), np.float32), candidates, rows, cols, start)

    def hear(self, points: np.ndarray, matrices: np.ndarray, wanted: np.ndarray, share: float) -> None:
        """Add poses: points (n, 3) at rest, matrices (p, j, 3, 4), wanted (p, n, 3), each counting by `share`."""
        _hear(
            np.ascontiguousarray(points, np.float64), np.ascontiguousarray(matrices, np.float64),
            np.ascontiguousarray(wanted, np.float64), self.candidates, self.misses, share,
        )  # fmt: skip

    def solve(self, joints: int, influences: int) -> tuple[np.ndarray, float]:
        """Weights (n, c) of which at most `influences` a point are left, and the root mean square of what they miss by."""
        weights, allowed = self.start.copy(), self.candidates >= 0
        miss = np.einsum("nc,ncc->n", self.start, self.misses)
        smooth = SMOOTH * miss
        held = np.zeros((len(weights), joints))
        np.put_along_axis(held, np.maximum(self.candidates, 0), 0.0, 1)
        for c in range(weights.shape[1]):
            some = self.candidates[:, c] >= 0
            held[some, self.candidates[some, c]] = weights[some, c]
        work = self.misses, smooth, self.candidates, weights, allowed, held, self.rows, self.cols
        for _ in range(ROUNDS):
            _pass(*work, 0)
        for _ in range(AGAIN):
            _pass(*work, influences)
        return weights, float(np.sqrt(max(_missed(self.misses, weights), 0.0)))


@compiled
def _hear(
    points: np.ndarray,
    matrices: np.ndarray,
    wanted: np.ndarray,
    candidates: np.ndarray,
    misses: np.ndarray,
    share: float,
) -> None:
    n, most = candidates.shape
    off = np.empty((most, 3))
    for i in range(n):
        k = 0
        while k < most and candidates[i, k] >= 0:
            k += 1
        if k < 2:
            continue
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        for p in range(len(matrices)):
            for a in range(k):
                m = matrices[p, candidates[i, a]]
                for r in range(3):
                    off[a, r] = m[r, 0] * x + m[r, 1] * y + m[r, 2] * z + m[r, 3] - wanted[p, i, r]
            for a in range(k):
                for b in range(a + 1):
                    misses[i, a, b] += share * (off[a, 0] * off[b, 0] + off[a, 1] * off[b, 1] + off[a, 2] * off[b, 2])
        for a in range(k):
            for b in range(a):
                misses[i, b, a] = misses[i, a, b]


@compiled
def settle(
    miss: np.ndarray,
    smooth: float,
    toward: np.ndarray,
    weights: np.ndarray,
    allowed: np.ndarray,
    count: int,
    steps: int,
) -> None:
    """Bring one point's weights (c,) nearest, by steps between two of them; only `allowed` ones grow."""
    slope = np.zeros(count)
    for a in range(count):
        s = 0.0
        for b in range(count):
            if weights[b] != 0.0:
                s += miss[a, b] * weights[b]
        slope[a] = s + smooth * (weights[a] - toward[a])
    for _ in range(steps):
        low, high = -1, -1
        for a in range(count):
            if allowed[a] and (low < 0 or slope[a] < slope[low]):
                low = a
            if weights[a] > 0.0 and (high < 0 or slope[a] > slope[high]):
                high = a
        if low < 0 or high < 0 or low == high:
            return
        gap = slope[high] - slope[low]
        curve = miss[low, low] + miss[high, high] - 2.0 * miss[low, high] + 2.0 * smooth
        if gap <= 1e-12 or curve <= 1e-20:
            return
        step = min(gap / curve, weights[high])
        weights[low] += step
        weights[high] -= step
        if weights[high] < 1e-9:
            weights[high] = 0.0
        for a in range(count):
            slope[a] += step * (miss[a, low] - miss[a, high])
        slope[low] += smooth * step
        slope[high] -= smooth * step


@compiled
def cost(miss: np.ndarray, smooth: float, toward: np.ndarray, weights: np.ndarray, count: int) -> float:
    """What one point's weights come to."""
    s = 0.0
    for a in range(count):
        if weights[a] != 0.0:
            for b in range(count):
                s += weights[a] * miss[a, b] * weights[b]
        s += smooth * (weights[a] - toward[a]) ** 2
    return s


@compiled
def _missed(misses: np.ndarray, weights: np.ndarray) -> float:
    """The mean over the points of what they miss by, squared."""
    none, s = np.zeros(weights.shape[1]), 0.0
    for i in range(len(weights)):
        s += cost(misses[i], 0.0, none, weights[i], weights.shape[1])
    return s / max(len(weights), 1)


@compiled
def _drop(
    miss: np.ndarray, smooth: float, toward: np.ndarray, weights: np.ndarray, allowed: np.ndarray, count: int, most: int
) -> None:
    """Take the cheapest weights away until `most` are left; what is at nothing now stays there."""
    tried, best = np.zeros(count), np.zeros(count)
    while True:
        held = 0
        for a in range(count):
            if weights[a] > 0.0:
                held += 1
            else:
                allowed[a] = False
        if held <= most:
            return
        least, which = np.inf, -1
        for a in range(count):
            if weights[a] <= 0.0 or weights[a] >= CHEAP:
                continue
            tried[:] = weights[:count] / (1.0 - weights[a])
            tried[a] = 0.0
            allowed[a] = False
            settle(miss, smooth, toward, tried, allowed, count, STEPS // 2)
            allowed[a] = True
            now = cost(miss, smooth, toward, tried, count)
            if now < least:
                least, which = now, a
                best[:] = tried
        if which < 0:
            return
        allowed[which] = False
        weights[:count] = best


@compiled
def _pass(
    misses: np.ndarray, smooth: np.ndarray, candidates: np.ndarray, weights: np.ndarray, allowed: np.ndarray,
    held: np.ndarray, rows: np.ndarray, cols: np.ndarray, most: int,
) -> Any:  # fmt: skip
    """Once over all points, each drawn to its neighbours' mean as it is by then; most > 0: no more weights than that."""
    n, room = candidates.shape
    toward = np.zeros(room)
    for i in range(n):
        count = 0
        while count < room and candidates[i, count] >= 0:
            count += 1
        if count < 2:
            continue
        near = rows[i + 1] - rows[i]
        for a in range(count):
            s = 0.0
            for e in range(rows[i], rows[i + 1]):
                s += held[cols[e], candidates[i, a]]
            toward[a] = s / near if near else weights[i, a]
        by = smooth[i] if near else 0.0
        settle(misses[i], by, toward, weights[i], allowed[i], count, STEPS)
        if most > 0:
            _drop(misses[i], by, toward, weights[i], allowed[i], count, most)
        for a in range(count):
            held[i, candidates[i, a]] = weights[i, a]
