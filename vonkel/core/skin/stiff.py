"""Small hard things on a body: a button, a claw, a scale moves as one."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix, diags

from ..geometry.topology import SHEET
from .bones import Reach
from .ways import Ways

SMALL = 0.05  # sizes: the longest side of the box round a piece that is stiff
ALONG = np.linspace(0.0, 1.0, 17)  # of a bone: where it is looked for in a box; a box that it only grazes doesn't bend


def stiffened(table: csr_matrix, ways: Ways, reach: Reach) -> csr_matrix:
    """Weights (n, b) with one row throughout each small closed piece that no bone passes through: the mean of its own."""
    piece, count = ways.piece, int(ways.piece.max(initial=-1)) + 1
    if count < 2:
        return table
    high, low = np.full((count, 3), -np.inf), np.full((count, 3), np.inf)
    np.maximum.at(high, piece, ways.points)
    np.minimum.at(low, piece, ways.points)
    edges = 0.5 * np.bincount(piece, np.diff(ways.rows), count)
    faces = np.bincount(piece[ways.triangles[:, 0]], minlength=count)
    closed = (faces > 0) & (2 * edges - 3 * faces <= SHEET * edges)
    small = np.flatnonzero(closed & ((high - low).max(1) < SMALL))
    bones = (reach.start[:, None] + ALONG[:, None] * reach.way[:, None]).reshape(-1, 3)
    through = [bool(((bones > low[k]) & (bones < high[k])).all(1).any()) for k in small]
    stiff = np.isin(piece, small[~np.array(through, bool)])
    if not stiff.any():
        return table
    share = ways.areas * stiff
    of_piece = csr_matrix((share, (piece, np.arange(len(piece)))), (count, len(piece)))
    mean = diags(1.0 / np.maximum(np.asarray(of_piece.sum(1)).ravel(), 1e-300)) @ of_piece @ table
    return (diags((~stiff).astype(float)) @ table + diags(stiff.astype(float)) @ mean.tocsr()[piece]).tocsr()
