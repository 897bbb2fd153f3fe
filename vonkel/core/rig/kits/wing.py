"""Wings: folded and spread in one value."""

from __future__ import annotations

import numpy as np

from ...character import Character, Kit
from ...geometry.rotations import matrix_from_quaternion, unit
from .led import Led, ValueTurns, tip_of


class Wing(Led):
    kind = "wing"
    about = (
        "A wing: arm, fingers or feathers and what hangs on each; folded and spread in one value; flap, sweep and curl."
    )
    lead_word = "wing"
    roles = {
        "upper": (1, 1, "the upper arm"),
        "middle": (1, 1, "the forearm"),
        "end": (1, 1, "the hand"),
        **{f"finger {i}": (0, 8, f"finger {i}, from its first joint") for i in range(1, 7)},
        "hung": (0, 48, "membrane or feather joints that hang on the arm's bones"),
    }
    named = {
        "fold": lambda c, k: folded_wing(c, k),
        "flap": lambda c, k: _flapped(c, k),
        "sweep": lambda c, k: _swept_wing(c, k),
        "curl": lambda c, k: _wing_curl(c, k),
    }  # fmt: skip

    def chains(self, kit: Kit) -> list[tuple[str, ...]]:
        return [kit.joints["upper"]]

    def every(self, kit: Kit) -> tuple[str, ...]:
        first = [n for r in ("upper", "middle", "end") for n in kit.joints[r]]
        return (*first, *(n for r, names in kit.joints.items() if r not in ("upper", "middle", "end") for n in names))


def _wing_axes(character: Character, kit: Kit) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Out along the spread wing, back along the body, and the wing plane's normal: unit vectors at rest."""
    root = np.array(character.joint(kit.joints["upper"][0]).place)
    ends = [np.array(character.joint(names[-1]).place) for r, names in kit.joints.items() if names]
    out = unit(max(ends, key=lambda p: float(np.linalg.norm(p - root))) - root)
    back = np.array([0.0, 0.0, -1.0])
    if abs(out @ back) > 0.9:
        back = np.array([0.0, -1.0, 0.0])
    spans = np.array(ends) - root
    normal = np.linalg.svd(np.vstack([spans, out, 0.3 * back]))[2][2]
    normal = normal if normal @ np.cross(out, back) > 0 else -normal
    back = unit(np.cross(normal, out))
    return out, back, normal


def folded_wing(character: Character, kit: Kit) -> ValueTurns:
    """Upper arm back along the body, forearm forward on it, hand and all that hangs back again: a closed fan."""
    out, back, normal = _wing_axes(character, kit)

    def angle(way: np.ndarray) -> float:
        return float(np.arctan2(way @ back, way @ out))

    wanted = {"upper": 1.4, "middle": -1.35, "end": 1.45}  # radians from straight out towards straight back
    turned: dict[str, float] = {}
    delta: dict[str, float] = {}
    names = Wing().every(kit)
    role_of = {n: r for r, group in kit.joints.items() for n in group}
    for n in names:
        joint = character.joint(n)
        way = tip_of(character, joint) - np.array(joint.place)
        rest = angle(way)
        role = role_of[n]
        if role in wanted:
            whole = wanted[role] - rest
        else:
            above = delta.get(str(joint.parent), 0.0)
            if role == "hung" or role.startswith("finger "):
                first = role == "hung" or n == kit.joints[role][0]
                # Lies back along the body, a trace of the fan kept so that the rays don't share one place.
                whole = (1.55 + 0.06 * (rest - 1.55)) - rest if first else above
            else:
                whole = above
        delta[n] = whole
        turned[n] = whole - delta.get(str(joint.parent), 0.0)
    turns: ValueTurns = {}
    for n in names:
        own = matrix_from_quaternion(character.joint(n).turn).T @ normal
        if abs(turned[n]) > 1e-4:
            turns[n] = {v: v * turned[n] * own for v in (0.25, 0.5, 0.75, 1.0)}
            turns[n][-1.0] = -0.12 * turned[n] * own
    return turns


def _flapped(character: Character, kit: Kit) -> ValueTurns:
    """Beaten down at 1 and up at -1, about the way back along the body; the hand lags behind a little."""
    _, back, normal = _wing_axes(character, kit)
    out: ValueTurns = {}
    for role, share in (("upper", 0.8), ("middle", 0.3), ("end", 0.25)):
        for n in kit.joints[role]:
            joint = character.joint(n)
            way = tip_of(character, joint) - np.array(joint.place)
            down = -1.0 if np.cross(back, way) @ [0.0, 1.0, 0.0] > 0 else 1.0
            own = matrix_from_quaternion(joint.turn).T @ back * down * share
            out[n] = {-1.0: -own, 1.0: own}
    return out


def _swept_wing(character: Character, kit: Kit) -> ValueTurns:
    _, _, normal = _wing_axes(character, kit)
    n = kit.joints["upper"][0]
    own = matrix_from_quaternion(character.joint(n).turn).T @ normal
    return {n: {-1.0: -0.6 * own, 1.0: 0.6 * own}}


def _wing_curl(character: Character, kit: Kit) -> ValueTurns:
    """Fingers bent down at 1, up at -1, each joint a little more than the one before."""
    _, back, _ = _wing_axes(character, kit)
    out: ValueTurns = {}
    for role, names in kit.joints.items():
        if role.startswith("finger "):
            for i, n in enumerate(names):
                joint = character.joint(n)
                way = tip_of(character, joint) - np.array(joint.place)
                axis = (
                    unit(np.cross(way, [0.0, -1.0, 0.0])) if np.linalg.norm(np.cross(way, [0, 1, 0])) > 1e-9 else back
                )
                own = matrix_from_quaternion(joint.turn).T @ axis * (0.25 + 0.08 * i)
                out[n] = {-1.0: -own, 1.0: own}
    return out
