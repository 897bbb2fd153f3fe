"""An arm and its hand: followed inwards from the fingertip through the thickest flesh.

Where the shape says nothing (a straight arm has no elbow to see), the segment lengths of Drillis & Contini 1966, as in
Winter, Biomechanics and Motor Control of Human Movement, figure 4.1, stand in.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..geometry.measures import lengths_along
from ..geometry.topology import skin_triangles
from ..geometry.voxels import Solid, solid_from_mesh
from . import landmarks as lm
from .legs import FoundLeg
from .proportions import BIPED as P
from .sketch import Sketch

DIGIT_NAMES = {
    1: ["index"],
    2: ["index", "ring"],
    3: ["index", "middle", "ring"],
    4: ["index", "middle", "ring", "little"],
}


@dataclass
class FoundArm:
    path: np.ndarray  # from fingertip to shoulder
    shoulder: np.ndarray
    tip: np.ndarray
    length: float


def find_arm(character: Character, solid: Solid, branches: list[lm.Tip], centre: int, leg: FoundLeg) -> FoundArm | None:
    """The left arm, or None for a body without arms."""
    height = character.height
    out = [
        b for b in branches
        if abs(b.place[0]) > P.arm_least * height
        and b.length > P.arm_least * height
        and b.place[1] - leg.floor > P.arm_low * height
    ]  # fmt: skip
    if not out:
        return None
    tip = max(out, key=lambda b: abs(b.place[0]) + 0.3 * b.length)
    place = tip.place * [np.sign(tip.place[0]), 1, 1]
    cell = int(solid.nearest(place[None])[0])
    path = lm.way(solid, cell, centre)
    shoulder, s = _shoulder(solid, path, 0.5 * leg.hip[0])
    along = lengths_along(path)
    path = np.concatenate([path[along < s], shoulder[None]])
    return FoundArm(path, shoulder, place, float(lengths_along(path)[-1]))


def _shoulder(solid: Solid, path: np.ndarray, least: float) -> tuple[np.ndarray, float]:
    """The shoulder joint, and the length along the path (from the fingertip) where the arm leaves the trunk.

    Upright slices x = constant are followed inwards: where the piece that holds the arm grows to more than twice
    the arm's own slice the trunk begins.  The joint lies a little further in, straight on along the arm.
    """
    along = lengths_along(path)
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
    grown = np.flatnonzero((areas_ > P.trunk_grows * own) & (at_ > 0.5 * at_[-1]))
    k = int(grown[0]) if len(grown) else len(xs) - 1
    s = float(at_[k])
    edge = lm.at_length(path, s)
    back = lm.at_length(path, max(s - 0.35 * s, 0.0))
    way = (edge - back) / max(float(np.linalg.norm(edge - back)), 1e-9)
    thick = float(np.median(solid.depth[solid.nearest(np.array([back, 0.5 * (back + edge)]))]))
    shoulder = edge + way * P.shoulder_in * thick
    if shoulder[0] < least:
        shoulder = edge
    return solid.kept(shoulder), s


def lay_arm(character: Character, solid: Solid, sketch: Sketch, arm: FoundArm | None, wanted: int) -> None:
    if arm is None:
        return
    length = float(lengths_along(arm.path)[-1])
    share = P.hand / (P.upper_arm + P.forearm + P.hand)
    digits = find_digits(character, solid, arm, share * length) if wanted != 0 else []
    if wanted > 0:
        digits = digits[:wanted]
    hand_length = share * length
    if len(digits) > 1:
        fingers = sorted((d.visible for d in digits), reverse=True)
        hand_length = float(
            np.clip(
                np.mean(fingers[: max(1, len(fingers) - 1)]) / P.finger_of_hand,
                P.hand_least * length,
                P.hand_most * length,
            )
        )
    wrist = lm.at_length(arm.path, hand_length)
    elbow = _elbow(arm.path, hand_length, length)
    chest = sketch.last("chest")
    collar = np.array([P.collar_out * arm.shoulder[0], arm.shoulder[1] - P.collar_drop * character.height, 0.0])
    collar[2] = 0.5 * (arm.shoulder[2] + sketch.found[chest][1][2]) + P.collar_drop * character.height
    fold = np.cross(elbow - arm.shoulder, wrist - elbow)
    if np.linalg.norm(fold) < P.arm_straight * np.linalg.norm(elbow - arm.shoulder) * np.linalg.norm(wrist - elbow):
        fold = np.cross([0.0, 0.0, -1.0], wrist - arm.shoulder)  # a straight arm folds forward
    sketch.put("collar_L", chest, collar, "collar", hinge=(0.0, 0.0, 1.0))
    sketch.put("upper_arm_L", "collar_L", arm.shoulder, "upper_arm", hinge=fold)
    sketch.put("forearm_L", "upper_arm_L", elbow, "forearm", hinge=fold)
    ranked = name_digits(digits)
    middle = np.mean([d.base for n, d in ranked if n != "thumb"], axis=0) if len(digits) > 1 else arm.tip
    lateral = _lateral(ranked, middle - wrist)
    sketch.put("hand_L", "forearm_L", wrist, "hand", hinge=-lateral)
    if not digits:
        sketch.put("hand_end_L", "hand_L", arm.tip, "hand_end", deforms=False)
    for name, d in ranked:
        parent = "hand_L"
        hinge = -lateral if name != "thumb" else -_thumb_side(d, middle - wrist, lateral)
        for i, s in enumerate((0.0, P.knuckle_2, P.knuckle_3)):
            place = d.base + (lm.at_length(d.path, s * lengths_along(d.path)[-1]) - d.path[0])
            parent = sketch.put(f"{name}_{i + 1}_L", parent, place, f"{name}_{i + 1}", hinge=hinge)
        sketch.put(f"{name}_end_L", parent, d.tip, f"{name}_end", deforms=False)


def _elbow(path: np.ndarray, start: float, end: float) -> np.ndarray:
    """Where the arm bends between wrist and shoulder: the place farthest from their line, near the usual share."""
    s = np.linspace(start, end, 80)
    p = np.stack([lm.at_length(path, x) for x in s])
    way = (p[-1] - p[0]) / np.linalg.norm(p[-1] - p[0])
    off = np.linalg.norm((p - p[0]) - ((p - p[0]) @ way)[:, None] * way, axis=1)
    usual = P.forearm / (P.forearm + P.upper_arm)
    t = np.linspace(0, 1, 80)
    ok = (t > usual - P.elbow_before) & (t < usual + P.elbow_behind)
    if off.max() < P.elbow_seen * (end - start):
        return np.asarray(p[int(np.argmin(np.abs(t - usual)))])
    return np.asarray(p[ok][np.argmax(off[ok] - 0.05 * (end - start) * np.abs(t[ok] - usual))])


@dataclass
class Digit:
    tip: np.ndarray
    base: np.ndarray
    path: np.ndarray  # from base to tip
    visible: float  # metres from the gap between the fingers to the tip
    meets: float  # metres from the wrist to where it leaves the hand


def find_digits(character: Character, solid: Solid, arm: FoundArm, hand_length: float) -> list[Digit]:
    """Fingers and thumb of the left hand, from a finer grid round it."""
    hand = arm.path[lengths_along(arm.path) < 1.7 * hand_length]
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
        along = lengths_along(path)
        visible = float(distance[b.cell] - levels[b.cell])
        s = min(visible * P.inside_palm, 0.8 * along[-1])  # digits begin inside the palm
        base = lm.at_length(path, s)
        found.append(Digit(b.place, base, path[along <= s][::-1], visible, float(levels[b.cell])))
    return [d for d in found if len(d.path) > 2]


def name_digits(digits: list[Digit]) -> list[tuple[str, Digit]]:
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
