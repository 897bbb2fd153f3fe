"""What the Skin station asks for: maps over the mesh, what joints move that they should not, points chosen, their weights."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, File, Form, UploadFile
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from ...core.character import Character
from ...core.errors import NotFound
from ...core.formats.weights import read_weights, write_csv, write_json
from ...core.geometry import choosing
from ...core.skin.carrying import carried
from ...core.skin.deform import mix_of
from ...core.skin.edits import checked
from ...core.skin.maps import colours_of, counts_of, jumps_of
from ...core.skin.zones import zone_of
from ...core.tolerances import MAX_POINTS
from ...core.weights import table_of
from ...readings import skin as told
from ..payload import where
from .characters import download
from .deps import TheJobs, TheWorkshop, uploaded

router = APIRouter(prefix="/api")
Point = Annotated[int, Field(ge=0, lt=MAX_POINTS)]
UNSURE, MOST_UNSURE = 0.5, 5000  # of points whose weights were carried, those less sure; so many are told
MOST_ROWS = 400  # of the table of weights


def _bound(workshop: TheWorkshop, number: int) -> Character:
    c = workshop.character(number)
    if c.skin is None:
        raise NotFound("There is no skin yet.", c.name, "Bind it first.")
    return c


@router.get("/c/{number}/skin/map/{kind}")
def skin_map(workshop: TheWorkshop, number: int, kind: Literal["inks", "count", "jump", "blend"]) -> Response:
    """A map over the points: inks uint8 × 3; float32: how many hold a point, how far a weight jumps there, how much of it
    deforms by dual quaternions."""
    c = _bound(workshop, number)
    data = {"inks": colours_of, "count": counts_of, "jump": jumps_of, "blend": mix_of}[kind](c)
    return Response(data.tobytes(), media_type="application/octet-stream", headers={"cache-control": "no-store"})


@router.get("/c/{number}/skin/strays")
def strays(workshop: TheWorkshop, number: int) -> list[dict[str, Any]]:
    """What joints move that they should not, the worst first."""
    return told.strays(_bound(workshop, number))


@router.get("/c/{number}/skin/strays/worth")
def worth(workshop: TheWorkshop, number: int) -> list[dict[str, Any]]:
    """How much calmer the trials are once each of the first strays is taken off."""
    return told.worth(_bound(workshop, number))


@router.post("/c/{number}/skin/behind")
def behind(workshop: TheWorkshop, jobs: TheJobs, number: int) -> dict[str, Any]:
    """Points that stay behind in some pose, in groups; a job."""
    c = _bound(workshop, number)
    job = jobs.start("Looking for points left behind", number, lambda: told.behind(c, pictures=True))
    return {"job": job.as_dict()}


@router.post("/c/{number}/skin/binding")
def binding(workshop: TheWorkshop, jobs: TheJobs, number: int) -> dict[str, Any]:
    """What binding does with this body: cells, what finer ones cost and gain, where it eases; a job."""
    c = workshop.character(number)
    job = jobs.start("Looking how it is bound", number, lambda: told.binding(c, points=True))
    return {"job": job.as_dict()}


@router.get("/c/{number}/skin/zone/{joint}")
def zone(workshop: TheWorkshop, number: int, joint: str) -> dict[str, Any]:
    """The zone of a bone as it is held now."""
    c = _bound(workshop, number)
    c.joint(joint)
    return zone_of(c, joint).as_dict()


@router.get("/c/{number}/skin/weights.{kind}")
def weights_file(workshop: TheWorkshop, number: int, kind: Literal["json", "csv"]) -> Response:
    """All weights as a file."""
    c = _bound(workshop, number)
    data, media = (write_json(c), "application/json") if kind == "json" else (write_csv(c), "text/csv")
    return download(data, c.name, f"-weights.{kind}", media)


@router.post("/c/{number}/skin/weights")
def take_weights(
    workshop: TheWorkshop, number: int, file: Annotated[list[UploadFile], File()], step: Annotated[int, Form()] = 0
) -> dict[str, Any]:
    """Take weights from a file: one step; with the points that aren't sure, since nothing of the file lies near or faces their way."""
    name, data, _ = uploaded(file)
    c = workshop.character(number)
    source = read_weights(name, data, c)
    holders, weights = source.table.rows(8)
    params = {
        "joints": list(source.table.joints), "places": source.places, "normals": source.normals, "holders": holders,
        "weights": weights,
    }  # fmt: skip
    done = where(workshop.apply(number, "skin.carry", params, step or None))
    sure = carried(c, source)[1]
    return {
        "position": done,
        "sure": round(float(sure.mean()), 4),
        "unsure": np.flatnonzero(sure < UNSURE)[:MOST_UNSURE].tolist(),
    }


class Choice(BaseModel):
    model_config = ConfigDict(extra="forbid")
    how: Literal["island", "part", "grow", "shrink", "invert", "loop", "limb", "weight", "jump"]
    points: list[Point] = Field([], max_length=MAX_POINTS)
    joint: str = ""
    low: float = Field(0.0, ge=0, le=1, allow_inf_nan=False)
    high: float = Field(1.0, ge=0, le=1, allow_inf_nan=False)


@router.post("/c/{number}/skin/choose")
def choose(workshop: TheWorkshop, number: int, body: Choice) -> dict[str, Any]:
    """Points chosen from others: what hangs together with them, their parts, a ring more or less, by weight."""
    c = workshop.character(number)
    if body.how == "weight":
        held = table_of(c).of(body.joint)
        found = np.flatnonzero((held >= body.low) & (held <= body.high) & (held > 0))
    elif body.how == "jump":
        found = np.flatnonzero(jumps_of(_bound(workshop, number)) >= body.low)
    elif body.how == "invert":
        found = choosing.inverted(c, np.array(body.points, np.int64))
    elif body.how == "loop":
        checked(c, body.points)
        found = choosing.loop(c, np.array(body.points, np.int64))
    elif body.how == "limb":
        index = _bound(workshop, number).arrays["skin/joints"][:, 0]
        found = np.flatnonzero(np.isin(index, index[checked(c, body.points)]))
    else:
        way = {"island": choosing.island, "part": choosing.parts, "grow": choosing.grown, "shrink": choosing.shrunk}
        found = way[body.how](c, checked(c, body.points))
    return {"points": found.tolist()}


class Asked(BaseModel):
    model_config = ConfigDict(extra="forbid")
    points: list[Point] = Field(max_length=MAX_POINTS)


@router.post("/c/{number}/skin/rows")
def rows(workshop: TheWorkshop, number: int, body: Asked) -> dict[str, Any]:
    """Who holds chosen points: the joints, the strongest over all of them first, and a row of weights for each point."""
    c = _bound(workshop, number)
    points = checked(c, body.points)
    table = table_of(c)
    held = table.held[points]
    total = np.asarray(held.sum(0)).ravel()
    order = [int(j) for j in np.argsort(-total, kind="stable") if total[j] > 0]
    shown = points[:MOST_ROWS]
    dense = held[: len(shown)][:, order].toarray()
    return {
        "joints": [table.joints[j] for j in order],
        "mean": [round(float(total[j]) / len(points), 4) for j in order],
        "points": shown.tolist(),
        "rows": np.round(dense, 4).tolist(),
        "count": len(points),
    }
