"""Lines to grab that hug the body: slices of the mesh at a joint, pushed outwards."""

from __future__ import annotations

from math import cos, pi, sin

import numpy as np

from ..character import Character, Control
from ..geometry.topology import skin_triangles

Outline = tuple[tuple[float, float, float], ...]
OUTLINE_RAYS = 32


def outline_of(points: np.ndarray) -> Outline:
    """A line through points (n, 3) in a control's own frame, metres, to a hundredth of a millimetre."""
    return tuple((round(float(x), 5), round(float(y), 5), round(float(z), 5)) for x, y, z in points)


def slice_outline(character: Character, place: np.ndarray, frame: np.ndarray, grow: float = 1.18) -> Outline:
    """The body's outline in the plane through `place` spanned by the y and z axes of `frame` (3, 3).

    Rays leave the joint in that plane; each takes the first surface it meets, so that other limbs crossing the
    plane don't count.  Gaps are bridged, the line is evened and pushed out by `grow` plus 0.6 % of the height.
    Returns points in the frame's own coordinates, x = 0, metres; empty when the plane meets no surface.
    """
    tri = skin_triangles(character)
    x = ((character.points - place) @ frame[:, 0])[tri]
    tri = tri[
        (np.minimum(np.minimum(x[:, 0], x[:, 1]), x[:, 2]) <= 0)
        & (np.maximum(np.maximum(x[:, 0], x[:, 1]), x[:, 2]) > 0)
    ]
    if not len(tri):
        return ()
    corner = (character.points[tri] - place) @ frame
    above = corner[:, :, 0] > 0
    crossings = np.full((len(tri), 3, 2), np.nan)
    for k, (i, j) in enumerate(((0, 1), (1, 2), (2, 0))):  # each crossing triangle has two crossed edges
        crossed = above[:, i] != above[:, j]
        p, q = corner[crossed, i], corner[crossed, j]
        t = (p[:, 0] / (p[:, 0] - q[:, 0]))[:, None]
        crossings[crossed, k] = p[:, 1:] + t * (q[:, 1:] - p[:, 1:])
    two = np.argsort(np.isnan(crossings[:, :, 0]), axis=1, kind="stable")[:, :2]
    ends = np.take_along_axis(crossings, two[:, :, None], 1)
    angles = 2 * pi * np.arange(OUTLINE_RAYS) / OUTLINE_RAYS
    ray = np.stack([np.cos(angles), np.sin(angles)], 1)
    p, d = ends[:, 0], ends[:, 1] - ends[:, 0]
    cross = ray[:, None, 0] * d[None, :, 1] - ray[:, None, 1] * d[None, :, 0]
    with np.errstate(divide="ignore", invalid="ignore"):
        dist = (p[None, :, 0] * d[None, :, 1] - p[None, :, 1] * d[None, :, 0]) / cross
        share = (p[None, :, 0] * ray[:, None, 1] - p[None, :, 1] * ray[:, None, 0]) / cross
    hit = (dist > 1e-6) & (share >= -1e-9) & (share <= 1 + 1e-9)
    radius = np.where(hit, dist, np.inf).min(1)
    found = np.isfinite(radius)
    if found.sum() < OUTLINE_RAYS // 4:
        return ()
    at = np.flatnonzero(found)
    radius = np.interp(np.arange(OUTLINE_RAYS), np.r_[at - OUTLINE_RAYS, at, at + OUTLINE_RAYS], np.tile(radius[at], 3))
    radius = np.minimum(radius, 2.2 * np.median(radius))
    for _ in range(2):
        radius = (np.roll(radius, 1) + 2 * radius + np.roll(radius, -1)) / 4
    radius = radius * grow + 0.006 * character.size
    return tuple((0.0, round(float(r * c), 5), round(float(r * s), 5)) for r, (c, s) in zip(radius, ray, strict=True))


def ring(radius: float, count: int = 24) -> Outline:
    """A flat ring in the control's x–z plane, metres."""
    return tuple(
        (round(radius * cos(2 * pi * i / count), 5), 0.0, round(radius * sin(2 * pi * i / count), 5))
        for i in range(count)
    )


def bud(radius: float) -> Outline:
    """A small four-petalled line in the x–y plane for bend guides and aims, metres."""
    line = []
    for i in range(32):
        angle = 2 * pi * i / 32
        r = radius * (0.62 + 0.38 * cos(4 * angle))
        line.append((round(r * cos(angle), 5), round(r * sin(angle), 5), 0.0))
    return tuple(line)


def _star(count: int, deep: float) -> Outline:
    line = []
    for i in range(48):
        angle = 2 * pi * i / 48
        r = 1.0 - deep * (0.5 - 0.5 * cos(count * angle))
        line.append((0.0, r * cos(angle), r * sin(angle)))
    return tuple(line)


def _leaf() -> Outline:
    up = [(0.0, 1.6 * t - 0.6, 0.55 * sin(pi * t) * (1.0 - 0.35 * t)) for t in (i / 14 for i in range(15))]
    return tuple(up + [(x, y, -z) for x, y, z in reversed(up[1:-1])])


def _bow() -> Outline:
    line = []
    for i in range(40):
        a = 2 * pi * i / 40
        line.append((0.35 * cos(2 * a), cos(a), sin(a)))
    return tuple(line)


def _paddle() -> Outline:
    stick = [(0.0, 0.0, 0.0), (0.0, 1.0, 0.0)]
    disc = [(0.0, 1.4 - 0.4 * cos(2 * pi * i / 20), 0.4 * sin(2 * pi * i / 20)) for i in range(21)]
    return tuple(stick + disc)


def _brick() -> Outline:
    corners = [(-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1)]
    low = [(-0.6, y, z) for y, z in corners]
    high = [(0.6, y, z) for y, z in corners]
    return tuple(
        (float(x), float(y), float(z))
        for x, y, z in low + high[:2] + low[1:3] + high[2:4] + low[3:] + high[:1] + high[3:]
    )


SHAPES: dict[str, tuple[str, Outline]] = {
    "ring": ("a plain ring", tuple((0.0, cos(2 * pi * i / 32), sin(2 * pi * i / 32)) for i in range(32))),
    "bud": ("four petals", _star(4, 0.38)),
    "gear": ("eight waves", _star(8, 0.22)),
    "leaf": ("a leaf that points along y", _leaf()),
    "bow": ("a ring bent like a saddle", _bow()),
    "paddle": ("a disc on a stick", _paddle()),
    "brick": ("the edges of a brick", _brick()),
}
"""Our own small set of shapes, about one unit large, in the plane across x."""


def shaped(character: Character, control: Control, shape: str, grow: float) -> Control:
    """The control with another line: one of `SHAPES` as large as the line it has, or its own line, sized by `grow`.

    `control` has the line that its kit gave it.
    """
    line = np.array(control.outline).reshape(-1, 3)
    if shape:
        radius = float(np.linalg.norm(line - line.mean(0), axis=1).mean()) if len(line) else 0.04 * character.size
        middle = line.mean(0) if len(line) else np.zeros(3)
        line = np.array(SHAPES[shape][1]) * radius + middle
    middle = line.mean(0) if len(line) else np.zeros(3)
    line = middle + (line - middle) * grow
    outline = outline_of(line)
    return control.model_copy(update={"outline": outline, "shape": shape, "grow": grow})
