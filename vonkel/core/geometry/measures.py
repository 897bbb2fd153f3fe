"""Lengths, girths, areas, volumes and inertia of a mesh at rest."""

from __future__ import annotations

import numpy as np

from ..character import Character
from ..errors import BadParameters, StepRefused
from .topology import faces_of, topology_of


def lengths(v: np.ndarray) -> np.ndarray:
    """(n,) of vectors (n, 3): as numpy's norm along the last axis, some times quicker."""
    return np.asarray(np.sqrt(np.einsum("ij,ij->i", v, v)))


def lengths_along(path: np.ndarray) -> np.ndarray:
    """(n,) metres along a path (n, 3) from its first point."""
    return np.asarray(np.r_[0, np.cumsum(np.linalg.norm(np.diff(path, axis=0), axis=1))])


def section(points: np.ndarray, triangles: np.ndarray, at: np.ndarray, normal: np.ndarray) -> list[np.ndarray]:
    """Where a plane through `at` (3,) across `normal` (3,) cuts a mesh: lines of points (k, 3), closed ones first = last."""
    normal = normal / np.linalg.norm(normal)
    d = (points - at) @ normal
    d = np.where(np.abs(d) < 1e-12, 1e-12, d)  # a plane through a point counts as just before it
    s = d[triangles] > 0
    hit = np.flatnonzero(s.any(1) & ~s.all(1))
    if not len(hit):
        return []
    n = len(points)
    ends: dict[int, list[int]] = {}
    place: dict[int, np.ndarray] = {}
    for t in hit:
        tri = triangles[t]
        keys = []
        for k in range(3):
            a, b = int(tri[k]), int(tri[(k + 1) % 3])
            if (d[a] > 0) != (d[b] > 0):
                key = min(a, b) * n + max(a, b)
                if key not in place:
                    w = d[a] / (d[a] - d[b])
                    place[key] = points[a] + w * (points[b] - points[a])
                keys.append(key)
        ends.setdefault(keys[0], []).append(keys[1])
        ends.setdefault(keys[1], []).append(keys[0])
    lines = []
    seen: set[int] = set()
    for start in sorted(ends, key=lambda k: len(ends[k])):  # open lines begin at their ends
        if start in seen:
            continue
        line = [start]
        seen.add(start)
        while True:
            onward = [k for k in ends[line[-1]] if k not in seen]
            if not onward:
                break
            line.append(onward[0])
            seen.add(onward[0])
        if len(line) > 2 and line[0] in ends[line[-1]]:
            line.append(line[0])
        lines.append(np.array([place[k] for k in line]))
    return lines


def girth(
    character: Character, at: np.ndarray, normal: np.ndarray, parts: tuple[str, ...] = ()
) -> tuple[float, np.ndarray]:
    """The length round the body, metres, of the closed cut nearest to a place, and its line (k, 3).

    The plane goes through `at` (3,) across `normal` (3,).  Raises StepRefused where it cuts nothing closed.
    """
    topo = topology_of(character)
    triangles = topo.triangles
    if parts:
        triangles = triangles[faces_of(character, map(character.part, parts))[topo.triangle_face]]
    closed = [c for c in section(character.points, triangles, at, normal) if np.allclose(c[0], c[-1])]
    if not closed:
        raise StepRefused("The body is not closed there.", character.name, "Measure where it is whole.")
    line = min(closed, key=lambda c: float(np.linalg.norm(c - at, axis=1).min()))
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum()), line


AXES = {"width": 0, "height": 1, "length": 2}


def measured_length(
    character: Character, kind: str, points: tuple[int, ...] = (), axis: str = "", part: str = ""
) -> float:
    """One length of the model at rest, metres.

    kind: “height”, “width” or “length” of the whole (or of a part); “place”: how high a point lies above the lowest;
    “between”: from one point to another, straight or along `axis` x, y or z; “around”: the girth at a point, across
    `axis`.  Raises BadParameters where points are missing and StepRefused where nothing can be measured.
    """
    p = character.points
    if not all(0 <= i < len(p) for i in points):
        raise BadParameters("A point of the measure isn't on the mesh.", character.name, "Pick it again.")
    if kind in AXES:
        chosen = p[slice(*character.part(part).points)] if part else p
        return float(np.ptp(chosen[:, AXES[kind]])) if len(chosen) else 0.0
    wanted = 2 if kind == "between" else 1
    if len(points) != wanted:
        raise BadParameters(
            f"This measure takes {wanted} point{'s' if wanted > 1 else ''}; {len(points)} were given.", "",
            "Pick on the plate.",
        )  # fmt: skip
    if kind == "place":
        return float(p[points[0], 1] - p[:, 1].min())
    if kind == "between":
        way = p[points[1]] - p[points[0]]
        return float(abs(way["xyz".index(axis)])) if axis else float(np.linalg.norm(way))
    return girth(character, p[points[0]], np.eye(3)["xyz".index(axis or "y")])[0]


def distance_to_segments(points: np.ndarray, segments: np.ndarray) -> np.ndarray:
    """(n,) metres from points (n, 3) to the nearest of segments (s, 2, 3)."""
    best = np.full(len(points), np.inf)
    for a, b in segments:
        d = b - a
        t = np.clip((points - a) @ d / max(float(d @ d), 1e-18), 0.0, 1.0)
        best = np.minimum(best, np.linalg.norm(points - a - t[:, None] * d, axis=1))
    return best


def area(points: np.ndarray, triangles: np.ndarray) -> float:
    """Surface, m²."""
    a, b, c = (points[triangles[:, i]] for i in range(3))
    return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


def mass_properties(points: np.ndarray, triangles: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
    """Volume m³, centre of mass (3,) m, and inertia (3, 3) kg m² about it for 1 kg/m³, of closed triangles.

    Integrals over signed tetrahedra with the origin (Tonon 2004, Explicit exact formulas for the 3-D tetrahedron
    inertia tensor in terms of its vertex coordinates).
    """
    a, b, c = (points[triangles[:, i]] for i in range(3))
    six = np.einsum("ij,ij->i", a, np.cross(b, c))
    volume = float(six.sum() / 6.0)
    if abs(volume) < 1e-15:
        return 0.0, points.mean(0) if len(points) else np.zeros(3), np.zeros((3, 3))
    centre = (six[:, None] * (a + b + c)).sum(0) / 24.0 / volume
    a, b, c = a - centre, b - centre, c - centre
    six = np.einsum("ij,ij->i", a, np.cross(b, c))
    corners = np.stack([a, b, c], 1)
    total = corners.sum(1)
    products = (np.einsum("tki,tkj->tij", corners, corners) + np.einsum("ti,tj->tij", total, total)) / 20.0
    second = np.einsum("t,tij->ij", six / 6.0, products)
    return volume, centre, np.trace(second) * np.eye(3) - second
