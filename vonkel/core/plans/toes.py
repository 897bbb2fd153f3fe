"""Where a foot's toes end: the points of its outline, seen from above, that stand out forward."""

from __future__ import annotations

import numpy as np

from ..geometry.voxels import Solid


def toe_tips(fine: Solid, cell: float, low: np.ndarray, long: float, wanted: int) -> list[np.ndarray]:
    """The toes' ends (3,), in metres and by rising x, of a foot in a fine solid whose first cell begins at `low` (3,) and
    which points along z; `long` is from its ball to its end, `wanted` −1: as many as there are.  None where fewer than
    two stand out."""
    from scipy.signal import find_peaks  # here: it brings all of scipy's statistics along, half a second of every start

    front = np.where(fine.inside.any(1), np.arange(fine.inside.shape[2]), -1).max(1).astype(float)  # (x,) farthest z
    peaks, told = find_peaks(np.r_[-1.0, front, -1.0], prominence=max(1.4, 0.03 * long / cell))
    order = np.argsort(-told["prominences"])[: wanted if wanted > 0 else 5]
    if len(order) < 2:
        return []
    ends = []
    for x in sorted(int(peaks[i]) - 1 for i in order):
        z = int(front[x])
        column = fine.inside[x, :, max(z - 1, 0) : z + 1].any(1)
        y = float(low[1] + (np.flatnonzero(column).mean() + 0.5) * cell)
        ends.append(np.array([low[0] + (x + 0.5) * cell, y, low[2] + (z + 1) * cell]))
    return ends
