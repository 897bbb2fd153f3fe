"""How a body is mirrored that is the same on both sides: its points, and the bones that hold them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..geometry.health import mirror_distance
from ..tolerances import PAIR


@dataclass(frozen=True)
class Mirror:
    """Of a body that is the same on both sides: other (n,) each point's mirror point, partner (b,) each bone's, side (n,) the
    sign of x, 0 on the middle."""

    other: np.ndarray
    partner: np.ndarray
    side: np.ndarray


def mirror_of(points: np.ndarray, partner: np.ndarray, size: float) -> Mirror | None:
    """How a body with points (n, 3) is mirrored about x = 0, where they and the joints are; otherwise None.

    partner (b,): the mirrored bones, −1 where they aren't.
    """
    if not len(points) or (partner < 0).any():
        return None
    distance, other = mirror_distance(points)
    if distance.max() > PAIR * size or (other[other] != np.arange(len(points))).any():
        return None
    return Mirror(other, partner, np.where(other == np.arange(len(points)), 0, np.where(points[:, 0] > 0, 1, -1)))
