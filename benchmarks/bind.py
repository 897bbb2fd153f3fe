"""Binding: its time against the plainest way (every point's distance to every bone, in numpy), and how cleanly joints are kept
apart."""

import resource
import time

import numpy as np
from common import rigged, subdivided

from vonkel.core.geometry.measures import distance_to_segments
from vonkel.core.geometry.topology import topology_of
from vonkel.core.skin.bind import bind_skin, weights_of
from vonkel.core.skin.bones import bones_of


def main() -> None:
    c = rigged()
    times, plain = [], []
    for _ in range(5):
        start = time.process_time()
        c = bind_skin(c)
        times.append(time.process_time() - start)
        start = time.process_time()
        np.stack([distance_to_segments(c.points, b.segments) for b in bones_of(c)], 1)
        plain.append(time.process_time() - start)
    fine = subdivided(subdivided(c)).with_(joints=c.joints, plan=c.plan)
    bind_skin(fine)
    start = time.perf_counter()
    bind_skin(fine)
    dense = time.perf_counter() - start
    n = c.part("body").points[1]
    points, edges = c.points[:n], topology_of(c).edges
    edges = edges[(edges < n).all(1)]
    weights = {j: weights_of(c, j)[:n] for j in c.skin.joints}
    jump = max(np.abs(w[edges[:, 0]] - w[edges[:, 1]]).max() for w in weights.values())
    leg = max(weights[j][points[:, 0] < -0.02].max() for j in ("thigh_L", "shin_L", "foot_L"))
    arm = sum(w for j, w in weights.items() if j.startswith(("forearm", "hand")))[np.abs(points[:, 0]) < 0.15].max()
    finger = 0.0
    for f in ("index", "middle", "ring", "thumb"):
        near = np.linalg.norm(points - np.array(c.joint(f"{f}_end_L").place), axis=1) < 0.03
        other = sum(
            w
            for j, w in weights.items()
            if j.endswith("_L") and j.startswith(("index", "middle", "ring", "thumb")) and not j.startswith(f)
        )
        finger = max(finger, float(other[near].max()))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{len(c.points):,} points, {len(c.skin.joints)} joints: {min(times):.2f} s of one core, {min(times) / min(plain):.1f} times "
        f"the distances alone; {len(fine.points):,} points {dense:.1f} s by the clock; largest memory {memory:.0f} MB"
    )
    print(
        f"other leg {leg:.3f}, forearm and hand on the torso {arm:.3f}, other finger {finger:.3f}, largest jump across an edge {jump:.2f}"
    )


if __name__ == "__main__":
    main()
