"""The live socket: what a page wants in, a frame out.  Of wishes the newest wins; of a brush's places none is dropped."""

from __future__ import annotations

import asyncio
import json
import logging
from collections import deque
from typing import Any

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from starlette.concurrency import run_in_threadpool

from ...core.errors import Failure, VonkelError
from ...workshop import Workshop
from ...workshop.live import Session
from ...workshop.messages import message_of, number, samples_of
from ..payload import frame_bytes

router = APIRouter()
MOST_WAITING = 512  # messages of strokes
log = logging.getLogger("vonkel.live")


async def _answered(session: Session, asked: dict[str, Any]) -> bytes | str:
    """The frame for what was asked, or why there is none: one wish that fails must not end the page's socket."""
    try:
        message = message_of(asked)
        # A drag's frame takes a millisecond or two: handing it to a thread costs as much again, so only what may take
        # long goes there.
        if session.quick(message):
            return frame_bytes(session.answer(message))
        return await run_in_threadpool(lambda: frame_bytes(session.answer(message)))
    except VonkelError as error:
        return _refusal(asked, error)
    except Exception:
        log.exception("a live wish failed")
        return _refusal(asked, Failure("Something went wrong inside Vonkel.", "live", "The log says more."))


def _painted(session: Session, asked: dict[str, Any]) -> bytes | str:
    """How much of a stroke has been taken and what came of it, or why it wasn't."""
    try:
        told = session.paint(samples_of(asked))
        return frame_bytes(told) if told.blocks else json.dumps(told.said)
    except VonkelError as error:
        return json.dumps({"stroke": number(asked.get("stroke")), "error": error.as_dict()})
    except Exception:
        log.exception("a stroke failed")
        failure = Failure("Something went wrong inside Vonkel.", "live", "The log says more.")
        return json.dumps({"stroke": number(asked.get("stroke")), "error": failure.as_dict()})


def _refusal(asked: dict[str, Any], error: VonkelError) -> str:
    return json.dumps({"seq": number(asked.get("seq")), "error": error.as_dict()})


class _Lanes:
    """What a page said: the newest of its wishes, older ones are dropped; and all places of its strokes, in their order."""

    def __init__(self, socket: WebSocket) -> None:
        self.socket, self.closed = socket, False
        self.waiting: dict[str, Any] = {}
        self.strokes: deque[dict[str, Any]] = deque()
        self.fresh = asyncio.Event()

    async def listen(self) -> None:
        try:
            while True:
                text = await self.socket.receive_text()
                try:
                    asked = json.loads(text)
                except ValueError:
                    asked = None
                if not isinstance(asked, dict):
                    continue
                if asked.get("kind") == "samples":
                    if len(self.strokes) >= MOST_WAITING:
                        break  # a page that says more than can be taken says it again on a new socket
                    self.strokes.append(asked)
                else:
                    self.waiting = asked
                self.fresh.set()
            self.closed = True
            self.fresh.set()
        except (WebSocketDisconnect, RuntimeError, KeyError):
            self.closed = True
            self.fresh.set()

    async def next(self) -> dict[str, Any] | None:
        """What to answer next, strokes before wishes; None once the page has gone."""
        while True:
            if self.closed:
                return None
            if self.strokes:
                return self.strokes.popleft()
            asked, self.waiting = self.waiting, {}
            if asked:
                return asked
            await self.fresh.wait()
            self.fresh.clear()


@router.websocket("/live/{number}")
async def live(socket: WebSocket, number: int) -> None:
    """One page's socket.  While a frame is being made only the newest wish waits; a brush's places all do, in their order."""
    workshop: Workshop = socket.app.state.workshop
    await socket.accept()
    session, said = Session(workshop, number), _Lanes(socket)
    listener = asyncio.create_task(said.listen())
    try:
        while (asked := await said.next()) is not None:
            answer: bytes | str
            if asked.get("kind") == "samples":
                answer = await run_in_threadpool(_painted, session, asked)
            else:
                answer = await _answered(session, asked)
            if isinstance(answer, bytes):
                await socket.send_bytes(answer)
            else:
                await socket.send_text(answer)
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        listener.cancel()
