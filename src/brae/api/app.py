"""The application: guards, errors, routes and the page."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.middleware.base import RequestResponseEndpoint
from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

from brae import __version__
from brae.api.routes import builds, catalogue, edits, guesses, maps, projects, system, workshop
from brae.api.schemas import Problem
from brae.core.errors import BraeError, storage_error
from brae.work import Workspace
from brae.work.watch import Watcher

UI = Path(__file__).parent.parent / "ui"
#: pages of other origins may neither read nor write here; scripts come from here alone
_HEADERS = {
    "Content-Security-Policy": "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; "
    "media-src 'self' blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
}
_LOCAL = ("127.0.0.1", "localhost", "[::1]")


def _host_name(host: str) -> str:
    return host.rpartition(":")[0] if ":" in host.rpartition("]")[2] else host


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


def problem(status: int, title: str, detail: str, **more: Any) -> JSONResponse:
    """problem+json (RFC 9457)."""
    content = {"type": "about:blank", "title": title, "status": status, "detail": detail, **more}
    return JSONResponse(content, status, media_type="application/problem+json")


def create_app(workspace: Workspace, *, watch: bool = True, demo: Path | None = None) -> FastAPI:
    """The server's application over a workspace; it closes the workspace when it ends."""

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

    @app.middleware("http")
    async def guard(request: Request, call_next: RequestResponseEndpoint) -> Response:
        host = request.headers.get("host", "")
        if _host_name(host) not in _LOCAL:
            return problem(403, "Forbidden", f"Brae answers only on this computer, not as '{host}'.", code="host")
        origin = request.headers.get("origin")
        if origin is not None and origin.partition("://")[2] != host:
            return problem(403, "Forbidden", f"Pages of {origin} may not use Brae.", code="origin")
        if request.method not in ("GET", "HEAD") and request.headers.get("sec-fetch-site") in (
            "cross-site",
            "same-site",
        ):
            return problem(403, "Forbidden", "Other pages may not use Brae.", code="origin")
        response = await call_next(request)
        for name, value in _HEADERS.items():
            response.headers.setdefault(name, value)
        return response

    @app.exception_handler(BraeError)
    def brae_error(_: Request, error: BraeError) -> JSONResponse:
        parts = error.as_dict()
        return problem(error.status, type(error).__name__.removesuffix("Error"), parts.pop("message"), **parts)

    @app.exception_handler(OSError)
    def os_error(request: Request, error: OSError) -> JSONResponse:
        return brae_error(request, storage_error(error, "use", error.filename or "a file"))

    @app.exception_handler(RequestValidationError)
    def invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        return problem(422, "Invalid request", f"{where}: {first['msg']}", code="request")

    for routes in (system, projects, catalogue, edits, builds, workshop, guesses, maps):
        app.include_router(routes.router, prefix="/api", responses={"default": {"model": Problem}})
    if UI.is_dir():
        app.mount("/", Page(directory=UI, html=True), name="page")
    return app
