"""Morph targets: only the points that move are kept."""

from __future__ import annotations

import numpy as np

from ..character import Character, Shape, unique_name
from ..errors import BadParameters, NotFound


def add_shape(character: Character, name: str, moved: np.ndarray) -> Character:
    """A morph target from moved points (n, 3) in the same order as the character's, metres.

    Raises BadParameters where the count differs, where nothing moves, or where the order is plainly another.
    """
    rest = character.points
    if moved.shape != rest.shape:
        raise BadParameters(
            f"The mesh has {len(moved):,} points, the character {len(rest):,}.", name,
            "A morph target needs the same points in the same order.",
        )  # fmt: skip
    if not np.isfinite(moved).all():
        raise BadParameters("Some of its points are not numbers.", name, "Export it again.")
    with np.errstate(over="ignore"):
        moves = (moved - rest).astype(np.float32)
    if not np.isfinite(moves).all() or np.abs(moves).max() > 1000 * character.size:
        raise BadParameters("Some of its points lie out of all reach.", name, "Is it in the same size?")
    far = np.linalg.norm(moves, axis=1)
    if np.median(far) > 0.25 * character.size:
        raise BadParameters(
            "Half of its points lie far from the character's.", name, "Is it in the same order, place and size?"
        )
    index = np.flatnonzero(far > 1e-7 * character.size).astype(np.uint32)
    if not len(index):
        raise BadParameters("It doesn't differ from the rest mesh.", name, "Bring in the moved mesh.")
    name = unique_name(name, frozenset(s.name for s in character.shapes))
    return character.with_(
        shapes=character.shapes + (Shape(name=name),),
        arrays={f"shape/{name}/points": index, f"shape/{name}/moves": moves[index]},
    )


def moved_whole(character: Character, points: np.ndarray) -> np.ndarray:
    """(n, 3) all of the character's points, from moved points of the whole or of one part alone.

    A part is known by its count; of several with that count the one that lies nearest is meant.
    """
    count = len(points)
    if count == len(character.points):
        return points
    fitting = [p.points for p in character.parts if p.points[1] - p.points[0] == count]
    if not fitting:
        raise BadParameters(
            f"The mesh has {count:,} points, the character {len(character.points):,}.", "",
            "A morph target needs the same points in the same order, of the whole character or of one part.",
        )  # fmt: skip
    low, high = min(fitting, key=lambda r: float(np.abs(character.points[r[0] : r[1]] - points).mean()))
    whole = character.points.copy()
    whole[low:high] = points
    return whole


def remove_shape(character: Character, name: str) -> Character:
    if name not in {s.name for s in character.shapes}:
        raise NotFound(f"There is no shape called “{name}”.", character.name)
    return character.with_(
        shapes=tuple(s for s in character.shapes if s.name != name),
        arrays={f"shape/{name}/points": None, f"shape/{name}/moves": None},
    )
