"""The live socket: a control's value in, a deformed frame out.  The newest value wins."""

from __future__ import annotations

import asyncio
import json
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from starlette.concurrency import run_in_threadpool

from ...core.character import Character, Inputs
from ...core.errors import BadParameters, VonkelError
from ...core.joints.edit import moved_places
from ...core.rig import Follower, Pose, RigProgram, compile_rig
from ...core.rig.drag import moved_to, turned_by
from ...core.skin import Deformer
from ...core.trials import trial_pose
from ...core.trials.measure import Measurer
from ...workshop import Workshop
from ..payload import frame_bytes

router = APIRouter()


@dataclass
class Session:
    """What one open page holds: the compiled rig and the deformer of the state it looks at."""

    workshop: Workshop
    number: int
    step: int = 0
    character: Character | None = None
    program: RigProgram | None = None
    follower: Follower | None = None
    deformer: Deformer | None = None
    measurer: Measurer | None = None
    held: tuple[str, Inputs, Any] = field(default=("", {}, None))  # the drag's start: control, inputs, its frame

    def look(self, step: int) -> None:
        """Take up a state; nothing is done when it is the one at hand."""
        if step == self.step and self.character is not None:
            return
        self.character = self.workshop.character(self.number, step)
        self.program, self.deformer = compile_rig(self.character), Deformer(self.character)
        self.follower = Follower(self.program)
        self.measurer, self.step, self.held = None, step, ("", {}, None)

    def answer(self, asked: dict[str, Any]) -> bytes:
        """The frame for one message.  Kinds: pose, move, turn, trial, joint."""
        self.look(_whole(asked.get("step", 0)))
        sequence = _whole(asked.get("seq", 0)) & 0xFFFFFFFF
        if asked.get("kind") == "joint":
            return self._joint(sequence, asked)
        assert self.character is not None and self.program is not None and self.deformer is not None
        inputs = _inputs(asked.get("values"))
        said: dict[str, Any] = {}
        if asked.get("kind") == "trial":
            pose = trial_pose(self.character, str(asked.get("name")))
            if pose is None:
                raise BadParameters(f"There is no trial “{asked.get('name')}”.")
        else:
            if asked.get("kind") in ("move", "turn"):
                control = str(asked.get("control"))
                frame = self._start(control, inputs)
                if asked["kind"] == "move":
                    given = moved_to(self.program, inputs, control, frame, _numbers(asked.get("to"), 3))  # type: ignore[arg-type]
                else:
                    given = turned_by(self.program, inputs, control, frame, _numbers(asked.get("by"), 4))  # type: ignore[arg-type]
                inputs = {**inputs, control: given}
                said["values"] = {control: given}
            assert self.follower is not None
            pose = self.follower.evaluate(inputs)
        points = self.deformer.deform(pose)
        if asked.get("heat"):
            said["heat"] = True
        controls = tuple(n for n in self.program.control_names if n in pose.controls)
        said["controls"] = len(controls)
        body = frame_bytes(sequence, points, pose, controls, said)
        return body + self._heat(points, pose) if asked.get("heat") else body

    def _start(self, control: str, inputs: Inputs) -> Any:
        """Where the control stood when the drag began; the same for every message of a drag."""
        assert self.program is not None
        if self.held[0] != control or self.held[1] != inputs:
            controls = self.program.evaluate(inputs).controls
            if control not in controls:
                raise BadParameters(f"There is no control called “{control}”.")
            self.held = (control, inputs, controls[control])
        return self.held[2]

    def _heat(self, points: np.ndarray, pose: Pose) -> bytes:
        assert self.character is not None
        if self.measurer is None:
            self.measurer = Measurer(self.character)
        return self.measurer.measure(points, pose).heat.tobytes()

    def _joint(self, sequence: int, asked: dict[str, Any]) -> bytes:
        """Where a dragged joint and its partner would come to lie; nothing is stored before the hand lets go."""
        assert self.character is not None
        c = self.character
        place = np.array(_numbers(asked.get("to"), 3))
        both, below, inside = asked.get("both", True), asked.get("below", False), asked.get("inside", True)
        places = moved_places(c, str(asked.get("joint")), place, bool(both), bool(below), bool(inside))
        text = json.dumps({"places": {n: p.tolist() for n, p in places.items()}}).encode()
        text += b" " * (-len(text) % 4)
        return np.array([sequence, len(text)], "<u4").tobytes() + text


def _whole(value: Any) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or value < 0:
        raise BadParameters("A whole number is wanted.")
    return value


def _numbers(value: Any, count: int) -> tuple[float, ...]:
    ok = isinstance(value, list) and len(value) == count
    if not ok or not all(isinstance(v, (int, float)) and np.isfinite(v) and abs(v) < 1e6 for v in value):
        raise BadParameters(f"{count} numbers are wanted.")
    return tuple(float(v) for v in value)


def _inputs(value: Any) -> Inputs:
    if not isinstance(value, dict):
        return {}
    out: Inputs = {}
    for control, given in value.items():
        if isinstance(given, dict):
            out[str(control)] = {
                str(k): float(v) for k, v in given.items() if isinstance(v, (int, float)) and np.isfinite(v)
            }
    return out


@router.websocket("/live/{number}")
async def live(socket: WebSocket, number: int) -> None:
    """One page's socket.  While a frame is being made only the newest message waits; older ones are dropped."""
    workshop: Workshop = socket.app.state.workshop
    await socket.accept()
    session = Session(workshop, number)
    waiting: dict[str, Any] = {}
    fresh = asyncio.Event()
    closed = False

    async def listen() -> None:
        nonlocal closed, waiting
        try:
            while True:
                text = await socket.receive_text()
                try:
                    asked = json.loads(text)
                except ValueError:
                    asked = None
                if isinstance(asked, dict):
                    waiting = asked
                    fresh.set()
        except (WebSocketDisconnect, RuntimeError, KeyError):
            closed = True
            fresh.set()

    listener = asyncio.create_task(listen())
    try:
        while True:
            await fresh.wait()
            fresh.clear()
            if closed:
                break
            asked, waiting = waiting, {}
            if not asked:
                continue
            try:
                # A drag's frame takes a millisecond or two: handing it to a thread costs as much again, so only
                # what may take long goes there.
                if asked.get("step") == session.step and not asked.get("heat") and asked.get("kind") != "trial":
                    frame = session.answer(asked)
                else:
                    frame = await run_in_threadpool(session.answer, asked)
                await socket.send_bytes(frame)
            except VonkelError as error:
                await socket.send_text(json.dumps({"seq": asked.get("seq"), "error": error.as_dict()}))
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        listener.cancel()
