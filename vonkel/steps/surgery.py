"""Steps of the Model station that cut into the mesh: support loops, triangles, fold lines, a mouth bag."""

from __future__ import annotations

import numpy as np
from pydantic import Field
from scipy.spatial import cKDTree

from ..core.character import Character
from ..core.geometry import loops
from ..core.geometry.topology import topology_of
from ..core.tolerances import PAIR
from .model import mesh_counts
from .registry import Params, step


def _across(character: Character, places: np.ndarray) -> list[int] | None:
    """The points on places (k, 3) mirrored across the body plane, or None where one of them has none."""
    d, i = cKDTree(character.points).query(places * [-1.0, 1.0, 1.0])
    return [int(v) for v in i] if (d < PAIR * character.size).all() else None


class SlideLoop(Params):
    edge: tuple[int, int] = Field(description="the two points of an edge that the new loop crosses")
    at: float = Field(0.5, gt=0.0, lt=1.0, description="where on that edge, from its first point")
    both_sides: bool = Field(True, description="the same loop on the other side, where the mesh is symmetric")


@step(
    "model.slide_loop",
    SlideLoop,
    lambda c, p: f"Slid in an edge loop at {100 * p.at:.0f} % of an edge",
    figures=mesh_counts,
)
def slide_loop(character: Character, p: SlideLoop) -> Character:
    """Slide a new edge loop in; texture places, weights and shapes are interpolated."""
    made = loops.with_loop(character, p.edge[0], p.edge[1], p.at)
    if not p.both_sides:
        return made
    there = _across(made, character.points[list(p.edge)])
    # The first loop may have split the partner's edge already: then it runs round both sides.
    if there and topology_of(made).edge_between(*there) >= 0:
        return loops.with_loop(made, there[0], there[1], p.at)
    return made


class Triangulate(Params):
    faces: tuple[int, ...] = Field(min_length=1, max_length=100_000)
    other_way: bool = Field(False, description="along the longer diagonal")


@step("model.triangulate", Triangulate, lambda c, p: f"Cut {len(p.faces)} faces into triangles", figures=mesh_counts)
def triangulate(character: Character, p: Triangulate) -> Character:
    """Cut chosen quads into triangles."""
    return loops.with_triangles(character, list(p.faces), p.other_way)


class Cut(Params):
    points: tuple[int, ...] = Field(min_length=2, max_length=100, description="the fold line runs through these")
    both_sides: bool = True


@step("model.cut", Cut, lambda c, p: "Cut the mesh along a fold line", figures=mesh_counts)
def cut(character: Character, p: Cut) -> Character:
    """Open the mesh along the shortest way of edges through chosen points, so that it can fold there."""
    made = loops.cut_along(character, loops.edge_path(character, list(p.points)))
    other = _across(character, character.points[list(p.points)]) if p.both_sides else None
    if other and not set(other) & set(p.points):
        places = character.points[other]
        again = [int(v) for v in cKDTree(made.points).query(places)[1]]
        made = loops.cut_along(made, loops.edge_path(made, again))
    return made


class MouthBag(Params):
    point: int = Field(description="any point on the open border of the lips")
    centimetres: float = Field(gt=0.01, lt=1000, description="how deep the bag goes")
    rings: int = Field(4, ge=1, le=40)
    widen: float = Field(1.15, ge=0.3, le=3.0, description="how much wider it becomes behind the lips")


@step("model.mouth_bag", MouthBag, lambda c, p: f"Grew a mouth bag {p.centimetres:g} cm deep", figures=mesh_counts)
def mouth_bag(character: Character, p: MouthBag) -> Character:
    """Grow a bag from an open lip border inwards and close it, welded to the lips."""
    return loops.with_mouth_bag(character, p.point, p.centimetres / 100.0, p.rings, p.widen)
