"""Loops that are compiled when first called, and kept beside the code from then on."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numba

F = TypeVar("F", bound=Callable[..., Any])


def compiled(loop: F) -> F:
    """A loop over arrays and numbers, compiled; it lets other threads run."""
    return cast(F, numba.njit(cache=True, nogil=True)(loop))


def compiled_loosely(loop: F) -> F:
    """As `compiled`, sums taken in any order and indices not checked: for loops whose twins in numpy are tested."""
    return cast(F, numba.njit(cache=True, nogil=True, fastmath=True, boundscheck=False)(loop))
