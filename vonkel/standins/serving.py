"""A stand-in's stage: whoever connects to its port on this machine is sent its lines, at their pace."""

from __future__ import annotations

import logging
import socket
import threading
import time
from collections.abc import Callable, Iterator

from ..core.errors import BadParameters

log = logging.getLogger("vonkel.standins")


class Stage:
    """Lines sent to every listener, `rate` a second; what comes before the first frame is sent at once."""

    def __init__(
        self, lines: Callable[[], Iterator[str]], port: int, rate: float, begins: Callable[[str], bool]
    ) -> None:
        self.lines, self.rate, self.begins = lines, rate, begins
        self.over = threading.Event()
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self.socket.bind(("127.0.0.1", port))
        except OSError:
            self.socket.close()
            raise BadParameters(f"The port {port} is taken.", "port", "Choose another.") from None
        self.socket.listen(4)
        self.socket.settimeout(0.2)
        self.port: int = self.socket.getsockname()[1]

    def run(self) -> None:
        """Send until it is closed."""
        with self.socket:
            while not self.over.is_set():
                try:
                    listener, _ = self.socket.accept()
                except TimeoutError:
                    continue
                except OSError:
                    return
                threading.Thread(target=self._send, args=(listener,), daemon=True).start()

    def start(self) -> Stage:
        threading.Thread(target=self.run, daemon=True).start()
        return self

    def close(self) -> None:
        self.over.set()

    def _send(self, listener: socket.socket) -> None:
        began, sent = time.monotonic(), 0
        listener.settimeout(5.0)
        with listener:
            for line in self.lines():
                if self.over.is_set():
                    return
                if self.begins(line):
                    wait = began + sent / self.rate - time.monotonic()
                    sent += 1
                    if wait > 0:
                        time.sleep(wait)
                try:
                    listener.sendall(line.encode() + b"\n")
                except OSError:
                    return


def serve(lines: Callable[[], Iterator[str]], port: int, rate: float, begins: Callable[[str], bool]) -> None:
    """Perform until it is stopped from the keyboard."""
    stage = Stage(lines, port, rate, begins)
    try:
        stage.run()
    except KeyboardInterrupt:
        stage.close()
