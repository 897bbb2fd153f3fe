"""The plan for bodies on four legs: a trunk along z between two pairs of legs, neck and head before it, tail behind.

Legs come in three builds.  A plantigrade one stands on its whole foot; a digitigrade one on its toes, the hock raised;
an unguligrade one on a hoof, with a long cannon bone above a fetlock.  Which it is shows in how far up the limb the
foot reaches.  Shoulder joint and elbow: the elbow lies at the chest's lower edge, the shoulder joint above and before
it, the blade's top near the withers (common practice).
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..errors import StepRefused
from ..geometry.measures import lengths_along
from ..geometry.voxels import Solid
from ..progress import tell
from . import landmarks as lm
from .legs import lay_toes
from .shapes import Cut, bend_near, cut_at, cuts_along, deepest, evenly_along, eyes_middle, filled, neck_end
from .sketch import Sketch
from .trunk import lay_face

# Where wrist or hock, and the ball, stand on the way from the ground to elbow or knee (shares of that height; measured
# on the demo cast and on drawings of a bear, a dog and a deer: common practice).
BUILDS = {"plantigrade": (0.26, 0.10), "digitigrade": (0.42, 0.13), "unguligrade": (0.52, 0.20)}
# The roles whose places follow from the build.
BY_BUILD = ("shin", "foot", "ball", "forearm", "hand", "fore_ball")


class QuadrupedOptions(BaseModel):
    """How many joints the plan has, and how the legs are built; “auto” looks at the feet."""

    model_config = ConfigDict(extra="forbid")
    spine: int = Field(4, ge=2, le=10, description="links between hips and neck, the chest included")
    neck: int = Field(3, ge=1, le=12)
    tail: int = Field(6, ge=0, le=24)
    toes: int = Field(0, ge=-1, le=5, description="toes a foot; 0: none, −1: as the mesh shows")
    legs: Literal["auto", "plantigrade", "digitigrade", "unguligrade"] = "auto"


def sketch_quadruped(character: Character, options: QuadrupedOptions) -> Sketch:
    """Joints of a four-legged body.  Raises StepRefused saying which part of the body could not be found."""
    tell(0.05, "filling the body")
    solid = filled(character, 140)
    floor = float(solid.low[1]) + 2 * solid.h
    cuts = cuts_along(solid)
    tell(0.2, "finding the feet")
    fore, hind = _feet(character, solid, floor)
    tell(0.4, "following the legs")
    fore_line, fore_belly = _column(solid, fore, floor)
    hind_line, hind_belly = _column(solid, hind, floor)
    z_fore, z_hind = float(fore_line[-1, 2]), float(hind_line[-1, 2])
    fore_cut, hind_cut = cut_at(cuts, z_fore), cut_at(cuts, z_hind)
    build = options.legs if options.legs != "auto" else build_of(solid, hind_line, floor)
    sketch = Sketch()
    across = (1.0, 0.0, 0.0)

    def back_line(z: float) -> np.ndarray:
        c = cut_at(cuts, z)
        return solid.kept(np.array([0.0, c.low + 0.68 * (c.high - c.low), z]))

    tell(0.5, "finding the spine")
    hips_z = z_hind - 0.02 * character.size
    hips = back_line(hips_z)
    sketch.put("hips", None, hips, "hips", hinge=across, mark="hips")
    chest_z = z_fore + 0.15 * (z_fore - z_hind)
    zs = np.linspace(hips_z, chest_z, options.spine + 2)[1:-1]
    sketch.put_spine("hips", np.array([back_line(float(z)) for z in zs]), across, mark="chest")
    tell(0.6, "finding neck and head")
    _neck_and_head(character, solid, sketch, chest_z, cut_at(cuts, chest_z), options.neck)
    _tail(character, solid, sketch, hips, options.tail)
    _hind_leg(solid, sketch, hind_line, hind_belly, hind_cut, build)
    _fore_leg(solid, sketch, fore_line, fore_belly, fore_cut, build)
    lay_toes(character, sketch, "ball_L", "toe_end_L", "toe", options.toes)
    lay_toes(character, sketch, "fore_ball_L", "fore_toe_end_L", "fore_toe", options.toes)
    tell(0.85, "finding the face")
    lay_face(character, solid, sketch)
    return sketch


def _feet(character: Character, solid: Solid, floor: float) -> tuple[np.ndarray, np.ndarray]:
    """Where the left fore and hind foot stand: their middles at the ground."""
    found: list[lm.Slice] = []
    for share in (0.03, 0.05, 0.08):
        found = [
            s for s in lm.slices_at(solid, floor + share * character.height) if s.centre[0] > 0 and not s.crosses_middle
        ]
        if len(found) >= 2:
            break
    if len(found) < 2:
        raise StepRefused(
            "The plan found no four feet on the ground.", character.name,
            "Does the model stand along z, feet apart, on the ground? Set that at the Model station.",
        )  # fmt: skip
    zs = np.array([s.centre[2] for s in found])
    areas = np.array([s.area for s in found])
    order = np.argsort(zs)
    gaps = np.diff(zs[order])
    k = int(np.argmax(gaps)) + 1  # the widest gap parts fore from hind; toes of one foot lie near each other
    groups = [order[:k], order[k:]]
    hind, fore = (np.average(np.array([found[i].centre for i in g]), axis=0, weights=areas[g]) for g in groups)
    return fore, hind


def _column(solid: Solid, foot: np.ndarray, floor: float) -> tuple[np.ndarray, float]:
    """The middle line of a leg from the ground to where it enters the trunk, and the height of that place."""
    line = [foot]
    areas: list[float] = []
    here = foot
    for y in np.arange(foot[1], floor + 0.9 * (solid.inside.shape[1] * solid.h), solid.h):
        piece = lm.slice_near(solid, np.array([here[0], y, here[2]]))
        if piece is None or piece.crosses_middle:
            break
        if len(areas) > 4 and piece.area > 3.2 * float(np.median(areas[1:])):
            break
        if abs(piece.centre[2] - here[2]) > 6 * solid.h:
            break
        areas.append(piece.area)
        line.append(piece.centre)
        here = piece.centre
    if len(line) < 5:
        raise StepRefused("A leg could not be followed upwards.", "", "Are the legs apart and part of the body?")
    return np.array(line), float(line[-1][1])


def build_of(solid: Solid, line: np.ndarray, floor: float) -> str:
    """Which build a hind leg has.

    Above the foot the line of a leg that stands on its whole sole runs straight or bends forward at the knee; a raised
    heel swings it back behind the chord between there and the trunk.  How high the heel is and how thin the leg below
    it tell toes from hooves.
    """
    along = (line[:, 1] - line[0, 1]) / max(line[-1, 1] - line[0, 1], 1e-9)
    upper = np.flatnonzero((along > 0.27) & (along < 0.97))
    if len(upper) < 5:
        return "plantigrade"
    piece, share = line[upper], along[upper]
    t = (share - share[0]) / max(share[-1] - share[0], 1e-9)
    chord = piece[0] + t[:, None] * (piece[-1] - piece[0])
    behind = (chord - piece)[:, 2] / max(float(np.linalg.norm(piece[-1] - piece[0])), 1e-9)
    k = int(np.argmax(behind))
    if behind[k] < 0.05:
        return "plantigrade"
    depth = solid.depth[solid.nearest(line)]
    thin = float(depth[(along > 0.1) & (along < 0.4)].mean() / max(float(depth[-3:].mean()), 1e-9))
    return "unguligrade" if share[k] > 0.5 and thin < 0.45 else "digitigrade"


def _leg_places(line: np.ndarray, build: str, top: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Wrist or hock, ball, and the toe's tip on a leg's line whose elbow or knee is at `top`."""
    upper, lower = BUILDS[build]
    ground = float(line[0, 1])
    tall = top[1] - ground

    def at(share: float) -> np.ndarray:
        y = ground + share * tall
        return np.array([np.interp(y, line[:, 1], line[:, 0]), y, np.interp(y, line[:, 1], line[:, 2])])

    reach = 0.10 if build != "plantigrade" else 0.05
    path = line[line[:, 1] <= top[1]]
    middle = bend_near(path, upper, reach) if len(path) > 6 else at(upper)
    return middle, at(lower), line[0]


def _toe(solid: Solid, foot: np.ndarray) -> np.ndarray:
    """The front of the foot that stands at `foot`, at the height of its middle."""
    c = solid.centres
    near = (
        (np.abs(c[:, 0] - foot[0]) < 5 * solid.h)
        & (np.abs(c[:, 1] - foot[1]) < 2.5 * solid.h)
        & (np.abs(c[:, 2] - foot[2]) < 12 * solid.h)
    )
    if not near.any():
        return foot
    z = float(c[near, 2].max())
    return np.array([foot[0], foot[1], z])


def _hind_leg(solid: Solid, sketch: Sketch, line: np.ndarray, belly: float, cut: Cut, build: str) -> None:
    top = line[-1]
    thick = float(solid.depth[solid.nearest(top[None])[0]])
    hip_y = belly + 0.55 * max(cut.high - belly, thick)
    hip = np.array([np.clip(top[0] * 0.85, 0.25 * cut.half_width, 0.75 * cut.half_width), hip_y, top[2] - 0.35 * thick])
    tall = hip_y - line[0, 1]
    knee_y = min(line[0, 1] + 0.58 * tall, belly + 0.15 * thick)
    knee = np.array([np.interp(knee_y, line[:, 1], line[:, k]) for k in (0, 1, 2)])
    knee[1] = knee_y
    knee[2] += 0.30 * thick  # the knee lies to the front of the thigh
    hock, ball, foot = _leg_places(line, build, knee)
    toe = _toe(solid, foot)
    across = (1.0, 0.0, 0.0)
    hip, knee, hock = (solid.kept(p) for p in (hip, knee, hock))
    bend = _hinge(hip, knee, hock, across)
    sketch.put("thigh_L", "hips", hip, "thigh", hinge=bend, mark="hip")
    sketch.put("shin_L", "thigh_L", knee, "shin", hinge=bend, mark="knee")
    word = "ankle" if build == "plantigrade" else "hock"
    sketch.put("foot_L", "shin_L", hock, "foot", hinge=across, mark=word)
    sketch.put("ball_L", "foot_L", solid.kept(_before(ball, toe)), "ball", hinge=across)
    sketch.put("toe_end_L", "ball_L", toe, "toe_end", deforms=False, mark="hind toe")


def _fore_leg(solid: Solid, sketch: Sketch, line: np.ndarray, belly: float, cut: Cut, build: str) -> None:
    top = line[-1]
    thick = float(solid.depth[solid.nearest(top[None])[0]])
    trunk = max(cut.high - belly, thick)
    elbow = np.array([top[0], belly + 0.02 * trunk, top[2] - 0.25 * thick])
    x = float(np.clip(top[0] * 0.9, 0.25 * cut.half_width, 0.8 * cut.half_width))
    shoulder = np.array([x, belly + 0.42 * trunk, top[2] + 0.45 * thick])
    blade = np.array([0.55 * x, belly + 0.84 * trunk, top[2] - 0.10 * thick])
    wrist, ball, foot = _leg_places(line, build, elbow)
    toe = _toe(solid, foot)
    across = (1.0, 0.0, 0.0)
    sketch.put("collar_L", "chest", solid.kept(blade), "collar", hinge=across)
    shoulder, elbow, wrist = (solid.kept(p) for p in (shoulder, elbow, wrist))
    bend = _hinge(shoulder, elbow, wrist, (-1.0, 0.0, 0.0))
    sketch.put("upper_arm_L", "collar_L", shoulder, "upper_arm", hinge=bend, mark="shoulder")
    sketch.put("forearm_L", "upper_arm_L", elbow, "forearm", hinge=bend, mark="elbow")
    sketch.put("hand_L", "forearm_L", wrist, "hand", hinge=across, mark="wrist")
    sketch.put("fore_ball_L", "hand_L", solid.kept(_before(ball, toe)), "fore_ball", hinge=across)
    sketch.put("fore_toe_end_L", "fore_ball_L", toe, "fore_toe_end", deforms=False, mark="fore toe")


def _hinge(
    a: np.ndarray, b: np.ndarray, c: np.ndarray, straight: tuple[float, float, float]
) -> np.ndarray | tuple[float, float, float]:  # fmt: skip
    """The axis of the bend at b on the way from a to c; `straight` where there is hardly any."""
    n = np.cross(b - a, c - b)
    return n if np.linalg.norm(n) > 0.1 * np.linalg.norm(b - a) * np.linalg.norm(c - b) else straight


def _before(ball: np.ndarray, toe: np.ndarray) -> np.ndarray:
    """The ball a third of the way towards the toe's tip."""
    return np.asarray(ball + np.array([0.0, 0.0, 0.35 * max(toe[2] - ball[2], 0.0)]))


def _neck_and_head(character: Character, solid: Solid, sketch: Sketch, chest_z: float, chest: Cut, links: int) -> None:
    c = solid.centres
    start = deepest(solid, np.abs(c[:, 2] - chest_z) < 2 * solid.h)
    distance = lm.from_cell(solid, start)
    ahead = np.isfinite(distance) & (c[:, 2] > chest_z) & (c[:, 1] > chest.low)
    if not ahead.any():
        raise StepRefused("The plan found no head before the forelegs.", character.name, "Does the model face +Z?")
    # The muzzle: of what lies far along the neck and on the body plane, the most forward.  Ears and horns are off it.
    far = ahead & (distance > 0.72 * distance[ahead].max()) & (np.abs(c[:, 0]) < 0.75 * solid.h)
    if not far.any():
        raise StepRefused("The plan found no head on the body plane.", character.name, "Centre the model first.")
    muzzle = int(np.flatnonzero(far)[np.argmax(c[far, 2])])
    path = lm.way(solid, start, muzzle)
    path[:, 0] = 0.0
    depth = solid.depth[solid.nearest(path)]
    along = lengths_along(path)
    head_s = neck_end(solid, path, eyes_middle(character))
    trunk = 0.72 * float(depth[0])
    base_s = min(float(along[np.argmax(depth < trunk)]) if (depth < trunk).any() else 0.3 * head_s, 0.4 * head_s)
    base_s = max(base_s, 0.15 * head_s)
    across = (1.0, 0.0, 0.0)
    places = evenly_along(path, base_s, head_s, links + 1)
    above = sketch.put_neck("chest", places[:-1], across, mark="neck")
    sketch.put("head", above, places[-1], "head", hinge=across, mark="head")
    sketch.put("head_end", "head", path[-1], "head_end", deforms=False, mark="muzzle")


def _tail(character: Character, solid: Solid, sketch: Sketch, hips: np.ndarray, links: int) -> None:
    if not links:
        return
    start = int(solid.nearest(hips[None])[0])
    distance = lm.from_cell(solid, start)
    behind = [
        b for b in lm.tips(solid, distance, 0.04 * character.size)
        if abs(b.place[0]) < 0.06 * character.size and b.place[2] < hips[2] - 0.5 * solid.depth[start]
        and b.place[1] > solid.low[1] + 0.06 * character.height
    ]  # fmt: skip
    if not behind:
        return
    tip = max(behind, key=lambda b: float(distance[b.cell]))
    path = lm.way(solid, start, tip.cell)
    path[:, 0] = 0.0
    depth = solid.depth[solid.nearest(path)]
    along = lengths_along(path)
    thin = np.flatnonzero(depth < 0.62 * float(solid.depth[start]))
    root = float(along[thin[0]]) if len(thin) else 0.2 * float(along[-1])
    places = np.vstack([evenly_along(path, root, float(along[-1]), links + 1)[:-1], tip.place * [0, 1, 1]])
    sketch.put_chain("tail", "hips", places, hinge=(1.0, 0, 0), mark="tail")
