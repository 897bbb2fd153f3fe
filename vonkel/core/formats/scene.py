"""A scene to hand over: what every format writes out, with nothing left to work out.

Metres, right-handed, Y up, facing +Z; quaternions are (w, x, y, z); V of texture places runs down from the top.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np


@dataclass(frozen=True)
class Node:
    """A joint, or the leaf that carries a joint's own scale.  `parent` is a node's index, −1 for a root.

    place (3,), turn (4,) and scale (3,) at rest, in the parent.
    """

    name: str
    parent: int
    place: np.ndarray
    turn: np.ndarray
    scale: np.ndarray
    about: dict[str, Any] = field(default_factory=dict)
    joint: str = ""  # the joint it stands for; empty for a leaf


@dataclass(frozen=True)
class Material:
    """`colour` (3,) is linear, 0–1."""

    name: str
    colour: np.ndarray
    roughness: float
    textured: bool


@dataclass(frozen=True)
class Mesh:
    """A part as triangles with one row for every corner that differs: rows (r, …), the part's points first, in their order.

    point (r,): which of the character's points each row is; normals None where it is shaded hard; joints (r, k) into
    the scene's skin; moves: morph targets (r, 3) in the order of the scene's `targets`.
    """

    name: str
    first: int  # the character's point that the part begins with
    point: np.ndarray
    points: np.ndarray
    triangles: np.ndarray
    strokes: np.ndarray  # (s,) both ends of every piece of drawn lines, one pair after the other
    normals: np.ndarray | None
    uvs: np.ndarray | None
    colours: np.ndarray | None  # linear, 0–1
    joints: np.ndarray | None
    weights: np.ndarray | None
    moves: tuple[np.ndarray, ...]
    material: Material

    @property
    def copies(self) -> bool:
        """Whether points stand in several rows."""
        return len(np.unique(self.point)) < len(self.point)


@dataclass(frozen=True)
class SkinOver:
    """Which nodes hold the skin, and the inverse of each one's world frame at rest (j, 4, 4)."""

    nodes: tuple[int, ...]
    inverse: np.ndarray


@dataclass(frozen=True)
class Take:
    """A clip baked: times (f,) seconds; places (f, n, 3), turns (f, n, 4), scales (f, n, 3) of every node in its parent;
    strengths (f, t) of the targets."""

    name: str
    times: np.ndarray
    places: np.ndarray
    turns: np.ndarray
    scales: np.ndarray
    strengths: np.ndarray


@dataclass(frozen=True)
class Polygons:
    """The mesh as it was made, for formats that know more than triangles: see `Character` for its arrays."""

    points: np.ndarray
    face_starts: np.ndarray
    face_corners: np.ndarray
    uvs: np.ndarray | None
    colours: np.ndarray | None
    line_starts: np.ndarray | None
    line_points: np.ndarray | None
    parts: tuple[tuple[str, tuple[int, int], tuple[int, int], tuple[int, int]], ...]  # name, points, faces, lines


@dataclass(frozen=True)
class Scene:
    """A character as it leaves the house."""

    name: str
    nodes: tuple[Node, ...]
    meshes: tuple[Mesh, ...]
    skin: SkinOver | None
    targets: tuple[str, ...]
    takes: tuple[Take, ...]
    texture: bytes | None
    polygons: Polygons
    about: dict[str, Any]
