"""What a shape moves, as a whole and as it is kept."""

from __future__ import annotations

import numpy as np

from ..character import Character, Link, Shape, unique_name
from ..errors import BadParameters, NotFound
from ..rig.blends import comes_from
from ..tolerances import FARTHEST

STILL = 1e-7
"""Of the figure's size: what moves less is still."""


def shape_named(character: Character, name: str) -> Shape:
    """Raises NotFound."""
    found = next((s for s in character.shapes if s.name == name), None)
    if found is None:
        raise NotFound(f"There is no shape called “{name}”.", character.name, "Choose one from the list.")
    return found


def moves_of(character: Character, name: str) -> np.ndarray:
    """(n, 3) float64, metres: how far each point moves at full strength.  Raises NotFound."""
    shape_named(character, name)
    whole = np.zeros((len(character.points), 3))
    whole[character.arrays[f"shape/{name}/points"]] = character.arrays[f"shape/{name}/moves"]
    return whole


def with_moves(character: Character, name: str, moves: np.ndarray) -> Character:
    """The character whose shape `name` moves points by (n, 3), metres.  Raises BadParameters for what is out of all reach."""
    with np.errstate(over="ignore", invalid="ignore"):
        kept = np.asarray(moves, np.float32)
    if not np.isfinite(kept).all() or np.abs(kept).max(initial=0.0) > FARTHEST:
        raise BadParameters("Some of its points would lie out of all reach.", name, "Move them less.")
    index = np.flatnonzero(np.abs(kept).max(1, initial=0.0) > STILL * character.size).astype(np.uint32)
    return character.with_(arrays={f"shape/{name}/points": index, f"shape/{name}/moves": kept[index]})


def with_shape(character: Character, shape: Shape, moves: np.ndarray | None = None, after: str = "") -> Character:
    """The character with one more shape, under a name that is free, behind the last or behind another one.

    Raises ValidationError for what can't be a name.
    """
    shape = Shape.model_validate(shape.model_dump())
    shape = shape.model_copy(update={"name": unique_name(shape.name, frozenset(s.name for s in character.shapes))})
    at = next((i + 1 for i, s in enumerate(character.shapes) if s.name == after), len(character.shapes))
    shapes = (*character.shapes[:at], shape, *character.shapes[at:])
    moves = np.zeros((len(character.points), 3)) if moves is None else moves
    return with_moves(character.with_(shapes=shapes), shape.name, moves)


def added(before: Character, after: Character) -> list[str]:
    """The names of the shapes that only `after` has, in their order."""
    known = {s.name for s in before.shapes}
    return [s.name for s in after.shapes if s.name not in known]


def without_shape(character: Character, name: str) -> Character:
    """The character without that shape; what comes from it goes with the upkeep.  Raises NotFound."""
    shape_named(character, name)
    return character.with_(
        shapes=tuple(s for s in character.shapes if s.name != name),
        arrays={f"shape/{name}/points": None, f"shape/{name}/moves": None},
    )


def farthest(character: Character, name: str) -> float:
    """Metres that the shape moves a point at most."""
    moves = character.arrays[f"shape/{name}/moves"]
    return round(float(np.sqrt((moves.astype(float) ** 2).sum(1).max(initial=0.0))), 6)


def led_shapes(character: Character) -> set[str]:
    """The shapes that a link or a board turns up, or that come on with others."""
    out = {f.thing.name for r in character.rules if isinstance(r, Link) for f in r.followers if f.thing.kind == "shape"}
    out |= {n for b in character.boards for q in b.pictures for n in q.shapes}
    return out | {s.name for s in character.shapes if comes_from(s)}
