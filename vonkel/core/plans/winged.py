"""The plan for winged bodies: an upright trunk on two legs, and wings spread at rest.

The wing's fingers are the body's tips far to the side.  Their ways inwards run together at the wrist, where the wing
folds; from there to the shoulder it is an arm.  A wing with a single tip (feathers) is followed the same way and folds
where its line bends.  Membrane or feather joints hang on each arm bone and reach to the trailing edge.
"""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..errors import StepRefused
from ..geometry.measures import lengths_along
from ..geometry.topology import skin_points
from ..geometry.voxels import Solid
from ..progress import tell
from . import landmarks as lm
from .biped import upright_middle
from .finned import lay_long_trunk
from .legs import find_leg, lay_leg
from .shapes import bends, deepest, filled, leaves_trunk, without_sheets
from .sketch import Sketch
from .trunk import lay_face, lay_spine, lay_tail


class WingedOptions(BaseModel):
    """How many joints the plan has; `hung` is how many membrane or feather joints hang on each arm bone."""

    model_config = ConfigDict(extra="forbid")
    spine: int = Field(3, ge=2, le=8)
    neck: int = Field(1, ge=1, le=8)
    tail: int = Field(4, ge=2, le=24, description="links of the tail, where there is one")
    fingers: int = Field(-1, ge=-1, le=6, description="−1: as the mesh shows")
    links: int = Field(3, ge=1, le=6, description="joints of each wing finger")
    hung: int = Field(2, ge=0, le=8)


def sketch_winged(character: Character, options: WingedOptions) -> Sketch:
    """Joints of a winged body.  Raises StepRefused saying which part of the body could not be found."""
    tell(0.05, "filling the body")
    solid = without_sheets(filled(character, 260))
    try:
        return _upright(character, solid, options)
    except StepRefused as upright:
        # No two legs to stand on: a body that flies along z.
        try:
            return _lying(character, solid, options)
        except StepRefused:
            raise upright from None


def _upright(character: Character, solid: Solid, options: WingedOptions) -> Sketch:
    height = character.height
    centre = upright_middle(solid, height)
    distance = lm.from_cell(solid, centre)
    branches = lm.tips(solid, distance, 0.03 * height)
    sketch = Sketch()
    tell(0.3, "finding legs")
    leg = find_leg(character, solid, branches, centre)
    tell(0.4, "following the wings")
    wing = _wing(character, solid, branches, centre, options)
    tell(0.6, "finding the spine")
    lay_spine(character, solid, sketch, leg, None, options.spine, options.neck)
    lay_leg(sketch, leg)
    _lay_wing(character, solid, sketch, wing, options)
    lay_tail(character, solid, sketch, branches, options.tail)
    lay_face(character, solid, sketch)
    words = {"hips": "hips", "chest": "chest", "head": "head", "head_end": "crown", "thigh_L": "hip", "shin_L": "knee",
             "foot_L": "ankle", "tail_end": "tail tip"}  # fmt: skip
    sketch.marks |= {n: w for n, w in words.items() if n in sketch.found}
    return sketch


def _lying(character: Character, solid: Solid, options: WingedOptions) -> Sketch:
    tell(0.3, "following the wings")
    centre = deepest(solid)
    distance = lm.from_cell(solid, centre)
    branches = lm.tips(solid, distance, 0.05 * character.size)
    wing = _wing(character, solid, branches, centre, options)
    sketch = Sketch()
    tell(0.6, "finding the spine")
    lay_long_trunk(solid, sketch, centre, distance, float(wing.shoulder[2]), options.spine, options.neck, options.tail)
    _lay_wing(character, solid, sketch, wing, options)
    lay_face(character, solid, sketch)
    return sketch


class _Wing:
    """Shoulder, elbow, wrist (3,) and the fingers' ways from the wrist to their tips; the thumb's, where there is one."""

    def __init__(self, shoulder: np.ndarray, elbow: np.ndarray, wrist: np.ndarray) -> None:
        self.shoulder, self.elbow, self.wrist = shoulder, elbow, wrist
        self.fingers: list[np.ndarray] = []
        self.thumb: np.ndarray | None = None


def _wing(character: Character, solid: Solid, branches: list[lm.Tip], centre: int, options: WingedOptions) -> _Wing:
    span = float(solid.centres[:, 0].max())
    out = [b for b in branches if b.place[0] > 0.35 * span and b.length > 0.06 * character.size]
    if span < 0.2 * character.size:
        out = []
    if not out:
        raise StepRefused(
            "The plan found no wing to the side.", character.name, "Are the wings spread, and part of the body?"
        )
    ways = [lm.way(solid, b.cell, centre, even=2.0) for b in out]
    order = sorted(range(len(out)), key=lambda i: -lengths_along(ways[i])[-1])
    longest = ways[order[0]]
    root = leaves_trunk(solid, longest, 0.4)
    arm_and_hand = longest[: root + 1]
    fingers = [order[0]]
    meets: list[float] = []
    for i in order[1:]:
        m, own = _meeting(longest, ways[i], 1.6 * solid.h)
        if own > 0.06 * span and m < lengths_along(arm_and_hand)[-1]:
            fingers.append(i)
            meets.append(m)
    along = lengths_along(arm_and_hand)
    if meets:
        wrist_s = float(np.median(sorted(meets)[-max(1, len(meets) // 2 + 1) :]))
        wrist = lm.at_length(arm_and_hand, wrist_s)
        arm = np.vstack([wrist[None], arm_and_hand[along > wrist_s]])
        elbow = bends(arm, 1, 0.2)[0] if len(arm) > 5 else 0.5 * (wrist + arm_and_hand[-1])
    else:
        corners = bends(arm_and_hand, 2, 0.2)
        wrist, elbow = corners[0], corners[1]
        wrist_s = float(along[np.argmin(np.linalg.norm(arm_and_hand - wrist, axis=1))])
    wing = _Wing(arm_and_hand[-1], elbow, wrist)
    if not meets:
        wing.fingers = [arm_and_hand[along <= wrist_s][::-1]]
        return wing
    reach = max(float(np.linalg.norm(out[i].place - wrist)) for i in fingers)
    for i in fingers:
        d = np.linalg.norm(ways[i] - wrist, axis=1)
        k = int(np.argmin(d))
        line = np.vstack([ways[i][: k + 1], wrist[None]])[::-1]
        if np.linalg.norm(out[i].place - wrist) < 0.4 * reach:
            wing.thumb = line if wing.thumb is None else wing.thumb
        else:
            wing.fingers.append(line)
    wing.fingers.sort(key=lambda line: -float(np.arctan2(line[-1, 1] - wrist[1], line[-1, 0] - wrist[0])))
    if options.fingers >= 0:
        wing.fingers = wing.fingers[: options.fingers]
    return wing


def _meeting(path: np.ndarray, other: np.ndarray, near: float) -> tuple[float, float]:
    """Metres along `path` and along `other`, each from its own tip, to where `other` runs into `path`."""
    along, own = lengths_along(path), lengths_along(other)
    for p, s in zip(other, own, strict=True):
        d = np.linalg.norm(path - p, axis=1)
        k = int(np.argmin(d))
        if d[k] < near:
            return float(along[k]), float(s)
    return float(along[-1]), float(own[-1])


def _lay_wing(character: Character, solid: Solid, sketch: Sketch, wing: _Wing, options: WingedOptions) -> None:
    chest = sketch.last("chest")
    normal = np.cross(wing.elbow - wing.shoulder, wing.wrist - wing.elbow)
    if np.linalg.norm(normal) < 1e-6 * character.size**2:
        normal = np.array([0.0, 0.0, 1.0])
    collar = np.array([0.35 * wing.shoulder[0], wing.shoulder[1], sketch.found[chest][1][2]])
    sketch.put("collar_L", chest, solid.kept(collar), "collar", hinge=(0.0, 0.0, 1.0))
    sketch.put("upper_arm_L", "collar_L", solid.kept(wing.shoulder), "upper_arm", hinge=normal, mark="shoulder")
    sketch.put("forearm_L", "upper_arm_L", solid.kept(wing.elbow), "forearm", hinge=normal, mark="elbow")
    sketch.put("hand_L", "forearm_L", solid.kept(wing.wrist), "hand", hinge=-normal, mark="wrist, where the wing folds")
    for k, line in enumerate(wing.fingers):
        inner = [solid.kept(p) for p in _links(line, options.links)]
        sketch.put_chain(f"wing_{k + 1}", "hand_L", np.array([*inner, line[-1]]), "_L", -normal)
        sketch.marks[f"wing_{k + 1}_end_L"] = f"wing tip {k + 1}"
    if wing.thumb is not None:
        base = lm.at_length(wing.thumb, 0.2 * lengths_along(wing.thumb)[-1])
        sketch.put_chain("thumb", "hand_L", np.array([solid.kept(base), wing.thumb[-1]]), "_L", -normal)
    for name, a, b in (("upper_arm_L", wing.shoulder, wing.elbow), ("forearm_L", wing.elbow, wing.wrist)):
        for k in range(options.hung):
            root = a + (b - a) * (k + 0.5) / options.hung
            edge = _trailing_edge(character, root, b - a, wing)
            if edge is None:
                continue
            stem = f"membrane_{name[:-2]}_{k + 1}"
            sketch.put(f"{stem}_L", name, solid.kept(root), "membrane", hinge=b - a)
            sketch.put(f"{stem}_end_L", f"{stem}_L", edge, "membrane_end", deforms=False)


def _links(line: np.ndarray, count: int) -> list[np.ndarray]:
    """Where a finger's joints lie: a little past the wrist, then at its bends."""
    total = lengths_along(line)[-1]
    first = lm.at_length(line, 0.04 * total)
    return [first, *(bends(line, count - 1, 0.18) if count > 1 else [])]


def _trailing_edge(character: Character, root: np.ndarray, bone: np.ndarray, wing: _Wing) -> np.ndarray | None:
    """The mesh's farthest point behind a place on an arm bone, across the bone and away from the leading edge."""
    bone = bone / np.linalg.norm(bone)
    down = np.array([0.0, -1.0, 0.0])
    down = down - bone * (down @ bone)
    down = down / max(float(np.linalg.norm(down)), 1e-9)
    skin = np.flatnonzero(skin_points(character))
    off = character.points[skin] - root
    near = (
        (np.abs(off @ bone) < 0.035 * character.size)
        & (off @ down > 0)
        & (character.points[skin, 0] > 1.05 * wing.shoulder[0])
    )
    sheet = np.cross(bone, down)
    near &= np.abs(off @ sheet) < 0.06 * character.size
    if not near.any():
        return None
    reach = off[near] @ down
    far = float(reach.max())
    if far < 0.05 * character.size:
        return None
    tip = character.points[skin[np.flatnonzero(near)[int(reach.argmax())]]]
    return np.asarray(root + down * far * 0.96 + sheet * float((tip - root) @ sheet))
