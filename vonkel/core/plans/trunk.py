"""The middle of a body: spine, head and tail of an upright one; eyes, jaw and ears of any."""

from __future__ import annotations

import numpy as np

from ..character import Character
from ..geometry.measures import lengths_along
from ..geometry.spheres import fit_sphere
from ..geometry.voxels import Solid
from . import landmarks as lm
from .arms import FoundArm
from .legs import FoundLeg
from .proportions import BIPED as P
from .shapes import domed, leaves_trunk
from .sketch import Sketch


def lay_spine(
    character: Character, solid: Solid, sketch: Sketch, leg: FoundLeg, arm: FoundArm | None, spine: int, neck_links: int
) -> None:
    height = character.height
    c = solid.centres
    middle = np.abs(c[:, 0]) < 0.75 * solid.h
    top = float(c[middle, 1].max() + 0.5 * solid.h)
    hips_y = leg.hip[1] + P.hips_rise * height
    shoulder_y = float(arm.shoulder[1]) if arm else hips_y + P.shoulders * (top - hips_y)
    # The neck is the narrowest slice between the shoulders and the upper part of the head.
    levels = np.arange(shoulder_y + 0.015 * height, shoulder_y + P.neck_most * (top - shoulder_y), solid.h)
    widths = []
    for y in levels:
        pieces = [s for s in lm.slices_at(solid, y) if s.crosses_middle]
        widths.append(max(s.area for s in pieces) if pieces else np.inf)
    narrow = float(levels[int(np.argmin(widths))]) if len(levels) else shoulder_y + 0.02 * height
    girth = float(np.sqrt(min(widths) / np.pi)) if len(widths) else 0.05 * height
    neck_y = max(narrow - P.neck_down * girth, shoulder_y + P.neck_least * height)
    head_y = max(narrow + P.head_up * girth, neck_y + P.head_least * height)
    across = (1.0, 0.0, 0.0)

    heights = [hips_y + (neck_y - hips_y) * t for t in _spread(spine)] + [neck_y, head_y]
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
    sketch.put("hips", None, places[0], "hips", hinge=across)
    chest = sketch.put_spine("hips", np.array(places[1 : 1 + spine]), across)
    neck, head = places[-2], places[-1]
    necks = np.array([neck + (head - neck) * i / neck_links for i in range(neck_links)])
    above = sketch.put_neck(chest, necks, across)
    sketch.put("head", above, head, "head", hinge=across)
    sketch.put("head_end", "head", np.array([0.0, top, head[2]]), "head_end", deforms=False)


def _spread(n: int) -> np.ndarray:
    """Where along hips–neck the n links stand: the chest at its share, the others evenly below it."""
    return np.linspace(0.0, P.chest, n + 1)[1:]


def lay_tail(character: Character, solid: Solid, sketch: Sketch, branches: list[lm.Tip], links: int) -> None:
    height = character.height
    hips = sketch.found["hips"][1]
    behind = [
        b for b in branches
        if abs(b.place[0]) < P.tail_middle * height
        and b.place[2] < hips[2] - P.tail_behind * height
        and b.place[1] < hips[1] + P.tail_most * height
    ]  # fmt: skip
    if not behind:
        return
    tip = max(behind, key=lambda b: float(np.linalg.norm(b.place - hips)))
    start = int(solid.nearest(hips[None])[0])
    path = lm.way(solid, tip.cell, start)[::-1]
    away = np.linalg.norm(path - hips, axis=1)
    root = int(np.argmax(away > 0.75 * solid.depth[start]))
    path = path[root:]
    total = lengths_along(path)[-1]
    parent = "hips"
    for i in range(links):
        parent = sketch.put(
            f"tail_{i + 1}", parent, lm.at_length(path, total * i / links), f"tail_{i + 1}", hinge=(1.0, 0, 0)
        )
    sketch.put("tail_end", parent, tip.place, "tail_end", deforms=False)


def lay_face(character: Character, solid: Solid, sketch: Sketch, ears: bool = True) -> None:
    """Eyes at their spheres' centres, a jaw where there is a mouth inside, ears where the head has tips."""
    lay_eye(character, sketch, "head", character.height)
    inner = [p for p in character.parts if p.role in ("teeth", "tongue")]
    head = sketch.found["head"][1]
    if inner:
        p = np.concatenate([character.points[q.points[0] : q.points[1]] for q in inner])
        back = p[:, 2].min()
        hinge = np.array([0.0, float(p[:, 1].mean()) + 0.01 * character.height, 0.5 * back + 0.5 * min(head[2], back)])
        front = np.array([0.0, float(np.percentile(p[:, 1], 10)), float(p[:, 2].max())])
        sketch.put("jaw", "head", hinge, "jaw", hinge=(1.0, 0, 0))
        sketch.put("jaw_end", "jaw", front, "jaw_end", deforms=False)
    if ears:
        lay_ears(character, solid, sketch, head)


def lay_eye(character: Character, sketch: Sketch, head: str, size: float) -> None:
    """The left eye at the centre of its eyeball; eyes nearer to the middle than a hundredth of `size` are none."""
    for part in character.parts:
        if part.role == "eye":
            centre, radius, misfit = fit_sphere(character.points[slice(*part.points)])
            if centre[0] > 0.01 * size and misfit < 0.2 * radius:
                sketch.put("eye_L", head, centre, "eye")


def lay_ears(character: Character, solid: Solid, sketch: Sketch, head: np.ndarray) -> None:
    """Ears: tips off the middle on the upper half of the head."""
    crown = sketch.found["head_end"][1]
    long = float(np.linalg.norm(crown - head))
    start = int(solid.nearest((0.6 * head + 0.4 * crown)[None])[0])
    near = np.linalg.norm(solid.centres - solid.centres[start], axis=1) < 1.6 * long
    distance = np.where(near, lm.from_cell(solid, start), np.inf)
    eyes = sketch.found.get("eye_L")
    least_y = float(eyes[1][1]) if eyes else float(head[1])
    ears = [
        b for b in lm.tips(solid, distance, 0.10 * long)
        if abs(b.place[0]) > 0.12 * long and b.place[1] > least_y and b.length < 1.2 * long
    ]  # fmt: skip
    if not ears:
        return
    ear = max(ears, key=lambda b: float(b.length + 0.5 * (b.place[1] - least_y)))
    tip = ear.place * [np.sign(ear.place[0]), 1, 1]
    path = lm.way(solid, int(solid.nearest(tip[None])[0]), start, even=2.0)
    base = path[leaves_trunk(solid, path)]
    if domed(solid, base, tip):
        return
    sketch.put("ear_L", "head", base, "ear", hinge=(0.0, 0.0, 1.0))
    sketch.put("ear_end_L", "ear_L", tip, "ear_end", deforms=False)
