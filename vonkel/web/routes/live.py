"""The live socket: a control's value in, a deformed frame out.  The newest value wins."""

from __future__ import annotations

import asyncio
import json
import logging
import time
from dataclasses import dataclass
from math import isfinite
from typing import Any

import numpy as np
from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from starlette.concurrency import run_in_threadpool

from ...core.character import Character, Inputs
from ...core.errors import BadParameters, Failure, VonkelError
from ...core.joints.edit import moved_places
from ...core.rig import Clock, Follower, Pose, RigProgram, compile_rig
from ...core.rig.drag import Grip, grip
from ...core.rig.motion import Motion, there_and_back
from ...core.rig.reach import reached
from ...core.skin import Deformer
from ...core.trials import trial_pose
from ...core.trials.measure import Measurer
from ...workshop import Workshop
from ..payload import frame_bytes

router = APIRouter()
log = logging.getLogger("vonkel.live")


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
    held: Grip | None = None  # the control in the hand, as it was when the drag began
    off: frozenset[str] = frozenset()  # operations left out, to see what they do
    clock: Clock | None = None  # runs while springs and swings are shown live
    ticked: float = 0.0
    motion: tuple[str, Motion] | None = None  # the motion that is being tried, by what it was made from

    def look(self, step: int, off: frozenset[str] = frozenset()) -> None:
        """Take up a state; nothing is done when it is the one at hand."""
        same = step == self.step and self.character is not None
        if same and off == self.off:
            return
        if not same:
            self.character = self.workshop.character(self.number, step)
            self.deformer, self.measurer = Deformer(self.character), None
        assert self.character is not None
        self.program = compile_rig(self.character, off)
        self.follower, self.step, self.held = Follower(self.program), step, None
        self.off, self.clock, self.motion = off, None, None

    def answer(self, asked: dict[str, Any]) -> bytes:
        """The frame for one message.  Kinds: pose, move, turn, reach, motion, trial, joint.

        `run` lets the clock go on by the time since the message before; without it springs are settled.
        """
        self.look(_whole(asked.get("step", 0)), _sentences(asked.get("off")))
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
            inputs, given = self._dragged(asked, inputs)
            if given:
                said["values"] = given
            pose = self._motion(asked, said) if asked.get("kind") == "motion" else self._pose(asked, inputs, said)
        points = self.deformer.deform(pose)
        if asked.get("heat"):
            said["heat"] = True
        controls = self.program.control_names if len(pose.controls) else ()  # trial poses know no controls
        said["controls"] = len(controls)
        body = frame_bytes(sequence, points, pose, controls, said)
        return body + self._heat(points, pose) if asked.get("heat") else body

    def quick(self, asked: dict[str, Any]) -> bool:
        """Whether a message takes a millisecond or two: the state is at hand, and nothing else needs to be made."""
        return (
            asked.get("step") == self.step
            and not asked.get("heat")
            and asked.get("kind") not in ("trial", "motion", "reach")
            and _sentences(asked.get("off")) == self.off
        )

    def _dragged(self, asked: dict[str, Any], inputs: Inputs) -> tuple[Inputs, Inputs]:
        """The values once what is in the hand is where the hand is, and those that changed for it."""
        assert self.program is not None and self.character is not None
        kind = asked.get("kind")
        if kind == "reach":
            name = str(asked.get("joint"))
            place = np.array(_numbers(asked.get("to"), 3))
            given = reached(self.character, self.program, inputs, name, place)
            return given, {c: v for c, v in given.items() if v != inputs.get(c)}
        if kind not in ("move", "turn"):
            return inputs, {}
        control = str(asked.get("control"))
        if self.held is None or self.held.control != control or self.held.inputs != inputs:
            self.held = grip(self.program, inputs, control)
        if kind == "move":
            values = self.held.moved_to(_numbers(asked.get("to"), 3))  # type: ignore[arg-type]
        else:
            values = self.held.turned_by(_numbers(asked.get("by"), 4))  # type: ignore[arg-type]
        return {**inputs, control: values}, {control: values}

    def _pose(self, asked: dict[str, Any], inputs: Inputs, said: dict[str, Any]) -> Pose:
        assert self.program is not None and self.follower is not None
        if not asked.get("run") or not self.program.timed:
            self.clock = None
            return self.follower.evaluate(inputs)
        now = time.monotonic()
        if self.clock is None or asked.get("run") == "reset":
            self.clock, self.ticked = Clock(), now
        self.clock.step = min(max(now - self.ticked, 1 / 480), 1 / 8)  # a stall is shown as one slow frame
        self.clock.time += self.clock.step
        self.ticked = now
        said["time"] = self.clock.time
        return self.program.evaluate(inputs, self.clock)

    def _motion(self, asked: dict[str, Any], said: dict[str, Any]) -> Pose:
        """A frame of a try from rest, or from another pose, to the one at hand and back."""
        assert self.program is not None and self.character is not None
        frames, rate = _whole(asked.get("frames", 72)), _whole(asked.get("rate", 24))
        frame = _whole(asked.get("frame", 0))
        if not (2 <= frames <= 2000 and 1 <= rate <= 240):
            raise BadParameters("A motion has 2 to 2000 frames, at 1 to 240 a second.", "", "Choose others.")
        start, end = _inputs(asked.get("start")), _inputs(asked.get("values"))
        key = json.dumps([start, end, frames, rate])
        if self.motion is None or self.motion[0] != key:
            rests = {c.name: {k.name: k.rest for k in c.channels} for c in self.character.controls}
            self.motion = (key, Motion(self.program, there_and_back(start, end, frames, rests), float(rate)))
        said["frame"] = min(frame, frames - 1)
        return self.motion[1].pose(said["frame"])

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


def _sentences(value: Any) -> frozenset[str]:
    return frozenset(str(v) for v in value[:500]) if isinstance(value, list) else frozenset()


def _numbers(value: Any, count: int) -> tuple[float, ...]:
    found = [_number(v) for v in value] if isinstance(value, list) and len(value) == count else [None]
    if not all(v is not None and abs(v) < 1e6 for v in found):
        raise BadParameters(f"{count} numbers are wanted.")
    return tuple(float(v) for v in found if v is not None)


def _number(value: Any) -> float | None:
    """A finite number, or nothing."""
    if not isinstance(value, (int, float)) or isinstance(value, bool):
        return None
    try:
        number = float(value)
    except OverflowError:
        return None
    return number if isfinite(number) else None


def _inputs(value: Any) -> Inputs:
    if not isinstance(value, dict):
        return {}
    out: Inputs = {}
    for control, given in value.items():
        if isinstance(given, dict):
            out[str(control)] = {str(k): n for k, v in given.items() if (n := _number(v)) is not None}
    return out


def _refusal(asked: dict[str, Any], error: VonkelError) -> str:
    return json.dumps({"seq": _number(asked.get("seq")), "error": error.as_dict()})


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
                if session.quick(asked):
                    frame = session.answer(asked)
                else:
                    frame = await run_in_threadpool(session.answer, asked)
                await socket.send_bytes(frame)
            except VonkelError as error:
                await socket.send_text(_refusal(asked, error))
            except (WebSocketDisconnect, RuntimeError):
                raise
            except Exception:  # one wish that fails must not end the page's socket
                log.exception("a live wish failed")
                await socket.send_text(
                    _refusal(asked, Failure("Something went wrong inside Vonkel.", "live", "The log says more."))
                )
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        listener.cancel()
