"""Trial poses in words of the body (“elbows bent by 120°”), made for whatever joints are there.

poses.json lists them by plan: the *ordinary* ones, which any body of that build must take without tearing, *further* ones
near the ends of normal ranges of motion (American Academy of Orthopaedic Surgeons 1965, Joint Motion, from memory: elbow
0–150°, shoulder raised to 180°, hip flexed to 120°, knee to 135°, forearm turned 80–90° each way; animals by common
practice), and *more* that are tried besides, and that nothing is solved or set by.  Ways and turns are in the body's own axes: x to its left, y up, z ahead.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from .character import Character, Joint, opposite_name
from .derived import derived
from .geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector, turn_between, unit
from .joints.orient import bend_angle, bone_child, bone_frame
from .rig import Pose, compile_rig

WorldTurns = dict[str, np.ndarray]  # joint → rotation (3, 3) in the rest world's axes, on top of its parent's
Asked = dict[str, dict[str, Any]]  # stem of a joint's name or role → how it is turned
ANY = "any"
WING = ("upper_arm", "forearm", "hand", "wing")


@dataclass(frozen=True)
class TrialPose:
    """`ordinary`: one that every body of its build must take."""

    name: str
    about: str
    turns: WorldTurns
    ordinary: bool = True


@cache
def poses_of_plans() -> dict[str, dict[str, dict[str, tuple[str, Asked]]]]:
    """plan → ordinary, further and more → pose → (what it is, joints' turns)."""
    told: dict[str, dict[str, dict[str, tuple[str, Asked]]]] = json.loads(
        Path(__file__).with_name("poses.json").read_text("utf-8")
    )
    return told


def pose_from_turns(character: Character, turns: WorldTurns) -> Pose:
    """Every joint turned in place by its entry of `turns`, all below it following, and the shapes on that it leads.  Controls play no part."""
    tree = _tree(character)
    n = len(character.joints)
    frames, delta = np.zeros((n, 3, 4)), np.zeros((n, 3, 3))
    for i in tree.order:
        p, own = tree.parents[i], turns.get(tree.names[i])
        if p < 0:
            delta[i] = np.eye(3) if own is None else own
            frames[i, :, 3] = tree.offsets[i]
        else:
            delta[i] = delta[p] if own is None else delta[p] @ own
            frames[i, :, 3] = frames[p, :, 3] + delta[p] @ tree.offsets[i]
    frames[:, :, :3] = delta @ tree.rests
    shapes = compile_rig(character).shapes_at(frames) if character.shapes else {}
    return Pose(joints=frames, scales=np.ones((n, 3)), shapes=shapes)


@dataclass(frozen=True)
class _Tree:
    """Joints as posing asks for them: in an order in which parents come first, their parents' numbers (−1: none), turns at rest (n, 3, 3),
    and where each is from its parent at rest (n, 3), of a root in space."""

    names: tuple[str, ...]
    order: tuple[int, ...]
    parents: tuple[int, ...]
    rests: np.ndarray
    offsets: np.ndarray


@derived("joints", most=24)
def _tree(character: Character) -> _Tree:
    index = {j.name: i for i, j in enumerate(character.joints)}
    parents = tuple(-1 if j.parent is None else index[j.parent] for j in character.joints)
    depth = [0] * len(parents)
    for i in range(len(parents)):
        up = parents[i]
        while up >= 0:
            depth[i], up = depth[i] + 1, parents[up]
    places = np.array([j.place for j in character.joints], float).reshape(-1, 3)
    offsets = np.array([p - (places[up] if up >= 0 else 0.0) for p, up in zip(places, parents, strict=True)]).reshape(
        -1, 3
    )
    rests = np.array([matrix_from_quaternion(np.array(j.turn)) for j in character.joints]).reshape(-1, 3, 3)
    order = tuple(sorted(range(len(parents)), key=lambda i: depth[i]))
    return _Tree(tuple(j.name for j in character.joints), order, parents, rests, offsets)


def facing(character: Character) -> np.ndarray:
    """(3, 3): columns are the body's left, up and ahead at rest; the world's axes where no pairs tell."""
    pairs = [
        np.array(j.place) - np.array(character.joint(opposite_name(j.name)).place)
        for j in character.joints
        if j.side == "L" and opposite_name(j.name) in character.joint_index
    ]
    left = (np.sum(pairs, axis=0) if pairs else np.zeros(3)) * [1.0, 0.0, 1.0]
    if np.linalg.norm(left) <= 1e-9:
        return np.eye(3)
    left = unit(left)
    if left[0] > 1 - 1e-4:  # it stands straight but for noise
        return np.eye(3)
    up = np.array([0.0, 1.0, 0.0])
    return np.stack([left, up, np.cross(left, up)], 1)


class Turns:
    """Says turns of joints, found by what they are, in words of the body."""

    def __init__(self, character: Character) -> None:
        self.character, self.axes = character, facing(character)

    def joints(self, stems: str) -> list[Joint]:
        """By name, role or the start of a role; “a+b” are both together, “*” all that move something."""
        wanted = tuple(stems.split("+"))
        return [
            j
            for j in self.character.joints
            if j.name in wanted
            or j.role in wanted
            or (j.deforms and j.role.startswith(wanted))
            or (wanted == ("*",) and j.deforms and j.parent is not None)
        ]

    def of(self, asked: Asked) -> WorldTurns:
        """The turns that a pose asks for; of joints that are there.  Later entries take a joint from earlier ones."""
        out: WorldTurns = {}
        for stems, how in asked.items():
            joints = self.joints(stems)
            for j in joints:
                out[j.name] = self._one(j, how, sum(1 for k in joints if k.side == j.side))
        return out

    def _one(self, j: Joint, how: dict[str, Any], row: int) -> np.ndarray:
        side = -1.0 if j.side == "R" else 1.0
        if "aim" in how:
            return turn_between(self._bone(j), self.axes @ unit(np.array(how["aim"]) * [side, 1, 1]))
        if "hinge" in how or "bend" in how:
            degrees = how["hinge"] if "hinge" in how else how["bend"] - self._bent(j)
            return matrix_from_rotation_vector(bone_frame(j)[:, 2] * np.radians(degrees))
        if "fold" in how:
            return matrix_from_rotation_vector(self._wing_normal(j.side) * np.radians(how["fold"]))
        if "twist" in how:
            return matrix_from_rotation_vector(self._bone(j) * np.radians(how["twist"]) * side)
        x, y, z = np.radians(how["turn"]) if "turn" in how else np.radians(how["whole"]) / row
        flip = side if how.get("mirrored") else 1.0
        return matrix_from_rotation_vector(self.axes @ np.array([x, flip * y, flip * z]))

    def _wing_normal(self, side: str) -> np.ndarray:
        """The axis about which a wing's arm swings, in its own plane, from out to down and back."""
        arm = [j for j in self.character.joints if j.side == side and j.role.startswith(WING)]
        places = np.array([j.place for j in arm])
        root = places[[j.role == "upper_arm" for j in arm]].mean(0)
        out = places[np.argmax(np.linalg.norm(places - root, axis=1))] - root
        normal = np.linalg.svd(places - root)[2][2]
        inward = np.cross(out, -self.axes[:, 1] - self.axes[:, 2])
        return np.asarray(normal if normal @ inward > 0 else -normal)

    def _bone(self, joint: Joint) -> np.ndarray:
        child = bone_child(self.character, joint)
        if child is None:
            return bone_frame(joint)[:, 0]
        return unit(np.array(child.place) - np.array(joint.place))

    def _bent(self, joint: Joint) -> float:
        """Degrees by which the chain is bent at a joint at rest."""
        child = bone_child(self.character, joint)
        if joint.parent is None or child is None:
            return 0.0
        a, b, c = (np.array(x.place) for x in (self.character.joint(joint.parent), joint, child))
        return float(np.degrees(bend_angle(a, b, c)))


def build_of(character: Character) -> str:
    """Whose poses fit a character: its plan's, or where it has none those its joints' roles ask for."""
    known = poses_of_plans()
    if character.plan in known:
        return str(character.plan)
    roles = {j.role for j in character.joints}

    def has(*stems: str) -> bool:
        return any(r.startswith(stems) for r in roles)

    if has("wing"):
        return "winged"
    if has("fin"):
        return "finned"
    if has("thigh", "upper_arm"):
        if sum(j.role == "thigh" for j in character.joints) > 2:
            return "many-legged"
        return "quadruped" if has("fore_") else "biped"
    return "chain" if has("chain") else "head" if has("head", "neck") else ANY


def _asked(character: Character, kinds: tuple[str, ...]) -> Iterator[tuple[str, str, Asked, bool]]:
    known = poses_of_plans()
    build = build_of(character)
    for kind in kinds:
        for name, (about, asked) in known[build][kind].items():
            yield name, about, asked, kind == "ordinary"


@derived("joints", "plan", most=24)
def trial_poses(character: Character) -> tuple[TrialPose, ...]:
    """The ordinary and the further poses that this skeleton can take: what skins are solved and judged by."""
    turns = Turns(character)
    found = _found(character, turns, ("ordinary", "further"))
    if not any(p.turns for p in found):
        found = [TrialPose(n, about, turns.of(a)) for n, (about, a) in poses_of_plans()[ANY]["ordinary"].items()]
    return tuple(p for p in found if p.turns)


@derived("joints", "plan", most=24)
def pose_set(character: Character) -> tuple[TrialPose, ...]:
    """All poses that are tried on this skeleton, twenty or more for every plan that has what they turn."""
    more = _found(character, Turns(character), ("more",))
    return (*trial_poses(character), *(p for p in more if p.turns))


def _found(character: Character, turns: Turns, kinds: tuple[str, ...]) -> list[TrialPose]:
    return [TrialPose(n, about, turns.of(asked), usual) for n, about, asked, usual in _asked(character, kinds)]
