"""Two legs of an upright body: hip, knee, ankle, ball and toes from slices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.topology import skin_triangles
from ..geometry.voxels import Solid, solid_from_mesh
from . import landmarks as lm
from .proportions import BIPED as P
from .sketch import Sketch
from .toes import toe_tips


@dataclass
class FoundLeg:
    hip: np.ndarray
    knee: np.ndarray
    ankle: np.ndarray
    ball: np.ndarray
    toe: np.ndarray
    crotch: float
    floor: float


def find_leg(character: Character, solid: Solid, branches: list[lm.Tip], centre: int) -> FoundLeg:
    height, floor = character.height, float(character.points[:, 1].min())
    low = [s for s in lm.slices_at(solid, floor + P.foot_slice * height) if not s.crosses_middle and s.centre[0] > 0]
    if not low:
        raise StepRefused(
            "The plan found no two feet on the ground.", character.name,
            "Is the model upright, centred, with its legs apart? Set that at the Model station.",
        )  # fmt: skip
    foot = max(low, key=lambda s: s.area)
    levels = np.arange(foot.y, floor + P.legs_most * height, solid.h)
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
    up = int(np.argmax(lengths[:below] < P.ankle_narrow * narrow))
    ankle = centres[up].copy()
    ankle[1] = min(ankle[1], floor + max(P.ankle_most * (crotch - floor), 2 * solid.h))
    # The leg's line between a third and the top of the column, taken on to the hip one thickness above the crotch.
    upper = centres[len(centres) // 3 :]
    ys = upper[:, 1] - crotch
    slope = [np.polyfit(ys, upper[:, k], 1) for k in (0, 2)]
    rise = P.hip_rise * thickness
    hip = np.array([np.polyval(slope[0], 0.0), crotch + rise, np.polyval(slope[1], rise)])
    middle = lm.slice_near(solid, np.array([0.0, hip[1], hip[2]]))
    if middle is not None:
        hip[0] = np.clip(hip[0], P.hip_out_least * middle.x[1], P.hip_out_most * middle.x[1])
        hip[2] = (1 - P.hip_back) * hip[2] + P.hip_back * float(
            middle.centre[2]
        )  # a leaning leg still hangs from the trunk's middle
    knee_y = ankle[1] + P.knee * (hip[1] - ankle[1])
    knee = np.array([np.interp(knee_y, centres[:, 1], centres[:, k]) for k in range(3)])
    sole = [s for s in column if s.y <= max(ankle[1], foot.y)] or [foot]
    heel, toe_z = min(s.z[0] for s in sole), max(s.z[1] for s in sole)
    foot_x = foot.centre[0]
    low_y = floor + max(P.ball_high * (ankle[1] - floor), 0.5 * solid.h)
    feet = [b for b in branches if b.place[0] > 0 and b.place[1] < ankle[1] + solid.h]
    toe_x = float(np.mean([b.place[0] for b in feet])) if feet else foot_x
    ball_z = heel + P.ball * (toe_z - heel)
    ball = np.array([foot_x + 0.6 * (toe_x - foot_x), low_y, ball_z])
    toe = np.array([toe_x, floor + 0.6 * (low_y - floor), toe_z])
    return FoundLeg(hip, knee, ankle, solid.kept(ball), toe, crotch, floor)


def lay_leg(sketch: Sketch, leg: FoundLeg) -> None:
    across = (1.0, 0.0, 0.0)
    sketch.put("thigh_L", "hips", leg.hip, "thigh", hinge=across)
    n = np.cross(leg.knee - leg.hip, leg.ankle - leg.knee)
    backward = n[0] < -P.knee_backward * np.linalg.norm(leg.knee - leg.hip) * np.linalg.norm(leg.ankle - leg.knee)
    sketch.put("shin_L", "thigh_L", leg.knee, "shin", hinge=(-1.0, 0.0, 0.0) if backward else across)
    sketch.put("foot_L", "shin_L", leg.ankle, "foot", hinge=across)
    sketch.put("ball_L", "foot_L", leg.ball, "ball", hinge=across)
    sketch.put("toe_end_L", "ball_L", leg.toe, "toe_end", deforms=False)


def lay_toes(character: Character, sketch: Sketch, ball: str, end: str, stem: str, wanted: int) -> None:
    """Toes of the left foot below the joint `ball`: two joints each, beginning inside the foot.

    They are the points of the foot's outline seen from above that stand out forward; `wanted` −1: as many as there are.
    """
    if not wanted:
        return
    place, tip = sketch.found[ball][1], sketch.found[end][1]
    long = max(float(np.linalg.norm((tip - place)[[0, 2]])), 1e-6)
    low = np.array([max(place[0] - 1.6 * long, 0.0), float(character.points[:, 1].min()), place[2] - 0.3 * long])
    high = np.array([place[0] + 1.6 * long, place[1] + 0.7 * long, tip[2] + 0.6 * long])
    cell = max(long / 48, (float(np.prod(high - low)) / 2e6) ** (1 / 3))
    fine = solid_from_mesh(character.points, skin_triangles(character), cell, (low, high))
    if not len(fine.cells):
        return
    for made, end_at in enumerate(toe_tips(fine, cell, low, long, wanted), 1):
        base = place + 0.35 * (end_at - place)
        base[0] = place[0] + 0.7 * (end_at[0] - place[0])  # toes run nearly side by side
        base = fine.kept(base)
        middle = fine.kept(0.45 * base + 0.55 * end_at)
        sketch.put_chain(f"{stem}_{made}", ball, np.array([base, middle, end_at]), "_L", (1.0, 0, 0))
