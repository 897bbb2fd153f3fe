"""How much of each point of a head goes with the jaw."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix, diags
from scipy.sparse.linalg import splu

from ..face.estimate import Estimate
from ..face.head import Head
from ..face.middle import DARK
from ..geometry.easing import smoothstep
from ..geometry.measures import distance_to_segments
from ..geometry.rotations import unit

INNER = 0.35  # from so far along the jaw, from its hinge, the inside of a mouth is floor or roof; behind it is throat
SOFT = 0.06  # how far edges of what is held are softened, shares of the head's size


@dataclass(frozen=True, eq=False)
class Jaw:
    """hinge and chin (3,), in the head's frame; share (n,): how much of each point goes with the jaw, 0 to 1."""

    hinge: np.ndarray
    chin: np.ndarray
    share: np.ndarray

    def opened(self, p: np.ndarray, degrees: float) -> np.ndarray:
        """Points (n, 3) turned about the hinge's level axis, each by its share of the angle."""
        a = np.radians(degrees) * self.share
        q = p - self.hinge
        c, s = np.cos(a), np.sin(a)
        return np.asarray(self.hinge + np.stack([q[:, 0], c * q[:, 1] - s * q[:, 2], s * q[:, 1] + c * q[:, 2]], 1))


def find_jaw(face: Estimate) -> Jaw | None:
    """The jaw's turn by the marks; None where a mark that it needs is missing."""
    spots = face.spots
    hinges = [spots[n].place for n in ("jaw_hinge_L", "jaw_hinge_R") if n in spots]
    corners = {s: spots[f"mouth_corner_{s}"].place for s in "LR" if f"mouth_corner_{s}" in spots}
    if not hinges or not corners or "chin" not in spots or "mouth_upper" not in spots:
        return None
    hinge = np.mean(hinges, axis=0) * [0, 1, 1]
    chin = spots["chin"].place
    return Jaw(hinge, chin, _shares(face, hinge, chin, corners))


def _shares(face: Estimate, hinge: np.ndarray, chin: np.ndarray, corners: dict[str, np.ndarray]) -> np.ndarray:
    """Lips and jaw bone 1, upper lip, nose and all above 0, corners ½, behind the hinge and under the throat 0; harmonic between."""
    head, mouth = face.head, face.mouth
    p, size, n = head.p, head.size, len(head.p)
    ahead = unit((chin - hinge) * [0, 1, 1])
    long = float(np.linalg.norm(chin - hinge))
    over = np.array([0.0, ahead[2], -ahead[1]])
    t, h = (p - hinge) @ ahead / long, (p - hinge) @ over / long
    corner = np.mean(list(corners.values()), axis=0) * [0, 1, 1]
    hc = float((corner - hinge) @ over / long)
    held = np.full(n, np.nan)
    still = (t < -0.12) | (h < -0.45 - 0.25 * (1 - np.clip(t, 0, 1))) | (h > max(hc, 0) + 0.45 - 0.1 * np.clip(t, 0, 1))
    held[still & head.skin] = 0
    leaves = _leaving(face, corners) if mouth.upper is not None and mouth.lower is not None else None
    if leaves is not None:
        _lips_apart(face, corners, leaves, held)
    else:
        _lips_by_line(face, corners, h, held)
    if mouth.kind == "open":  # the floor of the mouth goes with the jaw, its roof stays
        wide = max(abs(float(c[0])) for c in corners.values())
        inside = (
            head.surface & (head.light < DARK) & (t > INNER) & (np.abs(p[:, 0]) < 0.55 * wide) & (np.abs(h - hc) < 0.3)
        )
        for eye in face.eyes:
            inside &= np.linalg.norm(p - eye.centre, axis=1) > 1.6 * eye.radius
        rises = head.normals @ over
        floor, roof = inside & (rises > 0.6) & np.isnan(held), inside & (rises < -0.6) & np.isnan(held)
        held[floor], held[roof] = 1, 0
        still |= floor | roof
    for place in corners.values():
        d = np.where(head.skin, np.linalg.norm(p - place, axis=1), np.inf)
        held[int(np.argmin(d))] = 0.5
    surface = head.surface & np.isnan(held)
    bone = (t > 0.55) & (t < 1.3) & (h < min(0.0, hc - 0.25)) & (h > -0.28) & surface
    held[bone] = 1
    under = head.surface if mouth.upper is None else head.surface & ~mouth.upper
    held[(np.linalg.norm(p - chin, axis=1) < 0.06 * size) & under & (h < hc)] = 1
    far = np.linalg.norm((p - hinge)[:, 1:] - np.clip(t, 0, 1)[:, None] * long * ahead[None, 1:], axis=1) > 0.8 * long
    held[head.skin & ~head.inside & far] = 0
    share = _harmonic(head, held, (still | bone))
    if leaves is not None:
        share = np.where(head.surface, np.clip(share, 0.5 - leaves, 0.5 + leaves), share)
    _inner_parts(face, share)
    return share


def _lips_apart(face: Estimate, corners: dict[str, np.ndarray], leaves: np.ndarray, held: np.ndarray) -> None:
    """From ½ at the corners the lips come evenly to what they do in the middle: a lip that did so at once would tear beside its corner."""
    head, mouth, p = face.head, face.mouth, face.head.p
    assert mouth.upper is not None and mouth.lower is not None
    back = float(np.mean([c[2] for c in corners.values()]))
    ahead = p[:, 2] > back
    lower, upper = (
        piece & head.skin & ahead & _along_lip(face, corners, name)
        for piece, name in ((mouth.lower, "mouth_lower"), (mouth.upper, "mouth_upper"))
    )
    held[lower] = 0.5 + leaves[lower]
    held[upper] = 0.5 - leaves[upper]


BAND = 0.2  # how far from a line between its corners and its middle a lip reaches, shares of that line's half


def _along_lip(face: Estimate, corners: dict[str, np.ndarray], name: str) -> np.ndarray:
    """(n,) bool: what lies along a lip; the skin above and below it is free to come to what is held farther off."""
    middle = face.spots[name].place
    ends = np.array(list(corners.values()))
    far = distance_to_segments(face.head.p, np.stack([ends, np.broadcast_to(middle, ends.shape)], 1))
    return np.asarray(far < BAND * float(np.linalg.norm(ends - middle, axis=1).mean()))


LATE = 0.4  # how much of a lip's way from ½ to its bone grows with the square of the distance from its corner, not with the distance
ROUND = 0.88  # from that share of the distance on a lip comes round, so that its middle isn't a point
WHOLE = 0.98  # how much of its bone's way a lip's middle goes


def _leaving(face: Estimate, corners: dict[str, np.ndarray]) -> np.ndarray:
    """(n,) how far from ½ a share may be, by how far a point is from the nearer corner of the mouth."""
    near = np.min([np.linalg.norm(face.head.p - c, axis=1) for c in corners.values()], axis=0)
    middle = face.spots["mouth_lower"].place
    off = np.clip(near / float(np.mean([np.linalg.norm(c - middle) for c in corners.values()])), 0, 1)
    steep = 1 + LATE  # at the middle, were it not rounded
    way = (1 - LATE) * off + LATE * off**2 - 0.5 * steep * np.maximum(off - ROUND, 0) ** 2 / (1 - ROUND)
    return np.asarray(0.5 * WHOLE * way / (1 - 0.5 * steep * (1 - ROUND)))


def _lips_by_line(face: Estimate, corners: dict[str, np.ndarray], h: np.ndarray, held: np.ndarray) -> None:
    """A mouth that is only sculpted: above and below its line, by the line's height at each |x|."""
    head, p, size = face.head, face.head.p, face.head.size
    middle = face.spots["mouth_upper"].place
    corner = np.mean([c * [np.sign(c[0]), 1, 1] for c in corners.values()], axis=0)
    line = (
        p[face.mouth.line] if face.mouth.line is not None and len(face.mouth.line) > 2 else np.array([middle, corner])
    )
    line = line[np.argsort(line[:, 0])]
    x = np.abs(p[:, 0])
    y, z = np.interp(x, line[:, 0], line[:, 1]), np.interp(x, line[:, 0], line[:, 2])
    front = (x < 0.85 * corner[0]) & (p[:, 2] > z - 0.12 * size) & head.surface
    held[front & (p[:, 1] < y - 0.02 * size) & (h > -0.4)] = 1
    held[front & (p[:, 1] > y + 0.02 * size)] = 0


def _solved(a: csr_matrix, free: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.asarray(splu(a[free][:, free].tocsc()).solve(b))


def _harmonic(head: Head, held: np.ndarray, soft: np.ndarray) -> np.ndarray:
    """Harmonic over the skin's own surface between what is held: lips that touch are far apart on it, so they part without any look
    at distance.  Then one step of heat flow for what may soften; lips, corners and chin stay."""
    stiff, area, reached = head.laplacian
    fixed = reached & ~np.isnan(held)
    share = np.where(fixed, held, 0.0)
    free = np.flatnonzero(reached & ~fixed)
    if len(free):
        a = stiff + 1e-12 * diags(np.abs(stiff.diagonal()) + 1e-12)
        share[free] = np.clip(_solved(a, free, -(stiff[free] @ share)), 0, 1)
    kept = fixed & ~soft
    free = np.flatnonzero(reached & ~kept)
    heat = (diags(area) + (SOFT * head.size) ** 2 * stiff).tocsr()
    other = np.where(kept, share, 0.0)
    share[free] = np.clip(_solved(heat, free, (area * share)[free] - heat[free] @ other), 0, 1)
    share[~reached] = 0
    return share


def _inner_parts(face: Estimate, share: np.ndarray) -> None:
    """Teeth go whole with the jaw they stand in, the tongue with the lower one, its root less."""
    head, p = face.head, face.head.p
    middle = 0.5 * (face.spots["mouth_upper"].place[1] + face.spots["mouth_lower"].place[1])
    groups = head.pieces(head.inside & (head.role == "teeth"))
    if groups:
        y = np.array([p[g, 1].mean() for g in groups])
        between = 0.5 * (y.min() + y.max()) if np.ptp(y) > 0.02 * head.size else middle
        for rows, height in zip(groups, y, strict=True):
            share[rows] = 1.0 if height < between else 0.0
    tongue = head.inside & (head.role == "tongue")
    if tongue.any():
        z = p[tongue, 2]
        share[tongue] = 0.75 + 0.25 * smoothstep((z - z.min()) / max(float(np.ptp(z)), 1e-9) / 0.5)


@dataclass(frozen=True)
class JawFigures:
    """parted: how far the lips part, of what a stiff jaw would; corner: stretch of the edges about the corners, 95th percentile."""

    parted: float
    corner: float


def jaw_figures(face: Estimate, jaw: Jaw, degrees: float = 25.0) -> JawFigures:
    """What comes of opening the jaw."""
    head, mouth, p = face.head, face.mouth, face.head.p
    opened = jaw.opened(p, degrees)
    upper = mouth.upper & head.skin if mouth.upper is not None else head.surface
    lower = mouth.lower & head.skin if mouth.lower is not None else head.surface
    rows = [
        int(np.argmin(np.linalg.norm(p - face.spots[k].place, axis=1) + 1e9 * ~m))
        for k, m in (("mouth_upper", upper), ("mouth_lower", lower))
    ]
    ideal = 2 * np.sin(np.radians(degrees / 2)) * float(np.linalg.norm(p[rows[1]] - jaw.hinge))
    apart, was = (float(np.linalg.norm(q[rows[1]] - q[rows[0]])) for q in (opened, p))
    e = head.edges[head.surface[head.edges].all(1)]
    before = np.linalg.norm(p[e[:, 0]] - p[e[:, 1]], axis=1)
    stretch = np.linalg.norm(opened[e[:, 0]] - opened[e[:, 1]], axis=1) / np.maximum(before, 1e-12)
    middle = 0.5 * (p[e[:, 0]] + p[e[:, 1]])
    corners = [face.spots[n].place for n in ("mouth_corner_L", "mouth_corner_R") if n in face.spots]
    near = np.min([np.linalg.norm(middle - c, axis=1) for c in corners], axis=0) < 0.15 * head.size
    return JawFigures((apart - was) / ideal, float(np.percentile(stretch[near], 95)))
