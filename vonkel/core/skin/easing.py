"""Skin eased where ordinary poses would pull it too long.

How far a hold fades is said by how thick the body is; how far it must fade, by how far a pose takes two joints apart.  What
an edge is too long by in its worst pose is a want, in metres; wants fall off along the skin, and rows are averaged with
their neighbours' in the measure of them, until nothing is too long.  Rows never hold more joints than they may: weights
found for more and cut afterwards tear again where many joints meet.  Which are let go is told by how far they move the
point, not by how much they hold.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..character import Character
from ..compiled import compiled, compiled_loosely
from ..poses import pose_from_turns, trial_poses
from .bones import in_sizes
from .deform import rest_inverses
from .middle import Middle
from .ways import edge_lengths, spread

LONG = 1.5  # times as long as at rest: what is longer in a pose is eased
TORN = 1.9  # … and while there are edges longer than that it isn't done
FALL = 1.0  # metres that a want loses for each along the skin
EVEN = 2.0  # edge lengths of want at which a point is as its neighbours are
SWEEPS = 2  # over the points between looking at the poses again
ROUNDS, LAST = 20, 400  # of such looks: as many where skin is long, and at most where some is still torn
MENDS = 80  # looks at most at a dense mesh whose skin was eased on fewer points
STILL = 0.05  # sizes of the body that a hold counts as moving a point by at least, when it is told which is let go
LEFT = 3e-4  # the share of edges that may stay torn


def moves_of(character: Character, joints: Sequence[str]) -> np.ndarray:
    """(b, 12, p): what each ordinary pose does with what `joints` hold: rows of 3×4 matrices from rest, in sizes of the body."""
    inverse, index = rest_inverses(character), [character.joint_index[n] for n in joints]
    asked = [pose_from_turns(character, p.turns) for p in trial_poses(character) if p.ordinary]
    moves = np.array([p.rigid_matrices(inverse)[index] for p in asked]).reshape(-1, len(joints), 3, 4)
    moves[..., 3] = in_sizes(moves[..., 3], character.size)
    moves[..., :3] = in_sizes(moves[..., :3], 1.0)
    return np.ascontiguousarray(moves.reshape(len(moves), len(joints), 12).transpose(1, 2, 0))


@dataclass(frozen=True)
class Easing:
    """points (n, 3), in sizes; moves (b, 12, p), see `moves_of`; middle: how far limbs may hold past it; mend: only what is torn, of a
    skin that was eased on fewer points."""

    points: np.ndarray
    moves: np.ndarray
    middle: Middle
    mend: bool = False

    def ease(
        self, rows: np.ndarray, cols: np.ndarray, index: np.ndarray, weight: np.ndarray, again: bool = False,
        other: np.ndarray | None = None, partner: np.ndarray | None = None, side: np.ndarray | None = None,
    ) -> int:  # fmt: skip
        """Rows index and weight (n, k) eased in place; how many points were, at most.

        rows, cols: the neighbours of each point; again: only where skin is torn after all; other (n,), partner (b,), side (n,): how
        a body is mirrored that is (see `mirror.Mirror`): its right follows its left, whatever poses do with either.
        """
        n, bones = len(self.points), len(self.moves)
        if other is None or partner is None or side is None:
            other, partner, side = np.arange(n), np.arange(bones), np.ones(n, np.int64)
        return int(
            _eased(
                self.points, rows, cols, edge_lengths(self.points, rows, cols), self.moves, index, weight, other, partner, side, self.middle.limb, self.middle.limits,
                LONG, TORN, FALL, EVEN, SWEEPS, 0 if again or self.mend else ROUNDS, MENDS if self.mend else LAST, LEFT,
            )
        )  # fmt: skip


@compiled_loosely
def _posed(
    i: Any, p: np.ndarray, moves: np.ndarray, index: np.ndarray, weight: np.ndarray, x: np.ndarray, y: np.ndarray, z: np.ndarray
) -> None:  # fmt: skip
    """Where all poses take a point: x, y, z (n, p), its own rows written."""
    x[i], y[i], z[i] = 0.0, 0.0, 0.0
    a, b, c = p[i, 0], p[i, 1], p[i, 2]
    for k in range(index.shape[1]):
        w, m = weight[i, k], moves[index[i, k]]
        if w > 0.0:
            for q in range(m.shape[1]):
                x[i, q] += w * (m[0, q] * a + m[1, q] * b + m[2, q] * c + m[3, q])
                y[i, q] += w * (m[4, q] * a + m[5, q] * b + m[6, q] * c + m[7, q])
                z[i, q] += w * (m[8, q] * a + m[9, q] * b + m[10, q] * c + m[11, q])


@compiled_loosely
def _longest(i: Any, j: Any, x: np.ndarray, y: np.ndarray, z: np.ndarray) -> float:
    """The length of an edge in the pose that makes it longest."""
    most = 0.0
    for q in range(x.shape[1]):
        most = max(most, (x[i, q] - x[j, q]) ** 2 + (y[i, q] - y[j, q]) ** 2 + (z[i, q] - z[j, q]) ** 2)
    long: float = np.sqrt(most)
    return long


@compiled
def _evened(i: Any, j: Any, want: np.ndarray, rest: float, even: float) -> Any:
    """How far one end of an edge is to become as the other, from 0 to 1."""
    return min(1.0, 0.5 * (want[i] + want[j]) / (even * rest + 1e-30))


@compiled
def _gathered(
    i: Any, rows: np.ndarray, cols: np.ndarray, rest: np.ndarray, want: np.ndarray, even: float, index: np.ndarray, weight: np.ndarray,
    limb: np.ndarray, most_of: np.ndarray, total: np.ndarray, some: np.ndarray,
) -> int:  # fmt: skip
    """A row averaged with its neighbours', each by how much is wanted there, into total (b,); which bones, into some (b,): how many."""
    most, all_in = index.shape[1], 0.0
    count = 0
    for e in range(rows[i], rows[i + 1]):
        all_in += _evened(i, cols[e], want, rest[e], even)
    part = 1.0 / max(all_in, 1.0)
    for e in range(rows[i] - 1, rows[i + 1]):
        j = i if e < rows[i] else cols[e]
        t = 1.0 - part * all_in
        if e >= rows[i]:
            t = part * _evened(i, j, want, rest[e], even)
        for k in range(most):
            b, x = index[j, k], t * weight[j, k]
            if x > 0.0:
                if total[b] == 0.0:
                    some[count] = b
                    count += 1
                total[b] += x
    for u in range(count):
        m = limb[some[u]]
        if m < 0 or most_of[i, m] >= 1.0:
            continue
        its, first = 0.0, True
        for v in range(count):
            if limb[some[v]] == m:
                its += total[some[v]]
                first = first and v >= u
        if first and most_of[i, m] < its < 1.0:  # the rest is 1 less what it holds
            less = most_of[i, m] * (1.0 - its) / ((1.0 - most_of[i, m]) * its)
            for v in range(count):
                if limb[some[v]] == m:
                    total[some[v]] *= less
    return count


@compiled_loosely
def _least_missed(
    i: Any, p: np.ndarray, moves: np.ndarray, total: np.ndarray, some: np.ndarray, count: Any, most: int, places: np.ndarray
) -> None:  # fmt: skip
    """Of a point's bones some (count), which hold it by total (b,), no more than `most` keep something: one after the other is let
    go that moves the point least in any pose when the others take over.

    The weakest of five may be an arm's: a twentieth that ends at an edge and took the point along by a hand's breadth.
    places (b + 1, 3, p): room.
    """
    poses, last, whole = moves.shape[2], len(places) - 1, 0.0
    a, b, c = p[i, 0], p[i, 1], p[i, 2]
    places[last] = 0.0  # where all together take the point, times what they hold
    for u in range(count):
        m, w = moves[some[u]], total[some[u]]
        whole += w
        for k in range(3):
            for q in range(poses):
                x = m[4 * k, q] * a + m[4 * k + 1, q] * b + m[4 * k + 2, q] * c + m[4 * k + 3, q]
                places[u, k, q] = x
                places[last, k, q] += w * x
    for _ in range(count - most):
        goes, least = -1, np.inf
        for u in range(count):
            w = total[some[u]]
            if w > 0.0 and w < whole:
                far = 0.0
                for q in range(poses):
                    d = 0.0
                    for k in range(3):
                        d += (whole * places[u, k, q] - places[last, k, q]) ** 2
                    far = max(far, d)
                far = (np.sqrt(far) + STILL * whole) * w / (whole - w)
                if far < least:
                    goes, least = u, far
        if goes < 0:
            break
        w = total[some[goes]]
        places[last] -= w * places[goes]
        whole -= w
        total[some[goes]] = 0.0


@compiled
def keep_strongest(
    i: Any, total: np.ndarray, some: np.ndarray, count: Any, partner: np.ndarray, pairs: bool, index: np.ndarray, weight: np.ndarray
) -> None:  # fmt: skip
    """The strongest of bones some (count) into row i, by what total (b,) says, which is zero afterwards; with `pairs`, partners alike, and
    never one without the other."""
    most, used, whole = index.shape[1], 0, 0.0
    if pairs:
        for u in range(count):
            b = some[u]
            if total[partner[b]] == 0.0:  # all of it on one side
                some[count] = partner[b]
                count += 1
            if partner[b] > b or total[partner[b]] == 0.0:
                total[b] = total[partner[b]] = 0.5 * (total[b] + total[partner[b]])
    while used < most:
        best = -1
        for u in range(count):
            b = some[u]
            room = 2 if pairs and partner[b] != b else 1
            if total[b] > 0.0 and room <= most - used and (best < 0 or (total[b], -b) > (total[best], -best)):
                best = b
        if best < 0:
            break
        for b in (best, partner[best]) if pairs and partner[best] != best else (best, best):
            if total[b] > 0.0:
                index[i, used], weight[i, used] = b, total[b]
                whole += total[b]
                total[b] = 0.0
                used += 1
    for u in range(count):
        total[some[u]] = 0.0
    for k in range(most):
        if k < used:
            weight[i, k] /= whole
        else:
            index[i, k], weight[i, k] = index[i, 0], 0.0


@compiled
def _eased(
    p: np.ndarray, rows: np.ndarray, cols: np.ndarray, rest: np.ndarray, moves: np.ndarray, index: np.ndarray, weight: np.ndarray,
    other: np.ndarray, partner: np.ndarray, side: np.ndarray, limb: np.ndarray, most_of: np.ndarray, long: float, torn: float,
    fall: float, even: float, sweeps: int, rounds: int, last: int, left: float,
) -> Any:  # fmt: skip
    n, poses = len(p), moves.shape[2]
    x, y, z = np.empty((n, poses)), np.empty((n, poses)), np.empty((n, poses))
    for point in range(n):
        _posed(point, p, moves, index, weight, x, y, z)
    own, bad, want = np.zeros(n), np.zeros(n, np.int64), np.zeros(n)
    look, near = np.arange(n), np.zeros(n, np.bool_)
    total, some = np.zeros(len(moves)), np.empty(len(moves) + 1, np.int64)
    places = np.empty((len(moves) + 1, 3, poses))
    reached = 0  # points at most
    for turn in range(last):
        if turn == rounds:  # from now on only what is torn
            look = np.arange(n)
        for i in look:
            own[i], bad[i] = 0.0, 0
            for e in range(rows[i], rows[i + 1]):
                now = _longest(i, cols[e], x, y, z)
                if now > torn * rest[e]:
                    bad[i] += 1
                if turn < rounds or now > torn * rest[e]:
                    own[i] = max(own[i], now - long * rest[e])
        for point in range(n):
            want[point] = max(own[point], own[other[point]])
        if want.max() <= 0.0 or (turn >= rounds and bad.sum() <= left * len(cols)):
            break
        spread(want, np.flatnonzero(want > 0.0), rows, cols, rest, fall)
        todo = np.flatnonzero((want > 0.0) & (side >= 0))
        for sweep in range(sweeps):
            for i in todo if (sweep + turn) % 2 == 0 else todo[::-1]:
                count = _gathered(i, rows, cols, rest, want, even, index, weight, limb, most_of, total, some)
                if count > index.shape[1] and side[i] != 0:
                    _least_missed(i, p, moves, total, some, count, index.shape[1], places)
                keep_strongest(i, total, some, count, partner, side[i] == 0, index, weight)
                for k in range(index.shape[1]):
                    index[other[i], k], weight[other[i], k] = partner[index[i, k]], weight[i, k]
        near[:] = False
        for i in todo:
            for m in (i, other[i]):
                _posed(m, p, moves, index, weight, x, y, z)
                near[m] = True
                for e in range(rows[m], rows[m + 1]):
                    near[cols[e]] = True
        look = np.flatnonzero(near)
        reached = max(reached, len(todo))
    return reached
