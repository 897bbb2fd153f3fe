"""Poses beyond the trials: each joint over its range, and random ones, of both sides alike.

A skin that goes out is solved for them: weights solved for trial poses alone are worse than before in all others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from ..character import Character, Joint, opposite_name
from ..geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector
from ..poses import WorldTurns, facing, pose_from_turns, trial_poses
from ..rig import Pose

# Degrees about a joint's own x (twist), y and z (hinge) where no limits are set; common practice.
RANGES: tuple[tuple[tuple[str, ...], tuple[tuple[float, float], ...]], ...] = (
    (("jaw", "eye"), ((0, 0), (0, 0), (0, 0))),
    (("spine", "chest", "thorax"), ((-20, 20), (-18, 18), (-25, 25))),
    (("neck",), ((-30, 30), (-20, 20), (-25, 25))),
    (("head",), ((-40, 40), (-25, 25), (-30, 30))),
    (("collar",), ((-5, 5), (-20, 20), (-20, 20))),
    (("upper_arm",), ((-50, 50), (-80, 80), (-80, 80))),
    (("forearm", "shin"), ((-25, 25), (-3, 3), (-5, 125))),
    (("hand",), ((-60, 60), (-30, 30), (-50, 50))),
    (("thigh",), ((-30, 30), (-40, 40), (-100, 100))),
    (("foot",), ((-15, 15), (-15, 15), (-40, 40))),
    (("thumb", "point", "index", "middle", "ring", "little", "digit"), ((-5, 5), (-12, 12), (-5, 80))),
    (("tail", "chain", "abdomen", "feeler"), ((-12, 12), (-28, 28), (-28, 28))),
    (("ear", "wing", "fin"), ((-12, 12), (-25, 25), (-35, 35))),
)
OTHERS = ((-10.0, 10.0), (-15.0, 15.0), (-25.0, 25.0))
LEAST = 8.0  # degrees: an end nearer to rest isn't swept to
SHARES = (0.5, 1.0)  # of the way to an end
RANDOM, SEED = 40, 20241
TURNED = 0.7  # the chance that a joint is turned in a random pose


def ranges_of(joint: Joint) -> np.ndarray:
    """(3, 2) degrees about its own axes: as far as its limits say, or what joints of its role usually do."""
    usual = np.array(next((r for roles, r in RANGES if joint.role.startswith(roles)), OTHERS), float)
    freedom = joint.freedom
    if freedom is None:
        return usual
    for k in range(3):
        low, high = freedom.low[k], freedom.high[k]
        usual[k, 0] = usual[k, 0] if low is None else max(float(np.degrees(low)), 2 * usual[k, 0] - 30)
        usual[k, 1] = usual[k, 1] if high is None else min(float(np.degrees(high)), 2 * usual[k, 1] + 30)
        if freedom.locked[k]:
            usual[k] = 0.0
    return usual


def moving(character: Character) -> list[Joint]:
    """The joints that poses turn."""
    return [j for j in character.joints if j.deforms and j.parent is not None and np.ptp(ranges_of(j)) > 0]


def own_turn(joint: Joint, degrees: np.ndarray) -> np.ndarray:
    """(3, 3): turns about the joint's own axes, degrees (3,), together, in the character's axes at rest."""
    axes = matrix_from_quaternion(joint.turn)
    return matrix_from_rotation_vector(axes @ np.radians(degrees))


def swept(character: Character) -> Iterator[WorldTurns]:
    """Each joint and its partner by itself, about one of its axes, to both ends and half-way there."""
    for joint in moving(character):
        if joint.side == "R" and opposite_name(joint.name) in character.joint_index:
            continue
        pair = [joint] + [
            character.joint(n) for n in [opposite_name(joint.name)] if n != joint.name and n in character.joint_index
        ]
        for axis, ends in enumerate(ranges_of(joint)):
            for end in ends:
                for share in SHARES if abs(end) >= LEAST else ():
                    degrees = np.zeros(3)
                    degrees[axis] = end * share
                    yield {j.name: own_turn(j, degrees) for j in pair}


def scattered(character: Character, count: int, seed: int) -> Iterator[WorldTurns]:
    """Random poses: most joints turned anywhere within their ranges."""
    random = np.random.default_rng(seed)
    joints = moving(character)
    for _ in range(count):
        turns = {}
        for joint in joints:
            low, high = ranges_of(joint).T
            degrees = low + (high - low) * random.random(3)
            if random.random() < TURNED:
                turns[joint.name] = own_turn(joint, degrees)
        yield turns


def mirrored(character: Character, many: Iterable[WorldTurns]) -> Iterator[WorldTurns]:
    """The same poses as in a mirror."""
    axes = facing(character)
    flip = axes @ np.diag([-1.0, 1.0, 1.0]) @ axes.T
    known = character.joint_index
    for turns in many:
        yield {(opposite_name(n) if opposite_name(n) in known else n): flip @ turn @ flip for n, turn in turns.items()}


def sample_poses(character: Character) -> list[Pose]:
    """All that weights are solved for."""
    random = list(scattered(character, RANDOM, SEED))
    many = [
        *(p.turns for p in trial_poses(character)), *swept(character), *random, *mirrored(character, random),
    ]  # fmt: skip
    return [pose_from_turns(character, turns) for turns in many]


def unseen_poses(character: Character, count: int = 60) -> list[Pose]:
    """Poses that nothing was solved for: what a skin that goes out is also judged by."""
    return [pose_from_turns(character, turns) for turns in scattered(character, count, SEED + 1)]
