"""A loop over rows, on two threads."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

HALVES_FROM = 12_000  # rows from which a second thread is worth its start
_second = ThreadPoolExecutor(1, thread_name_prefix="half") if (os.cpu_count() or 1) > 1 else None


def in_halves(kernel: Callable[..., None], *arrays: np.ndarray, out: np.ndarray, least: int = HALVES_FROM) -> None:
    """Run kernel(*arrays, out), a loop over their rows that lets go of the interpreter's lock, each half on its own thread."""
    if _second is None or len(out) < least:
        kernel(*arrays, out)
        return
    h = len(out) // 2
    other = _second.submit(kernel, *(a[h:] for a in arrays), out[h:])
    kernel(*(a[:h] for a in arrays), out[:h])
    other.result()
