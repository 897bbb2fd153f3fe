"""Picture boards: pictures of expressions on a sheet, and a bead; the nearer the bead to a picture, the stronger it is.

Places are in steps: one step from a picture its strength is nothing, whatever the size the board is drawn in.  The bead rests
at the origin.
"""

from __future__ import annotations

from collections.abc import Callable
from math import hypot
from typing import Annotated, Literal

from pydantic import Field

from .base import Frozen, Name, Number
from .refs import Inputs, Names, RegionName, ShapeName
from .rules.curves import ROUNDING, curve_function, rounded
from .rules.links import Curve, CurveKey

FARTHEST = 40.0  # steps from the middle of a board
Steps = Annotated[Number, Field(ge=-FARTHEST, le=FARTHEST)]
Strength = Annotated[Number, Field(ge=-3.0, le=3.0)]
ACROSS, UP = "across", "up"
"""The channels of a bead, steps."""
FADES = Curve(keys=(CurveKey(at=0.0, value=1.0), CurveKey(at=1.0, value=0.0)))
"""From the distance, steps, to the strength."""


class BoardPicture(Frozen):
    """A picture and what it stands for: shape → strength, and control → channel → value, of the jaw's for instance; nothing at all for
    the face at rest.

    `own`: a picture of the rigger's, the array `board/<board>/<key>` as bytes; without, it is drawn from the character.
    """

    key: Annotated[str, Field(min_length=1, max_length=12, pattern=r"^[a-z0-9]+$")]
    shapes: Annotated[dict[ShapeName, Strength], Field(max_length=200)] = {}
    pose: Inputs = {}
    place: tuple[Steps, Steps]
    own: bool = False


class Board(Frozen):
    """`blend`: pictures come on by how near the bead is; or, of a square whose four `corners` hold pictures, straight along its
    rim from corner to corner, and from nothing in the middle straight out to the rim.  `strength` is one for all pictures.
    `snap` puts the bead on whole, half … steps.  `shared`: where several pictures together come to more than one, they
    share it.  `spot` and `size` say where it is drawn on the page, and mean nothing to the result."""

    name: Annotated[Name, Names("board", own=True)]
    region: RegionName = ""
    pictures: Annotated[tuple[BoardPicture, ...], Field(max_length=64)] = ()
    curve: Curve = FADES
    blend: Literal["near", "corners"] = "near"
    strength: Annotated[Number, Field(ge=0.0, le=3.0)] = 1.0
    snap: Literal["none", "whole", "half", "third", "quarter"] = "none"
    shared: bool = True
    low: tuple[Steps, Steps] = (-1.0, -1.0)
    high: tuple[Steps, Steps] = (1.0, 1.0)
    spot: tuple[Annotated[Number, Field(ge=0, le=1)], Annotated[Number, Field(ge=0, le=1)]] = (0.02, 0.05)
    size: Annotated[Number, Field(ge=0.05, le=2.0)] = 0.4


def picture_strengths(board: Board) -> Callable[[float, float], list[float]]:
    """How strong each picture is, from where the bead is (steps)."""
    blended, step = (_by_corners if board.blend == "corners" else _by_nearness)(board), board.snap

    def strengths(across: float, up: float) -> list[float]:
        if ROUNDING[step]:
            across, up = rounded(across, step), rounded(up, step)
        return blended(across, up)

    return strengths


def _by_nearness(board: Board) -> Callable[[float, float], list[float]]:
    fades = curve_function(board.curve)
    places = [p.place for p in board.pictures]
    reach = max(k.at for k in board.curve.keys)

    def strengths(across: float, up: float) -> list[float]:
        far = [hypot(across - x, up - y) for x, y in places]
        found = [fades(d) if d < reach else 0.0 for d in far]
        total = sum(found)
        return [v / total for v in found] if board.shared and total > 1.0 else found

    return strengths


def _by_corners(board: Board) -> Callable[[float, float], list[float]]:
    """Pictures of one corner share it; one that stands in no corner, as the face at rest in the middle, has what is left."""
    low, high = board.low, board.high
    corners = [_corner(p.place, low, high) for p in board.pictures]
    many = {c: corners.count(c) for c in corners}

    def out(v: float, k: int) -> float:
        """From −1 on one side over 0 in the middle to 1 on the other."""
        end = high[k] if v > 0 else -low[k]
        return min(max(v / end, -1.0), 1.0) if end > 0 else 0.0

    def strengths(across: float, up: float) -> list[float]:
        x, y = out(across, 0), out(up, 1)
        rim = max(abs(x), abs(y))
        own = {
            (sx, sy): rim * 0.25 * (1.0 + sx * (x / rim if rim else 0.0)) * (1.0 + sy * (y / rim if rim else 0.0))
            for sx in (-1, 1)
            for sy in (-1, 1)
        }
        return [own[c] / many[c] if c else (1.0 - rim) / many[c] for c in corners]

    return strengths


def _corner(place: tuple[float, float], low: tuple[float, float], high: tuple[float, float]) -> tuple[int, int] | None:
    """Which corner a picture is nearest to; none for one that is nearer to the middle of a side, or of the whole."""
    x, y = (2.0 * (v - a) / max(b - a, 1e-9) - 1.0 for v, a, b in zip(place, low, high, strict=True))
    return (1 if x > 0 else -1, 1 if y > 0 else -1) if min(abs(x), abs(y)) > 0.5 else None


def shape_strengths(board: Board) -> Callable[[float, float], dict[str, float]]:
    """Shape → strength from where the bead is (steps)."""
    pictures = picture_strengths(board)

    def strengths(across: float, up: float) -> dict[str, float]:
        out: dict[str, float] = {}
        for picture, share in zip(board.pictures, pictures(across, up), strict=True):
            for shape, strength in picture.shapes.items():
                out[shape] = out.get(shape, 0.0) + share * strength * board.strength
        return out

    return strengths
