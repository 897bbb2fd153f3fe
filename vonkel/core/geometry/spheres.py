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
