"""A compiled rig: a flat list of operations, run from top to bottom."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from ..character import Inputs
from .frames import Frame, frame_of, matrices, place_of
from .slots import Slot

State = list[Any]  # one entry per slot: a Frame, a scale (x, y, z), a number, or the clock
Values = list[float]  # one entry per channel of every control
UNIT_SCALE = (1.0, 1.0, 1.0)
CLOCK = 0  # the slot that holds the clock
_FREE = (float("-inf"), float("inf"))


@dataclass
class Clock:
    """The time in a motion, seconds, and what its springs remember from the frame before.

    A still pose has none: springs have settled and nothing swings.
    """

    time: float = 0.0
    step: float = 1 / 30
    memory: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Operation:
    """One line of the rig: what it does in words, the slots it reads and writes, and how.

    `controls` are those whose channels it reads, `drives` those whose channels it adds to.  `amends` are slots that
    somebody else writes first and that it then changes.  `run` writes every slot in `writes` from what it reads alone,
    so that it may be run again, or left out where none of that changed.  `group` is the kit or rule that it belongs to.
    """

    sentence: str
    reads: tuple[str, ...]
    writes: tuple[str, ...]
    run: Callable[[State, Values], None]
    controls: tuple[str, ...] = ()
    amends: tuple[str, ...] = ()
    drives: tuple[str, ...] = ()
    group: str = ""
    timed: bool = False  # gives something else when time goes by


@dataclass(frozen=True)
class Pose:
    """Where everything is at one moment.

    joints (j, 3, 4): rigid world frames in character order; scales (j, 3): each joint's own scale in its own
    frame, not inherited by its children; controls: world frame per control, as the figure is before it is sized as a
    whole by `size` about `centre`; shapes: strength per morph target; values: every channel, what leads it included.
    """

    joints: np.ndarray
    scales: np.ndarray
    controls: Mapping[str, Frame] = field(default_factory=dict)
    shapes: dict[str, float] = field(default_factory=dict)
    values: tuple[float, ...] = ()
    size: float = 1.0
    centre: tuple[float, float, float] = (0.0, 0.0, 0.0)
    rows: np.ndarray | None = None  # (k, 3, 4): the controls' frames in their order, where they are at hand

    @property
    def scaled(self) -> bool:
        return bool((self.scales != 1.0).any())

    def control_matrices(self, names: tuple[str, ...]) -> np.ndarray:
        """(k, 3, 4): where these controls are drawn, sized with the figure."""
        if self.rows is not None and len(self.rows) == len(names):
            out = self.rows
        else:
            out = matrices([self.controls[n] for n in names])
        if self.size != 1.0:
            out = out * self.size
            out[:, :, 3] += (1.0 - self.size) * np.array(self.centre)
        return out

    def skin_matrices(self, rest_inverse: np.ndarray) -> np.ndarray:
        """(j, 3, 4): from rest points to posed points, each joint's scale included.

        rest_inverse (j, 4, 4) are the inverses of the joints' world frames at rest.
        """
        frames = self.joints
        if self.scaled:
            frames = frames.copy()
            frames[:, :, :3] *= self.scales[:, None, :]
        return np.asarray(frames @ rest_inverse)

    def rigid_matrices(self, rest_inverse: np.ndarray) -> np.ndarray:
        """(j, 3, 4): as `skin_matrices` without any scale."""
        return np.asarray(self.joints @ rest_inverse)


class ControlFrames(Mapping[str, Frame]):
    """Frames of controls, looked up in a copy of the state."""

    def __init__(self, state: State, slots: dict[str, int]) -> None:
        self._state, self._slots = state, slots

    def __getitem__(self, name: str) -> Frame:
        frame: Frame = self._state[self._slots[name]]
        return frame

    def __iter__(self) -> Iterator[str]:
        return iter(self._slots)

    def __len__(self) -> int:
        return len(self._slots)


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
    size_value: int = -1  # the channel that sizes the figure as a whole
    whole_slot: int = -1  # the control about which it is sized

    @cached_property
    def rests(self) -> bool:
        """Whether its rest pose is all of finite numbers."""
        pose = self.evaluate({})
        frames = (pose.joints, pose.scales, pose.control_matrices(self.control_names))
        return all(bool(np.isfinite(f).all()) for f in frames)

    @cached_property
    def _joint_slots(self) -> list[int]:
        return [self.slots[Slot.joint(n)] for n in self.joint_names]

    @cached_property
    def _ways(self) -> dict[str, dict[str, tuple[int, float, float]]]:
        """Control → channel → (value index, low, high)."""
        limits = {index: (low, high) for index, low, high in self.bounds}
        found: dict[str, dict[str, tuple[int, float, float]]] = {}
        for (control, channel), index in self.channels.items():
            found.setdefault(control, {})[channel] = (index, *limits.get(index, _FREE))
        return found

    @cached_property
    def _shape_values(self) -> list[tuple[str, int]]:
        return [(n, self.channels[("shapes", n)]) for n in self.shape_names]

    @cached_property
    def _control_slots(self) -> dict[str, int]:
        return {n: self.slots[Slot.control(n)] for n in self.control_names}

    @cached_property
    def _scale_slots(self) -> list[tuple[int, int]]:
        found = ((i, self.slots.get(Slot.scale(n))) for i, n in enumerate(self.joint_names))
        return [(i, s) for i, s in found if s is not None]

    def reached_from(self, controls: frozenset[str]) -> tuple[list[Callable[[State, Values], None]], set[str]]:
        """In running order, what must run again when only these controls' channels changed, and the slots it writes.

        What amends a slot runs on what was written there before, so all writers of a slot run or none does.
        """
        touched: set[str] = {Slot.value(c) for c in controls}
        chosen: set[int] = set()
        while True:
            before = len(chosen)
            for i, o in enumerate(self.operations):
                if i not in chosen and not touched.isdisjoint(self._reads[i]):
                    chosen.add(i)
                    touched.update(o.writes)
                    touched.update(Slot.value(c) for c in o.drives)
            for i in list(chosen):
                for w in self.operations[i].writes:
                    chosen.update(self._writers[w])
                    for j in self._writers[w]:
                        touched.update(self.operations[j].writes)
            if len(chosen) == before:
                break
        chosen.update(i for i, o in enumerate(self.operations) if o.drives)  # values are fresh each time
        written = {w for i in chosen for w in self.operations[i].writes}
        return [self.operations[i].run for i in sorted(chosen)], written

    @cached_property
    def _reads(self) -> list[frozenset[str]]:
        return [frozenset(o.reads) | {Slot.value(c) for c in o.controls} for o in self.operations]

    @cached_property
    def _writers(self) -> dict[str, list[int]]:
        found: dict[str, list[int]] = {}
        for i, o in enumerate(self.operations):
            for w in o.writes:
                found.setdefault(w, []).append(i)
        return found

    @cached_property
    def timed(self) -> bool:
        """Whether anything springs or swings."""
        return any(o.timed for o in self.operations)

    @cached_property
    def _runs(self) -> list[Callable[[State, Values], None]]:
        return [o.run for o in self.operations]

    def values(self, inputs: Inputs) -> Values:
        """Channel values in program order, those given clamped to their limits; unknown names are passed over."""
        values = list(self.rest_values)
        for control, given in inputs.items():
            ways = self._ways.get(control)
            if ways is None:
                continue
            for channel, value in given.items():
                way = ways.get(channel)
                if way is not None:
                    index, low, high = way
                    values[index] = low if value < low else high if value > high else value
        return values

    def evaluate(self, inputs: Inputs, clock: Clock | None = None) -> Pose:
        """Run the rig.  Pure but for what the clock remembers: equal inputs give equal poses."""
        values = self.values(inputs)
        state: State = list(self.initial)
        state[CLOCK] = clock
        for run in self._runs:
            run(state, values)
        return self.pose(state, values)

    def shapes_at(self, joints: np.ndarray) -> dict[str, float]:
        """Shape → strength where joints (j, 3, 4) are so, however they came there, and every control is at rest."""
        state, values = list(self.initial), list(self.rest_values)
        for slot, frame in zip(self._joint_slots, joints, strict=True):
            state[slot] = frame_of(frame)
        for run in self._shape_runs:
            run(state, values)
        return {n: values[i] for n, i in self._shape_values}

    @cached_property
    def _shape_runs(self) -> list[Callable[[State, Values], None]]:
        """What leads shapes, by where joints are or by other shapes."""
        return [o.run for o in self.operations if o.drives == ("shapes",) and not o.timed]

    def pose(
        self, state: State, values: Values, joints: np.ndarray | None = None, rows: np.ndarray | None = None
    ) -> Pose:
        """The pose that a state holds once the operations have run.

        joints (j, 3, 4) and rows (k, 3, 4): the frames of joints and controls, where the caller has them already.
        """
        scales = np.ones((len(self.joint_names), 3))
        for i, slot in self._scale_slots:
            if state[slot] is not UNIT_SCALE:
                scales[i] = state[slot]
        if joints is None:
            joints = matrices([state[s] for s in self._joint_slots])
        size = values[self.size_value] if self.size_value >= 0 else 1.0
        centre = (0.0, 0.0, 0.0)
        if size != 1.0:
            centre = place_of(state[self.whole_slot])
            joints[:, :, 3] = np.array(centre) + size * (joints[:, :, 3] - centre)
            scales *= size
        return Pose(
            joints=joints,
            scales=scales,
            controls=ControlFrames(list(state), self._control_slots),
            shapes={n: values[i] for n, i in self._shape_values},
            values=tuple(values),
            size=size,
            centre=centre,
            rows=rows,
        )


class PartialEvaluator:
    """Evaluates one program again and again, running only what changed channels can reach.

    Gives exactly what `program.evaluate` gives.  For one thread; a drag changes one control of many.
    """

    def __init__(self, program: RigProgram) -> None:
        self.program = program
        self._state: State = []
        self._given: Inputs = {}
        self._values: Values = []
        self._reached: dict[frozenset[str], _Reach] = {}
        self._joints, self._rows = np.zeros((0, 12)), np.zeros((0, 12))

    def evaluate(self, inputs: Inputs) -> Pose:
        """As `program.evaluate`."""
        program, reach = self.program, self._run(inputs)
        if reach is None:
            self._joints = matrices([self._state[s] for s in program._joint_slots]).reshape(-1, 12)
            self._rows = matrices([self._state[s] for s in program._control_slots.values()]).reshape(-1, 12)
        else:
            for i, slot in reach.joints:
                self._joints[i] = self._state[slot]
            for i, slot in reach.controls:
                self._rows[i] = self._state[slot]
        joints, rows = self._joints.reshape(-1, 3, 4).copy(), self._rows.reshape(-1, 3, 4).copy()
        return program.pose(self._state, self._values, joints, rows)

    def place(self, inputs: Inputs, joint: int) -> np.ndarray:
        """(3,) metres: where one joint is, by its index; the rest of the pose isn't made."""
        self._run(inputs)
        self._joints = np.zeros((0, 12))
        return np.array(place_of(self._state[self.program._joint_slots[joint]]))

    def _run(self, inputs: Inputs) -> _Reach | None:
        """Brings the state up to date.  Returns what was run, or None where that was everything."""
        program, before = self.program, self._given
        values = program.values(inputs)
        reach = None
        if not self._state:
            self._state, runs = list(program.initial), program._runs
        else:
            changed = frozenset(c for c in inputs.keys() | before.keys() if inputs.get(c) != before.get(c))
            if changed not in self._reached:
                self._reached[changed] = _Reach(program, changed)
            reach = self._reached[changed]
            runs = reach.runs
        for run in runs:
            run(self._state, values)
        self._given, self._values = {c: dict(v) for c, v in inputs.items()}, values
        return reach if len(self._joints) else None


class _Reach:
    """What changing some controls' channels reaches: operations in running order, and the frames they write."""

    def __init__(self, program: RigProgram, controls: frozenset[str]) -> None:
        self.runs, written = program.reached_from(controls)
        self.joints = [
            (i, s) for i, s in enumerate(program._joint_slots) if Slot.joint(program.joint_names[i]) in written
        ]
        slots = program._control_slots
        self.controls = [(i, slots[n]) for i, n in enumerate(slots) if Slot.control(n) in written]
