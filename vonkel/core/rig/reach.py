"""Dragging a joint by hand where no target leads it: the turns above it follow, by damped least squares."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..character import Character, Inputs
from ..errors import NotFound, StepRefused
from .program import PartialEvaluator, RigProgram

REACH_ROUNDS = 8


def turning_controls(character: Character, joint: str, most: int = 64) -> list[tuple[str, str]]:
    """(joint, its turning control) from the joint upwards as long as kits give each its own turn, nearest first."""
    own = {c.key[5:]: c for c in character.controls if c.key.startswith("turn:")}
    out: list[tuple[str, str]] = []
    here: str | None = joint
    kit = ""
    while here and len(out) < most:
        control = own.get(here)
        if control is not None:
            if kit and control.kit != kit:
                break
            kit = control.kit
            out.append((here, control.name))
        elif out:
            break
        here = character.joint(here).parent
    return out


def reached(
    character: Character, program: RigProgram, inputs: Inputs, joint: str, place: np.ndarray, stiff: float = 0.02
) -> Inputs:
    """Values at which the end of a joint's chain comes to `place` (3,) metres, by the turns of the joints above it.

    The chain is the run of joints of one kit that turn by controls of their own; the joint itself does not turn.  Each
    round is a damped least-squares step on the channels (Wampler 1986), within their limits; of many ways the one near the
    values at hand is taken.  Raises StepRefused where nothing above the joint turns.
    """
    if joint not in character.joint_index:
        raise NotFound(f"There is no joint called “{joint}”.", character.name, "Reload the page.")
    chain = [pair for pair in turning_controls(character, joint) if pair[0] != joint]
    if not chain:
        raise StepRefused(f"Nothing above {joint} turns by a control of its own.", character.name, "Drag a control.")
    channels = [
        (control, f"turn {a}") for _, control in chain for a in "xyz" if (control, f"turn {a}") in program.channels
    ]
    limits = {i: (lo, hi) for i, lo, hi in program.bounds}
    index = [program.channels[c] for c in channels]
    free = [
        (c, i)
        for c, i in zip(channels, index, strict=True)
        if limits.get(i, (-1.0, 1.0))[0] < limits.get(i, (-1.0, 1.0))[1]
    ]
    out: Inputs = {c: dict(v) for c, v in inputs.items()}
    values = np.array([inputs.get(c, {}).get(k, 0.0) for (c, k), _ in free])
    low = np.array([limits.get(i, (-np.pi, np.pi))[0] for _, i in free]).clip(-np.pi, np.pi)
    high = np.array([limits.get(i, (-np.pi, np.pi))[1] for _, i in free]).clip(-np.pi, np.pi)
    row = character.joint_index[joint]
    follower = PartialEvaluator(program)  # a channel at a time: only what it reaches is run again

    def at(v: np.ndarray) -> np.ndarray:
        for ((c, k), _), x in zip(free, v, strict=True):
            out.setdefault(c, {})[k] = float(x)
        return follower.place(out, row)

    place = np.asarray(place, float)
    now = at(values)
    size = max(float(np.linalg.norm(now - np.array(character.joint(chain[-1][0]).place))), 1e-6)
    for _ in range(REACH_ROUNDS):
        miss = place - now
        if np.linalg.norm(miss) < 1e-7 * size:
            break
        jacobian = _jacobian(at, values, now)
        damped = jacobian @ jacobian.T + (stiff * size) ** 2 * 1e-2 * np.eye(3)
        step = jacobian.T @ np.linalg.solve(damped, miss)
        most = float(np.abs(step).max())
        values = np.clip(values + step * min(1.0, 0.5 / max(most, 1e-12)), low, high)
        now = at(values)
    at(values)
    return out


def _jacobian(at: Callable[[np.ndarray], np.ndarray], values: np.ndarray, now: np.ndarray) -> np.ndarray:
    """(3, c) by differences: axes, orders and what leads a channel are the controls' own affair."""
    columns = []
    for i in range(len(values)):
        trial = values.copy()
        trial[i] += 1e-5
        columns.append((at(trial) - now) / 1e-5)
    return np.array(columns).T
