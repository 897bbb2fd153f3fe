"""Learn how wrong joints look: python -m tests.judging.calibrate ROWS.npz --collect FIRST LAST [--rest] [--others] | --write

--collect lays plans into bodies by chance of seeds FIRST … LAST − 1 (`builds.by_chance`: each measure of one of two tried
builds, changed by a quarter; posed, or with --rest as they grew, turned somehow about the upright) and adds to ROWS.npz what is told of every joint and how far it lies off.  --write
learns from all of them, judges what it learned on bodies left out, eight times, and writes `likeness.json`, or with --others, which
goes for plans with wings, fins, many legs or none, `likeness_others.json`.  Needs the
extra `calibrate`.  No judged build has a part in it.
"""

from __future__ import annotations

import argparse
import json
import logging
import os
import sys
from functools import partial
from multiprocessing import Pool
from pathlib import Path
from typing import Any

import numpy as np

os.environ.setdefault("OMP_NUM_THREADS", "1")

from tests.judging.builds import NAMED, by_chance, of_chance
from tests.judging.judge import STRENGTHS
from tests.judging.posing import KINDS, moved, posed, rot
from vonkel.core.errors import VonkelError
from vonkel.core.plans import built_in
from vonkel.core.plans.anatomy.likeness import FAMILIES, LIMBED, OTHERS, table, told_of

FAR, NEAR, WRONG = (
    0.10,
    0.04,
    0.09,
)  # shares of the size: must be told, mustn't be doubted, and what counts as wrong in learning
DOUBTED = 0.14  # of the near joints, on bodies left out
LOST = 0.6  # of the joints that are said not to be found that share lies far off, on bodies left out
ENOUGH = 60  # bodies that have a kind of joint, without which nothing is said of it
EACH = 6  # wrong joints of one body weigh no more than so many
BOOSTED: dict[str, Any] = {
    "max_depth": 7, "learning_rate": 0.12, "max_iter": 150, "min_samples_leaf": 20, "l2_regularization": 5.0, "max_features": 0.15,
    "random_state": 0, "early_stopping": False,
}  # fmt: skip
SCATTERED: dict[str, Any] = {
    "n_estimators": 24, "max_leaf_nodes": 300, "min_samples_leaf": 5, "max_features": 0.3, "random_state": 0,
}  # fmt: skip
SAY = 10.0  # how much of the score's log odds the scattered trees' share of wrong joints makes

# What bodies by chance of other plans than those on two and four legs are drawn in turn.
DRAWN = ("winged", "many-legged", "finned", "chain", "winged", "many-legged")

Row = tuple[int, list[dict[str, float]], np.ndarray]


def told(seed: int, others: bool = False) -> Row | None:
    """(seed, what is told of each joint by name, errors (j,)) of the joints whose places are known; None where nothing could be laid.
    Below 0: at rest."""
    name, k = f"chance-{abs(seed)}", abs(seed)
    NAMED[name] = of_chance(DRAWN[k % len(DRAWN)], k) if others else by_chance(k)
    kind = KINDS[(k // len(DRAWN)) % 6] if others else KINDS[seed % 6]
    kept: list[list[dict[str, float]]] = []
    built_in.doubt_by_likeness = lambda sketch, reading, plan: kept.append(told_of(sketch, reading, plan))
    try:
        if seed < 0:
            body = moved(name, rot((0, 1, 0), 37.0 * seed), kind)
        else:
            body = posed(name, seed, STRENGTHS[seed % 3], kind)
        sketch = built_in.sketch_of(body.mesh, body.plan, {})
    except VonkelError as error:
        print(f"{seed}: {error}", file=sys.stderr)
        return None
    places = {j.name: np.array(j.place) for j in sketch.laid(body.mesh, body.plan).joints}
    some = [(i, n) for i, n in enumerate(sketch.found) if n in body.places and n in places]
    errors = [float(np.linalg.norm(places[n] - body.places[n])) / body.size for _, n in some]
    return (seed, [kept[0][i] for i, _ in some], np.array(errors)) if kept else None


def collect(out: Path, first: int, last: int, rest: bool = False, others: bool = False) -> None:
    seeds, features, errors, names = _kept(out)
    have = set(seeds.tolist())
    with Pool(2) as hands:
        wanted = [s for k in range(first, last) if (s := -k if rest else k) not in have]
        for made in hands.imap_unordered(partial(told, others=others), wanted):
            if made is None:
                continue
            names = names or tuple(made[1][0])
            features = features.reshape(-1, len(names))
            seeds = np.concatenate([seeds, np.full(len(made[2]), made[0])])
            features, errors = np.concatenate([features, table(made[1], names)]), np.concatenate([errors, made[2]])
            np.savez_compressed(out, seeds=seeds, features=features, errors=errors, names=names)


def _kept(out: Path) -> tuple[np.ndarray, np.ndarray, np.ndarray, tuple[str, ...]]:
    if not out.exists():
        return np.zeros(0, int), np.zeros((0, 0)), np.zeros(0), ()
    with np.load(out) as held:
        return held["seeds"], held["features"], held["errors"], tuple(held["names"].tolist())


Tree = list[list[float]]  # a row for each node: feature, threshold, left, right, value; leaves have no feature (−1)


class Grove:
    """Boosted trees and extremely randomized ones (Geurts, Ernst & Wehenkel 2006); the latter forget less of what few bodies show."""

    def __init__(self, features: np.ndarray, wrong: np.ndarray, weights: np.ndarray) -> None:
        from sklearn.ensemble import ExtraTreesClassifier, HistGradientBoostingClassifier

        self.boosted = HistGradientBoostingClassifier(**BOOSTED).fit(features, wrong, sample_weight=weights)
        self.scattered = ExtraTreesClassifier(**SCATTERED).fit(features, wrong, sample_weight=weights)

    def score(self, features: np.ndarray) -> np.ndarray:
        return np.asarray(self.boosted.decision_function(features) + SAY * self.scattered.predict_proba(features)[:, 1])

    @property
    def base(self) -> float:
        return float(np.ravel(self.boosted._baseline_prediction)[0])

    def trees(self) -> list[Tree]:
        found: list[Tree] = []
        for (one,) in self.boosted._predictors:
            found.append([
                [-1, 0.0, 0, 0, float(n["value"])] if n["is_leaf"]
                else [int(n["feature_idx"]), float(n["num_threshold"]), int(n["left"]), int(n["right"]), 0.0]
                for n in one.nodes
            ])  # fmt: skip
        for each in self.scattered.estimators_:
            t = each.tree_
            share = SAY / len(self.scattered.estimators_) * t.value[:, 0, 1] / t.value[:, 0].sum(1)
            found.append([
                [-1, 0.0, 0, 0, float(v)] if left < 0 else [int(f), float(x), int(left), int(right), 0.0]
                for f, x, left, right, v in zip(t.feature, t.threshold, t.children_left, t.children_right, share, strict=True)
            ])  # fmt: skip
        return found


def learn(features: np.ndarray, errors: np.ndarray, bodies: np.ndarray) -> Grove:
    """Trees from all joints but those that are neither near nor far."""
    some = (errors < NEAR) | (errors > 0.8 * FAR)
    wrong, whose = errors[some] > WRONG, bodies[some]
    each = np.bincount(whose[wrong], minlength=bodies.max() + 1)
    weights = np.where(wrong, EACH / np.maximum(each[whose], EACH), 1.0)
    weights[wrong] *= 0.1 * len(wrong) / weights[wrong].sum()
    return Grove(features[some], wrong, weights)


def left_out(features: np.ndarray, errors: np.ndarray, bodies: np.ndarray, folds: int = 8) -> np.ndarray:
    """(j,): scores of each joint by what was learned from the other folds' bodies."""
    score = np.zeros(len(errors))
    fold = np.random.default_rng(0).permutation(bodies.max() + 1)[bodies] % folds
    for k in range(folds):
        score[fold == k] = learn(features[fold != k], errors[fold != k], bodies[fold != k]).score(features[fold == k])
    return score


def _known(names: tuple[str, ...], features: np.ndarray, seeds: np.ndarray) -> list[str]:
    """Kinds of joints that enough bodies have to learn of them."""
    some = {
        n[3:]: len(np.unique(seeds[features[:, i] > 0]))
        for i, n in enumerate(names)
        if n.startswith("is ") and n != "is "
    }
    return [n for n, count in some.items() if count >= ENOUGH]


def write(rows: Path, others: bool = False) -> None:
    seeds, features, errors, names = _kept(rows)
    plans = OTHERS if others else LIMBED
    bodies = np.unique(seeds, return_inverse=True)[1]
    score = left_out(features, errors, bodies)
    doubted = float(np.quantile(score[errors < NEAR], 1 - DOUBTED))
    order = np.argsort(-score)
    right = np.cumsum(errors[order] > FAR) / np.arange(1, len(order) + 1)
    lost = float(max(score[order][right > LOST].min(initial=score.max()), doubted + 1.0))
    told_of_far = float((score[errors > FAR] >= doubted).mean())
    print(
        f"{len(np.unique(seeds))} bodies, {len(errors)} joints, {(errors > FAR).sum()} far: {told_of_far:.3f} told at {DOUBTED} doubted"
    )
    model = learn(features, errors, bodies)
    trees = model.trees()
    used = sorted({int(n[0]) for t in trees for n in t if n[0] >= 0})
    numbered = {f: i for i, f in enumerate([-1, *used], -1)}
    trees = [[[numbered[n[0]], float(f"{n[1]:.5g}"), *n[2:4], round(n[4], 4)] for n in t] for t in trees]
    said = {
        "from": f"tests/judging/calibrate.py: {len(np.unique(seeds))} bodies by chance, seeds {seeds[seeds > 0].min()} to {seeds.max()}, "
        f"of them {len(np.unique(seeds[seeds < 0]))} at rest",
        "plans": list(plans), "stems": _known(names, features, seeds),
        "base": model.base, "doubted": round(doubted, 4),
        "lost": round(lost, 4), "left out": {"far": int((errors > FAR).sum()), "told": round(told_of_far, 3), "doubted": DOUBTED},
        "features": [names[i] for i in used],
    }  # fmt: skip
    lines = ",\n".join(json.dumps(t, separators=(",", ":")) for t in trees)
    FAMILIES[plans].write_text(json.dumps(said, indent=1)[:-2] + ',\n "trees": [\n' + lines + "\n]}\n")


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("rows", type=Path)
    asked.add_argument("--collect", type=int, nargs=2)
    asked.add_argument("--rest", action="store_true")
    asked.add_argument("--others", action="store_true")
    asked.add_argument("--write", action="store_true")
    given = asked.parse_args()
    logging.disable(logging.WARNING)
    if given.collect:
        collect(given.rows, *given.collect, given.rest, given.others)
    if given.write:
        write(given.rows, given.others)


if __name__ == "__main__":
    main()
