"""A compiled rig: a flat list of operations, run from top to bottom."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from ..character import Inputs
from .frames import Frame, matrices

State = list[Any]  # one entry per slot: a Frame, a scale (x, y, z) or a number
Values = list[float]  # one entry per channel of every control
UNIT_SCALE = (1.0, 1.0, 1.0)


@dataclass(frozen=True)
class Operation:
    """One line of the rig: what it does in words, the slots it reads and writes, and how.

    `controls` are those whose channels it reads.  `run` writes every slot in `writes` from those alone, so that it
    may be run again, or left out where none of them changed.
    """

    sentence: str
    reads: tuple[str, ...]
    writes: tuple[str, ...]
    run: Callable[[State, Values], None]
    controls: tuple[str, ...] = ()


@dataclass(frozen=True)
class Pose:
    """Where everything is at one moment.

    joints (j, 3, 4): rigid world frames in character order; scales (j, 3): each joint's own scale in its own
    frame, not inherited by its children; controls: world frame per control; shapes: strength per morph target.
    """

    joints: np.ndarray
    scales: np.ndarray
    controls: dict[str, Frame] = field(default_factory=dict)
    shapes: dict[str, float] = field(default_factory=dict)

    @property
    def scaled(self) -> bool:
        return bool((self.scales != 1.0).any())

    def skin_matrices(self, rest_inverse: np.ndarray) -> np.ndarray:
        """(j, 3, 4): from rest points to posed points, each joint's scale included.

        rest_inverse (j, 4, 4) are the inverses of the joints' world frames at rest.
        """
        frames = self.joints
        if self.scaled:
            frames = frames.copy()
            frames[:, :, :3] *= self.scales[:, None, :]
        return frames @ rest_inverse

    def rigid_matrices(self, rest_inverse: np.ndarray) -> np.ndarray:
        """(j, 3, 4): as `skin_matrices` without any scale."""
        return self.joints @ rest_inverse


@dataclass(frozen=True)
class RigProgram:
    """Operations in running order, and how names map to slots and values."""

    operations: tuple[Operation, ...]
    slots: dict[str, int]
    initial: tuple[Any, ...]  # the state before the first operation: everything at rest
    channels: dict[tuple[str, str], int]
    rest_values: tuple[float, ...]
    bounds: tuple[tuple[int, float, float], ...]  # (value index, low, high)
    joint_names: tuple[str, ...]
    control_names: tuple[str, ...]
    shape_names: tuple[str, ...]
    orders: dict[str, str]  # control → rotation order

    @cached_property
    def _joint_slots(self) -> list[int]:
        return [self.slots[f"joint:{n}"] for n in self.joint_names]

    @cached_property
    def _scale_slots(self) -> list[tuple[int, int]]:
        found = ((i, self.slots.get(f"scale:{n}")) for i, n in enumerate(self.joint_names))
        return [(i, s) for i, s in found if s is not None]

    @cached_property
    def _control_of_value(self) -> list[str]:
        return [control for control, _ in self.channels]

    def reached_from(self, controls: frozenset[str]) -> list[Callable[[State, Values], None]]:
        """In running order, what must run again when only these controls' channels changed."""
        touched: set[str] = set()
        found = []
        for o in self.operations:
            if not controls.isdisjoint(o.controls) or not touched.isdisjoint(o.reads):
                touched.update(o.writes)
                found.append(o.run)
        return found

    @cached_property
    def _runs(self) -> list[Callable[[State, Values], None]]:
        return [o.run for o in self.operations]

    def values(self, inputs: Inputs) -> Values:
        """Channel values in program order, clamped to their limits; unknown names are passed over."""
        values = list(self.rest_values)
        channels = self.channels
        for control, given in inputs.items():
            for channel, value in given.items():
                index = channels.get((control, channel))
                if index is not None:
                    values[index] = value
        for index, low, high in self.bounds:
            v = values[index]
            if v < low:
                values[index] = low
            elif v > high:
                values[index] = high
        return values

    def evaluate(self, inputs: Inputs) -> Pose:
        """Run the rig.  Pure: equal inputs give equal poses."""
        values = self.values(inputs)
        state: State = list(self.initial)
        for run in self._runs:
            run(state, values)
        return self.pose(state, values)

    def pose(self, state: State, values: Values) -> Pose:
        """The pose that a state holds once the operations have run."""
        scales = np.ones((len(self.joint_names), 3))
        for i, slot in self._scale_slots:
            scales[i] = state[slot]
        slots = self.slots
        return Pose(
            joints=matrices([state[s] for s in self._joint_slots]),
            scales=scales,
            controls={n: state[slots[f"control:{n}"]] for n in self.control_names},
            shapes={n: values[self.channels[("shapes", n)]] for n in self.shape_names},
        )


class Follower:
    """Evaluates one program again and again, running only what changed channels can reach.

    Gives exactly what `program.evaluate` gives.  For one thread; a drag changes one control of many.
    """

    def __init__(self, program: RigProgram) -> None:
        self.program = program
        self._state: State = []
        self._values: Values = []
        self._reached: dict[frozenset[str], list[Callable[[State, Values], None]]] = {}

    def evaluate(self, inputs: Inputs) -> Pose:
        program, values = self.program, self.program.values(inputs)
        if not self._state:
            self._state, runs = list(program.initial), program._runs
        elif values == self._values:
            runs = []
        else:
            owner = program._control_of_value
            changed = frozenset(owner[i] for i, (a, b) in enumerate(zip(values, self._values, strict=True)) if a != b)
            if changed not in self._reached:
                self._reached[changed] = program.reached_from(changed)
            runs = self._reached[changed]
        for run in runs:
            run(self._state, values)
        self._values = values
        return program.pose(self._state, values)
