"""What the Motion station asks for: motions of other skeletons looked at, matched and played."""

from __future__ import annotations

import json
from pathlib import PurePath
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, UploadFile
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from ...core.errors import BadParameters
from ...core.formats import read_motion
from ...core.motion.speech import timed, typed
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


class SpeechBody(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    text: str = Field(max_length=20_000)
    each: float = Field(0.1, gt=0, le=10)
    start: float = Field(0.0, ge=0, le=36_000)


@router.post("/speech/typed")
def speech_typed(body: SpeechBody) -> list[dict[str, Any]]:
    """Typed sounds in time, each with the number of its viseme."""
    return [s.__dict__ for s in typed(body.text, body.start, body.each)]


@router.post("/speech/timed")
def speech_timed(file: UploadFile) -> list[dict[str, Any]]:
    """The sounds of a timed file, each with the number of its viseme."""
    name, data, _ = uploaded([file])
    return [s.__dict__ for s in timed(name, data)]


class ListenBody(BaseModel):
    model_config = ConfigDict(extra="forbid")
    kind: Literal["suit", "face"]
    port: int = Field(ge=1, le=65_535)


@router.post("/c/{number}/listen")
def listen(workshop: TheWorkshop, number: int, body: ListenBody) -> dict[str, Any]:
    """Listen to a device that streams on this machine: a suit in BVH, a face in JSON lines of action units."""
    listener = workshop.listen(number, body.kind, body.port)
    return {"kind": listener.kind, "rate": round(listener.rate, 2), "frames": len(listener.rows)}


@router.post("/c/{number}/listen/stop")
def stop_listening(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """Listen no longer; what was heard can still be kept."""
    listener = workshop.deafen(number)
    return {"frames": len(listener.rows) if listener else 0}


class KeepBody(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=60)
    step: int = Field(0, ge=0)


@router.post("/c/{number}/listen/keep")
def keep_heard(workshop: TheWorkshop, jobs: TheJobs, number: int, body: KeepBody) -> dict[str, Any]:
    """What was heard becomes a motion of the rig, as a job."""
    at = body.step or None
    workshop.store.expect(workshop.store.position(number).step, at)
    job = jobs.start("Keeping what was heard", number, lambda: where(workshop.keep_heard(number, body.name, at)))
    return {"job": job.as_dict()}
