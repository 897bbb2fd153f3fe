"""Every way to bind and every way to deform, body by body and pose by pose.

.venv/bin/python -m benchmarks.methods OUT.csv [--only NAME …] [--skins FOLDER] [--centres] [--biharmonic]

A row for each body, binding, deforming and trial pose goes to OUT.csv; printed is one line for each body, binding and deforming.  Bodies: the
cast and the judging kit with their true joints; with --skins the dog and the rat of dm_control, bound by hand, too.  --centres:
also centres of rotation; --biharmonic: also libigl's bounded biharmonic weights, minutes a body.
"""

from __future__ import annotations

import argparse
import csv
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from tests.judging.builds import JUDGED, TRIED
from tests.judging.posing import CAST, at_rest
from tests.judging.skins import HANDS, dense, hand_made, islands, other_finger, other_leg, with_artists_skin
from vonkel.core.character import Character
from vonkel.core.geometry.topology import skin_triangles, topology_of_triangles, welded_points
from vonkel.core.poses import pose_from_turns, trial_poses
from vonkel.core.rig import Pose
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import BINDINGS, bind_skin
from vonkel.core.trials.measure import Measurer

HEAD = (
    "body", "points", "binding", "bind_s", "jump", "islands", "other_leg", "other_finger", "deforming", "deform_ms", "pose",
    "volume_lost", "strain", "distortion", "rough", "folds", "stretch",
)  # fmt: skip


def bodies(only: list[str] | None, skins: Path | None) -> Iterator[tuple[str, Character, Character | None]]:
    """(name, with joints, by an artist's hand)."""
    for name in only if only is not None else [*CAST, *TRIED, *JUDGED]:
        if name in HANDS:
            continue
        yield name, at_rest(name)[1], None
    for path in sorted(skins.rglob("*.skn")) if skins else ():
        if path.stem in HANDS and (only is None or path.stem in only):
            made = hand_made(path)
            yield path.stem, made.character, with_artists_skin(made)


def bindings(
    name: str, c: Character, artists: Character | None, biharmonic: bool
) -> Iterator[tuple[str, Character, float]]:
    """(way, bound, seconds of processors)."""
    for by in BINDINGS:
        bind_skin(c, by=by)  # loops are compiled, topology is known
        start = time.process_time()
        made = bind_skin(c, by=by)
        yield by, made, time.process_time() - start
    if artists is not None:
        yield "artist", artists, 0.0
    if biharmonic:
        from benchmarks.others import bounded_biharmonic

        start = time.process_time()
        try:
            made, said = bounded_biharmonic(c)
        except RuntimeError as error:
            print(f"{name}: no bounded biharmonic weights: {error}", flush=True)
            return
        yield f"biharmonic ({said})", made, time.process_time() - start


def deformings(c: Character, centred: bool) -> dict[str, Callable[[Pose], np.ndarray]]:
    def with_(**how: object) -> Callable[[Pose], np.ndarray]:
        assert c.skin
        return Deformer(c.with_(skin=c.skin.model_copy(update=how))).deform

    ways = {
        "linear": with_(method="linear"),
        "dual": with_(method="dual"),
        "dual, 8 rounds after": with_(method="dual", smoothing=8),
        "8 rounds beforehand": with_(smoothing=8, smoother="beforehand"),
    }
    if centred:
        from benchmarks.others import Centres

        deformer = Deformer(c)
        assert deformer.joints is not None
        centres = Centres(c, deformer.joints, deformer.weights)
        ways["centres"] = lambda pose: centres(pose.rigid_matrices(deformer.rest_inverse)).astype(np.float32)
    return ways


def cross_talk(c: Character, measurer: Measurer) -> tuple[float, int, float, float]:
    """The largest jump of a weight across an edge, islands, the most that another leg and another finger hold."""
    weights, edges = dense(c), measurer.edges
    first, of = welded_points(c.points, 1e-5 * c.size)
    pieces = topology_of_triangles(of[skin_triangles(c)], len(first)).islands
    owner = weights.argmax(1)
    jump = float(np.abs(weights[edges[:, 0]] - weights[edges[:, 1]]).max())
    return jump, islands(owner[first], of[edges], pieces), other_leg(c, weights), other_finger(c, weights, owner)


def main() -> None:
    asked = argparse.ArgumentParser()
    asked.add_argument("out", type=Path)
    asked.add_argument("--only", nargs="*")
    asked.add_argument("--skins", type=Path)
    asked.add_argument("--centres", action="store_true")
    asked.add_argument("--biharmonic", action="store_true")
    given = asked.parse_args()
    with given.out.open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(HEAD)
        print(
            "| body | binding | s | jump | islands | other leg | other finger | deforming | volume lost, worst / mean, % | strain, % | distortion | rough | folds | stretch, worst |"
        )
        print("|---" * 14 + "|")
        for name, c, artists in bodies(given.only, given.skins):
            poses = {p.name: pose_from_turns(c, p.turns) for p in trial_poses(c)}
            for by, bound, spent in bindings(name, c, artists, given.biharmonic):
                measurer = Measurer(bound)
                talk = cross_talk(bound, measurer)
                for way, deform in deformings(bound, given.centres).items():
                    found = []
                    for pose_name, pose in poses.items():
                        start = time.perf_counter()
                        points = deform(pose).astype(float)
                        took = 1e3 * (time.perf_counter() - start)
                        f = measurer.measure(points)
                        lost = max(0.0, -min(f.volumes.values(), default=0.0))
                        strain = float(np.sqrt((f.heat.astype(float) ** 2).mean()))
                        found.append((lost, strain, f.distortion, f.rough, f.folded, f.stretch_most))
                        rows.writerow([
                            name, len(c.points), by, f"{spent:.2f}", *(f"{t:.3f}" for t in talk), way, f"{took:.2f}", pose_name,
                            *(f"{v:.4f}" for v in found[-1]),
                        ])  # fmt: skip
                    all_of = np.array(found)
                    worst, mean = all_of.max(0), all_of.mean(0)
                    print(
                        f"| {name} | {by} | {spent:.2f} | {talk[0]:.2f} | {talk[1]} | {talk[2]:.3f} | {talk[3]:.3f} | {way} |"
                        f" {100 * worst[0]:.0f} / {100 * mean[0]:.1f} | {100 * mean[1]:.1f} | {mean[2]:.3f} | {mean[3]:.2f} |"
                        f" {all_of[:, 4].sum():.0f} | {worst[5]:.2f} |",
                        flush=True,
                    )


if __name__ == "__main__":
    main()
