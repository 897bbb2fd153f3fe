"""The live socket: what a page wants in, a frame out.  The newest wish wins."""

from __future__ import annotations

import asyncio
import json
import logging
from typing import Any

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from starlette.concurrency import run_in_threadpool

from ...core.errors import Failure, VonkelError
from ...workshop import Workshop
from ...workshop.live import Session
from ...workshop.messages import message_of, number
from ..payload import frame_bytes

router = APIRouter()
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


def _refusal(asked: dict[str, Any], error: VonkelError) -> str:
    return json.dumps({"seq": number(asked.get("seq")), "error": error.as_dict()})


class _Newest:
    """The newest thing that a page said; what it said before and wasn't looked at yet is dropped."""

    def __init__(self, socket: WebSocket) -> None:
        self.socket, self.closed = socket, False
        self.waiting: dict[str, Any] = {}
        self.fresh = asyncio.Event()

    async def listen(self) -> None:
        try:
            while True:
                text = await self.socket.receive_text()
                try:
                    asked = json.loads(text)
                except ValueError:
                    asked = None
                if isinstance(asked, dict):
                    self.waiting = asked
                    self.fresh.set()
        except (WebSocketDisconnect, RuntimeError, KeyError):
            self.closed = True
            self.fresh.set()

    async def next(self) -> dict[str, Any] | None:
        """What to answer next; None once the page has gone."""
        while True:
            await self.fresh.wait()
            self.fresh.clear()
            if self.closed:
                return None
            asked, self.waiting = self.waiting, {}
            if asked:
                return asked


@router.websocket("/live/{number}")
async def live(socket: WebSocket, number: int) -> None:
    """One page's socket.  While a frame is being made only the newest message waits; older ones are dropped."""
    workshop: Workshop = socket.app.state.workshop
    await socket.accept()
    session, said = Session(workshop, number), _Newest(socket)
    listener = asyncio.create_task(said.listen())
    try:
        while (asked := await said.next()) is not None:
            answer = await _answered(session, asked)
            if isinstance(answer, bytes):
                await socket.send_bytes(answer)
            else:
                await socket.send_text(answer)
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        listener.cancel()
