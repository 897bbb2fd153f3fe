"""What others do, to compare with: bounded biharmonic weights by libigl, centres of rotation.  Not part of the program."""

from __future__ import annotations

import itertools
import os
import tempfile
from concurrent.futures import ProcessPoolExecutor

import igl
import numba
import numpy as np
from scipy.spatial import cKDTree

from vonkel.core.character import Character, Skin
from vonkel.core.geometry.topology import skin_triangles, welded_points
from vonkel.core.geometry.voxels import Solid, solid_from_mesh
from vonkel.core.skin import reference
from vonkel.core.skin.bones import bones_of
from vonkel.core.weights import WeightTable

NODES = 9_000  # of a lattice
LARGEST = 30_000  # places: each bone's weights are a programme over all of them


def tetrahedra(solid: Solid) -> tuple[np.ndarray, np.ndarray]:
    """(places (m, 3), tetrahedra (t, 4)): cells' centres, each cube of eight cut in six along one diagonal (Kuhn 1960)."""
    number = solid.number
    low = np.argwhere(solid.inside[:-1, :-1, :-1])
    found = []
    for way in itertools.permutations(range(3)):
        steps = np.zeros((4, 3), int)
        for k, axis in enumerate(way):
            steps[k + 1 :, axis] = 1
        found.append(number[tuple((low[:, None] + steps[None]).transpose(2, 0, 1))])
    cubes = np.stack(found, 1)  # (c, 6, 4)
    tets = cubes[(cubes >= 0).all((1, 2))].reshape(-1, 4)
    used, tets = np.unique(tets, return_inverse=True)
    return solid.centres[used], np.asarray(tets).reshape(-1, 4)


def _by_tetgen(points: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    import tetgen

    os.chdir(tempfile.gettempdir())  # it leaves files of what it refuses
    body = tetgen.TetGen(points, faces)
    return body.tetrahedralize(order=1, mindihedral=10, minratio=2.0, steinerleft=40_000)[:2]


def filled(c: Character) -> tuple[np.ndarray, np.ndarray, str]:
    """(places (m, 3), tetrahedra (t, 4), by what): by TetGen, where it is installed and takes the skin; else by a lattice."""
    triangles = skin_triangles(c)
    try:
        first, of = welded_points(c.points, 1e-6 * c.size)
        used, faces = np.unique(of[triangles], return_inverse=True)
        with ProcessPoolExecutor(1) as apart:  # some bodies make it die
            surface = c.points[first][used], np.asarray(faces).reshape(-1, 3).astype(np.int32)
            places, tets = apart.submit(_by_tetgen, *surface).result()
        if len(places) < LARGEST:
            return places, tets.astype(np.int64), "TetGen"
    except (ImportError, RuntimeError):
        pass
    taken = solid_from_mesh(c.points, triangles, c.size / 64)
    h = (taken.inside.sum() * taken.h**3 / NODES) ** (1 / 3)
    return *tetrahedra(solid_from_mesh(c.points, triangles, h)), "lattice"


def bounded_biharmonic(c: Character, influences: int = 4) -> tuple[Character, str]:
    """Weights by Jacobson, Baran, Popović & Sorkine 2011, by libigl; and what was done, in words.

    Bones that no place within the body is near to hold nothing.
    """
    places, tets, by = filled(c)
    tree, bones = cKDTree(places), bones_of(c)
    near: dict[int, tuple[float, int]] = {}
    for k, bone in enumerate(bones):
        for a, b in bone.segments:
            far, at = tree.query(a + np.linspace(0.1, 0.9, 9)[:, None] * (b - a))
            for d, i in zip(far.tolist(), at.tolist(), strict=True):
                near[i] = min(near.get(i, (np.inf, -1)), (d, k))
    b = np.array(sorted(near))
    owners = np.array([near[int(i)][1] for i in b])
    some = np.unique(owners)
    held = np.maximum(igl.bbw(places, tets, b, (owners[:, None] == some).astype(float), max_iter=8), 0)
    far, at = tree.query(c.points, k=4)
    close = 1 / np.maximum(far, 1e-6 * c.size)
    weights = np.einsum("nk,nkb->nb", close / close.sum(1, keepdims=True), held[at])
    weights /= np.maximum(weights.sum(1, keepdims=True), 1e-12)
    joints = tuple(bones[k].joint for k in some)
    index, kept = WeightTable.from_dense(joints, weights).rows(influences)
    skin = Skin(joints=joints, method="dual", influences=influences)
    said = f"{by}, {len(places):,} places, {len(bones) - len(some)} bones without one"
    return c.with_(skin=skin, arrays={"skin/joints": index, "skin/weights": kept}), said


@numba.njit
def _centres(joints, weights, places, areas, starts, held, other, tri_w, tri_o, sigma, out):  # type: ignore[no-untyped-def]
    """Centres of points by triangles that share two of their joints; those of joint j are listed from starts[j] on."""
    for i in range(len(joints)):
        total = 0.0
        x = y = z = 0.0
        for a in range(joints.shape[1]):
            for b in range(joints.shape[1]):
                wa, wb = weights[i, a], weights[i, b]
                if a == b or wa <= 0 or wb <= 0:
                    continue
                j, k = joints[i, a], joints[i, b]
                for e in range(starts[j], starts[j + 1]):
                    if other[e] != k:
                        continue
                    va, vb = tri_w[e], tri_o[e]
                    cross = wa * vb - wb * va
                    s = wa * wb * va * vb * np.exp(-cross * cross / (sigma * sigma)) * areas[held[e]]
                    total += s
                    x += s * places[held[e], 0]
                    y += s * places[held[e], 1]
                    z += s * places[held[e], 2]
        if total > 0:
            out[i, 0], out[i, 1], out[i, 2] = x / total, y / total, z / total


class Centres:
    """Poses by optimised centres of rotation (Le & Hodgins 2016, “Real-time skeletal skinning with optimized centers of rotation”)."""

    def __init__(self, c: Character, joints: np.ndarray, weights: np.ndarray, sigma: float = 0.1) -> None:
        self.joints, self.weights, self.rest = joints, weights.astype(float), c.points
        triangles = skin_triangles(c)
        corners = c.points[triangles]
        areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        many = len(c.joints)
        rows: list[tuple[np.ndarray, ...]] = []
        dense = np.zeros((len(c.points), many))
        np.add.at(dense, (np.arange(len(joints))[:, None], joints), self.weights)
        mean = dense[triangles].mean(1)
        t, j = np.nonzero(mean > 1e-4)
        for shift in range(1, 24):  # pairs of joints of one triangle
            same = np.flatnonzero(t[shift:] == t[:-shift])
            if not len(same):
                break
            a, b = same, same + shift
            rows += [(t[a], j[a], j[b]), (t[a], j[b], j[a])]
        tri, one, two = (np.concatenate([r[k] for r in rows]) for k in range(3))
        order = np.argsort(one, kind="stable")
        tri, one, two = tri[order], one[order], two[order]
        self.centres = c.points.copy()
        _centres(
            joints, self.weights, corners.mean(1), areas, np.searchsorted(one, np.arange(many + 1)), tri, two,
            mean[tri, one], mean[tri, two], sigma, self.centres,
        )  # fmt: skip

    def __call__(self, matrices: np.ndarray) -> np.ndarray:
        """(n, 3): by rigid matrices (j, 3, 4), from rest to the pose."""
        q = reference.dual_quaternions(matrices)[self.joints][:, :, :4]
        sign = np.where((q[:, :1] * q).sum(-1, keepdims=True) < 0, -1.0, 1.0)
        b = (self.weights[:, :, None] * sign * q).sum(1)
        b /= np.linalg.norm(b, axis=1, keepdims=True)
        w, r = b[:, :1], b[:, 1:]
        arm = self.rest - self.centres
        turned = arm + 2 * np.cross(r, np.cross(r, arm) + w * arm)
        return turned + reference.linear(self.centres, self.joints, self.weights, matrices)
