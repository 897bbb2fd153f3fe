"""The joints of a body on four legs, in any pose: girdles where the legs of a pair meet, a trunk between them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ...character import Character
from ...geometry.measures import lengths_along
from ...geometry.rotations import unit
from ...geometry.voxels import Solid
from ..frame import frame_facing
from ..landmarks import at_length
from ..shapes import neck_end
from ..sketch import Sketch
from .body import UP, Body, flat, pieces_of, with_tips, without_tips
from .ends import foot_way, lay_ears, lay_eyes_and_jaw, lay_toes_of
from .heads import find_head
from .line import Line, Prior, between, corners_of, ended, inwards, joint_at
from .roles import Roles
from .upright import SIDES, bulge, folded

LEG_TOP, BALL_AT, BALL_AHEAD = 0.92, 0.085, 0.28  # of the leg's half way to its partner; of its line; of ankle to toe


NECKLESS = (1.0, 1.5)  # halves of a girdle behind it, where the trunk is looked at without a neck
HIGHER = 1.3  # a girdle is no more than that many times higher than the trunk behind it


@dataclass(frozen=True, eq=False)
class Girdle:
    """Where a pair of legs meets the trunk, in its own frame: left, up, ahead; low and high along up from the middle."""

    middle: np.ndarray
    ahead: np.ndarray
    left: np.ndarray
    up: np.ndarray
    low: float
    high: float
    half: float
    half_width: float
    thick: float

    def at(self, x: float, y: float, z: float) -> np.ndarray:
        return np.asarray(self.middle + x * self.left + y * self.up + z * self.ahead)


def girdle(tops: list[np.ndarray], ahead: np.ndarray, solid: Solid) -> Girdle:
    middle = 0.5 * (tops[0] + tops[1])
    left = tops[0] - tops[1]
    left = unit(
        left - ahead * float(left @ ahead) * 0.7
    )  # legs that stride shift their tops; the trunk's way says more
    ahead = unit(ahead - left * float(ahead @ left))
    up = unit(np.cross(ahead, left))
    up = up if up[1] > 0 else -up
    half = max(0.5 * float(abs((tops[0] - tops[1]) @ left)), solid.h)
    off = solid.centres - middle
    z, x, y = off @ ahead, off @ left, off @ up
    ok = (np.abs(z) < 2 * solid.h) & (np.abs(x) < max(0.3 * half, 2 * solid.h)) & (y > -1.5 * half)
    wide = (np.abs(z) < 2 * solid.h) & (np.abs(y) < 3 * half) & (y > 0.5 * half)
    if not ok.any():
        ok = np.linalg.norm(off, axis=1) < 3 * half
    thick = float(np.mean(solid.depth[solid.nearest(np.array(tops))]))
    # the piece that is joined to the middle, not a neck above it
    ys = np.unique(np.round(y[ok] / solid.h).astype(int))
    lo = hi = int(np.argmin(np.abs(ys - half / solid.h)))
    while hi + 1 < len(ys) and ys[hi + 1] - ys[hi] <= 2:
        hi += 1
    while lo > 0 and ys[lo] - ys[lo - 1] <= 2:
        lo -= 1
    width = float(np.abs(x[wide]).max()) if wide.any() else 1.4 * half
    high = float(ys[hi] * solid.h)
    for back in NECKLESS:  # a neck that rises right over the girdle is none of the trunk's height
        ok = (
            (np.abs(z + back * half) < 2 * solid.h)
            & (np.abs(x) < max(0.3 * half, 2 * solid.h))
            & (np.abs(y) < 4 * half)
        )
        if ok.any():
            high = min(high, max(HIGHER * float(y[ok].max()), half))
    return Girdle(middle, ahead, left, up, ys[lo] * solid.h, high, half, width, thick)


def lifted(solid: Solid, p: np.ndarray) -> np.ndarray:
    """The deepest place over p: the middle of the trunk over a girdle."""
    c = solid.centres
    off = c - p
    ok = (np.linalg.norm(flat(off), axis=1) < 3 * solid.h) & (off[:, 1] > -2 * solid.h)
    return np.asarray(c[np.flatnonzero(ok)[np.argmax(solid.depth[ok])]]) if ok.any() else p


def fit_four(character: Character, body: Body, roles: Roles, options: Any) -> Sketch:
    """Joints of a four-legged body, left and right each on its own.  options: spine, neck, tail, toes."""
    solid = body.solid
    pairs = {"fore": [roles["hand_a"], roles["hand_b"]], "hind": [roles["foot_c"], roles["foot_d"]]}
    lines = {k: [inwards(body, i, 2.0) for i in p] for k, p in pairs.items()}
    gap = {k: 0.5 * float(body.table[p[0], p[1]]) for k, p in pairs.items()}
    belly = belly_of(body, lines)
    tops = {k: [leg_top(solid, x, gap[k], belly) for x in lines[k]] for k in pairs}
    ahead = unit(0.5 * (tops["fore"][0] + tops["fore"][1]) - 0.5 * (tops["hind"][0] + tops["hind"][1]))
    left = np.cross(UP, unit(flat(ahead)))
    for k in pairs:
        if float((tops[k][0] - tops[k][1]) @ left) < 0:
            pairs[k].reverse()
            lines[k].reverse()
            tops[k].reverse()
    back, front = (lifted(solid, 0.5 * (tops[k][0] + tops[k][1])) for k in ("hind", "fore"))
    trunk = between(body, back, front, 6.0)
    hind = girdle(tops["hind"], trunk.way(0, 0.45 * trunk.total), solid)
    fore = girdle(tops["fore"], trunk.way(0.55 * trunk.total, trunk.total), solid)
    level = float(np.linalg.norm(flat(ahead)))
    sure = float(np.clip(level * (1.0 if "tail" in roles else 0.75), 0, 1))
    sketch = Sketch(frame=frame_facing(unit(flat(ahead)), 0.5 * (hind.middle + fore.middle), sure), cost=roles.cost)
    across = sketch.frame.left
    chest_end = _spine(body, sketch, trunk, hind, fore, options.spine, across)
    skull = _head(body, sketch, roles, chest_end, options.neck, across)
    ahead_of_head = unit(sketch.place("head_end") - sketch.place("head"))
    lay_eyes_and_jaw(body, sketch, sketch.place("head") + UP, ahead_of_head)
    crown = sketch.place("head") + 0.75 * UP * float(np.linalg.norm(sketch.place("head_end") - sketch.place("head")))
    lay_ears(body, sketch, skull, crown, ahead_of_head)
    for kind, section in (("hind", hind), ("fore", fore)):
        _legs(character, body, sketch, kind, section, pairs[kind], lines[kind], tops[kind], options)
    if "tail" in roles and options.tail:
        _tail(body, sketch, roles["tail"], across, options.tail)
    return sketch


@dataclass(frozen=True, eq=False)
class Belly:
    """The trunk's underside between the girdles, a line: its height half way, and how it rises ahead."""

    middle: np.ndarray
    along: np.ndarray
    height: float
    slope: float

    def at(self, p: np.ndarray) -> float:
        """Its height over or under a place."""
        return self.height + self.slope * float((p - self.middle) @ self.along)


STEEPEST = 0.8  # a trunk rises no more than that between its girdles


def belly_of(body: Body, lines: dict[str, list[Line]]) -> Belly:
    """The underside half way between the girdles, where no leg is, going on as the trunk's axis does."""
    solid = body.solid
    feet = {k: np.mean([x.p[0] for x in both], axis=0) for k, both in lines.items()}
    middle, along = 0.5 * (feet["fore"] + feet["hind"]), unit(flat(feet["fore"] - feet["hind"]))
    off = flat(solid.centres - middle)
    z, x = off @ along, off @ np.cross(UP, along)
    span = float(np.linalg.norm(flat(feet["fore"] - feet["hind"])))
    seen = []
    for t in np.linspace(-0.18, 0.18, 7):
        here = np.flatnonzero((np.abs(z - t * span) < solid.h) & (np.abs(x) < 0.12 * span + solid.h))
        if len(here):
            y = solid.centres[here, 1]
            seen.append((t * span, float(y.min()), float(y[np.argmax(solid.depth[here])])))
    if not seen:
        return Belly(middle, along, body.low, 0.0)
    at, low, axis = np.array(seen).T
    slope = float(np.clip(np.polyfit(at, axis, 1)[0], -STEEPEST, STEEPEST)) if len(seen) > 2 else 0.0
    return Belly(middle, along, float(np.max(low - slope * at)), slope)


def leg_top(solid: Solid, line: Line, gap: float, belly: Belly) -> np.ndarray:
    """Where a leg meets the trunk: near where it meets its partner; legs that touch meet it too low, so then straight on
    to the height of the belly."""
    s = line.s_of(LEG_TOP * gap)
    top = line.at(s)
    rise = belly.at(top) - float(top[1])
    if rise < 2.0 * solid.h:
        return top
    later = line.p[line.s >= s]
    over = later[:, 1] >= float(top[1]) + rise
    if over.any():  # the flesh's own way up, but not towards the partner
        p = later[int(np.argmax(over))] - top
        across = np.cross(UP, belly.along)
        return solid.kept(top + p - across * float(p @ across))
    way = line.way(line.s_of(0.3 * gap), s) if s > 4 * solid.h else UP
    if way[1] < 0.6:
        way = unit(0.4 * way + 0.6 * UP)
    return solid.kept(top + way * rise / float(way[1]))


FEET = (0.12, 0.16, 0.2, 0.25, 0.3)  # heights below which feet are looked for, shares of the whole
STANCE = 0.25  # fore and hind feet stand at least that share of the size apart


def feet_apart(body: Body) -> list[Body]:
    """The body with a tip for each of four feet that stand on the ground, where legs that touch hide some; once with the pairs told
    apart along the way that the body stretches, once by how far they stand from one another.  Empty where neither gives four."""
    ground = flat(body.solid.centres - body.solid.centres.mean(0))
    long = np.linalg.eigh(ground.T @ ground)[1][:, -1]
    return [b for way in (long, None) if (b := _four_feet(body, way)) is not None]


def _four_feet(body: Body, long: np.ndarray | None) -> Body | None:
    """What stands below a level falls into pieces, and the pieces widest across are two feet side by side."""
    solid = body.solid
    heights = (solid.centres[:, 1] - body.low) / max(body.tall, 1e-9)
    for level in FEET:
        of = pieces_of(solid, heights < level)
        pieces = [np.flatnonzero(of == k) for k in range(1, int(of.max()) + 1)]
        least = 0.06 * sum(len(p) for p in pieces)
        pieces = sorted((p for p in pieces if len(p) > least), key=len, reverse=True)
        if not 2 <= len(pieces) <= 4:
            continue
        middles = np.array([flat(solid.centres[p].mean(0)) for p in pieces])
        between_them = middles[:, None] - middles[None]
        apart = np.linalg.norm(between_them, axis=2) if long is None else np.abs(between_them @ long)
        i, j = np.unravel_index(int(np.argmax(apart)), apart.shape)
        if apart[i, j] < STANCE * body.size:  # a level that only one pair of feet reaches
            continue
        left = np.cross(UP, unit(middles[i] - middles[j]))
        while len(pieces) < 4:
            wide = [float(np.ptp(solid.centres[p] @ left)) for p in pieces]
            k = int(np.argmax(wide))
            if wide[k] > 0.8 * apart[i, j]:  # two feet of one pair lie nearer than the pairs do
                break
            p, x = pieces[k], solid.centres[pieces[k]] @ left
            cut = 0.5 * float(x.min() + x.max())
            pieces[k : k + 1] = [p[x < cut], p[x >= cut]]
        if len(pieces) < 4 or min(len(p) for p in pieces) < 4:
            continue
        feet = []
        free, lifted_tips = _without_tip(body, pieces, long is not None)
        for p in free:
            c = solid.centres[p]
            sole = c[:, 1] < c[:, 1].min() + 1.5 * solid.h
            feet.append(int(p[sole][np.argmin(np.linalg.norm(flat(c[sole] - c.mean(0)), axis=1))]))
        return with_tips(without_tips(body, lifted_tips), feet, 0.5 * level * body.tall) if feet else None
    return None


STUB = 0.15  # what is longer, a share of the span, is a head or a tail
LIFTED = 0.12  # a foot's tip lies within that share of the span of what stands on the ground of it


def _without_tip(body: Body, pieces: list[np.ndarray], near_too: bool) -> tuple[list[np.ndarray], list[int]]:
    """Which feet have no tip in what stands on the ground of them, and which tips lie near such a foot (toes that point up)."""
    free = [p for p in pieces if not np.isin(body.tips, p).any()]
    if not near_too:
        return free, []
    own = {i for i, t in enumerate(body.tips) if any(t in p for p in pieces)}
    short = body.length < STUB * body.span
    low = [int(i) for i in np.flatnonzero((body.heights < 0.4) & short) if i not in own]
    near = sorted((float(body.far[i, p].min()), k, i) for k, p in enumerate(free) for i in low)
    of: dict[int, int] = {}
    for d, k, i in near:
        if d < LIFTED * body.span and i not in of and k not in of.values():
            of[i] = k
    return free, list(of)


def standing(sketch: Sketch) -> float:
    """What speaks against the way a four-legged sketch faces, about 0 … 2: toes that point backwards, knees, hocks and
    elbows that fold the wrong way, a head that hangs lower and nearer than the tail."""
    ahead = sketch.frame.facing
    place = sketch.place
    votes: list[tuple[float, float]] = []
    for side in "LR":
        for lower, toe in (("hand", "fore_toe_end"), ("foot", "toe_end")):
            way = flat(place(f"{toe}_{side}") - place(f"{lower}_{side}"))
            long = float(np.linalg.norm(place(f"{toe}_{side}") - place(f"{lower}_{side}")))
            votes.append((1.0, float(way @ ahead) / max(long, 1e-9)))
        votes.append((0.8, bulge(place(f"thigh_{side}"), place(f"shin_{side}"), place(f"foot_{side}"), ahead)))
        votes.append((0.8, -bulge(place(f"shin_{side}"), place(f"foot_{side}"), place(f"toe_end_{side}"), ahead)))
        votes.append((0.6, -bulge(place(f"upper_arm_{side}"), place(f"forearm_{side}"), place(f"hand_{side}"), ahead)))
    return 1.0 - sum(w * v for w, v in votes) / sum(w for w, _ in votes)


def _spine(
    body: Body, sketch: Sketch, trunk: Line, hind: Girdle, fore: Girdle, links: int, across: np.ndarray
) -> np.ndarray:  # fmt: skip
    """Hips, spine and chest under the back; returns the place before the chest where the neck's way begins."""
    solid = body.solid
    span = float(np.linalg.norm(fore.middle - hind.middle))

    def back(s: Girdle, z: float) -> np.ndarray:
        return s.at(0.0, s.low + 0.65 * (s.high - s.low), z)

    hips, end = back(hind, -0.02 * body.size), back(fore, 0.15 * span)
    sketch.put("hips", None, solid.kept(hips), "hips", hinge=across, mark="hips", spread=0.02)
    inner = trunk.p[(trunk.s > 0.2 * trunk.total) & (trunk.s < 0.85 * trunk.total)]
    line = np.vstack([hips, inner, end])
    total = float(lengths_along(line)[-1])
    rise = float(np.mean([0.18 * (s.high - s.low) for s in (hind, fore)]))
    places = []
    for t in np.linspace(0, 1, links + 2)[1:-1]:
        w = float(np.clip(min(t, 1 - t) / 0.2, 0, 1))
        places.append(solid.kept(at_length(line, t * total) + w * rise * unit(hind.up * (1 - t) + fore.up * t)))
    sketch.put_spine("hips", np.array(places), across, "chest", 0.025)
    return solid.kept(end)


def _head(
    body: Body, sketch: Sketch, roles: Roles, chest_end: np.ndarray, links: int, across: np.ndarray
) -> np.ndarray:
    solid = body.solid
    seen = find_head(body, roles["head"], chest_end, [i for n, i in roles.tips.items() if n != "head"])
    path = between(body, chest_end, seen.muzzle, 4.0)
    eyes = body.eyes_middle
    head_s = neck_end(solid, path.p, seen.crown)
    depth = solid.depth[solid.nearest(path.p)]
    thin = depth < 0.72 * float(depth[0])
    base_s = min(float(path.s[np.argmax(thin)]) if thin.any() else 0.3 * head_s, 0.4 * head_s)
    necks = path.evenly(max(0.6 * base_s, 0.1 * head_s), head_s, links + 1)
    # Without eyes nothing tells surely which of a head's tips is its muzzle: ears, horns and trunks are tips too.
    doubt = 0.02 if eyes is not None else 0.035 if seen.clear > 0.99 else 0.06 if seen.clear > 0.5 else 0.085
    above = sketch.put_neck("chest", necks[:-1], across, "neck", 0.025 if doubt < 0.05 else 0.8 * doubt)
    sketch.put("head", above, necks[-1], "head", hinge=across, mark="head", spread=doubt)
    sketch.put(
        "head_end", "head", path.p[-1], "head_end", False, mark="muzzle", spread=1.5 * doubt if eyes is None else 0.012
    )
    return seen.cells


FORE = ("upper_arm", "forearm", "hand", "fore_ball", "fore_toe_end")
HIND = ("thigh", "shin", "foot", "ball", "toe_end")
WORDS = {"fore": ("shoulder", "elbow", "wrist", "", "fore toe"), "hind": ("hip", "knee", "hock", "", "hind toe")}


def _legs(
    character: Character, body: Body, sketch: Sketch, kind: str, section: Girdle, tips: list[int], lines: list[Line],
    tops: list[np.ndarray], options: Any,
) -> None:  # fmt: skip
    solid, size, hind = body.solid, body.size, kind == "hind"
    across, forward = sketch.frame.left, flat(section.ahead)
    if hind:
        x, y, z = float(np.clip(0.85 * section.half, 0.25 * section.half_width, 0.75 * section.half_width)), 0.45, -0.35
    else:
        x, y, z = float(np.clip(0.9 * section.half, 0.25 * section.half_width, 0.8 * section.half_width)), 0.29, 0.45
    roots = [section.at(s * x, y * section.high, z * section.thick) for _, _, s in SIDES]
    whole = [
        ended(ended(line, min(line.nearest(t), line.s_of(line.g.max())), t, solid), 1e9, r, solid)
        for line, t, r in zip(lines, tops, roots, strict=True)
    ]
    prior = Prior(((0.27, 0.05), (0.60, 0.05)) if hind else ((0.28, 0.05), (0.69, 0.05)), (0.4, 1.0, 1.0), 0.25)
    corners = corners_of(whole, prior)
    names = HIND if hind else FORE
    for k, (side, word, sign) in enumerate(SIDES):
        line, c = whole[k], corners[k]
        long = line.total / size
        upper, lower = joint_at(line, c.share[1]), joint_at(line, c.share[0])
        upper = folded(roots[k], upper, lower, section.ahead if hind else -section.ahead)
        ball = line.at(BALL_AT * line.total)
        toe = _toe(body, tips[k], line, c.share[0], lower, upper, unit(forward))
        # the ball lies between ankle and toe, whatever of the foot the line's tip is
        ball = ball + (
            BALL_AHEAD * float((toe - lower) @ unit(forward)) - float((ball - lower) @ unit(forward))
        ) * unit(forward)
        parent = "hips"
        if not hind:
            blade = section.at(sign * 0.55 * 0.9 * section.half, 0.78 * section.high, -0.10 * section.thick)
            parent = sketch.put(f"collar_{side}", "chest", solid.kept(blade), "collar", hinge=across, spread=0.03)
        fold = np.cross(upper - roots[k], lower - upper)
        usual = across if hind else -across  # knees close backwards, elbows forwards
        fold = (
            fold
            if fold @ usual > 0.1 * float(np.linalg.norm(upper - roots[k]) * np.linalg.norm(lower - upper))
            else usual
        )
        places = (roots[k], upper, lower, ball)
        spreads = (0.025, 0.01 + c.spread[1] * long, 0.01 + c.spread[0] * long, 0.02)
        hinges = (fold, fold, across, across)
        for n in range(4):
            mark = f"{word} {WORDS[kind][n]}" if WORDS[kind][n] else ""
            parent = sketch.put(
                f"{names[n]}_{side}", parent, solid.kept(places[n]), names[n], True, hinges[n], mark, spreads[n]
            )
        mark = f"{word} {WORDS[kind][4]}"
        sketch.put(f"{names[4]}_{side}", parent, toe, names[4], False, mark=mark, spread=0.015)
        if options.toes:
            stem = "toe" if hind else "fore_toe"
            lay_toes_of(
                character, sketch, f"{names[3]}_{side}", f"{names[4]}_{side}", stem, forward, across, options.toes
            )


def _toe(
    body: Body, tip: int, line: Line, share: float, lower: np.ndarray, upper: np.ndarray, forward: np.ndarray
) -> np.ndarray:
    """The front of a foot: the farthest of its flesh the way it points, near the ground."""
    way, clear, _ = foot_way(body, tip, line, share * line.total, lower, upper)
    if float(way @ forward) < 0.3 and clear < 0.8:
        way = forward
    c = body.solid.centres
    g = float(np.interp(share * line.total, line.s, line.g))
    floor = float(c[body.far[tip] < 0.75 * g, 1].min())
    near = (body.far[tip] < 1.3 * g) & (c[:, 1] < floor + 0.55 * max(float(lower[1]) - floor, 3 * body.solid.h))
    if not near.any():
        return body.place(tip)
    off = c[near] - body.place(tip)
    along = off @ way
    front = c[near][along > along.max() - 2 * body.solid.h]
    return np.asarray(front.mean(0) + 0.5 * body.solid.h * way)


def _tail(body: Body, sketch: Sketch, tip: int, across: np.ndarray, links: int) -> None:
    solid = body.solid
    way = between(body, sketch.place("hips"), body.place(tip), 4.0)
    depth = solid.depth[solid.nearest(way.p)]
    thin = np.flatnonzero(depth < 0.62 * float(depth[0]))
    root = float(way.s[thin[0]]) if len(thin) else 0.2 * way.total
    sketch.put_chain("tail", "hips", way.evenly(root, way.total, links + 1), hinge=across, mark="tail", spread=0.015)
