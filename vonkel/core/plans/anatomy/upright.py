"""The joints of a body on two legs, in any pose and at any slope of its trunk."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.ndimage import gaussian_filter1d

from ...character import Character
from ...geometry.rotations import unit
from ...geometry.voxels import Solid
from ..arms import Digit
from ..frame import frame_facing
from ..proportions import BIPED as P
from ..sketch import Sketch
from .body import UP, Body, flat
from .ends import crown_of, digits_of_both, foot_of, foot_way, lay_digits, lay_ears, lay_eyes_and_jaw, lay_toes_of
from .line import Corners, Line, Prior, between, corners_of, ended, inwards, joint_at, thin_reward
from .roles import Roles

SIDES = (("L", "left", 1.0), ("R", "right", -1.0))
# Set on TRIED builds and the cast: the hip lies so many thigh's radii above the crotch; the shoulder so much of the trunk's
# half thickness, less a share of the height, inside the armpit; the ankle at that share of the leg's line.
LEVEL = 0.8  # the rise of a trunk over its length below which it leans
HIP_RISE, SHOULDER_IN, SHOULDER_OUT, ANKLE_AT = 0.95, 0.9, 0.046, 0.19
FORWARD = 0.4  # of the way to the neck that the shoulders of a level trunk lie before where the arm meets its flesh
# Set on bodies by chance: the middle of the hips lies that deep in the pelvis (of the greatest depth within a share of the height
# above the crotch), and they are no farther from it than that share of it.
PELVIS, PELVIS_DEEP, PELVIS_WIDE, PELVIS_LEAST = 0.2, 0.7, 0.65, 0.025


@dataclass
class Limbs:
    """A pair of limbs: tips, their lines from the tip to the root, the root's place, corners and the joints at them."""

    tips: list[int]
    lines: list[Line] = field(default_factory=list)
    roots: list[np.ndarray] = field(default_factory=list)
    corners: list[Corners] = field(default_factory=list)
    lower: list[np.ndarray] = field(default_factory=list)  # ankles, wrists
    upper: list[np.ndarray] = field(default_factory=list)  # knees, elbows
    far: list[float] = field(default_factory=list)  # where the limb leaves the trunk, metres from its tip
    thick: float = 0.0
    odd: float = 0.0

    def swap(self) -> None:
        for name in ("tips", "lines", "roots", "corners", "lower", "upper", "far"):
            getattr(self, name).reverse()


def find_legs(body: Body, tips: list[int], head: int) -> tuple[Limbs, Line]:
    """From the crotch, half way between the soles through the inside, to the hips; ankle and knee on the way.  And the trunk's
    line, from the head's tip to the middle between the hips."""
    solid = body.solid
    legs = Limbs(tips)
    crotch = 0.5 * float(body.table[tips[0], tips[1]])
    lines = [inwards(body, i) for i in tips]
    girths = [float(np.median(x.depth[(x.g > 0.72 * crotch) & (x.g < 0.97 * crotch)])) if ((x.g > 0.72 * crotch) & (x.g < 0.97 * crotch)).any() else float(x.depth.max()) for x in lines]  # fmt: skip
    legs.thick = float(np.mean(girths))
    legs.odd = abs(girths[0] - girths[1])
    for line in lines:
        s0, s1 = line.s_of(0.66 * crotch), line.s_of(0.97 * crotch)
        legs.roots.append(line.at(s1) + line.way(s0, s1) * (HIP_RISE * legs.thick + 0.03 * crotch))
    legs.roots, trunk = _in_the_pelvis(body, legs.roots, head)
    legs.lines = [ended(x, x.s_of(0.97 * crotch), r, solid) for x, r in zip(lines, legs.roots, strict=True)]
    prior = Prior(((ANKLE_AT, 0.06), (ANKLE_AT + (1 - ANKLE_AT) * P.knee, 0.04)), (0.25, 1.0, 1.0), 0.15)
    legs.corners = corners_of(legs.lines, prior)
    legs.lower = [joint_at(x, c.share[0]) for x, c in zip(legs.lines, legs.corners, strict=True)]
    legs.upper = [joint_at(x, c.share[1]) for x, c in zip(legs.lines, legs.corners, strict=True)]
    return legs, trunk


def _in_the_pelvis(body: Body, roots: list[np.ndarray], head: int) -> tuple[list[np.ndarray], Line]:
    """The roots of the legs where thighs that touch have hidden the crotch: the middle between hips lies in the pelvis's flesh,
    nearly as deep as it gets, and they lie no farther apart than that is wide.  And the trunk's line to that middle."""
    solid, middle = body.solid, 0.5 * (roots[0] + roots[1])
    trunk = between(body, body.place(head), middle)
    up = np.linspace(0.0, PELVIS * body.tall, 40)
    way = np.array([trunk.at(trunk.total - s) for s in up])
    depth = solid.depth[solid.nearest(way)]
    most = float(depth.max())
    k = int(np.argmax(depth >= PELVIS_DEEP * most))
    k = int(np.searchsorted(up, up[k] - PELVIS_LEAST * body.tall))  # a little is the shape's own
    if k == 0:
        return roots, trunk
    half = 0.5 * float(np.linalg.norm(roots[0] - roots[1]))
    narrower = min(1.0, PELVIS_WIDE * most / max(half, 1e-9))
    roots = [way[k] + (r - middle) * narrower for r in roots]
    return roots, between(body, body.place(head), 0.5 * (roots[0] + roots[1]))


def find_arms(body: Body, roles: Roles, feet: list[int]) -> Limbs:
    """From where hand–foot and hand–head part, then on along the upper arm's own line to the shoulder."""
    solid, tall = body.solid, body.tall
    arms = Limbs([roles["hand_a"], roles["hand_b"]])
    leave = [min(body.parts(i, roles["head"], j) for j in feet) for i in arms.tips]
    arms.odd = abs(leave[0] - leave[1]) / max(leave)
    arms.far = [0.5 * sum(leave)] * 2 if arms.odd < 0.18 else [max(leave)] * 2
    for i, g in zip(arms.tips, arms.far, strict=True):
        line = inwards(body, i)
        s0, s1 = line.s_of(0.68 * g), line.s_of(0.94 * g)
        inside = max(SHOULDER_IN * float(line.depth.max()) - SHOULDER_OUT * tall, -0.05 * g)
        # never farther in than the flesh of the upper arm twice: a stout trunk holds its shoulders out
        limb = float(np.median(line.depth[(line.s > 0.6 * s1) & (line.s <= s1)])) if s1 > 0 else 0.0
        shoulder = line.at(s1) + line.way(s0, s1) * (0.06 * g + min(inside, 1.8 * limb))
        arms.roots.append(shoulder)
        arms.lines.append(ended(line, s1, shoulder, solid))
    whole = P.hand + P.forearm + P.upper_arm
    prior = Prior(((P.hand / whole, 0.04), ((P.hand + P.forearm) / whole, 0.035)), (0.15, 1.0, 1.0))
    extra = [thin_reward(x, 0.16, 0.36, 0.8)[:, None] for x in arms.lines]
    arms.corners = corners_of(arms.lines, prior, extra)
    arms.lower = [joint_at(x, c.share[0]) for x, c in zip(arms.lines, arms.corners, strict=True)]
    arms.upper = [joint_at(x, c.share[1]) for x, c in zip(arms.lines, arms.corners, strict=True)]
    return arms


def bulge(a: np.ndarray, b: np.ndarray, c: np.ndarray, way: np.ndarray) -> float:
    """How far b lies out of the line a–c towards `way`, −1 … 1 (a bend of about 25° counts full)."""
    w = c - a
    off = b - a - w * float((b - a) @ w / max(float(w @ w), 1e-12))
    return float(np.clip(off @ unit(way) / max(float(np.linalg.norm(w)), 1e-12) / 0.11, -1, 1))


def folded(a: np.ndarray, b: np.ndarray, c: np.ndarray, way: np.ndarray) -> np.ndarray:
    """The joint b between a and c, which folds towards `way`: nearly straight limbs that seem to fold the other way are
    bent a little the right one."""
    out = bulge(a, b, c, way)
    if out > 0.05 or out < -0.75:
        return b
    w = c - a
    long = float(np.linalg.norm(w))
    on = a + w * float((b - a) @ w / max(long * long, 1e-12))
    across = unit(way - w * float(way @ w) / max(long * long, 1e-12))
    return np.asarray(on + 0.02 * long * across)


def face_vote(solid: Solid, near: np.ndarray, facing: np.ndarray) -> float:
    """Heads have more flesh before their neck (chin, muzzle) than behind it: where the head's lower half lies."""
    c = solid.centres[near]
    if len(c) < 50:
        return 0.0
    low, high = np.percentile(c[:, 1], [15, 60])
    upper = c[c[:, 1] > high]
    band = c[(c[:, 1] > low) & (c[:, 1] < high)]
    if not len(upper) or not len(band):
        return 0.0
    ahead = (band - upper.mean(0)) @ unit(flat(facing))
    return float(
        np.clip((np.percentile(ahead, 97) + np.percentile(ahead, 3)) / max(0.3 * float(np.ptp(ahead)), 1e-9), -1, 1)
    )


def vote_facing(body: Body, roles: Roles, legs: Limbs, arms: Limbs, facing: np.ndarray) -> tuple[float, float]:
    """(votes for facing that way less those against it, how sure: 0 to 1): feet, knees, elbows, tail, eyes, face."""
    head, solid = roles["head"], body.solid
    votes: list[tuple[float, float]] = []
    for k, tip in enumerate(legs.tips):
        line = legs.lines[k]
        way, clear, _ = foot_way(body, tip, line, legs.corners[k].share[0] * line.total, legs.lower[k], legs.upper[k])
        votes.append((1.5, float(way @ facing) * clear))
        toe = flat(line.p[0] - legs.lower[k])
        votes.append((1.5, float(unit(toe) @ facing) * min(1.0, float(np.linalg.norm(toe)) / (0.03 * body.tall))))
    bends = [bulge(*three, facing) for three in zip(legs.roots, legs.upper, legs.lower, strict=True)]
    votes += [(1.0, v) for v in bends]
    middle = 0.5 * (legs.roots[0] + legs.roots[1])
    up = unit(0.5 * (arms.roots[0] + arms.roots[1]) - middle)
    chest = np.cross(unit(arms.roots[0] - arms.roots[1]), up)
    votes += [(0.8, -bulge(*three, chest)) for three in zip(arms.roots, arms.upper, arms.lower, strict=True)]
    if "tail" in roles:
        votes.append((1.5, -float(unit(flat(body.place(roles["tail"]) - middle)) @ facing)))
    lean = flat(up)
    if np.linalg.norm(lean) > 0.4:  # a trunk that leans far leans forward
        votes.append((2.0, float(unit(lean) @ facing) * float(np.linalg.norm(lean))))
    left = np.cross(UP, facing)
    for name, p in body.pins.items():  # what the rigger said decides
        if name.endswith(("_L", "_R")):
            votes.append((9.0, (1.0 if name.endswith("_L") else -1.0) * float(np.sign((p - middle) @ left))))
    neck = body.parts(head, *arms.tips)
    eyes = body.eyes_middle
    if eyes is not None:
        near = body.far[head] < max(0.9 * neck, 0.05 * body.span)
        near &= np.linalg.norm(solid.centres - eyes, axis=1) < 0.6 * neck + 2 * body.eyes[0][1]
        deep = near & (solid.depth > 0.6 * float(solid.depth[near].max())) if near.any() else near
        inner = solid.centres[deep].mean(0) if deep.any() else solid.centres[body.far[head] < 0.5 * neck].mean(0)
        out = flat(eyes - inner)
        if len(body.eyes) == 2:  # a pair of eyes looks across the line between them, whatever side the flesh lies on
            way = np.cross(UP, unit(flat(body.eyes[0][0] - body.eyes[1][0])))
            out = way * float(np.sign(out @ way) or 1.0)
        votes.append((7.0, float(unit(out) @ facing)))
    else:
        votes.append((0.6, face_vote(solid, body.far[head] < 0.75 * neck, facing)))
    total = sum(w * v for w, v in votes)
    return total, abs(total) / sum(w * max(abs(v), 0.25) for w, v in votes)


def fit_upright(character: Character, body: Body, roles: Roles, options: Any, wings: bool = False) -> Sketch:
    """Joints of an upright body, left and right each on its own.  options: spine, neck, tail, digits, toes.  wings: its left and
    right are those of its shoulders, as its legs are small beside them."""
    solid, h = body.solid, roles["head"]
    legs, trunk = find_legs(body, [roles["foot_c"], roles["foot_d"]], h)
    arms = find_arms(body, roles, legs.tips)
    across = unit(flat(legs.roots[0] - legs.roots[1]))
    if (arms.roots[0] - arms.roots[1]) @ across < 0:
        arms.swap()
    if wings:
        across = unit(flat(arms.roots[0] - arms.roots[1]))
    facing = np.cross(across, UP)  # if the first of each pair were left
    total, sure = vote_facing(body, roles, legs, arms, facing)
    if total < 0:
        legs.swap()
        arms.swap()
        across, facing = -across, -facing
    middle = 0.5 * (legs.roots[0] + legs.roots[1])
    sketch = Sketch(frame=frame_facing(facing, middle, sure), cost=roles.cost)
    spine = _spine(body, sketch, trunk, legs, arms, options, across)
    near = body.far[h] < max(spine.narrow, 0.3 * body.parts(h, *arms.tips))
    up_head = unit(trunk.at(max(spine.head - 1.2 * spine.girth, 0.5 * spine.head)) - trunk.at(spine.neck))
    upright = unit(trunk.at(0.35 * trunk.total) - middle)
    crown = crown_of(solid, near, sketch.place("head"), unit(up_head + 0.6 * upright))
    if upright[1] < 0.6:  # over a level trunk the head stands up by itself
        crown = crown_of(solid, near, sketch.place("head"), unit(UP + 0.4 * unit(flat(up_head))))
    # An ear or a horn is the head's tip then, and hides where its crown is.
    hidden = float(np.linalg.norm(crown - body.place(h))) > 0.06 * body.tall
    doubt = 0.03 if upright[1] >= 0.6 and not hidden else 0.07
    sketch.put("head_end", "head", crown, "", False, mark="crown", spread=doubt)
    ahead = lay_eyes_and_jaw(body, sketch, crown, facing)
    lay_ears(body, sketch, near, crown, ahead)
    _bring_forward(solid, sketch, arms)
    between_arms = trunk.at(min(spine.shoulders, trunk.nearest(0.5 * (arms.roots[0] + arms.roots[1]))))
    _lay_arms(character, body, sketch, arms, between_arms, across, options)
    _lay_legs(character, body, sketch, legs, across, options)
    # The less a trunk stands, the less is known of where neck and shoulders leave it.
    level = 0.10 * float(np.clip((LEVEL - upright[1]) / LEVEL, 0, 1))
    for n, (_, _, role, _) in sketch.found.items():
        if role in ("neck", "head", "head_end", "collar", "upper_arm"):
            sketch.spread[n] = float(np.hypot(sketch.spread.get(n, 0.02), level))
    if "tail" in roles and options.tail:
        _lay_tail(body, sketch, roles["tail"], across, options.tail)
    return sketch


def _bring_forward(solid: Solid, sketch: Sketch, arms: Limbs) -> None:
    """Shoulders under a level trunk: arms that hang from it leave its flesh behind them, nearer to the hips."""
    neck = sketch.place("neck" if "neck" in sketch.found else "neck_1")
    up = unit(neck - sketch.place("hips"))
    level = float(np.clip((LEVEL - up[1]) / (LEVEL - 0.45), 0.0, 1.0))
    if level > 0:
        arms.roots = [solid.kept(r + FORWARD * level * max(float((neck - r) @ up), 0.0) * up) for r in arms.roots]


@dataclass
class _Spine:
    """Metres along the trunk's line from the head's tip."""

    neck: float
    head: float
    narrow: float
    shoulders: float
    girth: float


HEADS = 0.5  # of a neck's radius before its flesh becomes the head's: where the head turns
FLARES = 1.2  # of a neck's radius: where it has become the trunk


def _spine(
    body: Body, sketch: Sketch, trunk: Line, legs: Limbs, arms: Limbs, options: Any, across: np.ndarray
) -> _Spine:  # fmt: skip
    """Hips a little above the hip joints, the neck at the narrowest place between shoulders and head."""
    tall = body.tall
    s_shoulders = trunk.nearest(0.5 * (arms.roots[0] + arms.roots[1]))
    depth = gaussian_filter1d(trunk.depth, 3, mode="nearest")
    top = int(np.argmax(np.where(trunk.s < 0.7 * s_shoulders, depth, -1)))
    ok = (trunk.s > trunk.s[top]) & (trunk.s < s_shoulders - P.neck_least * tall)
    k = (
        int(np.flatnonzero(ok)[np.argmin(depth[ok])])
        if ok.any()
        else max(int(np.argmin(np.abs(trunk.s - s_shoulders))) - 3, 0)
    )
    narrow, girth = float(trunk.s[k]), float(depth[k])
    clear = float(depth[: k + 1].max() / girth)  # how much thicker the head is than the neck
    # A neck is as thick all along: it begins where the trunk's flesh does.
    flares = np.flatnonzero((trunk.s > narrow) & (depth > FLARES * girth))
    base = float(trunk.s[flares[0]]) if len(flares) else s_shoulders
    s_neck = min(max(narrow + P.neck_down * girth, base), s_shoulders - P.neck_least * tall)
    skull = np.flatnonzero((trunk.s < narrow) & (depth > FLARES * girth))
    rim = float(trunk.s[skull[-1]]) if len(skull) else narrow
    s_head = min(narrow - P.head_up * girth, rim + HEADS * girth, s_neck - P.head_least * tall)
    s_hips = trunk.total - P.hips_rise * tall
    sketch.put("hips", None, trunk.at(s_hips), "hips", hinge=across, mark="hips", spread=0.012 + 0.25 * legs.odd / tall)
    shares = np.linspace(0.0, P.chest, options.spine + 1)[1:]
    places = np.stack([trunk.at(s_hips + (s_neck - s_hips) * t) for t in shares])
    chest = sketch.put_spine("hips", places, across, "chest", 0.02)
    doubt = 0.012 if clear > 1.25 else 0.03
    necks = np.stack([trunk.at(s_neck + (s_head - s_neck) * i / options.neck) for i in range(options.neck)])
    above = sketch.put_neck(chest, necks, across, "neck", doubt)
    sketch.put("head", above, trunk.at(max(s_head, 0.02 * tall)), "head", hinge=across, mark="head", spread=doubt)
    return _Spine(s_neck, s_head, narrow, s_shoulders, girth)


def fold_of(
    a: np.ndarray, b: np.ndarray, c: np.ndarray, straight: np.ndarray, least: float = P.arm_straight
) -> np.ndarray:
    """The axis about which a positive turn closes the bend at b; `straight` where there is hardly any."""
    n = np.cross(b - a, c - b)
    return n if np.linalg.norm(n) > least * np.linalg.norm(b - a) * np.linalg.norm(c - b) else straight


def _lay_arms(
    character: Character, body: Body, sketch: Sketch, arms: Limbs, base: np.ndarray, across: np.ndarray, options: Any
) -> None:
    tall = body.tall
    chest = sketch.last("chest")
    up = unit(sketch.place("neck" if "neck" in sketch.found else "neck_1") - sketch.place(chest))
    ahead = unit(np.cross(unit(arms.roots[0] - arms.roots[1]), up))
    digits: list[list[Digit]] = [[], []]
    if options.digits:
        digits = digits_of_both(character, body, arms.lines, arms.lower, options.digits)
    for k, (side, word, sign) in enumerate(SIDES):
        c, line = arms.corners[k], arms.lines[k]
        long = line.total / tall
        shoulder, elbow, wrist = arms.roots[k], arms.upper[k], arms.lower[k]
        collar = base + P.collar_out * (shoulder - base) + (ahead - up) * P.collar_drop * tall
        fold = fold_of(shoulder, elbow, wrist, np.cross(-ahead, wrist - shoulder))
        sketch.put(f"collar_{side}", chest, collar, "collar", hinge=sign * ahead, spread=0.02)
        sketch.put(
            f"upper_arm_{side}", f"collar_{side}", shoulder, "upper_arm", hinge=fold, mark=f"{word} shoulder",
            spread=0.015 + 0.3 * arms.odd * long,
        )  # fmt: skip
        sketch.put(
            f"forearm_{side}", f"upper_arm_{side}", elbow, "forearm", hinge=fold, mark=f"{word} elbow",
            spread=0.006 + c.spread[1] * long,
        )  # fmt: skip
        sketch.put(
            f"hand_{side}", f"forearm_{side}", wrist, "hand", hinge=fold, mark=f"{word} wrist",
            spread=0.006 + c.spread[0] * long,
        )  # fmt: skip
        if not lay_digits(sketch, side, line, digits[k]):
            sketch.put(
                f"hand_end_{side}", f"hand_{side}", line.p[0], "hand_end", False, mark=f"{word} fingertip", spread=0.01
            )


def _lay_legs(character: Character, body: Body, sketch: Sketch, legs: Limbs, across: np.ndarray, options: Any) -> None:
    tall = body.tall
    apart = float(np.linalg.norm(legs.roots[0] - legs.roots[1]))
    for k, (side, word, _) in enumerate(SIDES):
        c, line = legs.corners[k], legs.lines[k]
        long = line.total / tall
        hip, knee, ankle = legs.roots[k], legs.upper[k], legs.lower[k]
        knee = folded(hip, knee, ankle, sketch.frame.facing)
        bend = bulge(hip, knee, ankle, sketch.frame.facing)
        # Knees of bodies that stand on two legs close backwards; only a bend that can't be doubted folds the other way.
        fold = across if bend > -0.9 else -across
        if bend > 0.3:
            fold = fold_of(hip, knee, ankle, across)
            fold = fold if fold @ across > 0 else across
        sketch.put(
            f"thigh_{side}", "hips", hip, "thigh", hinge=fold, mark=f"{word} hip",
            spread=0.015 + 0.5 * max(0.0, 0.5 - apart / (4 * max(legs.thick, 1e-9))),
        )  # fmt: skip
        sketch.put(
            f"shin_{side}",
            f"thigh_{side}",
            knee,
            "shin",
            hinge=fold,
            mark=f"{word} knee",
            spread=0.006 + c.spread[1] * long,
        )
        sketch.put(
            f"foot_{side}",
            f"shin_{side}",
            ankle,
            "foot",
            hinge=across,
            mark=f"{word} ankle",
            spread=0.006 + c.spread[0] * long,
        )
        ball, toe, ahead = foot_of(body, legs.tips[k], line, c.share[0] * line.total, ankle, knee, sketch.frame.facing)
        sketch.put(f"ball_{side}", f"foot_{side}", ball, "ball", hinge=across, spread=0.015)
        sketch.put(f"toe_end_{side}", f"ball_{side}", toe, "toe_end", False, mark=f"{word} toe", spread=0.012)
        if options.toes:
            lay_toes_of(character, sketch, f"ball_{side}", f"toe_end_{side}", "toe", ahead, across, options.toes)


def _lay_tail(body: Body, sketch: Sketch, tip: int, across: np.ndarray, links: int) -> None:
    hips = sketch.place("hips")
    way = between(body, body.place(tip), hips, 4.0)
    thick = float(body.solid.depth[body.solid.nearest(hips[None])[0]])
    out = np.flatnonzero(np.linalg.norm(way.p - hips, axis=1) > 0.75 * thick)
    root = float(way.s[out[-1]]) if len(out) else way.total
    places = np.stack([way.at(root * (1 - j / links)) for j in range(links + 1)])
    sketch.put_chain("tail", "hips", places, hinge=across, mark="tail", spread=0.015)
