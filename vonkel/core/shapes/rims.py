"""Coloured bands (lips, lids) kept even: in a shape a band goes where it is moved, and keeps its width.

As rigid as possible surface modelling (Sorkine & Alexa 2007), over the band and what it borders on alone, with every point
drawn to where the shape puts it: a little in the band's own run, more along its middle.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

from ..character import Character
from ..geometry.topology import topology_of
from .moves import moves_of, with_moves
from .regions import amounts_of

ROUNDS = 12
DRAWN = 0.05  # how much a point of the band is drawn to where the shape puts it, against its own edges
HELD = 0.5  # of the amount: from here a point is of the band


def rims_kept(character: Character, shape: str, touched: np.ndarray) -> Character:
    """The shape with every rim region that `touched` (n,) meets brought back to an even band."""
    for region in character.regions:
        if region.rim and touched[amounts_of(character, region.name) >= HELD].any():
            character = rim_kept(character, shape, region.name)
    return character


def band_edges(character: Character, region: str) -> np.ndarray:
    """(e, 2): the edges within a region."""
    inside = amounts_of(character, region) >= HELD
    edges = topology_of(character).edges
    return np.asarray(edges[inside[edges].all(1)])


def unevenness(character: Character, shape: str, region: str) -> float:
    """How unlike the stretches of a band's edges are in a shape: the spread of their logarithms; 0 is all alike."""
    edges = band_edges(character, region)
    if len(edges) < 2:
        return 0.0
    rest = character.points
    moved = rest + moves_of(character, shape)
    was, now = (np.linalg.norm(p[edges[:, 0]] - p[edges[:, 1]], axis=1) for p in (rest, moved))
    return float(np.log(np.maximum(now, 1e-9) / np.maximum(was, 1e-9)).std())


def rim_kept(character: Character, shape: str, region: str) -> Character:
    """The shape with that band even again; points beside it stay where the shape puts them."""
    edges = band_edges(character, region)
    if len(edges) < 3:
        return character
    moves = moves_of(character, shape)
    points = np.unique(edges)
    number = np.full(len(moves), -1)
    number[points] = np.arange(len(points))
    a, b = number[edges].T
    rest, wanted = character.points[points], (character.points + moves)[points]
    place = _as_rigid(rest, wanted, a, b)
    moves[points] += place - wanted
    return with_moves(character, shape, moves)


def _as_rigid(rest: np.ndarray, wanted: np.ndarray, a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(p, 3): points whose edges a–b (e,) are as at rest (p, 3) but turned, each near to where it is wanted (p, 3)."""
    n = len(rest)
    ones = np.ones(len(a))
    near = sparse.coo_matrix((np.r_[ones, ones], (np.r_[a, b], np.r_[b, a])), (n, n)).tocsr()
    degree = np.asarray(near.sum(1)).ravel()
    system = sparse.diags(degree + DRAWN * degree.mean()) - near
    solve = splu(system.tocsc()).solve
    side = rest[a] - rest[b]
    place = wanted.copy()
    for _ in range(ROUNDS):
        now = place[a] - place[b]
        cross = np.zeros((n, 3, 3))
        outer = side[:, :, None] * now[:, None, :]
        np.add.at(cross, a, outer)
        np.add.at(cross, b, outer)
        u, _, vt = np.linalg.svd(cross)
        turn = np.swapaxes(u @ vt, 1, 2)
        flipped = np.linalg.det(turn) < 0
        vt[flipped, 2] *= -1
        turn[flipped] = np.swapaxes(u[flipped] @ vt[flipped], 1, 2)
        asked = 0.5 * np.einsum("eij,ej->ei", turn[a] + turn[b], side)
        right = DRAWN * degree.mean() * wanted
        np.add.at(right, a, asked)
        np.add.at(right, b, -asked)
        place = solve(right)
    return np.asarray(place)
