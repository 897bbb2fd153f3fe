"""Trial poses in words of the body (“elbows bent by 120°”), made for whatever joints are there.

Angles are near the ends of normal ranges of motion (American Academy of Orthopaedic Surgeons 1965, Joint Motion,
from memory: elbow 0–150°, shoulder raised to 180°, hip flexed to 120°, knee to 135°, forearm turned 80–90° each
way).  Animals reach others; the poses ask the same of all so that skins can be compared.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..character import Character, Joint
from ..character.words import DIGITS
from ..derived import derived
from ..geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector, turn_between, unit
from ..joints.orient import bone_child, bone_frame
from ..rig import Pose, compile_rig

WorldTurns = dict[str, np.ndarray]  # joint → rotation (3, 3) in the rest world's axes, on top of its parent's


@dataclass(frozen=True)
class TrialPose:
    name: str
    about: str
    turns: WorldTurns


def pose_from_turns(character: Character, turns: WorldTurns) -> Pose:
    """Every joint turned in place by its entry of `turns`, all below it following.  Controls play no part."""
    n = len(character.joints)
    frames = np.zeros((n, 3, 4))
    delta = np.zeros((n, 3, 3))
    order = _parents_first(character)
    for i in order:
        j = character.joints[i]
        rest = matrix_from_quaternion(j.turn)
        own = turns.get(j.name, np.eye(3))
        if j.parent is None:
            delta[i], place = own, np.array(j.place)
        else:
            p = character.joint_index[j.parent]
            delta[i] = delta[p] @ own
            place = frames[p, :, 3] + delta[p] @ (np.array(j.place) - np.array(character.joints[p].place))
        frames[i, :, :3] = delta[i] @ rest
        frames[i, :, 3] = place
    return Pose(joints=frames, scales=np.ones((n, 3)))


def _parents_first(character: Character) -> list[int]:
    depth: dict[str | None, int] = {None: -1}

    def level(j: Joint) -> int:
        if j.name not in depth:
            depth[j.name] = level(character.joint(j.parent)) + 1 if j.parent else 0
        return depth[j.name]

    return sorted(range(len(character.joints)), key=lambda i: level(character.joints[i]))


class _Body:
    """Finds joints by what they are and says turns in words of the body."""

    def __init__(self, character: Character) -> None:
        self.character = character

    def joints(self, role: str) -> list[Joint]:
        return [j for j in self.character.joints if j.role == role]

    def starting(self, *roles: str) -> list[Joint]:
        return [j for j in self.character.joints if j.role.startswith(roles) and j.deforms]

    def bone(self, joint: Joint) -> np.ndarray:
        child = bone_child(self.character, joint)
        if child is None:
            return bone_frame(joint)[:, 0]
        return unit(np.array(child.place) - np.array(joint.place))

    def aimed(self, joint: Joint, way: tuple[float, float, float]) -> np.ndarray:
        """The smallest turn that brings the bone to `way`, which is for the left and mirrored for the right."""
        to = unit(np.array(way) * ([-1, 1, 1] if joint.side == "R" else [1, 1, 1]))
        return turn_between(self.bone(joint), to)

    def hinged(self, joint: Joint, degrees: float) -> np.ndarray:
        """Turned about the joint's own hinge, positive closing."""
        return matrix_from_rotation_vector(bone_frame(joint)[:, 2] * np.radians(degrees))

    def twisted(self, joint: Joint, degrees: float) -> np.ndarray:
        sign = -1.0 if joint.side == "R" else 1.0
        return matrix_from_rotation_vector(self.bone(joint) * np.radians(degrees) * sign)

    @staticmethod
    def about(axis: tuple[float, float, float], degrees: float) -> np.ndarray:
        return matrix_from_rotation_vector(np.array(axis) * np.radians(degrees))

    def spine(self) -> list[Joint]:
        return self.starting("spine", "chest")

    def digits(self) -> list[Joint]:
        return [j for j in self.starting(*DIGITS)]

    # each pose is a method that gives its turns, or nothing where the body lacks what it needs
    def arms_up(self) -> WorldTurns:
        turns = {j.name: self.aimed(j, (0.35, 1.0, 0.0)) for j in self.joints("upper_arm")}
        return turns | {
            j.name: self.about((0, 0, 1), 15.0 * (1 if j.side == "L" else -1)) for j in self.joints("collar")
        }

    def arms_forward(self) -> WorldTurns:
        return {j.name: self.aimed(j, (0.15, 0.05, 1.0)) for j in self.joints("upper_arm")}

    def arms_across(self) -> WorldTurns:
        turns = {j.name: self.aimed(j, (-0.35, 0.0, 1.0)) for j in self.joints("upper_arm")}
        return turns | {j.name: self.hinged(j, 40) for j in self.joints("forearm")}

    def elbows(self) -> WorldTurns:
        return {j.name: self.hinged(j, 120 - self._bend_at(j)) for j in self.joints("forearm")}

    def _bend_at(self, joint: Joint) -> float:
        """Degrees by which the chain is bent at a joint at rest."""
        above = self.character.joint(joint.parent) if joint.parent else joint
        cos = float(np.clip(self.bone(above) @ self.bone(joint), -1, 1))
        return float(np.degrees(np.arccos(cos)))

    def wrists_twisted(self) -> WorldTurns:
        return {j.name: self.twisted(j, 80) for j in self.joints("hand")}

    def fists(self) -> WorldTurns:
        return {j.name: self.hinged(j, 55 if j.role.startswith("thumb") else 75) for j in self.digits()}

    def sit(self) -> WorldTurns:
        turns = {j.name: self.aimed(j, (0.2, 0.0, 1.0)) for j in self.joints("thigh")}
        return turns | {j.name: self.hinged(j, 90 - self._bend_at(j)) for j in self.joints("shin")}

    def crouch(self) -> WorldTurns:
        turns = {j.name: self.aimed(j, (0.3, 0.35, 0.9)) for j in self.joints("thigh")}
        turns |= {j.name: self.hinged(j, 130 - self._bend_at(j)) for j in self.joints("shin")}
        return turns | {j.name: self.about((1, 0, 0), 25 / len(self.spine())) for j in self.spine()}

    def stride(self) -> WorldTurns:
        turns: WorldTurns = {}
        for j in self.joints("thigh"):
            turns[j.name] = self.about((1, 0, 0), -45 if j.side == "L" else 30)
        for j in self.joints("shin"):
            turns[j.name] = self.hinged(j, 20 if j.side == "L" else 35)
        for j in self.joints("upper_arm"):
            turns[j.name] = self.about((1, 0, 0), 35 if j.side == "L" else -35)
        return turns

    def bow(self) -> WorldTurns:
        return {j.name: self.about((1, 0, 0), 70 / len(self.spine())) for j in self.spine()}

    def side_bend(self) -> WorldTurns:
        return {j.name: self.about((0, 0, 1), 40 / len(self.spine())) for j in self.spine()}

    def look_back(self) -> WorldTurns:
        turns = {j.name: self.about((0, 1, 0), 40 / len(self.spine())) for j in self.spine()}
        above = self.starting("neck", "head")
        return turns | {j.name: self.about((0, 1, 0), 75 / len(above)) for j in above}

    def tail_curl(self) -> WorldTurns:
        tail = self.starting("tail")
        return {j.name: self.about((0, 1, 0), 160 / len(tail)) for j in tail}


POSES: tuple[tuple[str, str, Callable[[_Body], WorldTurns]], ...] = (
    ("arms up", "both arms raised beside the head", _Body.arms_up),
    ("arms forward", "both arms reaching ahead", _Body.arms_forward),
    ("arms across", "arms crossed before the chest", _Body.arms_across),
    ("elbows 120°", "elbows bent by 120°", _Body.elbows),
    ("wrist twist", "hands turned by 80°", _Body.wrists_twisted),
    ("fists", "every digit curled", _Body.fists),
    ("sit", "hips and knees at right angles", _Body.sit),
    ("crouch", "knees folded by 130°, back bent", _Body.crouch),
    ("stride", "one leg ahead, one behind, arms against them", _Body.stride),
    ("bow", "back bent forward by 70°", _Body.bow),
    ("side bend", "back bent sideways by 40°", _Body.side_bend),
    ("look back", "chest and head turned by 115°", _Body.look_back),
    ("tail curl", "tail swung round to one side", _Body.tail_curl),
)


@derived("joints", most=24)
def trial_poses(character: Character) -> tuple[TrialPose, ...]:
    """The poses that this skeleton can take."""
    body = _Body(character)
    found = []
    for name, about, make in POSES:
        try:
            turns = make(body)
        except ZeroDivisionError:  # nothing to spread the turn over: the body has no such part
            continue
        if turns:
            found.append(TrialPose(name, about, turns))
    return tuple(found)


def trial_pose(character: Character, name: str) -> Pose | None:
    """The pose called `name`: a trial pose, or one of the character's saved poses."""
    for p in trial_poses(character):
        if p.name == name:
            return pose_from_turns(character, p.turns)
    for saved in character.poses:
        if saved.name == name:
            return compile_rig(character).evaluate(saved.values)
    return None
