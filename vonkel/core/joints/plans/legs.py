"""Two legs of an upright body: hip, knee, ankle, ball and toes from slices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...character import Character
from ...errors import StepRefused
from ...geometry.voxels import Solid
from . import landmarks as lm
from .sketch import Sketch


@dataclass
class Leg:
    hip: np.ndarray
    knee: np.ndarray
    ankle: np.ndarray
    ball: np.ndarray
    toe: np.ndarray
    crotch: float
    floor: float


def find_leg(character: Character, solid: Solid, branches: list[lm.Tip], centre: int) -> Leg:
    height, floor = character.height, float(character.points[:, 1].min())
    low = [s for s in lm.slices_at(solid, floor + 0.03 * height) if not s.crosses_middle and s.centre[0] > 0]
    if not low:
        raise StepRefused(
            "The plan found no two feet on the ground.", character.name,
            "Is the model upright, centred, with its legs apart? Set that at the Model station.",
        )  # fmt: skip
    foot = max(low, key=lambda s: s.area)
    levels = np.arange(foot.y, floor + 0.75 * height, solid.h)
    column: list[lm.Slice] = []
    here = foot
    crotch = None
    for y in levels:
        piece = lm.slice_near(solid, np.array([here.centre[0], y, here.centre[2]]))
        if piece is None:
            break
        if piece.crosses_middle:
            crotch = float(y)
            break
        column.append(piece)
        here = piece
    if crotch is None or len(column) < 4:
        raise StepRefused(
            "The plan found no place where the legs meet.", character.name, "Are the legs parts of the body?"
        )
    centres = np.array([s.centre for s in column])
    top = column[-max(3, len(column) // 8) :]
    thickness = float(np.sqrt(np.mean([s.area for s in top]) / np.pi))
    # The ankle: where, going up, the slice has become about as short from front to back as the shin is.
    lengths = np.array([s.z[1] - s.z[0] for s in column])
    below = max(3, int(len(column) * 0.6))
    narrow = lengths[:below].min()
    up = int(np.argmax(lengths[:below] < 1.45 * narrow))
    ankle = centres[up].copy()
    ankle[1] = min(ankle[1], floor + max(0.35 * (crotch - floor), 2 * solid.h))
    # The leg's line between a third and the top of the column, taken on to the hip one thickness above the crotch.
    upper = centres[len(centres) // 3 :]
    ys = upper[:, 1] - crotch
    slope = [np.polyfit(ys, upper[:, k], 1) for k in (0, 2)]
    rise = 1.0 * thickness
    hip = np.array([np.polyval(slope[0], 0.0), crotch + rise, np.polyval(slope[1], rise)])
    middle = lm.slice_near(solid, np.array([0.0, hip[1], hip[2]]))
    if middle is not None:
        hip[0] = np.clip(hip[0], 0.25 * middle.x[1], 0.75 * middle.x[1])
        hip[2] = 0.75 * hip[2] + 0.25 * float(middle.centre[2])  # a leaning leg still hangs from the trunk's middle
    knee_y = 0.5 * (hip[1] + ankle[1])
    knee = np.array([np.interp(knee_y, centres[:, 1], centres[:, k]) for k in range(3)])
    sole = [s for s in column if s.y <= max(ankle[1], foot.y)] or [foot]
    heel, toe_z = min(s.z[0] for s in sole), max(s.z[1] for s in sole)
    foot_x = foot.centre[0]
    low_y = floor + max(0.35 * (ankle[1] - floor), 0.5 * solid.h)
    feet = [b for b in branches if b.place[0] > 0 and b.place[1] < ankle[1] + solid.h]
    toe_x = float(np.mean([b.place[0] for b in feet])) if feet else foot_x
    ball_z = heel + 0.72 * (toe_z - heel)
    ball = np.array([foot_x + 0.6 * (toe_x - foot_x), low_y, ball_z])
    toe = np.array([toe_x, floor + 0.6 * (low_y - floor), toe_z])
    near = solid.nearest(ball[None])[0]
    if not solid.contains(ball[None])[0]:
        ball = solid.centres[near]
    return Leg(hip, knee, ankle, ball, toe, crotch, floor)


def lay_leg(sketch: Sketch, leg: Leg) -> None:
    across = (1.0, 0.0, 0.0)
    sketch.put("thigh_L", "hips", leg.hip, "thigh", hinge=across)
    n = np.cross(leg.knee - leg.hip, leg.ankle - leg.knee)
    backward = n[0] < -0.12 * np.linalg.norm(leg.knee - leg.hip) * np.linalg.norm(leg.ankle - leg.knee)
    sketch.put("shin_L", "thigh_L", leg.knee, "shin", hinge=(-1.0, 0.0, 0.0) if backward else across)
    sketch.put("foot_L", "shin_L", leg.ankle, "foot", hinge=across)
    sketch.put("ball_L", "foot_L", leg.ball, "ball", hinge=across)
    sketch.put("toe_end_L", "ball_L", leg.toe, "toe_end", deforms=False)
