"""How long work says how far it is, and finds out that it was stopped, without knowing who listens."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Listener = Callable[[float, str], None]
_listener: ContextVar[Listener | None] = ContextVar("progress_listener", default=None)


def tell(share: float, doing: str) -> None:
    """Say that `share` (0–1) of the present work is done and what comes now.

    A listener may raise `errors.Stopped` here; work is only ever stopped at these places.
    """
    listener = _listener.get()
    if listener is not None:
        listener(share, doing)


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Send what the work inside tells to `listener`."""
    token = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(token)
