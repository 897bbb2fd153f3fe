"""Choosing points: what goes on from some of them, over the mesh."""

from __future__ import annotations

import numpy as np

from ..character import Character
from ..errors import BadParameters
from .topology import Topology, topology_of


def island(character: Character, points: np.ndarray) -> np.ndarray:
    """All points of the connected pieces that these (p,) lie in."""
    pieces = topology_of(character).islands
    return np.flatnonzero(np.isin(pieces, pieces[points]))


def parts(character: Character, points: np.ndarray) -> np.ndarray:
    """All points of the parts that these lie in."""
    number = character.part_numbers("points")
    return np.flatnonzero(np.isin(number, number[points]))


def grown(character: Character, points: np.ndarray) -> np.ndarray:
    """These and all that share an edge with one of them."""
    edges, inside = topology_of(character).edges, _inside(character, points)
    more = inside.copy()
    more[edges[inside[edges[:, 0]], 1]] = True
    more[edges[inside[edges[:, 1]], 0]] = True
    return np.flatnonzero(more)


def shrunk(character: Character, points: np.ndarray) -> np.ndarray:
    """These without those that share an edge with one that isn't chosen."""
    everyone = np.arange(len(character.points))
    return np.setdiff1d(points, grown(character, np.setdiff1d(everyone, points)))


def inverted(character: Character, points: np.ndarray) -> np.ndarray:
    """All others."""
    return np.setdiff1d(np.arange(len(character.points)), points)


def loop(character: Character, points: np.ndarray) -> np.ndarray:
    """The loop of edges that goes straight on through two points of an edge, as far as corners of four edges go.

    Raises BadParameters unless the last two are the ends of an edge.
    """
    topo = topology_of(character)
    a, b = (int(p) for p in points[-2:]) if len(points) > 1 else (-1, -1)
    if a < 0 or topo.edge_between(a, b) < 0:
        raise BadParameters(
            "A loop goes on from two points of one edge.", character.name, "Choose both ends of an edge."
        )
    return np.unique(np.concatenate([_straight(topo, a, b), _straight(topo, b, a)]))


def _straight(topo: Topology, a: int, b: int) -> list[int]:
    """From a through b and on."""
    rows, cols = topo.neighbours
    out, seen = [a, b], {a, b}
    while True:
        a, b = out[-2], out[-1]
        around = cols[rows[b] : rows[b + 1]]
        if len(around) != 4:
            return out
        beside = _faces_at(topo, a) & _faces_at(topo, b)
        on = [int(n) for n in around if n != a and not (_faces_at(topo, b) & _faces_at(topo, int(n)) & beside)]
        if len(on) != 1 or on[0] in seen:
            return out
        out.append(on[0])
        seen.add(on[0])


def _faces_at(topo: Topology, point: int) -> set[int]:
    rows, corners = topo.point_corners
    return {int(f) for f in topo.corner_face[corners[rows[point] : rows[point + 1]]]}


def _inside(character: Character, points: np.ndarray) -> np.ndarray:
    out = np.zeros(len(character.points), bool)
    out[points] = True
    return out
