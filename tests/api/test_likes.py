"""Found by a picture over HTTP: what is asked, while it is looked for, and the light table narrowed by it."""

from __future__ import annotations

import io
import threading
import time
from typing import Any

import numpy as np
import pytest
from PIL import Image
from starlette.testclient import TestClient

from tests.api.test_api import client, opened  # noqa: F401

CHART = "data/harbour.kist//textures/harbour/chart.ptx"


def _png(picture: Image.Image) -> bytes:
    stream = io.BytesIO()
    picture.save(stream, "PNG")
    return stream.getvalue()


@pytest.fixture
def chart(client: TestClient, opened: str) -> Image.Image:  # noqa: F811
    data = client.get(f"{opened}/preview", params={"address": CHART}).content
    return Image.open(io.BytesIO(data)).convert("RGB")


def _ask(client: TestClient, opened: str, data: bytes) -> dict[str, Any]:  # noqa: F811
    answer = client.post(f"{opened}/likes", params={"name": "shot.png"}, content=data)
    assert answer.status_code == 202, answer.text
    asked = answer.json()
    deadline = time.monotonic() + 120
    while not asked["ready"]:
        assert asked["fault"] is None
        assert time.monotonic() < deadline
        time.sleep(0.05)
        asked = client.get(f"{opened}/likes/{asked['id']}").json()
    return asked


def test_a_part_of_a_texture_leads_to_it(client: TestClient, opened: str, chart: Image.Image) -> None:  # noqa: F811
    wide, tall = chart.size
    part = chart.crop((wide // 4, tall // 4, wide * 3 // 4, tall * 3 // 4)).resize((300, 300))
    asked = _ask(client, opened, _png(part))
    first = asked["found"][0]
    assert (first["address"], first["how"]) == (CHART, "part")
    corners = np.array([[one["x"], one["y"]] for one in first["place"]])
    assert np.abs(corners - [[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]]).max() < 0.06
    assert asked["searched"] > 200
    page = client.get(f"{opened}/members", params={"like": asked["id"], "order": "likeness"}).json()
    assert [one["address"] for one in page["items"]] == [one["address"] for one in asked["found"]]
    narrowed = {"like": asked["id"], "q": "chart", "order": "likeness"}
    assert [one["address"] for one in client.get(f"{opened}/members", params=narrowed).json()["items"]] == [CHART]
    shown = Image.open(io.BytesIO(client.get(f"{opened}/likes/{asked['id']}/picture").content))
    assert shown.size == (300, 300)
    again = time.monotonic()
    assert _ask(client, opened, _png(part))["found"] == asked["found"]
    assert time.monotonic() - again < 60, "what was looked at is not looked at again"


def test_what_is_no_picture_or_forgotten_is_told(client: TestClient, opened: str) -> None:  # noqa: F811
    answer = client.post(f"{opened}/likes", params={"name": "notes.txt"}, content=b"no picture")
    assert answer.status_code == 422
    assert "notes.txt cannot be looked for" in answer.json()["detail"]
    cut = _png(Image.new("RGB", (64, 64), "teal"))[:60]
    assert client.post(f"{opened}/likes", params={"name": "cut.png"}, content=cut).status_code == 422
    gone = client.get(f"{opened}/likes/0123456789abcdef")
    assert (gone.status_code, gone.json()["remedy"]) == (404, "Drop it on the light table again.")
    assert client.get(f"{opened}/members", params={"like": "0123456789abcdef"}).status_code == 404


def test_one_that_is_cancelled_while_it_waits_says_so(
    client: TestClient,  # noqa: F811
    opened: str,  # noqa: F811
    chart: Image.Image,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    from brae.work import finding

    go_on = threading.Event()
    real = finding.gathered

    def slow(*arguments: Any) -> Any:
        assert go_on.wait(60)
        return real(*arguments)

    monkeypatch.setattr(finding, "gathered", slow)
    first, second = (
        client.post(f"{opened}/likes", params={"name": "a.png"}, content=_png(chart.resize((side, side)))).json()
        for side in (80, 90)
    )
    waiting = [job for job in client.get("/api/jobs").json() if (job["kind"], job["state"]) == ("like", "waiting")]
    assert len(waiting) == 1
    assert client.post(f"/api/jobs/{waiting[0]['id']}/cancel").status_code == 202
    asked = client.get(f"{opened}/likes/{second['id']}").json()
    assert (asked["ready"], asked["fault"]) == (False, "It was not looked for to the end.")
    go_on.set()
    deadline = time.monotonic() + 60
    while not client.get(f"{opened}/likes/{first['id']}").json()["ready"]:
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_a_picture_of_one_colour_finds_nothing(client: TestClient, opened: str) -> None:  # noqa: F811
    asked = _ask(client, opened, _png(Image.new("RGB", (320, 200), "teal")))
    assert (asked["found"], asked["fault"]) == ([], None)
    assert client.get(f"{opened}/members", params={"like": asked["id"]}).json()["total"] == 0
