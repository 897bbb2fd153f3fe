"""Work on a character: steps, undo, poses, milestones, recipes, trials, jobs."""

from __future__ import annotations

from functools import cache
from typing import Any, Literal

from fastapi import APIRouter, File, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from ...core.errors import NotFound, TooLarge
from ...core.rig import compile_rig
from ...core.rig.match import switched
from ...core.tolerances import MAX_FILE_BYTES
from ...core.trials import run_trials as core_trials
from ...steps import STEPS
from ...steps.recipe import parse_recipe
from ...steps.registry import Params
from .. import payload
from .deps import TheJobs, TheWorkshop, expected

router = APIRouter(prefix="/api")


class Body(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    position: dict[str, int] | None = None


class StepBody(Body):
    step: str
    params: dict[str, Any] = {}


def _step_number(body: Body) -> int | None:
    at = expected(body.position)
    return at.step if at else None


@router.get("/steps")
def list_steps() -> list[dict[str, Any]]:
    """Every step with the JSON schema of its parameters."""
    return [{"name": k.name, "about": k.about, "long": k.long, "params": _schema(k.params)} for k in STEPS.values()]


@cache
def _schema(params: type[Params]) -> dict[str, Any]:
    """The schema of a step's parameters: made once, it takes a while."""
    return params.model_json_schema()


@router.post("/c/{number}/steps")
def do_step(workshop: TheWorkshop, jobs: TheJobs, number: int, body: StepBody) -> dict[str, Any]:
    """Do a step.  Long ones answer at once with a job."""
    at = _step_number(body)
    kind = STEPS.get(body.step)
    if kind is not None and kind.long:
        workshop.store.expect(workshop.store.position(number).step, at)
        job = jobs.start(kind.about, number, lambda: payload.where(workshop.apply(number, body.step, body.params, at)))
        return {"job": job.as_dict()}
    return {"position": payload.where(workshop.apply(number, body.step, body.params, at))}


class EditBody(Body):
    params: dict[str, Any]


@router.post("/c/{number}/steps/{step}/edit")
def edit_step(workshop: TheWorkshop, jobs: TheJobs, number: int, step: int, body: EditBody) -> dict[str, Any]:
    """Do an earlier step with other parameters, and again all that followed."""
    at = _step_number(body)
    job = jobs.start(
        "Replaying the ledger", number, lambda: payload.where(workshop.edit_step(number, step, body.params, at))
    )
    return {"job": job.as_dict()}


@router.post("/c/{number}/undo")
def undo(workshop: TheWorkshop, number: int, body: Body) -> dict[str, Any]:
    """Take back the newest pose, or the newest step."""
    return {"position": payload.where(workshop.store.back(number, expected(body.position)))}


@router.post("/c/{number}/redo")
def redo(workshop: TheWorkshop, number: int, body: Body) -> dict[str, Any]:
    """Do again what was taken back."""
    return {"position": payload.where(workshop.store.forth(number, expected(body.position)))}


class GoBody(Body):
    step: int


@router.post("/c/{number}/go")
def go(workshop: TheWorkshop, number: int, body: GoBody) -> dict[str, Any]:
    """Stand on another step of the ledger."""
    return {"position": payload.where(workshop.store.go(number, _step_number(body), body.step))}


@router.get("/c/{number}/ledger")
def ledger(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """Every step as a sentence, and the milestones."""
    rows = workshop.store.ledger(number)
    marks = workshop.store.milestones(number)
    return {
        "rows": [r.__dict__ | {"changed": r.id in workshop.changed_steps} for r in rows],
        "milestones": [m.__dict__ for m in marks],
        "store_bytes": workshop.store.bytes_used(),
    }


class MilestoneBody(BaseModel):
    name: str = Field(min_length=1, max_length=80)


@router.post("/c/{number}/milestones")
def milestone(workshop: TheWorkshop, number: int, body: MilestoneBody) -> dict[str, Any]:
    """Name a step."""
    return workshop.store.add_milestone(number, body.name).__dict__


class PoseBody(Body):
    values: dict[str, dict[str, float]]
    label: str = Field("Posed", max_length=120)


@router.post("/c/{number}/pose")
def pose(workshop: TheWorkshop, number: int, body: PoseBody) -> dict[str, Any]:
    """One entry of the pose history."""
    return {"position": payload.where(workshop.set_pose(number, body.values, body.label, expected(body.position)))}


class SwitchBody(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    kit: str
    to: Literal["ik", "fk"]
    values: dict[str, dict[str, float]] = {}


@router.post("/c/{number}/switch")
def switch(workshop: TheWorkshop, number: int, body: SwitchBody) -> dict[str, Any]:
    """Values at which a limb stands as it does, led by IK or FK from now on; nothing is stored."""
    c = workshop.character(number)
    return {"values": switched(c, compile_rig(c), body.values, body.kit, body.to)}


@router.post("/c/{number}/recipe")
def run_recipe(workshop: TheWorkshop, jobs: TheJobs, number: int, file: UploadFile = File()) -> dict[str, Any]:
    """Run a recipe on the character, as a job."""
    data = file.file.read(MAX_FILE_BYTES + 1)
    if len(data) > MAX_FILE_BYTES:
        raise TooLarge("The recipe is too large.", file.filename or "")
    made = parse_recipe(data, file.filename or "recipe")
    job = jobs.start(f"Running {made.name}", number, lambda: payload.where(workshop.run_recipe(number, made)))
    return {"job": job.as_dict()}


@router.get("/c/{number}/trials")
def trials(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """The cards of the newest trials, and whether they are of the present state."""
    cards, fresh = workshop.trials(number)
    return {"cards": cards, "fresh": fresh}


@router.get("/c/{number}/trials/{name}")
def one_trial(workshop: TheWorkshop, number: int, name: str) -> dict[str, Any]:
    """One pose tried on the present state, without a picture: how a card changes while one mends the skin."""
    found = core_trials(workshop.character(number), pictures=False, only=name)
    if not found:
        raise NotFound(f"There is no trial “{name}”.", name, "Run the trials, or choose one that is there.")
    return found[0].as_dict()


@router.post("/c/{number}/trials")
def run_trials(workshop: TheWorkshop, jobs: TheJobs, number: int, sweeps: bool = False) -> dict[str, Any]:
    """Run the trials, as a job; with `sweeps` every joint goes through its freedom, too."""
    job = jobs.start("Running the trials", number, lambda: len(workshop.run_trials(number, sweeps)))
    return {"job": job.as_dict()}


class CompareBody(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    a: int = Field(ge=1)
    b: int = Field(ge=1)
    bind: dict[str, Any] | None = Field(None, description="the second state bound so, by the parameters of skin.bind")


@router.post("/c/{number}/trials-compared")
def compare_trials(workshop: TheWorkshop, jobs: TheJobs, number: int, body: CompareBody) -> dict[str, Any]:
    """Two states card by card, as a job; what differs is its result."""
    for step in (body.a, body.b):
        workshop.character(number, step)
    job = jobs.start("Trying both states", number, lambda: workshop.compare_trials(number, body.a, body.b, body.bind))
    return {"job": job.as_dict()}


@router.get("/jobs/{number}")
def job_state(jobs: TheJobs, number: int) -> dict[str, Any]:
    """How far a job is."""
    return jobs.get(number).as_dict()


@router.post("/jobs/{number}/stop")
def stop_job(jobs: TheJobs, number: int) -> dict[str, Any]:
    """Stop a job; nothing is kept of it."""
    return jobs.stop(number).as_dict()
