"""The demo biped, rigged, in two sizes; and a clock."""

import time
from pathlib import Path

import numpy as np

import vonkel
from vonkel.core.character import Character, Shape
from vonkel.core.formats import read_character
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.topology import topology_of
from vonkel.core.shapes import with_shape
from vonkel.steps import load_recipe, run_recipe

OTTER = Path(vonkel.__file__).parent / "demo/data/otter.obj"


def rigged(fine: bool = False) -> Character:
    """Lutra bound by the built-in recipe; `fine`: every face cut in four, about 73 k points."""
    c = read_character("otter.obj", OTTER.read_bytes(), "Lutra")
    return run_recipe(subdivided(c) if fine else c, load_recipe("biped"))[0]


SHAPES, MOVED = 120, 1000  # shapes on a face, and points that one of them moves


def many_shapes(c: Character) -> Character:
    """The character with many shapes on its head, drawn by lot."""
    lot = np.random.default_rng(1)
    near = np.argsort(np.linalg.norm(c.points - np.array(c.joint("head").place), axis=1))[: 3 * MOVED]
    for k in range(SHAPES):
        moves = np.zeros((len(c.points), 3))
        first = int(lot.integers(0, len(near) - MOVED))
        moves[near[first : first + MOVED]] = lot.normal(0, 0.002, (MOVED, 3))
        c = with_shape(c, Shape(name=f"s{k}"), moves)
    return c


def subdivided(c: Character) -> Character:
    """Each face cut into quads at edge middles and its centre (no smoothing)."""
    topo = topology_of(c)
    n, e = len(c.points), topo.edges
    codes = e[:, 0].astype(np.int64) * n + e[:, 1]
    a, b = topo.corners, topo.corner_next
    middle = n + np.searchsorted(codes, np.minimum(a, b) * n + np.maximum(a, b))
    sums = np.add.reduceat(c.points[topo.corners], topo.starts[:-1], axis=0)
    points = np.concatenate([c.points, c.points[e].mean(1), sums / topo.sizes[:, None]])
    face = topo.corner_face
    order = np.arange(len(a))
    before = order - 1
    before[topo.starts[:-1]] = topo.starts[1:] - 1
    quads = np.stack([a, middle, n + len(e) + face, middle[before]], 1)
    piece = np.zeros(len(topo.sizes), np.int64)
    for i, p in enumerate(c.parts):
        piece[p.faces[0] : p.faces[1]] = i
    mesh = RawMesh(points, np.arange(0, 4 * len(quads) + 1, 4), quads.ravel(), piece[face], [p.name for p in c.parts])
    return character_from_mesh(mesh, c.name)


def best(work, rounds=9, times=60):
    """Least of several rounds' mean time of one call, seconds: others on the machine only ever add."""
    found = []
    for _ in range(rounds):
        start = time.perf_counter()
        for _ in range(times):
            work()
        found.append((time.perf_counter() - start) / times)
    return min(found)
