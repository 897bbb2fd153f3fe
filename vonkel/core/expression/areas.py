"""Regions of a face by its marks: each ear whole, the brows, the eyes and the mouth, so that shapes keep to their own."""

from __future__ import annotations

import numpy as np

from ..face.estimate import Estimate
from ..geometry.easing import smoothstep
from ..geometry.measures import distance_to_segments
from ..geometry.rotations import unit
from .units import Sculptor

BROAD = 0.8  # how far off its middle line an ear reaches, of its length
FADE = 0.18  # over which an ear's root fades into the head, of its length
EYES, BROWS, MOUTH = (
    0.06,
    0.10,
    0.13,
)  # how far about lids, brows and lips their regions reach, shares of the head's size
FULL = 2.0  # so much of a bell's height counts as whole


def ear_area(face: Estimate, side: str) -> np.ndarray | None:
    """(n,) 0 to 1: one ear from its root outwards, in one piece; None where its marks aren't there."""
    head, spots = face.head, face.spots
    if f"ear_{side}" not in spots or f"ear_tip_{side}" not in spots:
        return None
    root, tip = spots[f"ear_{side}"].place, spots[f"ear_tip_{side}"].place
    long = float(np.linalg.norm(tip - root))
    if long < 1e-9 * head.size:
        return None
    along = (head.p - root) @ unit(tip - root) / long
    off = distance_to_segments(head.p, np.array([[root, tip + 0.3 * (tip - root)]])) / long
    inside = head.surface & (along > -FADE) & (off < BROAD)
    near = int(np.argmin(np.where(head.surface, np.linalg.norm(head.p - tip, axis=1), np.inf)))
    inside[near] = True
    piece = next(rows for rows in head.pieces(inside) if near in rows)
    out = np.zeros(len(head.p))
    out[piece] = smoothstep((along[piece] + FADE) / (2 * FADE))
    return out if (out > 0).any() else None


def areas(face: Estimate, s: Sculptor) -> dict[str, np.ndarray]:
    """Regions by name, (n,) 0 to 1 over the head's points; those that the face has marks for."""
    out: dict[str, np.ndarray] = {}
    for side in "LR":
        ear = ear_area(face, side)
        if ear is not None:
            out[f"ear_{side}"] = ear
    rims = [e.loop for e in face.eyes if e.loop is not None]
    if rims:
        out["eyes"] = _about(s, np.concatenate(rims), EYES)
        for name in ("ear_L", "ear_R"):  # an ear's root gives way to lids
            if name in out:
                out[name] = out[name] * (1.0 - out["eyes"])
    brows = [face.spots[n].place for n in face.spots if n.startswith("brow")]
    if brows:
        out["brows"] = _about(s, s.near(np.array(brows)), BROWS)
    if s.speaks:
        out["mouth"] = _about(s, np.concatenate(s.lips), MOUTH)
    return out


def _about(s: Sculptor, rows: np.ndarray, reach: float) -> np.ndarray:
    return np.clip(FULL * s.bell(rows, reach) - 0.02, 0.0, 1.0)
