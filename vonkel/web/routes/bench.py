"""Readings that the bench asks for while one works: what lies under the hand, landmarks, pivots, comparisons, plans."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, UploadFile
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from ...core.errors import NotFound, TooLarge
from ...core.geometry.parts import point_colours
from ...core.geometry.topology import topology_of
from ...core.joints.draw import landing as land
from ...core.joints.freedom import gimbal_margins
from ...core.plans import PLANS, check_plan, find_landmarks, propose
from ...core.tolerances import MAX_FILE_BYTES
from ...core.trials.picture import picture, png, with_bones
from ...core.trials.pivot import try_pivot
from ...readings import pick
from ...readings.compare import compare
from .. import payload
from .characters import download
from .deps import TheJobs, TheWorkshop

router = APIRouter(prefix="/api")
Coordinate = Annotated[float, Field(allow_inf_nan=False, gt=-1e6, lt=1e6)]
Place = tuple[Coordinate, Coordinate, Coordinate]


class _Body(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Landing(_Body):
    origin: Place
    way: Place
    snap: Literal["middle", "loop", "part", "point"] = "middle"
    tolerance: float = Field(0.0, ge=0, lt=100)
    after: Place | None = None


@router.post("/c/{number}/landing")
def landing(workshop: TheWorkshop, number: int, body: Landing) -> dict[str, Any]:
    """Where a joint goes for a click."""
    way = np.array(body.way)
    if np.linalg.norm(way) < 1e-9:
        way = np.array([0.0, 0.0, -1.0])
    after = np.array(body.after) if body.after else None
    found = land(workshop.character(number), np.array(body.origin), way, body.snap, body.tolerance, after)
    return {"place": [float(v) for v in found.place], "on": found.on, "name": found.name}


class Under(_Body):
    what: Literal["edge", "face", "border", "path", "height", "between", "around"]
    triangle: int = 0
    place: Place = (0.0, 0.0, 0.0)
    points: list[int] = Field([], max_length=100)
    axis: Literal["", "x", "y", "z"] = ""


@router.post("/c/{number}/under")
def under(workshop: TheWorkshop, number: int, body: Under) -> dict[str, Any]:
    """What lies under the hand on the mesh, or a measure between picked points."""
    c = workshop.character(number)
    if body.what == "edge":
        return pick.edge_under(c, body.triangle, body.place)
    if body.what == "face":
        return pick.face_under(c, body.triangle)
    if body.what == "border":
        return pick.border_at(c, _point(c, body.points))
    if body.what == "path":
        return pick.path_between(c, body.points)
    kind = "place" if body.what == "height" else body.what
    return pick.measured(c, kind, tuple(body.points), body.axis)


def _point(c: Any, points: list[int]) -> int:
    if not points or not 0 <= points[0] < len(c.points):
        raise NotFound("There is no such point.", c.name, "Click the mesh again.")
    return points[0]


class PlanBody(_Body):
    plan: str
    options: dict[str, Any] = {}


class LandmarksBody(PlanBody):
    given: dict[str, Place] = Field({}, max_length=400, description="landmarks put right by hand: name → metres")


@router.get("/plans")
def plans(workshop: TheWorkshop) -> dict[str, Any]:
    """Built-in plans with their options, and plans of one's own."""
    built_in = [
        {"name": n, "about": about, "options": model.model_json_schema()["properties"]}
        for n, (about, model, _) in PLANS.items()
    ]
    return {"plans": built_in, "own": [{"id": p.id, "name": p.name} for p in workshop.store.plans()]}


@router.post("/c/{number}/landmarks")
def landmarks(workshop: TheWorkshop, jobs: TheJobs, number: int, body: LandmarksBody) -> dict[str, Any]:
    """Find a plan's landmarks by the shape, those put right by hand given; a job."""
    check_plan(body.plan)
    c = workshop.character(number)

    def work() -> dict[str, Any]:
        found = find_landmarks(c, body.plan, body.options, body.given)
        marks = {
            n: {"label": m.label, "place": [float(v) for v in m.place], "sure": m.sure, "spread": round(m.spread, 4)}
            for n, m in found.marks.items()
        }
        seen = [{"label": word, "place": [float(v) for v in place]} for word, place in found.seen]
        return {
            "marks": marks, "words": list(found.words), "seen": seen, "turn": round(found.turn, 2), "plane": found.plane,
        }  # fmt: skip

    return {"job": jobs.start("Looking for landmarks", number, work).as_dict()}


@router.post("/c/{number}/proposal")
def proposal(workshop: TheWorkshop, jobs: TheJobs, number: int) -> dict[str, Any]:
    """Which plan the body asks for, and why; a job."""
    c = workshop.character(number)
    return {"job": jobs.start("Looking at the body", number, lambda: propose(c).as_dict()).as_dict()}


class PivotBody(_Body):
    joint: str


@router.post("/c/{number}/pivot")
def pivot(workshop: TheWorkshop, jobs: TheJobs, number: int, body: PivotBody) -> dict[str, Any]:
    """Try a limb's first joint at several places; a job."""
    c = workshop.character(number)
    c.joint(body.joint)
    return {
        "job": jobs.start("Trying pivots", number, lambda: [t.as_dict() for t in try_pivot(c, body.joint)]).as_dict()
    }


@router.get("/c/{number}/gimbal/{joint}")
def gimbal(workshop: TheWorkshop, number: int, joint: str) -> dict[str, float]:
    """Degrees from gimbal lock over the joint's range, for each rotation order."""
    margins = gimbal_margins(workshop.character(number).joint(joint))
    return {o: round(float(np.degrees(v)), 1) for o, v in margins.items()}


# -- plans of one's own ------------------------------------------------------------------------------------------
class SaveBody(_Body):
    name: str = Field(min_length=1, max_length=80)
    with_kits: bool = True


@router.post("/c/{number}/plan")
def save_plan(workshop: TheWorkshop, number: int, body: SaveBody) -> dict[str, Any]:
    """Keep the skeleton as a plan of one's own."""
    return {"plan": workshop.save_plan(number, body.name, body.with_kits)}


@router.get("/plans/{plan}.json")
def plan_file(workshop: TheWorkshop, plan: int) -> Response:
    """A plan of one's own as a file."""
    made = workshop.plan(plan)
    return download(made.model_dump_json(indent=1).encode(), made.name, "-plan.json", "application/json")


@router.post("/plans")
def take_plan(workshop: TheWorkshop, file: UploadFile) -> dict[str, Any]:
    """Take a plan from its file."""
    data = file.file.read(MAX_FILE_BYTES + 1)
    if len(data) > MAX_FILE_BYTES:
        raise TooLarge("The plan is too large.", file.filename or "")
    return {"plan": workshop.take_plan(data, file.filename or "plan")}


@router.delete("/plans/{plan}")
def delete_plan(workshop: TheWorkshop, plan: int) -> dict[str, Any]:
    """Forget a plan of one's own."""
    workshop.store.delete_plan(plan)
    return {"deleted": plan}


@router.post("/c/{number}/plans/{plan}")
def lay_own(workshop: TheWorkshop, jobs: TheJobs, number: int, plan: int, step: int = 0) -> dict[str, Any]:
    """Lay a plan of one's own into the mesh; a job that makes one step."""
    made = workshop.plan(plan)
    work = lambda: payload.where(workshop.apply(number, "joints.lay_own", {"plan": made.model_dump()}, step or None))  # noqa: E731
    return {"job": jobs.start(f"Laying {made.name}", number, work).as_dict()}


# -- two states --------------------------------------------------------------------------------------------------
@router.get("/c/{number}/compare")
def comparison(workshop: TheWorkshop, number: int, a: int, b: int) -> dict[str, Any]:
    """What differs between two steps."""
    rows = {r.id: r for r in workshop.store.ledger(number)}
    marks = {m.step: m.name for m in workshop.store.milestones(number)}
    titles = [
        marks.get(s) or (f"step {rows[s].number}: {rows[s].sentence}" if s in rows else f"state {s}") for s in (a, b)
    ]
    return compare(workshop.character(number, a), workshop.character(number, b)) | {"titles": titles}


@router.get("/c/{number}/states/{step}.png")
def state_picture(workshop: TheWorkshop, number: int, step: int, turn: float = 0.5, bones: bool = True) -> Response:
    """A state of the character, pictured."""
    c = workshop.character(number, step)
    turn = float(np.clip(turn, -7, 7)) if np.isfinite(turn) else 0.5
    low, high = c.points.min(0), c.points.max(0)
    half = 0.56 * float(np.linalg.norm((high - low)[[0, 2]]).clip(min=(high - low)[1]))
    box = (0.5 * (low + high), half)
    image = picture(c.points, topology_of(c).triangles, point_colours(c).astype(float), (420, 420), turn, 0.12, box)
    if bones:
        image = with_bones(image, c, turn, 0.12, box)
    return Response(png(image), media_type="image/png", headers={"cache-control": "no-store"})
