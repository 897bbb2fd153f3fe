"""The ends of a body in any pose: head with eyes, jaw and ears; feet with toes; hands with digits."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ...character import Character
from ...geometry.measures import lengths_along
from ...geometry.rotations import unit
from ...geometry.topology import skin_triangles
from ...geometry.voxels import Solid, extremities, solid_from_mesh
from ..arms import DIGIT_NAMES, Digit, name_digits
from ..landmarks import Tip, at_length, way
from ..proportions import BIPED as P
from ..shapes import domed, leaves_trunk
from ..sketch import Sketch
from ..toes import toe_tips
from .body import Body, distances_from
from .line import Line

# --- head ---------------------------------------------------------------------------------------------------------------
# How far round a head's axis its top is looked for, a share of the head's length with all that stands on it.
BUNDLE = 0.08


def crown_of(solid: Solid, skull: np.ndarray, head: np.ndarray, up: np.ndarray) -> np.ndarray:
    """The top of the head (3,): where its flesh ends up along its own upright, whatever stands up beside that."""
    c = solid.centres[skull]
    if not len(c):
        return head + 2 * solid.h * up
    off = c - head
    along = off @ up
    beside = np.linalg.norm(off - along[:, None] * up, axis=1)
    most = max(float(along.max()), 1e-9)
    ok = beside < 0.22 * most
    if not ok.any():
        return np.asarray(c[np.argmax(along)])
    # Ears and horns stand up beside the axis: the head ends where its flesh does, in the middle of a bundle of ways up.
    t = np.arange(0.0, float(along[ok].max()) + solid.h, 0.5 * solid.h)
    side = unit(np.cross(up, np.roll(np.abs(up), 1) + 1e-3))
    turns = np.linspace(0, 2 * np.pi, 9)[:-1]
    ring = np.cos(turns)[:, None] * side + np.sin(turns)[:, None] * np.cross(up, side)
    starts = head + np.vstack([np.zeros((1, 3)), BUNDLE * most * ring])
    inside = solid.contains((starts[:, None] + t[None, :, None] * up).reshape(-1, 3)).reshape(len(starts), -1)
    ends = []
    for cells in inside:
        first = int(np.argmax(cells))  # it may begin outside, below a chin
        out = np.flatnonzero(~cells[first:])
        ends.append(float(t[first + int(out[0]) if len(out) else -1]))
    return np.asarray(head + up * max(float(np.median(ends)), 2 * solid.h))


def lay_eyes_and_jaw(
    body: Body, sketch: Sketch, crown: np.ndarray, facing: np.ndarray, holder: str = "head"
) -> np.ndarray:
    """Eyes at their spheres' centres and a jaw where there is a mouth inside; returns where the head faces (3,)."""
    head, eyes, c = sketch.place(holder), body.eyes, body.character
    up = unit(crown - head)
    ahead = unit(facing - up * (facing @ up))
    if len(eyes) == 2:
        a, b = eyes[0][0], eyes[1][0]
        ahead = unit(np.cross(a - b, up))
        out = 0.5 * (a + b) - 0.5 * (head + crown)
        if ahead @ (unit(out - up * float(out @ up)) + unit(facing - up * float(facing @ up))) < 0:
            ahead = -ahead
        left = np.cross(up, ahead)
        for p in (a, b):
            sketch.put("eye_L" if (p - 0.5 * (a + b)) @ left > 0 else "eye_R", holder, p, "eye", spread=0.002)
    inner = [p for p in c.parts if p.role in ("teeth", "tongue")]
    if inner and len(eyes) == 2:
        up = unit(np.cross(ahead, np.cross(crown - head, ahead)))
        left = np.cross(up, ahead)
        p = np.concatenate([c.points[slice(*q.points)] for q in inner]) - head
        z, y, x = p @ ahead, p @ up, float((p @ left).mean())
        back = float(z.min())
        hinge = (
            head + left * x + up * (float(y.mean()) + 0.01 * body.tall) + ahead * (0.5 * back + 0.5 * min(0.0, back))
        )
        sketch.put("jaw", holder, hinge, "jaw", hinge=left, mark="jaw hinge", spread=0.015)
        chin = head + left * x + up * float(np.percentile(y, 10)) + ahead * float(z.max())
        sketch.put("jaw_end", "jaw", chin, "jaw_end", False, mark="chin", spread=0.01)
    return ahead


WIDER = 1.15  # how much farther apart ears are rooted than horns, at least


def lay_ears(body: Body, sketch: Sketch, skull: np.ndarray, crown: np.ndarray, ahead: np.ndarray) -> None:
    """Ears: a pair of tips of the head off its middle, alike in length, above the eyes.  Horns alone aren't told from
    ears; of two pairs those rooted nearer to the middle are horns."""
    solid, head = body.solid, sketch.place("head")
    up = unit(crown - head)
    left = unit(np.cross(up, ahead))
    long = float(np.linalg.norm(crown - head))
    if long < 2 * solid.h:
        return
    start = int(solid.nearest((0.6 * head + 0.4 * crown)[None])[0])
    d = distances_from(solid, start)
    reach = 3.2 * long
    # one ear is often the body's tip there, and wholly the skull's: the other reaches as far
    far = np.linalg.norm(solid.centres - solid.centres[start], axis=1)
    near = far < max(1.25 * long, float(far[skull].max(initial=0.0)))
    # not past the neck: what is nearer to the head's joint's underside than to the crown
    under = (solid.centres - head) @ up > -0.1 * long
    d = np.where(near & under & (d < reach), d, np.inf)
    if not np.isfinite(d).any():
        return
    # as long as the way to it is: of two branches that meet the longer one has all of what they share
    found = [Tip(solid.centres[t], solid.centres[m], float(d[t]), t) for t, _, m in extremities(solid, d, 0.10 * long)]
    eyes = body.eyes_middle
    level = float((eyes - head) @ up) if eyes is not None else 0.25 * long
    sides: dict[str, list[Tip]] = {"L": [], "R": []}
    for tip in found:
        x, y = float((tip.place - head) @ left), float((tip.place - head) @ up)
        if abs(x) > 0.12 * long and y > level and tip.length < 3.0 * long:
            sides["L" if x > 0 else "R"].append(tip)
    pairs: list[tuple[float, Tip, Tip]] = []
    for a in sides["L"]:
        for b in sides["R"]:
            unlike = abs(np.log(a.length / b.length)) + abs(float((a.place - b.place) @ up)) / long
            unlike += abs(float((a.place - b.place) @ ahead)) / long
            if unlike < 0.9:
                pairs.append((float(unlike - 0.6 * (a.length + b.length) / long), a, b))
    if not pairs:
        return
    pairs.sort(key=lambda p: p[0])
    best = pairs[0]
    second = next((p for p in pairs if p[1] is not best[1] and p[2] is not best[2]), None)

    def root(tip: Tip) -> np.ndarray:
        path = way(solid, tip.cell, start, even=2.0)
        return np.asarray(path[leaves_trunk(solid, path)])

    roots = [(root(p[1]), root(p[2])) for p in (best, second) if p is not None]
    if second is not None:  # of two pairs one is horns: these grow between the ears
        wide = [abs(float((a - b) @ left)) for a, b in roots]
        if wide[1] > WIDER * wide[0]:
            best, roots = second, roots[::-1]
    if all(domed(solid, base, tip.place) for base, tip in zip(roots[0], best[1:], strict=True)):
        return
    doubt = 0.09 if second is not None else 0.02
    for side, tip, base in (("L", best[1], roots[0][0]), ("R", best[2], roots[0][1])):
        hinge = ahead if side == "L" else -ahead
        word = "left ear" if side == "L" else "right ear"
        sketch.put(f"ear_{side}", "head", base, "ear", hinge=hinge, spread=doubt)
        sketch.put(f"ear_end_{side}", f"ear_{side}", tip.place, "ear_end", False, mark=f"{word} tip", spread=doubt)


# --- feet ---------------------------------------------------------------------------------------------------------------
def foot_way(
    body: Body, tip: int, line: Line, s_ankle: float, ankle: np.ndarray, knee: np.ndarray
) -> tuple[np.ndarray, float, np.ndarray]:
    """(which way a foot points (3,), across the leg; how clearly, 0 to 1; its cells (c,)).

    The flesh below the ankle is longest from heel to toe, and more of it lies before the ankle than behind it.
    """
    solid = body.solid
    g = float(np.interp(s_ankle, line.s, line.g))
    foot = body.far[tip] < 1.25 * g
    c = solid.centres[foot]
    toe = body.place(tip)
    down = unit(ankle - knee)
    out = toe - ankle
    if np.linalg.norm(np.cross(unit(out), down)) > 0.2:
        out = unit(out - down * (out @ down))
    else:
        out = unit(out)
    clear = float(np.clip(np.linalg.norm(np.cross(unit(toe - ankle), down)), 0.1, 1.0)) * 0.6
    below = c[(c - ankle) @ down > 0]
    if len(below) > 20:
        off = below - below.mean(0)
        off = off - np.outer(off @ down, down)
        vals, vecs = np.linalg.eigh(off.T @ off)
        if vals[2] > 1.25 * vals[1]:
            long = vecs[:, 2]
            # the extremes say more than the mean: a heel stands out less far than toes do
            reach = (below - ankle) @ long
            skew = float(np.percentile(reach, 98) + np.percentile(reach, 2)) / max(float(np.ptp(reach)), 1e-9)
            if abs(skew) > 0.08:
                out, clear = unit(long * np.sign(skew)), float(np.clip(abs(skew) / 0.35, 0.2, 1.0))
            else:
                out, clear = unit(long * np.sign(float(long @ out) or 1.0)), 0.15
    return out, clear, foot


def foot_of(
    body: Body, tip: int, line: Line, s_ankle: float, ankle: np.ndarray, knee: np.ndarray, facing: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Ball, toe, and which way the foot points."""
    solid = body.solid
    out, clear, foot = foot_way(body, tip, line, s_ankle, ankle, knee)
    if float(out @ facing) < -0.2 and clear < 0.6:
        out = -out
    c = solid.centres[foot]
    toe, down = body.place(tip), unit(ankle - knee)
    along = (c - ankle) @ out
    heel, front = float(np.percentile(along, 1)), float(along.max())
    sole = float(np.percentile((c - ankle) @ down, 97))
    ball_at = heel + P.ball * (front - heel)
    near = np.abs(along - ball_at) < 1.5 * solid.h
    middle = c[near].mean(0) if near.any() else ankle + out * ball_at
    ball = middle - out * float((middle - ankle) @ out - ball_at)
    ball = ball + down * (0.65 * sole - float((ball - ankle) @ down))
    tips = c[along > front - 2 * solid.h]
    end = tips.mean(0) if len(tips) else toe
    return solid.kept(ball), end + out * float(front - (end - ankle) @ out), out


def lay_toes_of(
    character: Character,
    sketch: Sketch,
    ball: str,
    end: str,
    stem: str,
    ahead: np.ndarray,
    across: np.ndarray,
    wanted: int,
) -> None:
    """Toes below the joint `ball`: two joints each.  They are the points of the foot's outline, seen from above in its own
    frame, that stand out forward; `wanted` −1: as many as there are."""
    place, tip = sketch.place(ball), sketch.place(end)
    z = unit(ahead * [1, 0, 1])
    axes = np.stack([np.cross([0.0, 1.0, 0.0], z), [0.0, 1.0, 0.0], z])
    long = max(float(np.linalg.norm((tip - place)[[0, 2]])), 1e-6)
    own = (character.points - place) @ axes.T
    floor = float(own[:, 1].min()) if own[:, 1].min() > -long else -0.6 * long
    low, high = np.array([-1.6 * long, floor, -0.3 * long]), np.array([1.6 * long, 0.7 * long, 1.9 * long])
    cell = max(long / 48, (float(np.prod(high - low)) / 2e6) ** (1 / 3))
    fine = solid_from_mesh(own, skin_triangles(character), cell, (low, high))
    if not len(fine.cells):
        return
    side = ball[-2:]
    out = toe_tips(fine, cell, low, long, wanted)
    for number, end_at in enumerate(out[::-1] if side == "_R" else out, 1):
        base = 0.35 * end_at
        base[0] = 0.7 * end_at[0]  # toes run nearly side by side
        base = fine.kept(base)
        inner = fine.kept(0.45 * base + 0.55 * end_at)
        places = np.array([base, inner, end_at]) @ axes + place
        sketch.put_chain(f"{stem}_{number}", ball, places, side, across, spread=0.02)


# --- hands --------------------------------------------------------------------------------------------------------------
def lay_digits(sketch: Sketch, side: str, line: Line, digits: list[Digit]) -> bool:
    """Fingers and thumb of one hand as they were found (`digits_of_both`); False where the hand shows none."""
    if len(digits) < 2:
        return False
    fingers = sorted((d.visible for d in digits), reverse=True)
    share = float(np.mean(fingers[: max(1, len(fingers) - 1)])) / P.finger_of_hand
    # The fingers tell the hand's length better than the arm's shares do, within what hands are.
    better = float(np.clip(share, P.hand_least * line.total, P.hand_most * line.total))
    wrist = line.at(better)
    sketch.found[f"hand_{side}"] = (f"forearm_{side}", wrist, "hand", True)
    sketch.spread[f"hand_{side}"] = min(sketch.spread.get(f"hand_{side}", 0.02), 0.02)
    digits = [
        d
        for d in digits
        if np.linalg.norm(d.base - wrist) < 1.5 * better and np.linalg.norm(d.tip - wrist) < 2.2 * better
    ]
    if len(digits) < 2:
        return False
    ranked = name_digits(digits)
    main = [d for n, d in ranked if n != "thumb"]
    middle = np.mean([d.base for d in main], axis=0)
    along = unit(middle - wrist)
    other = ranked[0][1].base if ranked[0][0] == "thumb" else main[0].base
    lateral = (main[0].base - main[-1].base) if len(main) > 1 else other - main[-1].base
    lateral = unit(lateral - along * (lateral @ along))
    sign = 1.0 if side == "L" else -1.0
    sketch.hinges[f"hand_{side}"] = -lateral * sign
    palm = np.cross(along, lateral) * sign
    for name, d in ranked:
        hinge = -lateral * sign
        if name == "thumb":  # it tucks across the palm
            axis = np.cross(d.tip - d.base, palm - 0.6 * lateral)
            hinge = -unit(axis) if np.linalg.norm(axis) > 1e-9 else hinge
        parent = f"hand_{side}"
        total = float(lengths_along(d.path)[-1])
        for i, s in enumerate((0.0, P.knuckle_2, P.knuckle_3)):
            place = d.base + (at_length(d.path, s * total) - d.path[0])
            parent = sketch.put(f"{name}_{i + 1}_{side}", parent, place, f"{name}_{i + 1}", hinge=hinge, spread=0.012)
        word = "left fingertip" if side == "L" else "right fingertip"
        mark = word if name in ("middle", "index") and f"middle_end_{side}" not in sketch.found else ""
        sketch.put(f"{name}_end_{side}", parent, d.tip, f"{name}_end", False, mark=mark, spread=0.01)
    return True


def digits_of_both(
    character: Character, body: Body, lines: Sequence[Line], wrists: Sequence[np.ndarray], wanted: int
) -> list[list[Digit]]:
    """The digits of both hands, the `wanted` longest where that is more than none; from the arms' lines and wrists (3,)."""

    def found(k: int) -> list[Digit]:
        hand = max(lines[k].nearest(wrists[k]), 1e-6)
        digits = find_digits(character, body.solid, lines[k], hand)
        return digits[:wanted] if wanted > 0 else digits

    with ThreadPoolExecutor(2) as hands:  # searches let one another run
        return list(hands.map(found, (0, 1)))


def find_digits(character: Character, solid: Solid, line: Line, hand: float) -> list[Digit]:
    """Digits at the end of an arm's line (from the fingertip), the hand about `hand` metres long; longest first."""
    path = line.p[line.s < 1.7 * hand]
    if len(path) < 4:
        return []
    low, high = path.min(0) - 0.8 * hand, path.max(0) + 0.8 * hand
    cell = max(solid.h / 3.5, (float(np.prod(high - low)) / 1.5e6) ** (1 / 3))
    fine = solid_from_mesh(character.points, skin_triangles(character), cell, (low, high))
    if len(fine.cells) < 200:
        return []
    forearm = line.at(min(1.25 * hand, line.total))
    wrist = int(fine.nearest(forearm[None])[0])
    d = distances_from(fine, wrist)
    if not np.isfinite(d).any():
        return []
    d = np.where(d < 1.9 * hand, d, np.inf)
    outward = line.p[0] - forearm
    found = [
        Tip(fine.centres[t], fine.centres[m], n, t)
        for t, n, m in extremities(fine, d, 0.12 * hand)
        if 0.5 * hand < d[t] and (fine.centres[t] - forearm) @ outward > 0.15 * float(outward @ outward)
    ]
    if len(found) < 2:
        return []
    levels = {b.cell: float(d[b.cell]) - b.length for b in found}
    others = sorted((levels[b.cell] for b in found[1:]), reverse=True)
    levels[found[0].cell] = float(np.mean(others[: max(1, len(others) - 1)]))  # its gap is that of its neighbours
    out = []
    for b in found[: len(DIGIT_NAMES) + 1]:
        inner = way(fine, b.cell, wrist, even=3.0)
        along = lengths_along(inner)
        visible = float(d[b.cell] - levels[b.cell])
        s = min(visible * P.inside_palm, 0.8 * float(along[-1]))  # digits begin inside the palm
        if (along <= s).sum() > 2:
            out.append(Digit(b.place, at_length(inner, s), inner[along <= s][::-1], visible, levels[b.cell]))
    return out
