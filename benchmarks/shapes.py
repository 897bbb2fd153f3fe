"""Shapes: a sample of each sculpting brush answered, and many shapes playing at once.

.venv/bin/python benchmarks/shapes.py [strokes|play] …; both without a word.
"""

import sys
import time

import numpy as np
from common import MOVED, SHAPES, best, many_shapes, rigged

from vonkel.core.character import Shape
from vonkel.core.poses import pose_from_turns, trial_poses
from vonkel.core.rig import PartialEvaluator, compile_rig
from vonkel.core.shapes import with_shape
from vonkel.core.shapes.sculpt import BRUSHES, SculptBrush, Sculpting
from vonkel.core.skin import Deformer


def strokes():
    """One sample of a brush, sculpted and its patch posed, against posing the whole body once, as a drag does: at rest and in
    a pose, what lies under the ring and nothing else."""
    c = with_shape(rigged(fine=True), Shape(name="x"))
    posed = pose_from_turns(c, trial_poses(c)[0].turns)
    posed = type(posed)(**{**posed.__dict__, "shapes": {"x": 1.0}})
    still = compile_rig(c).evaluate({"shapes": {"x": 1.0}})
    deformer = Deformer(c)
    whole = best(lambda: (deformer.deform(posed), deformer.deform(still)), 5, 10) / 2
    print(f"{len(c.points):,} points; the whole body posed: {1e3 * whole:.2f} ms")
    print("| brush | points | at rest, ms | in a pose, ms | of the whole |\n|---|---|---|---|---|")
    start = np.array(c.joint("upper_arm_L").place) + [0, 0, 0.05]
    middles = c.points[Sculpting(c, "x", SculptBrush()).ground.triangles].mean(1)
    at = [int(np.linalg.norm(middles - start - [0.01 * i, -0.008 * i, 0], axis=1).argmin()) for i in range(20)]
    for kind in BRUSHES:
        spent = {}
        for name, pose in (("rest", still), ("posed", posed)):
            sculpting = Sculpting(c, "x", SculptBrush(kind=kind, radius=0.03, both=False), pose)
            own, times, touched = Deformer(c), [], 0
            for i, triangle in enumerate(at):
                way = (0.0, 0.001 * i, 0.0) if kind == "pull" and i else (0.0, 0.0, -1.0)
                begin = time.perf_counter()
                rows = sculpting.put([(triangle, 0.3, 0.3, 1.0, *way)])
                own.hold_shape("x", rows, sculpting.moves["x"][rows])
                own.deform_some(pose, rows)
                times.append(time.perf_counter() - begin)
                touched += len(rows)
            spent[name] = float(np.median(times))
        slow = max(spent.values()) / whole
        print(
            f"| {kind} | {touched // len(at)} | {1e3 * spent['rest']:.2f} | {1e3 * spent['posed']:.2f} | {slow:.1f} |"
        )


def play():
    """Many shapes moved at once on a face: strengths worked out and points deformed, against a copy of the same bytes."""
    c, lot = many_shapes(rigged()), np.random.default_rng(2)
    deformer, follower = Deformer(c), PartialEvaluator(compile_rig(c))
    rounds = [{f"s{k}": float(lot.random()) for k in range(SHAPES)} for _ in range(8)]
    poses = [follower.evaluate({"shapes": r}) for r in rounds]
    turn = iter(range(10**9))
    evaluate = best(lambda: follower.evaluate({"shapes": rounds[next(turn) % 8]}), 5, 20)
    deform = best(lambda: deformer.deform(poses[next(turn) % 8]), 5, 20)
    a, b = np.ones_like(c.points, np.float32), np.empty_like(c.points, np.float32)
    copy = best(lambda: np.copyto(b, a), 5, 200)
    print(f"{SHAPES} shapes of {MOVED:,} points each on {len(c.points):,}, all of them moving:")
    print(f"strengths {1e3 * evaluate:.2f} ms, points {1e3 * deform:.2f} ms ({deform / copy:.0f} copies of the bytes)")
    print(f"moved points that are sent: {len(deformer.changed) if deformer.changed is not None else len(c.points):,}")


if __name__ == "__main__":
    for name in sys.argv[1:] or ("strokes", "play"):
        {"strokes": strokes, "play": play}[name]()
