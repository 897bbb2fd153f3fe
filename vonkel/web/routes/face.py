"""What the Face station asks for: where the head is, what a mark decides, and the face made from its marks as a job."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from ...readings.face import box_of_head, decided
from ...steps.face import MAKING
from ...steps.recipe import Recipe, RecipeStep
from .. import payload
from .deps import TheJobs, TheWorkshop

router = APIRouter(prefix="/api")


@router.get("/c/{number}/face/box")
def box(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """The box about the head, which the drawings show large."""
    return {"box": box_of_head(workshop.character(number))}


@router.get("/c/{number}/face/map")
def decides(workshop: TheWorkshop, number: int, mark: str) -> Response:
    """Float32 per point: how far it hangs on what a mark decides."""
    values = decided(workshop.character(number), mark)
    return Response(
        values.astype(np.float32).tobytes(),
        media_type="application/octet-stream",
        headers={"cache-control": "no-store"},
    )


class Join(BaseModel):
    model_config = ConfigDict(extra="forbid")
    other: int = Field(ge=1)
    onto: str = Field(min_length=1, max_length=100)
    below: str = Field("", max_length=100)
    step: int | None = None


@router.post("/c/{number}/face/join")
def join(workshop: TheWorkshop, number: int, body: Join) -> dict[str, Any]:
    """Hang another character, a head rigged alone, on a joint of this one."""
    return {
        "position": payload.where(workshop.join_head(number, body.other, body.onto, body.below, expected=body.step))
    }


@router.post("/c/{number}/face/make")
def make(workshop: TheWorkshop, jobs: TheJobs, number: int) -> dict[str, Any]:
    """Make joints, weights, shapes and controls from the marks, all or none; a skin first where there is none."""
    steps = [RecipeStep(step=s, params={}) for s in MAKING]
    if workshop.character(number).skin is None:
        steps.insert(1, RecipeStep(step="skin.bind", params={}))
    recipe = Recipe(name="a face from its marks", steps=steps)
    job = jobs.start("Making the face", number, lambda: payload.where(workshop.run_recipe(number, recipe)))
    return {"job": job.as_dict()}
