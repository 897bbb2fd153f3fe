"""What arrays a character may hold: their types, their widths, and what they have one row for."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import numpy as np

from .arrays import Arrays

Per = Literal["point", "corner", "face", "runs", "free"]


@dataclass(frozen=True)
class Layout:
    """One array.  `width` is the length of a row: 0 for plain numbers, −1 for any.  `runs` has one row more than its runs."""

    name: str
    dtype: str
    width: int
    per: Per


LAYOUT = (
    Layout("points", "<f8", 3, "point"),
    Layout("face_starts", "<i4", 0, "runs"),
    Layout("face_corners", "<i4", 0, "free"),
    Layout("colours", "|u1", 3, "point"),
    Layout("uvs", "<f4", 2, "corner"),
    Layout("face_groups", "<u2", 0, "face"),
    Layout("line_starts", "<i4", 0, "runs"),
    Layout("line_points", "<i4", 0, "free"),
    Layout("texture", "|u1", 0, "free"),
    Layout("picture/*", "|u1", 0, "free"),
    Layout("skin/joints", "<u2", -1, "point"),
    Layout("skin/weights", "<f4", -1, "point"),
    Layout("skin/mix", "<f4", 0, "point"),
    Layout("handed/joints", "<u2", -1, "point"),
    Layout("handed/weights", "<f4", -1, "point"),
    Layout("handed/target/*/points", "<u4", 0, "free"),
    Layout("handed/target/*/moves", "<f4", 3, "free"),
    Layout("shape/*/points", "<u4", 0, "free"),
    Layout("shape/*/moves", "<f4", 3, "free"),
    Layout("region/*/points", "<u4", 0, "free"),
    Layout("region/*/amounts", "<f4", 0, "free"),
    Layout("board/*/*", "|u1", 0, "free"),
    Layout("clip/*/values", "<f4", -1, "free"),
    Layout("clip/*/keys", "<f4", 6, "free"),
)
_PATTERNS = [(re.compile(re.escape(k.name).replace(r"\*", "[^/]+") + r"\Z", re.DOTALL), k) for k in LAYOUT]


def layout_of(name: str) -> Layout | None:
    """The declared layout of an array, or None for a name that no character has."""
    return next((k for pattern, k in _PATTERNS if pattern.match(name)), None)


def misfit(arrays: Arrays, name: str) -> str:
    """What is wrong with an array's type, shape or numbers, as a phrase; nothing when it is as declared."""
    kind, array = layout_of(name), arrays[name]
    if kind is None:
        return f"“{name}” is no array that a character has"
    if array.dtype != np.dtype(kind.dtype):
        return f"“{name}” holds {array.dtype}, not {np.dtype(kind.dtype)}"
    if array.ndim != (1 if kind.width == 0 else 2) or (kind.width > 0 and array.shape[1] != kind.width):
        return f"“{name}” has the shape {array.shape}"
    rows = {
        "point": len(arrays["points"]) if "points" in arrays else 0,
        "corner": len(arrays["face_corners"]) if "face_corners" in arrays else 0,
        "face": len(arrays["face_starts"]) - 1 if "face_starts" in arrays else 0,
    }.get(kind.per, len(array))
    if len(array) != rows:
        return f"“{name}” has {len(array):,} rows, not one for each {kind.per}"
    if array.dtype.kind == "f" and not np.isfinite(array).all():
        return f"“{name}” holds what is not a number"
    return ""


def runs_fault(starts: np.ndarray, flat: np.ndarray, count: int, least: int, what: str) -> str:
    """What is wrong with compressed rows (starts (r + 1,), flat (m,)) that name `count` points, `least` or more a row."""
    if not len(starts) or starts[0] != 0 or starts[-1] != len(flat) or (np.diff(starts) < least).any():
        return f"{what}s are out of order"
    if len(flat) and (flat.min() < 0 or flat.max() >= count):
        return f"a {what} names a point that isn't there"
    return ""
