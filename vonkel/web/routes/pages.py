"""The pages themselves."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from ...core.character import Character
from ...core.errors import NotFound, VonkelError
from ...demo import CAST
from ...readings import STATIONS
from ..guard import IMPORT_MAP
from ..payload import mesh_key
from ..reference import reference
from .deps import TheWorkshop

JS = Path(__file__).resolve().parent.parent / "static/js"
router = APIRouter(include_in_schema=False)  # pages, not data


def _page(request: Request, name: str, context: dict[str, Any]) -> Response:
    made: Response = request.app.state.templates.TemplateResponse(request, name, context)
    return made


@router.get("/")
def characters_page(request: Request, workshop: TheWorkshop) -> Response:
    characters = [{"row": s, **_looked_at(workshop, s.id)} for s in workshop.store.characters()]
    context = {"characters": characters, "bytes_used": workshop.store.bytes_used(), "cast": list(CAST.values())}
    return _page(request, "characters.html", context)


def _looked_at(workshop: TheWorkshop, number: int) -> dict[str, Character | VonkelError | None]:
    """A character, or what keeps it from being shown: one that can't be read leaves the others where they are."""
    try:
        return {"state": workshop.character(number), "trouble": None}
    except VonkelError as error:
        return {"state": None, "trouble": error}


@router.get("/c/{number}")
@router.get("/c/{number}/{station}")
def bench(request: Request, workshop: TheWorkshop, number: int, station: str = "model") -> Response:
    if station not in {s[0] for s in STATIONS}:
        raise NotFound(f"There is no station “{station}”.", "", "Follow the path at the top.")
    c = workshop.character(number)
    context = {
        "character": c,
        "number": number,
        "station": station,
        "stations": STATIONS,
        "mesh": mesh_key(c),
        "modules": _modules(),
    }
    return _page(request, "bench.html", context)


@cache
def _modules() -> list[str]:
    """Every module of the bench's page: named at once, so that they are fetched side by side."""
    own = [f"/static/js/{p.relative_to(JS).as_posix()}" for p in sorted(JS.rglob("*.js")) if p.name != "characters.js"]
    others = [
        url for name, url in json.loads(IMPORT_MAP)["imports"].items() if name != "three/loader"
    ]  # for tests alone
    return [*others, "/static/vendor/three/three.core.js", *own]


@router.get("/docs")
def docs(request: Request) -> Response:
    """What there is to be looked up: from this program alone, with no network."""
    return _page(request, "docs.html", {"ref": reference(request.app)})
