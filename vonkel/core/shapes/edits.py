"""Shapes made of shapes: copied, turned round, mirrored, split, put together, cut to a region, moved as a whole."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ..character import Character, Shape, opposite_name, without_side
from ..errors import BadParameters, StepRefused
from ..geometry.easing import smoothstep
from ..geometry.health import mirror_partners
from ..geometry.rotations import matrix_from_rotation_vector
from ..geometry.topology import topology_of
from .moves import moves_of, shape_named, with_moves, with_shape
from .regions import amounts_of

FLIP = np.array([-1.0, 1.0, 1.0])
ARC = np.radians(20.0)  # a turn that goes farther gets in-betweens: a straight way would lie 1.5 % inside its arc


def scaled(character: Character, name: str, by: float) -> Character:
    """The shape moving `by` times as far; −1 turns it round."""
    return with_moves(character, name, by * moves_of(character, name))


def mirror_image(character: Character, moves: np.ndarray) -> np.ndarray:
    """(n, 3): the moves on the other side, each point taking those of the point nearest to its mirrored place."""
    _, partner = mirror_partners(character)
    return np.asarray(moves[partner] * FLIP)


def mirrored(character: Character, name: str) -> Character:
    """The shape's mirror image: on the shape of the other side where its name has one, made where it isn't there yet; else
    the shape itself, both sides of which change places."""
    other = opposite_name(name)
    image = mirror_image(character, moves_of(character, name))
    if other == name:
        return with_moves(character, name, image)
    if any(s.name == other for s in character.shapes):
        return with_moves(character, other, image)
    twin = shape_named(character, name).model_copy(update={"name": other, "of": (), "between": ""})
    return with_shape(character, twin, image, after=name)


def alike(character: Character, name: str, left: bool) -> Character:
    """The shape the same on both sides: as its left, or its right, is; the middle moves straight."""
    moves = moves_of(character, name)
    image, x = mirror_image(character, moves), character.points[:, 0]
    band = 1e-4 * character.size
    taken = x < -band if left else x > band
    out = np.where(taken[:, None], image, moves)
    middle = np.abs(x) <= band
    out[middle] = 0.5 * (moves + image)[middle]
    return with_moves(character, name, out)


def left_share(character: Character, width: float) -> np.ndarray:
    """(n,): one on the left, nothing on the right, soft over `width` metres about the middle; both sides sum to one."""
    x = character.points[:, 0]
    if width <= 0.0:
        return np.where(np.abs(x) <= 1e-9, 0.5, (x > 0).astype(float))
    return smoothstep(x / width + 0.5)


def split(character: Character, name: str, width: float) -> Character:
    """A left and a right half of the shape beside it: together they are the whole.  Raises StepRefused for half a shape."""
    shape, moves = shape_named(character, name), moves_of(character, name)
    if without_side(name) != name:
        raise StepRefused(f"“{name}” is of one side already.", name, "Split one that is of both.")
    share = left_share(character, width)[:, None]
    halves = moves * share, moves - moves * share
    if any(np.abs(h).max(initial=0.0) < 1e-9 for h in halves):
        raise StepRefused(f"“{name}” moves one side only.", name, "Split one that moves both.")
    after, made = name, character
    for tag, half in zip("LR", halves, strict=True):
        one = shape.model_copy(update={"name": f"{name}_{tag}", "even": False, "of": (), "between": ""})
        made = with_shape(made, one, half, after=after)
        after = f"{name}_{tag}"
    return made


def combined(character: Character, shares: Mapping[str, float]) -> np.ndarray:
    """(n, 3): the sum of shapes' moves, each by its share."""
    total = np.zeros((len(character.points), 3))
    for name, share in shares.items():
        total += share * moves_of(character, name)
    return total


def cut(character: Character, name: str, region: str) -> Character:
    """The shape kept to a region, its soft edge fading what it moves."""
    amounts = amounts_of(character, region)
    return with_moves(character, name, moves_of(character, name) * amounts[:, None])


def trespass(character: Character, name: str, region: str) -> np.ndarray:
    """(n,) metres: how far the shape moves each point that isn't of the region, by how much it isn't."""
    far = np.linalg.norm(moves_of(character, name), axis=1)
    return np.asarray(far * (1.0 - amounts_of(character, region)))


@dataclass(frozen=True)
class Placing:
    """Moving, turning and sizing about a pivot (3,), metres: sized along the pivot's axes first, then turned by a rotation
    vector, radians, then moved."""

    pivot: tuple[float, float, float]
    move: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)
    size: tuple[float, float, float] = (1.0, 1.0, 1.0)

    def of(self, points: np.ndarray, share: float = 1.0) -> np.ndarray:
        """(n, 3): points put so; `share`: of the way there, turning along the arc."""
        pivot, size = np.array(self.pivot), 1.0 + share * (np.array(self.size) - 1.0)
        turn = matrix_from_rotation_vector(share * np.array(self.turn, float))
        return np.asarray((points - pivot) * size @ turn.T + pivot + share * np.array(self.move))

    @property
    def volume(self) -> float:
        """Times as much as before."""
        return float(np.prod(self.size))


def keeping_volume(size: tuple[float, float, float], axis: int) -> tuple[float, float, float]:
    """Sizes that keep the volume: along one axis as given, across it as much less as is needed.  Raises BadParameters."""
    along = size[axis]
    if along <= 1e-6:
        raise BadParameters("Squashed to nothing there is no volume to keep.", "size", "Give a size above zero.")
    across = along**-0.5
    out = [across, across, across]
    out[axis] = along
    return out[0], out[1], out[2]


def placed(character: Character, name: str, placing: Placing, amounts: np.ndarray) -> Character:
    """The shape with what it makes of the points moved, turned and sized as a whole, by amounts (n,).

    A turn that goes far is followed by in-betweens of the shape, so that it goes along its arc.
    """
    shape, moves = shape_named(character, name), moves_of(character, name)
    start = character.points + moves
    amounts = amounts[:, None]
    made = with_moves(character, name, moves + amounts * (placing.of(start) - start))
    far = float(np.linalg.norm(placing.turn))
    pieces = int(np.ceil(far / ARC - 1e-9))
    if pieces < 2 or shape.between or any(s.between == name for s in character.shapes):
        return made
    whole = moves_of(made, name)
    after = name
    for k in range(1, pieces):
        share = k / pieces
        there = share * moves + amounts * (
            placing.of(character.points + share * moves, share) - character.points - share * moves
        )
        own = Shape(name=f"{name} {round(100 * share)}%", heading=shape.heading, between=name, at=share)
        made = with_shape(made, own, there - share * whole, after=after)
        after = own.name
    return made


def settled(character: Character, name: str, points: np.ndarray) -> Character:
    """The shape whose points (p,) move as the mean of their neighbours that aren't among them.  Raises BadParameters."""
    moves = moves_of(character, name)
    if points.max(initial=0) >= len(moves):
        raise BadParameters("There is no such point.", name, "Choose points of the mesh.")
    rows, cols = topology_of(character).neighbours
    wild = np.isin(np.arange(len(moves)), points)
    left = list(points)
    while left:
        known = [p for p in left if not wild[cols[rows[p] : rows[p + 1]]].all()]
        if not known:
            moves[left] = 0.0
            break
        for p in known:
            around = cols[rows[p] : rows[p + 1]]
            moves[p] = moves[around[~wild[around]]].mean(0)
        wild[known] = False
        left = [p for p in left if wild[p]]
    return with_moves(character, name, moves)
