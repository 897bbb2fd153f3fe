"""How well plans fit: python -m benchmarks.plans [FILE:PLAN[:UP[:TURN]] …]

Without files: the demo cast.  Files may be meshes that Vonkel reads, or .skn skins as the MuJoCo documentation describes
them, whose own bones then stand as the hand-placed joints.  UP is the axis that points up in the file, y by default; TURN, degrees
about the upright, brings it to face +Z.
"""

import sys
import time
from pathlib import Path

import numpy as np

from tests.judging.skins import read_skn
from vonkel.core.formats import read_character
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.joints.inside import body_solid, may_stick_out
from vonkel.core.plans import lay_plan
from vonkel.demo import CAST, DATA
from vonkel.steps import apply_step


def read_skin(path: Path):
    """Character and bones (name → place) of a .skn file."""
    mesh, bones, _ = read_skn(path)
    return character_from_mesh(mesh, path.stem), bones


def stood(c, bones, up, turn):
    """The character stood up, and bones with it."""
    before = c.points
    c, _ = apply_step(c, "model.stand", {"up": up, "turn": turn})
    if bones:
        source = np.c_[before, np.ones(len(before))]
        matrix = np.linalg.lstsq(source, c.points, rcond=None)[0]
        bones = {n: np.r_[p, 1.0] @ matrix for n, p in bones.items()}
    return c, bones


def inside_share(c):
    """Of the deforming joints that may not stick out, the share that lies in the body (cells of 1/200 of its size)."""
    solid = body_solid(c, 200)
    joints = [j for j in c.joints if j.deforms and not may_stick_out(c, j) and j.role != "eye"]
    far = solid.tree.query(np.array([j.place for j in joints]))[0]
    return float((far < solid.h).mean()), len(joints)


def row(c, plan, bones=None):
    start = time.perf_counter()
    made = lay_plan(c, plan, {})
    seconds = time.perf_counter() - start
    share, count = inside_share(made)
    near = ""
    if bones:
        hand = np.array(list(bones.values()))
        d = [np.linalg.norm(hand - j.place, axis=1).min() / c.size for j in made.joints if j.deforms]
        near = f"{100 * np.median(d):.1f} % / {100 * np.max(d):.1f} %"
    print(
        f"| {c.name} | {plan} | {len(c.points):,} | {len(made.joints)} | {100 * share:.0f} % of {count} | {near} | {seconds:.1f} s |"
    )


def main():
    print(
        "| mesh | plan | points | joints | inside | to the nearest hand-placed joint, median / most, of the size | time |"
    )
    print("|---|---|---|---|---|---|---|")
    if len(sys.argv) > 1:
        for given in sys.argv[1:]:
            name, plan, *more = given.split(":")
            path, bones = Path(name), None
            if path.suffix == ".skn":
                c, bones = read_skin(path)
            else:
                c = read_character(path.name, path.read_bytes())
            c, bones = stood(c, bones, more[0] if more else "y", float(more[1]) if len(more) > 1 else 0.0)
            try:
                row(c, plan, bones)
            except Exception as error:
                print(f"| {path.stem} | {plan} | {len(c.points):,} | refused: {error} | | | |")
        return
    for m in CAST.values():
        if m.plan:
            row(read_character(m.file, (DATA / m.file).read_bytes(), m.name), m.plan)


if __name__ == "__main__":
    main()
