"""Put eyes that can shut and mouths that can open into a grown head.

Both are sheets of rows and columns laid on the skin's field: concentric rows round the lids' edge or the lips, over the
edge and inwards (a lining round the eyeball, a bag behind the lips).  The skin beneath is taken out and the sheet's outer
row is sewn to what is left.  All of it is done on the half x ≥ 0.
"""

from dataclasses import dataclass, field

import numpy as np
from fields import gradient, step, vec
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

MIDDLE = 1e-9


def unit(v):
    return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-12)


def on_skin(skin, p, rounds=4, plane=None):
    """Points moved onto {skin = 0} along its gradient, within planes (origin, normals) where these are given."""
    for _ in range(rounds):
        g = gradient(skin, p)
        if plane is not None:
            g = g - (g * plane[1]).sum(1, keepdims=True) * plane[1]
        p = p - (skin(p) / np.maximum((g * g).sum(1), 0.05))[:, None] * g
    return p


def walked(skin, start, way, lengths, plane, stride=0.0008):
    """(k, m, 3): k points gone along the skin from `start` towards `way` (k, 3), each in its plane, by lengths (k, m), metres."""
    lengths = np.broadcast_to(np.asarray(lengths, float), (len(start), np.shape(lengths)[-1]))
    p, line = start.copy(), [start.copy()]
    for _ in range(int(np.ceil(lengths.max() / stride))):
        n = unit(gradient(skin, p))
        way = unit(way - (way * n).sum(1, keepdims=True) * n)
        way = unit(way - (way * plane).sum(1, keepdims=True) * plane)
        p = on_skin(skin, p + stride * way, 1, (start, plane))
        line.append(p)
    line = np.array(line)  # (steps, k, 3)
    at = np.clip(lengths / stride, 0, len(line) - 1.001)
    i, t = at.astype(int), (at % 1)[..., None]
    k = np.arange(len(start))[:, None]
    return line[i, k] * (1 - t) + line[i + 1, k] * t


@dataclass
class Sheet:
    """Points, faces (quads; triangles repeat a corner), the outer row in order, points on the middle plane, and what is inside."""

    points: np.ndarray
    faces: list
    outer: list
    closed: bool
    lining: np.ndarray  # (n,) 0 outside … 1 wholly inside
    fixed: np.ndarray  # (n,) not to be relaxed
    bag: list = field(default_factory=list)  # rows of the bag behind a mouth
    side: np.ndarray = None  # (n,) of a mouth: 1 above, −1 below, 0 the corner


# -- eyes --------------------------------------------------------------------------------------------------------------
def eye_sheet(skin, eye, outward=(0.10, 0.25, 0.44, 0.66), clear=0.004):
    """Lids round an eyeball: rows from the skin over the rounded edge, along the ball and shut behind it."""
    c, r, axes, half_columns = eye.centre, eye.radius, eye.axes, eye.columns
    a = np.pi * np.arange(half_columns + 1) / half_columns
    ends = np.linspace(0.5, 1, 400) * eye.almond[0]  # the arcs are blended, so they meet before the said half width
    us = ends[eye.almond_at(ends, 0 * ends) > 0].max() * np.cos(a)
    angles = []
    for side in (1, -1):  # the same places along the corners for both lids
        low, high = np.zeros(len(us)), np.full(len(us), 1.2 * r)
        inside = eye.almond_at(us, 0 * us) > 0
        for _ in range(40):
            mid = 0.5 * (low + high)
            ok = eye.almond_at(us, side * mid) > 0
            low, high = np.where(ok, mid, low), np.where(ok, high, mid)
        angles.append(np.where(inside, side * mid, 0.0))
    u = np.r_[us, us[-2:0:-1]]
    v = np.r_[angles[0], angles[1][-2:0:-1]]
    v[[0, half_columns]] = 0
    flat = unit(np.stack([u, v], 1))

    def at(u, v, radius):
        w = np.sqrt(np.maximum(radius**2 - u * u - v * v, (0.2 * r) ** 2))
        return c + np.stack([u, v, w], 1) @ axes.T

    plane = unit(np.stack([-flat[:, 1], flat[:, 0], np.zeros(len(u))], 1) @ axes.T)
    edge = at(u * 1.045, v * 1.045, r + eye.thick)
    for _ in range(6):  # out along the line of sight to the skin
        edge = edge - skin(edge)[:, None] * axes[:, 2]
    outward_way = np.stack([flat[:, 0], flat[:, 1], np.zeros(len(u))], 1) @ axes.T
    lengths = np.tile(np.array(outward) * r, (len(u), 1))
    for _ in range(30):
        rows = walked(skin, edge, outward_way, lengths, plane)
        bad = rows[:, -1, 0] < clear
        if not bad.any():
            break
        near = bad | np.roll(bad, 1) | np.roll(bad, -1)
        lengths[near] *= 0.93
    for _ in range(8):
        lengths = 0.5 * lengths + 0.25 * (np.roll(lengths, 1, 0) + np.roll(lengths, -1, 0))
    rows = walked(skin, edge, outward_way, lengths, plane)
    inner = at(u, v, 1.045 * r)
    wall = [edge + (inner - edge) * t for t in (0.22, 0.6)]
    wall[0] = wall[0] - outward_way * 0.05 * r
    wall[1] = wall[1] - outward_way * 0.035 * r
    reach = np.arctan2(np.linalg.norm((inner - c) @ axes[:, :2], axis=1), (inner - c) @ axes[:, 2])
    back = []
    for t in (0.10, 0.25, 0.42, 0.60, 0.80, 1.0):
        angle = reach + t * (np.radians(166) - reach)
        away = np.cos(angle)[:, None] * axes[:, 2] + np.sin(angle)[:, None] * outward_way
        back.append(c + 1.065 * r * away)
    grid = [rows[:, k] for k in range(len(outward) - 1, -1, -1)] + [edge, *wall, inner, *back]
    n = len(u)
    points = np.vstack([*grid, c - 1.065 * r * axes[:, 2]])
    faces = []
    for j in range(len(grid) - 1):
        for k in range(n):
            m = (k + 1) % n
            faces.append([j * n + k, j * n + m, (j + 1) * n + m, (j + 1) * n + k])
    last, pole = (len(grid) - 1) * n, len(points) - 1
    faces += [[last + k, last + (k + 1) % n, pole, pole] for k in range(n)]
    outer_rows = len(outward)
    lining = np.zeros(len(points))
    for j in range(len(grid)):
        lining[j * n : (j + 1) * n] = 0.35 if j == outer_rows + 1 else 1.0 if j > outer_rows + 1 else 0.0
    lining[-1] = 1.0
    fixed = np.ones(len(points), bool)
    fixed[: 2 * n] = False
    return Sheet(points, faces, list(range(n)), True, lining, fixed)


# -- mouths ------------------------------------------------------------------------------------------------------------
@dataclass
class Mouth:
    """A mouth's measures on the left half, metres.

    line: places near the lips' line from the middle to the corner.  lip: how far the lips reach on the skin.  full: how far
    they stand out.  sunk: how deep the line lies.  thick: of the lips.  Then the bag: where its rows go (centre (3,), half
    width, height up, height down each), and the wall that it keeps to the skin.
    """

    line: tuple
    bag: tuple
    lip: float = 0.014
    full: float = 0.0015
    sunk: float = 0.004
    thick: float = 0.009
    wall: float = 0.008
    columns: int = 10
    level: bool = False  # the line keeps its heights
    gap: float = 0.0004


FAN = 5


def mouth_sheet(skin, m):
    """Lips on the skin along a line, over their edge, and a bag behind them.  Rows run from above the middle round the corner to below it."""
    plane = (None, vec(0, 1, 0)) if m.level else None
    line = on_skin(skin, np.array(m.line, float), 8, plane)
    line[0, 0] = 0
    line = on_skin(skin, _curve(line, 60), 4, plane)
    line[:, 0] = np.maximum(line[:, 0], 0)
    line[0, 0] = 0
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    share = np.linspace(0, 1, m.columns + 1)
    share = share + 0.10 * np.sin(np.pi * share) * share  # closer together towards the corner
    rim = np.stack([np.interp(share * s[-1], s, line[:, k]) for k in range(3)], 1)
    rim = on_skin(skin, rim, 3, plane)
    rim[0, 0] = 0
    out = unit(gradient(skin, rim))
    along = np.gradient(rim, axis=0)
    along[0, 1:] = 0
    out[0, 0] = 0
    out[0] = unit(out[0])
    along = unit(along - (along * out).sum(1, keepdims=True) * out)
    up = unit(np.cross(out, along))
    k = m.columns
    # columns on the skin: above (middle … next to the corner), a fan round the corner, below (back to the middle)
    turns = np.linspace(np.pi / 2, -np.pi / 2, FAN + 2)[1:-1]
    start = np.vstack([rim[:k], np.tile(rim[k], (FAN, 1)), rim[k - 1 :: -1]])
    way = np.vstack([up[:k], np.sin(turns)[:, None] * up[k] + np.cos(turns)[:, None] * along[k], -up[k - 1 :: -1]])
    plane = np.cross(np.vstack([out[:k], np.tile(out[k], (FAN, 1)), out[k - 1 :: -1]]), way)
    plane[[0, -1]] = vec(1, 0, 0)
    part = np.r_[share[:k], np.ones(FAN), share[k - 1 :: -1]]
    lengths = np.array([0.16, 0.38, 0.68, 1.05, 1.5])[None] * m.lip * (1 - 0.30 * part**3)[:, None]
    rows = walked(skin, start, unit(way), lengths, plane, 0.0006)
    rows[[0, -1], :, 0] = 0
    normals = unit(gradient(skin, rows.reshape(-1, 3))).reshape(rows.shape)
    taper = (1 - part**4)[:, None]
    lift = np.array([0.35, 1.0, 0.45, 0, 0])[None] * m.full * taper - np.array([0.45, 0.08, 0, 0, 0])[None] * m.sunk
    rows = rows + normals * lift[..., None]
    rows[[0, -1], :, 0] = 0
    width = rows.shape[0]
    # inner columns: above, the corner, below
    inner_out = np.vstack([out[: k + 1], out[k - 1 :: -1]])
    sign = np.r_[np.ones(k), 0, -np.ones(k)]
    inner_up = np.vstack([up[: k + 1], up[k - 1 :: -1]])
    base = np.vstack([rim[: k + 1], rim[k - 1 :: -1]])
    inner_part = np.r_[share, share[k - 1 :: -1]]
    inwards = []
    for depth, gap in (
        (m.sunk, 1.0),
        (m.sunk + 0.35 * m.thick, 0.5),
        (m.sunk + 0.75 * m.thick, 0.8),
        (m.sunk + m.thick, 3.5),
    ):
        d = depth * (1 - 0.45 * inner_part**3)
        inwards.append(base - inner_out * d[:, None] + inner_up * (sign * gap * m.gap)[:, None])
    inwards += bag_rows(skin, m, base, share)
    for row in inwards:
        row[[0, -1], 0] = 0
        row[:, 0] = np.maximum(row[:, 0], 0)
    inner_width = 2 * k + 1
    points = np.vstack([rows[:, j] for j in range(rows.shape[1] - 1, -1, -1)] + inwards)
    faces, count = [], rows.shape[1]
    for j in range(count - 1):
        for i in range(width - 1):
            faces.append([j * width + i, j * width + i + 1, (j + 1) * width + i + 1, (j + 1) * width + i])
    first = count * width
    lead = lambda i: first + (i if i < k else k if i < k + FAN else i - FAN + 1)  # noqa: E731
    for i in range(width - 1):
        a, b = (count - 1) * width + i, (count - 1) * width + i + 1
        faces.append([a, b, lead(i + 1), lead(i)] if lead(i) != lead(i + 1) else [a, b, lead(i), lead(i)])
    for j in range(len(inwards) - 1):
        for i in range(inner_width - 1):
            a = first + j * inner_width + i
            faces.append([a, a + 1, a + inner_width + 1, a + inner_width])
    last = first + (len(inwards) - 1) * inner_width
    for i in range(k):
        a, b, c, d = last + i, last + i + 1, last + inner_width - 2 - i, last + inner_width - 1 - i
        faces.append([a, b, c, d] if b != c else [a, b, d, d])
    lining = np.zeros(len(points))
    for j in range(len(inwards)):
        lining[first + j * inner_width : first + (j + 1) * inner_width] = (0.55, 0.9)[j] if j < 2 else 1.0
    fixed = np.ones(len(points), bool)
    fixed[:width] = False
    outer_side = np.r_[np.ones(k), np.sin(turns).round(9), -np.ones(k)]
    side = np.sign(np.r_[np.tile(outer_side, count), np.tile(sign, len(inwards))])
    return Sheet(points, faces, list(range(width)), False, lining, fixed, inwards[4:], side)


def bag_rows(skin, m, base, share):
    """The rows of the bag behind the lips: above, the corner, below, as the lips' inner rows have them."""
    k, found = m.columns, []
    angle = np.r_[np.pi / 2 * (1 - share), -np.pi / 2 * (1 - share[k - 1 :: -1])]
    for centre, wide, high, low in m.bag:
        ring = np.array(centre, float) + np.stack(
            [wide * np.cos(angle), np.where(angle >= 0, high, low) * np.sin(angle), np.zeros(len(angle))], 1
        )
        # Lips curve back towards the corners: so do the bag's first rows.
        bend = base[:, 2] - base[0, 2]
        ring[:, 2] += bend * np.clip(1 - (base[0, 2] - centre[2]) / (3.0 * m.lip + m.thick + 0.03), 0, 1)
        found.append(kept_in(skin, ring, m.wall))
    return found


def dental_arch(skin, m):
    """Where teeth stand: a line in the front of the bag from the middle outwards (k, 3), and half the room there (k,), metres."""
    rows, k = mouth_sheet(skin, m).bag, m.columns
    above, below = (0.4 * rows[0][part] + 0.6 * rows[1][part] for part in (slice(0, k + 1), slice(None, k - 1, -1)))
    return 0.5 * (above + below) * vec(0.86, 1, 1), 0.5 * np.linalg.norm(above - below, axis=1)


def gums(skin, m, along=13, around=10, reach=0.70):
    """A band over the roots of either row of teeth: two parts, both sides in one."""
    middle, high = dental_arch(skin, m)
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(middle, axis=0), axis=1))]
    at = np.linspace(0, reach, along) * s[-1]
    line, room = np.stack([np.interp(at, s, middle[:, k]) for k in range(3)], 1), np.interp(at, s, high)
    found = {}
    for side, name in ((1, "gum upper"), (-1, "gum lower")):
        rings = []
        for c, h, ahead in zip(line, room, np.gradient(line, axis=0), strict=True):
            out = unit(np.cross(ahead, vec(0, 1, 0)))
            a = 2 * np.pi * np.arange(around) / around
            ring = 0.20 * h * (np.cos(a)[:, None] * out + np.sin(a)[:, None] * vec(0, 1, 0))
            rings.append(c + vec(0, side * 0.70 * h, 0) + ring)
        rings[0][:, 0] = 0
        rings = [r * vec(-1, 1, 1) for r in rings[:0:-1]] + rings
        points = np.vstack([*rings, rings[0].mean(0), rings[-1].mean(0)])
        n, last, faces = len(rings), (len(rings) - 1) * around, []
        for k in range(around):
            m1 = (k + 1) % around
            faces += [
                [i * around + m1, i * around + k, (i + 1) * around + k, (i + 1) * around + m1] for i in range(n - 1)
            ]
            faces += [[len(points) - 2, k, m1, m1], [len(points) - 1, last + m1, last + k, last + k]]
        found[name] = (points, np.array(faces))
    return found


def teeth(skin, m, count=5, reach=0.62, fang=-1):
    """Upper and lower teeth in the front of the bag, free of its walls: two parts, both sides.  fang: the number of a longer one."""
    middle, high = dental_arch(skin, m)
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(middle, axis=0), axis=1))]
    step = reach * s[-1] / count
    found = {}
    for side, name in ((1, "teeth upper"), (-1, "teeth lower")):
        points, faces, n = [], [], 0
        for i in range(count):
            at = (i + 0.5) * step
            c = np.array([np.interp(at, s, middle[:, j]) for j in range(3)])
            ahead = np.array([np.interp(at + 0.3 * step, s, middle[:, j]) for j in range(3)]) - c
            h = np.interp(at, s, high)
            turn = np.arctan2(-ahead[2], ahead[0])
            p, f = rounded(12, 8)
            long = 0.40 if i == fang else 0.30
            p = p * vec(0.42 * step, long * h, 0.30 * step)
            p = p @ np.array([[np.cos(turn), 0, -np.sin(turn)], [0, 1, 0], [np.sin(turn), 0, np.cos(turn)]])
            p = p + c + vec(0, side * (0.40 if i != fang else 0.34) * h, 0)
            for x in (1, -1):
                points.append(p * [x, 1, 1])
                faces.append((f if x > 0 else f[:, ::-1]) + n)
                n += len(p)
        found[name] = (np.vstack(points), np.vstack(faces))
    return found


def rounded(around, down):
    """A ball pushed towards a box: points about the origin, triangles."""
    from mesher import ball

    p, f = ball((0, 0, 0), 1, (0, 1, 0), around, down)
    return np.sign(p) * np.abs(p) ** 0.7, f


def tongue(m, around=12, along=9):
    """A tongue on the floor of the bag: a flattened tube with round ends, the same on both sides; quads and two fans."""
    centres = np.array([b[0] for b in m.bag], float)
    wide, low = np.array([b[1] for b in m.bag]), np.array([b[3] for b in m.bag])
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(centres, axis=0), axis=1))]
    t = np.linspace(0.06, 0.86, along) * s[-1]
    rows, faces = [], []
    for i, at in enumerate(t):
        c = np.array([np.interp(at, s, centres[:, k]) for k in range(3)])
        w, h = np.interp(at, s, wide), np.interp(at, s, low)
        u = 2 * i / (along - 1) - 1
        size = np.sqrt(1 - (0.94 * u) ** 2)
        a = 2 * np.pi * (np.arange(around) + 0.5) / around
        ring = np.stack([0.58 * w * size**0.8 * np.cos(a), 0.30 * h * size * np.sin(a), 0 * a], 1)
        ring[:, 1] -= 0.18 * h * size * np.exp(-((ring[:, 0] / (0.16 * w)) ** 2)) * (np.sin(a) > 0)  # the furrow
        rows.append(c + vec(0, -0.52 * h, 0) + ring)
    points = np.vstack([*rows, rows[0].mean(0) + vec(0, 0, 0.002), rows[-1].mean(0)])
    tip, root = len(points) - 2, len(points) - 1
    last = (along - 1) * around
    for k in range(around):
        n = (k + 1) % around
        faces += [
            [i * around + n, i * around + k, (i + 1) * around + k, (i + 1) * around + n] for i in range(along - 1)
        ]
        faces += [[tip, k, n, n], [root, last + n, last + k, last + k]]
    points[[tip, root], 0] = 0
    return points, np.array(faces)


def kept_in(skin, p, wall, rounds=12):
    """Points moved inwards until they lie `wall` metres beneath the skin."""
    for _ in range(rounds):
        d = skin(p) + wall
        over = d > 0
        if not over.any():
            break
        p = p.copy()
        p[over] -= unit(gradient(skin, p[over])) * d[over, None]
    return p


def _curve(rows, count):
    from fields import catmull_rom

    line = catmull_rom(np.asarray(rows, float), 12)
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    t = np.linspace(0, s[-1], count)
    return np.stack([np.interp(t, s, line[:, k]) for k in range(3)], 1)


# -- sewing ------------------------------------------------------------------------------------------------------------
def half_of(points, faces):
    """The half x ≥ 0 of a mesh that is the same on both sides: points, faces, old numbers of the points.

    Of a face that lies across the middle its half is left, a triangle.
    """
    keep, f = points[:, 0] >= -MIDDLE, []
    for face in faces:
        left = [i for i in face if keep[i]]
        if len(set(left)) == 3 and (points[left, 0] > MIDDLE).any():
            left = list(dict.fromkeys(left))
            left.append(left[-1])
        if len(left) == 4:
            f.append(left)
    f = np.array(f)
    used, new = np.unique(f, return_inverse=True)
    return points[used], new.reshape(f.shape), used


def sewn(skin, points, faces, sheet, near, hollow=None):
    """The half mesh with what lies under the sheet replaced by it.  Returns points, faces, old numbers (−1: new), lining.

    hollow: centre and radius of a ball that goes whole, such as an old socket.
    """
    outer = np.zeros(len(sheet.points), bool)
    outer[sheet.outer] = True
    mids, flags = [], []
    open_air = sheet.lining < 0.3
    for f in sheet.faces:
        if not open_air[f].all():
            continue
        for t in ((0.5, 0.5, 0, 0), (0.25,) * 4, (0, 0, 0.5, 0.5)):
            mids.append(np.array(t) @ sheet.points[f])
            flags.append(sum(w for w, i in zip(t, f, strict=True) if outer[i]) > 0.4)
    tree = cKDTree(np.vstack([sheet.points[open_air], mids]))
    d, i = tree.query(points)
    border = np.r_[outer[open_air], flags][i]
    ring_edge = np.median(np.linalg.norm(np.diff(sheet.points[sheet.outer], axis=0), axis=1))
    # Beside the outer row it counts on which side of it a point lies: rows run from the outer one inwards.
    ring, inner = sheet.points[sheet.outer], sheet.points[len(sheet.outer) : 2 * len(sheet.outer)]
    _, k = cKDTree(ring).query(points)
    within = ((points - ring[k]) * (inner[k] - ring[k])).sum(1) > 0
    gone = ((d < near) & ~border) | ((d < near) & within) | (d < 0.45 * ring_edge)
    if hollow is not None:
        gone |= np.linalg.norm(points - hollow[0], axis=1) < hollow[1]
    f = faces[~gone[faces].any(1)]
    e = np.vstack([f[:, [k, (k + 1) % 4]] for k in range(4)])
    label = connected_components(coo_matrix((np.ones(len(e)), e.T), shape=(len(points),) * 2), directed=False)[1]
    f = f[label[f[:, 0]] == np.bincount(label[f.ravel()]).argmax()]
    f = without_ears(points, f)
    loops = [c for c in chains(points, f) if len(c) > 2]
    target = sheet.points[sheet.outer]
    loop = min(loops, key=lambda c: np.mean(cKDTree(points[c]).query(target)[0]))
    used, new = np.unique(f, return_inverse=True)
    number = np.full(len(points), -1)
    number[used] = np.arange(len(used))
    f = new.reshape(f.shape)
    loop, base = [int(number[x]) for x in loop], len(used)
    both = np.vstack([points[used], sheet.points])
    ring = [base + x for x in sheet.outer]
    seam = bridged(both, loop, ring, sheet.closed)
    there = set(border_edges(f))
    if any(e in there for x in seam for e in directed(x)):
        seam = [list(x[::-1]) for x in seam]
    patch = (np.array(sheet.faces) + base).tolist()
    there = set(border_edges(seam))
    if any(e in there for x in patch for e in directed(x)):
        patch = [list(x[::-1]) for x in patch]
    every = np.vstack([f, np.array(patch), np.array(seam)])
    old = np.r_[used, np.full(len(sheet.points), -1)]
    lining = np.r_[np.zeros(base), sheet.lining]
    free = np.r_[np.zeros(base, bool), ~sheet.fixed]
    free[loop] = True
    e = np.vstack([every[:, [k, (k + 1) % 4]] for k in range(4)])
    for _ in range(2):
        touched = free[e].any(1)
        grown = np.zeros(len(free), bool)
        grown[e[touched].ravel()] = True
        free |= grown & np.r_[np.ones(base, bool), ~sheet.fixed]
    moved = relaxed(skin, both, e, free, both[:, 0] <= MIDDLE)
    old[:base][free[:base]] = -1
    return moved, every, old, lining


def laid_on(skin, points, faces, old, around, reach):
    """Points of the grown mesh near places `around`, where the skin has another shape by now (no groove, a chin), put on it."""
    p = points.copy()
    near = (cKDTree(np.asarray(around)).query(p)[0] < reach) & (old >= 0)
    off = np.flatnonzero(near & (np.abs(skin(p)) > 2e-4))
    moved = on_skin(skin, p[off], 8)
    moved[p[off, 0] <= MIDDLE, 0] = 0
    p[off] = moved
    e = np.vstack([faces[:, [k, (k + 1) % 4]] for k in range(4)])
    free = np.zeros(len(p), bool)
    free[off] = True
    return relaxed(skin, p, e, free, p[:, 0] <= MIDDLE)


def with_face(skin, eye, mouth, points, faces):
    """Half a head with lids and lips.  Returns points, faces, how far each point lies inside (0–1), which lip it is of (1, −1, 0: none)."""
    p, f, old, lining = sewn(
        skin, points, faces, eye_sheet(skin, eye), 0.5 * eye.radius, (eye.centre, eye.radius + 0.6 * eye.thick)
    )
    lips = mouth_sheet(skin, mouth)
    p, f, then, more = sewn(skin, p, f, lips, mouth.lip)
    kept = then >= 0
    more[kept] = np.maximum(more[kept], lining[then[kept]])
    number = np.where(kept, old[then], -1)
    p = laid_on(skin, p, f, np.where(more > 0, -1, number), mouth.line, 8 * mouth.lip)
    return p, f, more, np.r_[np.zeros(len(p) - len(lips.side)), lips.side]


def opened(skin, mouth, points, side, gap):
    """Points with the mouth opened by `gap` in its middle: lips slide apart along their line, more the lower one."""
    line = on_skin(skin, np.array(mouth.line, float), 8, (None, vec(0, 1, 0)))
    x, corner = np.abs(points[:, 0]), line[-1]
    above = points[:, 1] - np.interp(x, line[:, 0], line[:, 1])
    way = np.where(side != 0, side, np.sign(above))
    amount = gap * np.sqrt(np.maximum(1 - (x / corner[0]) ** 2, 0)) * np.where(way > 0, 0.35, 0.65)
    amount *= 1 - step(0, 4.5 * mouth.lip, np.abs(above))
    amount *= step(corner[2] - 3 * mouth.lip, corner[2], points[:, 2])
    return points + vec(0, 1, 0) * (way * amount)[:, None]


def relaxed(skin, points, e, free, middle, rounds=14):
    """Free points drawn to their neighbours' mean along the skin; middle points keep to their plane."""
    e = e[e[:, 0] != e[:, 1]]
    e = np.unique(np.sort(e, 1), axis=0)
    n = len(points)
    w = coo_matrix((np.ones(2 * len(e)), (np.r_[e[:, 0], e[:, 1]], np.r_[e[:, 1], e[:, 0]])), shape=(n, n)).tocsr()
    m = w.copy().tocoo()
    keep = ~middle[m.row] | middle[m.col]
    w = coo_matrix((m.data[keep], (m.row[keep], m.col[keep])), shape=(n, n)).tocsr()
    count = np.maximum(np.asarray(w.sum(1)).ravel(), 1)
    p, i = points.copy(), np.flatnonzero(free)
    for _ in range(rounds):
        pull = ((w @ p) / count[:, None] - p)[i]
        normal = unit(gradient(skin, p[i]))
        pull -= (pull * normal).sum(1, keepdims=True) * normal
        q = on_skin(skin, p[i] + 0.5 * pull, 1)
        q[middle[i], 0] = 0
        p[i] = q
    return p


def directed(face):
    """The edges of a face in its order; of a triangle the repeated corner counts once."""
    f = [int(x) for k, x in enumerate(face) if x != face[k - 1]]
    return list(zip(f, f[1:] + f[:1], strict=True))


def border_edges(faces):
    there = {e: True for f in faces for e in directed(f)}
    return [(a, b) for a, b in there if (b, a) not in there]


def without_ears(points, f):
    """Faces that hang on the border by one edge, or touch it at a point only, taken off until there are none."""
    while True:
        edges = [(a, b) for a, b in border_edges(f) if not (points[a, 0] <= MIDDLE and points[b, 0] <= MIDDLE)]
        on, count = set(edges), np.zeros(len(points), int)
        for a, b in edges:
            count[[a, b]] += 1
        drop = []
        for k, x in enumerate(f):
            own = [e for e in directed(x) if e in on]
            if len(own) >= len(directed(x)) - 1 or any(count[v] > 2 for v in x):
                drop.append(k)
        if not drop:
            return f
        f = np.delete(f, drop, axis=0)


def chains(points, faces):
    """Border edges off the middle plane, joined to chains; closed ones don't repeat their first point."""
    nxt = {}
    for a, b in border_edges(faces):
        if not (points[a, 0] <= MIDDLE and points[b, 0] <= MIDDLE):
            nxt[a] = b
    found, ends = [], set(nxt.values())
    starts = [a for a in nxt if a not in ends] + list(nxt)
    for a in starts:
        if a not in nxt:
            continue
        chain = [a]
        while chain[-1] in nxt:
            chain.append(nxt.pop(chain[-1]))
        found.append(chain[:-1] if chain[0] == chain[-1] else chain)
    return found


def bridged(points, a, b, closed):
    """Quads and triangles between two chains of points: the way of least diagonal lengths, pairs of triangles joined to quads."""
    a, b = list(a), list(b)
    if closed:
        k = int(np.argmin(np.linalg.norm(points[a] - points[b[0]], axis=1)))
        a = a[k:] + a[:k]
        flip = a[:1] + a[:0:-1]
        quarter = points[b[len(b) // 4]]
        if np.linalg.norm(points[flip[len(a) // 4]] - quarter) < np.linalg.norm(points[a[len(a) // 4]] - quarter):
            a = flip
        a, b = a + a[:1], b + b[:1]
    elif np.linalg.norm(points[a[0]] - points[b[0]]) > np.linalg.norm(points[a[-1]] - points[b[0]]):
        a = a[::-1]
    n, m = len(a), len(b)
    d = np.linalg.norm(points[a][:, None] - points[b][None], axis=2) ** 2
    cost, back = np.full((n, m), np.inf), np.zeros((n, m), int)
    cost[0, 0] = 0
    for i in range(n):
        for j in range(m):
            for way, (x, y) in enumerate(((i - 1, j), (i, j - 1), (i - 1, j - 1))):
                if x >= 0 and y >= 0 and cost[x, y] + d[i, j] * (1 if way < 2 else 1.1) < cost[i, j]:
                    cost[i, j], back[i, j] = cost[x, y] + d[i, j] * (1 if way < 2 else 1.1), way
    faces, i, j = [], n - 1, m - 1
    while i or j:
        way = back[i, j]
        x, y = ((i - 1, j), (i, j - 1), (i - 1, j - 1))[way]
        if way == 0:
            faces.append([a[x], a[i], b[j], b[j]])
        elif way == 1:
            faces.append([a[i], b[j], b[y], b[y]])
        else:
            faces.append([a[x], a[i], b[j], b[y]])
        i, j = x, y
    return faces
