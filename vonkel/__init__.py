"""Vonkel: a workbench for character riggers.  For scripts: `vonkel.open`, `apply`, `read`, `deform`, `export` (door.py)."""

import os
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .door import apply, deform, export, list_readings, list_steps, open, pose, read, run

# One thread per linear-algebra call: with the compiled loops beside them, more threads fight over few cores.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.3.0"
__all__ = ["apply", "deform", "export", "list_readings", "list_steps", "open", "pose", "read", "run"]


def __getattr__(name: str) -> Any:
    """The door opens when somebody knocks: the command line and the server start without it."""
    if name in __all__:
        from . import door

        return getattr(door, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
