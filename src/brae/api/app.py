"""The application: guards, errors, routes and the page."""

from __future__ import annotations

import logging
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from http import HTTPStatus
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException
from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

from brae import __version__
from brae.api.guard import Guard, new_secret, problem
from brae.api.routes import (
    additions,
    assets,
    builds,
    catalogue,
    colours,
    edits,
    folders,
    guesses,
    layouts,
    likes,
    projects,
    system,
    workshop,
)
from brae.api.schemas.common import Problem
from brae.core.errors import BraeError, internal, storage_error
from brae.work import Workspace
from brae.work.watch import Watcher

log = logging.getLogger(__name__)
UI = Path(__file__).parent.parent / "ui"


class Page(StaticFiles):
    """The built page; an address inside the page answers with the page itself."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        file, _ = self.lookup_path(path)
        if not file and not path.startswith("api") and "." not in Path(path).name:
            path = "index.html"
        response = await super().get_response(path, scope)
        if path.startswith("assets"):
            response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        else:
            response.headers["Cache-Control"] = "no-cache"
        return response


def create_app(
    workspace: Workspace, *, watch: bool = True, demo: Path | None = None, secret: str | None = None
) -> FastAPI:
    """The server's application over a workspace; it closes the workspace when it ends.

    Only those who know the ``secret`` may use it (without one nobody can).
    """

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        watcher = Watcher(workspace) if watch else None
        if watcher:
            watcher.start()
        yield
        system.stop_listening(app)
        if watcher:
            watcher.stop()
        workspace.close()

    app = FastAPI(title="Brae", version=__version__, lifespan=lifespan, docs_url=None, redoc_url=None)
    app.state.workspace, app.state.demo, app.state.stopping = workspace, demo, False
    app.state.end = None  # what ends the server, where a person may do that from the page

    app.add_middleware(Guard, secret=secret or new_secret())

    @app.exception_handler(BraeError)
    def brae_error(_: Request, error: BraeError) -> JSONResponse:
        parts = error.as_dict()
        return problem(error.status, type(error).__name__.removesuffix("Error"), parts.pop("message"), **parts)

    @app.exception_handler(OSError)
    def os_error(request: Request, error: OSError) -> JSONResponse:
        return brae_error(request, storage_error(error, "use", error.filename or "a file"))

    @app.exception_handler(HTTPException)
    def http_error(_: Request, error: HTTPException) -> JSONResponse:
        return problem(error.status_code, HTTPStatus(error.status_code).phrase, str(error.detail), code="request")

    @app.exception_handler(Exception)
    def own_fault(request: Request, error: Exception) -> JSONResponse:
        log.error("%s %s failed", request.method, request.url.path, exc_info=error)
        return brae_error(request, internal(error, request.url.path))

    @app.exception_handler(RequestValidationError)
    def invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        return problem(422, "Invalid request", f"{where}: {first['msg']}", code="request")

    parts = (
        system,
        projects,
        catalogue,
        likes,
        assets,
        edits,
        additions,
        folders,
        colours,
        builds,
        workshop,
        guesses,
        layouts,
    )
    for routes in parts:
        app.include_router(routes.router, prefix="/api", responses={"default": {"model": Problem}})
    if UI.is_dir():
        app.mount("/", Page(directory=UI, html=True), name="page")
    return app
