"""Which joint of a capture is which of ours: by how its skeleton is built, by its proportions, and by what its joints are called.

The two longest bones in a row of a limb are its upper and its lower one, unless names say otherwise.  Limbs are told apart by where they leave the trunk, from the root on.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

import numpy as np

from ..character import Character, Kit
from ..errors import StepRefused
from ..motion.capture import Skeleton
from ..rig.kits import gives
from ..rig.kits.limb import limb_joints

ZERO = 0.005  # of the skeleton's size: a joint nearer to its parent stands in one place with it
SAME = 0.1  # of how far joints lie from their middle: two skeletons that differ by less are one
HANGS = 0.15  # of the skeleton's size: a leg's end lies at least so far under the root
OURS = 0.7  # of our trunk and limbs: where so many are called alike, names alone say which is which
NAMED = 0.15  # of a limb's length: what a joint's name counts against the length of bones
AGREE, SHAPE_ALONE, DIFFER = 0.95, 0.7, 0.35  # how sure a match is

WORDS = {
    "hips": ("hip", "hips", "pelvis", "root"), "spine": ("spine", "back", "abdomen", "ab", "waist", "torso", "lumbar", "lowerback"),
    "chest": ("chest", "thorax", "ribs", "spine", "upperback"), "neck": ("neck",), "head": ("head", "skull"),
    "collar": ("collar", "clavicle", "shoulder", "scapula"), "upper": ("shoulder", "arm", "upperarm", "uparm", "humerus", "upleg", "thigh", "hip", "upperleg", "femur"),
    "lower": ("elbow", "forearm", "lowerarm", "radius", "knee", "shin", "leg", "calf", "lowleg", "lowerleg", "tibia"),
    "end": ("wrist", "hand", "ankle", "foot", "paw"), "ball": ("toe", "toes", "ball", "toebase"),
}  # fmt: skip
"""Plain words for parts of a body, as joints are called in many files (common practice)."""
KNOWN = {w for own in WORDS.values() for w in own}


@dataclass(frozen=True)
class Match:
    """Our joint, what it is in words, the capture's joint that leads it (empty: none), and how sure that is, 0 to 1."""

    joint: str
    part: str
    source: str
    sure: float


@dataclass(frozen=True)
class Limb:
    """A limb of either skeleton: its joints from collar to ball by word, and its side."""

    side: str
    joints: dict[str, str]
    kit: str = ""


@dataclass(frozen=True)
class Build:
    """How a skeleton is built: trunk from the root to the head by word, limbs from the root on, and its axes: rows are left, up, ahead."""

    trunk: dict[str, list[str]]
    limbs: list[Limb]
    axes: np.ndarray = field(default_factory=lambda: np.eye(3))


def side_of(name: str) -> str:
    """“L”, “R” or nothing, by the name alone."""
    words = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name)
    tokens = re.split(r"[^A-Za-z]+", words)
    low = [t.lower() for t in tokens]
    for side, full in (("L", "left"), ("R", "right")):
        if full in low or any(t.startswith(full) for t in low) or any(t.endswith(full) for t in low):
            return side
    for side in "LR":
        if side in tokens or side.lower() in tokens:
            return side
        if re.match(rf"[{side}{side.lower()}](?=[A-Z])", name):
            return side
    return ""


def plain_word(name: str) -> str:
    """A name in small letters, without its side, numbers and whatever a program puts before a colon."""
    name = name.rsplit(":", 1)[-1]
    words = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name)
    low = [
        t
        for t in re.split(r"[^a-z]+", words.lower())
        if t and t not in ("l", "r", "left", "right", "joint", "jnt", "bone")
    ]
    return re.sub(r"^(left|right)|(left|right)$", "", "".join(low))


def agrees(name: str, part: str) -> bool | None:
    """Whether a joint's name speaks of that part; None where it says nothing known."""
    word = plain_word(name)
    if word in WORDS[part]:
        return True
    return False if word in KNOWN else None


def build_of(s: Skeleton) -> Build:
    """How a capture's skeleton is built.  Raises StepRefused where no trunk with limbs can be seen."""
    rest, size = s.rest, max(s.size, 1e-9)
    kids, reach = s.kids, _reaches(s)
    sides = [side_of(name) for name in s.names]
    root = 0
    while len([k for k in kids[root] if reach[k] > 0.05 * size]) == 1:  # a root over the hips
        root = next(k for k in kids[root] if reach[k] > 0.05 * size)
    axes = _axes(s, root, reach, sides)
    if not any(sides):
        left = (rest - rest[root]) @ axes[0]
        sides = ["L" if v > 0.03 * size else "R" if v < -0.03 * size else "" for v in left]
    trunk_path = _trunk(s, root, reach, sides, axes)
    limbs: list[tuple[int, str, list[int]]] = []
    for order, k in enumerate(trunk_path):
        on = trunk_path[order + 1] if order + 1 < len(trunk_path) else -1
        for child in kids[k]:
            if child == on:
                continue
            chain = _chain(s, child, reach)
            side = next((sides[j] for j in chain if sides[j]), "")
            length = float(np.linalg.norm(s.offsets[chain[1:]], axis=1).sum()) if len(chain) > 1 else 0.0
            if side and length > 0.12 * size and len(chain) > 1:
                limbs.append((order, side, chain))
    if not limbs or len(trunk_path) < 2:
        raise StepRefused("Its skeleton shows no trunk with limbs.", s.names[0], "Match its joints by hand.")
    told = [Limb(side, _limb_words(s, chain)) for _, side, chain in sorted(limbs, key=lambda x: x[0])]
    last = max(order for order, _, _ in limbs)
    up = [s.names[k] for k in trunk_path]
    beyond = up[last + 1 :]
    trunk = {
        "hips": up[:1],
        "spine": up[1:last],
        "chest": up[max(last, 1) : last + 1] if last else [],
        "neck": beyond[:-1],
        "head": beyond[-1:],
    }
    return Build(trunk, told, axes)


def _below(s: Skeleton) -> list[int]:
    """How many joints hang below each."""
    out = [0] * len(s.names)
    for k in range(len(s.names) - 1, 0, -1):
        out[s.parents[k]] += 1 + out[k]
    return out


def _reaches(s: Skeleton) -> np.ndarray:
    """(j,): how far the farthest joint or end below a joint lies from it, along the bones, its own offset included."""
    out = np.zeros(len(s.names))
    for end, k in zip(s.ends, s.end_of, strict=True):
        out[k] = max(out[k], float(np.linalg.norm(end)))
    for k in range(len(s.names) - 1, -1, -1):  # children come after their parents
        out[k] += float(np.linalg.norm(s.offsets[k]))
        if s.parents[k] >= 0:
            out[s.parents[k]] = max(out[s.parents[k]], out[k])
    return out


def _axes(s: Skeleton, root: int, reach: np.ndarray, sides: list[str]) -> np.ndarray:
    """Rows left, up and ahead: up is the axis of the world along which the skeleton is longest from feet to head, or y; left by the
    sides that names say, else ahead by the feet."""
    rest = s.rest
    spread = np.ptp(np.vstack([rest, s.tips]), axis=0)
    up = (
        np.array([0.0, 0.0, 1.0])
        if spread[2] > 1.6 * spread[1] and _legs_hang(s, root, reach, 2) and not _legs_hang(s, root, reach, 1)
        else np.array([0.0, 1.0, 0.0])
    )
    lefts = [k for k in range(len(s.names)) if sides[k] == "L"]
    rights = [k for k in range(len(s.names)) if sides[k] == "R"]
    if lefts and rights:
        left = rest[lefts].mean(0) - rest[rights].mean(0)
        left -= up * (left @ up)
        if np.linalg.norm(left) > 1e-3 * s.size:
            left /= np.linalg.norm(left)
            return np.array([left, up, np.cross(left, up)])
    feet = [
        e - rest[s.parents[k]]
        for e, k in zip(s.tips, s.end_of, strict=True)
        if s.parents[k] >= 0 and (e - rest[root]) @ up < -0.2 * s.size
    ]
    ahead = np.sum(feet, axis=0) if feet else np.array([0.0, 0.0, 1.0])
    ahead = ahead - up * (ahead @ up)
    if np.linalg.norm(ahead) < 1e-3 * s.size:
        ahead = np.array([0.0, 0.0, 1.0]) if up[1] else np.array([0.0, -1.0, 0.0])
    best = int(np.abs(ahead).argmax())
    ahead = np.sign(ahead[best]) * np.eye(3)[best]
    return np.array([np.cross(up, ahead), up, ahead])


def _legs_hang(s: Skeleton, root: int, reach: np.ndarray, axis: int) -> bool:
    """Whether the root's long branches go down along that axis on both sides."""
    low = 0
    for k in s.kids[root]:
        chain = _chain(s, k, reach)
        low += s.rest[chain[-1]][axis] - s.rest[root][axis] < -HANGS * s.size
    return low >= 2


def _chain(s: Skeleton, start: int, reach: np.ndarray) -> list[int]:
    """From a joint on down the branch that reaches farthest."""
    out = [start]
    while s.kids[out[-1]]:
        out.append(max(s.kids[out[-1]], key=lambda k: reach[k]))
    return out


def _trunk(s: Skeleton, root: int, reach: np.ndarray, sides: list[str], axes: np.ndarray) -> list[int]:
    """From the root on along what belongs to no side, by way of where most joints hang, to the head."""
    count = _below(s)
    out = [root]
    while True:
        middle = [k for k in s.kids[out[-1]] if not sides[k]]
        ahead = [k for k in middle if count[k] or len(out) > 1]
        if not ahead:
            return out
        both = [k for k in ahead if {"L", "R"} <= {sides[j] for j in _all_below(s, k)}]
        heads = [k for k in ahead if agrees(s.names[k], "neck") or agrees(s.names[k], "head")]
        pick = both or heads or ahead
        out.append(max(pick, key=lambda k: (count[k], float(s.offsets[k] @ axes[1]), reach[k])))


def _all_below(s: Skeleton, joint: int) -> list[int]:
    out, todo = [], [joint]
    while todo:
        k = todo.pop()
        out.append(k)
        todo += s.kids[k]
    return out


def _limb_words(s: Skeleton, chain: list[int]) -> dict[str, str]:
    """The joints of a limb by word: the two longest bones in a row are its upper and its lower one."""
    ends = {k: e for e, k in zip(s.ends, s.end_of, strict=True)}
    bones = [float(np.linalg.norm(s.offsets[k])) for k in chain[1:]]
    if chain[-1] in ends:
        bones.append(float(np.linalg.norm(ends[chain[-1]])))
    if len(bones) < 2:
        return {"upper": s.names[chain[0]]}
    whole = max(sum(bones), 1e-12)

    def told(i: int) -> dict[str, str]:
        out = {"upper": s.names[chain[i]], "lower": s.names[chain[i + 1]]}
        if i + 2 < len(chain):
            out["end"] = s.names[chain[i + 2]]
        if i + 3 < len(chain):
            out["ball"] = s.names[chain[i + 3]]
        if i >= 1 and np.linalg.norm(s.offsets[chain[i]]) > ZERO * s.size:
            out["collar"] = s.names[chain[i - 1]]
        return out

    def worth(i: int) -> float:
        said = [agrees(name, part) for part, name in told(i).items()]
        return (bones[i] + bones[i + 1]) / whole + NAMED * (said.count(True) - said.count(False))

    return told(max(range(len(bones) - 1), key=worth))


def own_build(character: Character) -> Build:
    """How our skeleton is built, by its kits.  Raises StepRefused where there are none."""
    body = next((k for k in character.kits if k.kind == "body"), None)
    if body is None:
        raise StepRefused(
            "No kit says what its trunk is.", character.name, "Put on the kits at the Limbs station first."
        )
    head = next((k for k in character.kits if k.kind == "head"), None)
    spine = list(body.joints.get("spine", ()))
    trunk = {
        "hips": list(body.joints["hips"]), "spine": spine[:-1], "chest": spine[-1:],
        "neck": list(head.joints.get("neck", ())) if head else [], "head": list(head.joints["head"]) if head else [],
    }  # fmt: skip
    limbs = []
    for kit in character.kits:
        if gives(kit, "goal"):
            limbs.append(Limb(_side(character, kit), _own_limb(character, kit), kit.name))
    depth = {n: i for i, n in enumerate([*trunk["hips"], *spine])}
    return Build(trunk, sorted(limbs, key=lambda m: _leaves_at(character, m, depth)))


def _side(character: Character, kit: Kit) -> str:
    name = limb_joints(kit)[-1]
    return "L" if name.endswith("_L") else "R" if name.endswith("_R") else ""


def _own_limb(character: Character, kit: Kit) -> dict[str, str]:
    names = limb_joints(kit)
    out = {"upper": names[0], "lower": names[1], "end": names[-1]}
    if kit.joints.get("collar"):
        out["collar"] = kit.joints["collar"][0]
    foot = next((k for k in character.kits if gives(k, "roll") and k.joints["foot"] == kit.joints["end"]), None)
    if foot is not None and foot.joints.get("ball"):
        out["ball"] = foot.joints["ball"][0]
    return out


def _leaves_at(character: Character, limb: Limb, depth: dict[str, int]) -> tuple[int, float]:
    joint = character.joint(limb.joints["upper"])
    while joint.parent and joint.name not in depth:
        joint = character.joint(joint.parent)
    return depth.get(joint.name, 0), character.joint(limb.joints["upper"]).place[2]


PARTS = ("collar", "upper", "lower", "end", "ball")
TRUNK = ("hips", "spine", "chest", "neck", "head")


def one_skeleton(character: Character, there: Collection[str]) -> bool:
    """Whether nearly all of our joints are matched: then the capture is of a skeleton such as ours."""
    return len(there) > OURS * len(character.joints)


def axes_of(character: Character, skeleton: Skeleton, there: Mapping[str, int]) -> np.ndarray:
    """(3, 3): rows are what of the capture's space is our left, up and ahead.

    Where nearly all of our joints are matched the two skeletons are one in two places: the turn by right angles that brings the one
    nearest to the other.  Otherwise as the capture is built.  Raises StepRefused.
    """
    if one_skeleton(character, there):
        names = list(there)
        ours = np.array([character.joint(n).place for n in names])
        theirs = skeleton.rest[[there[n] for n in names]]
        ours, theirs = (a - a.mean(0) for a in (ours, theirs))
        theirs = theirs * (np.linalg.norm(ours) / max(float(np.linalg.norm(theirs)), 1e-12))
        best = min(RIGHT_ANGLES, key=lambda m: float(np.linalg.norm(theirs @ m.T - ours)))
        if np.linalg.norm(theirs @ best.T - ours) < SAME * np.linalg.norm(ours):
            return best
    return build_of(skeleton).axes


def _right_angles() -> list[np.ndarray]:
    out = []
    for order in itertools.permutations(range(3)):
        for signs in itertools.product((1.0, -1.0), repeat=3):
            m = np.eye(3)[list(order)] * np.array(signs)[:, None]
            if np.linalg.det(m) > 0:
                out.append(m)
    return out


RIGHT_ANGLES = _right_angles()


def _alike(parts: Collection[str], same: Collection[str]) -> bool:
    return sum(n in same for n in parts) > OURS * len(parts)


def matched(character: Character, skeleton: Skeleton) -> list[Match]:
    """Our joints with the capture's that lead them, from the hips on, left before right.  Raises StepRefused."""
    own, out = own_build(character), list[Match]()
    called = {plain: name for name in skeleton.names for plain in (name, name.replace("_", " "))}
    parts = {n: p for p in TRUNK for n in own.trunk[p]} | {n: p for limb in own.limbs for p, n in limb.joints.items()}
    same = {j.name: called[n] for j in character.joints for n in ("_".join(j.name.split()), j.name) if n in called}
    if _alike(parts, same):  # a motion of a skeleton such as this one
        return [Match(n, parts.get(n, ""), same[n], 1.0) for n in same]
    other = build_of(skeleton)
    for part in TRUNK:
        mine, theirs = own.trunk[part], other.trunk[part]
        if part == "spine" and not theirs:
            theirs = []
        out += [_match(joint, part, source) for joint, source in zip(mine, _spread(theirs, len(mine)), strict=True)]
    for limb, there in _pairs(own, other):
        out += [_match(limb.joints[p], p, there.joints.get(p, "") if there else "") for p in PARTS if p in limb.joints]
    return out


def _match(joint: str, part: str, source: str) -> Match:
    said = agrees(source, part) if source else None
    sure = 0.0 if not source else AGREE if said else SHAPE_ALONE if said is None else DIFFER
    return Match(joint, part, source, sure)


def _spread(theirs: list[str], count: int) -> list[str]:
    """So many of theirs as we have, evenly; where they have fewer each is used once, as far on as it stands."""
    if not theirs or not count:
        return [""] * count
    if len(theirs) >= count:
        return [theirs[round(i)] for i in np.linspace(0, len(theirs) - 1, count)] if count > 1 else [theirs[-1]]
    out = [""] * count
    for i, name in enumerate(theirs):
        out[round((i + 1) * count / len(theirs)) - 1] = name
    return out


def _pairs(own: Build, other: Build) -> list[tuple[Limb, Limb | None]]:
    """Our limbs with theirs of the same side: as many rows from the root on as both have, the last with the last."""
    out: list[tuple[Limb, Limb | None]] = []
    for side in ("L", "R", ""):
        mine, theirs = [m for m in own.limbs if m.side == side], [m for m in other.limbs if m.side == side]
        for i, limb in enumerate(mine):
            k = i if len(mine) <= len(theirs) or i < len(theirs) else -1
            if len(theirs) > len(mine) and i == len(mine) - 1 and len(mine) > 1:
                k = len(mine) - 1
            out.append((limb, theirs[k] if 0 <= k < len(theirs) else None))
    return out
