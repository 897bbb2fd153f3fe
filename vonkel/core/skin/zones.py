"""Zones: a tapered capsule round a bone says whom it holds.

In the capsule a bone holds a point wholly as far as its core, from there to the rim ever less; beyond it lets go.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..character import Character, opposite_name
from ..errors import BadParameters
from ..geometry.easing import smoothstep
from ..geometry.rotations import vector
from ..geometry.topology import skin_points
from .bind import weights_of
from .bones import bones_of
from .edits import Rows

THICK = 90  # of 100 points that a bone holds most lie within its zone as it is
LEAST_RADIUS = 0.004  # of the size
MOSTLY = 0.5


@dataclass(frozen=True)
class Zone:
    """start, end (3,) metres at rest; radii at both; soft: the share of the radius over which the hold fades, from the rim in."""

    joint: str
    start: tuple[float, float, float]
    end: tuple[float, float, float]
    start_radius: float
    end_radius: float
    soft: float = 0.5

    def as_dict(self) -> dict[str, Any]:
        return {
            "joint": self.joint, "start": list(self.start), "end": list(self.end), "start_radius": self.start_radius,
            "end_radius": self.end_radius, "soft": self.soft,
        }  # fmt: skip

    def holds(self, points: np.ndarray) -> np.ndarray:
        """(n,) from 0 to 1: how much of each point it asks for."""
        if self.start_radius <= 0 or self.end_radius <= 0:
            raise BadParameters("A zone has two radii above zero.", self.joint, "Pull its rims out.")
        a, way = np.array(self.start), np.array(self.end) - np.array(self.start)
        t = np.clip((points - a) @ way / max(float(way @ way), 1e-18), 0.0, 1.0)
        away = np.linalg.norm(points - a - t[:, None] * way, axis=1)
        share = away / (self.start_radius + (self.end_radius - self.start_radius) * t)
        return np.asarray(1.0 - smoothstep((share - (1.0 - self.soft)) / max(self.soft, 1e-9)))

    def mirrored(self, joint: str) -> Zone:
        """The same on the other side."""
        (ax, ay, az), (bx, by, bz) = self.start, self.end
        return Zone(joint, (-ax, ay, az), (-bx, by, bz), self.start_radius, self.end_radius, self.soft)


def zone_of(character: Character, joint: str) -> Zone:
    """The zone of a bone as it is: along it, and as thick at both ends as what it mostly holds."""
    bones = [b for b in bones_of(character) if b.joint == joint]
    if bones:
        segment = max(bones[0].segments, key=lambda s: float(np.linalg.norm(s[1] - s[0])))
        start, end = (np.array(p, float) for p in segment)
    else:
        start = end = np.array(character.joint(joint).place)
    held = weights_of(character, joint)
    mine = np.flatnonzero(held > MOSTLY) if (held > MOSTLY).any() else np.flatnonzero(held > 0)
    way, points = end - start, character.points[mine]
    t = np.clip((points - start) @ way / max(float(way @ way), 1e-18), 0.0, 1.0)
    away = np.linalg.norm(points - start - t[:, None] * way, axis=1)
    radii = []
    for near in (t <= 0.5, t > 0.5):
        some = away[near] if near.any() else away
        radii.append(max(float(np.percentile(some, THICK)) if len(some) else 0.0, LEAST_RADIUS * character.size))
    ends = [vector(p) for p in (start, end)]
    return Zone(joint, ends[0], ends[1], 1.25 * radii[0], 1.25 * radii[1])


def both_sides(character: Character, zones: Sequence[Zone]) -> list[Zone]:
    """These and their mirror images, of joints that have a partner."""
    out = {z.joint: z for z in zones}
    for z in zones:
        other = opposite_name(z.joint)
        if other in character.joint_index and other not in out:
            out[other] = z.mirrored(other)
    return list(out.values())


class Zoning:
    """Zones at work on a skin: `put` may be called again and again, each time from the skin as it was."""

    def __init__(self, character: Character) -> None:
        """Raises StepRefused without a skin."""
        self.rows = Rows(character)
        self.before = self.rows.index.copy(), self.rows.weights.copy()
        self.touched = np.zeros(0, np.int64)
        self.soft = skin_points(character)

    def put(self, zones: Sequence[Zone]) -> np.ndarray:
        """Let these bones hold what their zones say; the points (k,) whose rows may have changed since the call before."""
        rows, points = self.rows, self.rows.character.points
        rows.index[self.touched], rows.weights[self.touched] = (a[self.touched] for a in self.before)
        asked = {z.joint: np.where(self.soft, z.holds(points), 0.0) for z in zones}
        reached = np.zeros(len(points), bool)
        for joint, wanted in asked.items():
            reached |= (wanted > 0) | (rows.of(joint) > 0)
        reached &= self.soft
        now = np.flatnonzero(reached)
        rows.put(now, {n: w[now] for n, w in asked.items()})
        changed = np.union1d(now, self.touched)
        self.touched = now
        return changed

    def result(self) -> Character:
        return self.rows.result()
