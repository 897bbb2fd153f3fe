"""Edge rings, support loops, cuts along folds, hand-made triangles and a mouth bag."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from ..character import Character
from ..errors import BadParameters, StepRefused
from .surgery import Knife, Mean
from .topology import Topology, point_normals, topology_of


@dataclass(frozen=True)
class Ring:
    """Edges that lie side by side across quads: `ends` (e, 2) points, all first points on one side.

    `faces` are the quads between each edge and the next (one more step back to the first where `closed`).
    """

    ends: np.ndarray
    faces: np.ndarray
    closed: bool


def edge_ring(topo: Topology, a: int, b: int) -> Ring:
    """The ring of the edge from point a to point b.  Raises BadParameters where there is no such edge."""
    start = topo.edge_between(a, b)
    if start < 0:
        raise BadParameters(f"Points {a} and {b} share no edge.", "", "Pick an edge of the mesh.")
    rows, cols = topo.edge_corners

    def across(edge: tuple[int, int], came: int) -> tuple[tuple[int, int], int] | None:
        """The opposite edge of the other quad at this edge, turned so that sides are kept."""
        e = topo.edge_between(*edge)
        for c in cols[rows[e] : rows[e + 1]]:
            f = int(topo.corner_face[c])
            if f == came or topo.sizes[f] != 4:
                continue
            s = int(topo.starts[f])
            k = int(c) - s
            quad = [int(topo.corners[s + (k + i) % 4]) for i in range(4)]
            return ((quad[3], quad[2]) if quad[0] == edge[0] else (quad[2], quad[3])), f
        return None

    ends, faces = [(a, b)], []
    walked = {start}
    here, came = (a, b), -1
    while (step := across(here, came)) is not None:
        here, came = step
        faces.append(came)
        e = topo.edge_between(*here)
        if e in walked:
            return Ring(np.array(ends), np.array(faces), e == start)
        walked.add(e)
        ends.append(here)
    here, came = (a, b), faces[0] if faces else -1
    while (step := across(here, came)) is not None:
        here, came = step
        e = topo.edge_between(*here)
        faces.insert(0, came)
        if e in walked:
            break
        walked.add(e)
        ends.insert(0, here)
    return Ring(np.array(ends), np.array(faces), False)


def with_loop(character: Character, a: int, b: int, at: float = 0.5) -> Character:
    """A new edge loop slid in across the ring of edge a–b, a share `at` of the way from a's side to b's.

    Each quad becomes two; where the ring ends at a face that is no quad, that face gets the point as a corner.  The
    surface, texture places, weights and shapes keep their course along every split edge.
    """
    if not 0.0 < at < 1.0:
        raise BadParameters("A loop lies between the two sides: 0 to 1.", "", "Slide it in from either side.")
    topo = topology_of(character)
    ring = edge_ring(topo, a, b)
    if not len(ring.faces):
        raise StepRefused("No quad lies beside that edge.", character.name, "Pick an edge between quads.")
    knife = Knife(character)
    new: dict[int, int] = {}
    for p, q in ring.ends:
        mean: Mean = {int(p): 1.0 - at, int(q): at}
        new[topo.edge_between(int(p), int(q))] = knife.add_point(mean)
    first_side = {topo.edge_between(int(p), int(q)): int(p) for p, q in ring.ends}
    has_uvs = "uvs" in character.arrays
    inside: set[int] = set()
    for f in dict.fromkeys(ring.faces.tolist()):
        corners = list(range(int(topo.starts[f]), int(topo.starts[f + 1])))
        split = [int(topo.corner_edge[k]) in new for k in corners]
        if split[0] and split[2] or split[1] and split[3]:
            inside.add(f)
            while not (split[0] and split[2]):
                corners, split = corners[1:] + corners[:1], split[1:] + split[:1]
            _split_quad(topo, knife, new, first_side, f, corners, at, has_uvs)
    _stitch_ends(topo, knife, new, first_side, inside, at, has_uvs)
    return knife.finish()


def _split_quad(
    topo: Topology, knife: Knife, new: dict[int, int], first_side: dict[int, int], f: int, corners: list[int], at: float,
    has_uvs: bool,
) -> None:  # fmt: skip
    """A quad of the ring made two, four where the ring crosses itself in it, or two with a corner more at an end."""
    c = [int(topo.corners[k]) for k in corners]
    edges = [int(topo.corner_edge[k]) for k in corners]
    share = [at if first_side.get(e) == c[i] else 1.0 - at for i, e in enumerate(edges)]
    half = [_between(corners[i], corners[(i + 1) % 4], share[i]) for i in range(4)]  # texture places on each edge
    whole: list[Mean] = [{k: 1.0} for k in corners]
    knife.take_face(f)
    split = [e in new for e in edges]
    if all(split):
        u, v = 0.5 * (share[0] + 1 - share[2]), 0.5 * (share[1] + 1 - share[3])
        shares = ((1 - u) * (1 - v), u * (1 - v), u * v, (1 - u) * v)
        centre = knife.add_point({p: w for p, w in zip(c, shares, strict=True)})
        uv_centre: Mean = dict(zip(corners, shares, strict=True))
        for i in range(4):
            before = (i + 3) % 4
            points = [c[i], new[edges[i]], centre, new[edges[before]]]
            knife.add_face(points, f, [whole[i], half[i], uv_centre, half[before]] if has_uvs else None)
        return
    one, one_uv = [c[0], new[edges[0]], new[edges[2]], c[3]], [whole[0], half[0], half[2], whole[3]]
    two, two_uv = [new[edges[0]], c[1], c[2], new[edges[2]]], [half[0], whole[1], whole[2], half[2]]
    if split[1]:
        two.insert(2, new[edges[1]])
        two_uv.insert(2, half[1])
    if split[3]:
        one.append(new[edges[3]])
        one_uv.append(half[3])
    knife.add_face(one, f, one_uv if has_uvs else None)
    knife.add_face(two, f, two_uv if has_uvs else None)


def _between(c: int, d: int, t: float) -> Mean:
    return {c: 1.0 - t, d: t}


def _stitch_ends(
    topo: Topology, knife: Knife, new: dict[int, int], first_side: dict[int, int], inside: set[int], at: float, has_uvs: bool
) -> None:  # fmt: skip
    """Faces beside the ring that are no quads of it take the new point between their corners."""
    rows, cols = topo.edge_corners
    touched: dict[int, None] = {}
    for e in new:
        for c in cols[rows[e] : rows[e + 1]]:
            f = int(topo.corner_face[c])
            if f not in inside:
                touched[f] = None
    for f in touched:
        points: list[int] = []
        uvs: list[Mean] = []
        span = range(int(topo.starts[f]), int(topo.starts[f + 1]))
        for c in span:
            points.append(int(topo.corners[c]))
            uvs.append({c: 1.0})
            e = int(topo.corner_edge[c])
            if e in new:
                points.append(new[e])
                following = c + 1 if c + 1 < span.stop else span.start
                uvs.append(_between(c, following, at if first_side[e] == topo.corners[c] else 1.0 - at))
        knife.take_face(f)
        knife.add_face(points, f, uvs if has_uvs else None)


def loop_through(topo: Topology, a: int, b: int) -> tuple[np.ndarray, bool]:
    """Points of the edge loop that runs on from edge a–b over points with four edges, and whether it closes."""
    rows, cols = topo.neighbours

    def onward(before: int, here: int) -> int:
        if rows[here + 1] - rows[here] != 4:
            return -1
        e = topo.edge_between(before, here)
        r, cc = topo.edge_corners
        beside = {int(topo.corner_face[c]) for c in cc[r[e] : r[e + 1]]}
        for n in cols[rows[here] : rows[here + 1]]:
            e2 = topo.edge_between(here, int(n))
            if int(n) != before and not beside & {int(topo.corner_face[c]) for c in cc[r[e2] : r[e2 + 1]]}:
                return int(n)
        return -1

    line = [a, b]
    while True:
        n = onward(line[-2], line[-1])
        if n < 0 or len(line) > topo.count:
            break
        if n == line[0]:
            return np.array(line), True
        line.append(n)
    while True:
        n = onward(line[1], line[0])
        if n < 0 or len(line) > topo.count:
            break
        line.insert(0, n)
    return np.array(line), False


def loop_near(character: Character, point: int, towards: np.ndarray) -> np.ndarray:
    """Points of a closed loop through `point` that runs round a limb rather than along it.

    Of the loops through the point, the closed one whose plane stands most across `towards` (3,), or else the shortest
    closed one.  Raises StepRefused where none closes.
    """
    topo = topology_of(character)
    rows, cols = topo.neighbours
    found = []
    for n in cols[rows[point] : rows[point + 1]]:
        line, closed = loop_through(topo, point, int(n))
        if closed:
            p = character.points[line]
            found.append((float(np.linalg.norm(np.diff(np.vstack([p, p[:1]]), axis=0), axis=1).sum()), line))
    if not found:
        raise StepRefused("No edge loop closes round that point.", character.name, "Pick a point between quads.")
    if np.linalg.norm(towards) > 0:

        def stands_across(line: np.ndarray) -> float:
            normal = np.linalg.svd(character.points[line] - character.points[line].mean(0))[2][2]
            return -abs(float(normal @ towards))

        return min(found, key=lambda x: stands_across(x[1]))[1]
    return min(found, key=lambda x: x[0])[1]


# -- cuts and triangles ------------------------------------------------------------------------------------------
def edge_path(character: Character, points: list[int]) -> np.ndarray:
    """The shortest way along edges through the given points, in their order."""
    topo = topology_of(character)
    if len(points) < 2 or not all(0 <= p < topo.count for p in points):
        raise BadParameters("A fold line runs through at least two points of the mesh.", character.name, "Pick two.")
    e = topo.edges
    lengths = np.linalg.norm(character.points[e[:, 0]] - character.points[e[:, 1]], axis=1)
    graph = coo_matrix((np.maximum(lengths, 1e-12), (e[:, 0], e[:, 1])), (topo.count, topo.count)).tocsr()
    path = [points[0]]
    for a, b in zip(points, points[1:], strict=False):
        distance, before = dijkstra(graph, directed=False, indices=a, return_predecessors=True)
        if not np.isfinite(distance[b]):
            raise StepRefused("No edges lead from one point to the other.", character.name, "Pick both on one piece.")
        leg = [b]
        while leg[-1] != a:
            leg.append(int(before[leg[-1]]))
        path += leg[::-1][1:]
    return np.array(path)


def cut_along(character: Character, path: np.ndarray) -> Character:
    """The mesh opened along a path of edges: points on it are doubled wherever the cut parts the faces round them.

    A cut that begins and ends inside the surface opens a slit; from border to border it parts the piece.
    """
    topo = topology_of(character)
    cut = {topo.edge_between(int(a), int(b)) for a, b in zip(path, path[1:], strict=False)}
    if -1 in cut:
        raise BadParameters("The fold line leaves the edges.", character.name, "Pick points again.")
    knife = Knife(character)
    rows, corner_at = topo.point_corners
    opened = 0
    for p in dict.fromkeys(int(v) for v in path):
        corners = [int(c) for c in corner_at[rows[p] : rows[p + 1]]]
        group = {c: c for c in corners}

        def root(c: int, group: dict[int, int] = group) -> int:
            while group[c] != c:
                c = group[c]
            return c

        by_edge: dict[int, int] = {}
        for c in corners:
            f = topo.corner_face[c]
            before = c - 1 if c > topo.starts[f] else int(topo.starts[f + 1]) - 1
            for e in (int(topo.corner_edge[c]), int(topo.corner_edge[before])):
                if e in cut:
                    continue
                if e in by_edge:
                    group[root(c)] = root(by_edge[e])
                else:
                    by_edge[e] = c
        fans: dict[int, list[int]] = {}
        for c in corners:
            fans.setdefault(root(c), []).append(c)
        for fan in list(fans.values())[1:]:
            copy = knife.add_point({p: 1.0})
            knife.corners[fan] = copy
            opened += 1
    if not opened:
        raise StepRefused(
            "A cut along a single edge opens nothing.", character.name, "Make it longer, or let it reach a border."
        )
    return knife.finish()


def with_triangles(character: Character, faces: list[int], other_way: bool = False) -> Character:
    """Chosen quads (and larger faces) cut into triangles, a quad along its shorter diagonal or along the other."""
    topo = topology_of(character)
    if not faces or not all(0 <= f < len(topo.sizes) for f in faces):
        raise BadParameters("Choose faces of the mesh.", character.name, "Click a quad.")
    knife = Knife(character)
    cut = 0
    has_uvs = "uvs" in character.arrays
    for f in dict.fromkeys(faces):
        size = int(topo.sizes[f])
        if size < 4:
            continue
        corners = list(range(int(topo.starts[f]), int(topo.starts[f + 1])))
        p = character.points[topo.corners[corners]]
        if size == 4 and (np.linalg.norm(p[0] - p[2]) > np.linalg.norm(p[1] - p[3])) != other_way:
            corners = corners[1:] + corners[:1]
        knife.take_face(f)
        cut += 1
        for k in range(1, size - 1):
            three = [corners[0], corners[k], corners[k + 1]]
            knife.add_face([int(topo.corners[c]) for c in three], f, [{c: 1.0} for c in three] if has_uvs else None)
    if not cut:
        raise StepRefused("Those faces are triangles already.", character.name, "Click a quad.")
    return knife.finish()


# -- borders and the mouth bag -----------------------------------------------------------------------------------
def border_loops(topo: Topology) -> list[np.ndarray]:
    """Points of each open border, in the direction its faces run, longest first."""
    open_edges = topo.edge_faces == 1
    corners = np.flatnonzero(open_edges[topo.corner_edge])
    onward: dict[int, list[int]] = {}
    for c in corners:
        onward.setdefault(int(topo.corners[c]), []).append(int(topo.corner_next[c]))
    loops = []
    while onward:
        start = next(iter(onward))
        line = [start]
        while True:
            options = onward.get(line[-1])
            if not options:
                break
            n = options.pop()
            if not options:
                del onward[line[-1]]
            if n == start:
                loops.append(np.array(line))
                break
            line.append(n)
            if len(line) > topo.count:
                break
    return sorted(loops, key=len, reverse=True)


def border_with(topo: Topology, point: int) -> np.ndarray:
    """Points of the border loop that holds a point; none where it lies on no border."""
    for loop in border_loops(topo):
        if point in loop:
            return loop
    return np.zeros(0, np.int64)


Rows = Callable[[np.ndarray, float], np.ndarray]
"""From the rim's places (n, 3) and how far in a row of a bag lies (0 to 1): its places (n, 3)."""


def with_mouth_bag(
    character: Character, point: int, depth: float, rings: int = 4, widen: float = 1.15, rows_at: Rows | None = None
) -> Character:
    """A bag grown inwards from the open border that holds `point`, and closed: quads all over where the border is even.

    depth: metres inwards; rings: how many loops deep; widen: how wide the bag becomes behind the lips; rows_at: the places of its
    rows instead, for lips that lie on each other.  The bag is
    part of the same part, welded to the lips.  Raises StepRefused where the point lies on no open border.
    """
    topo = topology_of(character)
    loop = border_with(topo, point)
    if len(loop) < 6:
        raise StepRefused("That point lies on no open border.", character.name, "Pick a point on the rim of the lips.")
    p = character.points[loop]
    middle = p.mean(0)
    normal = np.linalg.svd(p - middle)[2][2]
    outward = point_normals(character.points, topo.triangles)[loop].mean(0)
    body = character.points[np.unique(topo.corners)].mean(0)
    facing = outward if np.linalg.norm(outward) > 0.2 else middle - body
    inward = -normal * np.sign(normal @ facing or 1.0)
    knife = Knife(character)
    face_at = {
        int(topo.corners[c]): int(topo.corner_face[c])
        for c in range(len(topo.corners))
        if topo.edge_faces[topo.corner_edge[c]] == 1
    }
    rows: list[list[int]] = [[int(v) for v in loop]]
    for r in range(1, rings + 1):
        t = r / rings
        grow = 1.0 + (widen - 1.0) * np.sin(np.pi * min(1.0, 1.4 * t)) - 0.35 * t**3
        places = (
            middle + (p - middle) * grow + inward * depth * np.sin(0.5 * np.pi * t)
            if rows_at is None
            else rows_at(p, t)
        )
        rows.append([knife.add_point({int(v): 1.0}, places[k]) for k, v in enumerate(loop)])
    n = len(loop)
    like = face_at[int(loop[0])]
    for outer, inner in zip(rows, rows[1:], strict=False):
        for i in range(n):
            k = (i + 1) % n
            knife.add_face([outer[k], outer[i], inner[i], inner[k]], like, _no_uvs(character, like, 4))
    # The cap is a ladder from one corner of the mouth to the other: upper lip to lower lip.
    corner = int(np.argmax(p[:, 0]))
    last = rows[-1][corner:] + rows[-1][:corner]
    i, j = 0, n - 1
    while i + 1 < j:
        if i + 1 == j - 1:
            face = [last[j], last[i], last[i + 1]]
        else:
            face = [last[j], last[i], last[i + 1], last[j - 1]]
        if len(set(face)) > 2:
            knife.add_face(face[::-1], like, _no_uvs(character, like, len(face)))
        i, j = i + 1, j - 1
    return knife.finish()


def _no_uvs(character: Character, face: int, count: int) -> list[Mean] | None:
    """A bag has no layout of its own yet: all its corners share one texture place of the lips."""
    if "uvs" not in character.arrays:
        return None
    return [{int(character.arrays["face_starts"][face]): 1.0}] * count
