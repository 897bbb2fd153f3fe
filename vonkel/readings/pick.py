"""What lies under the hand on the mesh: the edge with its ring, the face, the border, the way between points."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..core.character import Character
from ..core.errors import BadParameters, StepRefused
from ..core.geometry.loops import border_with, edge_path, edge_ring
from ..core.geometry.measures import girth, measured_length
from ..core.geometry.topology import topology_of


def edge_under(character: Character, triangle: int, place: tuple[float, float, float]) -> dict[str, Any]:
    """The edge of a face nearest to a place on it, its ring, and where on it the place lies (share from its first point).

    `triangle` counts those of `topology.triangles`; the ring's points are those at that share, in a row.
    """
    topo = topology_of(character)
    if not 0 <= triangle < len(topo.triangles):
        raise BadParameters("There is no such face.", character.name, "Click the mesh again.")
    face = int(topo.triangle_face[triangle])
    corners = range(int(topo.starts[face]), int(topo.starts[face + 1]))
    p = np.array(place)
    best, found = np.inf, (0, 0, 0.5)
    for c in corners:
        a, b = int(topo.corners[c]), int(topo.corner_next[c])
        way = character.points[b] - character.points[a]
        t = float(np.clip((p - character.points[a]) @ way / max(float(way @ way), 1e-18), 0, 1))
        d = float(np.linalg.norm(character.points[a] + t * way - p))
        if d < best:
            best, found = d, (a, b, t)
    a, b, t = found
    t = min(max(t, 0.05), 0.95)
    ring = edge_ring(topo, a, b)
    line = character.points[ring.ends[:, 0]] * (1 - t) + character.points[ring.ends[:, 1]] * t
    ends = np.stack([character.points[ring.ends[:, 0]], character.points[ring.ends[:, 1]]])
    return {
        "edge": [a, b], "at": round(t, 3), "face": face, "closed": ring.closed, "edges": len(ring.ends),
        "line": line.tolist(), "ends": ends.tolist(),
    }  # fmt: skip


def face_under(character: Character, triangle: int) -> dict[str, Any]:
    """The polygon that a triangle belongs to: its number, size and corners' places."""
    topo = topology_of(character)
    if not 0 <= triangle < len(topo.triangles):
        raise BadParameters("There is no such face.", character.name, "Click the mesh again.")
    face = int(topo.triangle_face[triangle])
    corners = topo.corners[int(topo.starts[face]) : int(topo.starts[face + 1])]
    return {"face": face, "size": len(corners), "line": character.points[corners].tolist()}


def border_at(character: Character, point: int) -> dict[str, Any]:
    """The open border nearest to a point: one of its points, and its line."""
    topo = topology_of(character)
    loop = border_with(topo, point)
    if not len(loop):
        open_points = np.unique(topo.edges[topo.edge_faces == 1])
        if not len(open_points):
            raise StepRefused("The mesh has no open border.", character.name, "A bag grows from an open lip line.")
        d = np.linalg.norm(character.points[open_points] - character.points[point], axis=1)
        loop = border_with(topo, int(open_points[d.argmin()]))
    if not len(loop):
        raise StepRefused("That border is tangled.", character.name, "Mend the mesh there first.")
    return {"point": int(loop[0]), "count": len(loop), "line": character.points[loop].tolist()}


def path_between(character: Character, points: list[int]) -> dict[str, Any]:
    """The way along edges through some points: its points and line."""
    path = edge_path(character, points)
    return {"points": path.tolist(), "line": character.points[path].tolist()}


def measured(character: Character, kind: str, points: tuple[int, ...], axis: str) -> dict[str, Any]:
    """A length at rest, metres, with the line to draw for it."""
    value = measured_length(character, kind, points, axis)
    p = character.points
    if kind == "between":
        a, b = p[points[0]], p[points[1]]
        if axis:
            k = "xyz".index(axis)
            b = np.where(np.arange(3) == k, b, a)
        line = [a.tolist(), b.tolist()]
    elif kind == "place":
        a = p[points[0]]
        line = [[float(a[0]), float(p[:, 1].min()), float(a[2])], a.tolist()]
    elif kind == "around":
        line = girth(character, p[points[0]], np.eye(3)["xyz".index(axis or "y")])[1].tolist()
    else:
        line = []
    return {"metres": value, "line": line}
