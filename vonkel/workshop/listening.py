"""Listening to a performance as it happens: a suit that streams BVH, or a face that streams action units, on this machine."""

from __future__ import annotations

import json
import socket
import threading
import time
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from ..core.character import Character, Inputs
from ..core.errors import BadFile, NotFound, StepRefused, VonkelError
from ..core.formats.bvh_read import read
from ..core.motion.capture import Capture
from ..core.retargeting import matched
from ..core.retargeting.faces import FaceSaid, face_values
from ..core.retargeting.playing import Stage

MOST = 36_000  # frames that are kept
HEAD = 2_000_000  # bytes of a hierarchy at most
LINE = 100_000
WAIT = 4.0  # seconds for the first frame

Kind = Literal["suit", "face"]


@dataclass
class Listener:
    """What a stream has said so far.  Frames come in on a thread of its own; whoever looks sees the newest."""

    kind: Kind
    port: int
    capture: Capture | None = None  # of a suit: its skeleton, and its first frame
    rows: list[Any] = field(default_factory=list)  # of a suit numbers, of a face FaceSaid
    times: list[float] = field(default_factory=list)  # seconds since it began
    error: VonkelError | None = None
    over: threading.Event = field(default_factory=threading.Event)
    begun: threading.Event = field(default_factory=threading.Event)
    stage: Stage | None = None
    first: float = 0.0  # when the first frame came

    def start(self) -> Listener:
        """Connect and wait for the first frame.  Raises NotFound where nobody speaks there, BadFile for what can't be understood."""
        try:
            line = socket.create_connection(("127.0.0.1", self.port), timeout=WAIT)
        except OSError:
            raise NotFound(
                f"Nobody speaks on port {self.port} of this machine.",
                "port",
                f"Start the device, or `vonkel stand-in {self.kind}`.",
            ) from None
        threading.Thread(target=self._listen, args=(line,), daemon=True).start()
        if not self.begun.wait(WAIT) and self.error is None:
            self.error = BadFile(
                "Nothing was said that could be understood.", f"port {self.port}", "Is it the right device?"
            )
        if self.error is not None:
            self.over.set()
            raise self.error
        return self

    def stop(self) -> None:
        self.over.set()

    @property
    def rate(self) -> float:
        """Frames a second, as they came."""
        if self.capture is not None:
            return self.capture.rate
        return (len(self.times) - 1) / max(self.times[-1], 1e-6) if len(self.times) > 1 else 30.0

    def _listen(self, line: socket.socket) -> None:
        try:
            with line, line.makefile("rb") as lines:
                line.settimeout(WAIT)
                if self.kind == "suit":
                    self._suit(lines)
                else:
                    self._face(lines)
        except VonkelError as error:
            self.error = error
        except (OSError, ValueError):
            if not self.rows:
                self.error = BadFile("The stream broke off.", f"port {self.port}", "Start it again.")
        finally:
            self.over.set()
            self.begun.set()

    def _next(self, lines: Any) -> str | None:
        said = lines.readline(LINE)
        return said.decode("utf-8", "replace").strip() if said and not self.over.is_set() else None

    def _took(self, row: Any) -> None:
        if len(self.rows) >= MOST:
            self.over.set()
            return
        if not self.times:
            self.first = time.monotonic()
        self.rows.append(row)
        self.times.append(time.monotonic() - self.first)
        self.begun.set()

    def _suit(self, lines: Any) -> None:
        head: list[str] = []
        size = 0
        while (said := self._next(lines)) is not None:
            if self.capture is None:
                head.append(said)
                size += len(said)
                if size > HEAD:
                    raise BadFile("The hierarchy has no end.", f"port {self.port}", "Is it the right device?")
                if said and any(h.upper() == "MOTION" for h in head) and _numbers(said) is not None:
                    self.capture = read("stream", "\n".join(head).encode())
                    self._took(self.capture.rows[0])
                continue
            row = _numbers(said)
            if row is not None and len(row) == self.capture.skeleton.width:
                self._took(row)

    def _face(self, lines: Any) -> None:
        while (said := self._next(lines)) is not None:
            try:
                self._took(FaceSaid.of(json.loads(said)))
            except (ValueError, TypeError, AttributeError):
                if not self.rows:
                    raise BadFile(
                        "A line is no JSON of action units.", f"port {self.port}", "Is it the right device?"
                    ) from None

    def values(self, character: Character) -> Inputs:
        """The controls' values of the newest frame.  Raises StepRefused."""
        if not self.rows:
            raise StepRefused("Nothing was heard yet.", f"port {self.port}", "Wait a moment.")
        if self.kind == "face":
            return face_values(character, self.rows[-1])
        assert self.capture is not None
        if self.stage is None or self.stage.character is not character:
            there = {m.joint: m.source for m in matched(character, self.capture.skeleton) if m.source}
            number = {n: i for i, n in enumerate(self.capture.skeleton.names)}
            self.stage = Stage(character, self.capture, {j: number[s] for j, s in there.items()})
        return self.stage.fed(np.asarray(self.rows[-1], float))

    def heard(self) -> Capture:
        """All that a suit has said.  Raises StepRefused where it hasn't said anything."""
        if self.capture is None or len(self.rows) < 2:
            raise StepRefused("Nothing was heard that could be kept.", f"port {self.port}", "Listen for longer.")
        return Capture(self.capture.skeleton, np.array(self.rows, float), self.capture.rate)

    def faces(self, character: Character, rate: float) -> list[Inputs]:
        """All that a face has said, `rate` frames a second.  Raises StepRefused."""
        if self.kind != "face" or len(self.rows) < 2:
            raise StepRefused("Nothing was heard that could be kept.", f"port {self.port}", "Listen for longer.")
        at = np.arange(0.0, self.times[-1], 1.0 / rate)
        near = np.clip(np.searchsorted(self.times, at), 0, len(self.rows) - 1)
        return [face_values(character, self.rows[int(k)]) for k in near]


def _numbers(line: str) -> np.ndarray | None:
    try:
        out = np.array([float(w) for w in line.split()])
    except ValueError:
        return None
    return out if len(out) and np.isfinite(out).all() else None
