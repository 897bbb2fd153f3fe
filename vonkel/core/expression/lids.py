"""Lids that shut: every point near an eye turned about the line through its corners.

A point is (s, a, ρ): s the sine of its longitude along the corners, a its elevation about them, ρ its distance from the eye's
centre.  Along each s the upper edge stands at U(s), the lower at D(s), alike at the corners.  With the closing line at h (0 on
the lower edge, 1 on the upper) it is C = D + h (U − D).  The upper lid's travel w takes its edge to U + w (D − U), the lower's
to D + w (U − D); what lies between an edge and where the lid ends follows by one rising map, so that no point passes another.
Both travels together are kept at one or less: edges can meet and never pass, the gap is never negative.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from ..face.eyes import Eye, ball_surface
from ..face.head import Head, directions
from ..geometry.easing import smoothstep
from ..geometry.rays import first_hits
from ..geometry.rotations import unit

GAZES = np.radians([-30, -15, 0, 15, 30])  # how far eyes turn either way while lids must clear them
UP_REACH, DOWN_REACH = 1.3, 1.1  # how far lids follow beyond their edges, in openings
LEAST_REACH = np.radians(12)
THICK = np.radians(20)  # how far behind its edge the inside of a lid moves with it
CLEAR = 0.02  # of the radius: how far lids stay off the ball
LAP = 0.008  # of the opening: how far a shut upper lid laps over the lower one, so that unlike points leave no chink
CHORDS = (
    0.4  # of what a coarse edge's straight lines fall short by: the other lid's own lines and the lap make up the rest
)
COLUMNS = 129


@dataclass(eq=False)
class Lids:
    """The lids of one eye that has an opening (`eye.opens`)."""

    head: Head
    eye: Eye

    def __post_init__(self) -> None:
        head, eye = self.head, self.eye
        assert eye.loop is not None and eye.upper is not None and eye.lower is not None
        q = head.p - eye.centre
        self.rho = np.linalg.norm(q, axis=1)
        self.f = (q / np.maximum(self.rho, 1e-12)[:, None]) @ eye.frame.T
        self.s, self.a = self.f[:, 0], np.arctan2(self.f[:, 1], self.f[:, 2])
        ends = self.s[[eye.upper[0], eye.upper[-1]]]
        self.low, self.high = float(ends.min()), float(ends.max())
        self.grid = np.linspace(self.low, self.high, COLUMNS)
        base = np.interp(self.grid, *self._ordered(ends, self.a[[eye.upper[0], eye.upper[-1]]]))
        self.u = np.maximum(self._edge(eye.upper, np.minimum), base)
        self.d = np.minimum(self._edge(eye.lower, np.maximum), base)
        self.u[[0, -1]] = self.d[[0, -1]] = base[[0, -1]]
        wide = self.u - self.d
        self.opening = float((wide * np.sqrt(1 - self.grid**2)).max())  # radians
        least = LEAST_REACH * (wide / max(float(wide.max()), 1e-6))
        self.top = self.u + np.maximum(UP_REACH * wide, least)
        self.bottom = self.d - np.maximum(DOWN_REACH * wide, least)
        near = (
            head.skin
            & (self.rho < 2.6 * eye.radius)
            & (self.s > self.low)
            & (self.s < self.high)
            & (self.f[:, 2] > -0.6)
        )
        self.rows = np.flatnonzero(
            near & (self.a < self._at(self.top) + THICK) & (self.a > self._at(self.bottom) - THICK)
        )
        ways, reach = ball_surface(head, eye)
        self._ball = cKDTree(ways), reach
        self.rim = np.zeros(len(head.p), bool)
        self.rim[eye.loop] = True
        self.hidden = (self.rho < 0.985 * self.ball(q)) & ~self.rim  # in the ball at rest: may stay there
        self.follows = smoothstep(2.3 - self.rho / eye.radius)
        self.follows[self.rim] = 1.0
        e = head.edges
        self.edges = e[near[e].all(1)]
        t = head.t[near[head.t].all(1)]
        self.spans = np.vstack([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])  # diagonals of quads sag, too

    @staticmethod
    def _ordered(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        order = np.argsort(x)
        return x[order], y[order]

    def _at(self, curve: np.ndarray, s: np.ndarray | None = None) -> np.ndarray:
        return np.asarray(np.interp(self.s if s is None else s, self.grid, curve))

    def _edge(self, rows: np.ndarray, pick: np.ufunc) -> np.ndarray:
        """Elevations along the columns; where the edge doubles back its innermost place counts."""
        out = np.full(COLUMNS, np.inf if pick is np.minimum else -np.inf)
        s, a = self.s[rows], self.a[rows]
        for s0, s1, a0, a1 in zip(s[:-1], s[1:], a[:-1], a[1:], strict=True):
            on = (self.grid >= min(s0, s1) - 1e-12) & (self.grid <= max(s0, s1) + 1e-12)
            t = (self.grid[on] - s0) / (s1 - s0) if abs(s1 - s0) > 1e-9 else np.zeros(int(on.sum()))
            out[on] = pick(out[on], a0 + t * (a1 - a0))
        bad = ~np.isfinite(out)
        if bad.all():
            return np.zeros(COLUMNS)
        out[bad] = np.interp(self.grid[bad], self.grid[~bad], out[~bad])
        return out

    # -- the ball ----------------------------------------------------------------------------------------------------
    def ball(self, q: np.ndarray) -> np.ndarray:
        """How far the ball reaches in directions q (k, 3)."""
        tree, reach = self._ball
        d, i = tree.query(unit(q), k=3)
        w = 1 / (d + 1e-6)
        return np.asarray((reach[i] * w).sum(1) / w.sum(1))

    @cached_property
    def _swept(self) -> tuple[cKDTree, np.ndarray]:
        ways = directions(3000)
        most = np.zeros(len(ways))
        for m in self.gazes():
            most = np.maximum(most, self.ball(ways @ m))  # a turned ball seen along g is the ball along mᵀ g
        return cKDTree(ways), most

    def gazes(self) -> list[np.ndarray]:
        """Turns (3, 3) of the ball about its own level and upright axes."""
        out = []
        for a in GAZES:
            for b in GAZES:
                ca, sa, cb, sb = np.cos(a), np.sin(a), np.cos(b), np.sin(b)
                about_up = np.array([[ca, 0, sa], [0, 1, 0], [-sa, 0, ca]])
                about_level = np.array([[1, 0, 0], [0, cb, -sb], [0, sb, cb]])
                out.append(self.eye.frame.T @ about_up @ about_level @ self.eye.frame)
        return out

    def envelope(self, q: np.ndarray) -> np.ndarray:
        """The most that the ball reaches in directions q over all gazes."""
        tree, most = self._swept
        return np.asarray(most[tree.query(unit(q), k=4)[1]].max(1))

    # -- moving ------------------------------------------------------------------------------------------------------
    def _beside_chords(self, s: np.ndarray, w: float, upper: bool, own: np.ndarray) -> np.ndarray:
        """How far points of an edge go beyond its goal, so that the straight lines between them reach it, too."""
        out = np.zeros(len(s))
        rows = np.flatnonzero(own)
        if w <= 0 or len(rows) < 2:
            return out
        rows = rows[np.argsort(s[rows])]
        u, d = (self.u, self.d) if upper else (-self.d, -self.u)
        ends = np.r_[self.low, s[rows], self.high]
        t = np.linspace(0, 1, 9)
        x = ends[:-1, None] + np.diff(ends)[:, None] * t
        y = self._at(u, x) + w * (self._at(d, x) - self._at(u, x))
        short = (y[:, :1] + (y[:, -1:] - y[:, :1]) * t - y).max(1)
        out[rows] = CHORDS * np.maximum(short[:-1], short[1:])
        return out

    def _carried(self, i: np.ndarray, w: float, upper: bool, own: np.ndarray) -> np.ndarray:
        """Elevations of points i after one lid's travel w; own: those on its edge."""
        s, a = self.s[i], self.a[i]
        u, d = self._at(self.u, s), self._at(self.d, s)
        far = self._at(self.top if upper else self.bottom, s)
        if not upper:  # the lower lid is an upper one upside down
            a, u, d, far = -a, -d, -u, -far
        goal = u + w * (d - u) - self._beside_chords(s, w, upper, own)
        start = np.maximum(np.where(own, a, u), d + 1e-6)
        # Where the edge doubles back it comes to the line in the first half of its way.
        goal = goal + np.where(own, start - u, 0.0) * (1 - smoothstep(np.array(max(w, 0.0) / 0.6)))
        move = start - goal
        inside = self.rho[i] < 1.15 * self.eye.radius
        slack = np.where(inside, THICK, 0.0)  # the inside of a lid goes with its edge
        t = np.clip((a - start - slack) / np.maximum(far - start, 1e-6), 0, 1)
        share = (1 - t) * (1 - 0.5 * t * (1 - t))  # its slope stays under one: order is kept
        out = np.where(a >= start, a - move * share, d + (a - d) * (goal - d) / np.maximum(start - d, 1e-6))
        out = np.where(a <= d, a, out)
        return np.asarray(out if upper else -out)

    def moves(self, up: float = 0.0, low: float = 0.0) -> np.ndarray:
        """(n, 3) how far every point of the head moves, in its frame, with the lids travelled by `up` and `low`: 0 at rest,
        1 on the other edge, below 0 wide open; together at most 1 and a little, kept so here."""
        head, eye, i = self.head, self.eye, self.rows
        low = min(low, 1.0 + LAP - up)
        s, a, rho = self.s[i], self.a[i], self.rho[i]
        of_upper, of_lower = np.zeros(len(head.p), bool), np.zeros(len(head.p), bool)
        of_upper[eye.upper[1:-1]], of_lower[eye.lower[1:-1]] = True, True  # type: ignore[index]
        above = np.where(
            of_upper[i], True, np.where(of_lower[i], False, a > 0.5 * (self._at(self.u, s) + self._at(self.d, s)))
        )
        new = np.where(above, self._carried(i, up, True, of_upper[i]), self._carried(i, low, False, of_lower[i]))
        new = a + self.follows[i] * (new - a)
        k = np.sqrt(np.maximum(1 - s * s, 0))
        way = np.stack([s, k * np.sin(new), k * np.cos(new)], 1) @ eye.frame
        going = smoothstep(np.abs(new - a) / np.radians(6))
        need = self.envelope(way) * (1 + CLEAR) + self._sag(i, way * eye.radius)
        need = np.minimum(need, 1.25 * eye.radius)
        lifted = np.where(self.hidden[i], rho, rho + going * (np.maximum(rho, need) - rho))
        rho = np.where(self.follows[i] > 0.02, lifted, rho)
        if up > 0:  # a hair outside the lower lid where they meet
            rho = rho + np.where(of_upper[i], 0.025 * eye.radius * smoothstep(np.array(up / 0.3)) * going, 0)
        out = np.zeros_like(head.p)
        out[i] = eye.centre + way * rho[:, None] - head.p[i]
        return out

    def _sag(self, i: np.ndarray, q: np.ndarray) -> np.ndarray:
        """How far a straight edge on the ball dips under it: L² / 8 r of the longest edge of triangles at each point."""
        at = self.head.p - self.eye.centre
        at[i] = q
        e = self.spans[~self.hidden[self.spans].any(1)]
        long = ((at[e[:, 0]] - at[e[:, 1]]) ** 2).sum(1)
        most = np.zeros(len(at))
        np.maximum.at(most, e[:, 0], long)
        np.maximum.at(most, e[:, 1], long)
        return np.asarray(np.minimum(most[i] / (8 * self.eye.radius), 0.12 * self.eye.radius))


def shut(closed: float, line: float) -> tuple[float, float]:
    """Travels of upper and lower lid for how far they are closed (0 to 1) and the closing line (0 on the lower edge); at the end
    the lower lid slips a little under the upper one."""
    lap = LAP * float(smoothstep(np.array((closed - 0.9) / 0.1)))
    return closed * (1 - line), closed * line + lap


@dataclass(frozen=True)
class LidFigures:
    """least, most: the gap along the opening, shares of its height; pierced: how deep the ball comes through, shares of its radius, over all
    gazes; stretch: of the lids' edges, the 95th percentile."""

    least: float
    most: float
    pierced: float
    stretch: float


def lid_figures(lids: Lids, moves: np.ndarray, gazes: Sequence[np.ndarray] | None = None) -> LidFigures:
    """What is wrong with lids moved by `moves` (n, 3), in the head's frame; at these turns (3, 3) of the ball, or all of them."""
    head, eye = lids.head, lids.eye
    assert eye.upper is not None and eye.lower is not None
    r, p = eye.radius, head.p + moves
    q = p - eye.centre
    f = unit(q) @ eye.frame.T
    s, a = f[:, 0], np.arctan2(f[:, 1], f[:, 2])
    across = np.linspace(lids.low, lids.high, 41)[2:-2]

    def line(rows: np.ndarray) -> np.ndarray:
        order = np.argsort(s[rows], kind="stable")
        return np.asarray(np.interp(across, s[rows][order], a[rows][order]))

    upper, lower = line(eye.upper), line(eye.lower)
    gap = (upper - lower) * np.sqrt(1 - across**2) / lids.opening
    g = directions(2600)
    gf = g @ eye.frame.T
    ga = np.arctan2(gf[:, 1], gf[:, 2])
    over = (
        (gf[:, 0] > lids.low + 0.03) & (gf[:, 0] < lids.high - 0.03) & (gf[:, 2] > 0)
        & (ga < lids._at(lids.u, gf[:, 0]) + 0.25) & (ga > lids._at(lids.d, gf[:, 0]) - 0.25)
    )  # fmt: skip
    if gap.max() > 0.08:  # partly open: only where a lid lies over the ball
        over &= (ga > np.interp(gf[:, 0], across, upper) + 0.08) | (ga < np.interp(gf[:, 0], across, lower) - 0.08)
    g = g[over]
    near = np.linalg.norm(p - eye.centre, axis=1) < 2.6 * r
    tri = head.tri[near[head.tri].all(1)]
    t, _ = first_hits(p, tri, eye.centre + g * 1.9 * r, -g, 1e-9, 1.9 * r)
    skin = np.where(np.isfinite(t), 1.9 * r - t, np.inf)
    pierced = (
        max((float((lids.ball(g @ m) - skin).max()) for m in (lids.gazes() if gazes is None else gazes)), default=0.0)
        if len(g)
        else 0.0
    )
    e = lids.edges[~lids.hidden[lids.edges].any(1)]
    was = np.linalg.norm(head.p[e[:, 0]] - head.p[e[:, 1]], axis=1)
    now = np.linalg.norm(p[e[:, 0]] - p[e[:, 1]], axis=1)
    keep = was > 0.02 * r
    return LidFigures(
        float(gap.min()), float(gap.max()), max(0.0, pierced / r), float(np.percentile(now[keep] / was[keep], 95))
    )
