"""What of a mesh is body, and what a figure only wears or holds.

Strips of hair, a belt, a staff in a hand: whoever looks for limbs takes them for limbs, so that arms are laid into a staff and
a tail round a belt.  They are told by their own shape and by how they touch the rest, in any pose and under any name.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..character.words import few
from ..derived import derived
from ..geometry.surgery import Knife
from ..geometry.topology import (
    middles,
    open_sheets,
    skin_triangles,
    topology_of,
    topology_of_triangles,
    welded_points,
    whole_triangles,
)
from ..geometry.voxels import solid_from_mesh
from ..tolerances import PAIR

STRIP = 0.25  # sizes: an open piece no longer than this is a strip of hair, a lash, a scale …
FLAT = 0.6  # … when so much of it faces one way: of a flat one all, of half an eyeball ½, of a tube or a finger's end little
BODY = 0.4  # the share of the surface that is closed at least: what is open all over is a body in patches
CELLS = 100  # along the figure: enough to tell whether a ring goes round it
LONG, SLIM = 0.15, 0.15  # what is held: so many sizes long at least; so far spread across at most, of what it is along
TOUCH, FREE = 0.01, 0.03  # sizes to what holds it at most; how much of its length stands free on either side at least
MANY = 200  # pieces that are looked at one by one at most, the largest


@dataclass(frozen=True, eq=False)
class Accessory:
    """Pieces of one part that are no body: the part's name, what they are (a key of WORDS), and their points (k,)."""

    part: str
    kind: str
    points: np.ndarray


WORDS = {"ring": "goes round the body", "held": "sticks out on both sides of what holds it", "strip": "open strips"}


@derived("points", "face_starts", "face_corners", "parts", most=4)
def accessories(character: Character) -> tuple[Accessory, ...]:
    """What of the skin parts is no body, part by part; nothing where all of the skin is one piece."""
    triangles = skin_triangles(character)
    if len(np.unique(topology_of(character).islands[triangles[:, 0]])) < 2:
        return ()
    points = character.points / character.size
    of = welded_points(points, PAIR)[1]
    points, faces = middles(points, of), whole_triangles(of[triangles])
    pieces = _pieces(points, faces)
    kind = np.full(len(pieces.surface), "", dtype=object)
    for k, what in _told(points, faces, pieces):
        kind[k] = what
    own = kind[pieces.of[of]]
    return tuple(
        Accessory(part.name, what, found + part.points[0])
        for part in character.parts
        if part.role == "skin"
        for what in WORDS
        if len(found := np.flatnonzero(own[slice(*part.points)] == what))
    )


def apart_words(character: Character) -> str:
    """A sentence on what is taken for no body; empty where all of it is."""
    count = {p.name: p.points[1] - p.points[0] for p in character.parts}
    told = []
    for kind, words in WORDS.items():
        found = [a for a in accessories(character) if a.kind == kind]
        names = [a.part if len(a.points) == count[a.part] else f"pieces of {a.part}" for a in found]
        if names:
            told.append(f"{few(names)} ({words})")
    return f"No joints are looked for in {'; '.join(told)}." if told else ""


def body_alone(character: Character) -> Character:
    """The character without its accessories; itself where it has none."""
    gone = np.zeros(len(character.points), bool)
    for one in accessories(character):
        gone[one.points] = True
    if not gone.any():
        return character
    topology = topology_of(character)
    knife = Knife(character)
    knife.keep_face[gone[topology.corners[topology.starts[:-1]]]] = False
    knife.drop_points(gone)
    return knife.finish()


@dataclass(frozen=True, eq=False)
class _Pieces:
    """The connected pieces of a welded mesh: of (n,) which each point is of, at (t,) which each triangle.

    Of each: its surface, the volume it encloses, the sides of its box (3,), its deviation along its own axes, least first (3,), and
    those axes (3, 3) as columns; holed: whether it has handles or borders; sheet: whether it is open; facing: the share of it that
    faces one way.
    """

    of: np.ndarray
    at: np.ndarray
    surface: np.ndarray
    volume: np.ndarray
    box: np.ndarray
    spread: np.ndarray
    axes: np.ndarray
    holed: np.ndarray
    sheet: np.ndarray
    facing: np.ndarray


def _pieces(points: np.ndarray, faces: np.ndarray) -> _Pieces:
    mesh = topology_of_triangles(faces, len(points))
    of, count = mesh.islands, int(mesh.islands.max()) + 1
    at = of[faces[:, 0]]
    a, b, c = (points[faces[:, k]] - points.mean(0) for k in range(3))
    across = np.cross(b - a, c - a)
    box = np.full((2, count, 3), -np.inf)
    np.maximum.at(box[0], of, points)
    np.maximum.at(box[1], of, -points)
    own = np.bincount(of, minlength=count)
    off = points - middles(points, of)[of]
    squares = np.stack([np.bincount(of, off[:, j] * off[:, k], count) for j in range(3) for k in range(3)], 1)
    values, axes = np.linalg.eigh(squares.reshape(-1, 3, 3) / own[:, None, None])
    sheet = np.zeros(count, bool)
    sheet[of] = open_sheets(mesh)
    surface = np.bincount(at, 0.5 * np.linalg.norm(across, axis=1), count)
    normal = 0.5 * np.stack([np.bincount(at, across[:, k], count) for k in range(3)], 1)
    euler = own - np.bincount(of[mesh.edges[:, 0]], minlength=count) + np.bincount(at, minlength=count)
    return _Pieces(
        of,
        at,
        surface,
        np.abs(np.bincount(at, np.einsum("ij,ij->i", a, across) / 6.0, count)),
        box.sum(0),
        np.sqrt(np.maximum(values, 0.0)),
        axes,
        euler < 2,
        sheet,
        np.linalg.norm(normal, axis=1) / np.maximum(surface, 1e-30),
    )


def _told(points: np.ndarray, faces: np.ndarray, p: _Pieces) -> Iterator[tuple[int, str]]:
    """(piece, key of WORDS) of what is no body; points in sizes."""
    longest = p.box.max(1)
    strip = p.sheet & (longest < STRIP) & (p.facing > FLAT)
    if p.surface[~p.sheet].sum() > BODY * p.surface.sum():
        yield from ((int(k), "strip") for k in np.flatnonzero(strip))
    closed = np.flatnonzero((p.surface > 0) & ~p.sheet)
    if len(closed) < 2:
        return
    main = closed[np.argmax(p.volume[closed])]
    looked = closed[np.argsort(-p.surface[closed], kind="stable")][:MANY]
    looked = looked[looked != main]
    holed = looked[p.holed[looked]]
    if len(holed):
        body = solid_from_mesh(points, faces[p.at == main], 1.0 / CELLS)
        ring = holed[body.cell_at(np.array([points[p.of == k].mean(0) for k in holed])) >= 0]
        yield from ((int(k), "ring") for k in ring)
        looked = looked[~np.isin(looked, ring)]
    slim = looked[(longest[looked] > LONG) & (p.spread[looked, 1] < SLIM * p.spread[looked, 2])]
    if len(slim):
        body = solid_from_mesh(points, faces[np.isin(p.at, closed) & ~np.isin(p.at, slim)], 1.0 / CELLS)
        for k in slim:
            along = points[p.of == k] @ p.axes[k, :, 2]
            low, high = along.min(), along.max()
            touched = (along[body.tree.query(points[p.of == k])[0] <= TOUCH + body.h] - low) / (high - low)
            if len(touched) and FREE < touched.min() and touched.max() < 1.0 - FREE:
                yield int(k), "held"
