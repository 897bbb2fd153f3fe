"""What stands on the sides of a face: ears, brows and the hinge of the jaw, each side on its own."""

from __future__ import annotations

import numpy as np

from ..geometry.rays import first_hits
from .eyes import Eye, of_side
from .head import Head
from .middle import Mouth, Spot

THIN = 0.17  # ears are thinner than this, a share of the head's size
LEAST_EAR = 0.012  # of its area, shares of the size squared: less is no ear
LIDDED = 1.9  # how far lids reach from an eye's centre, in its radii
SHEET = 1.35  # an ear is so much wider than thick, or more
RIDGE = 5.0  # a brow bends the skin at least so much, in 1 / size


def find_ear(head: Head, mouth: Mouth, eyes: list[Eye], sign: int, planned: np.ndarray | None) -> dict[str, Spot]:
    """The root and the tip of the ear on one side (sign 1: left): thin flesh behind the eyes and above the mouth.

    planned: where a plan put the ear's joint, in the head's frame: it followed the ear inwards to where it leaves the head.
    """
    size, p = head.size, head.p
    ok = head.surface & (sign * p[:, 0] > 0.1 * size) & (head.light > 0.2)
    eye = of_side(eyes, "L" if sign > 0 else "R")
    for other in eyes:  # lids are thin, too
        ok &= np.linalg.norm(p - other.centre, axis=1) > LIDDED * other.radius
    if eye is not None:
        ok &= p[:, 2] < eye.centre[2] - 0.2 * eye.radius
    if "mouth_upper" in mouth.spots:
        ok &= p[:, 1] > mouth.spots["mouth_upper"].place[1]
    i = np.flatnonzero(ok)
    if len(i) < 8:
        return {}
    n = head.normals[i]
    deep, _ = first_hits(p, head.tri, p[i] - n * 1e-4 * size, -n, 1e-5 * size, 3 * size)
    thin = np.zeros(len(p), bool)
    thin[i] = deep < THIN * size
    sized = [(_area(head, rows), rows) for rows in head.pieces(thin) if len(rows) >= 6]
    if not sized:
        return {}
    area, rows = max(sized, key=lambda x: x[0])
    within = np.zeros(len(p), bool)
    within[rows] = True
    e = head.edges
    border = np.unique(np.r_[e[within[e[:, 0]] & ~within[e[:, 1]], 0], e[within[e[:, 1]] & ~within[e[:, 0]], 1]])
    if not len(border):
        return {}
    middle = p[rows].mean(0)
    tip = p[rows][np.argmax(np.linalg.norm(p[rows] - 0.5 * (head.low + head.high), axis=1))]
    along = (p[border] - middle) @ (tip - middle)
    root = p[border[along <= np.percentile(along, 35)]].mean(0)  # its border runs round the rim of a cup, too
    spread = np.sqrt(np.maximum(np.linalg.eigvalsh(np.cov((p[rows] - middle).T)), 0))
    if 3.4 * spread[1] < SHEET * float(np.median(deep[within[i]])):  # as wide as thick: a horn, a feeler
        return {}
    long = float(np.linalg.norm(tip - root)) / size
    share = area / size**2
    if share < LEAST_EAR or long < 0.06:
        return {}
    sure = 0.45
    if planned is not None and np.linalg.norm(planned - root) < 0.35 * size:
        sure = 0.55 if np.linalg.norm(planned - root) < 0.12 * size else 0.45
        root = 0.5 * (root + planned)
    tag = "L" if sign > 0 else "R"
    return {
        f"ear_{tag}": Spot(root, sure, "where thin flesh leaves the head"),
        f"ear_tip_{tag}": Spot(tip, sure, "the farthest of it"),
    }


def _area(head: Head, rows: np.ndarray) -> float:
    within = np.zeros(len(head.p), bool)
    within[rows] = True
    t = head.tri[within[head.tri].all(1)]
    p = head.p
    return float(0.5 * np.linalg.norm(np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]]), axis=1).sum())


# How sure a place on a brow can be: its middle lies on the ridge, its ends on where somebody ends it.
BROWS = {"brow_inner": 0.52, "brow_outer": 0.52}


# Where a brow runs: along the line through the eye's corners from the inner one, and above the lid, shares of the eye's width.  It arches:
# its ends lie lower than its middle (the cast's marks by hand).
BROW_AT = {"inner": (-0.25, 0.42), "mid": (0.45, 0.55), "outer": (1.32, 0.26)}


def find_brow(head: Head, eye: Eye) -> dict[str, Spot]:
    """Three places along the ridge above an eye; nothing where no ridge stands out."""
    b, p, axes = head.bend, head.p, eye.frame
    inner, outer = eye.corners
    width = float(np.linalg.norm(outer - inner))
    top = eye.rim[int(np.argmax((eye.rim - eye.centre) @ axes[1]))]
    found, ridges = {}, []
    for name, (t, height) in BROW_AT.items():
        q = (p - (inner + t * (outer - inner))) @ axes.T
        up = (p - top) @ axes[1]
        ok = (
            head.surface & (np.abs(q[:, 0]) < 0.14 * width) & (up < 1.1 * width) & (head.normals @ eye.axis > 0)
            & (up > (0.22 if name == "mid" else 0.0) * width) & (head.light > 0.3)
            & (np.abs((p - eye.centre) @ axes[2]) < 2.5 * eye.radius)
        )  # fmt: skip
        i = np.flatnonzero(ok)
        if not len(i):
            return {}
        prior = np.exp(-(((up[i] / width - height) / 0.45) ** 2))
        k = int(i[np.argmax(np.clip(b[i], 0, 15) * prior + 0.5 * prior)])
        ridges.append(float(b[k] - np.median(b[i])))
        found[f"brow_{name}_{eye.side}"] = (p[k], ridges[-1])
    bends = sorted(float(b[int(np.argmin(np.linalg.norm(p - place, axis=1)))]) for place, _ in found.values())
    if bends[0] < RIDGE or bends[1] < 1.2 * RIDGE:  # a ridge runs along all of it
        return {}
    return {
        n: Spot(place, float(np.clip(0.30 + 0.06 * ridge, 0.2, BROWS.get(n[:-2], 0.6))), "the ridge above the lid")
        for n, (place, ridge) in found.items()
    }


# Where a jaw turns (common practice, and the cast's marks by hand): shares of the way from the corner of the mouth back to the ear, of
# the head's size behind the eye where there is no ear, of the way from the head's lowest place up to its crown, and of the head's half
# width there.
HINGE_BACK, HINGE_BEHIND, HINGE_HIGH, HINGE_OUT = 0.77, 0.33, 0.555, 0.73


def hinge_of_jaw(head: Head, mouth: Mouth, eyes: list[Eye], ear: Spot | None, sign: int) -> Spot | None:
    """Where the jaw turns, on one side: before the ear and above the corner of the mouth, a little beneath the skin."""
    tag = "L" if sign > 0 else "R"
    corner = mouth.spots.get(f"mouth_corner_{tag}")
    eye = of_side(eyes, tag)
    if corner is None or eye is None:
        return None
    at, size, p = corner.place, head.size, head.p
    z = at[2] + HINGE_BACK * (ear.place[2] - at[2]) if ear is not None else eye.centre[2] - HINGE_BEHIND * size
    z = min(z, at[2] - 0.1 * size)
    y = float(head.low[1] + HINGE_HIGH * (head.crown[1] - head.low[1]))
    side = (
        head.surface & (np.abs(p[:, 1] - y) < 0.06 * size) & (np.abs(p[:, 2] - z) < 0.08 * size) & (sign * p[:, 0] > 0)
    )
    x = HINGE_OUT * float(np.median(np.sort(np.abs(p[side, 0]))[-5:])) if side.any() else 0.3 * size
    sure = (0.35 if ear is not None else 0.25) * (1.0 if corner.sure > 0.5 else 0.7)
    return Spot(
        np.array([sign * x, y, z]), sure, "before the ear, above the corner" if ear is not None else "by proportion"
    )
