"""Readings that are kept: each says what of a character it reads, and is handed that alone.

So what is kept can't go stale: the key is made of what the reading can see, and a reading that looks at anything else
fails at once.  Its arrays are made read-only, since many share them.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import fields, is_dataclass
from functools import update_wrapper
from typing import Any, Concatenate, Generic, ParamSpec, TypeVar

import numpy as np

from .character import Character
from .recent import Recent

P = ParamSpec("P")
R = TypeVar("R")

ALL = ("*",)
"""Said of a reading that looks at a character as a whole."""
DERIVED: list[Derived[Any, Any]] = []
"""Every kept reading there is."""


class Derived(Generic[P, R]):
    """A reading whose last few results are kept."""

    def __init__(self, make: Callable[Concatenate[Character, P], R], reads: tuple[str, ...], most: int) -> None:
        self.make, self.reads = make, reads
        self._kept: Recent[Hashable, tuple[R]] = Recent(most)
        update_wrapper(self, make)
        DERIVED.append(self)

    def __call__(self, character: Character, *args: P.args, **kwargs: P.kwargs) -> R:
        whole = self.reads == ALL
        seal = character.key if whole else character.seal(*self.reads)

        def made() -> tuple[R]:
            result = self.make(character if whole else character.only(*self.reads), *args, **kwargs)
            freeze(result)
            return (result,)

        return self._kept.get((seal, args, tuple(sorted(kwargs.items()))), made)[0]

    def forget(self) -> None:
        """As after a cold start."""
        self._kept.clear()


def derived(
    *reads: str, most: int
) -> Callable[[Callable[Concatenate[Character, P], R]], Derived[P, R]]:  # fmt: skip
    """The last `most` results of a function of a character are kept.

    reads: the fields and arrays that it looks at; further arguments must be hashable.  The result is shared: nobody may
    change it.
    """

    def keep(make: Callable[Concatenate[Character, P], R]) -> Derived[P, R]:
        return Derived(make, reads, most)

    return keep


def freeze(value: object) -> None:
    """Make all arrays of a result read-only: the array itself, or those in tuples, lists, dicts and dataclasses."""
    if isinstance(value, np.ndarray):
        value.flags.writeable = False
    elif isinstance(value, tuple | list):
        for v in value:
            freeze(v)
    elif isinstance(value, dict):
        for v in value.values():
            freeze(v)
    elif is_dataclass(value) and not isinstance(value, type):
        for f in fields(value):
            freeze(getattr(value, f.name))
