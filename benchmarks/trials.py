"""Trials: sixty cards of the demo biped (some 16 k points) against deforming it as often, and what is run again after a change."""

import time

import numpy as np
from common import rigged

from vonkel.core.skin import Deformer
from vonkel.core.trials.measure import Measurer
from vonkel.core.trials.named import angle_tried, posed
from vonkel.core.trials.run import _KEPT, Bench
from vonkel.core.trials.sweeps import sweeps
from vonkel.steps import apply_step

CARDS = 60


def tried(c):
    """The pose set, and angles of sweeps until there are sixty."""
    out = list(posed(c))
    for sweep in sweeps(c):
        out += [angle_tried(c, sweep, a) for a in sweep.angles]
    return out[:CARDS]


def main() -> None:
    c = rigged()
    todo = tried(c)
    poses = [t.pose() for t in todo]
    deformer = Deformer(c)
    start = time.perf_counter()
    posed_points = [deformer.deform(p).astype(float).copy() for p in poses]
    plain = time.perf_counter() - start
    measurer = Measurer(c)
    measurer.measure(posed_points[0], contact=True)
    start = time.perf_counter()
    for p in posed_points:
        measurer.measure(p)
    measured = time.perf_counter() - start
    start = time.perf_counter()
    for p in posed_points:
        measurer.measure(p, contact=True)
    touched = time.perf_counter() - start
    print(f"{len(todo)} poses of {len(c.points):,} points: deformed {plain:.2f} s")
    print(
        f"all measures but contact {measured:.2f} s ({measured / plain:.1f} times), with contact {touched:.2f} s ({touched / plain:.1f} times)"
    )
    for pictures in (False, True):
        _KEPT.clear()
        bench = Bench(c)
        start = time.perf_counter()
        for t in todo:
            bench.card(t, pictures)
        first = time.perf_counter() - start
        hand = np.flatnonzero(c.points[:, 0] > np.quantile(c.points[:, 0], 0.99))
        changed, _ = apply_step(c, "skin.from_neighbours", {"points": hand.tolist()}) if pictures else (c, "")
        start = time.perf_counter()
        bench = Bench(changed)
        for t in todo:
            bench.card(t, pictures)
        again = time.perf_counter() - start
        what = "with pictures, then a hand's weights evened" if pictures else "without pictures, then nothing changed"
        print(f"cards {what}: {first:.2f} s, again {again:.2f} s, {first / again:.1f} times quicker")


if __name__ == "__main__":
    main()
