"""The Laplacian of a surface."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix, diags


def cotangent_laplacian(
    points: np.ndarray, triangles: np.ndarray, least: float, most: float
) -> tuple[csr_matrix, np.ndarray]:
    """Cotangent stiffness (n, n), positive semidefinite, of points (n, 3) (Pinkall & Polthier 1993), and each point's share of the
    area (n,).

    What each triangle adds to an edge, half a cotangent, is kept between `least` and `most`: no negative weights, no slivers.
    """
    n = len(points)
    a, b, c = (points[triangles[:, i]] for i in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    mass = np.bincount(triangles.ravel(), np.repeat(area / 3, 3), n)
    rows, cols, values = [], [], []
    for i in range(3):
        p, q, r = (triangles[:, (i + k) % 3] for k in range(3))
        u, v = points[q] - points[p], points[r] - points[p]
        cot = (u * v).sum(1) / np.maximum(np.linalg.norm(np.cross(u, v), axis=1), 1e-12)
        w = np.clip(0.5 * cot, least, most)
        rows += [q, r]
        cols += [r, q]
        values += [w, w]
    w = csr_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(cols))), shape=(n, n))
    return (diags(np.asarray(w.sum(1)).ravel()) - w).tocsr(), mass
