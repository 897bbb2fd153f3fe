"""One tree of errors.  Each says what is wrong, where, and what to do; faces map them in one place each."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pydantic import ValidationError


def spoken(text: str) -> str:
    """Text that can be sent: half characters, as a broken request may hold, are replaced."""
    return text.encode("utf-8", "replace").decode()


class VonkelError(Exception):
    """Something the user asked for can't be done.

    Parameters are sentences: `what` is wrong, `where` it is, and what `todo`.
    """

    status = 422  # the HTTP status the web face answers with
    exit_code = 2  # the code the command line ends with

    def __init__(self, what: str, where: str = "", todo: str = "") -> None:
        super().__init__(" ".join(s for s in (what, f"({where})" if where else "", todo) if s))
        self.what, self.where, self.todo = what, where, todo

    def as_dict(self) -> dict[str, str]:
        return {"what": spoken(self.what), "where": spoken(self.where), "todo": spoken(self.todo)}


class BadFile(VonkelError):
    """A file that can't be read as what it claims to be."""

    exit_code = 3


class TooLarge(BadFile):
    """A file over a stated limit."""

    status = 413


class BadParameters(VonkelError):
    """Parameters that don't fit the step."""


class StepRefused(VonkelError):
    """A step that can't be done on this character as it stands."""


class NotFound(VonkelError):
    """A character, step, joint, control … that isn't there."""

    status = 404
    exit_code = 4


class Conflict(VonkelError):
    """The character was changed elsewhere since the caller last read it."""

    status = 409


class StoreTrouble(VonkelError):
    """The store can't be read or written as things stand: disk full, not allowed, damaged, newer, in use."""

    status = 503
    exit_code = 6


class Failure(VonkelError):
    """Something that should not have happened, inside Vonkel.  Nothing was changed; the log says more."""

    status = 500
    exit_code = 70


class RigLoop(VonkelError):
    """Operations of a rig that wait for one another."""


class Stopped(VonkelError):
    """Long work that the user stopped.  Nothing was changed."""

    status = 409
    exit_code = 5


def first_fault(error: ValidationError, whole: str = "") -> tuple[str, str]:
    """The first field that a model refuses, and why; `whole` is what to call the model where it is none of its fields."""
    first = error.errors()[0]
    return ".".join(str(p) for p in first["loc"]) or whole, first["msg"]
