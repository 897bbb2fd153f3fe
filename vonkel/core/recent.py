"""What was worked out lately, kept under a key."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import RLock
from typing import Generic, TypeVar

Key = TypeVar("Key")
Value = TypeVar("Value")


class Recent(Generic[Key, Value]):
    """The last few results; the one that was asked for longest ago goes first.  For any number of threads.

    Threads that ask for the same thing at once wait for the one that is making it.
    """

    def __init__(self, most: int) -> None:
        self.most = most
        self._kept: OrderedDict[Key, Value] = OrderedDict()
        self._making: dict[Key, RLock] = {}

    def clear(self) -> None:
        """Forget all of it."""
        self._kept.clear()

    def peek(self, key: Key) -> Value | None:
        """What is kept under `key`, or None; it counts as no asking."""
        return self._kept.get(key)

    def put(self, key: Key, value: Value) -> None:
        """Keep something under `key`, in place of what was there."""
        self._kept[key] = value
        try:
            self._kept.move_to_end(key)
            while len(self._kept) > self.most:
                self._kept.popitem(last=False)
        except KeyError:
            pass  # another thread let go of it

    def get(self, key: Key, make: Callable[[], Value]) -> Value:
        """What is kept under `key`, or else what `make` gives (never None), kept from now on."""
        made = self._kept.get(key)
        if made is None:
            try:
                with self._making.setdefault(key, RLock()):
                    made = self._kept.get(key)
                    if made is None:
                        made = make()
                        self._kept[key] = made
            finally:
                self._making.pop(key, None)
        self.put(key, made)  # one thread may let go of what another is looking at: either will do
        return made
