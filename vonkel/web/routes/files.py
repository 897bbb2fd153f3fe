"""Files into a character, and whole characters out: parts, pictures, textures, the character file."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter, Form, UploadFile
from fastapi.responses import Response

from ...core.errors import BadParameters, NotFound
from ...core.formats import FORMATS
from ...core.formats.pictures import picture_kind
from ...core.handover import written
from ...core.joints.names import joint_names
from ...core.motion.clips import clip_named
from ...core.motion.keyed import at_rate
from ...core.tolerances import MAX_FILE_BYTES
from .. import payload
from .characters import IMMUTABLE, download
from .deps import TheWorkshop, uploaded

router = APIRouter(prefix="/api/c/{number}")


def _bytes(file: UploadFile) -> tuple[str, bytes]:
    return file.filename or "", file.file.read(MAX_FILE_BYTES + 1)


@router.post("/parts")
def parts(workshop: TheWorkshop, number: int, file: list[UploadFile], step: int = Form(0)) -> dict[str, Any]:
    """More parts from a mesh or an SVG drawing."""
    file_name, data, beside = uploaded(file)
    return {"position": payload.where(workshop.add_parts(number, file_name, data, step or None, beside))}


@router.post("/pictures")
def add_picture(
    workshop: TheWorkshop, number: int, file: UploadFile, view: Literal["front", "side", "top"] = Form("front"),
    step: int = Form(0),
) -> dict[str, Any]:  # fmt: skip
    """Lay a reference picture under a drawing."""
    return {"position": payload.where(workshop.add_picture(number, *_bytes(file), view, step or None))}


@router.post("/texture")
def set_texture(workshop: TheWorkshop, number: int, file: UploadFile, step: int = Form(0)) -> dict[str, Any]:
    """Give the mesh a texture picture."""
    return {"position": payload.where(workshop.set_texture(number, *_bytes(file), step or None))}


@router.get("/pictures/{name}")
def picture(workshop: TheWorkshop, number: int, name: str, v: str = "") -> Response:
    """A reference picture's file; `v` is its hash, so that it may be kept."""
    return _image(workshop, number, f"picture/{name}", v)


@router.get("/texture")
def texture(workshop: TheWorkshop, number: int, v: str = "") -> Response:
    """The texture picture's file; `v` is its hash, so that it may be kept."""
    return _image(workshop, number, "texture", v)


def _image(workshop: TheWorkshop, number: int, array: str, v: str) -> Response:
    c = workshop.character(number)
    if array not in c.arrays:
        raise NotFound("There is no such picture.", c.name, "Reload the page.")
    data = c.arrays[array].tobytes()
    kept = v == c.arrays.hash_of(array)
    headers = IMMUTABLE if kept else {"cache-control": "no-store"}
    return Response(data, media_type=f"image/{picture_kind(data) or 'png'}", headers=headers)


@router.get("/export.vonkel")
def export(workshop: TheWorkshop, number: int) -> Response:
    """The character whole, with its ledger."""
    return download(workshop.pack(number), workshop.character(number).name, ".vonkel", "application/zip")


@router.get("/export{ending}")
def export_as(
    workshop: TheWorkshop, number: int, ending: str, names: str = "", clip: str = "", rate: float = 0.0
) -> Response:
    """The character in one of the open formats; `names`: “hanim” for the humanoid standard's joint names, or a pattern such
    as {side}_{part}{n}, where the format has names; `clip`: this motion alone; `rate`: motions with so many frames a second."""
    c = workshop.character(number)
    if clip:
        c = c.with_(clips=(clip_named(c, clip),))
    if rate:
        if not 1 <= rate <= 240:
            raise BadParameters("A rate is from 1 to 240 frames a second.", "rate", "Choose another.")
        for k in c.clips:
            c = at_rate(c, k.name, rate)
    data = written(c, ending, joint_names(c, names))
    return download(data, c.name, ending.lower(), FORMATS[ending.lower()].media)


@router.post("/duplicate")
def duplicate(workshop: TheWorkshop, number: int) -> dict[str, Any]:
    """The character once more, with its ledger."""
    return {"number": workshop.duplicate(number)}


@router.post("/archive")
def archive(workshop: TheWorkshop, number: int, away: bool = True) -> dict[str, Any]:
    """Put a character away, or back."""
    workshop.store.archive(number, away)
    return {"archived": away}
