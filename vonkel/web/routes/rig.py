"""What the Limbs station asks for: kits and what they want, the order of solving, mirrored poses, spaces."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from ...core.character import Inputs, Lead
from ...core.rig import compile_rig
from ...core.rig.kits import KINDS
from ...core.rig.match import in_space
from ...core.rig.mirror import copied_to_other_side, mirrored_pose, opposite_control
from ...core.rig.outlines import SHAPES
from ...core.rig.recording import lead_value
from ...core.rig.suggest import suggested
from ...readings.order import order_of
from .deps import TheWorkshop

router = APIRouter(prefix="/api")


class _Body(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


@router.get("/kits")
def kits() -> dict[str, Any]:
    """Every kind of kit with its roles and options, and the shapes that controls may have."""
    return {
        "kits": [
            {
                "kind": k.kind, "about": k.about, "options": k.options.model_json_schema().get("properties", {}),
                "roles": [{"role": r, "least": a, "most": b, "about": t} for r, (a, b, t) in k.roles.items()],
            }
            for k in KINDS.values()
        ],
        "shapes": {n: about for n, (about, _) in SHAPES.items()},
    }  # fmt: skip


class Suggest(_Body):
    kind: str
    joint: str


@router.post("/c/{number}/suggest")
def suggest(workshop: TheWorkshop, number: int, body: Suggest) -> dict[str, Any]:
    """The joints that a kit on the chosen one would take."""
    return {"joints": suggested(workshop.character(number), body.kind, body.joint)}


@router.get("/c/{number}/order")
def order(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """The rig as a list, top to bottom, with what each line costs."""
    return {"operations": order_of(workshop.character(number))}


class Mirror(_Body):
    values: Inputs = Field(max_length=5000)
    how: Literal["swap", "L", "R"] = "swap"


@router.post("/c/{number}/mirror_pose")
def mirror_pose(workshop: TheWorkshop, number: int, body: Mirror) -> dict[str, Any]:
    """The pose with left and right exchanged, or one side's also on the other; nothing is stored."""
    c = workshop.character(number)
    if body.how == "swap":
        return {"values": mirrored_pose(c, body.values)}
    return {"values": copied_to_other_side(c, body.values, body.how)}


@router.get("/c/{number}/opposite/{control:path}")
def opposite(workshop: TheWorkshop, number: int, control: str) -> dict[str, str]:
    """The same control on the other side."""
    return {"control": opposite_control(workshop.character(number), control)}


class LeadBody(_Body):
    lead: Lead
    values: Inputs = Field({}, max_length=5000)


@router.post("/c/{number}/lead")
def lead(workshop: TheWorkshop, number: int, body: LeadBody) -> dict[str, float]:
    """What a lead reads in the pose at hand."""
    return {"value": lead_value(workshop.character(number), body.lead, body.values)}


class SpaceBody(_Body):
    rule: str
    to: str = ""
    values: Inputs = Field({}, max_length=5000)


@router.post("/c/{number}/space")
def space(workshop: TheWorkshop, number: int, body: SpaceBody) -> dict[str, Any]:
    """Values at which a control stands as it does, in another space from now on; nothing is stored."""
    c = workshop.character(number)
    return {"values": in_space(c, compile_rig(c), body.values, body.rule, body.to)}
