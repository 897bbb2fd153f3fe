"""What brushes do live: the page is told of each batch of a stroke's places before any step is done."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core.skin.brush import Painting
from ..steps.registry import parsed
from ..steps.skin import Paint
from .live import BRUSHES, Session, Stroke, Told


def paint_skin(session: Session, stroke: Stroke, new: Sequence[tuple[float, ...]]) -> Told:
    """A brush over skin weights.  `how` is the step's parameters without the places, and `shows`: the joint whose weight the
    page shows.  Blocks: which points, that joint's weight there, and where they are in the pose at hand."""
    how = dict(stroke.how)
    shows = str(how.pop("shows", ""))
    if stroke.kept is None:
        _, params = parsed("skin.paint", {**how, "samples": [(0.0,) * 7]})
        assert isinstance(params, Paint)
        stroke.kept = Painting(stroke.character, params.as_brush())
    painting: Painting = stroke.kept
    rows = np.sort(painting.put(new))
    if not len(rows) or session.deformer is None:
        return {}, ()
    order = np.array([stroke.character.joint_index[n] for n in painting.names], np.uint16)
    index, weights = painting.index[rows], painting.weights[rows]
    session.deformer.hold(rows, order[index], weights)
    number = painting.names.index(shows) if shows in painting.names else -1
    values = np.where(index == number, weights, 0).sum(1)
    return {}, (("at", rows), ("values", values), ("places", session.patch(rows)))


BRUSHES["skin"] = paint_skin
