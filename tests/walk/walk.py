"""Walking: one random step after the other, and after each all that must hold of a character."""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass, field

import numpy as np

from tests.walk.wishes import Wishes
from vonkel.core.character import Character
from vonkel.core.errors import Failure, VonkelError
from vonkel.core.rig import compile_rig
from vonkel.core.soundness import unsound
from vonkel.steps import apply_step
from vonkel.steps.registry import STEPS

LONG = {"joints.lay_plan", "joints.lay_own", "skin.bind"}  # seconds each: sampled
AGAIN = 60  # after so many steps done, a walk begins anew


@dataclass
class Walked:
    done: Counter = field(default_factory=Counter)
    refused: Counter = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)
    slowest: tuple[float, str] = (0.0, "")


def walk(starts: list[Character], count: int, seed: int = 1, sample: float = 0.02) -> Walked:
    """`count` random steps, tried on characters that change by them.  `sample`: how often long ones are let through."""
    rng = np.random.default_rng(seed)
    wishes, out = Wishes(rng), Walked()
    names = [n for n in STEPS if n not in LONG]
    c, since = starts[0], 0
    for i in range(count):
        if not since % AGAIN:
            c = starts[int(rng.integers(len(starts)))]
            since = 1
        name = str(rng.choice(sorted(LONG))) if rng.random() < sample else str(rng.choice(names))
        params = wishes.params(c, name)
        began = time.perf_counter()
        try:
            after, sentence = apply_step(c, name, params)
        except Failure as error:
            out.faults.append(f"{i} {name} {str(params)[:600]}: {error.__cause__!r}")
            continue
        except VonkelError as error:
            out.refused[name] += 1
            # The guard is the last to refuse: but for what grows too large, a step should have said itself what is wrong.
            if (
                not error.what
                or "can't be done here" in error.what
                and not any(w in error.what for w in ("rig", "too far", "less than"))
            ):
                out.faults.append(f"{i} {name} {str(params)[:400]}: only the guard refused it: {error}")
            continue
        except BaseException as error:
            out.faults.append(f"{i} {name} {str(params)[:600]}: {error!r}")
            continue
        spent = time.perf_counter() - began
        out.slowest = max(out.slowest, (spent, name))
        fault = unsound(after) or _rest_moved(c, after, name)
        if fault or not sentence:
            out.faults.append(f"{i} {name} {str(params)[:600]}: {fault or 'no sentence'}")
            continue
        out.done[name] += 1
        c, since = after, since + 1
    return out


def _rest_moved(before: Character, after: Character, name: str) -> str:
    """Whatever is done, at rest the rig stands as the joints do: nothing moves when a rule, a kit or a new rest is made."""
    if not after.joints:
        return ""
    pose = compile_rig(after).evaluate({})
    rest = np.array([j.place for j in after.joints])
    off = float(np.abs(pose.joints[:, :, 3] - rest).max())
    was = np.array([j.place for j in before.joints]).reshape(-1, 3)
    old = float(np.abs(compile_rig(before).evaluate({}).joints[:, :, 3] - was).max()) if len(was) else 0.0
    reach = max(after.size, float(np.abs(rest).max()))
    if off > max(2 * old, 1e-9 * reach):
        return f"at rest a joint stands {off:.2g} m off"
    grown = float(np.abs(pose.scales - 1).max())
    return (
        f"at rest a joint is scaled by {grown:.2g}"
        if grown > 1e-9 and grown > 2 * np.abs(compile_rig(before).evaluate({}).scales - 1).max()
        else ""
    )
