"""From a hand's drag in the world to the values of a control."""

from __future__ import annotations

from dataclasses import dataclass

from ..character import Inputs
from ..errors import NotFound
from .frames import (
    ORIGIN,
    Frame,
    Quat,
    Vec,
    angles_in_order,
    compose,
    frame_from_quat,
    inverse,
    place_of,
    quat_from_frame,
    turn_in_order,
    with_place,
)
from .program import Pose, RigProgram


def _own(program: RigProgram, pose: Pose, control: str) -> Frame:
    """The control's own move and turn in a pose, with what leads it."""

    def read(kind: str) -> Vec:
        found = (program.channels.get((control, f"{kind} {a}")) for a in "xyz")
        x, y, z = (0.0 if i is None else pose.values[i] for i in found)
        return (x, y, z)

    return with_place(turn_in_order(program.orders.get(control, "xyz"), *read("turn")), read("move"))


@dataclass(frozen=True)
class Grip:
    """A control in the hand: where it was when it was taken, what it stands on, and what leads its channels besides."""

    program: RigProgram
    control: str
    inputs: Inputs
    frame: Frame
    stand: Frame
    led: dict[str, float]
    size: float
    centre: Vec

    def moved_to(self, place: Vec) -> dict[str, float]:
        """Channel values that bring the control to `place` (world, metres, the figure sized as it is)."""
        if self.size != 1.0:
            x, y, z = (c + (p - c) / self.size for p, c in zip(place, self.centre, strict=True))
            place = (x, y, z)
        local = compose(inverse(self.stand), with_place(self.frame, place))
        return self._given("move", place_of(local))

    def turned_by(self, quaternion: Quat) -> dict[str, float]:
        """Channel values that turn the control by a world rotation (w, x, y, z) from where it was taken."""
        wanted = compose(frame_from_quat(quaternion), with_place(self.frame, ORIGIN))
        return self._turned(wanted)

    def _turned(self, wanted: Frame) -> dict[str, float]:
        local = compose(inverse(with_place(self.stand, ORIGIN)), with_place(wanted, ORIGIN))
        return self._given("turn", angles_in_order(self.program.orders.get(self.control, "xyz"), local))

    def _given(self, kind: str, wanted: Vec) -> dict[str, float]:
        given = dict(self.inputs.get(self.control, {}))
        for axis, value in zip("xyz", wanted, strict=True):
            channel = f"{kind} {axis}"
            if (self.control, channel) in self.program.channels:
                given[channel] = value - self.led.get(channel, 0.0)
        return given


def grip(program: RigProgram, inputs: Inputs, control: str) -> Grip:
    """Take a control where it stands at `inputs`.  Raises NotFound for one that isn't there."""
    if control not in program.control_names:
        raise NotFound(f"There is no control called “{control}”.", "", "Reload the page.")
    return gripped(program, inputs, control, program.evaluate(inputs))


def gripped(program: RigProgram, inputs: Inputs, control: str, pose: Pose) -> Grip:
    """The same, where the pose at `inputs` is at hand."""
    plain = program.values(inputs)
    frame = pose.controls[control]
    led = {k: pose.values[i] - plain[i] for (c, k), i in program.channels.items() if c == control}
    stand = compose(frame, inverse(_own(program, pose, control)))
    return Grip(program, control, inputs, frame, stand, led, pose.size, pose.centre)


def moved_to(program: RigProgram, inputs: Inputs, control: str, place: Vec) -> dict[str, float]:
    """Channel values that bring the control to `place`, the others standing as `inputs` say."""
    return grip(program, inputs, control).moved_to(place)


def turned_by(program: RigProgram, inputs: Inputs, control: str, quaternion: Quat) -> dict[str, float]:
    """Channel values that turn the control by a world rotation (w, x, y, z) on top of what it has at `inputs`."""
    return grip(program, inputs, control).turned_by(quaternion)


def turned_to(program: RigProgram, inputs: Inputs, control: str, goal: Frame) -> dict[str, float]:
    """Channel values that turn the control as the world frame `goal` is turned, the others standing as `inputs` say."""
    now = grip(program, inputs, control)
    turn = compose(with_place(goal, ORIGIN), inverse(with_place(now.frame, ORIGIN)))
    return now.turned_by(quat_from_frame(turn))


def brought_to(program: RigProgram, inputs: Inputs, control: str, goal: Frame) -> dict[str, float]:
    """Channel values that bring the control to the world frame `goal`, as nearly as it has channels for it."""
    turned = {**inputs, control: turned_to(program, inputs, control, goal)}
    return moved_to(program, turned, control, place_of(goal))
