"""Expressions from the marks: action units of the face, lips sealed over an open jaw, and a lip under the teeth.

Numbers and names of the units are those of the facial action coding system (Ekman & Friesen 1978; Ekman, Friesen & Hager 2002).
Each unit moves skin near the marks that it is about, the farther along the skin the less; what the lips do differs above and
below the line of the mouth.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from ..face.estimate import Estimate
from ..face.middle import DARK
from .jaw import Jaw
from .lids import Lids, shut

FAR = 1e6


@dataclass(eq=False)
class Sculptor:
    """A face and what its shapes are made with; all in the head's frame, lengths in shares of its size."""

    face: Estimate
    jaw: Jaw | None
    lids: tuple[Lids, ...]

    @cached_property
    def p(self) -> np.ndarray:
        return self.face.head.p

    @cached_property
    def size(self) -> float:
        return self.face.head.size

    @cached_property
    def _skin(self) -> tuple[np.ndarray, cKDTree]:
        rows = np.flatnonzero(self.face.head.surface)
        return rows, cKDTree(self.p[rows])

    def place(self, name: str, side: str = "") -> np.ndarray | None:
        spot = self.face.spots.get(f"{name}_{side}" if side else name)
        return None if spot is None else spot.place

    def near(self, places: np.ndarray, within: np.ndarray | None = None) -> np.ndarray:
        """Rows of the skin next to places (k, 3); within (n,): of these points alone; none where there are none."""
        rows, tree = self._skin
        if within is not None:
            rows = rows[within[rows]]
            if not len(rows):
                return np.zeros(0, int)
            tree = cKDTree(self.p[rows])
        return np.asarray(np.unique(rows[tree.query(np.atleast_2d(places))[1]]))

    def bell(self, rows: np.ndarray, reach: float) -> np.ndarray:
        """(n,) 1 at these rows, fading along the skin over `reach` shares of the head."""
        d = dijkstra(self._graph, indices=rows, min_only=True, limit=3.0 * reach * self.size)
        return np.asarray(np.exp(-((np.minimum(d, FAR * self.size) / (reach * self.size)) ** 2)))

    @cached_property
    def _graph(self) -> object:
        return self.face.head.reach(self.face.head.surface)

    def at(self, name: str, side: str, reach: float) -> np.ndarray | None:
        place = self.place(name, side)
        return None if place is None else self.bell(self.near(place), reach)

    # -- lips --------------------------------------------------------------------------------------------------------
    @cached_property
    def below(self) -> np.ndarray:
        """(n,) 1 for what goes with the lower lip, 0 for the upper."""
        assert self.jaw is not None
        return np.asarray(np.clip((self.jaw.share - 0.3) / 0.4, 0, 1))

    @cached_property
    def line(self) -> tuple[np.ndarray, np.ndarray]:
        """Places along the upper and the lower lip, from the right corner to the left one: (k, 3) each."""
        out = []
        for lip in ("mouth_upper", "mouth_lower"):
            middle, left, right = self.place(lip), self.place("mouth_corner", "L"), self.place("mouth_corner", "R")
            assert middle is not None
            assert left is not None or right is not None
            left = left if left is not None else np.asarray(right) * [-1, 1, 1]
            right = right if right is not None else np.asarray(left) * [-1, 1, 1]
            t = np.linspace(0, 1, 9)[:, None]
            bow = middle * [0, 0, 1] - 0.5 * (left + right) * [0, 0, 1]
            half_right, half_left = (1 - t) * right + t * middle, (1 - t) * middle + t * left
            out.append(np.vstack([half_right + bow * (t * (1 - t)), half_left[1:] + bow * (t * (1 - t))[1:]]))
        return out[0], out[1]

    @cached_property
    def lips(self) -> tuple[np.ndarray, np.ndarray]:
        """Rows of the skin along the upper and along the lower lip."""
        assert self.jaw is not None
        upper, lower = self.line
        return self.near(upper, self.jaw.share < 0.45), self.near(lower, self.jaw.share > 0.55)

    @property
    def speaks(self) -> bool:
        """Whether there are a jaw and two lips."""
        there = {n.rsplit("_", 1)[0] if n.endswith(("_L", "_R")) else n for n in self.face.spots}
        marked = {"mouth_upper", "mouth_lower", "mouth_corner"} <= there
        return self.jaw is not None and marked and all(len(rows) for rows in self.lips)

    def band(self, reach: float) -> np.ndarray:
        """(n,) the lips and what lies about them."""
        return self.bell(np.concatenate(self.lips), reach)

    @cached_property
    def across(self) -> np.ndarray:
        """(n,) −1 at the right corner of the mouth, 0 on the middle, 1 at the left."""
        left, right = self.place("mouth_corner", "L"), self.place("mouth_corner", "R")
        half = np.mean([abs(c[0]) for c in (left, right) if c is not None])
        return np.asarray(np.clip(self.p[:, 0] / half, -1.4, 1.4))

    def to_line(self) -> np.ndarray:
        """(n, 3) from each point to the height of the lips' line beside it."""
        upper, lower = self.line
        middle = 0.5 * (upper + lower)
        order = np.argsort(middle[:, 0])
        y = np.interp(self.p[:, 0], middle[order, 0], middle[order, 1])
        return np.stack([0 * y, y - self.p[:, 1], 0 * y], 1)

    def both(self, name: str, reach: float, move: tuple[float, float, float]) -> np.ndarray:
        """(n, 3) both sides' skin at a mark moved by (outwards, up, ahead), shares of the head."""
        out = np.zeros_like(self.p)
        for side, sign in (("L", 1.0), ("R", -1.0)):
            bell = self.at(name, side, reach)
            if bell is not None:
                out += bell[:, None] * (np.array(move) * [sign, 1, 1] * self.size)
        return out

    def lidded(self, up: float, low: float) -> np.ndarray:
        return np.sum([lids.moves(up, low) for lids in self.lids], axis=0) if self.lids else np.zeros_like(self.p)

    def ahead(self, weight: np.ndarray, move: tuple[float, float, float]) -> np.ndarray:
        """(n, 3) `weight` (n,) times (outwards by `across`, up, ahead), shares of the head."""
        v = np.stack([self.across * move[0], np.full(len(self.p), move[1]), np.full(len(self.p), move[2])], 1)
        return np.asarray(weight[:, None] * v * self.size)

    def split(self, weight: np.ndarray, upper: float, lower: float, ahead: float = 0.0) -> np.ndarray:
        """(n, 3) the upper lip up by `upper`, the lower one by `lower`, shares of the head, less towards the corners."""
        fade = np.clip(1 - self.across**2, 0, 1)
        up = (1 - self.below) * upper + self.below * lower
        return np.asarray((weight * fade)[:, None] * np.stack([0 * up, up, np.full(len(up), ahead)], 1) * self.size)


Make = Callable[[Sculptor], np.ndarray]


@dataclass(frozen=True)
class Unit:
    """number: of the action unit; needs: marks, less their sides, without which it can't be made."""

    number: int
    name: str
    needs: tuple[str, ...]
    make: Make

    @property
    def title(self) -> str:
        return f"AU{self.number} {self.name}"


EYES, BROWS, MOUTH = ("eye",), ("brow_inner",), ("mouth_corner", "jaw_hinge", "chin")


def _cheek(s: Sculptor) -> np.ndarray:
    out = np.zeros_like(s.p)
    for side, sign in (("L", 1.0), ("R", -1.0)):
        low, outer, inner = s.place("lid_lower", side), s.place("eye_outer", side), s.place("eye_inner", side)
        if low is not None and outer is not None and inner is not None:
            wide = float(np.linalg.norm(outer - inner))
            bell = s.bell(s.near(low + np.array([0.25 * sign * wide, -0.6 * wide, 0])), 0.15)
            out += bell[:, None] * np.array([0.006 * sign, 0.045, 0.012]) * s.size
    return np.asarray(out + s.lidded(0.0, 0.12))


def _beside_nose(s: Sculptor, out_by: float, up: float, reach: float) -> np.ndarray:
    nose = s.place("nose_tip")
    out = np.zeros_like(s.p)
    if nose is None:
        return out
    for sign in (1.0, -1.0):
        bell = s.bell(s.near(nose + np.array([sign * out_by, 0.01, -0.06]) * s.size), reach)
        out += bell[:, None] * np.array([0.006 * sign, up, -0.004]) * s.size
    return out


UNITS: tuple[Unit, ...] = (
    Unit(1, "inner brow raiser", BROWS, lambda s: s.both("brow_inner", 0.12, (0.0, 0.055, 0.0))),
    Unit(2, "outer brow raiser", BROWS, lambda s: s.both("brow_outer", 0.13, (0.0, 0.055, 0.0))),
    Unit(4, "brow lowerer", BROWS, lambda s: s.both("brow_inner", 0.12, (-0.022, -0.035, 0.006)) + s.both("brow_mid", 0.10, (-0.008, -0.030, 0.0))),
    Unit(5, "upper lid raiser", EYES, lambda s: s.lidded(-0.25, 0.0)),
    Unit(6, "cheek raiser", EYES, _cheek),
    Unit(7, "lid tightener", EYES, lambda s: s.lidded(0.12, 0.22)),
    Unit(9, "nose wrinkler", ("nose_tip",), lambda s: _beside_nose(s, 0.09, 0.045, 0.10)),
    Unit(10, "upper lip raiser", MOUTH, lambda s: s.split(s.bell(s.lips[0], 0.10) * (1 - s.below), 0.05, 0.0)),
    Unit(11, "nasolabial deepener", ("nose_tip", *MOUTH), lambda s: _beside_nose(s, 0.20, 0.040, 0.09)),
    Unit(12, "lip corner puller", MOUTH, lambda s: s.both("mouth_corner", 0.17, (0.045, 0.045, -0.022))),
    Unit(13, "sharp lip puller", MOUTH, lambda s: s.both("mouth_corner", 0.09, (0.0, 0.060, 0.0))),
    Unit(14, "dimpler", MOUTH, lambda s: s.both("mouth_corner", 0.09, (0.012, 0.0, -0.045))),
    Unit(15, "lip corner depressor", MOUTH, lambda s: s.both("mouth_corner", 0.13, (0.006, -0.055, 0.0))),
    Unit(16, "lower lip depressor", MOUTH, lambda s: s.split(s.bell(s.lips[1], 0.10) * s.below, 0.0, -0.05)),
    Unit(17, "chin raiser", MOUTH, lambda s: (s.bell(s.near(s.place("chin")), 0.14) * s.below)[:, None] * np.array([0.0, 0.045, 0.016]) * s.size),  # type: ignore[arg-type]
    Unit(18, "lip pucker", MOUTH, lambda s: s.ahead(s.band(0.12), (-0.075, 0.0, 0.035))),
    Unit(20, "lip stretcher", MOUTH, lambda s: s.both("mouth_corner", 0.15, (0.060, -0.012, -0.030))),
    Unit(22, "lip funneler", MOUTH, lambda s: s.split(s.band(0.09), 0.028, -0.028, 0.045)),
    Unit(23, "lip tightener", MOUTH, lambda s: s.ahead(s.band(0.07), (-0.035, 0.0, -0.020)) + 0.25 * s.band(0.06)[:, None] * s.to_line()),
    Unit(24, "lip pressor", MOUTH, lambda s: s.split(s.band(0.06), -0.016, 0.016, -0.012)),
    Unit(25, "lips part", MOUTH, lambda s: s.split(s.band(0.06), 0.020, -0.024)),
    Unit(28, "lip suck", MOUTH, lambda s: s.split(s.band(0.07), -0.004, 0.004, -0.055)),
    Unit(43, "eyes closed", EYES, lambda s: s.lidded(*shut(1.0, 0.3))),
)  # fmt: skip
UNDER_TEETH = "lip under teeth"
SEALED = "lips sealed"


def unit_moves(s: Sculptor, unit: Unit) -> np.ndarray | None:
    """(n, 3) what a unit moves, in the head's frame; None where a mark that it needs is missing."""
    there = {n.rsplit("_", 1)[0] if n.endswith(("_L", "_R")) else n for n in s.face.spots}
    if not set(unit.needs) <= there or (unit.needs == EYES and not s.lids):
        return None
    if "mouth_corner" in unit.needs and not s.speaks:
        return None
    return unit.make(s)


def lip_under_teeth(s: Sculptor) -> np.ndarray:
    """(n, 3) the lower lip drawn up and in, as for f and v."""
    return s.split(s.bell(s.lips[1], 0.08) * s.below, 0.0, 0.028, -0.06)


def sealed(s: Sculptor, degrees: float) -> np.ndarray:
    """(n, 3) what brings the lips together over a jaw opened by `degrees`, carried back to rest: the jaw's turn lays it on again."""
    assert s.jaw is not None
    upper, lower = s.lips
    posed = s.jaw.opened(s.p, degrees)
    x = np.linspace(-1, 1, 33)
    gap = np.zeros((len(x), 3))
    for axis in range(3):
        sides = []
        for rows, p in ((upper, s.p), (lower, posed)):
            order = np.argsort(s.across[rows])
            sides.append(np.interp(x, s.across[rows][order], p[rows][order, axis]))
        gap[:, axis] = sides[0] - sides[1]
    gap *= np.clip((1 - np.abs(x)) / 0.08, 0, 1)[:, None]
    at = np.stack([np.interp(s.across, x, gap[:, k]) for k in range(3)], 1)
    reach = 0.5 * float(np.linalg.norm(gap, axis=1).max()) / s.size + 0.05
    # The lips come together, not the roof and the floor of the mouth behind them.
    inner = np.where(s.face.head.light > DARK, 1.0, s.bell(np.concatenate([upper, lower]), 0.035))
    above, under = (s.bell(rows, reach) * by * inner for rows, by in ((upper, 1 - s.below), (lower, s.below)))
    move = 0.62 * under[:, None] * at - 0.38 * above[:, None] * at
    a = -np.radians(degrees) * s.jaw.share
    c, n = np.cos(a), np.sin(a)
    return np.stack([move[:, 0], c * move[:, 1] - n * move[:, 2], n * move[:, 1] + c * move[:, 2]], 1)


# -- visemes -------------------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Viseme:
    """number and sounds: as in the table of visemes of ISO/IEC 14496-2 (MPEG-4 visual, its facial animation; from memory).

    open: how far the jaw opens, of its whole; units: action unit → strength; under: how far the lip goes under the teeth.  Strengths
    are ours.
    """

    number: int
    sounds: str
    open: float
    units: dict[int, float]
    under: float = 0.0

    @property
    def title(self) -> str:
        return f"viseme {self.number} {self.sounds}"


VISEMES: tuple[Viseme, ...] = (
    Viseme(1, "p b m", 0.0, {24: 1.0}),
    Viseme(2, "f v", 0.0, {10: 0.3}, under=1.0),
    Viseme(3, "T D", 0.10, {25: 1.0, 10: 0.5}),
    Viseme(4, "t d", 0.03, {16: 1.0, 25: 0.5}),
    Viseme(5, "k g", 0.16, {14: 1.0, 25: 0.4}),
    Viseme(6, "tS dZ S", 0.04, {22: 1.4}),
    Viseme(7, "s z", 0.0, {20: 1.2, 16: 0.5}),
    Viseme(8, "n l", 0.07, {13: 1.0, 10: 0.4}),
    Viseme(9, "r", 0.08, {23: 1.0, 22: 0.7, 16: 0.4}),
    Viseme(10, "A:", 1.0, {25: 0.3}),
    Viseme(11, "e", 0.30, {20: 1.3, 10: 0.8}),
    Viseme(12, "I", 0.08, {12: 1.3, 25: 0.6}),
    Viseme(13, "Q", 0.38, {18: 0.9, 22: 0.8}),
    Viseme(14, "U", 0.06, {18: 1.3}),
)
