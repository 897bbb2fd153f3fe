"""How far each joint may be from where it should: what is usual for its role, and what speaks against this fit.

A spread is a share of the body's size (root mean square, expected).  *sure* is a spread below SURE, *not found* one
above LOST, *look here* what lies between.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from ...character import opposite_name
from ..shapes import THICK, along_bones
from ..sketch import Sketch
from .body import Body
from .roles import Roles

Verdict = Literal["sure", "look here", "not found"]
SURE, LOST = 0.05, 0.16
GUESS = "Which way it faces is a guess: left and right, front and back may be exchanged."
FACING = 0.45  # a body that faces some way less surely than this may face the other way

# Root mean square errors of each role on bodies made for calibrating (tests/judging, TRIED), as shares of the size.
USUAL = {
    "hips": 0.020, "spine": 0.020, "chest": 0.025, "neck": 0.028, "head_end": 0.036, "head": 0.026, "thigh": 0.026,
    "shin": 0.018, "foot": 0.016, "ball": 0.026, "toe_end": 0.028, "collar": 0.022, "upper_arm": 0.032, "forearm": 0.020,
    "hand_end": 0.012, "hand": 0.020, "hind_fin": 0.045, "fin": 0.036, "wing": 0.036, "abdomen": 0.025, "feeler": 0.015,
    "chain": 0.020, "tail": 0.018, "eye": 0.003, "jaw": 0.014, "ear": 0.020, "membrane": 0.036,
}  # fmt: skip
# Where a plan's own error is another.
USUAL_OF = {
    "quadruped": {"forearm": 0.03, "collar": 0.052, "ear": 0.052, "ear_end": 0.06},
    "winged": {
        "forearm": 0.052, "hand": 0.045, "wing_3_end": 0.08, "ball": 0.048, "toe_end": 0.048, "foot": 0.03,
    },
    "many-legged": {"head_end": 0.07, "abdomen_1": 0.06},
    "chain": {"chain_end": 0.052},
    "biped": {"thumb": 0.045},
}  # fmt: skip
# What nineteen in twenty rightly read bodies of a plan cost at most: dearer ones are doubted as a whole.
FAIR = {"biped": 2.0, "quadruped": 3.9, "winged": 1.4, "many-legged": 0.8, "finned": 0.4}
DEAR = {"biped": 0.08}  # what each point of cost beyond that adds to every spread, 0.05 where not said
# Flesh that no bone lies in: shares of the body, and of what is nearest to a bone, that say nothing yet, and what more of it weighs.
BARE, BARE_NEAR, BARE_COSTS, BARE_NEAR_COSTS = 0.12, 0.15, 2.0, 0.3
LIMBS = {
    "arms": ("hand_a", "hand_b", ("collar", "upper_arm", "forearm", "hand", "fore_", "thumb", "index", "middle", "ring", "little")),
    "legs": ("foot_c", "foot_d", ("thigh", "shin", "foot", "ball", "toe")),
}  # fmt: skip


def verdict(spread: float) -> Verdict:
    return "sure" if spread < SURE else "look here" if spread < LOST else "not found"


def usual(role: str, plan: str = "") -> float:
    own = USUAL_OF.get(plan, {})
    if role in own:
        return own[role]
    known = [k for k in USUAL if role == k or role.startswith(k + "_")]
    return USUAL[max(known, key=len)] if known else 0.02


def add(sketch: Sketch, name: str, more: float) -> None:
    sketch.spread[name] = float(np.hypot(sketch.spread.get(name, 0.0), more))


def doubt_roles(
    sketch: Sketch, body: Body, roles: Roles, others: list[tuple[float, Sketch]], plan: str
) -> dict[str, dict[str, float]]:  # fmt: skip
    """Put spreads on every joint: the role's usual error, what the fit said of itself, unlike partners, the cost of the
    roles, other readings of the same body (their excess cost, their sketch), and which way it faces.  Returns what each of
    these had in it, by joint."""
    parts: dict[str, dict[str, float]] = {n: {"own": sketch.spread.get(n, 0.02)} for n in sketch.found}
    lies = "hand_a" not in roles  # what faces along its own length lies elsewhere wholly when it faces the other way
    for n, (_, _, role, _) in sketch.found.items():
        parts[n]["usual"] = usual(role, plan)
        sketch.spread[n] = float(np.hypot(usual(role, plan), 0.7 * sketch.spread.get(n, 0.02)))

    def counted(part: str, work: Callable[[], None]) -> None:
        before = dict(sketch.spread)
        work()
        for n in sketch.found:
            parts[n][part] = float(np.sqrt(max(sketch.spread[n] ** 2 - before[n] ** 2, 0.0)))

    counted("pairs", lambda: _doubt_pairs(sketch, body, roles))
    cost = DEAR.get(plan, 0.05) * max(0.0, sketch.cost - FAIR.get(plan, np.inf))
    turned = 0.0 if sketch.frame.sure > FACING else 0.06 + 0.12 * (FACING - sketch.frame.sure) / FACING
    if turned > 0:
        sketch.words.append(GUESS)

    def doubt_whole() -> None:
        for n in sketch.found:
            add(sketch, n, cost + (turned if lies or n.endswith(("_L", "_R")) else 0.3 * turned))

    counted("dear", doubt_whole)
    counted("alternatives", lambda: _doubt_alternatives(sketch, body, others))
    counted("lengths", lambda: _doubt_lengths(sketch))
    counted("inside", lambda: _doubt_inside(sketch, body))
    counted("bare", lambda: _doubt_bare(sketch, body))
    for n in sketch.found:
        parts[n]["posed"] = sketch.spread[n]
    return parts


def _doubt_pairs(sketch: Sketch, body: Body, roles: Roles) -> None:
    """Partners that differ: one may touch the body, or be something else."""
    for word, (a, b, stems) in LIMBS.items():
        if a not in roles or "head" not in roles:
            continue
        i, j, h = roles[a], roles[b], roles["head"]
        d = body.table
        odd = abs(d[i, h] - d[j, h]) / (0.5 * (d[i, h] + d[j, h]))
        uneven = abs(float(np.log(body.girth[i] / body.girth[j])))
        uneven += 0.5 * abs(float(np.log(body.length[i] / body.length[j]))) * (word == "arms")
        pair = 0.30 * max(0.0, float(odd) - 0.09) + 0.03 * max(0.0, uneven - 0.5)
        if pair > 0.025:
            sketch.words.append(f"The two {word} differ: one may touch the body, or be something else.")
        for n in sketch.found:
            if n.startswith(stems) and n.endswith(("_L", "_R")):
                add(sketch, n, pair)


def _doubt_alternatives(sketch: Sketch, body: Body, others: list[tuple[float, Sketch]]) -> None:
    """Another reading that costs hardly more doubts every joint by how far it puts it elsewhere."""
    for excess, other in others:
        weight = 0.5 * float(np.exp(-max(excess, 0.0) / 0.25))
        if weight < 0.03:
            continue
        for n in sketch.found:
            twin = opposite_name(n)
            if n not in other.found:
                add(sketch, n, 0.12 * float(np.sqrt(weight)))
                continue
            far = min(float(np.linalg.norm(sketch.place(n) - other.place(m))) for m in (n, twin) if m in other.found)
            add(sketch, n, float(np.sqrt(weight)) * far / body.size)


def _doubt_lengths(sketch: Sketch) -> None:
    """Bones whose partner is much longer or shorter doubt their ends."""
    for n, (parent, place, role, _) in sketch.found.items():
        other = opposite_name(n)
        if not n.endswith("_L") or other not in sketch.found or parent is None or parent not in sketch.found:
            continue
        over = sketch.found[other][0]
        if role in ("eye", "jaw") or over is None or over not in sketch.found:
            continue
        a = float(np.linalg.norm(place - sketch.place(parent)))
        b = float(np.linalg.norm(sketch.place(other) - sketch.place(over)))
        if max(a, b) <= 0:
            continue
        ratio = abs(float(np.log(max(a, 1e-9) / max(b, 1e-9))))
        if ratio > 0.35:
            for name in (n, other):
                add(sketch, name, min(0.12, 0.05 * (ratio - 0.25)))


def _doubt_inside(sketch: Sketch, body: Body) -> None:
    names = [
        n for n, (_, _, role, deforms) in sketch.found.items() if deforms and role not in ("eye", "jaw", "membrane")
    ]
    if not names:
        return
    ok = body.solid.contains(np.array([sketch.place(n) for n in names]))
    for n, held in zip(names, ok, strict=True):
        if not held:
            add(sketch, n, 0.02)


def _doubt_bare(sketch: Sketch, body: Body) -> None:
    """Flesh that no bone lies in: where there is much of it the whole reading is doubted, and where it lies its neighbours are."""
    whole, near = bare_flesh(sketch, body)
    for n in sketch.found:
        add(sketch, n, BARE_COSTS * max(0.0, whole - BARE) + BARE_NEAR_COSTS * max(0.0, near.get(n, 0.0) - BARE_NEAR))


def bare_flesh(sketch: Sketch, body: Body) -> tuple[float, dict[str, float]]:
    """(the share of the body that no bone lies in, the same of what is nearest to each joint's bones).  A bone lies in the flesh as far
    round it as its own depth, and more."""
    solid, names = body.solid, list(sketch.found)
    index = {n: i for i, n in enumerate(names)}
    kept = [
        (n, parent) for n, (parent, _, role, _) in sketch.found.items()
        if parent is not None and parent in sketch.found and not role.startswith(("eye", "jaw", "membrane"))
    ]  # fmt: skip
    if not kept:
        return 0.0, {}
    bones, which = along_bones(
        [sketch.place(parent) for _, parent in kept], [sketch.place(n) for n, _ in kept], 1.5 * solid.h
    )
    own = np.array([(index[parent], index[n]) for n, parent in kept])[which]
    cells = solid.nearest(bones)
    inside = np.linalg.norm(solid.centres[cells] - bones, axis=1) < 1.5 * solid.h
    reach = np.where(inside, THICK * solid.depth[cells] + 2.0 * solid.h, 0.0)
    far, near = cKDTree(bones).query(solid.centres[::7], k=min(24, len(bones)))
    bare = ~(far < reach[near]).any(1)
    every, some = np.zeros(len(names)), np.zeros(len(names))
    for end in own[near[:, 0]].T:
        np.add.at(every, end, 1)
        np.add.at(some, end, bare)
    return float(bare.mean()), {n: float(some[i] / max(every[i], 5.0)) for n, i in index.items()}
