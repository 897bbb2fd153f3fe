"""Characters: bringing in, reading, exporting."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import APIRouter, Form, UploadFile
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, Field

from ...core.formats import FORMATS
from ...core.geometry.parts import point_colours
from ...core.geometry.topology import topology_of
from ...core.skin.bind import weights_of
from ...core.trials.picture import picture, png
from ...demo import add_member
from ...readings import report as write_report
from ...steps.recipe import dump_recipe
from .. import payload, slices
from .deps import TheWorkshop, uploaded

router = APIRouter(prefix="/api")
IMMUTABLE = {"cache-control": "private, max-age=31536000, immutable"}


@router.post("/characters")
def bring_in(workshop: TheWorkshop, file: list[UploadFile], name: str = Form("", max_length=80)) -> dict[str, Any]:
    """A mesh, a whole character, or a mesh with the files that it names."""
    file_name, data, beside = uploaded(file)
    return {"number": workshop.bring_in(file_name, data, name.strip(), beside)}


@router.get("/characters")
def characters(workshop: TheWorkshop) -> dict[str, Any]:
    """All characters there are, by number and name."""
    return {"characters": [{"number": s.id, "name": s.name} for s in workshop.store.characters() if not s.archived]}


@router.post("/demo")
def demo(workshop: TheWorkshop, who: str = "otter.obj") -> dict[str, Any]:
    """Put one of the cast among the characters."""
    return {"number": add_member(workshop, who)}


@router.delete("/c/{number}")
def delete(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """Delete a character with its whole ledger."""
    workshop.store.delete(number)
    return {"deleted": number}


@router.get("/c/{number}")
def read(workshop: TheWorkshop, number: int) -> JSONResponse:
    """All of a character but its mesh."""
    return JSONResponse(slices.state(workshop, number))


class Have(BaseModel):
    """The slices that a page has, by their hashes."""

    have: dict[Annotated[str, Field(max_length=20)], Annotated[str, Field(max_length=32)]] = Field({}, max_length=40)
    later: bool = Field(False, description="leave what looks through the whole mesh for another time")


@router.post("/c/{number}/changes")
def changes(workshop: TheWorkshop, number: int, body: Have) -> JSONResponse:
    """What of the state a page doesn't have yet."""
    return JSONResponse(slices.changes(workshop, number, body.have, body.later))


@router.get("/c/{number}/mesh/{key}")
def mesh(workshop: TheWorkshop, number: int, key: str) -> Response:
    """The mesh as bytes (`web/payload.py` says how); its key stands in the state."""
    c = workshop.character(number)
    headers = IMMUTABLE if key == payload.mesh_key(c) else {"cache-control": "no-store"}
    return Response(payload.mesh_bytes(c), media_type="application/octet-stream", headers=headers)


@router.get("/c/{number}/weights/{joint}")
def weights(workshop: TheWorkshop, number: int, joint: str) -> Response:
    """One float32 per point."""
    c = workshop.character(number)
    c.joint(joint)
    return Response(
        weights_of(c, joint).tobytes(), media_type="application/octet-stream", headers={"cache-control": "no-store"}
    )


@router.get("/c/{number}/point/{index}")
def point(workshop: TheWorkshop, number: int, index: int) -> dict[str, Any]:
    """Who holds one point."""
    c = workshop.character(number)
    if c.skin is None or not 0 <= index < len(c.points):
        return {"point": index, "weights": []}
    pairs = zip(c.arrays["skin/joints"][index], c.arrays["skin/weights"][index], strict=True)
    held = [{"joint": c.skin.joints[int(j)], "weight": round(float(w), 4)} for j, w in pairs if w > 0]
    return {"point": index, "weights": held}


@router.get("/c/{number}/portrait.png")
def portrait(workshop: TheWorkshop, number: int) -> Response:
    """A small picture of the character."""
    c = workshop.character(number)
    image = picture(c.points, topology_of(c).triangles, point_colours(c).astype(float), (260, 260))
    return Response(png(image), media_type="image/png", headers={"cache-control": "no-store"})


def download(body: bytes | str, name: str, ending: str, kind: str) -> Response:
    """A file to keep, named after the character."""
    return Response(body, media_type=kind, headers=_file_name(name, ending))


def _file_name(name: str, ending: str) -> dict[str, str]:
    safe = (
        "".join(ch if ch.isascii() and (ch.isalnum() or ch in "-_") else "-" for ch in name).strip("-") or "character"
    )
    return {"content-disposition": f'attachment; filename="{safe}{ending}"', "cache-control": "no-store"}


@router.get("/c/{number}/recipe.json")
def recipe(workshop: TheWorkshop, number: int) -> Response:
    """The ledger as a recipe, which runs again on another model."""
    c = workshop.character(number)
    text = dump_recipe(workshop.recipe(number, c.name))
    return download(text, c.name, "-recipe.json", "application/json")


@router.get("/c/{number}/report.json")
def report(workshop: TheWorkshop, number: int) -> Response:
    """Counts, findings and the newest trials."""
    cards, fresh = workshop.trials(number)
    bare = [{k: v for k, v in card.items() if k != "picture"} for card in cards]
    c = workshop.character(number)
    body = write_report(c, bare) | {"trials_are_of_this_state": fresh}
    return download(json.dumps(body, indent=1, ensure_ascii=False), c.name, "-report.json", "application/json")


@router.get("/formats")
def formats() -> list[dict[str, Any]]:
    """What can be brought in, and what a character can be written as."""
    return [
        {
            "ending": e,
            "about": f.title,
            "reads": f.read is not None,
            "writes": f.write is not None,
            "renames": f.renames,
        }
        for e, f in FORMATS.items()
    ]


class Compacted(BaseModel):
    before: int
    after: int


@router.post("/compact")
def compact(workshop: TheWorkshop) -> Compacted:
    """Drop lines left aside and old snapshots, which replaying brings back; bytes before and after."""
    before, after = workshop.store.compact()
    return Compacted(before=before, after=after)
