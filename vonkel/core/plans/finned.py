"""The plan for finned bodies: a long trunk along z, flippers or fins to the sides, a tail or hind flippers behind."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..character import Character
from ..errors import StepRefused
from ..geometry.measures import lengths_along
from ..geometry.voxels import Solid
from ..progress import tell
from . import landmarks as lm
from .shapes import Cut, bends, cut_at, cuts_along, deepest, evenly_along, filled, leaves_trunk, on_left
from .sketch import Sketch
from .trunk import lay_face


class FinnedOptions(BaseModel):
    """How many joints the plan has."""

    model_config = ConfigDict(extra="forbid")
    spine: int = Field(3, ge=2, le=12, description="links from the hips to the neck, the chest included")
    neck: int = Field(1, ge=1, le=6)
    tail: int = Field(4, ge=2, le=24, description="links from the hips to the end")
    fin: int = Field(3, ge=1, le=6, description="joints of each fin")


def sketch_finned(character: Character, options: FinnedOptions) -> Sketch:
    """Joints of a finned body.  Raises StepRefused where the body isn't longer than it is wide or tall."""
    tell(0.05, "filling the body")
    solid = filled(character, 140)
    cuts = cuts_along(solid)
    if cuts[-1].z - cuts[0].z < 0.5 * character.size:
        raise StepRefused("The body isn't long from back to front.", character.name, "Turn it to face +Z, head first.")
    centre = deepest(solid)
    distance = lm.from_cell(solid, centre)
    tell(0.3, "finding fins")
    c = solid.centres
    # Every way out of a finned trunk is short; a fin is a tip to the side.  Cheeks and eyes stick out less far.
    left = [b for b in lm.tips(solid, distance, 0.035 * character.size) if b.place[0] > 2.5 * solid.h]
    span, between = 0.55 * float(c[:, 0].max()), float(c[centre, 2]) - 0.25 * (c[centre, 2] - cuts[0].z)
    fore = [b for b in left if b.place[2] > between and b.place[0] > span]
    hind = [b for b in left if b.place[2] <= between]
    fin = _line(solid, max(fore, key=lambda b: b.length), centre) if fore else None
    sketch = Sketch()
    path = lay_long_trunk(
        solid,
        sketch,
        centre,
        distance,
        float(fin[0][2]) if fin is not None else None,
        options.spine,
        options.neck,
        options.tail,
    )
    tell(0.7, "laying fins")
    if fin is not None:
        _lay_fin(solid, sketch, "fin", "chest", fin, options.fin, "flipper")
    if hind:
        line = _line(solid, max(hind, key=lambda b: b.length), int(solid.nearest(path[:1])[0]))
        links = [n for n in sketch.found if n.startswith("tail_") and n != "tail_end"]
        holder = min(links, key=lambda n: float(np.linalg.norm(sketch.found[n][1] - line[0])))
        _lay_fin(solid, sketch, "hind_fin", holder, line, max(options.fin - 1, 1), "hind flipper")
    _lay_back_fin(character, solid, sketch, cuts, distance)
    lay_face(character, solid, sketch, ears=False)
    return sketch


def lay_long_trunk(
    solid: Solid, sketch: Sketch, centre: int, distance: np.ndarray, chest_z: float | None, spine: int, neck: int, tail: int
) -> np.ndarray:  # fmt: skip
    """Hips, spine, neck, head and tail along the middle of a body that lies along z.

    chest_z: where the fore limbs leave it; None for two thirds of the way.  Returns the middle line, tail first.
    """
    c = solid.centres
    on_plane = np.abs(c[:, 0]) < 0.75 * solid.h
    head = int(np.flatnonzero(on_plane)[np.argmax(distance[on_plane] * (c[on_plane, 2] > c[centre, 2]))])
    end = int(np.flatnonzero(on_plane)[np.argmax(distance[on_plane] * (c[on_plane, 2] < c[centre, 2]))])
    path = np.vstack([lm.way(solid, end, centre), lm.way(solid, centre, head)[1:]])
    path[:, 0] = 0.0
    total = float(lengths_along(path)[-1])
    chest_s = _s_of_z(path, chest_z) if chest_z is not None else 0.66 * total
    across = (1.0, 0.0, 0.0)
    head_s = _head(solid, path, chest_s, total)
    hips_s = 0.55 * chest_s
    places = evenly_along(path, hips_s, chest_s, spine + 1)
    inside = np.array([solid.kept(p) for p in places])
    sketch.put("hips", None, inside[0], "hips", hinge=across, mark="hips")
    chest = sketch.put_spine("hips", inside[1:], across, mark="chest")
    necks = evenly_along(path, chest_s + 0.35 * (head_s - chest_s), head_s, neck + 1)
    above = sketch.put_neck(chest, np.array([solid.kept(p) for p in necks[:-1]]), across)
    sketch.put("head", above, solid.kept(necks[-1]), "head", hinge=across, mark="head")
    sketch.put("head_end", "head", path[-1], "head_end", deforms=False, mark="muzzle")
    tails = evenly_along(path, 0.84 * hips_s, 0.0, tail + 1)
    inside = np.array([solid.kept(p) for p in tails[:-1]] + [path[0]])
    sketch.put_chain("tail", "hips", inside, hinge=across, mark="tail")
    return path


def _lay_back_fin(character: Character, solid: Solid, sketch: Sketch, cuts: list[Cut], distance: np.ndarray) -> None:
    """A fin that stands up on the back between hips and chest."""
    hips_z, chest_z = float(sketch.found["hips"][1][2]), float(sketch.found["chest"][1][2])
    found = []
    for b in lm.tips(solid, distance, 0.06 * character.size):
        c = cut_at(cuts, float(b.meet[2]))
        high = b.place[1] > c.low + 0.9 * (c.high - c.low)
        if abs(b.place[0]) < 1.5 * solid.h and high and hips_z < b.place[2] < chest_z:
            found.append(b)
    if found:
        tip = max(found, key=lambda b: b.length)
        places = np.array([solid.kept(tip.meet * [0, 1, 1]), tip.place * [0, 1, 1]])
        sketch.put_chain("back_fin", "chest", places, hinge=(0, 0, 1.0))


def _line(solid: Solid, tip: lm.Tip, goal: int) -> np.ndarray:
    """A fin's middle from the trunk to its tip, on the left."""
    path = lm.way(solid, int(solid.nearest(on_left(tip)[None])[0]), goal, even=2.0)
    return path[: leaves_trunk(solid, path, 0.4) + 1][::-1]


def _s_of_z(path: np.ndarray, z: float) -> float:
    along = lengths_along(path)
    return float(along[int(np.argmin(np.abs(path[:, 2] - z)))])


def _head(solid: Solid, path: np.ndarray, chest_s: float, total: float) -> float:
    """Metres along the path to the base of the head: past the narrowest place before it swells again."""
    along = lengths_along(path)
    depth = solid.depth[solid.nearest(path)]
    ok = np.flatnonzero((along > chest_s + 0.25 * (total - chest_s)) & (along < chest_s + 0.8 * (total - chest_s)))
    if not len(ok):
        return chest_s + 0.6 * (total - chest_s)
    k = ok[int(np.argmin(depth[ok]))]
    swells = depth[along > along[k]].max() > 1.12 * depth[k]
    return float(along[k]) if swells else chest_s + 0.6 * (total - chest_s)


def _lay_fin(solid: Solid, sketch: Sketch, stem: str, holder: str, line: np.ndarray, joints: int, mark: str) -> None:
    inner = [line[0], *(bends(line, joints - 1, 0.2) if joints > 1 else [])]
    places = np.array([solid.kept(p) for p in inner] + [line[-1]])
    sketch.put_chain(stem, holder, places, "_L", (0.0, 0.0, 1.0), mark=mark)
