"""Soft weights from owners: every hold fades along the skin over a length that the limb's thickness sets.

Lengths are metres on the surface, not rounds over its points, so a denser mesh gets the same skin.  The steps are screened
diffusion, (M + C) w = M χ, with M the area of each point and C the cotangent conductances of the edges times the squared
length (Crane, Weischedel & Wardetzky 2013, Geodesics in heat, from memory, for the discretisation), each bone on the
region it may hold.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix

from ..compiled import compiled, compiled_loosely
from .bones import Reach, past_end, radius_at, to_segment
from .owners import PAST, most_radius
from .ways import Ways, edge_lengths, spread

SOFT = 0.7  # of a limb's radius: how far each of the two passes spreads
WEB = 0.015  # sizes: on a membrane, which has no thickness to tell it by, at least so far beside its own bones
SHORT = 0.6  # the most of a bone's own length
NONE = 1e-6  # sizes: no hold fades over less
WIDEN = 0.2  # metres by which the length may grow for each along the skin
FAR = 3.6  # lengths that a hold reaches at most
MOST = 6  # bones that may hold a point while weights are made
PASSES, EXACT, STEPS = 2, 1e-2, 200  # solves one after the other; where a solve stops: relative residual, steps
# What two fingers contest goes to the bone they hang from: so large a share of it where that one weighs so much.
WHOLE, HANDED = 0.3, 0.8


@dataclass
class Holds:
    """What may hold each point: bone (n, MOST) int32, count (n,), weight (n, MOST); the owner first."""

    bone: np.ndarray
    count: np.ndarray
    weight: np.ndarray

    def table(self, bones: int) -> csr_matrix:
        """(n, bones) weights."""
        used = np.arange(self.bone.shape[1])[None] < self.count[:, None]
        return csr_matrix((self.weight[used], (np.nonzero(used)[0], self.bone[used])), (len(self.bone), bones))


def blended(ways: Ways, reach: Reach, own: np.ndarray, radii: np.ndarray, softness: float = 1.0) -> Holds:
    """Weights of every point, rows summing to one; softness scales the lengths.

    Points that nothing owns have no row.
    """
    p, rows, cols = ways.points, ways.rows, ways.cols
    area, conductance = ways.areas, _conductances(p, ways.triangles, rows, cols)
    length = _lengths(
        p,
        rows,
        cols,
        ways.edges,
        own,
        *reach.lines,
        radii,
        reach.span[reach.bone],
        np.where(reach.sheet[reach.bone], WEB, 0.0) * softness,
        SOFT * softness,
        SHORT,
        NONE,
        WIDEN,
    )
    second, share = _borders(
        p, most_radius(ways, reach)[ways.cells :], rows, cols, own, reach.bone, *reach.lines, radii, PAST
    )
    long = ways.edges
    if len(ways.bridges):
        rows, cols, conductance = _with_bridges(ways, conductance)
        long = edge_lengths(p, rows, cols)
    bone, away, count = _regions(rows, cols, long, own, reach.bone, second, length, FAR, MOST)
    weight = np.zeros(bone.shape)
    held = np.bincount(bone[count > 1].ravel() + 1, minlength=len(reach.parent) + 1)[1:].cumsum()
    middle = int(np.searchsorted(held, held[-1] / 2)) + 1 if len(held) else 0

    def solve(span: tuple[int, int]) -> None:
        _diffused(
            rows, cols, conductance, area, length, bone, count, away, second, share, *span, weight, EXACT, STEPS, PASSES
        )

    spans = [(0, middle), (middle, len(held))] if 0 < middle < len(held) else [(0, len(held))]
    with ThreadPoolExecutor(2) as pool:  # the loops let other threads run; bones don't share anything
        list(pool.map(solve, spans))
    _made_whole(count, weight)
    _handed_over(bone, count, weight, _common(reach.parent, reach.side), WHOLE, HANDED)
    return Holds(bone, count, weight)


@compiled
def _conductances(p: np.ndarray, triangles: np.ndarray, rows: np.ndarray, cols: np.ndarray) -> np.ndarray:
    """Of each entry of `cols`: half the cotangents of the angles facing the edge, kept within bounds."""
    out = np.zeros(len(cols))
    u, v, n = np.empty(3), np.empty(3), np.empty(3)
    for t in range(len(triangles)):
        for k in range(3):
            a, b, c = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
            for m in range(3):
                u[m], v[m] = p[b, m] - p[a, m], p[c, m] - p[a, m]
            n[0], n[1], n[2] = u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]
            across = np.sqrt(n[0] ** 2 + n[1] ** 2 + n[2] ** 2)
            cot = 0.5 * (u[0] * v[0] + u[1] * v[1] + u[2] * v[2]) / max(across, 1e-30)
            value = min(max(cot, 0.05), 3.0)
            for i, j in ((b, c), (c, b)):
                e = rows[i]
                while cols[e] != j:
                    e += 1
                out[e] += value
    return out


def _with_bridges(ways: Ways, conductance: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    n, k = len(ways.points), len(ways.bridges)
    i, j = np.concatenate([ways.bridges, ways.bridges[:, ::-1]]).T
    table = csr_matrix((conductance, ways.cols, ways.rows), (n, n)) + coo_matrix((np.full(2 * k, 0.5), (i, j)), (n, n))
    table = table.tocsr()
    return table.indptr.astype(np.int64), table.indices.astype(np.int32), table.data


@compiled
def _lengths(
    p: np.ndarray, rows: np.ndarray, cols: np.ndarray, long: np.ndarray, own: np.ndarray, start: np.ndarray, way: np.ndarray, square: np.ndarray,
    radii: np.ndarray, span: np.ndarray, least: np.ndarray, soft: float, short: float, none: float, widen: float,
) -> np.ndarray:  # fmt: skip
    """(n,) metres over which a hold fades at each point.

    A thin limb's length holds where it grows out of a thick body and widens from there: the flank isn't dragged along.
    """
    n = len(p)
    out = np.full(n, np.inf)
    for i in range(n):
        if own[i] >= 0:
            o = own[i]
            d, t = to_segment(p[i], start[o], way[o], square[o])
            r = max(radius_at(radii[o], t), d)
            out[i] = max(min(max(soft * r, least[o]), short * span[o]), none)
    out = -out
    spread(out, np.arange(n), rows, cols, long, widen)
    return -out


@compiled
def _borders(
    p: np.ndarray,
    thick: np.ndarray, rows: np.ndarray, cols: np.ndarray, own: np.ndarray, bone: np.ndarray, start: np.ndarray, way: np.ndarray,
    square: np.ndarray, radii: np.ndarray, past: float,
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """Ownership finer than the mesh: (n,) int32 the bone beyond the border at each point (−1: none near) and (n,) the owner's
    share, from ½ on the border to 1 an edge away from it.

    How far the border is: (d₂² − d₁²) / (2 |q₂ − q₁|), q the nearest places on both bones; d counts in radii.  Where both are
    the joint at which they meet, what lies past either's end tells (`owners.PAST`).
    """
    n, g = len(p), np.empty(3)
    second, share = np.full(n, -1, np.int32), np.ones(n)
    for i in range(n):
        o = own[i]
        if o < 0:
            continue
        d, t1 = to_segment(p[i], start[o], way[o], square[o])
        r1 = min(radius_at(radii[o], t1), thick[i])
        over1 = past_end(p[i], start[o], way[o], square[o])
        d1, best = np.sqrt(d * d + past * over1 * over1) / r1, 1e18
        for e in range(rows[i], rows[i + 1]):
            j = cols[e]
            s = own[j]
            if s < 0 or bone[s] == bone[o]:
                continue
            d, t2 = to_segment(p[i], start[s], way[s], square[s])
            r2 = min(radius_at(radii[s], t2), thick[i])
            over2 = past_end(p[i], start[s], way[s], square[s])
            side1, side2 = past * over1 / np.sqrt(square[o] + 1e-30), past * over2 / np.sqrt(square[s] + 1e-30)
            for k in range(3):
                g[k] = start[o, k] + (t1 - side1) * way[o, k] - start[s, k] - (t2 - side2) * way[s, k]
            apart = np.sqrt((g**2).sum())
            r = 0.5 * (r1 + r2)
            gap = max((d * d + past * over2 * over2) / (r2 * r2) - d1 * d1, 0.0) * r * r / (2.0 * apart + 1e-6 * r)
            gap /= np.sqrt(((p[i] - p[j]) ** 2).sum()) + 1e-30
            if gap < best:
                best, second[i] = gap, bone[s]
        if second[i] >= 0:
            share[i] = 0.5 + 0.5 * min(best, 1.0)
    return second, share


@compiled
def _regions(
    rows: np.ndarray, cols: np.ndarray, long: np.ndarray, own: np.ndarray, of: np.ndarray, second: np.ndarray, length: np.ndarray,
    far: float, most: int,
) -> Any:  # fmt: skip
    """The bones that may hold each point, nearest first: bone (n, most) int32, away (n, most) in lengths, count (n,).

    The owner first; others grow along the skin from the borders, through buckets of an eighth of a length.
    """
    n = len(own)
    bone, away, count = np.full((n, most), -1, np.int32), np.full((n, most), np.inf), np.zeros(n, np.int32)
    buckets = int(far * 8.0) + 2
    head = np.full(buckets, -1, np.int32)
    room = 4 * n + 16
    after, node, slot, at = np.empty(room, np.int32), np.empty(room, np.int32), np.empty(room, np.int32), np.empty(room)
    used = 0
    for i in range(n):
        if own[i] < 0:
            continue
        bone[i, 0], away[i, 0], count[i] = of[own[i]], 0.0, 1
        if second[i] >= 0:
            bone[i, 1], away[i, 1], count[i] = second[i], 0.0, 2
            for k in range(2):
                after[used], node[used], slot[used], at[used] = head[0], i, k, 0.0
                head[0] = used
                used += 1
    b = 0
    while b < buckets:
        e = head[b]
        if e < 0:
            b += 1
            continue
        head[b] = after[e]
        i, k, gone = node[e], slot[e], at[e]
        if gone > away[i, k]:
            continue
        mine = bone[i, k]
        for q in range(rows[i], rows[i + 1]):
            j = cols[q]
            if count[j] == 0:
                continue
            d = gone + 2.0 * long[q] / (length[i] + length[j])
            if d > far:
                continue
            m = 0
            while m < count[j] and bone[j, m] != mine:
                m += 1
            if m == count[j]:
                if m == most:
                    continue
                bone[j, m] = mine
                count[j] += 1
            elif away[j, m] <= d:
                continue
            away[j, m] = d
            if used == room:
                after = np.concatenate((after, np.empty(n, np.int32)))
                node = np.concatenate((node, np.empty(n, np.int32)))
                slot = np.concatenate((slot, np.empty(n, np.int32)))
                at = np.concatenate((at, np.empty(n)))
                room += n
            c = min(int(d * 8.0), buckets - 1)
            after[used], node[used], slot[used], at[used] = head[c], j, m, d
            head[c] = used
            used += 1
    return bone, away, count


@compiled
def _by_bone(bone: np.ndarray, count: np.ndarray, low: int, high: int) -> Any:
    """Points with more than one bone, bone by bone from low to high: rows (high + 1,), point (k,), slot (k,)."""
    rows = np.zeros(high + 1, np.int64)
    for fill in range(2):
        at = rows[:-1].copy()
        if fill == 1:
            point, slot = np.empty(rows[high], np.int32), np.empty(rows[high], np.int32)
        for i in range(len(count)):
            if count[i] < 2:
                continue
            for k in range(count[i]):
                b = bone[i, k]
                if low <= b < high:
                    if fill == 0:
                        rows[b + 1] += 1
                    else:
                        point[at[b]], slot[at[b]] = i, k
                        at[b] += 1
        if fill == 0:
            for b in range(high):
                rows[b + 1] += rows[b]
    return rows, point, slot


@compiled_loosely
def _solved(
    x: np.ndarray, right: np.ndarray, diagonal: np.ndarray, rows: np.ndarray, cols: np.ndarray, off: np.ndarray, exact: float, steps: int
) -> None:  # fmt: skip
    """x made to solve (diag − off) x = right, by conjugate gradients with the diagonal as preconditioner; from x."""
    m = len(x)
    residual, way, carried = np.empty_like(x), np.empty_like(x), np.empty_like(x)
    norm, rz = 0.0, 0.0
    for u in range(m):
        s = diagonal[u] * x[u]
        for e in range(rows[u], rows[u + 1]):
            s -= off[e] * x[cols[e]]
        residual[u] = right[u] - s
        way[u] = residual[u] / diagonal[u]
        rz += residual[u] * way[u]
        norm += right[u] * right[u] / diagonal[u]
    for _ in range(steps):
        if rz <= exact * exact * norm:
            break
        total = 0.0
        for u in range(m):
            s = diagonal[u] * way[u]
            for e in range(rows[u], rows[u + 1]):
                s -= off[e] * way[cols[e]]
            carried[u] = s
            total += way[u] * s
        step, new = rz / total, 0.0
        for u in range(m):
            x[u] += step * way[u]
            residual[u] -= step * carried[u]
            new += residual[u] * residual[u] / diagonal[u]
        for u in range(m):
            way[u] = residual[u] / diagonal[u] + new / rz * way[u]
        rz = new


@compiled
def _diffused(
    rows: np.ndarray, cols: np.ndarray, conductance: np.ndarray, area: np.ndarray, length: np.ndarray, bone: np.ndarray,
    count: np.ndarray, away: np.ndarray, second: np.ndarray, share: np.ndarray, low: int, high: int, out: np.ndarray, exact: float,
    steps: int, passes: int,
) -> None:  # fmt: skip
    """The holds of bones low … high spread along the skin, `passes` times over, into `out` (n, MOST); points of one bone stay."""
    n = len(count)
    first, point, slot = _by_bone(bone, count, low, high)
    local = np.full(n, -1, np.int32)
    for b in range(low, high):
        mine = point[first[b] : first[b + 1]]
        slots = slot[first[b] : first[b + 1]]
        m = len(mine)
        if m == 0:
            continue
        total = 0
        for u in range(m):
            local[mine[u]] = u
            total += rows[mine[u] + 1] - rows[mine[u]]
        own_rows, own_cols, off = np.zeros(m + 1, np.int32), np.empty(total, np.int32), np.empty(total, np.float32)
        diagonal, mass, fixed = np.empty(m, np.float32), np.empty(m, np.float32), np.zeros(m, np.float32)
        w, x = np.empty(m, np.float32), np.empty(m, np.float32)
        e = 0
        for u in range(m):
            i, k = mine[u], slots[u]
            a = length[i] ** 2
            mass[u] = area[i] + 1e-12
            diagonal[u] = mass[u]
            for q in range(rows[i], rows[i + 1]):
                j = cols[q]
                if count[j] == 0:
                    continue
                c = length[j] ** 2
                g = conductance[q] * 2.0 * a * c / (a + c)
                diagonal[u] += g
                if local[j] >= 0:
                    own_cols[e], off[e] = local[j], g
                    e += 1
                elif count[j] == 1 and bone[j, 0] == b:
                    fixed[u] += g
            own_rows[u + 1] = e
            w[u] = share[i] if k == 0 else (1.0 - share[i] if bone[i, k] == second[i] else 0.0)
            x[u] = max(w[u], 0.5 * np.exp(-away[i, k])) if k > 0 else min(w[u], 1.0 - 0.5 * np.exp(-away[i, 1]))
        for _ in range(passes):
            _solved(x, mass * w + fixed, diagonal, own_rows, own_cols, off, exact, steps)
            w[:] = x
        for u in range(m):
            out[mine[u], slots[u]] = max(w[u], 0.0)
            local[mine[u]] = -1


@compiled
def _made_whole(count: np.ndarray, weight: np.ndarray) -> None:
    """Rows made to sum to one, in place."""
    for i in range(len(count)):
        total = weight[i, : count[i]].sum()
        if count[i] == 1 or (count[i] > 0 and total <= 0.0):
            weight[i, 0] = 1.0
        elif count[i] > 0:
            weight[i, : count[i]] /= total


def _common(parent: np.ndarray, side: np.ndarray) -> np.ndarray:
    """(b, b) int32: the bone from which two bones of one side both hang; −1 where one holds the other, where they are of two sides, or
    either is on the trunk: there blending softly matters more."""
    count = len(parent)
    lines = []
    for b in range(count):
        line = [b]
        while parent[line[-1]] >= 0:
            line.append(int(parent[line[-1]]))
        lines.append(line)
    out = np.full((count, count), -1, np.int32)
    limbs = np.flatnonzero(side != 0)
    for i in limbs:
        mine = set(lines[i])
        for j in limbs:
            if side[j] == side[i] and j not in mine:
                met = next((x for x in lines[j] if x in mine), -1)
                out[i, j] = met if met != i else -1
    return out


@compiled
def _handed_over(
    bone: np.ndarray, count: np.ndarray, weight: np.ndarray, common: np.ndarray, whole: float, handed: float
) -> None:
    """What two fingers contest goes to the bone they both hang from, in the measure that it is there.  In place.

    A point between them that both pull tears a web out of either.
    """
    most = bone.shape[1]
    gains, loss = np.zeros(most, np.bool_), np.zeros(most)
    for i in range(len(count)):
        if count[i] < 3:
            continue
        gains[:], loss[:] = False, 0.0
        for a in range(count[i]):
            for b in range(a + 1, count[i]):
                over, x = common[bone[i, a], bone[i, b]], min(weight[i, a], weight[i, b])
                if over < 0 or x <= 0.0:
                    continue
                for k in range(count[i]):
                    if bone[i, k] == over:
                        x *= handed * min(weight[i, k] / whole, 1.0)
                        loss[a], loss[b], gains[k] = max(loss[a], x), max(loss[b], x), True
                        break
        total, there = 0.0, 0.0
        for k in range(count[i]):
            weight[i, k] -= loss[k]
            total += loss[k]
            if gains[k]:
                there += weight[i, k]
        if total > 0.0:
            for k in range(count[i]):
                if gains[k]:
                    weight[i, k] += total * weight[i, k] / there
