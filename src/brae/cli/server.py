"""Starting the server."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import sys
import threading
import time
import urllib.request
import webbrowser
from collections.abc import Callable
from pathlib import Path

import typer
import uvicorn

from brae.api.app import UI, create_app
from brae.api.guard import KEY, new_secret
from brae.api.patience import PatientProtocol
from brae.core.warm import PARTS, cached, warm
from brae.jobs.manager import Job
from brae.store import Home
from brae.work import Workspace

PORT = 8716


def _listen(port: int | None) -> socket.socket:
    """A socket on 127.0.0.1: the port asked for, else the usual one, else any free one."""
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    if sys.platform != "win32":
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind(("127.0.0.1", PORT if port is None else port))
    except OSError as error:
        if port:
            typer.echo(f"brae: port {port} is taken ({error.strerror}); choose another with --port.", err=True)
            raise typer.Exit(1) from None
        listener.bind(("127.0.0.1", 0))
    listener.listen(128)  # so that whoever reads the address is answered, if a moment later
    return listener


def prepare(job: Job) -> None:
    """Compile the kernels. Pictures are shown meanwhile, and what is to be encoded waits for it."""
    job.begin(PARTS, "parts")
    warm(job.tick)


def serve(
    home: Path | None,
    port: int | None,
    browser: bool,
    demo: Path | None = None,
    started: Callable[[Workspace], None] | None = None,
) -> None:
    """Serve until interrupted."""
    place = Home(home)
    running = _running(place)
    if running is not None:
        typer.echo(f"Brae is running already, at {running}")
        if browser and _has_display():
            webbrowser.open(running)
        return
    workspace = Workspace(place)
    listener = _listen(port)
    secret = new_secret()
    base = f"http://127.0.0.1:{listener.getsockname()[1]}/"
    address = f"{base}?{KEY}={secret}"
    if not UI.is_dir():
        typer.echo("brae: the page is not built (run 'make setup'); only the API answers.", err=True)
    app = create_app(workspace, demo=demo, secret=secret)
    config = uvicorn.Config(
        app, http=PatientProtocol, log_level="warning", lifespan="on", timeout_graceful_shutdown=2
    )
    server = uvicorn.Server(config)
    app.state.end = lambda: setattr(server, "should_exit", True)

    def afterwards() -> None:
        # A moment after the server answers: the first page comes first.
        while not server.started:
            time.sleep(0.05)
        time.sleep(0.4)
        if started:
            started(workspace)
        if cached():
            warm()
        else:
            workspace.jobs.start("prepare", "Getting the encoders ready, once", prepare)

    threading.Thread(target=afterwards, daemon=True).start()
    place.announce({"address": base, "secret": secret, "process": os.getpid()})
    typer.echo(f"Brae is at {address}  (end it with Ctrl+C)")
    if browser and _has_display():
        threading.Timer(0.6, webbrowser.open, [address]).start()
    # uvicorn ends in good order, then raises the signal again: that must not end the process on the spot.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        with contextlib.suppress(KeyboardInterrupt):  # the ordinary end
            server.run(sockets=[listener])
    finally:
        if (place.announced() or {}).get("secret") == secret:
            place.server.unlink(missing_ok=True)


def _running(home: Home) -> str | None:
    """The address, secret and all, of a server that works in this home now."""
    said = home.announced()
    if said is None:
        return None
    asked = urllib.request.Request(
        f"{said.get('address')}api/state", headers={"Authorization": f"Bearer {said.get('secret')}"}
    )
    try:
        with urllib.request.build_opener(urllib.request.ProxyHandler({})).open(asked, timeout=2) as answer:
            alive = json.load(answer).get("home") == str(home.path)
    except (OSError, ValueError):
        return None
    return f"{said['address']}?{KEY}={said['secret']}" if alive else None


def _has_display() -> bool:
    return sys.platform in ("win32", "darwin") or bool(
        os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    )
