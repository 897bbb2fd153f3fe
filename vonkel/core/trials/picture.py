"""Small pictures of a mesh, drawn without a screen: orthographic, lit, with a depth buffer."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image, ImageDraw

from ..character import Character
from ..compiled import compiled
from ..geometry.topology import point_normals

SIDES = {"L": "#1b7471", "R": "#7a3b76", "C": "#8a5e12"}
PAPER = np.array([245, 238, 225], float)
HEAT = np.array([[243, 234, 217], [246, 207, 139], [238, 154, 60], [217, 83, 30], [140, 36, 16]], float)


def heat_colours(heat: np.ndarray) -> np.ndarray:
    """(n,) 0–1 → (n, 3) 0–255 along the ember ramp."""
    x = np.clip(heat, 0, 1) * (len(HEAT) - 1)
    return np.stack([np.interp(x, np.arange(len(HEAT)), HEAT[:, k]) for k in range(3)], 1)


@compiled
def _draw(
    p: np.ndarray, tri: np.ndarray, colour: np.ndarray, width: int, height: int, image: np.ndarray, depth: np.ndarray
) -> None:
    for t in range(len(tri)):
        a, b, c = p[tri[t, 0]], p[tri[t, 1]], p[tri[t, 2]]
        area = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])
        if area >= 0:  # y runs down, so outward faces seen from the front turn the other way
            continue
        x0, x1 = max(0, int(min(a[0], b[0], c[0]))), min(width - 1, int(max(a[0], b[0], c[0])) + 1)
        y0, y1 = max(0, int(min(a[1], b[1], c[1]))), min(height - 1, int(max(a[1], b[1], c[1])) + 1)
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                u = ((x - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (y - a[1])) / area
                v = ((b[0] - a[0]) * (y - a[1]) - (x - a[0]) * (b[1] - a[1])) / area
                if u < -1e-6 or v < -1e-6 or u + v > 1 + 1e-6:
                    continue
                z = a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2])
                if z > depth[y, x]:
                    depth[y, x] = z
                    w = 1 - u - v
                    for k in range(3):
                        image[y, x, k] = w * colour[tri[t, 0], k] + u * colour[tri[t, 1], k] + v * colour[tri[t, 2], k]


def looking(turn: float, tilt: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Right, up and towards the eye for a picture seen from `turn` and `tilt`, radians."""
    c, s, ct, st = np.cos(turn), np.sin(turn), np.cos(tilt), np.sin(tilt)
    right, forward = np.array([c, 0, -s]), np.array([s * ct, st, c * ct])
    return right, np.cross(forward, right), forward


def with_bones(
    image: np.ndarray, character: Character, turn: float, tilt: float, box: tuple[np.ndarray, float]
) -> np.ndarray:  # fmt: skip
    """A picture with the joints at rest drawn over it: a line to each child, a ring at each joint."""
    if not character.joints:
        return image
    right, up, _ = looking(turn, tilt)
    h, w = image.shape[:2]
    centre, half = box
    places = np.array([j.place for j in character.joints]) - centre
    at = np.stack([w / 2 + places @ right * h / (2 * half), h / 2 - places @ up * h / (2 * half)], 1)
    sheet = Image.fromarray(image)
    pen = ImageDraw.Draw(sheet)
    for i, j in enumerate(character.joints):
        if j.parent:
            pen.line([tuple(at[character.joint_index[j.parent]]), tuple(at[i])], fill=SIDES[j.side], width=2)
    for (x, y), j in zip(at, character.joints, strict=True):
        pen.ellipse([x - 3, y - 3, x + 3, y + 3], fill="#fffdf8", outline=SIDES[j.side], width=2)
    return np.asarray(sheet)


def picture(
    points: np.ndarray, triangles: np.ndarray, colours: np.ndarray, size: tuple[int, int] = (200, 200),
    turn: float = 0.5, tilt: float = 0.12, box: tuple[np.ndarray, float] | None = None,
) -> np.ndarray:  # fmt: skip
    """(h, w, 3) uint8 of points (n, 3) with colours (n, 3) 0–255, seen from `turn` and `tilt` radians.

    box: centre (3,) and half the height shown, metres; without it the mesh fills the picture.
    """
    scale = 2  # drawn twice as large and averaged: smooth edges
    w, h = size[0] * scale, size[1] * scale
    right, up, forward = looking(turn, tilt)
    centre, half = box if box is not None else (0.5 * (points.max(0) + points.min(0)), 0.0)
    q = (points - centre) @ np.stack([right, up, forward], 1)
    if box is None:
        half = 1.06 * max(float(np.abs(q[:, 1]).max()), float(np.abs(q[:, 0]).max()) * h / w)
    screen = np.stack([w / 2 + q[:, 0] * h / (2 * half), h / 2 - q[:, 1] * h / (2 * half), q[:, 2]], 1)
    normals = point_normals(points, triangles) @ np.stack([right, up, forward], 1)
    light = np.array([-0.35, 0.6, 0.72])
    shade = (
        0.62
        + 0.42 * np.clip(normals @ (light / np.linalg.norm(light)), -0.4, 1)
        - 0.10 * (1 - np.clip(normals[:, 2], 0, 1)) ** 2
    )
    image = np.empty((h, w, 3))
    image[:] = PAPER
    _draw(screen, triangles, np.clip(colours * shade[:, None], 0, 255), w, h, image, np.full((h, w), -np.inf))
    small = image.reshape(size[1], scale, size[0], scale, 3).mean((1, 3))
    return np.asarray((small + 0.5).astype(np.uint8))


def png(image: np.ndarray) -> bytes:
    out = io.BytesIO()
    Image.fromarray(image).save(out, "PNG", optimize=False, compress_level=4)
    return out.getvalue()
