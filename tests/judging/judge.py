"""Judge the plans: python -m tests.judging.judge [--only NAME,…] [--seeds N] [--set posed|judged|chance|rest|kinds|all] [--out FILE.json]

Prints one line per body, the worst joints by name, and the tables that the README speaks of.  Seeds are offset by the
number in `seed.txt`: raise it to judge on poses that nobody has seen.
"""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from tests.judging.builds import JUDGED, NAMED, TRIED, by_chance
from tests.judging.posing import CAST, KINDS, Posed, moved, ordinary, ordinary_turns, posed, rigged, rot
from vonkel.core.character import opposite_name
from vonkel.core.errors import VonkelError
from vonkel.core.joints.inside import body_solid
from vonkel.core.plans import propose, sketch_of, verdict
from vonkel.core.plans.anatomy.doubt import Verdict

SEED = int((Path(__file__).parent / "seed.txt").read_text())
STRENGTHS = (0.6, 1.0, 0.85)
ANIMALS = [n for n in CAST if n != "bust"]


class Judged:
    """What became of one body: errors as shares of the size by joint, verdicts, what is missing."""

    def __init__(self, body: Posed) -> None:
        self.body = body
        self.errors: dict[str, float] = {}
        self.verdicts: dict[str, Verdict] = {}
        self.spread: dict[str, float] = {}
        self.cost, self.margin, self.facing = 0.0, 0.0, 0.0
        self.missing: list[str] = []
        self.refused, self.inside, self.seconds, self.swapped, self.proposed = "", 1.0, 0.0, False, ""
        start = time.perf_counter()
        try:
            sketch = sketch_of(body.mesh, body.plan, {})
        except VonkelError as error:
            self.refused = str(error)
            return
        self.seconds = time.perf_counter() - start
        self.cost, self.margin, self.facing = sketch.cost, sketch.margin, sketch.frame.sure
        laid = sketch.laid(body.mesh, body.plan)
        places = {j.name: np.array(j.place) for j in laid.joints}
        for n, p in body.places.items():
            if n not in places:
                self.missing.append(n)
                continue
            self.errors[n] = float(np.linalg.norm(places[n] - p)) / body.size
            self.spread[n] = sketch.spread.get(n, 0.0)
            self.verdicts[n] = verdict(self.spread[n])
        other = [
            np.linalg.norm(places[m] - p) / body.size
            for n, p in body.places.items()
            if (m := opposite_name(n)) in places
        ]
        self.swapped = bool(other) and float(np.mean(other)) < 0.7 * self.mean
        held = [j for j in laid.joints if j.deforms and laid.children.get(j.name) and j.role not in ("eye", "jaw")]
        solid = body_solid(laid, 200)
        if held and len(solid.cells):
            far = solid.tree.query(np.array([j.place for j in held]))[0]
            self.inside = float((far < solid.h).mean())

    @property
    def mean(self) -> float:
        return float(np.mean(list(self.errors.values()))) if self.errors else 1.0

    def line(self) -> str:
        if self.refused:
            return f"| {self.body.name} | {self.body.plan} | refused: {self.refused[:60]} | | | | | |"
        e = self.errors
        worst = sorted(e, key=lambda n: -e[n])[:3]
        words = ", ".join(f"{n} {100 * e[n]:.0f}" for n in worst)
        far = [n for n in e if e[n] > 0.1]
        told = sum(self.verdicts[n] != "sure" for n in far)
        near = [n for n in e if e[n] < 0.04]
        cried = sum(self.verdicts[n] != "sure" for n in near)
        share = 100 * float(np.mean([v <= 0.08 for v in e.values()]))
        return (
            f"| {self.body.name} | {self.body.plan} | {100 * self.mean:.1f} % | {share:.0f} % | {words}"
            f"{' (sides exchanged)' if self.swapped else ''} | {100 * self.inside:.0f} % | {told}/{len(far)}, {cried}/{len(near)} |"
            f" {self.seconds:.1f} s |"
        )


def bodies(which: str, only: list[str], seeds: int) -> Iterator[Posed]:
    names = {"posed": [*ANIMALS, *TRIED], "judged": list(JUDGED)}
    if which in ("posed", "judged"):
        for n in only or names[which]:
            for k in range(seeds):
                kind = KINDS[k % 6] if which == "posed" else KINDS[(0, 2, 3, 4, 5, 1)[k % 6]]
                varied = SEED + k if k > 1 and n not in CAST else None
                yield posed(n, SEED + k, STRENGTHS[k % 3], kind, varied)
    elif which == "chance":
        for k in range(SEED, SEED + 20 * seeds):
            NAMED[f"chance-{k}"] = by_chance(k)
            yield posed(f"chance-{k}", k, STRENGTHS[k % 3], KINDS[k % 6])
    elif which == "ordinary":
        for n in only or [*ANIMALS, *JUDGED]:
            for pose in ordinary_turns(rigged(n)):
                yield ordinary(n, pose, 30.0)
    elif which == "rest":
        for n in only or [*ANIMALS, *TRIED, *JUDGED]:
            yield moved(n, np.eye(3), "clean")
    elif which == "kinds":
        for n in only or ["otter", "newt", "porter", "hound"]:
            for kind in ("noisy", "holes", "1500"):
                yield moved(n, np.eye(3), kind)
            for matrix in (
                100 * np.eye(3),
                0.01 * np.eye(3),
                rot((0, 1, 0), 180),
                rot((1, 0, 0), 8) @ rot((0, 0, 1), 6),
            ):
                yield moved(n, matrix, "clean")
            yield moved(n, np.eye(3), "clean", (3.0, 0.0, -2.0))


def tables(found: list[Judged]) -> dict[str, Any]:
    """The figures of a set: mean, shares within limits, inside, honesty, by role."""
    e = np.array([v for j in found for v in j.errors.values()])
    v = np.array([j.verdicts[n] != "sure" for j in found for n in j.errors])
    laid = [j for j in found if not j.refused]
    roles: dict[str, list[float]] = defaultdict(list)
    for j in laid:
        for n, x in j.errors.items():
            roles[j.body.roles[n].rstrip("0123456789_")].append(x)
    far, near = e > 0.10, e < 0.04
    return {
        "bodies": len(found), "refused": len(found) - len(laid), "joints": len(e),
        "missing": sum(len(j.missing) for j in laid), "mean": float(e.mean()), "within 8 %": float((e <= 0.08).mean()),
        "within 10 %": float((e <= 0.10).mean()), "inside": float(np.mean([j.inside for j in laid])),
        "of those beyond 10 % told": float(v[far].mean()) if far.any() else 1.0, "beyond 10 %": int(far.sum()),
        "of those within 4 % doubted": float(v[near].mean()) if near.any() else 0.0,
        "sides exchanged": sum(j.swapped for j in laid), "slowest": max(j.seconds for j in laid) if laid else 0.0,
        "by role": {r: [round(float(np.mean(x)), 4), round(float(np.max(x)), 4), len(x)] for r, x in sorted(roles.items())},
    }  # fmt: skip


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--only", default="")
    asked.add_argument("--seeds", type=int, default=3)
    asked.add_argument(
        "--set", default="all", choices=["posed", "judged", "chance", "rest", "kinds", "ordinary", "all"]
    )
    asked.add_argument("--plans", action="store_true", help="also whether the right plan is proposed")
    asked.add_argument("--out", type=Path)
    given = asked.parse_args()
    only = [n for n in given.only.split(",") if n]
    told = {}
    for which in ("posed", "judged", "rest", "kinds") if given.set == "all" else (given.set,):
        print(f"\n{which}, seeds from {SEED}\n")
        print("| body | plan | mean | within 8 % | worst | inside | told of > 10 %, doubted of < 4 % | time |")
        print("|---|---|---|---|---|---|---|---|")
        found = []
        for body in bodies(which, only, given.seeds):
            judged = Judged(body)
            if given.plans:
                p = propose(body.mesh)
                judged.proposed = p.best.plan + ("" if p.sure else "?")
            found.append(judged)
            print(judged.line() + (f" {judged.proposed} |" if given.plans else ""), flush=True)
        told[which] = tables(found)
        print()
        for k, x in told[which].items():
            print(f"{k}: {x if not isinstance(x, float) else round(x, 4)}" if k != "by role" else json.dumps(x))
    if given.out:
        given.out.write_text(json.dumps(told, indent=1) + "\n")


if __name__ == "__main__":
    sys.exit(main())
