"""Eyes found on a head: eyeballs of their own, pieces that are balls, dark pits, or bumps ringed by a crease."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from ..geometry.rays import first_hits
from ..geometry.rotations import unit
from ..geometry.spheres import fit_sphere
from ..geometry.topology import labels_of
from .head import EYE_SIZES, Head, directions

Kind = Literal["ball", "pit", "sculpted"]
STRAYS = 0.11, 0.15  # of the radius: a loop that goes so far from the swept edge follows no rim of lids
IN_PIT = np.radians(52)  # the ball behind a pit: how far its rim stands off the ball's axis


@dataclass(eq=False)
class Eye:
    """One eye.  centre (3,) and radius in the head's frame; points: rows of its ball (empty where it has none).

    frame (3, 3): rows from the inner to the outer corner, up, outwards.  rim (k, 3): the edge of the opening in order, from the
    inner corner over the top; split: where the outer corner stands in it.  loop: rows of the skin along the edge, closed; upper and
    lower: the same from the inner to the outer corner.  sure: 0 to 1, for its being an eye at all.
    """

    side: Literal["L", "R"]
    centre: np.ndarray
    radius: float
    kind: Kind
    points: np.ndarray
    sure: float
    axis: np.ndarray = field(default_factory=lambda: np.array([0.0, 0.0, 1.0]))
    frame: np.ndarray = field(default_factory=lambda: np.eye(3))
    rim: np.ndarray = field(default_factory=lambda: np.zeros((0, 3)))
    split: int = 0
    loop: np.ndarray | None = None
    upper: np.ndarray | None = None
    lower: np.ndarray | None = None
    shelled: bool = False  # its lids are shells of their own
    astray: float = 0.0  # how far the loop goes from the swept edge at the most, in radii

    @property
    def corners(self) -> tuple[np.ndarray, np.ndarray]:
        return self.rim[0], self.rim[self.split]

    @property
    def rimmed(self) -> float:
        """0 to 1: whether edges of the mesh run along the opening.  Where skin merely ends in a ball the path along it strays."""
        if self.loop is None:
            return 0.0
        return float(np.clip((STRAYS[1] - self.astray) / (STRAYS[1] - STRAYS[0]), 0.0, 1.0))

    @property
    def opens(self) -> bool:
        return self.loop is not None


def of_side(eyes: list[Eye], side: str) -> Eye | None:
    return next((e for e in eyes if e.side == side), None)


def find_eyes(head: Head) -> list[Eye]:
    """Left eye first; none, one or two."""
    eyes = _own_parts(head) or _ball_pieces(head) or _pits(head) or _bumps(head)
    shells = head.p[head.inside & (head.role == "lid")]
    for eye in eyes if len(shells) else ():
        eye.shelled = bool((np.linalg.norm(shells - eye.centre, axis=1) < 1.5 * eye.radius).any())
    return eyes


def _likely(head: Head, c: np.ndarray) -> float:
    """How well a place suits an eye: on the upper front of the head, off the middle; 0 to 1."""
    q = (c - head.low) / (head.high - head.low)
    top = (c[1] - head.low[1]) / max(head.crown[1] - head.low[1], 1e-9)
    x = abs(c[0]) / max(head.high[0], 1e-9)
    return float(np.exp(-(((top - 0.72) / 0.25) ** 2) - ((q[2] - 0.75) / 0.35) ** 2 - ((x - 0.5) / 0.4) ** 2))


def _own_parts(head: Head) -> list[Eye]:
    mask = head.inside & (head.role == "eye")
    balls = []
    for rows in head.pieces(mask):
        if len(rows) >= 8:
            c, r, miss = fit_sphere(head.p[rows])
            if EYE_SIZES[0] * head.size < r < EYE_SIZES[1] * head.size:
                balls.append((rows, c, r, miss / r))
    found = []
    sides: tuple[tuple[int, Literal["L", "R"]], ...] = ((1, "L"), (-1, "R"))
    for sign, side in sides:
        mine = [b for b in balls if sign * b[1][0] > 0.02 * head.size]
        if mine:  # concentric pieces, such as a white and a cornea, are one eye
            main = max(mine, key=lambda b: len(b[0]) * (1.2 - min(b[3], 1)))
            same = [b for b in mine if np.linalg.norm(b[1] - main[1]) < main[2]]
            found.append(
                Eye(
                    side, main[1], max(b[2] for b in same), "ball", np.concatenate([b[0] for b in same]),
                    float(np.clip(1 - 2 * main[3], 0.3, 1)),
                )
            )  # fmt: skip
    return found


Candidate = tuple[np.ndarray, np.ndarray, float, float, bool]


def _best_pair(head: Head, items: list[Candidate], least: float) -> tuple[float, Candidate, Candidate] | None:
    """The pair left and right (rows, centre, radius, score, ball) that is likeliest; a misfit of the mirror costs."""
    best = None
    for a in items:
        for b in items:
            if a[1][0] > 0 > b[1][0]:
                miss = float(np.linalg.norm(a[1] - b[1] * [-1, 1, 1])) / head.size + abs(a[2] - b[2]) / head.size
                score = a[3] + b[3] - 8 * miss
                if miss < 0.08 and (best is None or score > best[0]):
                    best = (score, a, b)
    return best if best is not None and best[0] > least else None


def _ball_pieces(head: Head) -> list[Eye]:
    """Pieces of the mesh, joined by place or before, that are balls or most of one, in mirrored pairs."""
    p = head.p
    joined = labels_of(head.edges, len(p))
    for label in (joined, head.seams):
        items: list[Candidate] = []
        own = np.flatnonzero(head.inside)
        order = own[np.argsort(label[own], kind="stable")]
        for rows in np.split(order, np.flatnonzero(np.diff(label[order])) + 1):
            if not 20 <= len(rows) <= 5000:
                continue
            c, r, miss = fit_sphere(p[rows])
            fits = EYE_SIZES[0] * head.size < r < EYE_SIZES[1] * head.size and miss < 0.12 * r
            if fits and np.ptp(p[rows], axis=0).max() > 1.2 * r:
                outwards = float(((p[rows] - c) * head.normals[rows]).sum(1).mean()) > 0
                if not outwards:  # the lining of a pit
                    c, r = _in_pit(p[rows], head.normals[rows])
                items.append((rows, c, r, _likely(head, c) - miss / r, outwards))
        best = _best_pair(head, items, 0.4)
        if best:
            break
    else:
        return []
    score, *pair = best
    found = []
    for side, (rows, c, r, _, ball) in zip(("L", "R"), pair, strict=True):
        own_ball = ball and label is joined
        if own_ball:
            head.role[rows] = "eye"
        found.append(
            Eye(
                side, c, r, "ball" if own_ball else "pit" if not ball else "sculpted",  # type: ignore[arg-type]
                rows if own_ball else np.zeros(0, int), float(np.clip(score / 2, 0.2, 0.9)) * (1.0 if own_ball else 0.6),
            )
        )  # fmt: skip
    for name in ("skin", "surface", "tri"):
        head.__dict__.pop(name, None)
    return found


def _in_pit(p: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, float]:
    """A ball behind the rim of a pit."""
    n = unit(normals.mean(0))
    far = p @ n
    rim = p[far >= np.percentile(far, 65)]
    middle = rim.mean(0)
    flat = rim - middle
    flat = flat - np.outer(flat @ n, n)
    spread = np.sort(np.linalg.eigvalsh(flat.T @ flat / len(flat)))[1:]
    r = float(np.sqrt(2 * spread).mean()) / np.sin(IN_PIT)
    return middle - r * np.cos(IN_PIT) * n, r


def _pits(head: Head) -> list[Eye]:
    items: list[Candidate] = []
    for rows in head.pieces(head.surface & (head.light < 0.55)):
        span = np.linalg.norm(np.ptp(head.p[rows], axis=0)) / head.size
        if len(rows) >= 5 and 0.04 < span < 0.6:
            c, r = _in_pit(head.p[rows], head.normals[rows])
            score = 1.2 * _likely(head, head.p[rows].mean(0)) - 0.5 * abs(np.log(span / 0.2))
            items.append((rows, c, r, score, False))
    best = _best_pair(head, items, 0.2)
    if not best:
        return []
    return [Eye(s, x[1], x[2], "pit", np.zeros(0, int), 0.35) for s, x in zip(("L", "R"), best[1:], strict=True)]  # type: ignore[arg-type]


def _bumps(head: Head) -> list[Eye]:
    """The mirrored pair of places where a convex middle is ringed by a crease: a weak sign."""
    p, size, b = head.p, head.size, np.clip(head.bend, -12, 12)
    mine = np.flatnonzero(head.surface)
    tree = cKDTree(p[mine])
    likely = np.array([_likely(head, q) for q in p[mine]])
    best: tuple[float, int, float] | None = None
    for r in size * np.array([0.06, 0.08, 0.1, 0.13, 0.16]):
        candidates = np.flatnonzero((p[mine, 0] > 0.03 * size) & (likely > 0.15))
        for k, rows in zip(candidates, tree.query_ball_point(p[mine[candidates]], 1.5 * r), strict=True):
            i, j = mine[k], mine[rows]
            d = np.linalg.norm(p[j] - p[i], axis=1) / r
            within, ring = d < 0.6, (d > 0.8) & (d < 1.5)
            if not within.any() or ring.sum() < 4:
                continue
            across = unit(np.cross([0, 1.0, 0], head.normals[i]))
            turn = np.arctan2(p[j[ring], 1] - p[i, 1], (p[j[ring]] - p[i]) @ across)
            sector = (turn / np.pi * 3.999 + 4).astype(int)
            least = np.full(8, 4.0)
            np.minimum.at(least, sector, b[j[ring]])
            score = float(likely[k] * (b[j[within]].mean() - np.sort(least)[5]))
            if best is None or score > best[0]:
                best = (score, int(i), float(r))
    if best is None or best[0] < 1.0:
        return []
    _, i, r = best
    n = unit(head.normals[i])
    return [
        Eye(side, (p[i] - 0.75 * r * n) * [sign, 1, 1], r, "sculpted", np.zeros(0, int), 0.2)  # type: ignore[arg-type]
        for sign, side in ((1, "L"), (-1, "R"))
    ]


def ball_surface(head: Head, eye: Eye) -> tuple[np.ndarray, np.ndarray]:
    """Directions (m, 3) from an eye's centre and how far its ball reaches there (m,): the outermost facet of balls that are doubled,
    lenses or coarse; an even sphere where there is none."""
    if not len(eye.points):
        u = directions(400)
        return u, np.full(len(u), eye.radius)
    mine = np.zeros(len(head.p), bool)
    mine[eye.points] = True
    u = directions(2400)
    u = u[u @ eye.axis > -0.3]
    far = 2.5 * eye.radius
    t, _ = first_hits(head.p, head.t[mine[head.t].all(1)], eye.centre + u * far, -u, 1e-9, far)
    return u, np.where(np.isfinite(t), far - t, eye.radius)
