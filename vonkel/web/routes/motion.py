"""What the Motion station asks for: motions of other skeletons looked at, matched and played."""

from __future__ import annotations

import json
from pathlib import PurePath
from typing import Annotated, Any

from fastapi import APIRouter, Form, UploadFile
from fastapi.responses import Response
from pydantic import TypeAdapter, ValidationError

from ...core.errors import BadParameters
from ...core.formats import read_motion
from ...readings.capture import told_capture
from ...steps.motion import bringing
from ..payload import where
from .characters import download
from .deps import TheJobs, TheWorkshop, uploaded

router = APIRouter(prefix="/api")
MATCHES = TypeAdapter(dict[str, str])


@router.get("/c/{number}/poses.json")
def poses(workshop: TheWorkshop, number: int) -> Response:
    """The saved poses as a file for other characters with the same kits."""
    c = workshop.character(number)
    told = {"poses": {q.name: q.values for q in c.poses}}
    return download(json.dumps(told, indent=1).encode(), c.name, "-poses.json", "application/json")


@router.post("/c/{number}/capture/look")
def look(workshop: TheWorkshop, number: int, file: list[UploadFile]) -> dict[str, Any]:
    """A file's skeleton, and which of its joints is which of ours, each with how sure that is."""
    return told_capture(workshop.character(number), read_motion(*uploaded(file)))


@router.post("/c/{number}/capture/bring")
def bring(
    workshop: TheWorkshop, jobs: TheJobs, number: int, file: list[UploadFile], matches: Annotated[str, Form()] = "{}",
    plant: Annotated[bool, Form()] = True, travel: Annotated[bool, Form()] = True, step: Annotated[int, Form()] = 0,
) -> dict[str, Any]:  # fmt: skip
    """Play a file's motion on the rig, its joints matched as said."""
    try:
        said = MATCHES.validate_python(json.loads(matches))
    except (ValueError, ValidationError):
        raise BadParameters("The matches can't be read.", "matches", "Reload the page.") from None
    name, data, beside = uploaded(file)
    title = PurePath(name).stem[:60] or "motion"
    params = bringing(title, read_motion(name, data, beside), said, plant, travel)
    at = step or None
    workshop.store.expect(workshop.store.position(number).step, at)
    job = jobs.start("Playing it on the rig", number, lambda: where(workshop.apply(number, "motion.bring", params, at)))
    return {"job": job.as_dict()}
