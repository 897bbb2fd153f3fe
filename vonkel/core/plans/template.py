"""A neutral skeleton for each plan, sized to a body's bounding box: what the rigger starts from where nothing was found."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from ..character import Character
from .frame import BodyFrame
from .sketch import Sketch

FILE = Path(__file__).with_name("templates.json")
NOWHERE = 0.3  # the spread of a place that nothing was found for


@cache
def _templates() -> dict[str, list[Any]]:
    told: dict[str, list[Any]] = json.loads(FILE.read_text(encoding="utf-8"))
    return told


def sketch_from_template(character: Character, plan: str) -> Sketch:
    """The plan's neutral joints in the character's bounding box, facing +Z, every one of them not found."""
    low, high = character.points.min(0), character.points.max(0)
    middle = np.array([0.5 * (low[0] + high[0]), 0.0, 0.0])
    sketch = Sketch(frame=BodyFrame(shift=-middle))
    for name, parent, role, deforms, place, hinge, mark in _templates()[plan]:
        p = low + np.array(place) * (high - low)
        sketch.put(name, parent, p, role, deforms, hinge, mark, NOWHERE)
    both = sketch.both_sides()
    both.frame = BodyFrame(shift=-middle, even=False)
    return both
