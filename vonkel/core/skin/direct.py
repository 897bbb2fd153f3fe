"""Smoothing after skinning worked out beforehand: each point goes by one rigid move, found from how its whole neighbourhood moves.

Le & Lewis 2019, “Direct delta mush skinning and variants”.  Evening the posed skin is a sum over neighbours; so is where it
comes to from rest.  What each joint has in such a sum (its share of the weight, and the first and second moments of the rest
points about their mean) doesn't hang on the pose, so a pose needs no rounds over neighbours: the moments, moved by the joints,
say where the mean goes and how the patch about it turns.  Shapes come through whole, and a patch can be posed alone.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..character import Character
from ..compiled import compiled, compiled_loosely
from ..geometry.halves import in_halves
from ..geometry.topology import runs
from .kernels import dual_quaternions, moved_by_dual
from .smoothing import PAY, STRENGTH, mesh_of

MOST = 12  # joints that a point's neighbourhood may hang on; what more there is goes to the strongest
BALL = 1e-3  # of the patch's spread, the same in all directions: what turns where the patch says nothing (a line, one point)


class Direct:
    """Poses points of one character by the moments of their neighbourhoods, evened so many rounds.

    Points in one place go as one.  Parts that aren't skin are not moved here: `soft` (n,) says which points are.
    """

    def __init__(self, character: Character, rounds: int, joints: np.ndarray, weights: np.ndarray) -> None:
        """joints (n, k) by their numbers in the character and weights (n, k): who holds each point."""
        self.rounds = rounds
        self.first, self.of, self.soft, self.rows, self.cols, *_ = mesh_of(character)
        self._rest = np.ascontiguousarray(character.points[self.first], float)
        self._joints, self._weights = joints, weights  # the deformer's own: it may hold points otherwise
        self._many = len(character.joints)
        soft = np.flatnonzero(self.soft)
        self._order = soft[np.argsort(self.of[soft], kind="stable")]  # neighbours one after another
        self._moments = _none(len(self.first))
        self._work_out(np.arange(len(self.first)))

    def hold(self, points: np.ndarray) -> None:
        """Work out anew what hangs on points (r,) of the mesh, after they are held otherwise."""
        near = np.zeros(len(self.first), bool)
        near[self.of[points]] = True
        front, counts = np.flatnonzero(near), np.diff(self.rows.astype(int))
        for _ in range(self.rounds):
            beside = self.cols[runs(self.rows[front].astype(int), counts[front])]
            front = np.unique(beside[~near[beside]])
            near[front] = True
        self._work_out(np.flatnonzero(near))

    def _work_out(self, which: np.ndarray) -> None:
        """The moments of joined points `which` (w,), in rising order, in the place of those that they had."""
        before = self._moments
        counts = np.diff(before.starts)
        held, sums = np.empty((len(which), MOST), np.uint16), np.empty((len(which), MOST, 10), np.float32)
        holders, weights = self._joints[self.first], self._weights[self.first]

        def half(which: np.ndarray, held: np.ndarray, sums: np.ndarray, counts: np.ndarray) -> None:
            _moments(
                which, self._rest, self.rows, self.cols, holders, weights, self.rounds, self._many, counts, held, sums,
                before.middle,
            )  # fmt: skip

        found = np.empty(len(which), np.int64)
        in_halves(half, which, held, sums, out=found, least=PAY)
        stays = np.ones(len(counts), bool)
        stays[which] = False
        old = runs(before.starts[:-1][stays], counts[stays])
        counts[which] = found
        starts = np.concatenate([[0], np.cumsum(counts)])
        kept = np.arange(MOST) < found[:, None]
        joints, moments = np.empty(starts[-1], np.uint16), np.empty((starts[-1], 10), np.float32)
        to, new = runs(starts[:-1][stays], counts[stays]), runs(starts[:-1][which], found)
        joints[to], moments[to] = before.joints[old], before.sums[old]
        joints[new], moments[new] = held[kept], sums[kept]
        self._moments = Moments(starts, joints, moments, before.middle)

    def __call__(
        self,
        matrices: np.ndarray,
        points: np.ndarray,
        out: np.ndarray,
        dual: np.ndarray,
        rows: np.ndarray | None = None,
    ) -> None:
        """Pose rest points by rigid matrices (j, 3, 4), from rest to the pose, into `out` where they are soft.

        points and out (r, 3) float32: of all the mesh, or of points `rows` (r,) of it.  dual (r,) float32: by how much of
        dual quaternions the middle of a neighbourhood goes, where published it goes linearly and thins out in a twist.
        """
        flat = np.ascontiguousarray(matrices.reshape(-1, 12), np.float32)
        m = self._moments
        of = self.of if rows is None else self.of[rows]
        order = self._order if rows is None else np.flatnonzero(self.soft[rows])
        q = np.empty((len(matrices), 8), np.float32)
        dual_quaternions(np.ascontiguousarray(matrices), q)
        in_halves(
            lambda order: _posed(order, points, of, flat, q, dual, m.starts, m.joints, m.sums, m.middle, out),
            out=order, least=PAY,
        )  # fmt: skip


@dataclass(frozen=True)
class Moments:
    """What joints have in the evened neighbourhoods of joined points.

    starts (m + 1,): where each point's begin; joints (s,) and sums (s, 10): whose, and weight, first and second moments about
    middle (m, 3), the evened point itself.
    """

    starts: np.ndarray
    joints: np.ndarray
    sums: np.ndarray
    middle: np.ndarray


def _none(count: int) -> Moments:
    """Of points that nothing is known of yet."""
    return Moments(
        np.zeros(count + 1, np.int64),
        np.zeros(0, np.uint16),
        np.zeros((0, 10), np.float32),
        np.zeros((count, 3), np.float32),
    )


@compiled
def _moments(
    which: np.ndarray, rest: np.ndarray, rows: np.ndarray, cols: np.ndarray, joints: np.ndarray, weights: np.ndarray,
    rounds: int, many: int, counts: np.ndarray, held: np.ndarray, moments: np.ndarray, middle: np.ndarray,
) -> None:  # fmt: skip
    """What each joint has in the evened neighbourhood of points `which`: weight, first moment (3), second moment (xx, xy, xz,
    yy, yz, zz), about the evened point itself."""
    n = len(rest)
    now, then = np.zeros(n), np.zeros(n)
    inside = np.empty(n, np.int64)
    seen = np.zeros(n, np.bool_)
    sums = np.zeros((many, 10))
    touched = np.zeros(many, np.bool_)
    some = np.empty(many, np.int64)
    for w in range(len(which)):
        i = which[w]
        inside[0], seen[i], now[i] = i, True, 1.0
        size = 1
        for _ in range(rounds):  # how much each neighbour has in the evened point: a row of the rounds' product
            for a in range(size):
                p = inside[a]
                v = now[p]
                lo, hi = rows[p], rows[p + 1]
                if hi == lo:
                    then[p] += v
                    continue
                then[p] += (1.0 - STRENGTH) * v
                share = STRENGTH * v / (hi - lo)
                for k in range(lo, hi):
                    q = cols[k]
                    if not seen[q]:
                        seen[q] = True
                        inside[size] = q
                        size += 1
                    then[q] += share
            for a in range(size):
                p = inside[a]
                now[p], then[p] = then[p], 0.0
        x = y = z = 0.0
        for a in range(size):
            p = inside[a]
            x += now[p] * rest[p, 0]
            y += now[p] * rest[p, 1]
            z += now[p] * rest[p, 2]
        middle[i, 0], middle[i, 1], middle[i, 2] = x, y, z
        number = 0
        spread = 0.0
        for a in range(size):
            p = inside[a]
            dx, dy, dz = rest[p, 0] - x, rest[p, 1] - y, rest[p, 2] - z
            spread += now[p] * (dx * dx + dy * dy + dz * dz)
            for k in range(joints.shape[1]):
                b = now[p] * weights[p, k]
                if b <= 0.0:
                    continue
                j = joints[p, k]
                if not touched[j]:
                    touched[j] = True
                    some[number] = j
                    number += 1
                sums[j, 0] += b
                sums[j, 1] += b * dx
                sums[j, 2] += b * dy
                sums[j, 3] += b * dz
                sums[j, 4] += b * dx * dx
                sums[j, 5] += b * dx * dy
                sums[j, 6] += b * dx * dz
                sums[j, 7] += b * dy * dy
                sums[j, 8] += b * dy * dz
                sums[j, 9] += b * dz * dz
            now[p], seen[p] = 0.0, False
        for a in range(number):  # the heaviest first
            best = a
            for b in range(a + 1, number):
                if sums[some[b], 0] > sums[some[best], 0]:
                    best = b
            some[a], some[best] = some[best], some[a]
        kept = min(number, held.shape[1])
        while kept > 1 and sums[some[kept - 1], 0] < 1e-4:
            kept -= 1
        for a in range(kept, number):  # what is left goes to the strongest: the sums stay what they are
            for k in range(10):
                sums[some[0], k] += sums[some[a], k]
        counts[w] = kept
        ball = BALL * spread if spread > 0.0 else 1.0
        for a in range(kept):
            j = some[a]
            held[w, a] = j
            sums[j, 4] += ball * sums[j, 0]
            sums[j, 7] += ball * sums[j, 0]
            sums[j, 9] += ball * sums[j, 0]
            for k in range(10):
                moments[w, a, k] = sums[j, k]
        for a in range(number):
            j = some[a]
            touched[j] = False
            sums[j] = 0.0


@compiled_loosely
def _row(
    r0: Any, r1: Any, r2: Any, shift: Any, cx: Any, cy: Any, cz: Any, first: Any, u: Any, v: Any, t: Any,
    xx: Any, xy: Any, xz: Any, yy: Any, yz: Any, zz: Any,
) -> Any:  # fmt: skip
    """What one coordinate of a joint's move makes of its moments: where it takes the middle, beyond the first joint; its first moment
    turned; a row of the matrix whose nearest rotation is sought."""
    d = r0 * cx + r1 * cy + r2 * cz + shift - first
    return (
        d, r0 * u + r1 * v + r2 * t, r0 * xx + r1 * xy + r2 * xz + d * u, r0 * xy + r1 * yy + r2 * yz + d * v,
        r0 * xz + r1 * yz + r2 * zz + d * t,
    )  # fmt: skip


@compiled_loosely
def _posed(
    order: np.ndarray, points: np.ndarray, of: np.ndarray, m: np.ndarray, duals: np.ndarray, shares: np.ndarray,
    starts: np.ndarray, held: np.ndarray, moments: np.ndarray, middle: np.ndarray, out: np.ndarray,
) -> None:  # fmt: skip
    """Points `order` (w,) by the moments of their neighbourhoods; m (j, 12) and duals (j, 8): moves of joints."""
    for o in range(len(order)):
        p = order[o]
        i = of[p]
        x, y, z = points[p, 0], points[p, 1], points[p, 2]
        start, end = starts[i], starts[i + 1]
        f = held[start]
        if end - start == 1:
            out[p, 0] = m[f, 0] * x + m[f, 1] * y + m[f, 2] * z + m[f, 3]
            out[p, 1] = m[f, 4] * x + m[f, 5] * y + m[f, 6] * z + m[f, 7]
            out[p, 2] = m[f, 8] * x + m[f, 9] * y + m[f, 10] * z + m[f, 11]
            continue
        cx, cy, cz = middle[i, 0], middle[i, 1], middle[i, 2]
        # Where the first joint takes the middle; the others are taken from there, so that little is lost.
        fx = m[f, 0] * cx + m[f, 1] * cy + m[f, 2] * cz + m[f, 3]
        fy = m[f, 4] * cx + m[f, 5] * cy + m[f, 6] * cz + m[f, 7]
        fz = m[f, 8] * cx + m[f, 9] * cy + m[f, 10] * cz + m[f, 11]
        lx = ly = lz = qx = qy = qz = np.float32(0.0)
        a00 = a01 = a02 = a10 = a11 = a12 = a20 = a21 = a22 = np.float32(0.0)
        for s in range(start, end):
            j = held[s]
            w, u, v, t = moments[s, 0], moments[s, 1], moments[s, 2], moments[s, 3]
            xx, xy, xz = moments[s, 4], moments[s, 5], moments[s, 6]
            yy, yz, zz = moments[s, 7], moments[s, 8], moments[s, 9]
            d, q, u0, u1, u2 = _row(m[j, 0], m[j, 1], m[j, 2], m[j, 3], cx, cy, cz, fx, u, v, t, xx, xy, xz, yy, yz, zz)
            lx, qx, a00, a01, a02 = lx + w * d, qx + q, a00 + u0, a01 + u1, a02 + u2
            d, q, u0, u1, u2 = _row(m[j, 4], m[j, 5], m[j, 6], m[j, 7], cx, cy, cz, fy, u, v, t, xx, xy, xz, yy, yz, zz)
            ly, qy, a10, a11, a12 = ly + w * d, qy + q, a10 + u0, a11 + u1, a12 + u2
            d, q, u0, u1, u2 = _row(
                m[j, 8], m[j, 9], m[j, 10], m[j, 11], cx, cy, cz, fz, u, v, t, xx, xy, xz, yy, yz, zz
            )
            lz, qz, a20, a21, a22 = lz + w * d, qz + q, a20 + u0, a21 + u1, a22 + u2
        share = shares[p]
        if share > np.float32(0.0):
            p0, p1, p2, p3 = duals[f, 0], duals[f, 1], duals[f, 2], duals[f, 3]
            a = b = c = d = e = g = h = k = np.float32(0.0)
            for s in range(start, end):
                j, w = held[s], moments[s, 0]
                if p0 * duals[j, 0] + p1 * duals[j, 1] + p2 * duals[j, 2] + p3 * duals[j, 3] < np.float32(0.0):
                    w = -w
                a += w * duals[j, 0]
                b += w * duals[j, 1]
                c += w * duals[j, 2]
                d += w * duals[j, 3]
                e += w * duals[j, 4]
                g += w * duals[j, 5]
                h += w * duals[j, 6]
                k += w * duals[j, 7]
            dx, dy, dz = moved_by_dual(a, b, c, d, e, g, h, k, cx, cy, cz)
            dx, dy, dz = dx - fx, dy - fy, dz - fz
            lx, ly, lz = lx + share * (dx - lx), ly + share * (dy - ly), lz + share * (dz - lz)
        qx, qy, qz = qx + lx, qy + ly, qz + lz
        x, y, z = x - cx, y - cy, z - cz
        # The nearest rotation (Markley 1993, “Attitude determination using vector observations: a fast optimal matrix
        # algorithm”): the largest root of its quartic is the sum of the singular values, the least signed by the determinant.
        b00, b01, b02 = a11 * a22 - a12 * a21, a12 * a20 - a10 * a22, a10 * a21 - a11 * a20
        b10, b11, b12 = a21 * a02 - a22 * a01, a22 * a00 - a20 * a02, a20 * a01 - a21 * a00
        b20, b21, b22 = a01 * a12 - a02 * a11, a02 * a10 - a00 * a12, a00 * a11 - a01 * a10
        det = float(a00) * b00 + float(a01) * b01 + float(a02) * b02
        square = (
            float(a00) * a00 + float(a01) * a01 + float(a02) * a02 + float(a10) * a10 + float(a11) * a11
            + float(a12) * a12 + float(a20) * a20 + float(a21) * a21 + float(a22) * a22
        )  # fmt: skip
        minors = (
            float(b00) * b00 + float(b01) * b01 + float(b02) * b02 + float(b10) * b10 + float(b11) * b11
            + float(b12) * b12 + float(b20) * b20 + float(b21) * b21 + float(b22) * b22
        )  # fmt: skip
        c0 = square * square - 4.0 * minors
        root = np.sqrt(square + 2.0 * np.sqrt(minors))  # exact where a patch is flat, as most are
        root = np.sqrt(square + 2.0 * np.sqrt(max(minors + 2.0 * det * root, 0.0)))
        for _ in range(2):
            r2 = root * root
            slope = 4.0 * (r2 - square) * root - 8.0 * det
            if slope <= 0.0:
                break
            root -= ((r2 - 2.0 * square) * r2 - 8.0 * det * root + c0) / slope
        kappa = 0.5 * (root * root - square)
        zeta = kappa * root - det
        if zeta <= 0.0:  # two patches that turn against one another: no turn is nearest
            out[p, 0] = fx + m[f, 0] * x + m[f, 1] * y + m[f, 2] * z
            out[p, 1] = fy + m[f, 4] * x + m[f, 5] * y + m[f, 6] * z
            out[p, 2] = fz + m[f, 8] * x + m[f, 9] * y + m[f, 10] * z
            continue
        # R = ((κ + |A|²) A + λ cof A − A Aᵀ A) / ζ, put to the point at once
        first, by = (kappa + square) / zeta, root / zeta
        ex, ey, ez = a00 * x + a01 * y + a02 * z, a10 * x + a11 * y + a12 * z, a20 * x + a21 * y + a22 * z
        gx, gy, gz = a00 * ex + a10 * ey + a20 * ez, a01 * ex + a11 * ey + a21 * ez, a02 * ex + a12 * ey + a22 * ez
        hx, hy, hz = a00 * gx + a01 * gy + a02 * gz, a10 * gx + a11 * gy + a12 * gz, a20 * gx + a21 * gy + a22 * gz
        out[p, 0] = fx + qx + first * ex + by * (b00 * x + b01 * y + b02 * z) - hx / zeta
        out[p, 1] = fy + qy + first * ey + by * (b10 * x + b11 * y + b12 * z) - hy / zeta
        out[p, 2] = fz + qz + first * ez + by * (b20 * x + b21 * y + b22 * z) - hz / zeta
