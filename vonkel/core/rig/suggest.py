"""From one chosen joint to the joints that a kit wants: a first guess, for the rigger to correct."""

from __future__ import annotations

from collections.abc import Callable

from ..character import Character, Joint
from ..character.words import EYE_JOINTS
from ..errors import NotFound
from .fitting import chain_below, driven_joints
from .kits import KINDS

Joints = dict[str, tuple[str, ...]]


def suggested(character: Character, kind: str, joint: str) -> Joints:
    """Roles and joints for a kit on `joint`.  Roles that nothing fits are left out.  Raises NotFound."""
    if kind not in KINDS:
        raise NotFound(f"There is no kit “{kind}”.", "", f"There are: {', '.join(KINDS)}.")
    if kind == "whole":
        return {}
    j = character.joint(joint)
    guess = _GUESSES.get(kind)
    found = guess(character, j) if guess else {next(iter(KINDS[kind].roles)): (joint,)}
    return {r: n for r, n in found.items() if n}


def _free_children(c: Character, joint: Joint) -> list[Joint]:
    taken = driven_joints(c)
    return [k for k in c.children.get(joint.name, ()) if k.deforms and k.role not in EYE_JOINTS and k.name not in taken]


def _limb(c: Character, j: Joint) -> Joints:
    """Downwards from a first bone; upwards where too little lies below."""
    below = chain_below(c, j.name, 3)
    if len(below) < 3:  # one that branches into digits ends in its first joint with several children
        chain = [j]
        while len(chain) < 3:
            kids = [k for k in c.children.get(chain[-1].name, ()) if k.deforms and k.side == j.side]
            if not kids:
                break
            chain.append(kids[0])
        below = tuple(k.name for k in chain)
    if len(below) < 3:
        up = [j.name]
        while len(up) < 3 and c.joint(up[0]).parent:
            up.insert(0, str(c.joint(up[0]).parent))
        below = tuple(up)
    if len(below) < 3:
        return {"upper": below[:1]}
    above = c.joint(below[0]).parent
    collar = (above,) if above and c.joint(above).role == "collar" and above not in driven_joints(c) else ()
    return {"upper": below[:1], "middle": below[1:-1], "end": below[-1:], "collar": collar}


def _foot(c: Character, j: Joint) -> Joints:
    return {"foot": (j.name,), "ball": tuple(k.name for k in _free_children(c, j)[:1])}


def _digits(c: Character, j: Joint) -> Joints:
    firsts = _free_children(c, j)
    if len(firsts) == 1:
        return {"digit 1": chain_below(c, firsts[0].name, 6)}
    thumb = [k for k in firsts if k.role.startswith("thumb")]
    out: Joints = {"thumb": chain_below(c, thumb[0].name, 6)} if thumb else {}
    for i, k in enumerate([k for k in firsts if k not in thumb][:8]):
        out[f"digit {i + 1}"] = chain_below(c, k.name, 6)
    return out


def _rays(c: Character, j: Joint) -> Joints:
    firsts = _free_children(c, j)
    if len(firsts) < 2:
        return {"ray 1": chain_below(c, j.name, 12)}
    return {f"ray {i + 1}": chain_below(c, k.name, 12) for i, k in enumerate(firsts[:12])}


def _wing(c: Character, j: Joint) -> Joints:
    limb = _limb(c, j)
    if "end" not in limb:
        return limb
    bones = [c.joint(limb[r][0]) for r in ("upper", "middle", "end")]
    fingers = [k for k in _free_children(c, bones[2])]
    hung = [k.name for b in bones[:2] for k in _free_children(c, b) if k.name not in {x.name for x in bones}]
    hung += [k.name for k in fingers if k.role.startswith(("membrane", "feather"))]
    out: Joints = {r: limb[r][:1] for r in ("upper", "middle", "end")}
    for i, k in enumerate([k for k in fingers if k.name not in hung][:6]):
        out[f"finger {i + 1}"] = chain_below(c, k.name, 8)
    return {**out, "hung": tuple(hung)}


def _body(c: Character, j: Joint) -> Joints:
    spine: list[str] = []
    here = j
    while True:
        kids = [k for k in c.children.get(here.name, ()) if k.side == "C" and k.deforms]
        onward = [k for k in kids if k.role.startswith(("spine", "chest"))] or ([] if spine else kids)
        if not onward:
            break
        here = onward[0]
        spine.append(here.name)
        if here.role.startswith("chest"):
            break
    return {"hips": (j.name,), "spine": tuple(spine)}


def _head(c: Character, j: Joint) -> Joints:
    neck: list[str] = []
    above = j.parent
    while above and c.joint(above).role.startswith("neck"):
        neck.insert(0, above)
        above = c.joint(above).parent
    return {"neck": tuple(neck), "head": (j.name,)}


def _stance(c: Character, j: Joint) -> Joints:
    feet = tuple(k.joints["end"][0] for k in c.kits if k.kind == "leg")
    return {"trunk": (j.name,), "feet": feet}


_GUESSES: dict[str, Callable[[Character, Joint], Joints]] = {
    "arm": _limb, "leg": _limb, "foot": _foot, "digits": _digits, "fin": _rays, "fan": _rays, "wing": _wing, "body": _body,
    "head": _head, "stance": _stance,
    "chain": lambda c, j: {"chain": chain_below(c, j.name)},
    "turns": lambda c, j: {"chain": chain_below(c, j.name)},
    "eyes": lambda c, j: {"eyes": tuple(k.name for k in c.joints if k.role == "eye")},
}  # fmt: skip
