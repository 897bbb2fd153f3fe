"""The opening of an eye: which directions from its centre leave the head, its corners, and the edge of the lids on the mesh."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from ..geometry.rays import first_hits
from ..geometry.rotations import unit
from ..geometry.topology import labels_of
from .eyes import Eye, ball_surface
from .head import Head, directions

AROUND = 96  # directions round an opening
ALMOND = np.radians(58), np.radians(34)  # half width and half height of lids where no opening is to be seen
TILT = 0.6  # radians that a line through both corners may lean


def open_eye(head: Head, eye: Eye) -> None:
    """Sweep from the eye's centre, and put down on `eye` its axis, frame, rim, corners and the loop of the lids' edge."""
    c, r = eye.centre, eye.radius
    low = (0.93 if eye.kind == "ball" else 0.8) * r
    u = directions(600)
    bare = u[np.isinf(_covered(head, eye, u, low))]
    eye.axis = _outward(head, eye)
    if eye.shelled or eye.kind == "sculpted" or not 8 <= len(bare) <= 420:
        _without_opening(eye)
        return
    bare = _largest(bare)
    eye.axis = unit(bare.mean(0))
    across, over = _upright(eye)
    around = np.linspace(0, 2 * np.pi, AROUND, endpoint=False)
    way = np.stack([-np.cos(around), np.sin(around)], 1) @ np.stack([across, over])  # inner, over the top, to outer
    angle, rho = _swept(head, eye, way, low)
    edge = np.cos(angle)[:, None] * eye.axis + np.sin(angle)[:, None] * way
    # Corners are the ends along the long way of the opening.
    flat = np.stack([-angle * np.cos(around), angle * np.sin(around)], 1)
    spread, axes = np.linalg.eigh(np.cov((flat - flat.mean(0)).T))
    tilt = (np.arctan2(axes[1, 1], axes[0, 1]) + np.pi / 2) % np.pi - np.pi / 2
    tilt = float(np.clip(tilt, -TILT, TILT)) * float(np.clip((np.sqrt(spread[1] / spread[0]) - 1.08) / 0.25, 0, 1))
    along = flat @ [np.cos(tilt), np.sin(tilt)]
    inner, outer = int(np.argmin(along)), int(np.argmax(along))
    eye.frame = corner_frame(edge[inner], edge[outer], eye.axis, across, over)
    rim = c + edge * np.maximum(rho, r)[:, None]
    eye.rim = np.roll(rim, -inner, axis=0)
    eye.split = (outer - inner) % AROUND
    rim_loop(head, eye)


def _covered(head: Head, eye: Eye, ways: np.ndarray, low: float) -> np.ndarray:
    """How far off flesh covers each direction, inf where it is bare.  A first meeting within two radii covers; a later one only if
    the ray leaves the head there, since it ran inside, not if it enters a nose or a brow."""
    c, r = eye.centre, eye.radius
    near = np.linalg.norm(head.p - c, axis=1) < 2.6 * r
    tri = head.tri[near[head.tri].any(1)]
    hit, _ = first_hits(head.p, tri, np.tile(c, (len(ways), 1)), ways, low, 2.0 * r)
    miss = np.flatnonzero(np.isinf(hit))
    if len(miss):
        far, which = first_hits(head.p, head.tri, np.tile(c, (len(miss), 1)), ways[miss], low)
        p, t = head.p, head.tri[which]
        n = np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])
        leaves = (which >= 0) & ((n * ways[miss]).sum(1) > 0)
        hit[miss[leaves]] = far[leaves]
    return hit


def _swept(head: Head, eye: Eye, way: np.ndarray, low: float) -> tuple[np.ndarray, np.ndarray]:
    """Along each direction `way` (k, 3) off the axis: at which angle flesh begins (k,), and how far off it is (k,)."""
    steps = np.linspace(0.02, 2.0, 50)
    k, r = len(way), eye.radius

    def looking(angle: np.ndarray) -> np.ndarray:
        return np.asarray(np.cos(angle)[..., None] * eye.axis + np.sin(angle)[..., None] * way)

    every = looking(np.repeat(steps[:, None], k, 1)).reshape(-1, 3)
    hit = _covered(head, eye, every, low).reshape(len(steps), k)
    covered = np.isfinite(hit)
    first = np.where(covered.any(0), covered.argmax(0), len(steps) - 1)
    a, b = steps[np.maximum(first - 1, 0)], steps[first]
    at = hit[first, np.arange(k)]
    rho = np.minimum(np.where(np.isfinite(at), at, r), 1.6 * r)
    for _ in range(8):
        m = 0.5 * (a + b)
        h = _covered(head, eye, looking(m), low)
        rho = np.where(h < 1.6 * r, h, rho)
        a, b = np.where(np.isfinite(h), a, m), np.where(np.isfinite(h), m, b)
    return b, rho


def _largest(bare: np.ndarray) -> np.ndarray:
    """The largest patch of directions that lie side by side."""
    d, i = cKDTree(bare).query(bare, k=min(7, len(bare)))
    rows = np.repeat(np.arange(len(bare)), d.shape[1] - 1)
    ok = d[:, 1:].ravel() < 0.2
    label = labels_of(np.stack([rows[ok], i[:, 1:].ravel()[ok]], 1), len(bare))
    return np.asarray(bare[label == np.bincount(label).argmax()])


def _upright(eye: Eye) -> tuple[np.ndarray, np.ndarray]:
    """Outwards along the face and upwards, both across an eye's axis."""
    up = np.array([0.0, 1.0, 0.0])
    across = unit(np.cross(up, eye.axis)) * (1 if eye.side == "L" else -1)
    return across, unit(up - (up @ eye.axis) * eye.axis)


def _outward(head: Head, eye: Eye) -> np.ndarray:
    near = head.surface & (np.linalg.norm(head.p - eye.centre, axis=1) < 1.3 * eye.radius)
    return unit(head.normals[near].mean(0)) if near.any() else np.array([0.0, 0.0, 1.0])


def corner_frame(
    inner: np.ndarray, outer: np.ndarray, axis: np.ndarray, across: np.ndarray, over: np.ndarray
) -> np.ndarray:
    """Rows along both corners, up and outwards: the lids turn about the first."""
    n = np.cross(inner, outer)
    if np.linalg.norm(n) < 0.25:
        n = over
    n = unit(n)
    n = n * (1.0 if n @ over > 0 else -1.0)
    z = unit(axis - (axis @ n) * n)
    x = np.cross(n, z)
    return np.stack([x if x @ across > 0 else -x, n, z])


def _without_opening(eye: Eye) -> None:
    """A head without an opening: an almond of lids in the eye's own frame."""
    eye.frame = np.stack([*_upright(eye), eye.axis])
    around = np.linspace(0, 2 * np.pi, AROUND, endpoint=False)
    x, y = -ALMOND[0] * np.cos(around), ALMOND[1] * np.sin(around)
    angle = np.hypot(x, y)
    w = np.stack([x, y], 1) / np.maximum(angle, 1e-9)[:, None]
    u = np.cos(angle)[:, None] * eye.axis + np.sin(angle)[:, None] * (w @ eye.frame[:2])
    eye.rim = eye.centre + u * eye.radius * 1.02
    eye.split = AROUND // 2


def rim_loop(head: Head, eye: Eye) -> None:
    """The closed path of edges round the opening: the shortest, weighted by how far from the swept edge it runs, among points that
    lie outside the ball.  Found on a two-sheeted cover cut along one azimuth, so that it can't fail to close."""
    c, r = eye.centre, eye.radius
    q = head.p - c
    rho = np.linalg.norm(q, axis=1)
    u = q / np.maximum(rho, 1e-12)[:, None]
    near = head.surface & (rho < 2.0 * r) & (u @ eye.axis > -0.5)
    rows = np.flatnonzero(near)
    if len(rows) < 6:
        return
    ways, reach = ball_surface(head, eye)
    surface = np.full(len(head.p), np.inf)
    surface[rows] = reach[cKDTree(ways).query(u[rows])[1]]
    edge_u, edge_rho = unit(eye.rim - c), np.linalg.norm(eye.rim - c, axis=1)
    off = np.full(len(head.p), np.inf)
    d, k = cKDTree(edge_u).query(u[rows])
    inside = (u[rows] @ eye.axis) > (edge_u[k] @ eye.axis) + 0.02
    off[rows] = d + 0.5 * np.abs(rho[rows] - edge_rho[k]) / r + np.where(inside, d, 0)
    facing = (head.normals * u).sum(1)
    ok = near & (rho > 0.99 * surface) & (facing > -0.35) & (off < 0.8)
    e = head.edges[ok[head.edges].all(1)]
    if len(e) < 6:
        return
    f = u @ eye.frame.T
    azimuth = np.arctan2(f[:, 1], -f[:, 0])
    crosses = np.abs(azimuth[e[:, 1]] - azimuth[e[:, 0]]) > np.pi
    a, b = e[:, 0], e[:, 1]
    w = np.linalg.norm(head.p[a] - head.p[b], axis=1) * (1 + (2 * (off[a] + off[b])) ** 2)
    n = len(head.p)
    rows_, cols_ = np.r_[a, a + n], np.r_[np.where(crosses, b + n, b), np.where(crosses, b, b + n)]
    cover = coo_matrix((np.r_[w, w, w, w], (np.r_[rows_, cols_], np.r_[cols_, rows_])), shape=(2 * n, 2 * n)).tocsr()
    seeds = np.unique(e[crosses])
    best: tuple[float, list[int]] = (np.inf, [])
    for s in seeds[np.argsort(off[seeds])][:6]:
        dist, before = dijkstra(cover, indices=int(s), return_predecessors=True)
        if dist[s + n] < best[0]:
            path, at = [], int(s) + n
            while at != s and at >= 0:
                path.append(at % n)
                at = int(before[at])
            best = (float(dist[s + n]), path)
    loop = np.array(best[1], int)
    if len(loop) < 6 or len(np.unique(loop)) < len(loop):
        return
    inner, outer = (unit(x - c) for x in eye.corners)
    start = int(np.argmax(u[loop] @ inner))
    loop = np.roll(loop, -start)
    end = int(np.argmax(u[loop] @ outer))
    one, two = loop[: end + 1], np.r_[loop[end:], loop[0]][::-1]
    if len(one) < 3 or len(two) < 3:
        return
    eye.loop = loop
    eye.astray = float(cKDTree(eye.rim).query(head.p[loop])[0].max() / r)
    eye.upper, eye.lower = (one, two) if f[one, 1].mean() > f[two, 1].mean() else (two, one)
