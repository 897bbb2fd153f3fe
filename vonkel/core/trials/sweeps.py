"""Every joint turned through its freedom, axis by axis: what the skin does at each angle, as a curve, and a card of the worst.

A joint's range is its own freedom; without one, what a table of normal ranges says of its role; else its hinge by
45° either way.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ..character import Character, Joint
from ..derived import derived
from ..errors import VonkelError
from ..geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector
from ..joints.freedom import by_table
from ..poses import WorldTurns, build_of

STEPS = 9  # angles of a sweep, ends included
LEAST = np.radians(8.0)  # an axis that is freer than this is swept
EITHER_WAY = np.radians(45.0)
OF_DOGS = ("quadruped",)


@dataclass(frozen=True)
class Sweep:
    """One joint about one of its own axes (0 to 2), over angles (radians, rising, rest among them)."""

    joint: str
    axis: int
    words: str
    angles: tuple[float, ...]

    @property
    def name(self) -> str:
        return f"{self.joint} {self.words}"

    def name_at(self, angle: float) -> str:
        """What the pose at an angle is called."""
        return f"{self.name} {np.degrees(angle):+.0f}°"

    def turns(self, character: Character, angle: float) -> WorldTurns:
        """The turn in the rest world's axes."""
        axis = matrix_from_quaternion(np.array(character.joint(self.joint).turn))[:, self.axis]
        return {self.joint: matrix_from_rotation_vector(axis * angle)}


@derived("joints", "plan", "skin", "kits", "controls", "rules", "points", "name", "shapes", most=8)
def sweeps(character: Character) -> tuple[Sweep, ...]:
    """All sweeps that a character's joints can take, in their order; none of joints that hold nothing."""
    if character.skin is None:
        return ()
    free = character
    try:
        free = by_table(character, "dog" if build_of(character) in OF_DOGS else "people")
    except VonkelError:
        pass  # no table knows its joints
    holders = set(character.skin.joints)
    found: list[Sweep] = []
    for j in character.joints:
        if j.deforms and j.parent is not None and j.name in holders and j.role != "eye":
            found += _of(j if j.freedom is not None else free.joint(j.name))
    return tuple(found)


def _of(joint: Joint) -> Iterator[Sweep]:
    aim, hinge = "xyz".index(joint.aim[-1]), "xyz".index(joint.hinge[-1])
    words = {hinge: "bends", aim: "twists"}
    f = joint.freedom
    for axis in (hinge, 3 - aim - hinge, aim):
        if f is None:
            low, high = (-EITHER_WAY, EITHER_WAY) if axis == hinge else (0.0, 0.0)
        elif f.locked[axis]:
            continue
        else:
            low, high = (0.0 if x is None else float(x) for x in (f.low[axis], f.high[axis]))
        low, high = min(low, 0.0), max(high, 0.0)
        if high - low > LEAST:
            yield Sweep(joint.name, axis, words.get(axis, "leans"), _angles(low, high))


def _angles(low: float, high: float) -> tuple[float, ...]:
    """Evenly spaced, with rest itself among them."""
    even = np.linspace(low, high, STEPS)
    even[int(np.argmin(np.abs(even)))] = 0.0
    return tuple(float(x) for x in even)


def swept(character: Character, name: str) -> tuple[Sweep, float] | None:
    """The sweep and the angle that a pose's name says."""
    return next(((s, a) for s in sweeps(character) for a in s.angles if s.name_at(a) == name), None)
