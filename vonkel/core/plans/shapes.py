"""What plans for animals share: the trunk along its length, limbs as lines with bends, heads on necks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import binary_closing, label
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components

from ..character import Character
from ..compiled import compiled
from ..errors import StepRefused
from ..geometry.measures import lengths_along
from ..geometry.topology import skin_triangles, topology_of
from ..geometry.voxels import Solid, pieces
from ..joints.inside import body_solid
from . import landmarks as lm


@dataclass(frozen=True)
class Cut:
    """An upright slice of the trunk across z: its lowest and highest place on the body plane, width, area, centre y."""

    z: float
    low: float
    high: float
    half_width: float
    area: float


def filled(character: Character, cells: int = 120) -> Solid:
    """The body as cells.  Raises StepRefused where it encloses too little."""
    solid = body_solid(character, cells)
    if len(solid.cells) < 300:
        raise StepRefused("The body encloses too little to fit a plan.", character.name, "Close open borders first.")
    return connected(solid)


def connected(solid: Solid, crumb: float = 0.0025, most: int = 6) -> Solid:
    """The body as one piece: one made of blocks that hardly touch is closed by a few cells, until all pieces that hold
    more than a share `crumb` of it hang together.  Where that takes more than `most` cells it stays as it was."""
    closed = solid.inside
    ball = np.ones((3, 3, 3), bool)
    for k in range(most + 1):
        marks, count = pieces(closed)
        if count < 2:
            break
        sizes = np.bincount(marks[solid.inside])[1:]
        if (sizes > crumb * sizes.sum()).sum() < 2:
            break
        if k == most:
            return solid
        pad = np.pad(solid.inside, k + 1)
        grown = binary_closing(pad, ball, iterations=k + 1)
        closed = grown[k + 1 : -k - 1, k + 1 : -k - 1, k + 1 : -k - 1]
    return solid if closed is solid.inside else Solid(solid.low, solid.h, closed | solid.inside)


THICK = 1.7  # how far the flesh round a bone reaches, in the bone's own depths


def along_bones(
    starts: Sequence[np.ndarray], ends: Sequence[np.ndarray], step: float, most: int = 400
) -> tuple[np.ndarray, np.ndarray]:
    """(places (m, 3) along some bones, about a `step` apart and `most` a bone, which bone each is of (m,)); starts, ends: of at least one."""
    a, way = np.array(starts), np.array(ends) - np.array(starts)
    counts = np.clip((np.linalg.norm(way, axis=1) / step).astype(int) + 1, 2, most)
    which = np.repeat(np.arange(len(a)), counts)
    share = np.concatenate([np.linspace(0.0, 1.0, n) for n in counts])
    return a[which] + share[:, None] * way[which], which


def _worn(inside: np.ndarray) -> np.ndarray:
    """(as inside) the cells that are inside with all six they share a face with; beyond the grid counts as inside."""
    out = inside.copy()
    for axis in range(3):
        a, b = np.moveaxis(out, axis, 0), np.moveaxis(inside, axis, 0)
        a[1:] &= b[:-1]
        a[:-1] &= b[1:]
    return out


def without_sheets(solid: Solid) -> Solid:
    """The body less what is one or two cells thick, such as membranes (an opening by a cross of cells: whole grids
    at once, six times as fast as a filter of any shape)."""
    opened = Solid(solid.low, solid.h, ~_worn(~_worn(solid.inside)))
    return opened if len(opened.cells) > 300 else solid


def deepest(solid: Solid, where: np.ndarray | None = None) -> int:
    """The deepest cell of the body plane x = 0, of those marked in `where` (c,)."""
    ok = np.abs(solid.centres[:, 0]) < 0.75 * solid.h
    if where is not None:
        ok &= where
    rows = np.flatnonzero(ok)
    if not len(rows):
        raise StepRefused("There is no body on the middle plane x = 0.", "", "Centre the model at the Model station.")
    return int(rows[np.argmax(solid.depth[rows])])


def cuts_along(solid: Solid) -> list[Cut]:
    """Upright slices of the piece that crosses the body plane, from back to front.

    Of several pieces one above the other (a raised neck, a tail) the largest counts.
    """
    out = []
    i0 = int((0.0 - solid.low[0]) / solid.h)
    for k in range(solid.inside.shape[2]):
        layer = solid.inside[:, :, k]
        marks, count = label(layer)
        if not count:
            continue
        middle = {int(m) for m in np.unique(marks[max(i0 - 1, 0) : i0 + 1]) if m}
        if not middle:
            continue
        best = max(middle, key=lambda m: int((marks == m).sum()))
        ix, iy = np.nonzero(marks == best)
        on = np.abs(ix - i0 + 0.5) <= 1.0
        ys = solid.low[1] + (iy[on] + 0.5) * solid.h if on.any() else solid.low[1] + (iy + 0.5) * solid.h
        xs = solid.low[0] + (ix + 0.5) * solid.h
        out.append(
            Cut(
                float(solid.low[2] + (k + 0.5) * solid.h), float(ys.min()), float(ys.max()), float(np.abs(xs).max()),
                len(ix) * solid.h**2,
            )
        )  # fmt: skip
    return out


def cut_at(cuts: list[Cut], z: float) -> Cut:
    return min(cuts, key=lambda c: abs(c.z - z))


@compiled
def misfits(p: np.ndarray) -> np.ndarray:
    """(n, n): summed squared distance of the points between i and j of points (n, 3) from the straight line i–j; inf but for i < j."""
    n = len(p)
    out = np.full((n, n), np.inf)
    for i in range(n):
        for j in range(i + 1, n):
            x, y, z = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
            length = max(x * x + y * y + z * z, 1e-18)
            total = 0.0
            for k in range(i + 1, j):
                a, b, c = p[k, 0] - p[i, 0], p[k, 1] - p[i, 1], p[k, 2] - p[i, 2]
                t = (a * x + b * y + c * z) / length
                a, b, c = a - t * x, b - t * y, c - t * z
                total += a * a + b * b + c * c
            out[i, j] = total
    return out


def bends(path: np.ndarray, count: int, least: float = 0.12) -> list[np.ndarray]:
    """The `count` inner corners (3,) of the polyline that keeps nearest to a path (p, 3), each piece at least a share
    `least` of the path long."""
    along = lengths_along(path)
    n = 61
    s = np.linspace(0, along[-1], n)
    p = np.stack([np.interp(s, along, path[:, k]) for k in range(3)], 1)
    cost = misfits(p)
    cost[np.arange(n)[None, :] - np.arange(n)[:, None] < max(1, int(least * (n - 1)))] = np.inf
    best = cost[0].copy()
    back: list[np.ndarray] = []
    for _ in range(count):
        total = best[:, None] + cost
        back.append(total.argmin(0))
        best = total.min(0)
    at, corners = n - 1, []
    for choice in reversed(back):
        at = int(choice[at])
        corners.append(p[at])
    return corners[::-1]


def bend_near(path: np.ndarray, share: float, reach: float = 0.1) -> np.ndarray:
    """Where a path bends most, between share − reach and share + reach of its length; at `share` where it is straight."""
    along = lengths_along(path)
    total = along[-1]
    low, high = max(share - reach, 0.02), min(share + reach, 0.98)
    s = np.linspace(low * total, high * total, 25)
    p = np.stack([lm.at_length(path, x) for x in s])
    a, b = (
        lm.at_length(path, max(share - 2.2 * reach, 0) * total),
        lm.at_length(path, min(share + 2.2 * reach, 1) * total),
    )
    way = b - a
    off = (p - a) - ((p - a) @ way / max(float(way @ way), 1e-18))[:, None] * way
    far = np.linalg.norm(off, axis=1)
    if far.max() < 0.06 * np.linalg.norm(way):
        return lm.at_length(path, share * total)
    return np.asarray(p[int(np.argmax(far - 0.03 * total * np.abs(s / total - share)))])


def leaves_trunk(solid: Solid, path: np.ndarray, share: float = 0.3) -> int:
    """Where a path from a limb's tip inwards enters the trunk (its index): the first place that is deeper than the
    limb itself by `share` of what the deepest place on the path is."""
    depth = solid.depth[solid.nearest(path)]
    along = lengths_along(path)
    outer = (along > 0.08 * along[-1]) & (along < 0.5 * along[-1])
    own = float(np.median(depth[outer])) if outer.any() else float(depth[0])
    wanted = own + share * max(float(depth.max()) - own, 0.0)
    deep = np.flatnonzero((depth >= wanted) & (along > 0.25 * along[-1]))
    return int(deep[0]) if len(deep) else len(path) - 1


def past_cells(character: Character, solid: Solid, end: np.ndarray) -> np.ndarray:
    """The way (k, 3) from a limb's end `end` (3,) on to its tip where the mesh goes on thinner than a cell; none where it doesn't."""
    triangles = skin_triangles(character)
    points = character.points
    gone = np.linalg.norm(points - end, axis=1)
    used = np.zeros(len(points), bool)
    used[triangles] = True
    bare = used & ~np.isfinite(solid.tree.query(points, distance_upper_bound=1.5 * solid.h)[0])
    near = used & (gone < 3 * solid.h)
    edges = topology_of(character).edges
    edges = edges[(bare | near)[edges].all(1)]
    piece = connected_components(csr_matrix((np.ones(len(edges)), edges.T), (len(points),) * 2), directed=False)[1]
    on = bare & np.isin(piece, piece[near])
    if not on.any() or gone[on].max() < 3 * solid.h:
        return np.zeros((0, 3))
    step = np.minimum((gone[on] / (2 * solid.h)).astype(int), int(gone[on].max() / (2 * solid.h)) - 1)
    last = points[on][gone[on] > gone[on].max() - 0.5 * solid.h].mean(0)
    return np.vstack([*[points[on][step == k].mean(0) for k in np.unique(step)][:-1], last])


SLIMMER = 0.85  # a neck is that much slimmer than the head on it somewhere


def neck_end(solid: Solid, path: np.ndarray, eyes: np.ndarray | None = None) -> float:
    """Metres from the path's beginning (in the chest) to where the head sits on its neck.

    The head is the thickest place of the path's outer half that the neck before it is slimmer than (or where the eyes are, their
    middle (3,)); the neck's narrowest place lies before it, and the head's joint a little past that.
    """
    along = lengths_along(path)
    depth = solid.depth[solid.nearest(path)]
    share = along / along[-1]
    outer = np.flatnonzero((share > 0.42) & (share < 0.95))
    head = int(outer[np.argmax(depth[outer])])
    inwards = outer[::-1]  # a neck may grow thicker than its head towards the chest
    most = np.maximum.accumulate(depth[inwards])
    slim = np.flatnonzero((depth[inwards] < SLIMMER * most) & (most > 0.6 * depth[head]))
    if len(slim):
        head = int(inwards[np.argmax(depth[inwards[: slim[0]]])])
    if eyes is not None:
        head = int(np.argmin(np.linalg.norm(path - eyes, axis=1)))
    before = np.flatnonzero((share > 0.15) & (along < along[head] - 0.25 * depth[head]))
    if not len(before):
        return 0.6 * float(along[head])
    k = int(before[np.argmin(depth[before])])
    past = np.flatnonzero((along > along[k]) & (depth > 1.12 * depth[k]))
    beyond = min(float(along[past[0]]) if len(past) else float(along[k]), float(along[head]))
    return min(0.5 * (float(along[k]) + beyond) + 0.4 * float(depth[k]), float(along[head]) - 0.15 * float(depth[head]))


def eyes_middle(character: Character) -> np.ndarray | None:
    """(3,) the middle between the eyeballs, or None for a character without any."""
    found = [character.points[slice(*p.points)].mean(0) for p in character.parts if p.role == "eye"]
    return np.mean(found, axis=0) * [0.0, 1.0, 1.0] if found else None


def evenly_along(path: np.ndarray, start: float, end: float, count: int) -> np.ndarray:
    """(count, 3) places evenly along a path from `start` to `end` metres, both ends included."""
    return np.stack([lm.at_length(path, s) for s in np.linspace(start, end, count)])


def on_left(tip: lm.Tip) -> np.ndarray:
    """The tip's place on the left side."""
    return np.asarray(tip.place * [np.sign(tip.place[0]) or 1.0, 1.0, 1.0])


DOME = 0.85  # of a ball's end a place lies as deep as it is from that end; in what is pointed less, however short


def domed(solid: Solid, base: np.ndarray, tip: np.ndarray) -> bool:
    """Whether what ends at `tip` (3,) is the roundness of what it stands on, and nothing that stands on it."""
    places = tip + np.array([[0.5], [0.25]]) * (base - tip)
    deep = solid.depth[solid.nearest(places)]
    return float((deep / np.maximum(np.linalg.norm(places - tip, axis=1), 1e-9)).mean()) > DOME
