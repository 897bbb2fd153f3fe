"""How far limbs hold past a body's middle: hardly.

What lies nearer to where the other limb of a pair begins is that one's or the trunk's, on bodies that stand straight as on posed ones.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix

from .bones import Reach

LEAST = 0.04  # what a limb may still hold there where skin is eased
SPLAYED = 1.5  # times as far apart as their starts are the ends of two bones that lead out to limbs
BEYOND = 0.04  # sizes that a point may be nearer to the other limb's beginning, at which this one has let go


@dataclass(frozen=True)
class Middle:
    """limb (b,) int64: the limb of a pair that each bone is in (−1: none); share (n, limbs): what each may keep at each point."""

    limb: np.ndarray
    share: np.ndarray

    @staticmethod
    def of(points: np.ndarray, owner: np.ndarray, reach: Reach) -> Middle:
        """For points (n, 3) that bones `owner` (n,) own, −1 where none does: a limb keeps all of its own."""
        roots = sorted({int(r) for r in reach.root if r >= 0})
        limb = np.array([roots.index(r) if r >= 0 else -1 for r in reach.root], np.int64).reshape(-1)
        across = [roots.index(int(reach.across[r])) for r in roots]
        first = [int(np.flatnonzero(reach.bone == r)[0]) for r in roots]
        start, end = reach.start[first].reshape(-1, 3), (reach.start + reach.way)[first].reshape(-1, 3)
        # collars begin beside one another, which tells no side: shoulders do
        apart = [np.linalg.norm(p - p[across], axis=1) for p in (start, end)]
        place = np.where((apart[1] > SPLAYED * apart[0])[:, None], end, start)
        away = np.stack([np.linalg.norm(points - p, axis=1) for p in place], 1) if roots else np.zeros((len(points), 0))
        share = np.clip(1.0 - (away - away[:, across]) / BEYOND, 0.0, 1.0)
        own = np.where(owner >= 0, limb[np.maximum(owner, 0)], -1)
        held = np.flatnonzero(own >= 0)
        share[held, own[held]] = 1.0
        return Middle(limb, share)

    def let_go(self, table: csr_matrix) -> csr_matrix:
        """Weights (n, b) without what limbs hold beyond the middle, rows whole again."""
        held = table.tocoo()
        limb = self.limb[held.col]
        kept = np.where(limb >= 0, self.share[held.row, limb], 1.0) if self.share.size else np.ones(len(limb))
        out = csr_matrix((held.data * kept, (held.row, held.col)), held.shape)
        total = np.asarray(out.sum(1)).ravel()
        return csr_matrix(out.multiply(1.0 / np.where(total > 0, total, 1.0)[:, None]))

    @property
    def limits(self) -> np.ndarray:
        """(n, limbs) the most that each limb may hold of a point where skin is eased.

        What has grown together must be allowed to be held by both; other limbs hardly are.
        """
        return np.asarray(np.maximum(self.share, LEAST))
