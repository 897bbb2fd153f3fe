"""What a body's shape says by itself: tips, the ways to them, its slices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d, label

from ..geometry.measures import lengths_along
from ..geometry.voxels import STEP_LENGTHS, Solid, distances_through, extremities, middle_path


@dataclass(frozen=True, eq=False)
class Tip:
    """A branch of the body: its tip, where it meets the rest (metres), and its length through the volume."""

    place: np.ndarray
    meet: np.ndarray
    length: float
    cell: int


def from_cell(solid: Solid, cell: int) -> np.ndarray:
    """(c,) metres through the volume from one cell to all."""
    one = np.array([cell], np.int64)
    ones = np.ones(len(solid.cells))
    away, _ = distances_through(solid.links, STEP_LENGTHS * solid.h, ones, one, np.zeros(1), np.inf)
    return np.asarray(away)


def tips(solid: Solid, distance: np.ndarray, least: float) -> list[Tip]:
    """Branches at least `least` metres long, longest first."""
    return [Tip(solid.centres[t], solid.centres[m], n, t) for t, n, m in extremities(solid, distance, least)]


def way(solid: Solid, start: int, goal: int, even: float = 4.0) -> np.ndarray:
    """(p, 3) metres, from start to goal through the middle of the volume, evened over `even` cells."""
    path = solid.centres[middle_path(solid, start, goal)]
    if len(path) < 3:
        return np.asarray(path)
    steps = lengths_along(path)
    n = max(int(steps[-1] / (0.5 * solid.h)), 3)
    fine = np.stack([np.interp(np.linspace(0, steps[-1], n), steps, path[:, k]) for k in range(3)], 1)
    smooth = gaussian_filter1d(fine, 2 * even, axis=0, mode="nearest")
    smooth[0], smooth[-1] = fine[0], fine[-1]
    return np.asarray(smooth)


def at_length(path: np.ndarray, s: float) -> np.ndarray:
    """(3,) the place on a path at s metres from its start."""
    along = lengths_along(path)
    return np.array([np.interp(s, along, path[:, k]) for k in range(3)])


@dataclass(frozen=True)
class Slice:
    """One piece of a horizontal slice of the body; metres."""

    y: float
    x: tuple[float, float]
    z: tuple[float, float]
    centre: np.ndarray  # (3,)
    area: float
    crosses_middle: bool


def slices_at(solid: Solid, y: float) -> list[Slice]:
    """The pieces of the body in the layer of cells at height y."""
    j = int(np.clip((y - solid.low[1]) / solid.h, 0, solid.inside.shape[1] - 1))
    marks, count = label(solid.inside[:, j, :])
    height = float(solid.low[1] + (j + 0.5) * solid.h)
    found = []
    for i in range(1, count + 1):
        ix, iz = np.nonzero(marks == i)
        xs, zs = solid.low[0] + (ix + 0.5) * solid.h, solid.low[2] + (iz + 0.5) * solid.h
        half = 0.5 * solid.h
        found.append(
            Slice(
                height, (xs.min() - half, xs.max() + half), (zs.min() - half, zs.max() + half),
                np.array([xs.mean(), height, zs.mean()]), len(ix) * solid.h**2, bool((np.abs(xs) < 0.75 * solid.h).any()),
            )
        )  # fmt: skip
    return found


def slice_near(solid: Solid, place: np.ndarray) -> Slice | None:
    """The piece of the slice at the place's height that holds it or is nearest to it."""
    pieces = slices_at(solid, float(place[1]))

    def gap(s: Slice) -> float:
        dx = max(s.x[0] - place[0], 0.0, place[0] - s.x[1])
        dz = max(s.z[0] - place[2], 0.0, place[2] - s.z[1])
        return float(np.hypot(dx, dz)) + 1e-3 * float(np.linalg.norm(s.centre - place))

    return min(pieces, key=gap) if pieces else None


def upright_area(solid: Solid, place: np.ndarray) -> float:
    """Square metres of the piece of the slice x = place[0] that holds the place, or lies nearest to it."""
    i = int(np.clip((place[0] - solid.low[0]) / solid.h, 0, solid.inside.shape[0] - 1))
    marks, count = label(solid.inside[i])
    if not count:
        return 0.0
    j, k = (np.clip(int((place[a] - solid.low[a]) / solid.h), 0, solid.inside.shape[a] - 1) for a in (1, 2))
    mark = marks[j, k]
    if mark == 0:
        found = np.argwhere(marks > 0)
        nearest = found[np.argmin(((found - [j, k]) ** 2).sum(1))]
        mark = marks[tuple(nearest)]
    return float((marks == mark).sum()) * solid.h**2


def deepest_in_middle(solid: Solid, y: float, near_z: float | None = None, reach: float = np.inf) -> np.ndarray | None:
    """(3,) the deepest place of the body plane x = 0 at height y, within `reach` of near_z."""
    c = solid.centres
    ok = (np.abs(c[:, 0]) < 0.75 * solid.h) & (np.abs(c[:, 1] - y) < 0.75 * solid.h)
    if near_z is not None:
        ok &= np.abs(c[:, 2] - near_z) < reach
    if not ok.any():
        return None
    rows = np.flatnonzero(ok)
    depth = solid.depth[rows]
    best = rows[depth > 0.92 * depth.max()]
    return np.array([0.0, y, float(c[best, 2].mean())])
