"""Working on a skin: a brush's samples, deforming with what comes after it, ways to bind and what goes out, body by body.

.venv/bin/python benchmarks/skin.py [strokes|deform|bind|out] …; all of them without a word.
"""

import sys
import time

import numpy as np
from common import best, rigged

from vonkel.core.linear.baking import handed_over, nearness
from vonkel.core.poses import pose_from_turns, trial_poses
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import BINDINGS, bind_skin
from vonkel.core.skin.brush import BRUSHES, Brush, Painting
from vonkel.core.skin.direct import Direct
from vonkel.core.skin.kernels import linear4
from vonkel.core.skin.smoothing import Smoother
from vonkel.core.skin.strays import strays_of
from vonkel.core.trials import run_trials
from vonkel.core.trials.samples import unseen_poses


def trials(c):
    return [pose_from_turns(c, p.turns) for p in trial_poses(c)]


def strokes():
    """One sample of a brush answered (painted and its patch posed), against deforming the whole body once as a drag does."""
    c = rigged(fine=True)
    deformer, pose = Deformer(c), trials(c)[0]
    still = trials(c)[1]
    whole = best(lambda: (deformer.deform(pose), deformer.deform(still)), 5, 10) / 2
    start = np.array(c.joint("upper_arm_L").place) + [0, 0, 0.05]
    middles = c.points[Painting(c, Brush(kind="add", joint="forearm_L")).ground.triangles].mean(1)
    t = [int(np.linalg.norm(middles - start - [0.01 * i, -0.008 * i, 0], axis=1).argmin()) for i in range(20)]
    samples = [(i, 0.3, 0.3, 1.0, 0.0, 0.0, -1.0) for i in t]
    print(
        f"{len(c.points):,} points; the whole body posed: {1e3 * whole:.2f} ms\n| brush | points | a sample, ms | of the whole |\n|---|---|---|---|"
    )
    for kind in BRUSHES:
        painting, spent, touched = (
            Painting(c, Brush(kind=kind, joint="forearm_L", radius=0.03, strength=0.5, both=False)),
            [],
            0,
        )
        for sample in samples:
            begin = time.perf_counter()
            rows = painting.put([sample])
            deformer.deform_some(pose, rows)
            spent.append(time.perf_counter() - begin)
            touched += len(rows)
        print(f"| {kind} | {touched // len(samples)} | {1e3 * np.median(spent):.2f} | {np.median(spent) / whole:.1f} |")


def deform():
    """A body deformed, against a copy of the same bytes: in cache again and again, and with the cache emptied between."""
    for fine in (False, True):
        against_a_copy(rigged(fine))


def against_a_copy(c):
    a, b = np.ones_like(c.points, np.float32), np.empty_like(c.points, np.float32)
    large = np.ones(16_000_000, np.float32)

    def cold(work):
        found = []
        for _ in range(12):
            large.sum()
            begin = time.perf_counter()
            work()
            found.append(time.perf_counter() - begin)
        return float(np.median(found))

    deformer, poses, turn = Deformer(c), trials(c), [0]
    smoother, posed = Smoother(c, 8), deformer.deform(poses[0]).copy()
    direct, rest, put = Direct(c, 8, deformer.joints, deformer.weights), deformer.rest, np.empty_like(posed)
    moves = poses[0].rigid_matrices(deformer.rest_inverse)
    whole = np.ones(len(rest), np.float32)
    flat = np.ascontiguousarray(moves.reshape(-1, 12), np.float32)

    def go(method):
        turn[0] += 1
        deformer.deform(poses[turn[0] % 2 * 3], method)

    works = {
        "linear": lambda: go("linear"),
        "dual": lambda: go("dual"),
        "linear, every point, one thread": lambda: linear4(rest, deformer.joints, deformer.weights, flat, put),
        "8 rounds of smoothing": lambda: smoother(posed, posed),
        "8 rounds beforehand": lambda: direct(moves, rest, put, whole),
    }
    copied, cold_copy = best(lambda: np.copyto(b, a)), cold(lambda: np.copyto(b, a))
    print(f"{len(c.points):,} points: a copy {1e6 * copied:.0f} µs in cache, {1e6 * cold_copy:.0f} µs out of it")
    for name, work in works.items():
        warm, out = best(work, 5, 12), cold(work)
        print(
            f"  {name}: {1e3 * warm:.2f} ms, {warm / copied:.0f} copies; out of cache {1e3 * out:.2f} ms, {out / cold_copy:.0f} copies"
        )


def bind():
    """Every way to bind on the cast: time, grades of the trials, strain, what joints hold where they have no business."""
    print(
        "| body | way | s | grades | strain, % | worst volume lost, % | folds | strays |\n|---|---|---|---|---|---|---|---|"
    )
    for name, c in cast():
        for by in BINDINGS:
            begin = time.perf_counter()
            bound = bind_skin(c, by=by)
            spent = time.perf_counter() - begin
            cards = [x.as_dict() for x in run_trials(bound, False)]
            grades = "".join(sorted(x["grade"] for x in cards))
            lost = -min(min(x["volume_change"].values(), default=0.0) for x in cards)
            strain = 100 * np.mean([x["strain"] for x in cards])
            folds = max(next(m["value"] for m in x["measures"] if m["key"] == "folded_edges") for x in cards)
            print(
                f"| {name} | {by} | {spent:.2f} | {grades} | {strain:.1f} | {100 * lost:.0f} | {folds:.0f} | {len(strays_of(bound))} |",
                flush=True,
            )


def out():
    """What goes out against the live skin, before and after it is made: rms and 99 in 100 points, % of the size."""
    print(
        "| body | joints between | s | trials before | after | unseen before | after |\n|---|---|---|---|---|---|---|"
    )
    for name, c in cast():
        begin = time.perf_counter()
        made = handed_over(c)
        spent = time.perf_counter() - begin
        said = [nearness(x, poses) for poses in (trials(c), unseen_poses(c)) for x in (c, made)]
        cells = " | ".join(f"{100 * n.rms:.3f} / {100 * n.most:.2f}" for n in said)
        print(f"| {name} | {len(made.skin.handed.between)} | {spent:.1f} | {cells} |", flush=True)


def cast():
    """The demo cast, rigged and bound."""
    from vonkel.core.formats import read_character
    from vonkel.demo import CAST, DATA
    from vonkel.steps import load_recipe, run_recipe

    for file, member in CAST.items():
        if not member.plan or not file.endswith(".obj"):
            continue
        mesh = read_character(file, (DATA / file).read_bytes(), file[:-4])
        yield file[:-4], run_recipe(mesh, load_recipe(member.plan))[0]


ALL = {"strokes": strokes, "deform": deform, "bind": bind, "out": out}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name]()
