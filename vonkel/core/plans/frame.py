"""A body's own frame: which way it faces, its middle plane, and how nearly it is the same on both sides."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.optimize import minimize
from scipy.spatial import cKDTree

from ..character import Character
from ..geometry.rotations import unit


@dataclass(frozen=True, eq=False)
class BodyFrame:
    """turn (3, 3) and shift (3,) metres take space to the body's own frame: its middle plane at x = 0, facing +Z.

    even: whether the body is the same on both sides there; sure: how surely it faces that way, 0 to 1; miss: how far its
    mirrored points lie from it, as a share of its size.
    """

    turn: np.ndarray = field(default_factory=lambda: np.eye(3))
    shift: np.ndarray = field(default_factory=lambda: np.zeros(3))
    even: bool = True
    sure: float = 1.0
    miss: float = 0.0

    @property
    def facing(self) -> np.ndarray:
        return np.asarray(self.turn[2])

    @property
    def left(self) -> np.ndarray:
        return np.asarray(self.turn[0])

    @property
    def degrees(self) -> float:
        """How far it is turned about the upright from facing +Z."""
        return float(np.degrees(np.arctan2(self.turn[2, 0], self.turn[2, 2])))

    @property
    def straight(self) -> bool:
        return bool(np.allclose(self.turn, np.eye(3), atol=1e-9) and np.allclose(self.shift, 0, atol=1e-12))

    def own(self, p: np.ndarray) -> np.ndarray:
        return np.asarray(p @ self.turn.T + self.shift)

    def back(self, p: np.ndarray) -> np.ndarray:
        return np.asarray((p - self.shift) @ self.turn)

    def mirrored(self, p: np.ndarray) -> np.ndarray:
        return p * [-1.0, 1.0, 1.0] if self.straight else self.back(self.own(p) * [-1.0, 1.0, 1.0])

    def on_plane(self, p: np.ndarray) -> np.ndarray:
        return p * [0.0, 1.0, 1.0] if self.straight else self.back(self.own(p) * [0.0, 1.0, 1.0])

    def words(self) -> str:
        """How it stands, in one sentence; empty where it faces +Z."""
        d = self.degrees
        if abs(d) < 8:
            return ""
        nearest = min((0, "+Z"), (90, "+X"), (-90, "−X"), (180, "−Z"), (-180, "−Z"), key=lambda s: abs(s[0] - d))
        if abs(nearest[0] - d) < 8:
            return f"It faces {nearest[1]}."
        return f"It stands turned by {abs(d):.0f}° to its {'left' if d > 0 else 'right'}, facing between {_between(d)}."


def _between(degrees: float) -> str:
    a = np.radians(degrees)
    return f"{'+Z' if np.cos(a) > 0 else '−Z'} and {'+X' if np.sin(a) > 0 else '−X'}"


def frame_facing(facing: np.ndarray, middle: np.ndarray, sure: float = 1.0) -> BodyFrame:
    """The frame of a body that faces a level direction, its middle plane through a place."""
    z = np.array([facing[0], 0.0, facing[2]])
    z = unit(z)
    turn = np.stack([np.cross([0.0, 1.0, 0.0], z), [0.0, 1.0, 0.0], z])
    return BodyFrame(turn, -turn @ (middle * [1, 0, 1]), False, sure, 1.0)


ONE_LIMB = 0.02  # of the size: mirrored points farther off than this are of a limb that stands elsewhere
FAR = 0.12  # of the size: mirrored points farther off than this count as that far
EVEN = 0.004  # mirrored points that near to the mesh (mean, share of the size): the body is the same on both sides


def stands_straight(character: Character) -> bool:
    """Whether the mesh is the same on both sides of x = 0, as bodies are that were drawn for it."""
    p = character.points
    some = p[np.random.default_rng(0).choice(len(p), min(700, len(p)), replace=False)]
    return bool(cKDTree(p).query(some * [-1.0, 1.0, 1.0])[0].max() < 1e-4 * character.size)


def find_plane(character: Character, facing: np.ndarray, reach: float = 45.0) -> BodyFrame:
    """The frame whose middle plane mirrors the mesh best, within `reach` degrees of facing a direction.

    Its `even` says whether that plane is one of symmetry: the trimmed mean distance of the mirrored points to the mesh.
    """
    if facing[2] > 0.7 and stands_straight(character):
        return BodyFrame()
    p, size = character.points, character.size
    some = p[np.random.default_rng(0).choice(len(p), min(700, len(p)), replace=False)]
    tree = cKDTree(p)
    start = float(np.arctan2(facing[0], facing[2]))
    middle = 0.5 * (p.min(0) + p.max(0))
    most = FAR * size

    def miss(v: np.ndarray) -> float:
        a, off = v[0], v[1] * size
        left = np.array([np.cos(a), 0, -np.sin(a)])
        x = (some - middle) @ left - off
        d = np.minimum(tree.query(some - 2 * x[:, None] * left, distance_upper_bound=most)[0], most)
        # other planes may fit a round body better: stay near where it faces
        beyond = max(0.0, abs(a - start) - 1.25 * np.radians(reach))
        return float(np.sort(d)[: int(0.9 * len(d))].mean() / size + beyond)

    coarse, a = min(
        (miss(np.array([start + da, 0.0])), start + da) for da in np.radians(np.arange(-reach, reach + 1, 5.0))
    )
    if coarse > 0.03:  # nowhere near
        return frame_facing(np.array([np.sin(start), 0, np.cos(start)]), middle)
    best = minimize(
        miss, [a, 0.0], method="Nelder-Mead",
        options={"xatol": 2e-4, "fatol": 1e-5, "maxfev": 90, "initial_simplex": [[a, 0], [a + 0.05, 0], [a, 0.01]]},
    )  # fmt: skip
    a, off = float(best.x[0]), float(best.x[1]) * size
    c, s = np.cos(a), np.sin(a)
    turn = np.array([[c, 0, -s], [0, 1, 0], [s, 0, c]])
    shift = -turn @ (middle * [1, 0, 1]) - np.array([off, 0, 0])
    left = turn[0]
    x = (some - middle) @ left - off
    far = tree.query(some - 2 * x[:, None] * left)[0] > ONE_LIMB * size  # one raised arm is a small share of the points
    even = bool(best.fun < EVEN and float(far.mean()) < 0.012)
    return BodyFrame(turn, shift, even, 1.0, float(best.fun))
