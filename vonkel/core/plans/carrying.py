"""Joints carried along by those that were put right."""

from __future__ import annotations

import numpy as np
from scipy.interpolate import RBFInterpolator

from ..joints.orient import MIRROR


def carried(source: np.ndarray, target: np.ndarray, places: np.ndarray, alike: bool = True) -> np.ndarray:
    """Places (p, 3) carried by the smoothest map that takes source (s, 3) to target (s, 3); `alike`: the same on both
    sides of x = 0."""
    if alike:
        source, target = np.vstack([source, source * MIRROR]), np.vstack([target, target * MIRROR])
    _, first = np.unique(source.round(9), axis=0, return_index=True)
    if len(first) < 5:
        return np.asarray(places + (target - source).mean(0))
    size = max(float(np.ptp(source)), 1e-9)
    # A trace of smoothing keeps nearly coinciding points from throwing the map about.
    spline = RBFInterpolator(source[first], target[first] - source[first], kernel="linear", smoothing=1e-6 * size)
    return np.asarray(places + spline(places))
