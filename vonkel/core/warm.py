"""Compile the hot loops once, so that the first start and the first drag are quick.  Run at set-up."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from .character import Character, Joint
from .face.head import light_on
from .formats.mesh import RawMesh, character_from_mesh
from .geometry.rays import first_hits, ray_hits, winding_numbers
from .geometry.topology import topology_of
from .geometry.voxels import (
    STEP_LENGTHS,
    Solid,
    distances_through,
    extremities,
    middle_path,
    solid_from_mesh,
    without_pockets,
)
from .joints.survey import nearest_bone
from .linear.baking import handed_over
from .plans.anatomy.body import distances_from
from .plans.shapes import misfits
from .rig import compile_rig
from .rig.wholebody import LegTree, pushed
from .skin import Deformer
from .skin.bind import bind_skin
from .skin.brush import BRUSHES, Brush, Painting
from .skin.edits import pruned
from .skin.kernels import moved
from .skin.settling import settled, yielded
from .trials import run_trials


def warm() -> None:
    """Touch every compiled loop with a body small enough to take no time."""
    n = 12
    a = np.linspace(0, 2 * np.pi, n, endpoint=False)
    rings = [np.stack([0.1 * np.cos(a), np.full(n, y), 0.1 * np.sin(a)], 1) for y in np.linspace(0, 1, 9)]
    points = np.concatenate([*rings, [[0, 0, 0], [0, 1, 0]]])
    faces = [
        [r * n + (i + 1) % n, r * n + i, (r + 1) * n + i, (r + 1) * n + (i + 1) % n] for r in range(8) for i in range(n)
    ]
    caps = [[9 * n, i, (i + 1) % n] for i in range(n)] + [[9 * n + 1, 8 * n + (i + 1) % n, 8 * n + i] for i in range(n)]
    sizes = [len(f) for f in faces + caps]
    mesh = RawMesh(
        points,
        np.r_[0, np.cumsum(sizes)],
        np.concatenate([*map(np.array, faces + caps)]),
        np.zeros(len(sizes), int),
        ["body"],
    )
    character: Character = character_from_mesh(mesh, "warm")
    joints = tuple(
        Joint(
            name=f"tail_{i}", parent=f"tail_{i - 1}" if i else None, place=(0.0, 0.25 * i + 0.1, 0.0), role=f"tail_{i}"
        )
        for i in range(3)
    )
    bound = bind_skin(character.with_(joints=joints))
    run_trials(bound)
    wide = bind_skin(character.with_(joints=joints), influences=6, deforming="linear")

    for by in ("posed", "beforehand"):
        smoothed = bound.with_(skin=bound.skin and bound.skin.model_copy(update={"smoothing": 2, "smoother": by}))
        Deformer(smoothed).deform(compile_rig(smoothed).evaluate({}))
    _warm_settling()
    _warm_editing(bound)
    Deformer(wide).deform(compile_rig(wide).evaluate({}))

    solid = solid_from_mesh(points, topology_of(character).triangles, 0.05)
    one = np.zeros(1, np.int64)
    distance, _ = distances_through(
        solid.links, STEP_LENGTHS * solid.h, np.ones(len(solid.cells)), one, np.zeros(1), np.inf
    )
    extremities(solid, distance, 0.1)

    middle_path(solid, 0, len(solid.cells) - 1)
    _warm_plans(solid)

    nearest_bone(points, points[:2].copy(), points[2:4].copy(), np.ones(2), np.zeros(len(points), np.int64))
    triangles, origin, way = topology_of(character).triangles, np.array([0.0, 0.5, 5.0]), np.array([0.0, 0.0, -1.0])
    ray_hits(points, triangles, origin, way)
    first_hits(points, triangles, origin[None], way[None], 0.0)
    winding_numbers(points, triangles, origin[None])

    light_on(points, triangles.astype(np.int64), points[:2], way[None], 1.0)
    _warm_posing()


def _warm_settling() -> None:
    """What is done about islands, which a tube's skin has none of: on a line of six points."""

    rows, cols = np.array([0, 1, 3, 5, 7, 9, 10]), np.array([1, 0, 2, 1, 3, 2, 4, 3, 5, 4], np.int32)
    line = rows, cols, np.zeros(6, np.int32), np.ones(6)
    held = np.array([[0.6, 0.4], [0.45, 0.55], [0.6, 0.4], [0.45, 0.55], [0.4, 0.6], [0.4, 0.6]])
    settled(*line, csr_matrix(held), 2)
    yielded(rows, cols, np.tile(np.array([[0, 1]], np.int32), (6, 1)), held, np.ones(6, bool))


def _warm_posing() -> None:
    """Feet that push a body, and a sculpted shape."""

    hip, foot = np.array([[0.0, 0.5, 0.0]]), np.zeros((1, 3))
    pushed(LegTree(hip[0], hip, foot, np.array([0, 1]), np.array([0]), np.eye(3)[:1], np.ones(7)), foot + 0.1)
    moved(np.zeros((2, 3), np.float32), np.zeros(1, int), np.ones((1, 3), np.float32), np.empty((2, 3), np.float32))


def _warm_plans(solid: Solid) -> None:
    """The loops that look for a body's limbs."""

    without_pockets(solid, 0.1)
    distances_from(solid, 0)
    misfits(np.ascontiguousarray(solid.centres[:5]))


def _warm_editing(bound: Character) -> None:
    """The loops that a brush, a zone and the skin that goes out run."""

    for kind in BRUSHES:
        Painting(bound, Brush(kind=kind, joint=bound.joints[0].name, radius=0.2)).put(
            [(0, 0.3, 0.3, 1.0, 0.0, 0.0, 0.0)]
        )
    pruned(bound, 0.01, 0)
    handed_over(bound, 2)


if __name__ == "__main__":
    warm()
