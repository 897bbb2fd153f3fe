"""From a hand's drag in the world to the values of a control."""

from __future__ import annotations

from ..character import Inputs
from ..errors import NotFound
from .frames import (
    Frame,
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
from .program import RigProgram

ORIGIN: Vec = (0.0, 0.0, 0.0)


def _own(program: RigProgram, inputs: Inputs, control: str) -> Frame:
    """The control's own move and turn at `inputs`."""
    values = program.values(inputs)

    def read(kind: str) -> Vec:
        found = (program.channels.get((control, f"{kind} {a}")) for a in "xyz")
        x, y, z = (0.0 if i is None else values[i] for i in found)
        return (x, y, z)

    return with_place(turn_in_order(program.orders.get(control, "xyz"), *read("turn")), read("move"))


def _stand(program: RigProgram, inputs: Inputs, control: str, frame: Frame) -> Frame:
    """What the control stands on: its frame less its own move and turn."""
    return compose(frame, inverse(_own(program, inputs, control)))


def _check(program: RigProgram, control: str) -> None:
    if control not in program.control_names:
        raise NotFound(f"There is no control called “{control}”.", "", "Reload the page.")


def moved_to(program: RigProgram, inputs: Inputs, control: str, frame: Frame, place: Vec) -> dict[str, float]:
    """Channel values that bring the control to `place` (world, metres), `frame` being where it is at `inputs`."""
    _check(program, control)
    local = compose(inverse(_stand(program, inputs, control, frame)), with_place(frame, place))
    given = dict(inputs.get(control, {}))
    for axis, value in zip("xyz", place_of(local), strict=True):
        if (control, f"move {axis}") in program.channels:
            given[f"move {axis}"] = value
    return given


def turned_by(
    program: RigProgram, inputs: Inputs, control: str, frame: Frame, quaternion: tuple[float, float, float, float]
) -> dict[str, float]:
    """Channel values that turn the control by a world rotation (w, x, y, z) on top of what it has at `inputs`."""
    _check(program, control)
    stand = _stand(program, inputs, control, frame)
    wanted = compose(frame_from_quat(quaternion), with_place(frame, ORIGIN))
    local = compose(inverse(with_place(stand, ORIGIN)), wanted)
    given = dict(inputs.get(control, {}))
    for axis, value in zip("xyz", angles_in_order(program.orders.get(control, "xyz"), local), strict=True):
        if (control, f"turn {axis}") in program.channels:
            given[f"turn {axis}"] = value
    return given


def turned_to(program: RigProgram, inputs: Inputs, control: str, goal: Frame) -> dict[str, float]:
    """Channel values that turn the control as the world frame `goal` is turned, the others standing as `inputs` say."""
    now = program.evaluate(inputs).controls[control]
    turn = compose(with_place(goal, ORIGIN), inverse(with_place(now, ORIGIN)))
    return turned_by(program, inputs, control, now, quat_from_frame(turn))


def brought_to(program: RigProgram, inputs: Inputs, control: str, goal: Frame) -> dict[str, float]:
    """Channel values that bring the control to the world frame `goal`, as nearly as it has channels for it."""
    turned = {**inputs, control: turned_to(program, inputs, control, goal)}
    return moved_to(program, turned, control, program.evaluate(turned).controls[control], place_of(goal))
