"""How likely each joint is wrong, learned from thousands of joints whose true places were known.

What a fit shows of itself (what speaks against it, how long and thick its limbs came out, what was left over, where other
readings put a joint) is told as numbers; boosted trees (Friedman 2001, “Greedy function approximation”) and extremely randomized
ones (Geurts, Ernst & Wehenkel 2006) say from these how much a joint is like those that lay more than a tenth of the body off.
`likeness.json` holds the trees for bodies on two and
four legs, `likeness_others.json` those for wings, fins, many legs and none; both also what they were learned from and which score
is doubt; `tests/judging/calibrate.py` writes them.
"""

from __future__ import annotations

import itertools
import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

import numpy as np

from ...character import opposite_name
from ..sketch import Sketch
from .body import Body
from .doubt import LOST, SURE, bare_flesh
from .roles import Roles

# The plans that were learned together, and where that is kept.
# Few bodies at rest taught the trees; of wings at rest on which both ways agree, what is between them says more.
EVEN = ("winged",)
LIMBED, OTHERS = ("biped", "quadruped"), ("winged", "many-legged", "finned", "chain")
FAMILIES = {
    LIMBED: Path(__file__).with_name("likeness.json"),
    OTHERS: Path(__file__).with_name("likeness_others.json"),
}
NONE = -1.0  # what stands for a length, share or angle that a body hasn't
STEMS = (
    "hips", "spine", "chest", "neck", "head", "thigh", "shin", "foot", "ball", "toe", "collar", "upper_arm", "forearm",
    "hand", "fore", "ear", "tail", "jaw", "eye", "thumb", "index", "middle", "ring", "little", "trunk",
)  # fmt: skip
OTHER_STEMS = ("wing", "membrane", "abdomen", "feeler", "fin", "hind_fin", "back_fin", "chain")
PARTS = ("usual", "own", "pairs", "dear", "alternatives", "lengths", "inside", "bare")
BONES = {
    "upper arm": ("upper_arm", "forearm"), "forearm": ("forearm", "hand"), "thigh": ("thigh", "shin"), "shin": ("shin", "foot"),
}  # fmt: skip
LIMBS = {"arm": ("hand_a", "hand_b"), "leg": ("foot_c", "foot_d")}
WORDS = "Among bodies that read like this one many joints were wrong: look at the marked ones first."
MANY = 0.3  # of the joints doubted: said of the whole


@dataclass
class Reading:
    """How a body was read, kept until its joints are doubted: other readings by their excess cost, and what spoke against each joint."""

    body: Body
    roles: Roles
    sketch: Sketch
    others: list[tuple[float, Sketch]]
    parts: dict[str, dict[str, float]] = field(default_factory=dict)

    def exchanged(self) -> Reading:
        """The same where left and right are exchanged."""
        return Reading(
            self.body, self.roles, self.sketch, self.others, {opposite_name(n): p for n, p in self.parts.items()}
        )


def doubt_by_likeness(sketch: Sketch, reading: Reading, plan: str) -> None:
    """Put a spread on every joint by how it looks, for plans that it was learned for."""
    known = learned(plan)
    if known is None or (sketch.agreed and plan in EVEN):
        return
    score = known.score(table(told_of(sketch, reading, plan), known.features))
    spread = SURE * (LOST / SURE) ** ((score - known.doubted) / (known.lost - known.doubted))
    most = 0.99 * LOST if sketch.agreed else 0.4  # what two ways put in the same place was found
    for n, s in zip(sketch.found, np.clip(spread, 0.004, most).tolist(), strict=True):
        if _stem(sketch.found[n][2]) in known.stems:
            sketch.spread[n] = s
    if float((spread >= SURE).mean()) > MANY:
        sketch.words.append(WORDS)


# -- what a fit shows of itself --------------------------------------------------------------------------------------
def told_of(sketch: Sketch, reading: Reading, plan: str) -> list[dict[str, float]]:
    """What each joint of a sketch shows, by name, the same names for every joint of one family of plans; lengths and places are
    shares of the body's size."""
    body = reading.body
    whole, near = bare_flesh(sketch, body)
    one = {**_of_body(reading), "bare whole": whole}
    names = list(sketch.found)
    depth = dict(zip(names, _depths(sketch, body, names).tolist(), strict=True))
    more: dict[str, dict[str, float]] = {}
    if plan in LIMBED:
        one["biped"] = float(plan == "biped")
    else:
        one |= {f"plan {p}": float(plan == p) for p in OTHERS} | _of_legs(sketch, body.size)
        more = _of_limbs(sketch, body.size)
    rows = []
    for n in names:
        own = _of_joint(sketch, reading, n, depth)
        stem = _stem(sketch.found[n][2])
        own |= {f"is {s}": float(s == stem or (s == "" and stem in OTHER_STEMS)) for s in (*STEMS, "")}
        own |= {"bare near": near.get(n, 0.0), "spread": sketch.spread.get(n, 0.0)}
        rows.append(one | own | more.get(n, {}))
    return rows


def table(told: list[dict[str, float]], features: Sequence[str]) -> np.ndarray:
    """(j, f) of what is told by name."""
    return np.array([[row[f] for f in features] for row in told]).reshape(len(told), len(features))


def _limbs(sketch: Sketch) -> list[list[str]]:
    """Rows of joints from where they leave others to their end."""
    kids: dict[str | None, int] = {}
    for over, *_ in sketch.found.values():
        kids[over] = kids.get(over, 0) + 1
    rows = []
    for n in sketch.found:
        if n in kids:
            continue
        row = [n]
        while (over := sketch.found[row[-1]][0]) in sketch.found and kids[over] == 1:
            row.append(str(over))
        rows.append(row[::-1])
    return rows


def _of_limbs(sketch: Sketch, size: float) -> dict[str, dict[str, float]]:
    """What the limb that a joint belongs to shows: its length beside others of its kind and beside its partner, where it begins and ends."""
    limbs = {row[0]: row for row in _limbs(sketch)}
    long = {
        root: sum(float(np.linalg.norm(sketch.place(b) - sketch.place(a))) for a, b in itertools.pairwise(row)) / size
        for root, row in limbs.items()
    }
    low = min(float(p[1]) for _, p, _, _ in sketch.found.values())
    ahead = sketch.frame.facing
    out: dict[str, dict[str, float]] = {}
    none = {
        k: NONE
        for k in (
            "limb",
            "of kind",
            "limb uneven",
            "roots apart",
            "tip high",
            "on limb",
            "number",
            "tips apart in height",
        )
    }
    for n, (_, _, role, _) in sketch.found.items():
        out[n] = none | {"lone": float(opposite_name(n) != n and opposite_name(n) not in sketch.found)}
        out[n] |= {f"is {s}": float(role.startswith(s)) for s in OTHER_STEMS}
    for root, row in limbs.items():
        role, twin = sketch.found[root][2], opposite_name(root)
        kind = [long[r] for r in limbs if sketch.found[r][2] == role]
        digits = "".join(ch for ch in root if ch.isdigit())
        own = {
            "limb": long[root], "of kind": _ratio(long[root], float(np.median(kind))), "number": float(digits or NONE),
            "tip high": (float(sketch.place(row[-1])[1]) - low) / size,
        }  # fmt: skip
        if twin != root and twin in limbs:
            own["limb uneven"] = abs(_ratio(long[root], long[twin]))
            own["roots apart"] = abs(float((sketch.place(root) - sketch.place(twin)) @ ahead)) / size
            own["tips apart in height"] = abs(float(sketch.place(row[-1])[1] - sketch.place(limbs[twin][-1])[1])) / size
        for k, n in enumerate(row):
            out[n] |= own | {"on limb": k / max(len(row) - 1, 1)}
    return out


def _of_legs(sketch: Sketch, size: float) -> dict[str, float]:
    """How many legs were found and how unlike they are; the first may be feelers."""
    legs = [row for row in _limbs(sketch) if sketch.found[row[0]][2] in ("thigh", "fin", "hind_fin")]
    place = sketch.place
    long = np.array([sum(float(np.linalg.norm(place(b) - place(a))) for a, b in itertools.pairwise(r)) for r in legs])
    high = np.array([float(place(r[-1])[1]) for r in legs])
    first = np.array(["_1_" in r[0] for r in legs], bool)
    out = {
        "legs": float(len(legs)),
        "legs odd": NONE,
        "first to others": NONE,
        "first over others": NONE,
        "legs unlike": NONE,
    }
    if len(legs):
        out["legs odd"] = float(abs(sum(r[0].endswith("_L") for r in legs) - sum(r[0].endswith("_R") for r in legs)))
        out["legs unlike"] = _ratio(float(long.max()), float(long.min()))
    if first.any() and not first.all():
        out["first to others"] = _ratio(float(long[first].mean()), float(np.median(long[~first])))
        out["first over others"] = (float(high[first].mean()) - float(np.median(high[~first]))) / size
    return out


def _stem(role: str) -> str:
    """The kind of joint that a role is of."""
    return next((s for s in (*STEMS, *OTHER_STEMS) if role.startswith(s)), "")


def _depths(sketch: Sketch, body: Body, names: list[str]) -> np.ndarray:
    if not names:
        return np.zeros(0)
    places = np.array([sketch.place(n) for n in names])
    return np.asarray(body.solid.depth[body.solid.nearest(places)] / body.size)


def _ratio(a: float, b: float) -> float:
    return float(np.log(max(a, 1e-6) / max(b, 1e-6)))


def _of_body(reading: Reading) -> dict[str, float]:
    body, roles, sketch = reading.body, reading.roles, reading.sketch
    size = body.size

    def between(a: str, b: str) -> float:
        if a not in sketch.found or b not in sketch.found:
            return NONE
        return float(np.linalg.norm(sketch.place(a) - sketch.place(b))) / size

    out: dict[str, float] = {}
    for name, (a, b) in BONES.items():
        left, right = (between(f"{a}_{s}", f"{b}_{s}") for s in "LR")
        out[name], out[f"{name} uneven"] = 0.5 * (left + right), abs(_ratio(left, right))
    neck = "neck" if "neck" in sketch.found else "neck_1"
    out |= {
        "forearm to upper arm": _ratio(out["forearm"], out["upper arm"]),
        "shin to thigh": _ratio(out["shin"], out["thigh"]),
        "arm to leg": _ratio(out["forearm"] + out["upper arm"], out["shin"] + out["thigh"]),
        "trunk": between("hips", "neck" if "neck" in sketch.found else "chest"),
        "head": between("head", "head_end"),
        "hips wide": between("thigh_L", "thigh_R"),
        "shoulders wide": between("upper_arm_L", "upper_arm_R"),
        "neck": between(neck, "head"),
    }
    tips = roles.tips
    head = tips.get("head")
    for name, (a, b) in LIMBS.items():
        if a not in tips or b not in tips:
            out |= {f"{name} {k}": NONE for k in ("girth uneven", "length uneven", "girth", "tip", "odd", "to head")}
            continue
        i, j = tips[a], tips[b]
        out[f"{name} girth uneven"] = abs(_ratio(body.girth[i], body.girth[j]))
        out[f"{name} length uneven"] = abs(_ratio(body.length[i], body.length[j]))
        out[f"{name} girth"] = 0.5 * float(body.girth[i] + body.girth[j]) / size
        out[f"{name} tip"] = 0.5 * float(body.length[i] + body.length[j]) / size
        ways = (float(body.table[i, head]), float(body.table[j, head])) if head is not None else (0.0, 0.0)
        out[f"{name} odd"] = abs(ways[0] - ways[1]) / max(0.5 * sum(ways), 1e-9) if head is not None else NONE
        out[f"{name} to head"] = 0.5 * sum(ways) / size if head is not None else NONE
    out["head girth"] = float(body.girth[head]) / size if head is not None else NONE
    for end in ("head", "tail", "end"):
        out[f"{end} tip"] = float(body.length[tips[end]]) / size if end in tips else NONE
    over = [i for i in range(len(body.tips)) if i not in set(tips.values())]
    lengths = [float(body.length[i]) / size for i in over]
    out |= {
        "tips": float(len(body.tips)), "tips over": float(len(over)), "longest over": max(lengths, default=0.0),
        "all over": sum(lengths),
        "slimmest over": max((float(body.length[i] / max(body.girth[i], 1e-6)) for i in over), default=0.0),
        "cost": sketch.cost, "margin": min((e for e, _ in reading.others), default=9.0), "readings": float(len(reading.others)),
        "faces": sketch.frame.sure,
    }  # fmt: skip
    low = min(float(p[1]) for _, p, _, _ in sketch.found.values())
    for name, n in {"hips": "hips", "head": "head", "neck": neck, "chest": "chest"}.items():
        out[f"{name} high"] = (float(sketch.place(n)[1]) - low) / size if n in sketch.found else NONE
    feet = [float(sketch.place(f"foot_{s}")[1]) for s in "LR" if f"foot_{s}" in sketch.found]
    out["feet apart in height"] = abs(feet[0] - feet[1]) / size if len(feet) == 2 else NONE
    return out


def _of_joint(sketch: Sketch, reading: Reading, n: str, depth: dict[str, float]) -> dict[str, float]:
    place, parent, twin, size = sketch.place(n), sketch.found[n][0], opposite_name(n), reading.body.size
    out = {p: reading.parts.get(n, {}).get(p, 0.0) for p in (*PARTS, "posed")}
    out["deep"] = depth[n]
    out["depth uneven"] = abs(_ratio(depth[n], depth[twin])) if twin != n and twin in depth else NONE
    out["bone"], out["bend"] = NONE, 2.0 * NONE
    if parent is not None and parent in sketch.found:
        bone = place - sketch.place(parent)
        out["bone"] = float(np.linalg.norm(bone)) / size
        kid = next((k for k, (over, *_) in sketch.found.items() if over == n), "")
        if kid:
            on = sketch.place(kid) - place
            out["bend"] = float(bone @ on / max(np.linalg.norm(bone) * np.linalg.norm(on), 1e-9))
    far = [
        min((float(np.linalg.norm(place - o.place(m))) / size for m in (n, twin) if m in o.found), default=0.3)
        for _, o in reading.others
    ]
    out["elsewhere"], out["elsewhere next"] = max(far, default=0.0), far[0] if far else 0.0
    return out


# -- the trees -------------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Learned:
    """Trees over features: a row for each node, (feature, threshold, left, right, value); leaves have no feature (−1)."""

    plans: tuple[str, ...]
    base: float
    stems: tuple[str, ...]  # of the joints' roles that were among what it was learned from
    features: tuple[str, ...]
    trees: tuple[np.ndarray, ...]
    doubted: float  # the score from which a joint is doubted
    lost: float  # and from which it counts as not found

    def score(self, told: np.ndarray) -> np.ndarray:
        """(j,): how much joints are like those that lie far off, from features (j, f)."""
        out = np.full(len(told), self.base)
        for tree in self.trees:
            at = np.zeros(len(told), int)
            feature = tree[:, 0].astype(int)
            while (inner := feature[at] >= 0).any():
                rows, node = np.flatnonzero(inner), at[inner]
                left = told[rows, feature[node]] <= tree[node, 1]
                at[rows] = np.where(left, tree[node, 2], tree[node, 3]).astype(int)
            out += tree[at, 4]
        return out


def learned(plan: str) -> Learned | None:
    """What was learned for a plan; None for a head, which nothing was learned for."""
    file = next((f for plans, f in FAMILIES.items() if plan in plans), None)
    return None if file is None else _read(file)


@cache
def _read(file: Path) -> Learned:
    said = json.loads(file.read_text())
    trees = tuple(np.array(tree, float) for tree in said["trees"])
    return Learned(
        tuple(said["plans"]),
        said["base"],
        tuple(said["stems"]),
        tuple(said["features"]),
        trees,
        said["doubted"],
        said["lost"],
    )
