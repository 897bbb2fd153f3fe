"""Faces: how long an estimate, its products and a sample of the face's controls take, against posing the whole body once."""

import time

from common import best, rigged

from vonkel.core.face.estimate import estimate_face
from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.steps import apply_step
from vonkel.steps.face import MAKING


def main() -> None:
    c = rigged()
    program, deformer = compile_rig(c), Deformer(c)
    whole = best(lambda: deformer.deform(program.evaluate({})), 5, 20)
    first = time.perf_counter()
    estimate_face(c)
    found = time.perf_counter() - first
    print(f"posing {len(c.points):,} points: {1e3 * whole:.2f} ms; estimate {found:.2f} s, {found / whole:.0f} times")
    c = apply_step(c, "face.find", {})[0]
    for name in MAKING:
        start = time.perf_counter()
        c = apply_step(c, name, {})[0]
        took = time.perf_counter() - start
        print(f"{name}: {took:.2f} s, {took / whole:.0f} times")
    program, deformer = compile_rig(c), Deformer(c)
    for name, values in (
        ("at rest", {}), ("blink", {"lids_L": {"blink": 0.6}, "lids_R": {"blink": 0.6}}),
        ("jaw and lips", {"jaw": {"open": 0.5, "seal": 0.5}, "lips": {"spread": 0.5}}),
    ):  # fmt: skip
        took = best(lambda values=values: deformer.deform(program.evaluate(values)), 5, 20)
        print(f"a sample with {name}: {1e3 * took:.2f} ms, {took / whole:.2f} of the whole body without a face")


if __name__ == "__main__":
    main()
