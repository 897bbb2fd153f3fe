"""The guard inside which every file is read: it counts, keeps time, and says everything that goes wrong in our own words."""

from __future__ import annotations

import io
import logging
import math
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field

import numpy as np

from ..errors import BadFile, TooLarge, VonkelError
from ..tolerances import MAX_CORNERS, MAX_FACES, MAX_PARTS, MAX_POINTS, MAX_READ_BYTES, MAX_READ_SECONDS

log = logging.getLogger("vonkel.reading")
LIMITS = {"points": MAX_POINTS, "faces": MAX_FACES, "corners": MAX_CORNERS, "parts": MAX_PARTS, "nodes": 100_000}


@dataclass
class Budget:
    """What reading one file may still use: seconds, bytes of memory, and a number of each kind of thing."""

    where: str
    ends: float
    bytes_left: int = MAX_READ_BYTES
    counts: dict[str, int] = field(default_factory=dict)


_budget: ContextVar[Budget | None] = ContextVar("reading_budget", default=None)


@contextmanager
def reading(where: str, what: str = "file", seconds: float = MAX_READ_SECONDS) -> Iterator[None]:
    """Read a file inside: whatever goes wrong becomes BadFile or TooLarge, naming `where`.

    Readers call `count`, `claim` and `on_time` as they go, so that a file that would take too long or too much is refused
    before it does.  A guard within a guard shares the outer one's budget.
    """
    if _budget.get() is not None:
        yield
        return
    token = _budget.set(Budget(where, time.monotonic() + seconds))
    try:
        with np.errstate(all="ignore"):
            yield
    except VonkelError:
        raise
    except MemoryError:
        raise TooLarge(f"There is no room in memory for this {what}.", where, "Bring in a lighter one.") from None
    except RecursionError:
        raise BadFile(f"The {what} is nested too deeply.", where, "Export it again.") from None
    except Exception as error:
        log.info("reading %s", where, exc_info=True)
        raise BadFile(f"The {what} is out of order: {plainly(error)}.", where, "Export it again.") from None
    finally:
        _budget.reset(token)


def plainly(error: Exception) -> str:
    """What an error of Python's says, short and without its quotes; what says nothing to a reader is left to the log."""
    text = " ".join(str(error).split()).strip(" .'\"")[:120]
    return (
        text
        if isinstance(error, (ValueError, KeyError)) and text.isprintable() and text
        else "it can't be read through"
    )


def count(kind: str, number: int) -> None:
    """`number` more of a kind were read.  Raises TooLarge past the limit, and where time is up."""
    budget = _budget.get()
    if budget is None:
        return
    now = budget.counts[kind] = budget.counts.get(kind, 0) + number
    if now > LIMITS[kind]:
        raise TooLarge(
            f"It has more than {LIMITS[kind]:,} {kind}, the most that Vonkel takes.", budget.where, "Lighten it first."
        )
    on_time()


def on_time() -> None:
    """Raises TooLarge where reading has taken too long."""
    budget = _budget.get()
    if budget is not None and time.monotonic() > budget.ends:
        raise TooLarge("Reading it takes too long.", budget.where, "Bring in a lighter file.")


def claim(size: int, what: str = "It") -> None:
    """`size` bytes of memory are about to be taken.  Raises TooLarge where that is more than a file may need."""
    budget = _budget.get()
    if budget is None:
        return
    budget.bytes_left -= size
    if size < 0 or budget.bytes_left < 0:
        raise TooLarge(f"{what} claims more memory than Vonkel gives a file.", budget.where, "Bring in a lighter one.")


def npy(array: np.ndarray) -> bytes:
    """An array as the bytes of a .npy file."""
    body = io.BytesIO()
    np.save(body, array, allow_pickle=False)
    return body.getvalue()


def array_from_npy(data: bytes) -> np.ndarray | None:
    """An array from .npy bytes, read-only; None where they are none.  What it claims is compared with what is there."""
    body = io.BytesIO(data)
    try:
        version = np.lib.format.read_magic(body)
        read = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}[version]
        shape, _, dtype = read(body)
        size = math.prod(shape) * dtype.itemsize
        if dtype.hasobject or dtype.kind not in "biuf" or any(n < 0 for n in shape) or size != len(data) - body.tell():
            return None
        body.seek(0)
        array: np.ndarray = np.load(body, allow_pickle=False)
    except Exception:  # a broken header may raise anything: it is Python text that is parsed
        return None
    array.flags.writeable = False
    return array


def each_once(names: list[str]) -> list[str]:
    """Names with a number behind those that were there before."""
    out, seen = list[str](), set[str]()
    for name in names:
        k, new = 2, name
        while new in seen:
            new, k = f"{name} {k}", k + 1
        out.append(new)
        seen.add(new)
    return out
