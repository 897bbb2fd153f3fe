"""Least-squares spheres."""

from __future__ import annotations

import numpy as np


def fit_sphere(points: np.ndarray) -> tuple[np.ndarray, float, float]:
    """Centre (3,), radius and the root-mean-square misfit of the sphere nearest to points (n, 3), all metres.

    Linear least squares on |p|² = 2 c·p + (r² − |c|²) (Coope 1993, Circle fitting by linear and nonlinear
    least squares, section 3, in three dimensions); points are centred first for accuracy.
    """
    middle = points.mean(0)
    p = points - middle
    a = np.c_[2 * p, np.ones(len(p))]
    x, *_ = np.linalg.lstsq(a, (p * p).sum(1), rcond=None)
    centre = x[:3]
    radius = float(np.sqrt(max(x[3] + centre @ centre, 0.0)))
    misfit = float(np.sqrt(np.mean((np.linalg.norm(p - centre, axis=1) - radius) ** 2)))
    return centre + middle, radius, misfit


def balls_among(
    points: np.ndarray, piece: np.ndarray, smallest: float, largest: float, most: int = 600
) -> list[tuple[np.ndarray, float]]:
    """(centre, radius) of every connected piece of a surface that is a ball, or most of one, largest first.

    points (n, 3); piece (n,) the number of the piece each lies in; radii within smallest … largest, metres.  Surfaces in more than
    `most` pieces are not searched.
    """
    count = int(piece.max()) + 1 if len(piece) else 0
    if not 1 < count <= most:
        return []
    found = []
    rows = np.split(np.argsort(piece, kind="stable"), np.cumsum(np.bincount(piece, minlength=count))[:-1])
    for own in rows:
        p = points[own]
        wide = np.ptp(p, axis=0) if len(p) >= 12 else np.zeros(3)
        if not 0.9 * smallest < wide.min() <= wide.max() < 2.2 * largest:
            continue
        centre, radius, misfit = fit_sphere(p)
        if smallest <= radius <= largest and misfit < 0.05 * radius and wide.min() > 1.5 * radius:
            found.append((centre, radius))
    return sorted(found, key=lambda b: -b[1])
