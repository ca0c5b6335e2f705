"""The same picture stored twice, over HTTP: compared, given the same edit."""

from __future__ import annotations

import io
import time

from PIL import Image
from starlette.testclient import TestClient

from tests.api.test_api import client, opened  # noqa: F401

ONE, TWO = (f"data/harbour.kist//textures/seabirds/skua_{number}.ptx" for number in (1, 2))


def _wait(client: TestClient, job: str) -> None:  # noqa: F811
    deadline = time.monotonic() + 120
    while (found := next(one for one in client.get("/api/jobs").json() if one["id"] == job))["state"] != "done":
        assert found["state"] in ("waiting", "running"), found
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_a_copy_gets_the_same_edit(client: TestClient, opened: str) -> None:  # noqa: F811
    client.post(f"{opened}/edits", json={"addresses": [ONE]})
    assert client.get(f"{opened}/edits/copies").json() == {"of": {}, "compared": False, "more": False}
    job = client.post(f"{opened}/edits/copies/compare")
    assert job.status_code == 202
    _wait(client, job.json()["id"])
    known = client.get(f"{opened}/edits/copies").json()
    assert known["compared"]
    assert known["of"] == {ONE: [{"address": TWO, "exact": False, "edited": False, "same": False}]}
    file = Image.open(io.BytesIO(client.get(f"{opened}/edits/file", params={"address": ONE}).content))
    file.paste((200, 30, 30, 255), (10, 10, 30, 30))
    stream = io.BytesIO()
    file.save(stream, "PNG")
    sent = client.put(
        f"{opened}/edits/file", params={"address": ONE, "name": "skua.png"}, content=stream.getvalue()
    )
    assert sent.status_code == 200
    job = client.post(f"{opened}/edits/copies", json={"address": ONE, "copies": [TWO]})
    assert job.status_code == 202, job.text
    _wait(client, job.json()["id"])
    assert {one["address"]: one["state"] for one in client.get(f"{opened}/edits").json()} == {
        ONE: "ready", TWO: "ready",
    }  # fmt: skip
    assert [one["same"] for one in client.get(f"{opened}/edits/copies").json()["of"][ONE]] == [True]
    assert client.post(f"{opened}/edits/copies", json={"address": ONE, "copies": []}).status_code == 422
