"""What routes share."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Request, UploadFile

from ...core.errors import BadFile, BadParameters, TooLarge
from ...core.formats import together
from ...core.tolerances import MAX_FILE_BYTES
from ...store import Position
from ...workshop import Jobs, Workshop


def _workshop(request: Request) -> Workshop:
    workshop: Workshop = request.app.state.workshop
    return workshop


def _jobs(request: Request) -> Jobs:
    jobs: Jobs = request.app.state.jobs
    return jobs


MOST_FILES = 200
TheWorkshop = Annotated[Workshop, Depends(_workshop)]
TheJobs = Annotated[Jobs, Depends(_jobs)]


def uploaded(files: list[UploadFile]) -> tuple[str, bytes, dict[str, bytes]]:
    """Of files sent together, the one that is meant and those beside it: (name, bytes, others by name)."""
    given = [f for f in files if f.filename]
    if not given:
        raise BadFile("No file was chosen.", "", "Choose a mesh first.")
    if len(given) > MOST_FILES:
        raise TooLarge(f"That is more than {MOST_FILES} files.", "", "Bring in one mesh and what it names.")
    read = {f.filename or "": f.file.read(MAX_FILE_BYTES + 1) for f in given}
    return together(read) if len(read) > 1 else (*next(iter(read.items())), {})


def expected(given: dict[str, Any] | None) -> Position | None:
    """Where the page thinks it stands: {"step": n, "pose": n}."""
    if given is None:
        return None
    try:
        return Position(int(given["step"]), int(given["pose"]))
    except (KeyError, TypeError, ValueError):
        raise BadParameters("The place in the ledger is malformed.", "position", "Reload the page.") from None
