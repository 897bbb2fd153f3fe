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
    """One line of the rig: what it does in words, the slots it reads and writes, and how."""

    sentence: str
    reads: tuple[str, ...]
    writes: tuple[str, ...]
    run: Callable[[State, Values], None]


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

    @cached_property
    def _joint_slots(self) -> list[int]:
        return [self.slots[f"joint:{n}"] for n in self.joint_names]

    @cached_property
    def _scale_slots(self) -> list[tuple[int, int]]:
        found = ((i, self.slots.get(f"scale:{n}")) for i, n in enumerate(self.joint_names))
        return [(i, s) for i, s in found if s is not None]

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
