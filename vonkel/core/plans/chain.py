"""The plan for bodies that are one long chain: a larva, a snake, a trunk, a feeler, a rope.

The two places farthest apart through the volume are its ends; the joints stand evenly on the middle line between them.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..geometry.measures import lengths_along
from ..progress import tell
from . import landmarks as lm
from .shapes import evenly_along, filled
from .sketch import Sketch
from .trunk import lay_eye


class ChainPlanOptions(BaseModel):
    """How many joints, and which end is the root.  A body of blocks wants one joint a block."""

    model_config = ConfigDict(extra="forbid")
    joints: int = Field(10, ge=2, le=200)
    root: Literal["front", "back"] = Field("back", description="front: the end that lies farther forward, or higher")


def sketch_chain(character: Character, options: ChainPlanOptions) -> Sketch:
    """Joints of one long chain."""
    tell(0.1, "filling the body")
    solid = filled(character, 130)
    start = int(np.argmax(solid.depth))
    tell(0.4, "finding its ends")
    first = int(np.argmax(np.where(np.isfinite(d := lm.from_cell(solid, start)), d, -1)))
    second = int(np.argmax(np.where(np.isfinite(d := lm.from_cell(solid, first)), d, -1)))
    a, b = solid.centres[first], solid.centres[second]
    extent = np.abs(a - b)
    axis = 1 if extent[1] > 1.5 * extent[2] else 2 if extent[2] > 0.5 * extent[0] else 0
    front, back = (first, second) if a[axis] > b[axis] else (second, first)
    path = lm.way(solid, back, front)
    upright = (
        abs(float(path[:, 0].mean())) < 0.03 * character.size and float(np.ptp(path[:, 0])) < 0.12 * character.size
    )
    if upright:
        path[:, 0] = 0.0
    if options.root == "front":
        path = path[::-1]
    total = float(lengths_along(path)[-1])
    places = evenly_along(path, 0.5 * total / (options.joints + 1), total, options.joints + 1)
    inside = np.array([solid.kept(p) for p in places[:-1]] + [path[-1]])
    sketch = Sketch()
    parent: str | None = None
    hinge = (1.0, 0.0, 0.0) if upright else None
    for i, place in enumerate(inside[:-1]):
        name = f"chain_{i + 1}"
        word = {0: "root", len(inside) // 2: "middle"}.get(i, "")
        parent = sketch.put(name, parent, place, name, hinge=hinge, mark=word)
    sketch.put("chain_end", parent, inside[-1], "chain_end", deforms=False, mark="tip")
    head = f"chain_{options.joints}" if options.root == "back" else "chain_1"
    lay_eye(character, sketch, head, character.size)
    return sketch
