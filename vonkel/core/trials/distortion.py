"""How far each triangle is from moving stiffly: the symmetric Dirichlet energy, which counts stretch, squeeze and shear alike.

E = ‖J‖² + ‖J⁻¹‖² of a triangle's map J from rest, 4 where it moves stiffly (Smith & Schaefer 2015, Bijective parameterization with
free boundaries, section 3.1); here divided by 4.  A sheet sheared by γ has 1 + γ²/2, one made s times as large (s² + s⁻²) / 2.
"""

from __future__ import annotations

import numpy as np

from ..compiled import compiled

WORST = 0.99
"""The share of the skin's area that is calmer than what a card tells of: slivers tell nothing."""


def rest_maps(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(t, 3): a triangle's two edges at rest, the first along x: |u|, and the second as (v·û, v·n̂); zeros where it has no area."""
    p = points[triangles]
    u, v = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    long = np.linalg.norm(u, axis=1)
    along = (u * v).sum(1) / np.maximum(long, 1e-300)
    high = np.sqrt(np.maximum((v * v).sum(1) - along**2, 0.0))
    ok = (long > 0) & (high > 1e-6 * long)
    return np.where(ok[:, None], np.stack([long, along, high], 1), 0.0)


@compiled
def distortions(p: np.ndarray, tri: np.ndarray, rest: np.ndarray, out: np.ndarray) -> None:
    """Fill `out` (t,) with E / 4 of posed places p (n, 3); 1 for triangles without a shape at rest."""
    for t in range(len(tri)):
        out[t] = 1.0
        a, x, y = rest[t, 0], rest[t, 1], rest[t, 2]
        if a == 0.0:
            continue
        i, j, k = tri[t, 0], tri[t, 1], tri[t, 2]
        # Columns of J in the rest triangle's own axes: its edges posed, times the inverse of its edges at rest.
        ux, uy, uz = (p[j, 0] - p[i, 0]) / a, (p[j, 1] - p[i, 1]) / a, (p[j, 2] - p[i, 2]) / a
        vx = (p[k, 0] - p[i, 0] - x * ux) / y
        vy = (p[k, 1] - p[i, 1] - x * uy) / y
        vz = (p[k, 2] - p[i, 2] - x * uz) / y
        uu, vv = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz
        uv = ux * vx + uy * vy + uz * vz
        square = uu * vv - uv * uv  # det²
        out[t] = min(0.25 * (uu + vv) * (1.0 + 1.0 / max(square, 1e-12)), 1e6)


def worst_distortion(energy: np.ndarray, area: np.ndarray) -> tuple[float, int]:
    """The energy that all but a hundredth of the area keep below, and the triangle that has it."""
    if not len(energy):
        return 1.0, 0
    above = (1.0 - WORST) * float(area.sum())
    most = len(energy)
    count = max(64, most // 24)  # only the end of the order is asked for: sorting it is enough
    while True:
        top = np.argpartition(energy, most - count)[most - count :] if count < most else np.arange(most)
        order = top[np.argsort(energy[top], kind="stable")]
        over = np.cumsum(area[order][::-1])[::-1] - area[order]  # the area that is worse than each
        if count >= most or over[0] > above:
            at = int(order[int(np.argmax(over <= above))])
            return float(energy[at]), at
        count = min(4 * count, most)
