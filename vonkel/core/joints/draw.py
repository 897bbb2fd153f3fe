"""Where a joint goes when a drawing is clicked: the middle of the body under the hand, or something to snap to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.loops import loop_near
from ..geometry.rays import ray_hits
from ..geometry.spheres import fit_sphere
from ..geometry.topology import skin_triangles, topology_of


@dataclass(frozen=True)
class Landing:
    """Where a click puts a joint, and what it took hold of: a joint, point, loop or part, or the flesh under it."""

    place: np.ndarray
    on: str  # “middle”, “loop”, “part”, “point”, “joint” or “air”
    name: str = ""


def landing(
    character: Character, origin: np.ndarray, way: np.ndarray, snap: str = "middle", tolerance: float = 0.0,
    after: np.ndarray | None = None,
) -> Landing:  # fmt: skip
    """Where a joint goes for a click along a ray from origin (3,) in direction way (3,).

    An existing joint within `tolerance` metres of the ray is taken first.  snap: “middle”, halfway through the first
    body that the ray meets; “loop”, the centre of the edge loop round the limb there; “part”, the centre of the part,
    of an eyeball's sphere; “point”, the mesh's nearest point.  Where the ray misses the body: the place on it nearest
    to `after` (the chain's last joint) or else to the body's middle.
    """
    way = np.asarray(way, float) / np.linalg.norm(way)
    origin = np.asarray(origin, float)
    joint = nearest_joint(character, origin, way, tolerance)
    if joint is not None:
        return joint
    if snap == "part":
        topo = topology_of(character)
        t, which = ray_hits(character.points, topo.triangles, origin, way)
        if len(t):
            face = int(topo.triangle_face[which[0]])
            part = next(p for p in character.parts if p.faces[0] <= face < p.faces[1])
            points = character.points[slice(*part.points)]
            if part.role == "eye" and len(points) >= 4:
                return Landing(fit_sphere(points)[0], "part", part.name)
            return Landing(0.5 * (points.min(0) + points.max(0)), "part", part.name)
    triangles = skin_triangles(character)
    t, which = ray_hits(character.points, triangles, origin, way)
    if not len(t):
        to = after if after is not None else 0.5 * (character.points.min(0) + character.points.max(0))
        return Landing(origin + way * float((to - origin) @ way), "air")
    first = origin + way * t[0]
    if snap in ("point", "loop"):
        corners = triangles[which[0]]
        point = int(corners[np.argmin(np.linalg.norm(character.points[corners] - first, axis=1))])
        if snap == "point":
            return Landing(character.points[point], "point", str(point))
        try:
            line = loop_near(character, point, np.zeros(3) if after is None else first - after)
        except StepRefused:
            pass  # no loop closes there: the middle of the volume stands in
        else:
            return Landing(character.points[line].mean(0), "loop", f"{len(line)} points")
    return Landing(origin + way * _first_middle(character, triangles, which, t, way), "middle")


def _first_middle(
    character: Character, triangles: np.ndarray, which: np.ndarray, t: np.ndarray, way: np.ndarray
) -> float:
    """Halfway through the first stretch of the ray that lies inside the body, counting ins and outs."""
    p = character.points[triangles[which]]
    normals = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    into = normals @ way < 0
    depth, start = 0, float(t[0])
    for d, goes_in in zip(t, into, strict=True):
        if goes_in:
            if depth == 0:
                start = float(d)
            depth += 1
        elif depth:
            depth -= 1
            if depth == 0 and d - start > 1e-6:
                return 0.5 * (start + float(d))
    return 0.5 * float(t[0] + t[min(1, len(t) - 1)])


def nearest_joint(character: Character, origin: np.ndarray, way: np.ndarray, tolerance: float) -> Landing | None:
    if not character.joints or tolerance <= 0:
        return None
    places = np.array([j.place for j in character.joints])
    off = places - origin
    miss = np.linalg.norm(off - (off @ way)[:, None] * way, axis=1)
    k = int(miss.argmin())
    return Landing(places[k], "joint", character.joints[k].name) if miss[k] <= tolerance else None
