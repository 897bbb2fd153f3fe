"""What a finding is."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import BaseModel

Level = Literal["must", "should", "note"]


class Mend(BaseModel):
    """A step that would mend a finding, as a button's label."""

    label: str
    step: str
    params: dict[str, Any] = {}


class Finding(BaseModel):
    """`must`: the rig can't be handed over with it; `should`: it will show; `note`: worth knowing."""

    station: str
    level: Level
    title: str
    detail: str = ""
    joints: list[str] = []
    points: list[int] = []
    mend: Mend | None = None


def some(points: np.ndarray) -> list[int]:
    """The first few hundred: enough to see where."""
    return [int(p) for p in points[:400]]


def length(metres: float) -> str:
    a = abs(metres)
    return f"{metres:.2f} m" if a >= 2 else f"{100 * metres:.1f} cm" if a >= 0.01 else f"{1000 * metres:.2f} mm"


def counted(n: int, one: str, many: str) -> str:
    """“1 joint points …”, “3 joints point …”: the words with their count before them."""
    return f"{n:,} {one if n == 1 else many}"
