"""The plan for bodies that stand on two legs, fitted to the mesh from its shape alone.

The body's branches (hands, feet, head, tail) are found as the tips of the distance from its middle through the
volume; their middles are followed inwards; slices tell crotch, ankle and neck.  Where the shape says nothing
(a straight arm has no elbow to see), the segment lengths of Drillis & Contini 1966, as in Winter, Biomechanics
and Motor Control of Human Movement, figure 4.1, stand in: upper arm .186, forearm .146, hand .108, thigh .245,
shank .246, foot height .039 of the standing height.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ...character import Character, Joint
from ...errors import StepRefused
from ...geometry.spheres import fit_sphere
from ...geometry.topology import skin_triangles
from ...geometry.voxels import Solid, solid_from_mesh
from ...progress import tell
from ..edit import MIRROR, body_solid, turn_down_bones
from . import landmarks as lm

UPPER_ARM, FOREARM, HAND = 0.186, 0.146, 0.108
FINGER_OF_HAND = 0.46  # the middle finger's share of the hand's length (common practice)
DIGIT_NAMES = {
    1: ["point"],
    2: ["point", "ring"],
    3: ["point", "middle", "ring"],
    4: ["point", "middle", "ring", "little"],
}


class BipedOptions(BaseModel):
    """How many joints the plan has.  Zero digits: a hand without fingers; digits −1: as many as the mesh shows."""

    model_config = ConfigDict(extra="forbid")
    spine: int = Field(3, ge=2, le=8, description="links between hips and neck, the chest included")
    neck: int = Field(1, ge=1, le=4)
    tail: int = Field(6, ge=2, le=24, description="links of the tail, where there is one")
    digits: int = Field(-1, ge=-1, le=5, description="fingers per hand, thumb included; −1: as the mesh shows")


@dataclass
class Sketch:
    """Joints as they are found: name → (parent, place, role, hinge)."""

    found: dict[str, tuple[str | None, np.ndarray, str, bool]] = field(default_factory=dict)
    hinges: dict[str, np.ndarray] = field(default_factory=dict)

    def put(self, name: str, parent: str | None, place: np.ndarray, role: str = "", deforms: bool = True,
            hinge: tuple[float, float, float] | np.ndarray | None = None) -> str:  # fmt: skip
        self.found[name] = (parent, np.asarray(place, float), role or name, deforms)
        if hinge is not None:
            self.hinges[name] = np.asarray(hinge, float)
        return name


def lay_biped(character: Character, options: BipedOptions) -> Character:
    """Joints of a two-legged body.  Raises StepRefused saying which part of the body could not be found."""
    tell(0.05, "filling the body")
    solid = body_solid(character)
    if len(solid.cells) < 500:
        raise StepRefused("The body encloses too little to fit a plan.", character.name, "Close open borders first.")
    height = character.height
    centre = _middle(solid, height)
    distance = lm.from_cell(solid, centre)
    branches = lm.tips(solid, distance, 0.03 * height)
    tell(0.2, "finding legs and arms")
    leg = _find_leg(character, solid, branches, centre)
    sketch = Sketch()
    arm = _find_arm(character, solid, branches, centre, leg)
    tell(0.5, "finding the spine")
    _lay_spine(character, solid, sketch, leg, arm, options)
    _lay_leg(sketch, leg)
    tell(0.6, "finding the digits")
    _lay_arm(character, solid, sketch, arm, options)
    _lay_tail(character, solid, sketch, branches, options)
    _lay_face(character, solid, sketch)
    tell(0.9, "turning the joints")
    joints = []
    for name, (parent, place, role, deforms) in sketch.found.items():
        side = "L" if name.endswith("_L") else "C"
        place = place * [0.0, 1.0, 1.0] if side == "C" else place
        joints.append(_joint(name, parent, side, place, role, deforms))
        if side == "L":
            other = parent[:-2] + "_R" if parent and parent.endswith("_L") else parent
            joints.append(_joint(name[:-2] + "_R", other, "R", place * MIRROR, role, deforms))
    bare = character.with_(
        joints=tuple(joints), kits=(), controls=(), skin=None, poses=(), plan="biped",
        arrays={"skin/joints": None, "skin/weights": None},
    )  # fmt: skip
    return turn_down_bones(bare, hinges=sketch.hinges)


def _joint(name: str, parent: str | None, side: str, place: np.ndarray, role: str, deforms: bool) -> Joint:
    x, y, z = (float(v) for v in place)
    return Joint(name=name, parent=parent, side=side, place=(x, y, z), role=role, deforms=deforms)  # type: ignore[arg-type]


def _middle(solid: Solid, height: float) -> int:
    """The deepest cell of the body plane in the middle third of the height."""
    c = solid.centres
    share = (c[:, 1] - solid.low[1]) / height
    ok = np.flatnonzero((np.abs(c[:, 0]) < 0.75 * solid.h) & (share > 0.35) & (share < 0.7))
    if not len(ok):
        raise StepRefused("There is no body on the middle plane x = 0.", "", "Centre the model at the Model station.")
    return int(ok[np.argmax(solid.depth[ok])])


# -- legs --------------------------------------------------------------------------------------------------------
@dataclass
class Leg:
    hip: np.ndarray
    knee: np.ndarray
    ankle: np.ndarray
    ball: np.ndarray
    toe: np.ndarray
    crotch: float
    floor: float


def _find_leg(character: Character, solid: Solid, branches: list[lm.Tip], centre: int) -> Leg:
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


def _lay_leg(sketch: Sketch, leg: Leg) -> None:
    across = (1.0, 0.0, 0.0)
    sketch.put("thigh_L", "hips", leg.hip, "thigh", hinge=across)
    sketch.put("shin_L", "thigh_L", leg.knee, "shin", hinge=across)
    sketch.put("foot_L", "shin_L", leg.ankle, "foot", hinge=across)
    sketch.put("ball_L", "foot_L", leg.ball, "ball", hinge=across)
    sketch.put("toe_end_L", "ball_L", leg.toe, "toe_end", deforms=False)


# -- arms --------------------------------------------------------------------------------------------------------
@dataclass
class Arm:
    path: np.ndarray  # from fingertip to shoulder
    shoulder: np.ndarray
    tip: np.ndarray
    length: float


def _find_arm(character: Character, solid: Solid, branches: list[lm.Tip], centre: int, leg: Leg) -> Arm | None:
    """The left arm, or None for a body without arms."""
    height = character.height
    out = [
        b for b in branches
        if abs(b.place[0]) > 0.10 * height and b.length > 0.10 * height and b.place[1] - leg.floor > 0.16 * height
    ]  # fmt: skip
    if not out:
        return None
    tip = max(out, key=lambda b: abs(b.place[0]) + 0.3 * b.length)
    place = tip.place * [np.sign(tip.place[0]), 1, 1]
    cell = int(solid.nearest(place[None])[0])
    path = lm.way(solid, cell, centre)
    shoulder, s = _shoulder(solid, path, 0.5 * leg.hip[0])
    along = lm.lengths_along(path)
    path = np.concatenate([path[along < s], shoulder[None]])
    return Arm(path, shoulder, place, float(lm.lengths_along(path)[-1]))


def _shoulder(solid: Solid, path: np.ndarray, least: float) -> tuple[np.ndarray, float]:
    """The shoulder joint, and the length along the path (from the fingertip) where the arm leaves the trunk.

    Upright slices x = constant are followed inwards: where the piece that holds the arm grows to more than twice
    the arm's own slice the trunk begins.  The joint lies a little further in, straight on along the arm.
    """
    along = lm.lengths_along(path)
    xs = np.arange(path[:, 0].max(), least, -solid.h)
    areas, at = [], []
    for x in xs:
        here = np.flatnonzero(path[:, 0] >= x)
        point = path[here[-1]] if len(here) else path[0]
        area = lm.upright_area(solid, np.array([x, point[1], point[2]]))
        areas.append(area)
        at.append(along[here[-1]] if len(here) else 0.0)
    areas_, at_ = np.array(areas), np.array(at)
    # The arm's own slice: between a third and two thirds of the way to where the trunk surely is.
    outer = (at_ > 0.35 * at_[-1]) & (at_ < 0.7 * at_[-1])
    own = float(np.median(areas_[outer])) if outer.any() else float(np.median(areas_))
    grown = np.flatnonzero((areas_ > 2.2 * own) & (at_ > 0.5 * at_[-1]))
    k = int(grown[0]) if len(grown) else len(xs) - 1
    s = float(at_[k])
    edge = lm.at_length(path, s)
    back = lm.at_length(path, max(s - 0.35 * s, 0.0))
    way = (edge - back) / max(float(np.linalg.norm(edge - back)), 1e-9)
    thick = float(np.median(solid.depth[solid.nearest(np.array([back, 0.5 * (back + edge)]))]))
    shoulder = edge + way * 0.5 * thick
    if shoulder[0] < least:
        shoulder = edge
    if not solid.contains(shoulder[None])[0]:
        shoulder = solid.centres[solid.nearest(shoulder[None])[0]]
    return shoulder, s


def _lay_arm(character: Character, solid: Solid, sketch: Sketch, arm: Arm | None, options: BipedOptions) -> None:
    if arm is None:
        return
    length = float(lm.lengths_along(arm.path)[-1])
    share = HAND / (UPPER_ARM + FOREARM + HAND)
    digits = _find_digits(character, solid, arm, share * length) if options.digits != 0 else []
    if options.digits > 0:
        digits = digits[: options.digits]
    hand_length = share * length
    if len(digits) > 1:
        fingers = sorted((d.visible for d in digits), reverse=True)
        hand_length = float(
            np.clip(np.mean(fingers[: max(1, len(fingers) - 1)]) / FINGER_OF_HAND, 0.16 * length, 0.36 * length)
        )
    wrist = lm.at_length(arm.path, hand_length)
    elbow = _elbow(arm.path, hand_length, length)
    chest = next(n for n in reversed(sketch.found) if sketch.found[n][2] == "chest")
    collar = np.array([0.3 * arm.shoulder[0], arm.shoulder[1] - 0.01 * character.height, 0.0])
    collar[2] = 0.5 * (arm.shoulder[2] + sketch.found[chest][1][2]) + 0.01 * character.height
    fold = np.cross(elbow - arm.shoulder, wrist - elbow)
    if np.linalg.norm(fold) < 0.02 * np.linalg.norm(elbow - arm.shoulder) * np.linalg.norm(wrist - elbow):
        fold = np.cross([0.0, 0.0, -1.0], wrist - arm.shoulder)  # a straight arm folds forward
    sketch.put("collar_L", chest, collar, "collar", hinge=(0.0, 0.0, 1.0))
    sketch.put("upper_arm_L", "collar_L", arm.shoulder, "upper_arm", hinge=fold)
    sketch.put("forearm_L", "upper_arm_L", elbow, "forearm", hinge=fold)
    ranked = _name_digits(digits)
    middle = np.mean([d.base for n, d in ranked if n != "thumb"], axis=0) if len(digits) > 1 else arm.tip
    lateral = _lateral(ranked, middle - wrist)
    sketch.put("hand_L", "forearm_L", wrist, "hand", hinge=-lateral)
    if not digits:
        sketch.put("hand_end_L", "hand_L", arm.tip, "hand_end", deforms=False)
    for name, d in ranked:
        parent = "hand_L"
        hinge = -lateral if name != "thumb" else -_thumb_side(d, middle - wrist, lateral)
        for i, s in enumerate((0.0, 0.45, 0.74)):
            place = d.base + (lm.at_length(d.path, s * lm.lengths_along(d.path)[-1]) - d.path[0])
            parent = sketch.put(f"{name}_{i + 1}_L", parent, place, f"{name}_{i + 1}", hinge=hinge)
        sketch.put(f"{name}_end_L", parent, d.tip, f"{name}_end", deforms=False)


def _elbow(path: np.ndarray, start: float, end: float) -> np.ndarray:
    """Where the arm bends between wrist and shoulder: the place farthest from their line, near the usual share."""
    s = np.linspace(start, end, 80)
    p = np.stack([lm.at_length(path, x) for x in s])
    way = (p[-1] - p[0]) / np.linalg.norm(p[-1] - p[0])
    off = np.linalg.norm((p - p[0]) - ((p - p[0]) @ way)[:, None] * way, axis=1)
    usual = FOREARM / (FOREARM + UPPER_ARM)
    t = np.linspace(0, 1, 80)
    ok = (t > usual - 0.08) & (t < usual + 0.12)
    if off.max() < 0.03 * (end - start):
        return p[int(np.argmin(np.abs(t - usual)))]
    return p[ok][np.argmax(off[ok] - 0.05 * (end - start) * np.abs(t[ok] - usual))]


@dataclass
class Digit:
    tip: np.ndarray
    base: np.ndarray
    path: np.ndarray  # from base to tip
    visible: float  # metres from the gap between the fingers to the tip
    meets: float  # metres from the wrist to where it leaves the hand


def _find_digits(character: Character, solid: Solid, arm: Arm, hand_length: float) -> list[Digit]:
    """Fingers and thumb of the left hand, from a finer grid round it."""
    hand = arm.path[lm.lengths_along(arm.path) < 1.7 * hand_length]
    margin = 0.8 * hand_length
    low, high = hand.min(0) - margin, hand.max(0) + margin
    low[0] = max(low[0], 0.0)
    cell = max(solid.h / 3.5, (float(np.prod(high - low)) / 1.5e6) ** (1 / 3))
    fine = solid_from_mesh(character.points, skin_triangles(character), cell, (low, high))
    if len(fine.cells) < 200:
        return []
    wrist = int(fine.nearest(lm.at_length(arm.path, 1.25 * hand_length)[None])[0])
    distance = lm.from_cell(fine, wrist)
    reach = hand_length * 1.9
    branches = [
        b
        for b in lm.tips(fine, distance, 0.12 * hand_length)
        if distance[b.cell] < reach and distance[b.cell] > 0.5 * hand_length
    ]
    forearm = lm.at_length(arm.path, 1.25 * hand_length)
    outward = arm.tip - forearm
    branches = [b for b in branches if (b.place - forearm) @ outward > 0.15 * outward @ outward]
    if len(branches) < 2:
        return []
    levels = {b.cell: distance[b.cell] - b.length for b in branches}
    eldest = branches[0].cell  # the longest runs through the whole hand; its gap is that of its neighbours
    others = sorted((levels[b.cell] for b in branches[1:]), reverse=True)
    levels[eldest] = float(np.mean(others[: max(1, len(others) - 1)]))
    found = []
    for b in branches[:5]:
        path = lm.way(fine, b.cell, wrist, even=3.0)
        along = lm.lengths_along(path)
        visible = float(distance[b.cell] - levels[b.cell])
        s = min(visible * 1.35, 0.8 * along[-1])  # digits begin inside the palm
        base = lm.at_length(path, s)
        found.append(Digit(b.place, base, path[along <= s][::-1], visible, float(levels[b.cell])))
    return [d for d in found if len(d.path) > 2]


def _name_digits(digits: list[Digit]) -> list[tuple[str, Digit]]:
    """The thumb is the outer digit that reaches less far; the others are counted from it."""
    if not digits:
        return []
    tips = np.array([d.tip for d in digits])
    across = np.linalg.svd(tips - tips.mean(0))[2][0]
    row = sorted(digits, key=lambda d: float(d.tip @ across))
    if row[0].meets + row[0].visible > row[-1].meets + row[-1].visible:
        row.reverse()
    thumb, rest = (row[0], row[1:]) if len(digits) > 2 else (None, row)
    names = DIGIT_NAMES.get(len(rest), [f"digit{i + 1}" for i in range(len(rest))])
    return ([("thumb", thumb)] if thumb else []) + list(zip(names, rest, strict=True))


def _lateral(ranked: list[tuple[str, Digit]], along: np.ndarray) -> np.ndarray:
    """Across the hand, toward the thumb."""
    fingers = [d for n, d in ranked if n != "thumb"]
    if len(fingers) > 1:
        side = fingers[0].base - fingers[-1].base
    elif ranked and ranked[0][0] == "thumb" and fingers:
        side = ranked[0][1].base - fingers[0].base
    else:
        side = np.array([0.0, 0.0, 1.0])
    unit = along / max(float(np.linalg.norm(along)), 1e-9)
    side = side - unit * (side @ unit)
    n = float(np.linalg.norm(side))
    return side / n if n > 1e-9 else np.array([0.0, 0.0, 1.0])


def _thumb_side(thumb: Digit, along: np.ndarray, lateral: np.ndarray) -> np.ndarray:
    """The thumb tucks across the palm: its hinge stands between the palm's normal and the others' hinge."""
    palm = np.cross(along / max(float(np.linalg.norm(along)), 1e-9), lateral)
    bone = thumb.tip - thumb.base
    toward = palm - 0.6 * lateral
    axis = np.cross(bone, toward)
    n = float(np.linalg.norm(axis))
    return -axis / n if n > 1e-9 else lateral


# -- spine, head, tail -------------------------------------------------------------------------------------------
def _lay_spine(
    character: Character, solid: Solid, sketch: Sketch, leg: Leg, arm: Arm | None, options: BipedOptions
) -> None:
    height = character.height
    c = solid.centres
    middle = np.abs(c[:, 0]) < 0.75 * solid.h
    top = float(c[middle, 1].max() + 0.5 * solid.h)
    hips_y = leg.hip[1] + 0.02 * height
    shoulder_y = float(arm.shoulder[1]) if arm else hips_y + 0.55 * (top - hips_y)
    # The neck is the narrowest slice between the shoulders and the upper part of the head.
    levels = np.arange(shoulder_y + 0.015 * height, shoulder_y + 0.62 * (top - shoulder_y), solid.h)
    widths = []
    for y in levels:
        pieces = [s for s in lm.slices_at(solid, y) if s.crosses_middle]
        widths.append(max(s.area for s in pieces) if pieces else np.inf)
    narrow = float(levels[int(np.argmin(widths))]) if len(levels) else shoulder_y + 0.02 * height
    girth = float(np.sqrt(min(widths) / np.pi)) if len(widths) else 0.05 * height
    neck_y = max(narrow - 0.45 * girth, shoulder_y + 0.012 * height)
    head_y = max(narrow + 0.35 * girth, neck_y + 0.03 * height)
    across = (1.0, 0.0, 0.0)

    heights = [hips_y + (neck_y - hips_y) * t for t in _spread(options.spine)] + [neck_y, head_y]
    places: list[np.ndarray] = []
    z = None
    for y in [hips_y, *heights]:
        p = lm.deepest_in_middle(solid, y, z, 0.12 * height)
        p = p if p is not None else np.array([0.0, y, z or 0.0])
        places.append(p)
        z = float(p[2])
    zs = np.array([p[2] for p in places])
    zs[1:-1] = (zs[:-2] + 2 * zs[1:-1] + zs[2:]) / 4  # an even line
    for p, even in zip(places, zs, strict=True):
        p[2] = even
    parent = sketch.put("hips", None, places[0], "hips", hinge=across)
    for i in range(options.spine):
        last = i == options.spine - 1
        parent = sketch.put(
            "chest" if last else f"spine_{i + 1}",
            parent,
            places[1 + i],
            "chest" if last else f"spine_{i + 1}",
            hinge=across,
        )
    neck, head = places[-2], places[-1]
    for i in range(options.neck):
        name = "neck" if options.neck == 1 else f"neck_{i + 1}"
        parent = sketch.put(name, parent, neck + (head - neck) * i / options.neck, "neck", hinge=across)
    sketch.put("head", parent, head, "head", hinge=across)
    sketch.put("head_end", "head", np.array([0.0, top, head[2]]), "head_end", deforms=False)


def _spread(n: int) -> np.ndarray:
    """Where along hips–neck the n links stand: the chest at 0.68, the others evenly below it."""
    return np.linspace(0.0, 0.68, n + 1)[1:]


def _lay_tail(
    character: Character, solid: Solid, sketch: Sketch, branches: list[lm.Tip], options: BipedOptions
) -> None:
    height = character.height
    hips = sketch.found["hips"][1]
    behind = [
        b for b in branches
        if abs(b.place[0]) < 0.06 * height and b.place[2] < hips[2] - 0.12 * height and b.place[1] < hips[1] + 0.35 * height
    ]  # fmt: skip
    if not behind:
        return
    tip = max(behind, key=lambda b: float(np.linalg.norm(b.place - hips)))
    start = int(solid.nearest(hips[None])[0])
    path = lm.way(solid, tip.cell, start)[::-1]
    away = np.linalg.norm(path - hips, axis=1)
    root = int(np.argmax(away > 0.75 * solid.depth[start]))
    path = path[root:]
    total = lm.lengths_along(path)[-1]
    parent = "hips"
    for i in range(options.tail):
        parent = sketch.put(
            f"tail_{i + 1}", parent, lm.at_length(path, total * i / options.tail), f"tail_{i + 1}", hinge=(1.0, 0, 0)
        )
    sketch.put("tail_end", parent, tip.place, "tail_end", deforms=False)


def _lay_face(character: Character, solid: Solid, sketch: Sketch) -> None:
    """Eyes at their spheres' centres, a jaw where there is a mouth inside, ears where the head has tips."""
    for part in character.parts:
        if part.role != "eye":
            continue
        centre, radius, misfit = fit_sphere(character.points[part.points[0] : part.points[1]])
        if centre[0] > 0.01 * character.height and misfit < 0.2 * radius:
            sketch.put("eye_L", "head", centre, "eye")
    inner = [p for p in character.parts if p.role in ("teeth", "tongue")]
    head = sketch.found["head"][1]
    if inner:
        p = np.concatenate([character.points[q.points[0] : q.points[1]] for q in inner])
        back = p[:, 2].min()
        hinge = np.array([0.0, float(p[:, 1].mean()) + 0.01 * character.height, 0.5 * back + 0.5 * min(head[2], back)])
        front = np.array([0.0, float(np.percentile(p[:, 1], 10)), float(p[:, 2].max())])
        sketch.put("jaw", "head", hinge, "jaw", hinge=(1.0, 0, 0))
        sketch.put("jaw_end", "jaw", front, "jaw_end", deforms=False)
    _lay_ears(character, solid, sketch, head)


def _lay_ears(character: Character, solid: Solid, sketch: Sketch, head: np.ndarray) -> None:
    height = character.height
    upper = solid.centres[:, 1] > head[1]
    start = int(solid.nearest(head[None])[0])
    distance = lm.from_cell(solid, start)
    distance = np.where(upper, distance, np.inf)
    ears = [
        b for b in lm.tips(solid, distance, 0.012 * height)
        if abs(b.place[0]) > 0.05 * height and b.place[1] > head[1] + 0.3 * (solid.centres[:, 1].max() - head[1])
    ]  # fmt: skip
    if not ears:
        return
    ear = max(ears, key=lambda b: float(b.place[1] + abs(b.place[0])))
    tip = ear.place * [np.sign(ear.place[0]), 1, 1]
    base = tip + (np.array([0.35 * tip[0], head[1] + 0.6 * (tip[1] - head[1]), tip[2]]) - tip) * 0.55
    sketch.put("ear_L", "head", base, "ear", hinge=(0.0, 0.0, 1.0))
    sketch.put("ear_end_L", "ear_L", tip, "ear_end", deforms=False)
