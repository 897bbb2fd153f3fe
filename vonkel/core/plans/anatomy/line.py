"""Centre lines of limbs, and where they bend.

A limb's joints are the corners of the polyline that keeps nearest to its centre line; where it is straight, the usual
shares decide.  Both are energies over the same grid of places, so the answer comes with its spread.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d

from ...geometry.measures import lengths_along
from ...geometry.voxels import Solid, middle_paths, traced
from ..shapes import misfits
from .body import Body

N = 61  # places along a line that a corner may have


@dataclass(frozen=True, eq=False)
class Line:
    """A centre line: places (p, 3) from the tip inwards, metres along it (p,), plain distance from the tip (p,), depth (p,)."""

    p: np.ndarray
    s: np.ndarray
    g: np.ndarray
    depth: np.ndarray

    @property
    def total(self) -> float:
        return float(self.s[-1])

    def at(self, s: float) -> np.ndarray:
        return np.array([np.interp(s, self.s, self.p[:, k]) for k in range(3)])

    def s_of(self, g: float) -> float:
        """Metres along it where the plain distance from the tip is g."""
        return float(np.interp(g, np.maximum.accumulate(self.g), self.s))

    def way(self, a: float, b: float) -> np.ndarray:
        """The direction (3,) of the piece between a and b metres, by least squares."""
        q = np.stack([self.at(x) for x in np.linspace(a, b, 16)])
        d = np.linalg.svd(q - q.mean(0))[2][0]
        return np.asarray(d if d @ (q[-1] - q[0]) > 0 else -d)

    def cut(self, s: float) -> Line:
        """What lies before s metres."""
        keep = self.s < s

        def join(a: np.ndarray) -> np.ndarray:
            return np.asarray(np.r_[a[keep], np.interp(s, self.s, a)])

        return Line(np.vstack([self.p[keep], self.at(s)]), join(self.s), join(self.g), join(self.depth))

    def evenly(self, a: float, b: float, count: int) -> np.ndarray:
        return np.stack([self.at(s) for s in np.linspace(a, b, count)])

    def reversed(self) -> Line:
        return Line(self.p[::-1], self.total - self.s[::-1], self.g[::-1], self.depth[::-1])

    def nearest(self, place: np.ndarray) -> float:
        """Metres along it to where it passes nearest to a place."""
        return float(self.s[int(np.argmin(np.linalg.norm(self.p - place, axis=1)))])


def line_of(body: Body, cells: list[int] | np.ndarray, tip: int | None, even: float = 3.0) -> Line:
    solid = body.solid
    rows = np.asarray(cells)
    p = solid.centres[rows]
    s = lengths_along(p)
    g = body.far[tip][rows] if tip is not None else s
    n = max(int(s[-1] / (0.5 * solid.h)), 8)
    u = np.linspace(0, s[-1], n)
    q = np.stack([np.interp(u, s, p[:, k]) for k in range(3)], 1)
    smooth = gaussian_filter1d(q, 2 * even, axis=0, mode="nearest")
    smooth[0], smooth[-1] = q[0], q[-1]
    g = gaussian_filter1d(np.interp(u, s, g), 2 * even, mode="nearest")
    return Line(smooth, lengths_along(smooth), g, solid.depth[solid.nearest(smooth)])


def inwards(body: Body, tip: int, even: float = 3.0) -> Line:
    """From a tip to the centre through the thickest flesh."""
    return line_of(body, traced(body.came, body.tips[tip]), tip, even)


def between(body: Body, a: np.ndarray, b: np.ndarray, even: float = 5.0) -> Line:
    """From place a to place b through the thickest flesh."""
    return fan(body, a, [b], even)[0]


def fan(body: Body, a: np.ndarray, ends: Sequence[np.ndarray], even: float = 5.0) -> list[Line]:
    """From place a to every one of several, as `between`."""
    if not len(ends):
        return []
    i, *others = (int(k) for k in body.solid.nearest(np.array([a, *ends])))
    return [line_of(body, cells, None, even) for cells in middle_paths(body.solid, i, others)]


def ended(line: Line, s: float, end: np.ndarray, solid: Solid) -> Line:
    """The line up to s metres (all of it where that is less), then straight to `end`."""
    a = line.cut(s) if s < line.total else line
    n = max(int(np.linalg.norm(end - a.p[-1]) / (0.5 * solid.h)), 2)
    more = a.p[-1] + (end - a.p[-1]) * (np.arange(1, n + 1) / n)[:, None]
    p = np.vstack([a.p, more])
    s_all = lengths_along(p)
    g = np.r_[a.g, a.g[-1] + (s_all[len(a.p) :] - s_all[len(a.p) - 1])]
    return Line(p, s_all, g, np.r_[a.depth, solid.depth[solid.nearest(more)]])


# --- corners ------------------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Prior:
    """Where one or two corners usually lie, as (share of the line from its tip, width); and how the misfit counts:
    `stiff` per piece, `loose` of the limb's radius is no bend."""

    at: tuple[tuple[float, float], ...]
    stiff: tuple[float, ...] = (1.0, 1.0, 1.0)
    loose: float = 0.5


@dataclass(frozen=True)
class Corners:
    """Shares of the line's length from its tip, and the standard deviation of each."""

    share: np.ndarray
    spread: np.ndarray


def _bell(z: np.ndarray) -> np.ndarray:
    """Energy of a deviation of z widths: a bell, with a wall beyond twice its width."""
    return np.asarray(z**2 / 2 + (z / 2.2) ** 4)


def _prior_energy(prior: Prior) -> np.ndarray:
    t = np.linspace(0, 1, N)
    own = [_bell((t - m) / s) for m, s in prior.at]
    if len(own) == 1:
        return own[0]
    (m0, s0), (m1, s1) = prior.at
    piece = ((t[None] - t[:, None]) - (m1 - m0)) / (s0 + s1)
    return np.asarray(own[0][:, None] + own[1][None] + _bell(piece))


def _energy(line: Line, prior: Prior) -> np.ndarray:
    """(N,) or (N, N) over the places of one or two corners: misfit of the polyline, and the prior."""
    total = line.total
    u = np.linspace(0, total, N)
    p = np.stack([np.interp(u, line.s, line.p[:, k]) for k in range(3)], 1)
    # The line rounds a bend off by about half the limb's radius: misfits below that say nothing.
    tight = max(0.011, prior.loose * float(np.median(line.depth)) / total)
    m = misfits(p) / N * 10.0 / (tight * total) ** 2
    k = prior.stiff
    if len(prior.at) == 1:
        e = k[0] * m[0] + k[1] * m[:, -1] + _prior_energy(prior)
    else:
        e = k[0] * m[0][:, None] + k[1] * m + k[2] * m[:, -1][None] + _prior_energy(prior)
    return np.where(np.isfinite(e), e, 1e9)


def _posterior(e: np.ndarray) -> Corners:
    t = np.linspace(0, 1, N)
    w = np.exp(-(e - np.nanmin(e)))
    w[~np.isfinite(w)] = 0
    w /= w.sum()
    each = [w] if e.ndim == 1 else [w.sum(1), w.sum(0)]
    means = [float((q * t).sum()) for q in each]
    widths = [float(np.sqrt((q * (t - m) ** 2).sum())) for q, m in zip(each, means, strict=True)]
    return Corners(np.array(means), np.array(widths))


def corners_of(
    lines: list[Line], prior: Prior, extra: list[np.ndarray] | None = None, near: float = 0.03
) -> list[Corners]:  # fmt: skip
    """Corners of one or several lines that are partners: each is drawn to what all of them say together, with the width
    `near`; a bent elbow tells the straight one where it is."""
    es = [_energy(x, prior) + (0 if extra is None else extra[i]) for i, x in enumerate(lines)]
    if len(es) == 1:
        return [_posterior(es[0])]
    joint = _posterior(np.sum(es, axis=0) - (len(es) - 1) * _prior_energy(prior))
    t = np.linspace(0, 1, N)
    pull = ((t - joint.share[0]) / near) ** 2 / 2
    if len(prior.at) == 2:
        pull = pull[:, None] + (((t - joint.share[1]) / near) ** 2 / 2)[None]
    own = [_posterior(e + pull) for e in es]
    return [Corners(c.share, np.sqrt(0.5 * (c.spread**2 + joint.spread**2))) for c in own]


def thin_reward(line: Line, low: float, high: float, weight: float) -> np.ndarray:
    """(N,) energy that is low where the line is thinnest between two shares of its length (wrists, ankles)."""
    t = np.linspace(0, 1, N)
    d = np.interp(t * line.total, line.s, gaussian_filter1d(line.depth, 4, mode="nearest"))
    ok = (t > low) & (t < high)
    return np.where(ok, weight * (d / max(float(d[ok].min()), 1e-12) - 1), weight)


def joint_at(line: Line, share: float) -> np.ndarray:
    """The place of a corner: where the line is bent, half way out to where its straight pieces would meet."""
    total = line.total
    s = share * total
    here = line.at(s)
    a0, b0 = max(s - 0.28 * total, 0.0), min(s + 0.28 * total, total)
    gap = 0.05 * total
    if s - gap - a0 < gap or b0 - s - gap < gap:
        return here
    u, v = line.way(a0, s - gap), line.way(s + gap, b0)
    cos = float(u @ v)
    if cos > np.cos(np.radians(18)):
        return here
    p, q = line.at(0.5 * (a0 + s - gap)), line.at(0.5 * (b0 + s + gap))
    w = p - q
    d1, d2 = float(u @ w), float(v @ w)
    den = 1 - cos * cos
    x, y = p + u * ((cos * d2 - d1) / den), q + v * ((d2 - cos * d1) / den)
    out = 0.5 * (x + y) - here
    far = float(np.linalg.norm(out))
    return np.asarray(here + out * min(0.6, 0.5 * float(np.interp(s, line.s, line.depth)) / max(far, 1e-9)))
