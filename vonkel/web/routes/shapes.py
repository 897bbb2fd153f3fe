"""What the Shapes station asks for: maps over the mesh, shapes as files, boards' pictures."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, File, Form, Query, UploadFile
from fastapi.responses import Response

from ...core.formats.pictures import picture_kind
from ...core.handover.shapes import shape_mesh, shape_meshes
from ...core.shapes import moves_of, shape_named
from ...core.shapes.edits import trespass
from ...core.shapes.regions import amounts_of
from ...readings import boards as told
from ..payload import where
from .characters import IMMUTABLE, download
from .deps import TheWorkshop, uploaded

router = APIRouter(prefix="/api")
Step = Annotated[float, Query(ge=-40, le=40, allow_inf_nan=False)]


@router.get("/c/{number}/shapes/map/{kind}")
def shape_map(
    workshop: TheWorkshop, number: int, kind: Literal["moves", "trespass", "region"], of: str
) -> Response:  # fmt: skip
    """Float32 per point: how far a shape moves it, or only outside its region, against the farthest; a region's amounts."""
    c = workshop.character(number)
    if kind == "region":
        values = amounts_of(c, of)
    else:
        moves = moves_of(c, of)
        region = shape_named(c, of).region
        far = np.linalg.norm(moves, axis=1) if kind == "moves" else trespass(c, of, region)
        values = far / max(float(np.linalg.norm(moves, axis=1).max(initial=0.0)), 1e-12)
    return Response(
        values.astype(np.float32).tobytes(),
        media_type="application/octet-stream",
        headers={"cache-control": "no-store"},
    )


@router.post("/c/{number}/shape")
def shape(
    workshop: TheWorkshop, number: int, file: list[UploadFile], name: str = Form("", max_length=60), step: int = Form(0),
    rest: Annotated[UploadFile | None, File(description="the same mesh at rest, where the points stand in another order")] = None,
) -> dict[str, Any]:  # fmt: skip
    """Add morph targets from a mesh with the same points: the mesh itself, or those that it brings along."""
    file_name, data, beside = uploaded(file)
    at_rest = uploaded([rest])[:2] if rest is not None and rest.filename else None
    return {
        "position": where(workshop.add_shapes(number, file_name, data, name.strip(), step or None, beside, at_rest))
    }


@router.get("/c/{number}/shapes/one.obj")
def one_mesh(workshop: TheWorkshop, number: int, of: str) -> Response:
    """The mesh with a shape wholly on."""
    c = workshop.character(number)
    return download(shape_mesh(c, of), of, ".obj", "text/plain")


@router.get("/c/{number}/shapes/all.zip")
def all_meshes(workshop: TheWorkshop, number: int) -> Response:
    """The mesh at rest and with each shape wholly on."""
    c = workshop.character(number)
    return download(shape_meshes(c), c.name, "-shapes.zip", "application/zip")


@router.get("/c/{number}/boards/{board}/pictures/{key}")
def board_picture(workshop: TheWorkshop, number: int, board: str, key: str, v: str = "") -> Response:
    """A board's picture; `v` is its seal, so that it may be kept."""
    c = workshop.character(number)
    data = told.board_picture(c, board, key)
    found = c.board(board)
    kept = v == told.picture_seal(c, found, next(q for q in found.pictures if q.key == key))
    headers = {**(IMMUTABLE if kept else {"cache-control": "no-store"}), "x-content-type-options": "nosniff"}
    return Response(data, media_type=f"image/{picture_kind(data) or 'png'}", headers=headers)


@router.post("/c/{number}/boards/{board}/pictures/{key}")
def own_picture(
    workshop: TheWorkshop, number: int, board: str, key: str, file: list[UploadFile], step: int = Form(0)
) -> dict[str, Any]:
    """Show a picture of one's own."""
    _, data, _ = uploaded(file)
    params = {"board": board, "key": key, "picture": np.frombuffer(data, np.uint8)}
    return {"position": where(workshop.apply(number, "boards.picture", params, step or None))}


@router.get("/c/{number}/boards/{board}/passes")
def passes(workshop: TheWorkshop, number: int, board: str, x0: Step, y0: Step, x1: Step, y1: Step) -> dict[str, Any]:
    """The pictures that a bead flashes between two places."""
    return {"over": told.passed_over(workshop.character(number), board, (x0, y0), (x1, y1))}
