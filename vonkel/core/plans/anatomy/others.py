"""The joints of bodies with wings, fins, many legs or no limbs at all, in any pose."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.optimize import linear_sum_assignment
from scipy.spatial import cKDTree

from ...character import Character
from ...geometry.measures import lengths_along
from ...geometry.rotations import unit
from ...geometry.topology import skin_points
from ...geometry.voxels import Solid, middle_paths
from ..finned import _head
from ..frame import frame_facing
from ..many_legged import _waist
from ..shapes import Cut, bends, cut_at, leaves_trunk
from ..sketch import Sketch
from .body import UP, Body, flat
from .ends import lay_eyes_and_jaw
from .heads import find_head
from .line import Line, N, Prior, between, corners_of, fan, inwards, joint_at, line_of
from .roles import Roles, on_wing
from .upright import SIDES, fit_upright


# --- a chain --------------------------------------------------------------------------------------------------------------
def fit_chain(character: Character, body: Body, roles: Roles, options: Any) -> Sketch:
    """One long line between the two tips farthest apart.  options: joints, root."""
    solid, joints = body.solid, options.joints
    i, j = np.unravel_index(int(np.argmax(body.table)), body.table.shape)
    path = between(body, body.place(int(i)), body.place(int(j)), 4.0)
    eyes = body.eyes_middle
    if eyes is not None:
        front_first, sure = path.nearest(eyes) < 0.5 * path.total, 0.95
    else:
        # A head is thicker than a tail's end, what rears up is the head, and what forks is a head with feelers, ears or horns.
        share = path.s / path.total
        blunt = [float(path.depth[(share > a) & (share < b)].max()) for a, b in ((0.02, 0.16), (0.84, 0.98))]
        vote = 0.9 * float(np.clip(np.log(max(blunt[0], 1e-9) / max(blunt[1], 1e-9)) / 0.3, -1, 1))
        rise = float((path.at(0.05 * path.total) - path.at(0.95 * path.total))[1])
        vote += 0.7 * float(np.clip(rise / (0.2 * path.total), -1, 1))
        for k in range(len(body.tips)):
            if k not in (i, j):
                leaves = body.parts(int(i), k, int(j)) / float(body.table[i, j])
                vote += 0.6 * (float(leaves < 0.2) - float(leaves > 0.8))
        front_first, sure = vote > 0, min(abs(vote), 0.9)
    if (options.root == "back") == front_first:
        path = path.reversed()
    total = path.total
    places = path.evenly(0.5 * total / (joints + 1), total, joints + 1)
    facing = unit(flat(places[-1] - places[0])) * (1 if options.root == "back" else -1)
    sketch = Sketch(frame=frame_facing(facing, places.mean(0), sure), cost=roles.cost)
    if sure < 0.45:
        sketch.words.append("Nothing tells surely which end is the head.")
    parent: str | None = None
    for k, q in enumerate(places[:-1]):
        mark = {0: "root", joints // 2: "middle"}.get(k, "")
        parent = sketch.put(f"chain_{k + 1}", parent, solid.kept(q), hinge=sketch.frame.left, mark=mark, spread=0.012)
    sketch.put("chain_end", parent, path.p[-1], "chain_end", False, mark="tip", spread=0.02)
    head = f"chain_{joints}" if options.root == "back" else "chain_1"
    if len(body.eyes) == 2:
        lay_eyes_and_jaw(body, sketch, sketch.place(head) + UP, facing, head)
        for extra in ("jaw", "jaw_end"):
            sketch.found.pop(extra, None)
            sketch.marks.pop(extra, None)
    if sure < 0.45:
        sketch.spread = dict.fromkeys(sketch.found, 0.15)
    return sketch


# --- fins ---------------------------------------------------------------------------------------------------------------
def fit_finned(character: Character, body: Body, roles: Roles, options: Any) -> Sketch:
    """A long trunk, fins in pairs.  options: spine, neck, tail, fin."""
    solid = body.solid
    h, e = roles["head"], roles["end"]
    pairs: list[tuple[int, int]] = list(roles.more["pairs"])[:1]  # type: ignore[call-overload]
    limbs = [e, *(i for p in pairs for i in p)]
    muzzle = find_head(body, h, solid.centres[body.centre], limbs).muzzle
    end = body.place(e)
    if "twin" in roles:  # the tail's end lies between the hind flippers
        twin = roles["twin"]
        pairs.append((e, twin))
        ways = [(inwards(body, i), i, j) for i, j in ((e, twin), (twin, e))]
        end = solid.kept(np.mean([w.at(w.s_of(0.75 * body.parts(i, j, h))) for w, i, j in ways], axis=0))
    path = between(body, end, muzzle, 6.0)
    total = path.total
    lines = {}
    for p in pairs:
        # hind flippers are followed to the trunk's end, others to its middle
        both = [between(body, body.place(i), end, 2.0).p if e in p else inwards(body, i, 2.0).p for i in p]
        lines[p] = [q[: leaves_trunk(solid, q, 0.4) + 1][::-1] for q in both]
    chest_s = 0.66 * total
    if pairs and pairs[0] != (e, roles.tips.get("twin")):
        a, b = lines[pairs[0]]
        chest_s = path.nearest(0.5 * (a[0] + b[0]))
    ahead = unit(flat(path.at(min(chest_s + 0.1 * total, total)) - path.at(chest_s - 0.15 * total)))
    sure = 0.9 if body.eyes else 0.5
    sketch = Sketch(frame=frame_facing(ahead, path.at(chest_s), sure), cost=roles.cost)
    across = sketch.frame.left
    head_s = _head(solid, path.p, chest_s, total)
    hips_s = 0.55 * chest_s
    places = [solid.kept(p) for p in path.evenly(hips_s, chest_s, options.spine + 1)]
    sketch.put("hips", None, places[0], "hips", hinge=across, mark="hips", spread=0.03)
    chest = sketch.put_spine("hips", np.array(places[1:]), across, "chest", 0.02)
    necks = [solid.kept(p) for p in path.evenly(chest_s + 0.35 * (head_s - chest_s), head_s, options.neck + 1)]
    above = sketch.put_neck(chest, np.array(necks[:-1]), across, spread=0.03)
    sketch.put("head", above, necks[-1], "head", hinge=across, mark="head", spread=0.04)
    sketch.put("head_end", "head", path.p[-1], "head_end", False, mark="muzzle", spread=0.02)
    tails = [solid.kept(p) for p in path.evenly(0.84 * hips_s, 0.0, options.tail + 1)[:-1]]
    sketch.put_chain("tail", "hips", np.array([*tails, path.p[0]]), hinge=across, mark="tail", spread=0.025)
    bent = float(path.way(0.0, 0.12 * total) @ path.way(0.15 * total, 0.4 * total))
    if "twin" not in roles and bent < 0.85:  # its end may be one half of a tail fin whose other half wasn't seen
        for n in sketch.found:
            if n.startswith("tail"):
                sketch.spread[n] = 0.09
    for k, p in enumerate(pairs[:2]):
        both = lines[p]
        if float((both[0][-1] - both[1][-1]) @ across) < 0:
            both = both[::-1]
        hind = k > 0 or p == (e, roles.tips.get("twin"))
        stem, count = ("hind_fin", max(options.fin - 1, 1)) if hind else ("fin", options.fin)
        tail = [n for n in sketch.found if n.startswith("tail_") and n != "tail_end"]
        for (side, word, sign), line in zip(SIDES, both, strict=True):
            holder = min(tail, key=lambda n: float(np.linalg.norm(sketch.place(n) - line[0]))) if hind else "chest"
            inner = [solid.kept(q) for q in [line[0], *(bends(line, count - 1, 0.2) if count > 1 else [])]]
            hinge = sign * sketch.frame.facing
            mark = f"{word} hind flipper" if hind else f"{word} flipper"
            sketch.put_chain(stem, holder, np.array([*inner, line[-1]]), f"_{side}", hinge, mark=mark, spread=0.03)
    _back_fin(body, sketch, path, roles, pairs)
    lay_eyes_and_jaw(body, sketch, sketch.place("head") + UP, unit(muzzle - sketch.place("head")))
    return sketch


def _back_fin(body: Body, sketch: Sketch, path: Line, roles: Roles, pairs: list[tuple[int, int]]) -> None:
    """A fin that stands up on the back between hips and chest."""
    used = {roles["head"], roles["end"], roles.tips.get("twin"), *(i for p in pairs for i in p)}
    hips, chest = path.nearest(sketch.place("hips")), path.nearest(sketch.place("chest"))
    best: tuple[float, int] | None = None
    for i in range(len(body.tips)):
        s = path.nearest(body.place(i))
        off = body.place(i) - path.at(s)
        level = abs(float(off @ sketch.frame.left)) < 0.4 * float(np.linalg.norm(off))
        if (
            i not in used
            and off[1] > 0
            and level
            and min(hips, chest) - 0.1 * path.total < s < chest + 0.1 * path.total
        ):
            if best is None or body.length[i] > best[0]:
                best = (float(body.length[i]), i)
    if best is not None:
        line = inwards(body, best[1], 2.0)
        root = line.p[leaves_trunk(body.solid, line.p, 0.4)]
        places = np.array([body.solid.kept(root), body.place(best[1])])
        sketch.put_chain("back_fin", "chest", places, hinge=sketch.frame.facing, spread=0.03)


# --- many legs ------------------------------------------------------------------------------------------------------------
def many_roles(body: Body) -> list[Roles]:
    """Legs: long tips on the ground, one a foot.  The trunk lies the way about which the legs' roots and tips, and the
    trunk itself, are most nearly symmetric, of ways along which it is long."""
    t, span, y = body.table, body.span, body.heights
    level = min(0.45, (float(body.solid.centres[body.centre, 1]) - body.low) / body.tall)
    kept: list[int] = []
    for i in np.argsort(-body.length):
        if y[i] < level and body.length[i] > 0.10 * span and all(t[i, j] > 0.14 * span for j in kept):
            kept.append(int(i))
    if len(kept) < 3:
        return []
    solid = body.solid
    # Legs come in pairs: of an odd number one may be something else that hangs low, or one more leg is lifted.
    sets = [kept]
    if len(kept) % 2:
        usual = float(np.median(body.length[kept]))
        for i in range(len(body.tips)):
            apart = all(t[i, j] > 0.14 * span for j in kept)
            if i not in kept and y[i] < LIFTED and body.length[i] > 0.55 * usual and apart:
                sets.append([*kept, i])
        sets += [[i for i in kept if i != k] for k in kept if len(kept) > 4]
    # A pair that hangs in the air may be feelers.
    over = sorted(kept, key=lambda i: -y[i])[:2]
    if len(kept) > 5 and y[over[1]] > IN_AIR:
        sets.append([i for i in kept if i not in over])
    sets = [legs for legs in sets if len(legs) > 3]
    goal = solid.centres[int(np.argmax(solid.depth))]
    lines = {}
    for i in {i for legs in sets for i in legs}:
        p = between(body, body.place(i), goal, 2.0).p
        lines[i] = p[: leaves_trunk(solid, p, 0.15) + 1][::-1]
    core = solid.centres[solid.depth > 0.3 * solid.depth.max()]
    core = core[:: max(1, len(core) // 400)]
    found: list[Roles] = []
    for legs in sets:
        odd = 0.0 if len(legs) >= 5 and len(legs) % 2 == 0 else 1.0 if len(legs) % 2 == 0 else 1.5
        usual = float(np.median(body.length[legs]))
        odd += sum(IN_AIR_COSTS * max(0.0, float(y[i]) - IN_AIR) for i in legs)
        odd += sum(
            LEG_LOST * min(float(body.length[i]) / usual, 1.0) ** 2 * float(np.clip(1.5 - y[i] / (2 * IN_AIR), 0, 1))
            for i in kept if i not in legs
        )  # fmt: skip
        for total, ahead, at in _planes(body, legs, lines, core):
            found.append(
                Roles(3.0 * total / span + odd, {}, {"legs": legs, "ahead": ahead, "middle": at, "lines": lines})
            )
    return sorted(found, key=lambda r: r.cost)


LIFTED = 0.75  # of the height: no tip of a leg is lifted higher
IN_AIR = 0.15  # of the height, over which a leg's tip doesn't stand
IN_AIR_COSTS = 1.5  # each height beyond
LEG_LOST = 1.8  # what it costs that a tip near the ground as long as the legs is none


def _planes(
    body: Body, legs: list[int], lines: dict[int, np.ndarray], core: np.ndarray
) -> list[tuple[float, np.ndarray, np.ndarray]]:
    """Up to three ways in which a trunk may lie, cheapest first: (cost in metres, ahead (3,), a place on the plane (3,))."""
    span = body.span
    roots, tips = np.array([lines[i][0] for i in legs]), np.array([body.place(i) for i in legs])
    middle = roots.mean(0)
    tree = cKDTree(core)
    scores = []
    for angle in np.radians(np.arange(0, 180, 3.0)):
        ahead = np.array([np.sin(angle), 0, np.cos(angle)])
        left = np.cross(UP, ahead)
        m = np.eye(3) - 2 * np.outer(left, left)
        at = middle + left * float((core.mean(0) - middle) @ left) * 0.5
        cost = np.linalg.norm(roots[:, None] - ((roots - at) @ m + at)[None], axis=2) * 2
        cost += np.linalg.norm(tips[:, None] - ((tips - at) @ m + at)[None], axis=2)
        i, j = linear_sum_assignment(cost)
        own = (i == j).sum()  # a leg is nobody's partner but another's: one on the plane is its own mirror
        total = cost[i, j].mean() + 4.0 * tree.query((core - at) @ m + at)[0].mean() + 0.25 * span * own / len(legs)
        total += 0.3 * span * abs(float(np.sign((tips - at) @ left).sum())) / len(legs)
        # legs are spread along a trunk, and the trunk with its abdomen is longer than wide
        along, beside = float(np.ptp((core - at) @ ahead)), float(np.ptp((core - at) @ left))
        total += 0.25 * span * max(0.0, float(np.log(beside / max(along, 1e-9))))
        scores.append((float(total), ahead, at))
    scores.sort(key=lambda s: s[0])
    ways: list[tuple[float, np.ndarray, np.ndarray]] = []
    for score in scores:
        if all(abs(float(score[1] @ w[1])) <= np.cos(np.radians(25)) for w in ways) and len(ways) < 3:
            ways.append(score)
    return ways


def fit_many(character: Character, body: Body, roles: Roles, options: Any) -> Sketch:
    """Legs in pairs, head, abdomen, feelers.  options: pairs, abdomen, feeler, bends."""
    solid, span = body.solid, body.span
    legs, lines = list(roles.more["legs"]), dict(roles.more["lines"])  # type: ignore[call-overload]
    ahead, at = np.asarray(roles.more["ahead"]), np.asarray(roles.more["middle"])
    others = [i for i in range(len(body.tips)) if i not in legs and body.length[i] > 0.1 * span]
    ahead, sure = _which_end(body, at, ahead, others, np.array([lines[i][0] for i in legs]))
    sketch = Sketch(frame=frame_facing(ahead, at, sure), cost=roles.cost)
    left, across = sketch.frame.left, sketch.frame.left

    def z_of(p: np.ndarray) -> float:
        return float((p - at) @ ahead)

    cuts = _cuts(body, at, sketch.frame.turn)

    def middle(z: float) -> np.ndarray:
        cut = cut_at(cuts, z)
        return solid.kept(at * [1, 0, 1] + z * ahead + UP * 0.5 * (cut.low + cut.high))

    sides = {
        "L": [i for i in legs if (body.place(i) - at) @ left > 0],
        "R": [i for i in legs if (body.place(i) - at) @ left <= 0],
    }
    for own in sides.values():
        own.sort(key=lambda i: -z_of(lines[i][0]))
    if options.pairs > 0:
        wanted = options.pairs
        sides = {
            s: sorted(sorted(own, key=lambda i: -body.length[i])[:wanted], key=lambda i: -z_of(lines[i][0]))
            for s, own in sides.items()
        }
    roots_z = np.array([z_of(lines[i][0]) for own in sides.values() for i in own])
    zt = float(roots_z.mean())
    thick = [c for c in cuts if c.high - c.low > 3 * solid.h] or cuts
    front, back = thick[-1].z, thick[0].z
    head_z = _waist(cuts, max(float(roots_z.max()), zt + 0.25 * (front - zt)), front)
    sketch.put("thorax", None, middle(zt), "hips", hinge=across, mark="thorax", spread=0.02)
    chest_z = 0.5 * (float(roots_z.max()) + head_z)
    sketch.put("fore_thorax", "thorax", middle(chest_z), "chest", hinge=across, spread=0.025)
    sketch.put("head", "fore_thorax", middle(head_z), "head", hinge=across, mark="head", spread=0.035)
    sketch.put("head_end", "head", middle(front - solid.h), "head_end", False, mark="front", spread=0.035)
    rear = _waist(cuts, back, min(float(roots_z.min()), zt), start=True)
    zs = np.linspace(rear, back + solid.h, options.abdomen + 1)
    sketch.put_chain(
        "abdomen", "thorax", np.array([middle(float(z)) for z in zs]), hinge=across, mark="abdomen", spread=0.03
    )
    _lay_many(body, sketch, sides, lines, options.bends, 0.5 * (chest_z + zt), z_of)
    if options.feeler:
        _feelers(body, sketch, others, at, z_of, options.feeler)
    lay_eyes_and_jaw(body, sketch, sketch.place("head") + UP, ahead)
    return sketch


ABDOMEN = 0.05  # how far behind the legs' roots a trunk's middle lies that surely tells its end, share of the span


def _which_end(
    body: Body, at: np.ndarray, ahead: np.ndarray, others: list[int], roots: np.ndarray
) -> tuple[np.ndarray, float]:
    """Which end of the trunk is the head: feelers, eyes, and the abdomen that is larger than what lies before the legs."""
    solid, span = body.solid, body.span
    votes: list[tuple[float, float]] = []
    for i in others:
        p = inwards(body, i, 2.0).p
        root = p[min(leaves_trunk(solid, p, 0.3), len(p) - 1)]
        thin = float(np.clip(1.2 - body.thick(i, 0.5 * float(body.length[i])) / (0.5 * solid.depth.max()), 0, 1))
        votes.append((thin, float(np.clip((root - at) @ ahead / (0.12 * span), -1, 1))))
    votes += [(2.0, float(np.clip((p - at) @ ahead / (0.1 * span), -1, 1))) for p, _ in body.eyes]
    off = (solid.centres - at) @ ahead
    deep = solid.depth > 0.15 * solid.depth.max()
    # Most of the flesh lies behind the legs' roots.
    lies = float(off[deep].mean()) - float(((roots - at) @ ahead).mean())
    votes.append((1.2, float(np.clip(-lies / (ABDOMEN * span), -1, 1))))
    votes = [(w, v) for w, v in votes if w > 0]
    total = sum(w * v for w, v in votes)
    return (ahead if total >= 0 else -ahead), abs(total) / (0.4 + sum(w * max(abs(v), 0.25) for w, v in votes))


def _cuts(body: Body, at: np.ndarray, turn: np.ndarray) -> list[Cut]:
    solid = body.solid
    own = (solid.centres - at * [1, 0, 1]) @ turn.T
    zs = np.floor(own[:, 2] / solid.h).astype(int)
    near = np.abs(own[:, 0]) < 0.16 * body.span
    cuts = []
    for k in range(int(zs.min()), int(zs.max()) + 1):
        rows = (zs == k) & near
        mid = rows & (np.abs(own[:, 0]) < 1.2 * solid.h)
        if mid.sum() > 1:
            q = own[rows]
            low, high = float(own[mid, 1].min()), float(own[mid, 1].max())
            cuts.append(Cut((k + 0.5) * solid.h, low, high, float(np.abs(q[:, 0]).max()), len(q) * solid.h**2))
    return cuts


# Shares of a leg from its root where its thigh and its tarsus end, and how wide that is (common practice: a tarsus is a fifth).
THIGH, TARSUS = (0.34, 0.13), (0.80, 0.09)


def _lay_many(
    body: Body, sketch: Sketch, sides: dict[str, list[int]], lines: dict[int, np.ndarray], corners: int, fore_z: float, z_of: Any
) -> None:  # fmt: skip
    solid = body.solid
    counts = {s: len(v) for s, v in sides.items()}
    inner: dict[int, list[np.ndarray]] = {}
    loose: dict[int, list[float]] = {}  # a straight leg has no corner to see: how far each may be
    if counts["L"] == counts["R"] and corners == 2:  # partners tell each other where they bend
        for pair in zip(sides["L"], sides["R"], strict=True):
            both = []
            for k in pair:
                s = lengths_along(lines[k])
                both.append(Line(lines[k], s, s, solid.depth[solid.nearest(lines[k])]))
            for k, x, c in zip(pair, both, corners_of(both, Prior((THIGH, TARSUS)), near=0.05), strict=True):
                inner[k] = [joint_at(x, q) for q in c.share]
                loose[k] = [0.0, *(1.6 * q * x.total / body.size for q in c.spread)]
    else:
        sketch.words.append(f"{counts['L']} legs on the left and {counts['R']} on the right.")
    doubt = 0.02 if counts["L"] == counts["R"] else 0.06
    for side, word, _ in SIDES:
        for n, i in enumerate(sides[side], 1):
            line = lines[i]
            bent = inner.get(i) or bends(line, corners, 0.14)
            parent = "fore_thorax" if z_of(line[0]) > fore_z and counts[side] > 2 else "thorax"
            normal = np.cross(bent[0] - line[0], body.place(i) - bent[0])
            for k, place in enumerate([line[0], *bent]):
                name = ("thigh", "shin", "foot", "claw", "claw_2")[k]
                mark = f"{word} leg {n}: root" if k == 0 else ""
                more = float(np.hypot(doubt, loose[i][k])) if i in loose else doubt
                parent = sketch.put(f"{name}_{n}_{side}", parent, solid.kept(place), name, True, normal, mark, more)
            mark = f"{word} leg {n}: tip"
            sketch.put(f"toe_end_{n}_{side}", parent, body.place(i), "toe_end", False, mark=mark, spread=0.5 * doubt)


def _feelers(body: Body, sketch: Sketch, others: list[int], at: np.ndarray, z_of: Any, links: int) -> None:
    head, left = sketch.place("head"), sketch.frame.left
    mine = [i for i in others if z_of(body.place(i)) > z_of(head) - 0.15 * body.size]
    mine = sorted(mine, key=lambda i: -float(body.length[i]))[:2]
    mine.sort(key=lambda i: -float((body.place(i) - at) @ left))
    if len(mine) == 2:
        pairs = list(zip(SIDES, mine, strict=True))
    else:  # one alone: whichever side it leans to
        pairs = [(SIDES[0] if float((body.place(i) - at) @ left) > 0 else SIDES[1], i) for i in mine]
    ways = [between(body, body.place(i), head, 2.0).p for _, i in pairs]
    ways = [p[: leaves_trunk(body.solid, p) + 1][::-1] for p in ways]
    longest = max((float(lengths_along(line)[-1]) for line in ways), default=0.0)
    for ((side, word, _), _), line in zip(pairs, ways, strict=True):
        s = lengths_along(line)
        places = Line(line, s, s, s).evenly(0.02 * float(s[-1]), float(s[-1]), links + 1)
        # one that is thinner than the cells of the fit ends too soon, and is shorter than its partner then
        doubt = 0.015 if len(mine) == 2 and s[-1] > 0.8 * longest else 0.09
        sketch.put_chain("feeler", "head", places, f"_{side}", left, mark=f"{word} feeler", spread=doubt)


# --- wings ----------------------------------------------------------------------------------------------------------------
class _Upright:
    """A winged body's options as the upright one's: no digits."""

    def __init__(self, options: Any) -> None:
        self.spine, self.neck, self.tail = options.spine, options.neck, options.tail
        self.digits = self.toes = 0


def fit_winged(character: Character, body: Body, roles: Roles, options: Any) -> Sketch:
    """As the upright body; the arm's way is that of the longest finger, its wrist where the fingers' ways part.
    options: spine, neck, tail, fingers, links, hung."""
    sketch = fit_upright(character, body, roles, _Upright(options), wings=True)
    left = {roles["hand_a"]: 0.0, roles["hand_b"]: 0.0}
    for i in left:
        left[i] = float(np.linalg.norm(body.place(i) - sketch.place("hand_end_L")))
    a, b = sorted(left, key=lambda i: left[i])
    taken = {roles["foot_c"], roles["foot_d"], roles["head"], roles.tips.get("tail", -1)}
    shoulders = [sketch.place(f"upper_arm_{s}") for s in "LR"]
    wings = ((a, b), (b, a))
    fingers = [[j for j in range(len(body.tips)) if j not in taken and on_wing(body, j, i, k)] for i, k in wings]
    lines: list[Line] = []
    if not all(fingers):  # where nothing parts, thickness and bends tell the wrist, of both wings together
        lines = [_ridge(body, body.place(i), p).line for i, p in zip((a, b), shoulders, strict=True)]
        lone = corners_of(lines, Prior((WRIST, ELBOW)), [_step_in(x) for x in lines], 0.05)
    wrists: list[tuple[np.ndarray, float]] = []
    for k, ((i, other), mates) in enumerate(zip(wings, fingers, strict=True)):
        if mates:
            meets, way = sorted(body.parts(i, j, other) for j in mates), inwards(body, i)
            wrists.append((way.at(way.s_of(float(np.median(meets[-max(1, len(meets) // 2 + 1) :])))), 0.0))
        else:
            spread = float(lone[k].spread[0]) * lines[k].total / body.size
            wrists.append((lines[k].at(float(lone[k].share[0]) * lines[k].total), spread))
    with ThreadPoolExecutor(2) as hands:  # searches let one another run
        ways = list(hands.map(
            lambda k: _wing_of(body, [wings[k][0], *fingers[k]], wings[k][1], wrists[k][0], shoulders[k], options), (0, 1)
        ))  # fmt: skip
    for (side, word, _), wing, (_, doubt) in zip(SIDES, ways, wrists, strict=True):
        _lay_wing(character, body, sketch, side, word, wing, options)
        sketch.spread[f"hand_{side}"] = float(np.hypot(sketch.spread[f"hand_{side}"], doubt))
    return sketch


@dataclass(frozen=True)
class _Wing:
    """An arm's joints (3,), and the ways from its wrist to the fingers' tips and to the thumb's, if it has one."""

    shoulder: np.ndarray
    elbow: np.ndarray
    wrist: np.ndarray
    fingers: list[Line]
    thumb: Line | None


def _wing_of(body: Body, tips: list[int], other: int, wrist: np.ndarray, near: np.ndarray, options: Any) -> _Wing:
    """A wing's joints and ways: tips are its own, other is one of the other wing's; its shoulder lies near `near`."""
    ridge = _ridge(body, wrist, near)
    shoulder, elbow = ridge.shoulder, _elbow(body.solid, wrist, ridge)
    far = np.array([float(np.linalg.norm(body.place(j) - wrist)) for j in tips])
    thumb = [j for j, f in zip(tips, far, strict=True) if f <= 0.4 * far.max()][:1]
    out = unit(wrist - shoulder)
    up = unit(UP - out * float(UP @ out))
    fingers = _fingers(body, [j for j, f in zip(tips, far, strict=True) if f > 0.4 * far.max()], wrist, other)
    fingers.sort(key=lambda j: -float(np.arctan2((body.place(j) - wrist) @ up, (body.place(j) - wrist) @ out)))
    if options.fingers >= 0:
        fingers = fingers[: options.fingers]
    ways = fan(body, wrist, [body.place(j) for j in (*fingers, *thumb)], 2.0)
    return _Wing(shoulder, elbow, wrist, ways[: len(fingers)], ways[-1] if thumb else None)


def _lay_wing(
    character: Character, body: Body, sketch: Sketch, side: str, word: str, wing: _Wing, options: Any
) -> None:  # fmt: skip
    solid, shoulder, elbow, wrist = body.solid, wing.shoulder, wing.elbow, wing.wrist
    parent, _, role, deforms = sketch.found[f"upper_arm_{side}"]
    sketch.found[f"upper_arm_{side}"] = (parent, shoulder, role, deforms)
    fold = np.cross(elbow - shoulder, wrist - elbow)
    sketch.put(f"forearm_{side}", f"upper_arm_{side}", solid.kept(elbow), "forearm", True, fold, f"{word} elbow", 0.03)
    mark = f"{word} wrist, where the wing folds"
    sketch.put(f"hand_{side}", f"forearm_{side}", solid.kept(wrist), "hand", True, -fold, mark, 0.025)
    sketch.hinges[f"upper_arm_{side}"] = fold
    sketch.found.pop(f"hand_end_{side}", None)
    sketch.marks.pop(f"hand_end_{side}", None)
    for n, way in enumerate(wing.fingers, 1):
        inner = [way.at(0.04 * way.total), *(bends(way.p, options.links - 1, 0.18) if options.links > 1 else [])]
        places = np.array([*[solid.kept(p) for p in inner], way.p[-1]])
        loose = _straight(places) * 0.16 * way.total / body.size
        sketch.put_chain(f"wing_{n}", f"hand_{side}", places, f"_{side}", -fold, spread=0.025)
        for k, x in enumerate(loose, 2):
            sketch.spread[f"wing_{n}_{k}_{side}"] = float(np.hypot(0.025, 2.0 * x))
        sketch.marks[f"wing_{n}_end_{side}"] = f"{word} wing tip {n}"
    if wing.thumb:
        way = wing.thumb
        places = np.array([solid.kept(way.at(0.2 * way.total)), way.p[-1]])
        sketch.put_chain("thumb", f"hand_{side}", places, f"_{side}", -fold, spread=0.025)
    _lay_membranes(character, sketch, side, shoulder, elbow, wrist, options.hung)


RIDGE = 6.0  # how strongly the thickest way through a wing is kept to
ENTERS = 1.5  # of the arm's thickness: where it has become the trunk
LIKE = 0.35  # the usual spread of the forearm's length to the upper arm's, as a logarithm
STEPS_IN = 4.0  # what a wrist at which the wing gets thicker inwards gains, for each factor e
WRIST, ELBOW = (0.53, 0.1), (0.77, 0.07)  # shares of a wing from its tip, and how wide that is


@dataclass(frozen=True)
class _Ridge:
    """The thickest way from somewhere on a wing to its shoulder, and how deep the arm is on it."""

    line: Line
    shoulder: np.ndarray
    own: float


def _ridge(body: Body, start: np.ndarray, shoulder: np.ndarray) -> _Ridge:
    """An arm is the thickest of what is stretched between wrist and trunk; its shoulder lies where it enters the trunk, which is
    near `shoulder` (3,)."""
    solid = body.solid
    line = line_of(body, middle_paths(solid, int(solid.nearest(start[None])[0]), [body.centre], RIDGE)[0], None, 2.0)
    far = min(line.nearest(shoulder), 0.85 * line.total)
    outer = (line.s > 0.3 * far) & (line.s < 0.8 * far)
    own = float(np.median(line.depth[outer])) if outer.any() else float(line.depth[0])
    deep = np.flatnonzero((line.depth > ENTERS * own) & (line.s > 0.6 * far))
    end = float(line.s[deep[0]]) if len(deep) else far
    line = line.cut(max(end, 4 * solid.h))
    return _Ridge(line, line.p[-1], own)


def _step_in(line: Line) -> np.ndarray:
    """(N, N) energy of a wrist and an elbow on a wing's line from its tip: an arm is thicker than the finger or feathers beyond it."""
    t = np.linspace(0, 1, N)
    d = np.log(np.maximum(np.interp(t * line.total, line.s, line.depth), 1e-9))
    outer = np.array([d[max(0, k - 12) : max(k, 1)].mean() for k in range(N)])
    inner = np.array([d[min(k, N - 1) : k + 12].mean() for k in range(N)])
    return np.asarray(STEPS_IN * np.clip(outer - inner, -0.7, 0.2))[:, None]


def _elbow(solid: Solid, wrist: np.ndarray, ridge: _Ridge) -> np.ndarray:
    """Where two straight bones keep nearest to the arm's ridge, and are not too unlike in length."""
    shoulder, own = ridge.shoulder, ridge.own
    reach = float(np.linalg.norm(wrist - shoulder))
    p = solid.centres[solid.depth > 0.6 * own]
    a, b = np.linalg.norm(p - shoulder, axis=1), np.linalg.norm(p - wrist, axis=1)
    p = p[(a + b < 1.8 * reach) & (np.minimum(a, b) > 0.2 * reach)]
    if not len(p):
        return ridge.line.at(0.5 * ridge.line.total)
    p = p[:: max(1, len(p) // 2000)]
    t = np.linspace(0.1, 1.0, 10)[None, :, None]
    bones = np.concatenate([shoulder + t * (p[:, None] - shoulder), wrist + t * (p[:, None] - wrist)], 1)
    depth = solid.depth[solid.nearest(bones.reshape(-1, 3))].reshape(len(p), -1)
    short = np.maximum(0.0, 1 - depth / own)
    unlike = np.log(np.linalg.norm(p - shoulder, axis=1) / np.linalg.norm(p - wrist, axis=1)) / LIKE
    return np.asarray(p[int(np.argmin((short**2).mean(1) + 0.01 * unlike**2))])


def _straight(places: np.ndarray) -> np.ndarray:
    """(n − 2,): how little a row of joints bends at each of its inner ones, 1 where not at all, 0 from 25° on."""
    way = np.diff(places, axis=0)
    way /= np.maximum(np.linalg.norm(way, axis=1), 1e-12)[:, None]
    return np.asarray(1 - np.clip(np.degrees(np.arccos(np.clip((way[1:] * way[:-1]).sum(1), -1, 1))) / 25, 0, 1))


def _fingers(body: Body, tips: list[int], wrist: np.ndarray, other: int) -> list[int]:
    """Of the tips of a wing those whose ways are their own from near the wrist on: the others are scraps of membrane that
    hang on a finger."""
    cell = int(body.solid.nearest(wrist[None])[0])
    kept: list[int] = []
    for j in sorted(tips, key=lambda j: -float(body.far[j, cell])):
        if all(body.parts(j, k, other) > 0.45 * float(body.far[j, cell]) for k in kept):
            kept.append(j)
    return kept


def _lay_membranes(
    character: Character,
    sketch: Sketch,
    side: str,
    shoulder: np.ndarray,
    elbow: np.ndarray,
    wrist: np.ndarray,
    hung: int,
) -> None:
    """Joints that hang on each arm bone and reach to the trailing edge: the mesh's farthest point below the bone, towards
    the hips, near the plane through both."""
    size = character.size
    skin = np.flatnonzero(skin_points(character))
    points = character.points[skin]
    hips = sketch.place("hips")
    ends = [n for n in sketch.found if n.startswith("wing_") and n.endswith(f"_end_{side}")]
    # A membrane is spread between the trunk and the last finger, and its edge hangs little beyond the line between them.
    last = sketch.place(max(ends)) if ends else hips
    for name, a, b in ((f"upper_arm_{side}", shoulder, elbow), (f"forearm_{side}", elbow, wrist)):
        bone = unit(b - a)
        for k in range(hung):
            t = (k + 0.5) / hung
            root = a + (b - a) * t
            w = 0.5 * t if name.startswith("upper") else 0.5 + 0.5 * t
            goal = (1 - w) * hips + w * last
            down = unit(goal - root - bone * float((goal - root) @ bone))
            normal = np.cross(bone, down)
            off = points - root
            near = (np.abs(off @ bone) < 0.035 * size) & (off @ down > 0) & (np.abs(off @ normal) < 0.06 * size)
            near &= off @ down < 2.2 * float((goal - root) @ down)
            reach = np.where(near, off @ down, 0.0)
            if reach.max() < 0.05 * size:
                continue
            tip = points[int(np.argmax(reach))]
            edge = root + down * float(reach.max()) * 0.96 + normal * float((tip - root) @ normal)
            stem = f"membrane_{name[:-2]}_{k + 1}"
            hinge = (b - a) * (1.0 if side == "L" else -1.0)
            sketch.put(f"{stem}_{side}", name, root, "membrane", hinge=hinge, spread=0.03)
            sketch.put(f"{stem}_end_{side}", f"{stem}_{side}", edge, "membrane_end", False, spread=0.08)
