"""Shapes from meshes: the same points moved."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character, Shape, unique_name
from ..errors import BadParameters
from .moves import STILL, with_shape

FAR = 0.25  # of the figure's size: a mesh half of whose points lie farther off is not this one moved
SHUFFLED = 0.02  # of its size: half of the points farther than this from their own places …
NEARER = 0.2  # … and this much nearer to others' is another order
ASIDE = 1e-5  # of its size: points that lie off by the same to within this were moved together


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
    if not np.isfinite(moves).all() or np.abs(moves).max(initial=0.0) > 1000 * character.size:
        raise BadParameters("Some of its points lie out of all reach.", name, "Is it in the same size?")
    _refuse_another_order(character, moved, name)
    far = np.linalg.norm(moves, axis=1)
    if np.median(far) > FAR * character.size:
        raise BadParameters(
            "Half of its points lie far from the character's.", name, "Is it in the same order, place and size?"
        )
    if far.max(initial=0.0) <= STILL * character.size:
        raise BadParameters("It doesn't differ from the rest mesh.", name, "Bring in the moved mesh.")
    return with_shape(character, Shape(name=unique_name(name, frozenset())), moves)


def _refuse_another_order(character: Character, moved: np.ndarray, name: str) -> None:
    """Raises BadParameters where the points are plainly the same ones under other numbers."""
    rest, size = character.points, character.size
    off = np.linalg.norm(moved - rest, axis=1)
    if np.median(off) < SHUFFLED * size:
        return
    near, at = cKDTree(rest).query(moved)
    if np.median(near) < NEARER * np.median(off) and np.median(near) < SHUFFLED * size:
        i = int(np.argmax(np.where(near < 0.1 * off, off, 0.0)))
        raise BadParameters(
            f"It has as many points, but in another order: its point {i:,} lies where the character's {int(at[i]):,} is.",
            name,
            "Export it without sorting or welding its points, or bring the mesh at rest from the same file along: then its "
            "points are matched by place.",
        )


def moved_whole(character: Character, points: np.ndarray, rest: np.ndarray | None = None) -> np.ndarray:
    """(n, 3) all of the character's points, from moved points of the whole or of one part alone.

    A part is known by its count; of several with that count the one that lies nearest is meant.  `rest`: the same mesh at
    rest, in the same order, whatever that is: then points are matched by place.  A mesh that was put aside as a whole is
    brought back.  Raises BadParameters.
    """
    if rest is not None:
        return _by_place(character, points, rest)
    count = len(points)
    if count == len(character.points):
        return _from_aside(character, points, character.points)
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


def _from_aside(character: Character, points: np.ndarray, rest: np.ndarray) -> np.ndarray:
    """The points brought back where most of them lie off by one and the same way."""
    off = points - rest
    way = np.median(off, axis=0)
    if not np.isfinite(way).all() or np.linalg.norm(way) < SHUFFLED * character.size:
        return points
    together = np.linalg.norm(off - way, axis=1) < ASIDE * character.size
    return points - way if together.mean() > 0.5 else points


def _by_place(character: Character, points: np.ndarray, rest: np.ndarray) -> np.ndarray:
    if points.shape != rest.shape:
        raise BadParameters(
            f"The mesh has {len(points):,} points, its mesh at rest {len(rest):,}.", "",
            "Bring two meshes of the same points in the same order.",
        )  # fmt: skip
    far, at = cKDTree(rest).query(character.points)
    known = far < 1e-4 * character.size
    covered = [p for p in character.parts if known[slice(*p.points)].all()]
    if not covered or known.mean() < 0.999 * sum(p.points[1] - p.points[0] for p in covered) / len(known):
        worst = int(far.argmax())
        raise BadParameters(
            f"The mesh at rest isn't this character: nothing of it lies where point {worst:,} is.", "",
            "Bring the mesh at rest in the same place and size.",
        )  # fmt: skip
    out = character.points.copy()
    out[known] += (points - rest)[at[known]]
    return np.asarray(out)
