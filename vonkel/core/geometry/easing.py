"""How things fade."""

from __future__ import annotations

import numpy as np


def smoothstep(t: np.ndarray) -> np.ndarray:
    """From 0 to 1 along t (…,) from 0 to 1, with no kink at either end."""
    t = np.clip(t, 0.0, 1.0)
    return np.asarray(t * t * (3.0 - 2.0 * t))
