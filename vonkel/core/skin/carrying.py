"""Weights carried to other points: from a file, from a mesh that was cut otherwise, from one part to another.

By number where the points are the same; else by place and by which way the skin faces, and how sure that is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix
from scipy.spatial import cKDTree

from ..character import Character, Skin
from ..errors import StepRefused
from ..geometry.topology import point_normals, topology_of
from ..tolerances import PAIR
from ..weights import WeightTable, table_of, with_table
from .edits import Rows

NEAR = 8  # points of the source that one point listens to
FACING = 0.35  # the cosine below which skin faces another way and isn't listened to, where others do
FAR = 0.03  # of the size: from there on nothing is sure
SURE = 0.5


@dataclass(frozen=True)
class Source:
    """Weights with where they are: places (m, 3) metres at rest, normals (m, 3), the table of m rows."""

    places: np.ndarray
    normals: np.ndarray
    table: WeightTable


def source_of(character: Character, points: np.ndarray | None = None) -> Source:
    """A character's weights, of all points or some (p,).  Raises StepRefused without a skin."""
    if character.skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
    normals = point_normals(character.points, topology_of(character).triangles)
    table = table_of(character)
    some = slice(None) if points is None else points
    return Source(character.points[some], normals[some], WeightTable(table.joints, table.held[some]))


def carried(character: Character, source: Source, points: np.ndarray | None = None) -> tuple[Character, np.ndarray]:
    """The character held as the source says, all of it or some points (p,); how sure each of them is (p,), 0–1.

    Joints are found by name; what is held by joints that aren't here goes to the others.  Raises StepRefused where no name is
    known here.
    """
    known = {j.name for j in character.joints if j.deforms}
    mine = tuple(n for n in source.table.joints if n in known)
    table = source.table.with_joints(mine) if mine else None
    if table is None or table.held.sum() <= 0:
        raise StepRefused("None of its joints is here by name.", character.name, "Rename joints first, or bind.")
    at = np.arange(len(character.points)) if points is None else points
    mean, sure = _listened(character, source, at, np.asarray(table.sums() > 0))
    rows = WeightTable(mine, (mean @ table.normalised().held).tocsr()).normalised()
    if character.skin is None:
        bare = character.with_(skin=Skin(joints=mine))
        return with_table(bare, rows, 4), sure
    changed, dense = Rows(character), rows.held.toarray()
    wanted = {n: dense[:, k] for k, n in enumerate(mine) if n not in changed.skin.locked}
    others = [n for n in changed.names if n not in mine and n not in changed.skin.locked]
    changed.put(at, wanted | {n: np.zeros(len(at)) for n in others})
    return changed.result(), sure


def _listened(character: Character, source: Source, at: np.ndarray, heard: np.ndarray) -> tuple[csr_matrix, np.ndarray]:
    """(p, m) shares in which points listen to those of the source, rows summing to one; how sure (p,)."""
    size, count = max(character.size, 1e-12), len(source.places)
    places = character.points[at]
    if count == len(places) and np.abs(source.places - places).max(initial=0.0) <= PAIR * size and heard.all():
        return _one_to_one(count), np.ones(count)
    normals = point_normals(character.points, topology_of(character).triangles)[at]
    usable = np.flatnonzero(heard)
    k = min(NEAR, len(usable))
    away, near = cKDTree(source.places[usable]).query(places, k)
    away, near = away.reshape(len(at), k), usable[near.reshape(len(at), k)]
    facing = np.einsum("pkj,pj->pk", source.normals[near], normals)
    fits = np.where(facing > FACING, facing, 0.0)
    fits[fits.max(1) <= 0] = 1.0
    reach = np.maximum(away[:, :1], 1e-6 * size)
    share = fits / (away + 0.1 * reach) ** 2
    share /= share.sum(1, keepdims=True)
    rows = np.repeat(np.arange(len(at)), k)
    best = np.argmax(fits / (away + 1e-9 * size), axis=1)
    nearest = away[np.arange(len(at)), best]
    sure = np.clip(1.0 - nearest / (FAR * size), 0.0, 1.0) * np.clip(facing.max(1), 0.0, 1.0)
    return csr_matrix((share.ravel(), (rows, near.ravel())), shape=(len(at), count)), sure


def _one_to_one(count: int) -> csr_matrix:
    return csr_matrix((np.ones(count), (np.arange(count), np.arange(count))), shape=(count, count))
