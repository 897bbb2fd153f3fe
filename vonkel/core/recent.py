"""What was worked out lately, kept under a key."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from typing import Generic, TypeVar

Key = TypeVar("Key")
Value = TypeVar("Value")


class Recent(Generic[Key, Value]):
    """The last few results; the one that was asked for longest ago goes first.  For any number of threads."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._kept: OrderedDict[Key, Value] = OrderedDict()

    def get(self, key: Key, make: Callable[[], Value]) -> Value:
        """What is kept under `key`, or else what `make` gives (never None), kept from now on."""
        made = self._kept.get(key)
        if made is None:
            made = make()
        # Two threads may make the same thing, or one let go of what the other is looking at: either will do.
        self._kept[key] = made
        try:
            self._kept.move_to_end(key)
            while len(self._kept) > self.most:
                self._kept.popitem(last=False)
        except KeyError:
            pass
        return made
