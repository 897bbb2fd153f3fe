"""The plan for bodies on many legs: n pairs, each followed from its tip on the ground into the trunk.

A leg has three joints: where it leaves the trunk, and the two sharpest bends between there and its tip.  Feelers are
long tips at the head that don't reach the ground.  The trunk runs along z: head before the legs, abdomen behind them.
"""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..errors import StepRefused
from ..geometry.measures import lengths_along
from ..geometry.voxels import Solid
from ..progress import tell
from . import landmarks as lm
from .shapes import Cut, bends, cut_at, cuts_along, deepest, evenly_along, filled, leaves_trunk, on_left
from .sketch import Sketch
from .trunk import lay_face


class ManyLeggedOptions(BaseModel):
    """How many joints the plan has; pairs −1: as many legs as stand on the ground."""

    model_config = ConfigDict(extra="forbid")
    pairs: int = Field(-1, ge=-1, le=40)
    abdomen: int = Field(3, ge=1, le=12)
    feeler: int = Field(5, ge=0, le=16, description="joints of each feeler, where there are feelers")
    bends: int = Field(2, ge=1, le=4, description="joints of a leg after the first")


def sketch_many_legged(character: Character, options: ManyLeggedOptions) -> Sketch:
    """Joints of a many-legged body.  Raises StepRefused where fewer than two pairs of legs stand on the ground."""
    tell(0.05, "filling the body")
    solid = filled(character, 150)
    centre = deepest(solid)
    distance = lm.from_cell(solid, centre)
    size, floor = character.size, float(character.points[:, 1].min())
    branches = [b for b in lm.tips(solid, distance, 0.05 * size) if abs(b.place[0]) > 1.5 * solid.h]
    trunk_y = float(solid.centres[centre, 1])
    left = [b for b in branches if b.place[0] > 0]
    legs = [b for b in left if b.place[1] - floor < 0.30 * (trunk_y - floor) and b.length > 0.12 * size]
    legs = _one_a_foot(legs, 0.09 * size)
    if options.pairs > 0:
        legs = sorted(legs, key=lambda b: -b.length)[: options.pairs]
    if len(legs) < 2:
        raise StepRefused(
            f"The plan found {len(legs)} legs on the left that stand on the ground.", character.name,
            "Are the legs apart, and part of the body? For four legs under the body use the four-legged plan.",
        )  # fmt: skip
    legs.sort(key=lambda b: -float(b.place[2]))
    tell(0.4, "following the legs")
    lines = []
    for b in legs:
        path = lm.way(solid, b.cell, centre, even=2.0)
        k = leaves_trunk(solid, path, 0.15)
        lines.append(path[: k + 1][::-1])
    roots = np.array([line[0] for line in lines])
    cuts = cuts_along(solid)
    sketch = Sketch()
    across = (1.0, 0.0, 0.0)

    def middle(z: float) -> np.ndarray:
        c = cut_at(cuts, z)
        return solid.kept(np.array([0.0, 0.5 * (c.low + c.high), z]))

    z_thorax = float(roots[:, 2].mean())
    front, back = cuts[-1].z, cuts[0].z
    head_z = _waist(cuts, max(float(roots[:, 2].max()), z_thorax + 0.25 * (front - z_thorax)), front)
    sketch.put("thorax", None, middle(z_thorax), "hips", hinge=across, mark="thorax")
    chest_z = 0.5 * (float(roots[:, 2].max()) + head_z)
    sketch.put("fore_thorax", "thorax", middle(chest_z), "chest", hinge=across)
    sketch.put("head", "fore_thorax", middle(head_z), "head", hinge=across, mark="head")
    sketch.put("head_end", "head", middle(front - solid.h), "head_end", deforms=False, mark="front")
    rear = _waist(cuts, back, min(float(roots[:, 2].min()), z_thorax), start=True)
    places = np.array([middle(float(z)) for z in np.linspace(rear, back + solid.h, options.abdomen + 1)])
    sketch.put_chain("abdomen", "thorax", places, hinge=across, mark="abdomen")
    tell(0.6, "bending the legs")
    for i, (line, tip) in enumerate(zip(lines, legs, strict=True)):
        corners = bends(line, options.bends, 0.14)
        normal = np.cross(corners[0] - line[0], on_left(tip) - corners[0])
        holder = "fore_thorax" if line[0][2] > 0.5 * (chest_z + z_thorax) and len(lines) > 2 else "thorax"
        names = ["thigh", "shin", "foot", "claw", "claw_2"]
        parent = holder
        for k, place in enumerate([line[0], *corners]):
            name = f"{names[k]}_{i + 1}_L"
            parent = sketch.put(
                name, parent, solid.kept(place), names[k], hinge=normal, mark=f"leg {i + 1}: root" if k == 0 else ""
            )
        sketch.put(f"toe_end_{i + 1}_L", parent, on_left(tip), "toe_end", deforms=False, mark=f"leg {i + 1}: tip")
    if options.feeler:
        _feelers(character, solid, sketch, left, legs, trunk_y, options.feeler)
    lay_face(character, solid, sketch, ears=False)
    return sketch


def _one_a_foot(legs: list[lm.Tip], near: float) -> list[lm.Tip]:
    """Of tips that stand close together (claws of one foot) the longest."""
    kept: list[lm.Tip] = []
    for b in sorted(legs, key=lambda b: -b.length):
        if all(np.linalg.norm(on_left(b) - on_left(k)) > near for k in kept):
            kept.append(b)
    return kept


def _waist(cuts: list[Cut], low: float, high: float, start: bool = False) -> float:
    """The narrowest cut between two places along z; where it only tapers, a third from the trunk's side."""
    between = [c for c in cuts if low < c.z < high]
    if len(between) < 5:
        return low + (high - low) * (0.85 if start else 0.4)
    inner = between[len(between) // 5 : -len(between) // 5]
    best = min(inner, key=lambda c: c.area)
    wider = max(c.area for c in (between[: between.index(best)] if start else between[between.index(best) :]))
    if wider > 1.15 * best.area:
        return best.z
    return low + (high - low) * (0.8 if start else 0.4)


def _feelers(
    character: Character, solid: Solid, sketch: Sketch, left: list[lm.Tip], legs: list[lm.Tip], trunk_y: float, links: int
) -> None:  # fmt: skip
    head = sketch.found["head"][1]
    long = [
        b for b in left
        if b not in legs and b.length > 0.14 * character.size and b.place[1] > trunk_y
        and b.place[2] > head[2] - 0.15 * character.size
    ]  # fmt: skip
    if not long:
        return
    tip = max(long, key=lambda b: b.length)
    path = lm.way(solid, tip.cell, int(solid.nearest(head[None])[0]), even=2.0)
    k = leaves_trunk(solid, path)
    line = path[: k + 1][::-1]
    total = float(lengths_along(line)[-1])
    places = evenly_along(line, 0.02 * total, total, links + 1)
    inside = np.array([solid.kept(p) for p in places[:-1]] + [on_left(tip)])
    sketch.put_chain("feeler", "head", inside, "_L", (1.0, 0, 0), mark="feeler")
