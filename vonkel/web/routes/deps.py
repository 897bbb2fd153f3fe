"""What routes share."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request

from ...core.errors import BadParameters
from ...store import Position
from ...workshop import Jobs, Workshop


def _workshop(request: Request) -> Workshop:
    return request.app.state.workshop


def _jobs(request: Request) -> Jobs:
    return request.app.state.jobs


TheWorkshop = Annotated[Workshop, Depends(_workshop)]
TheJobs = Annotated[Jobs, Depends(_jobs)]


def expected(given: dict | None) -> Position | None:
    """Where the page thinks it stands: {"step": n, "pose": n}."""
    if given is None:
        return None
    try:
        return Position(int(given["step"]), int(given["pose"]))
    except (KeyError, TypeError, ValueError):
        raise BadParameters("The place in the ledger is malformed.", "position", "Reload the page.") from None
