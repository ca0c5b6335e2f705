"""Who may use the server: the secret of this start, and requests that come too slowly."""

from __future__ import annotations

import asyncio
import json
import os
import socket
import stat
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
import uvicorn
from starlette.testclient import TestClient

from brae.api import patience
from brae.api.app import create_app
from brae.api.guard import Guard, new_secret
from brae.api.patience import PatientProtocol
from brae.store import Home
from brae.work import Workspace
from tests.e2e.driver import base, served

SECRET = "a secret of this start"


@pytest.fixture
def stranger(workspace: Workspace) -> Iterator[TestClient]:
    """Another user of this computer: knows the port, not the secret."""
    app = create_app(workspace, watch=False, secret=SECRET)
    with TestClient(app, base_url="http://127.0.0.1:8716", follow_redirects=False) as client:
        yield client


@pytest.mark.parametrize("given", ["", "Bearer ", "Bearer wrong", f"Bearer {SECRET}x", f"Basic {SECRET}"])
def test_every_route_wants_the_secret(stranger: TestClient, given: str) -> None:
    paths = stranger.app.openapi()["paths"]  # type: ignore[attr-defined]
    asked = 0
    for path, methods in paths.items():
        for method in methods:
            address = path.replace("{project_id}", "skerry").replace("{number}", "1")
            answer = stranger.request(method.upper(), address, headers={"authorization": given})
            assert (answer.status_code, answer.json()["code"]) == (401, "secret"), f"{method} {path}"
            asked += 1
    assert asked > 30


def test_the_printed_address_becomes_a_cookie(stranger: TestClient) -> None:
    answer = stranger.get("/p/skerry/find?q=sail%20cloth&key=a+secret+of+this+start")
    assert (answer.status_code, answer.headers["location"]) == (303, "/p/skerry/find?q=sail+cloth")
    cookie = answer.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert cookie.startswith("brae-8716="), "another server on another port has another cookie"
    assert stranger.get("/api/state").status_code == 200


def test_a_wrong_key_opens_nothing(stranger: TestClient) -> None:
    answer = stranger.get("/?key=wrong")
    assert (answer.status_code, "set-cookie" in answer.headers) == (303, False)
    assert stranger.get("/api/state").status_code == 401


def test_the_way_in_leads_to_no_other_site(stranger: TestClient) -> None:
    for path in ("//example.org/", "/%2Fexample.org", "///example.org"):
        answer = stranger.get(f"{path}?key=x")
        assert answer.headers["location"].startswith("/")
        assert not answer.headers["location"].startswith("//")


@pytest.mark.parametrize("origin", ["https://127.0.0.1:8716", "file://127.0.0.1:8716", "HTTP://127.0.0.1:8716"])
def test_the_origins_scheme_counts(stranger: TestClient, origin: str) -> None:
    headers = {"authorization": f"Bearer {SECRET}", "origin": origin}
    assert stranger.get("/api/state", headers=headers).json()["code"] == "origin"


def test_secrets_are_new_and_long() -> None:
    made = {new_secret() for _ in range(100)}
    assert len(made) == 100
    assert min(map(len, made)) >= 43, "256 bits in base 64"


def test_another_start_is_told_of_the_first(tmp_path: Path) -> None:
    with served(tmp_path / "home", "serve") as address:
        said = Home(tmp_path / "home").announced()
        assert said is not None
        assert f"{said['address']}?key={said['secret']}" == address
        assert stat.S_IMODE((tmp_path / "home/server.json").stat().st_mode) == 0o600
        with served(tmp_path / "home", "serve") as again:
            assert again == address, "there is one Brae in a home, and the second start names it"
    assert not (tmp_path / "home/server.json").exists()


# ---- requests that come too slowly


@contextmanager
def _running(workspace: Workspace) -> Iterator[int]:
    """The real server on a thread; its port."""
    app = create_app(workspace, watch=False, secret=SECRET)
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        config = uvicorn.Config(app, http=PatientProtocol, log_level="error", timeout_graceful_shutdown=1)
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.02)
        yield listener.getsockname()[1]
        server.should_exit = True
        thread.join(timeout=10)


def _left_alone(port: int, *parts: bytes, pause: float = 0.0) -> bytes:
    """What a connection answers until the server closes it."""
    found = b""
    with socket.create_connection(("127.0.0.1", port), timeout=5) as connection:
        # On a busy machine the server may have closed it before the last part is sent.
        with suppress(BrokenPipeError, ConnectionResetError):
            for part in parts:
                connection.sendall(part)
                time.sleep(pause)
        with suppress(ConnectionResetError):
            while data := connection.recv(65536):
                found += data
    return found


def test_half_a_request_ends_after_a_time(workspace: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(patience, "HEAD", 0.4)
    whole = f"GET /api/state HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {SECRET}\r\n\r\n".encode()
    with _running(workspace) as port:
        assert _left_alone(port) == b"", "nothing is sent"
        assert _left_alone(port, b"GET /api/state HTT") == b""
        assert _left_alone(port, b"GET / HTTP/1.1\r\n", b"Host: x\r\n", b"A: b\r\n", pause=0.25) == b""
        answer = _left_alone(port, whole, b"GET / HT")
        assert answer.startswith(b"HTTP/1.1 200")
        assert json.loads(answer.partition(b"\r\n\r\n")[2])["home"] == str(workspace.home.path)


def test_half_a_body_ends_after_a_time() -> None:
    messages: list[str] = []

    async def app(scope: object, receive: object, send: object) -> None:
        messages.append((await receive())["type"])  # type: ignore[operator]
        messages.append((await receive())["type"])  # type: ignore[operator]

    parts = iter([{"type": "http.request", "body": b"a", "more_body": True}])

    async def receive() -> dict[str, object]:
        found = next(parts, None)
        if found is None:
            await asyncio.sleep(60)
        return found or {}

    async def send(_: object) -> None:
        raise AssertionError("nothing is answered")

    headers = [(b"host", b"127.0.0.1"), (b"authorization", f"Bearer {SECRET}".encode())]
    scope = {"type": "http", "method": "PUT", "path": "/api/x", "query_string": b"", "headers": headers}
    asyncio.run(Guard(app, SECRET, patience=0.2)(scope, receive, send))  # type: ignore[arg-type]
    assert messages == ["http.request", "http.disconnect"]


@pytest.mark.skipif(os.name != "posix", reason="asks for the process's own list of sockets")
def test_it_listens_on_this_computer_only(tmp_path: Path) -> None:
    with served(tmp_path / "home", "serve") as address:
        port = int(base(address).rpartition(":")[2])
        listening = [
            line.split()[1]
            for table in ("tcp", "tcp6")
            for line in Path(f"/proc/net/{table}").read_text().splitlines()[1:]
            if line.split()[3] == "0A" and int(line.split()[1].rpartition(":")[2], 16) == port
        ]
        assert listening == [f"0100007F:{port:04X}"]
