"""What brushes do live: the page is told of each batch of a stroke's places before any step is done."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..core.errors import BadParameters
from ..core.shapes import moves_of
from ..core.shapes.sculpt import Sculpting
from ..core.skin.brush import Painting
from ..core.skin.zones import Zoning, both_sides
from ..steps.regions import PaintRegion
from ..steps.registry import parsed
from ..steps.shapes import Stroke as SculptStroke
from ..steps.skin import Paint, Zones
from .live import BRUSHES, Session, Stroke, Told

NUMBERS = 9  # of one zone in a sample


def paint_skin(session: Session, stroke: Stroke, new: Sequence[tuple[float, ...]]) -> Told:
    """A brush over skin weights.  `how` is the step's parameters without the places, and `shows`: the joint whose weight the
    page shows.  Blocks: which points, that joint's weight there, and where they are in the pose at hand."""
    how = dict(stroke.how)
    how.pop("shows", None)
    if stroke.kept is None:
        _, params = parsed("skin.paint", {**how, "samples": [(0.0,) * 7]})
        assert isinstance(params, Paint)
        stroke.kept = Painting(stroke.character, params.as_brush())
    painting: Painting = stroke.kept
    rows = np.sort(painting.put(new))
    if painting.mix is not None:
        return _blended(session, rows, painting.mix)
    return _told(session, stroke, rows, painting.names, painting.index, painting.weights)


def _blended(session: Session, rows: np.ndarray, mix: np.ndarray) -> Told:
    """Points whose blend changed, what it is by now, and where they are with it."""
    if not len(rows) or session.deformer is None:
        return {}, ()
    session.deformer.blend(rows, mix)
    return {}, (("at", rows), ("values", mix[rows]), ("places", session.patch(rows)))


def _told(
    session: Session, stroke: Stroke, rows: np.ndarray, names: list[str], index: np.ndarray, weights: np.ndarray
) -> Told:
    """Points whose rows changed, the weight there of the joint that the page shows, and where they are by now."""
    if not len(rows) or session.deformer is None:
        return {}, ()
    shows = str(stroke.how.get("shows", ""))
    order = np.array([stroke.character.joint_index[n] for n in names], np.uint16)
    index, weights = index[rows], weights[rows]
    session.deformer.hold(rows, order[index], weights)
    number = names.index(shows) if shows in names else -1
    values = np.where(index == number, weights, 0).sum(1)
    return {}, (("at", rows), ("values", values), ("places", session.patch(rows)))


def size_zones(session: Session, stroke: Stroke, new: Sequence[tuple[float, ...]]) -> Told:
    """Zones while they are dragged: a sample is both ends, both radii and how soft; `how` names the bones, one for each
    nine numbers of a sample, `both_sides`, and `shows` as for the brush.  Of a batch the last counts."""
    if not new:
        return {}, ()
    zoning: Zoning = stroke.kept or Zoning(stroke.character)
    stroke.kept = zoning
    joints = [str(n) for n in stroke.how.get("joints", ())]
    said = new[-1]
    if not joints or len(said) != NUMBERS * len(joints):
        raise BadParameters("A zone is nine numbers for each bone.", "samples", "Reload the page.")
    _, params = parsed(
        "skin.zones",
        {"zones": [_zone(n, said[NUMBERS * i : NUMBERS * (i + 1)]) for i, n in enumerate(joints)]},
    )
    assert isinstance(params, Zones)
    zones = [z.as_zone() for z in params.zones]
    rows = zoning.put(both_sides(stroke.character, zones) if stroke.how.get("both_sides") else zones)
    held = zoning.rows
    return _told(session, stroke, rows, held.names, held.index, held.weights)


def _zone(joint: str, n: Sequence[float]) -> dict[str, Any]:
    return {
        "joint": joint, "start": n[0:3], "end": n[3:6], "start_radius": n[6], "end_radius": n[7], "soft": n[8],
    }  # fmt: skip


def sculpt(session: Session, stroke: Stroke, new: Sequence[tuple[float, ...]]) -> Told:
    """A brush over a shape.  `how` is the step's parameters without the places.  Blocks: which points, and where they are."""
    if stroke.kept is None:
        _, params = parsed("shapes.sculpt", {**stroke.how, "samples": [(0.0,) * 7]})
        assert isinstance(params, SculptStroke)
        stroke.kept = params.sculpting(stroke.character)
    sculpting: Sculpting = stroke.kept
    rows = sculpting.put(new)
    if not len(rows) or session.deformer is None:
        return {}, ()
    for name, moves in sculpting.moves.items():
        session.deformer.hold_shape(name, rows, moves[rows])
    return {}, (("at", rows), ("places", session.patch(rows)))


def mask(session: Session, stroke: Stroke, new: Sequence[tuple[float, ...]]) -> Told:
    """A brush over a region.  Blocks: which points, and by how much they are of it."""
    if stroke.kept is None:
        _, params = parsed("regions.paint", {**stroke.how, "samples": [(0.0,) * 7]})
        assert isinstance(params, PaintRegion)
        stroke.kept = params.masking(stroke.character)
    rows = stroke.kept.put(new)
    if not len(rows):
        return {}, ()
    return {}, (("at", rows), ("values", stroke.kept.amounts[rows]), ("places", session.patch(rows)))


PLACED = 12  # numbers of a sample: pivot, move, turn in degrees, size


def place(session: Session, stroke: Stroke, new: Sequence[tuple[float, ...]]) -> Told:
    """A shape moved as a whole: a sample is pivot, move, turn and size; of a batch the last counts."""
    if not new or session.deformer is None:
        return {}, ()
    said = new[-1]
    if len(said) != PLACED:
        raise BadParameters("A place of a shape is twelve numbers.", "samples", "Reload the page.")
    told = {"pivot": said[0:3], "move": said[3:6], "turn": said[6:9], "size": said[9:12]}
    kind, params = parsed("shapes.place", {**stroke.how, **told})
    shape = str(stroke.how.get("shape", ""))
    moves = moves_of(kind.run(stroke.character, params), shape)
    before = stroke.kept if stroke.kept is not None else moves_of(stroke.character, shape)
    rows = np.flatnonzero((moves != before).any(1))
    stroke.kept = moves
    if not len(rows):
        return {}, ()
    session.deformer.hold_shape(shape, rows, moves[rows].astype(np.float32))
    return {}, (("at", rows), ("places", session.patch(rows)))


BRUSHES["sculpt"] = sculpt
BRUSHES["mask"] = mask
BRUSHES["place"] = place
BRUSHES["skin"] = paint_skin
BRUSHES["zone"] = size_zones
