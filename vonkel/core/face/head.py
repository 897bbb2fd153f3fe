"""A head as the face's finders see it: points joined by place, in its own frame, with what light and bending tell of it.

The frame: the head's middle plane at x = 0, its own left at +x, up +y, facing +z; metres.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.optimize import minimize
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.spatial import cKDTree

from ..character import Character, Joint, Side
from ..character.model import Vector
from ..compiled import compiled
from ..derived import derived
from ..errors import StepRefused
from ..geometry.laplacian import cotangent_laplacian
from ..geometry.measures import distance_to_segments
from ..geometry.rays import first_hits
from ..geometry.rotations import unit, vector
from ..geometry.spheres import fit_sphere
from ..geometry.topology import (
    labels_of,
    point_normals,
    topology_of,
    topology_of_triangles,
    welded_points,
    whole_triangles,
)

NEARER = 0.75  # a point is of the head when this share of its way to the head's bones is shorter than to any other bone
TORN = 0.004  # of a skin's edges: with more on open borders it is one piece of several
EYE_SIZES = 0.02, 0.3  # radius of an eyeball, shares of the head's size
DIRECTIONS, GRID = 96, 320  # of the light: maps, and cells along a side of each
SIDES: tuple[Side, Side] = ("L", "R")
OF_HEAD = ("jaw", "ear", "eye", "lid", "tongue", "muzzle")


@dataclass(frozen=True, eq=False)
class Joined:
    """A mesh with points in one place joined: places p (n, 3); t (m, 3) triangles; edges (e, 2); role (n,) of the part each point is of.

    number (N,): the row here of each point of the character; first (n,): a point of the character for each row; seams (n,): the
    piece of the mesh before its points were joined.
    """

    p: np.ndarray
    t: np.ndarray
    edges: np.ndarray
    role: np.ndarray
    number: np.ndarray
    first: np.ndarray
    seams: np.ndarray


@dataclass(frozen=True, eq=False)
class Head(Joined):
    """A head, its places in its own frame.

    inside (n,): what is of the head; turn (3, 3) and shift (3,) take space to the frame; even: whether its halves are alike.
    """

    inside: np.ndarray
    turn: np.ndarray
    shift: np.ndarray
    even: bool

    def own(self, p: np.ndarray) -> np.ndarray:
        return np.asarray(p @ self.turn.T + self.shift)

    def back(self, p: np.ndarray) -> np.ndarray:
        return np.asarray((p - self.shift) @ self.turn)

    @cached_property
    def skin(self) -> np.ndarray:
        """(n,): points that are neither eyes nor in the mouth."""
        return ~np.isin(self.role, ["eye", "lid", "teeth", "tongue", "rigid", "prop", "line"])

    @cached_property
    def surface(self) -> np.ndarray:
        return np.asarray(self.inside & self.skin)

    @cached_property
    def normals(self) -> np.ndarray:
        return point_normals(self.p, self.t.astype(np.int32))

    @cached_property
    def tri(self) -> np.ndarray:
        """(k, 3) triangles of the head's skin."""
        return np.ascontiguousarray(self.t[self.surface[self.t].all(1)])

    @cached_property
    def low(self) -> np.ndarray:
        return np.asarray(self.p[self.surface].min(0))

    @cached_property
    def high(self) -> np.ndarray:
        return np.asarray(self.p[self.surface].max(0))

    @cached_property
    def crown(self) -> np.ndarray:
        """The highest place on the middle plane (3,)."""
        wide = 0.03 * np.ptp(self.p[self.surface, 0])
        mid = self.surface & (np.abs(self.p[:, 0]) < wide)
        own = self.p[mid if mid.any() else self.surface]
        return np.asarray(own[np.argmax(own[:, 1])])

    @cached_property
    def size(self) -> float:
        """The cube root of the head's box, less what stands higher than the crown."""
        own = self.p[self.surface & (self.p[:, 1] <= self.crown[1] + 1e-9)]
        box = np.percentile(own, [1, 99], axis=0)
        return float(np.cbrt(np.prod(np.maximum(box[1] - box[0], 1e-9))))

    def reach(self, mask: np.ndarray | None = None) -> csr_matrix:
        """Lengths of the edges among `mask` (n,), both ways."""
        e = self.edges if mask is None else self.edges[mask[self.edges].all(1)]
        return graph(e, np.linalg.norm(self.p[e[:, 0]] - self.p[e[:, 1]], axis=1), len(self.p))

    def pieces(self, mask: np.ndarray) -> list[np.ndarray]:
        """The connected pieces of `mask` (n,), as rows."""
        e = self.edges[mask[self.edges].all(1)]
        label = labels_of(e, len(self.p))
        rows = np.flatnonzero(mask)
        order = rows[np.argsort(label[rows], kind="stable")]
        return np.split(order, np.flatnonzero(np.diff(label[order])) + 1) if len(order) else []

    @cached_property
    def light(self) -> np.ndarray:
        """(n,) the share of the sky that each point of the head sees, 0 to 1: pockets of eyes and the insides of mouths are dark."""
        seen = np.ones(len(self.p))
        i = np.flatnonzero(self.inside)
        seen[i] = light_on(self.p, self.t, self.p[i], self.normals[i], self.size)
        return seen

    @cached_property
    def bend(self) -> np.ndarray:
        """(n,) mean curvature, positive where convex, in 1 / size, a little smoothed."""
        stiff, area, _ = self.laplacian
        h = np.clip((stiff @ self.p * self.normals).sum(1) / (2 * np.maximum(area, 1e-14)) * self.size, -60, 60)
        w = -(stiff - diags(stiff.diagonal()))
        total = np.maximum(np.asarray(w.sum(1)).ravel(), 1e-12)
        for _ in range(2):
            h = 0.5 * h + 0.5 * (w @ h) / total
        return np.asarray(h)

    @cached_property
    def laplacian(self) -> tuple[csr_matrix, np.ndarray, np.ndarray]:
        """Cotangent Laplacian (n, n; positive semidefinite), lumped areas (n,), and which points it reaches (n,): the head's skin and
        half a head more, so that weights run out down the neck instead of ending in a step."""
        p = self.p
        middle = 0.5 * (self.low + self.high)
        near = self.skin & (
            np.linalg.norm(p - middle, axis=1) < 0.5 * np.linalg.norm(self.high - self.low) + 0.5 * self.size
        )
        t = self.t[near[self.t].all(1)]
        reached = np.zeros(len(p), bool)
        reached[t.ravel()] = True
        return *cotangent_laplacian(p, t, 0.02, 20.0), reached


def graph(edges: np.ndarray, lengths: np.ndarray, n: int) -> csr_matrix:
    """Edges (e, 2) with lengths (e,) as a matrix (n, n), both ways."""
    a, b = edges[:, 0], edges[:, 1]
    return coo_matrix((np.r_[lengths, lengths], (np.r_[a, b], np.r_[b, a])), shape=(n, n)).tocsr()


# -- finding it ----------------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Region:
    """All that joints say of a head, so that a face need not be looked for again when a knee has moved.

    inside: which points are of it, as bytes; across: where the body's left lies, of heads without two eyeballs; ears: the places of
    the left and the right ear's joint.
    """

    inside: bytes
    across: Vector | None
    ears: tuple[Vector | None, ...]

    @property
    def mask(self) -> np.ndarray:
        return np.frombuffer(self.inside, bool)


@derived("points", "face_starts", "face_corners", "parts", most=4)
def joined(character: Character) -> Joined:
    """The mesh that heads are found on; kept for the last few."""
    topo = topology_of(character)
    first, number = welded_points(character.points, 1e-6 * character.size)
    t = whole_triangles(number[topo.triangles]).astype(np.int64)
    e = np.unique(np.sort(number[topo.edges], 1), axis=0).astype(np.int64)
    role = np.array([part.role for part in character.parts] or ["skin"], dtype=object)
    role = role[character.part_numbers("points")][first]
    return Joined(character.points[first], t, e[e[:, 0] != e[:, 1]], role, number, first, topo.islands[first])


def region_of(character: Character) -> Region:
    """What is nearer to a head's bones than to others, or the whole where there are no joints.

    Raises StepRefused where there is no head to be seen.
    """
    if len(character.points) < 20:
        raise StepRefused("There is no mesh to find a face in.", character.name, "Bring a model in first.")
    mesh = joined(character)
    inside = _of_head(character, mesh)
    if (inside & (mesh.role == "skin")).sum() < 20:
        raise StepRefused(
            "No skin lies about the head's joint.", character.name, "Lay the plan again, or move the joint of the head."
        )
    ears = [character.joint_with_role("ear", side) for side in SIDES]
    return Region(
        inside.tobytes(),
        None if len(_balls(mesh, inside)) == 2 else across_of(character),
        tuple(j.place if j is not None else None for j in ears),
    )


def head_in(mesh: Joined, region: Region) -> Head:
    """The head in its own frame."""
    turn, shift, even = _frame(mesh, region)
    role = mesh.role.copy()  # what is found to be eyes gets their role
    role[_worn(mesh, region.mask)] = "prop"
    own = {**vars(mesh), "p": mesh.p @ turn.T + shift, "role": role}
    return Head(**own, inside=region.mask, turn=turn, shift=shift, even=even)


def head_joint(character: Character) -> Joint | None:
    """The head's joint; of a chain, whose joints have no names on the body, the one nearest to its eyes."""
    head = character.joint_with_role("head")
    if head is None:
        eyes = [character.points[slice(*q.points)].mean(0) for q in character.parts if q.role == "eye"]
        joints = [j for j in character.joints if j.deforms and j.role not in ("eye", "jaw")]
        if eyes and joints:
            return min(joints, key=lambda j: float(np.linalg.norm(np.array(j.place) - np.mean(eyes, axis=0))))
    return head


def _largest(mesh: Joined, mask: np.ndarray) -> np.ndarray:
    """(n,) the largest connected piece of `mask`."""
    label = labels_of(mesh.edges[mask[mesh.edges].all(1)], len(mesh.p))
    counts = np.bincount(label[mask]) if mask.any() else np.zeros(1, int)
    return np.asarray(label == int(counts.argmax()))


def _of_head(character: Character, mesh: Joined) -> np.ndarray:
    """(n,) which points are of the head."""
    head, p, edges = head_joint(character), mesh.p, mesh.edges
    if head is None:
        if any(j.deforms for j in character.joints):
            raise StepRefused(
                "No joint is the head's, so nothing says where the face is.", character.name,
                "Lay a plan that has a head, or say of a joint that its role is “head”.",
            )  # fmt: skip
        return np.ones(len(p), bool)
    bones: dict[bool, list[tuple[Vector, Vector]]] = {True: [], False: []}
    above = {j.name: j.parent for j in character.joints}
    for j in character.joints:
        if j.parent is None:
            continue
        up = character.joint(j.parent)
        mine = up.role.startswith(OF_HEAD)
        at: str | None = up.name
        while at is not None and not mine:  # feelers and horns belong to the head that they hang on
            mine, at = at == head.name, above[at]
        bones[mine].append((up.place, j.place))
    if not bones[True]:
        bones[True].append((head.place, head.place))
    far = {mine: distance_to_segments(p, np.array(bones[mine]).reshape(-1, 2, 3)) for mine in (True, False)}
    inside = NEARER * far[True] < far[False]
    body = np.isin(mesh.role, ["eye", "lid", "teeth", "tongue"])
    main = _largest(mesh, inside & ~body)
    # Wings and paws that lie by the head are pieces of a mesh that goes on elsewhere: only pieces that end here are the head's.
    whole = labels_of(edges, len(p))
    outside = np.unique(whole[~inside])
    ends_here = ~np.isin(whole, outside)
    return np.asarray(inside & (main | body | ends_here))


def _worn(mesh: Joined, inside: np.ndarray) -> np.ndarray:
    """Rows of what is put on a head whose own skin is whole: hats, spectacles, hair.  Where the skin itself is in pieces all of it
    counts as skin."""
    skin = inside & (mesh.role == "skin")
    main = _largest(mesh, skin)
    flat = topology_of_triangles(mesh.t[(main & skin)[mesh.t].all(1)], len(mesh.p))
    cut = np.zeros(len(mesh.p), bool)
    cut[mesh.t[~inside[mesh.t].all(1)]] = True  # the head was cut from its body here
    torn = (flat.edge_faces == 1) & ~cut[flat.edges].any(1)
    if torn.sum() > TORN * len(flat.edges):
        return np.zeros(0, int)
    return np.flatnonzero(skin & ~main)


def _frame(mesh: Joined, region: Region) -> tuple[np.ndarray, np.ndarray, bool]:
    """The head's middle plane and facing: turn (3, 3), shift (3,), whether its halves are alike."""
    own = mesh.p[region.mask]
    size = float(np.ptp(own, axis=0).max())
    some = own[np.random.default_rng(0).choice(len(own), min(900, len(own)), replace=False)]
    tree = cKDTree(own)
    start, middle = _guess(mesh, region)
    if tree.query(some * [-1.0, 1.0, 1.0])[0].max() < 1e-4 * size and start[0, 0] > 0.99:
        return np.eye(3), np.zeros(3), True

    def plane(v: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        left = unit(start[0] + v[0] * start[2] + v[1] * start[1])
        return left, middle + v[2] * size * left

    def miss(v: np.ndarray) -> float:
        left, at = plane(v)
        d = tree.query(some - 2 * ((some - at) @ left)[:, None] * left)[0]
        return float(np.sort(d)[: int(0.85 * len(d))].mean() / size)

    best = minimize(
        miss, np.zeros(3), method="Nelder-Mead",
        options={
            "xatol": 1e-4, "fatol": 1e-6, "maxfev": 160,
            "initial_simplex": [[0, 0, 0], [0.12, 0, 0], [0, 0.12, 0], [0, 0, 0.02]],
        },
    )  # fmt: skip
    left, at = plane(best.x)
    up = unit(start[1] - (start[1] @ left) * left)
    turn = np.stack([left, up, np.cross(left, up)])
    shift = -turn @ at
    shift[1:] = 0.0
    return turn, shift, bool(best.fun < 0.006)


def _guess(mesh: Joined, region: Region) -> tuple[np.ndarray, np.ndarray]:
    """Rows left, up, ahead, and a place on the middle plane: from two eyeballs where there are some, else as the body stands."""
    inside, up = region.mask, np.array([0.0, 1.0, 0.0])
    if region.across is None:
        balls = _balls(mesh, inside)
        across, between = unit(balls[0] - balls[1]), 0.5 * (balls[0] + balls[1])
        up = unit(up - (up @ across) * across)
        ahead = np.cross(across, up)
        if ahead @ _bare_ahead(mesh, inside, balls) < 0:
            across, ahead = -across, -ahead
        return np.stack([across, up, ahead]), between
    across, own = np.array(region.across), mesh.p[inside]
    return np.stack([across, up, np.cross(across, up)]), 0.5 * (own.min(0) + own.max(0))


def across_of(character: Character) -> Vector:
    """Where the left of a body lies, by its pairs of joints; +x without any."""
    pairs = [(j, character.partner(j.name)) for j in character.joints if j.side == "L"]
    ways = [np.array(j.place) - np.array(character.joint(other).place) for j, other in pairs if other]
    return vector(unit(np.sum(ways, axis=0) * [1, 0, 1])) if ways else (1.0, 0.0, 0.0)


def _bare_ahead(mesh: Joined, inside: np.ndarray, balls: list[np.ndarray]) -> np.ndarray:
    """Where eyes look from: the mean of the directions from their centres that no skin covers (3,)."""
    p, t = mesh.p, mesh.t
    size = float(np.linalg.norm(balls[0] - balls[1]))
    skin = inside & np.isin(mesh.role, ("skin", "lid"))
    near = np.linalg.norm(p - np.mean(balls, axis=0), axis=1) < 3 * size
    u = directions(200)
    tri = t[(skin & near)[t].all(1)]
    free = [u[np.isinf(first_hits(p, tri, np.tile(c, (len(u), 1)), u, 1e-6 * size)[0])].sum(0) for c in balls]
    return np.asarray(np.sum(free, axis=0))


def _balls(mesh: Joined, inside: np.ndarray) -> list[np.ndarray]:
    """Centres of the two halves of what the parts call eyes, split across their longest way."""
    eyes = mesh.p[inside & (mesh.role == "eye")]
    if len(eyes) < 16:
        return []
    centred = eyes - eyes.mean(0)
    way = np.linalg.eigh(centred.T @ centred)[1][:, -1]
    one = centred @ way > 0
    if min(one.sum(), (~one).sum()) < 8:
        return []
    found = [fit_sphere(eyes[m]) for m in (one, ~one)]
    apart = float(np.linalg.norm(found[0][0] - found[1][0]))
    return [c for c, _, _ in found] if apart > found[0][1] + found[1][1] else []


# -- light ---------------------------------------------------------------------------------------------------------------
@compiled
def _depths(q: np.ndarray, tri: np.ndarray, n: int, depth: np.ndarray) -> None:
    for t in range(len(tri)):
        a, b, c = q[tri[t, 0]], q[tri[t, 1]], q[tri[t, 2]]
        area = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])
        if area == 0.0:
            continue
        turn = 1.0 if area > 0.0 else -1.0
        area *= turn
        x0, x1 = max(0, int(np.ceil(min(a[0], b[0], c[0])))), min(n - 1, int(np.floor(max(a[0], b[0], c[0]))))
        y0, y1 = max(0, int(np.ceil(min(a[1], b[1], c[1])))), min(n - 1, int(np.floor(max(a[1], b[1], c[1]))))
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                u = ((x - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (y - a[1])) * turn
                v = ((b[0] - a[0]) * (y - a[1]) - (x - a[0]) * (b[1] - a[1])) * turn
                if u < 0 or v < 0 or u + v > area:
                    continue
                z = a[2] + (u * (b[2] - a[2]) + v * (c[2] - a[2])) / area
                if z > depth[y, x]:
                    depth[y, x] = z


def directions(n: int) -> np.ndarray:
    """(n, 3) unit vectors spread evenly over the sphere along a golden spiral."""
    i = np.arange(n) + 0.5
    angle, y = np.pi * (1 + 5**0.5) * i, 1 - 2 * i / n
    s = np.sqrt(1 - y * y)
    return np.stack([s * np.cos(angle), y, s * np.sin(angle)], 1)


def light_on(points: np.ndarray, triangles: np.ndarray, at: np.ndarray, normals: np.ndarray, size: float) -> np.ndarray:
    """(k,) the share of the sky that places `at` with `normals` see, by depth maps from even directions, cosine weighted."""
    low, high = at.min(0), at.max(0)
    centre, half = 0.5 * (low + high), 0.55 * float(np.linalg.norm(high - low))
    near = np.linalg.norm(points - centre, axis=1) < 2.5 * half
    tri = (np.cumsum(near) - 1)[triangles[near[triangles].all(1)]]
    near_points = points[near] - centre
    seen, total = np.zeros(len(at)), np.zeros(len(at))
    start, scale = at + normals * 0.004 * size, GRID / (2 * half)
    for w in directions(DIRECTIONS):
        right = unit(np.cross([0.3, 0.9, 0.2], w))
        axes = np.stack([right, np.cross(w, right), w], 1)
        q = near_points @ axes * [scale, scale, 1] + [GRID / 2, GRID / 2, 0]
        s = (start - centre) @ axes * [scale, scale, 1] + [GRID / 2, GRID / 2, 0]
        depth = np.full((GRID, GRID), -np.inf)
        _depths(q, tri, GRID, depth)
        x, y = np.clip(np.rint(s[:, :2]).astype(int), 0, GRID - 1).T
        c = np.maximum(normals @ w, 0.0)
        seen += c * (s[:, 2] > depth[y, x] - 0.012 * size)
        total += c
    return np.asarray(seen / np.maximum(total, 1e-9))
