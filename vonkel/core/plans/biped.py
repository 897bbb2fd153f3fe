"""The plan for bodies that stand on two legs, fitted to the mesh from its shape alone.

The body's branches (hands, feet, head, tail) are found as the tips of the distance from its middle through the
volume; their middles are followed inwards; slices tell crotch, ankle and neck.
"""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..errors import StepRefused
from ..geometry.voxels import Solid
from ..joints.inside import body_solid
from ..progress import tell
from . import landmarks as lm
from .arms import find_arm, lay_arm
from .legs import find_leg, lay_leg, lay_toes
from .sketch import Sketch
from .trunk import lay_face, lay_spine, lay_tail

MARKS = {
    "hips": "hips", "chest": "chest", "head": "head", "head_end": "crown", "upper_arm_L": "shoulder", "forearm_L": "elbow",
    "hand_L": "wrist", "middle_end_L": "fingertip", "index_end_L": "fingertip", "hand_end_L": "fingertip",
    "thigh_L": "hip", "shin_L": "knee", "foot_L": "ankle", "toe_end_L": "toe", "tail_end": "tail tip",
}  # fmt: skip


class BipedOptions(BaseModel):
    """How many joints the plan has.  Zero digits: a hand without fingers; digits −1: as many as the mesh shows."""

    model_config = ConfigDict(extra="forbid")
    spine: int = Field(3, ge=2, le=8, description="links between hips and neck, the chest included")
    neck: int = Field(1, ge=1, le=4)
    tail: int = Field(6, ge=2, le=24, description="links of the tail, where there is one")
    digits: int = Field(-1, ge=-1, le=5, description="fingers per hand, thumb included; −1: as the mesh shows")
    toes: int = Field(0, ge=-1, le=5, description="toes a foot; 0: none, −1: as the mesh shows")


def sketch_biped(character: Character, options: BipedOptions) -> Sketch:
    """Joints of a two-legged body.  Raises StepRefused saying which part of the body could not be found."""
    tell(0.05, "filling the body")
    solid = body_solid(character)
    if len(solid.cells) < 500:
        raise StepRefused("The body encloses too little to fit a plan.", character.name, "Close open borders first.")
    height = character.height
    centre = upright_middle(solid, height)
    distance = lm.from_cell(solid, centre)
    branches = lm.tips(solid, distance, 0.03 * height)
    tell(0.2, "finding legs and arms")
    leg = find_leg(character, solid, branches, centre)
    sketch = Sketch()
    arm = find_arm(character, solid, branches, centre, leg)
    tell(0.5, "finding the spine")
    lay_spine(character, solid, sketch, leg, arm, options.spine, options.neck)
    lay_leg(sketch, leg)
    tell(0.6, "finding the digits")
    lay_toes(character, sketch, "ball_L", "toe_end_L", "toe", options.toes)
    lay_arm(character, solid, sketch, arm, options.digits)
    lay_tail(character, solid, sketch, branches, options.tail)
    lay_face(character, solid, sketch)
    sketch.marks |= {n: word for n, word in MARKS.items() if n in sketch.found}
    return sketch


def upright_middle(solid: Solid, height: float) -> int:
    """The deepest cell of the body plane in the middle third of the height."""
    c = solid.centres
    share = (c[:, 1] - solid.low[1]) / height
    ok = np.flatnonzero((np.abs(c[:, 0]) < 0.75 * solid.h) & (share > 0.35) & (share < 0.7))
    if not len(ok):
        raise StepRefused("There is no body on the middle plane x = 0.", "", "Centre the model at the Model station.")
    return int(ok[np.argmax(solid.depth[ok])])
