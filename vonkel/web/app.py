"""Putting the web face together."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates

from .. import __version__
from ..core.errors import Failure, VonkelError, spoken
from ..workshop import Jobs, Workshop
from . import guard

HERE = Path(__file__).parent


@dataclass(frozen=True)
class Settings:
    """store: the folder of the store; demo: put the demo characters into an empty store."""

    store: Path
    demo: bool = False


def create_app(settings: Settings) -> FastAPI:
    """A new application on one store."""
    from .routes import bench, characters, face, files, live, motion, pages, rig, shapes, skin, work

    @asynccontextmanager
    async def running(app: FastAPI) -> AsyncIterator[None]:
        yield
        app.state.jobs.close()

    app = FastAPI(
        lifespan=running,
        title="Vonkel",
        version=__version__,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
    )
    app.state.workshop = Workshop(settings.store)
    app.state.jobs = Jobs()
    app.state.templates = Jinja2Templates(HERE / "templates")
    app.state.templates.env.globals["import_map"] = guard.IMPORT_MAP
    app.add_middleware(guard.Guard)
    app.add_exception_handler(VonkelError, _said)
    app.add_exception_handler(RequestValidationError, _malformed)
    app.add_exception_handler(Exception, _failed)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    for router in (
        pages.router,
        characters.router,
        files.router,
        bench.router,
        rig.router,
        work.router,
        skin.router,
        shapes.router,
        face.router,
        motion.router,
        live.router,
    ):
        app.include_router(router)
    if settings.demo and not app.state.workshop.store.characters():
        from ..demo import add_demo

        add_demo(app.state.workshop)
    return app


def _said(request: Request, error: Exception) -> Response:
    """The one place where the core's errors become HTTP."""
    assert isinstance(error, VonkelError)
    if "text/html" in request.headers.get("accept", "") and not request.url.path.startswith("/api"):
        templates: Jinja2Templates = request.app.state.templates
        return templates.TemplateResponse(request, "sorry.html", {"error": error}, status_code=error.status)
    return JSONResponse({"error": error.as_dict()}, error.status)


def _failed(request: Request, error: Exception) -> Response:
    """What nobody foresaw: in our words all the same; the server's log has the rest."""
    return _said(request, Failure("Something went wrong inside Vonkel.", request.url.path, "The log says more."))


def _malformed(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    first = error.errors()[0]
    field = ".".join(str(p) for p in first["loc"] if p != "body")
    what = spoken(f"“{field}”: {first['msg']}.")
    return JSONResponse({"error": {"what": what, "where": request.url.path, "todo": ""}}, 422)
