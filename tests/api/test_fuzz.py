"""Every route takes the fuzzer: whatever is asked, there is an answer in order, or a problem in words."""

from __future__ import annotations

import json
import os
import shutil
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
import schemathesis
from httpx2 import InvalidURL
from hypothesis import HealthCheck, given, settings
from schemathesis.core import NOT_SET
from starlette.testclient import TestClient

from brae.api.app import create_app
from brae.store import Home
from brae.work import Workspace
from brae.work.opening import open_game
from tests.api.test_api import SECRET
from tests.work.test_flow import SAIL, SKY, come_back, digests, paint

#: what is real among what the fuzzer makes up: an edited texture, others, a sound, a text, an archive, nothing
ADDRESSES = [
    SAIL, SKY, "data/harbour.kist//texts/letters/00.txt", "data/harbour.kist//sounds/boat/oar_00.wav",
    "data/harbour.kist//textures/grain/wood_00.raw", "data/harbour.kist", "no such thing", "", "\0", "a//b",
]  # fmt: skip
#: the stream of events takes nothing and never ends
_LEFT_OUT = ("/api/events",)
#: asked of each route; more at a person's desk
EXAMPLES = int(os.environ.get("EXAMPLES", "15"))
#: it plays the whole game, so it is asked less often
_SLOW = "/api/projects/{project_id}/trial"


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, made_demo: Path) -> Iterator[TestClient]:
    """A server with an opened game and an edit; what the fuzzer builds, it builds there."""
    folder = tmp_path_factory.mktemp("fuzz")
    shutil.copytree(made_demo, folder / "skerry")
    workspace = Workspace(Home(folder / "home"))
    open_game(workspace, folder / "skerry")
    come_back(workspace, SAIL, paint(workspace, SAIL))
    app = create_app(workspace, watch=False, secret=SECRET)
    with TestClient(app, base_url="http://127.0.0.1:8716", raise_server_exceptions=False) as client:
        client.headers["authorization"] = f"Bearer {SECRET}"
        yield client


DOCUMENT = Path(__file__).parents[2] / "docs/openapi.json"
OPERATIONS = [
    found.ok()
    for found in schemathesis.openapi.from_path(DOCUMENT).exclude(path=list(_LEFT_OUT)).get_all_operations()
]


def _grounded(case: Any) -> None:
    """Most of what is made up leads nowhere, so the game that is there is asked for, with its items."""
    parameters, query = case.path_parameters, case.query
    chance = zlib.crc32(json.dumps([str(parameters), str(query), str(case.body)]).encode())
    if "project_id" in parameters and chance % 8:
        parameters["project_id"] = "skerry"
    if "address" in query and chance % 5:
        query["address"] = ADDRESSES[chance % len(ADDRESSES)]
    if isinstance(case.body, dict) and "addresses" in case.body and chance % 3:
        case.body["addresses"] = ADDRESSES[: chance % 3 + 1]


@pytest.mark.parametrize("operation", OPERATIONS, ids=lambda operation: operation.label)
def test_every_route_answers_in_order(operation: Any, server: TestClient) -> None:
    @settings(
        max_examples=2 if operation.path == _SLOW else EXAMPLES,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        database=None,
    )
    @given(operation.as_strategy())
    def asked(case: Any) -> None:
        _ask(case, server)

    asked()


def _ask(case: Any, server: TestClient) -> None:
    _grounded(case)
    body = {} if case.body is NOT_SET else {"json": case.body}
    if isinstance(case.body, bytes):
        body = {"content": case.body}
    headers = {
        name: value for name, value in (case.headers or {}).items() if name.lower() not in ("authorization", "host")
    }
    try:
        answer = server.request(case.method, case.formatted_path, params=case.query, headers=headers, **body)
    except (InvalidURL, UnicodeError, ValueError):
        return  # no client can send it
    _check(answer)


LONG = " ".join(f"word{number}" for number in range(1000))
NUMBERS = ["0", "-1", str(2**31), str(2**63 - 1), str(2**63), str(10**40), "1e309", "nan", "0x10", "١٢", ""]
TEXTS = [
    "~nobody",
    "~0/x",
    "\0",
    "a\0b",
    "\ud800",
    "%00",
    "%ED%A0%80",
    "\U0010ffff",
    "../" * 50,
    "x" * 20_000,
    LONG,
    "'; DROP TABLE",
    "*?%_\\",
]


@pytest.mark.parametrize("text", TEXTS, ids=range(len(TEXTS)))
def test_odd_texts_in_every_parameter(server: TestClient, text: str) -> None:
    sent = quote(text, errors="surrogatepass", safe="%")
    for path, methods in server.app.openapi()["paths"].items():  # type: ignore[attr-defined]
        if path in _LEFT_OUT or "get" not in methods:
            continue
        names = [one["name"] for one in methods["get"].get("parameters", []) if one["in"] == "query"]
        address = path.replace("{project_id}", "skerry").replace("{number}", "1")
        for query in ("&".join(f"{name}={sent}" for name in names), f"q={sent}", f"address={sent}"):
            if len(query) < 60_000:  # no client sends longer ones
                _check(server.get(f"{address}?{query}"))
        _check(server.get(path.replace("{project_id}", sent[:900] or "x").replace("{number}", "1")))


@pytest.mark.parametrize("number", NUMBERS)
def test_odd_numbers_in_every_parameter(server: TestClient, number: str) -> None:
    for path, methods in server.app.openapi()["paths"].items():  # type: ignore[attr-defined]
        if path in _LEFT_OUT or "get" not in methods:
            continue
        for one in methods["get"].get("parameters", []):
            if one["in"] == "query":
                address = path.replace("{project_id}", "skerry").replace("{number}", "1")
                query = {"address": SAIL, "x": "1", "y": "1", "width": "8", "height": "8", "world": "2"}
                _check(server.get(address, params=query | {one["name"]: number}))
        if "{number}" in path:
            _check(server.get(path.replace("{number}", number or "x")))


def test_what_is_no_texture_belongs_to_no_surface(server: TestClient) -> None:
    for address in ADDRESSES[2:6]:
        answer = server.get("/api/projects/skerry/texture/maps", params={"address": address})
        assert answer.status_code in (404, 422), address


def test_odd_bodies(server: TestClient) -> None:
    for path, methods in server.app.openapi()["paths"].items():  # type: ignore[attr-defined]
        if path in (*_LEFT_OUT, _SLOW) or path.endswith(("/build", "/restore")):
            continue
        address = path.replace("{project_id}", "skerry").replace("{number}", "99999")
        for method in methods.keys() - {"get", "delete"}:
            for body in (
                b"",
                b"{",
                b"[]",
                b"null",
                b'{"path": "\\u0000"}',
                b'{"paths": ["\\ud800"]}',
                b"\xff" * 50,
            ):
                answer = server.request(
                    method,
                    address,
                    content=body,
                    headers={"content-type": "application/json"},
                    params={"address": SKY},
                )
                _check(answer)


def _check(answer: Any) -> None:
    """No fault of Brae's own, and what went wrong in words."""
    assert answer.status_code != 500, f"{answer.url}: {answer.text[:400]}"
    if answer.status_code >= 400 and "/api/" in str(answer.url):
        assert answer.headers["content-type"] == "application/problem+json", f"{answer.url}: {answer.text[:200]}"
        problem = answer.json()
        assert (problem["status"], bool(problem["detail"])) == (answer.status_code, True)


def test_the_game_is_still_whole(server: TestClient, made_demo: Path) -> None:
    """After all that was asked: what the fuzzer built is put back."""
    workspace: Workspace = server.app.state.workspace  # type: ignore[attr-defined]
    answer = server.post("/api/projects/skerry/restore", json={})
    assert answer.status_code in (202, 404)
    while any(job["state"] in ("waiting", "running") for job in server.get("/api/jobs").json()):
        pass
    if answer.status_code == 202:
        assert digests(Path(workspace.project("skerry").folder)) == digests(made_demo)
