"""Colours: sRGB as files and screens hold it, and linear light as scenes do (IEC 61966-2-1)."""

from __future__ import annotations

import numpy as np


def srgb_from_linear(linear: np.ndarray) -> np.ndarray:
    """Linear 0–1 to sRGB bytes."""
    c = np.clip(linear, 0, 1)
    return np.asarray(
        (np.where(c <= 0.0031308, 12.92 * c, 1.055 * c ** (1 / 2.4) - 0.055) * 255 + 0.5).astype(np.uint8)
    )


def linear_from_srgb(srgb: np.ndarray) -> np.ndarray:
    """sRGB bytes to linear 0–1."""
    c = np.asarray(srgb, float) / 255
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
