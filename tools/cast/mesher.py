"""From a distance field to half a body of quads, and to a whole one.

The half x ≥ 0 is marched on an octree-culled grid with a plane exactly at x = 0, remeshed to quads on a copy warped for
density, projected back, relaxed, and mirrored with shared points at the middle, so that left and right are equal to
the bit.  The remesher and its like are asked for where they are used: putting faces in (faces.py) needs none of them.
"""

import os
from collections import defaultdict

import numpy as np
import scipy.sparse as sp
from fields import gradient


def march_half(field, low, high, h, lip=1.5):
    """Triangles of {field = 0} for x ≥ 0; cells of h metres, blocks far from the surface are skipped."""
    from skimage import measure

    low = np.array(low, float)
    low[0] = 0
    n = np.ceil((np.array(high) - low) / h / 16).astype(int)
    block = 16
    at = np.stack(np.meshgrid(*[np.arange(k) for k in n], indexing="ij"), -1).reshape(-1, 3) * 16
    values = np.full(n * 16 + 1, 1.0, np.float32)
    octants = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
    while True:
        d = field(low + (at + block / 2) * h)
        near = np.abs(d) < lip * block * h * 0.87 + h
        if block >= 4:
            for c, x in zip(at[~near], d[~near], strict=True):
                values[tuple(slice(v, v + block + 1) for v in c)] = x
        else:
            for o in np.ndindex(3, 3, 3):
                values[tuple((at[~near] + o).T)] = d[~near]
        at = at[near]
        if block == 2:
            break
        block //= 2
        at = (at[:, None] + octants[None] * block).reshape(-1, 3)
    marked = np.zeros(values.shape, bool)
    for o in np.ndindex(3, 3, 3):
        marked[tuple((at + o).T)] = True
    cells = np.argwhere(marked)
    parts = np.array_split(cells, max(1, len(cells) // 200_000))
    values[marked] = np.concatenate([field(low + c * h) for c in parts])
    points, triangles, _, _ = measure.marching_cubes(values, 0.0, allow_degenerate=False)
    points = points * h + low
    points[np.abs(points[:, 0]) < 1e-6, 0] = 0
    return cleaned(points, triangles)


def cleaned(points, triangles):
    import pymeshlab

    ms = pymeshlab.MeshSet()
    ms.add_mesh(pymeshlab.Mesh(points, triangles.astype(np.int32)))
    ms.meshing_remove_duplicate_vertices()
    ms.meshing_merge_close_vertices(threshold=pymeshlab.PureValue(1e-5))
    ms.meshing_remove_null_faces()
    ms.meshing_repair_non_manifold_edges()
    ms.meshing_remove_unreferenced_vertices()
    mesh = ms.current_mesh()
    return mesh.vertex_matrix(), mesh.face_matrix()


def edges_of(faces):
    k = faces.shape[1]
    e = np.sort(np.vstack([faces[:, [i, (i + 1) % k]] for i in range(k)]), 1)
    return e[e[:, 0] != e[:, 1]]


def border(faces):
    """Edges of one face only, and how many edges have more than two."""
    unique, count = np.unique(edges_of(faces), axis=0, return_counts=True)
    return unique[count == 1], int((count > 2).sum())


def project(field, points, rounds=4, middle=None, furthest=0.004):
    """Points moved onto the surface along the gradient; `middle` points keep x = 0."""
    for _ in range(rounds):
        g, d = gradient(field, points), field(points)
        move = -(d / np.maximum((g * g).sum(1), 0.05))[:, None] * g
        move *= np.minimum(1, furthest / np.maximum(np.linalg.norm(move, axis=1, keepdims=True), 1e-12))
        if middle is not None:
            move[middle, 0] = 0
        points = points + move
    return points


def neighbours(points, faces, middle):
    """Mean-of-neighbours matrix; middle points only see middle points, so that they slide in their plane."""
    e = edges_of(faces)
    e = np.vstack([e, e[:, ::-1]])
    e = e[~middle[e[:, 0]] | middle[e[:, 1]]]
    w = sp.csr_matrix((np.ones(len(e)), (e[:, 0], e[:, 1])), shape=(len(points),) * 2)
    w.data[:] = 1
    return sp.diags(1 / np.maximum(np.asarray(w.sum(1)).ravel(), 1)) @ w


def relax(field, points, faces, middle, rounds=10):
    """Tangential smoothing, projected back each round."""
    w = neighbours(points, faces, middle)
    for _ in range(rounds):
        pull, n = w @ points - points, gradient(field, points)
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-9)
        pull -= (pull * n).sum(1, keepdims=True) * n
        pull[middle, 0] = 0
        points = project(field, points + 0.5 * pull, 1, middle)
    return points


def even_out(points, faces, middle, rounds=3):
    """Taubin's two-step smoothing (Taubin 1995): ripples go, volume stays."""
    w = neighbours(points, faces, middle)
    for _ in range(rounds):
        for amount in (0.5, -0.53):
            pull = w @ points - points
            pull[middle, 0] = 0
            points = points + amount * pull
    return points


def fill_holes(points, faces):
    """Border loops away from x = 0 are the remesher's holes: filled by a fan of quads.  Also tells the middle points."""
    directed = [(a, b) for f in faces for a, b in zip(f, np.roll(f, -1), strict=True)]
    known, onward = set(directed), defaultdict(list)
    for a, b in directed:
        if (b, a) not in known:
            onward[b].append(a)
    middle, new, points, holes = np.zeros(len(points), bool), [], list(points), 0
    while onward:
        start = next(iter(onward))
        loop = [start]
        while True:
            then = onward[loop[-1]].pop()
            if not onward[loop[-1]]:
                del onward[loop[-1]]
            if then == start:
                break
            loop.append(then)
        places = np.array([points[i] for i in loop])
        if np.median(np.abs(places[:, 0])) < 0.002:
            middle[loop] = True
            continue
        holes += 1
        points.append(places.mean(0))
        c = len(points) - 1
        new += [[c, loop[i], loop[i + 1], loop[(i + 2) % len(loop)]] for i in range(0, len(loop) - 1, 2)]
    middle = np.r_[middle, np.zeros(len(points) - len(middle), bool)]
    return np.array(points), np.vstack([faces, new]) if new else faces, middle, holes


def drop_doublets(points, faces, keep):
    """Inner points that only two quads share are taken out and the two quads made one."""
    while True:
        at = defaultdict(list)
        for i, f in enumerate(faces):
            for p in f:
                at[p].append(i)
        dead, new = set(), []
        for p, pair in at.items():
            if len(pair) == 2 and not keep[p] and not dead & set(pair):
                a, b = (list(np.roll(faces[i], -list(faces[i]).index(p))) for i in pair)
                if a[1] == b[3] and a[3] == b[1] and a[2] != b[2]:
                    dead |= set(pair)
                    new.append([a[1], a[2], a[3], b[2]])
        if not new:
            break
        faces = np.vstack([faces[[i for i in range(len(faces)) if i not in dead]], new])
    used, faces_new = np.unique(faces, return_inverse=True)
    return points[used], faces_new.reshape(faces.shape), keep[used]


def quads(field, points, triangles, wanted, warp, tries=8):
    """Quads over the half body: field-aligned remeshing of a copy warped for density, looked up back.

    The remesher sometimes leaves the middle or adds a handle; several counts are tried and the best is kept: one
    border loop (Euler 1), no edge of three faces, the border near x = 0.
    """
    import igl
    import pynanoinstantmeshes

    warped, best = warp(points), None
    for attempt in range(tries):
        count = int(wanted * (1 - 0.02 * attempt))
        out, silent = os.dup(1), os.open(os.devnull, os.O_WRONLY)
        os.dup2(silent, 1)  # the remesher talks
        try:
            q, f = pynanoinstantmeshes.remesh(
                warped.astype(np.float32),
                triangles.astype(np.uint32),
                count,
                4,
                4,
                -1.0,
                -1,
                0.0,
                True,
                True,
                2,
                100,
                True,
            )
        finally:
            os.dup2(out, 1)
            os.close(silent)
            os.close(out)
        used, f = np.unique(np.array(f).astype(int), return_inverse=True)
        q, f = np.array(q, float)[used], f.reshape(-1, 4)
        _, at, near = igl.point_mesh_squared_distance(q, warped, triangles.astype(np.int64))
        a, b, c = (warped[triangles[at, k]] for k in range(3))
        shares = np.asarray(igl.barycentric_coordinates(np.ascontiguousarray(near), a, b, c))
        q = (points[triangles[at]] * shares[:, :, None]).sum(1)
        q, f, middle, holes = fill_holes(q, f)
        q, f, middle = drop_doublets(q, f, middle)
        edge, many = border(f)
        euler = len(q) - len(np.unique(edges_of(f), axis=0)) + len(f)
        pinched = (np.bincount(edge.ravel(), minlength=len(q)) > 2).any()
        off = np.abs(q[middle, 0]).max() if middle.any() else 1.0
        score = 1000 * (euler != 1) + 1000 * (many > 0) + 100 * pinched + 5 * holes + 1000 * off
        print(f"  try {attempt}: {len(q)} points, Euler {euler}, {holes} holes, score {score:.0f}")
        if best is None or score < best[0]:
            best = (score, q, f, middle)
        if score < 6:
            break
    _, q, f, middle = best
    q[middle, 0] = 0
    q = project(field, q, 4, middle)
    q = relax(field, q, f, middle)
    q = even_out(project(field, q, 3, middle), f, middle)
    q[~middle, 0] = np.maximum(q[~middle, 0], 1e-4)
    return q, f, middle


def triangles_even(field, low, high, h, size):
    """A small part as even triangles of edge `size`: half points, faces and middle flags."""
    import pymeshlab

    points, faces = march_half(field, low, high, h)
    ms = pymeshlab.MeshSet()
    ms.add_mesh(pymeshlab.Mesh(points, faces.astype(np.int32)))
    ms.meshing_isotropic_explicit_remeshing(
        iterations=5, targetlen=pymeshlab.PureValue(size), featuredeg=180, checksurfdist=False
    )
    mesh = ms.current_mesh()
    points, faces = mesh.vertex_matrix(), mesh.face_matrix()
    middle = np.zeros(len(points), bool)
    middle[np.unique(border(faces)[0])] = True
    points[middle, 0] = 0
    points = relax(field, project(field, points, 4, middle), faces, middle, 8)
    points[~middle, 0] = np.maximum(points[~middle, 0], 1e-4)
    return points, faces, middle


def whole(points, faces, middle):
    """Both halves: middle points are shared, the others are mirrored by negating x."""
    points = points.copy()
    points[middle, 0] = 0
    n, off = len(points), np.flatnonzero(~middle)
    partner = np.arange(n)
    partner[off] = n + np.arange(len(off))
    both = np.vstack([points, points[off] * [-1, 1, 1]])
    faces = np.vstack([faces, partner[faces][:, ::-1]])
    if faces.shape[1] == 4:
        both, faces, _ = drop_doublets(both, faces, np.zeros(len(both), bool))
    return both, faces


def ball(centre, radius, way, around=24, down=16):
    """A sphere with its pole along `way`."""
    from fields import frame

    turn, points, faces = frame(way), [], []
    for j in range(1, down):
        a = np.pi * j / down
        for i in range(around):
            b = 2 * np.pi * i / around
            points.append([np.sin(a) * np.cos(b), np.sin(a) * np.sin(b), np.cos(a)])
    points += [[0, 0, 1], [0, 0, -1]]
    top, bottom, last = len(points) - 2, len(points) - 1, (down - 2) * around
    for i in range(around):
        k = (i + 1) % around
        faces += [[top, i, k], [last + i, bottom, last + k]]
        for j in range(down - 2):
            a, b = j * around + i, (j + 1) * around + i
            c, d = (j + 1) * around + k, j * around + k
            faces += [[a, b, c], [a, c, d]]
    return np.array(centre) + radius * (np.array(points) @ turn.T), np.array(faces)
