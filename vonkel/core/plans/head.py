"""The plan for a head alone, such as a bust: a root at the base, the neck, the head, jaw, eyes and ears."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..errors import StepRefused
from ..geometry.voxels import Solid
from ..progress import tell
from . import landmarks as lm
from .shapes import filled
from .sketch import Sketch
from .trunk import lay_face

GUESSED = 0.07  # how far a jaw may be that only the face's outline tells of, a share of the size


class HeadPlanOptions(BaseModel):
    """How many joints the neck has, and whether a jaw is guessed where no teeth or tongue tell of one."""

    model_config = ConfigDict(extra="forbid")
    neck: int = Field(2, ge=1, le=6)
    jaw: Literal["auto", "yes", "no"] = Field(
        "auto", description="auto: from teeth and tongue, or guessed from the face"
    )


def sketch_head(character: Character, options: HeadPlanOptions) -> Sketch:
    """Joints of a head alone.  Raises StepRefused where nothing stands on the body plane."""
    tell(0.1, "filling the head")
    solid = filled(character, 120)
    height, floor = character.height, float(character.points[:, 1].min())
    levels = np.arange(floor + 0.5 * solid.h, floor + height, solid.h)
    pieces = []
    for y in levels:
        crossing = [s for s in lm.slices_at(solid, float(y)) if s.crosses_middle]
        pieces.append(max(crossing, key=lambda s: s.area) if crossing else None)
    known = [p for p in pieces if p is not None]
    if len(known) < 8:
        raise StepRefused("There is no head on the middle plane x = 0.", character.name, "Centre the model first.")
    areas = np.array([p.area for p in known])
    # The neck is the narrowest level below the head's widest one; a head without a neck sits on its base.
    upper = int(len(known) * 0.3) + int(np.argmax(areas[int(len(known) * 0.3) :]))
    narrow = int(np.argmin(areas[: upper + 1]))
    head_at = known[narrow] if narrow > 1 else known[max(1, len(known) // 8)]
    girth = float(np.sqrt(head_at.area / np.pi))
    top = float(known[-1].y)
    sketch = Sketch()
    across = (1.0, 0.0, 0.0)
    head_y = min(head_at.y + 0.5 * girth, floor + 0.6 * height)
    base = _middle(solid, floor + 0.06 * height, None)
    sketch.put("root", None, base, "chest", hinge=across, mark="base")
    neck_from = 0.5 * (base[1] + min(head_at.y, head_y))
    z = float(base[2])
    necks = []
    for i in range(options.neck):
        necks.append(_middle(solid, float(neck_from + (head_y - neck_from) * i / options.neck), z))
        z = float(necks[-1][2])
    above = sketch.put_neck("root", np.array(necks), across, mark="neck")
    sketch.put("head", above, _middle(solid, head_y, z), "head", hinge=across, mark="head")
    sketch.put(
        "head_end", "head", np.array([0.0, top, sketch.found["head"][1][2]]), "head_end", deforms=False, mark="crown"
    )
    lay_face(character, solid, sketch)
    if options.jaw == "no":
        for n in ("jaw", "jaw_end"):
            sketch.found.pop(n, None)
    elif "jaw" not in sketch.found:
        _guess_jaw(character, solid, sketch)
    for n, word in (("jaw", "jaw hinge"), ("jaw_end", "chin"), ("eye_L", "eye"), ("ear_L", "ear")):
        if n in sketch.found:
            sketch.marks[n] = word
    return sketch


def _middle(solid: Solid, y: float, near_z: float | None) -> np.ndarray:
    place = lm.deepest_in_middle(solid, y, near_z, 0.2 * solid.h * solid.inside.shape[2])
    return place if place is not None else solid.kept(np.array([0.0, y, near_z or 0.0]))


def _guess_jaw(character: Character, solid: Solid, sketch: Sketch) -> None:
    """A jaw where none is modelled: hinged below the ear line, behind the eyes, its end at the chin.

    The chin is the most forward place of the lowest third of the face (common practice).
    """
    head = sketch.found["head"][1]
    top = float(sketch.found["head_end"][1][1])
    eye = sketch.found.get("eye_L")
    eye_y = float(eye[1][1]) if eye else head[1] + 0.5 * (top - head[1])
    c = solid.centres
    lower = (
        (np.abs(c[:, 0]) < 0.75 * solid.h)
        & (c[:, 1] < eye_y - 0.12 * (top - head[1]))
        & (c[:, 1] > head[1] - 0.35 * (top - head[1]))
    )
    if not lower.any():
        return
    front = c[lower][int(np.argmax(c[lower, 2] - 0.35 * (c[lower, 1] - head[1])))]
    back = (
        float(eye[1][2]) - 0.55 * (float(eye[1][2]) - float(head[2])) - 0.05 * (top - head[1])
        if eye
        else float(head[2])
    )
    hinge = np.array([0.0, front[1] + 0.3 * (eye_y - front[1]), min(back, front[2] - 0.3 * (top - head[1]))])
    # Nothing is modelled that says there is a jaw: the rigger is asked.
    sketch.put("jaw", "head", solid.kept(hinge), "jaw", hinge=(1.0, 0, 0), spread=GUESSED)
    sketch.put("jaw_end", "jaw", front, "jaw_end", deforms=False, spread=GUESSED)
