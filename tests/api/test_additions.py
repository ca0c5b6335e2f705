"""New items through the server: proposed, made of a picture, used, and taken away."""

from __future__ import annotations

import io

from PIL import Image
from starlette.testclient import TestClient

from tests.api.test_api import client, opened  # noqa: F401

BUNDLE = "data/figures.bundle"
TOWER, MATERIAL, MODEL = (
    f"{BUNDLE}//{name}" for name in ("skins/tower.ptx", "materials/lighthouse.txt", "models/lighthouse.shp")
)


def _png() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (100, 200), (180, 40, 30)).save(out, "png")
    return out.getvalue()


def test_from_a_proposal_to_a_model_that_wears_it_and_away(client: TestClient, opened: str) -> None:  # noqa: F811
    while not (told := client.get(f"{opened}/new", params={"like": MATERIAL}).json())["ready"]:
        pass
    assert told["name"] == "materials/lighthouse_2.txt"
    assert [one["name"] for one in told["uses"]] == ["skins/tower.ptx"]
    assert [one["address"] for one in told["used_by"]] == [MODEL]
    assert (told["sized"], told["scale"], told["most"]) == (False, 0.25, 512)
    asked = {
        "like": TOWER, "name": "skins/red.ptx", "file": "red.png", "units": 32, "scale": 0.25, "most": 512,
        "copy": MATERIAL, "copy_name": "materials/red.txt", "users": [MODEL],
    }  # fmt: skip
    made = client.post(f"{opened}/new", params=asked, content=_png())
    assert made.status_code == 201, made.text
    assert made.json()["made"] == [f"{BUNDLE}//skins/red.ptx", f"{BUNDLE}//materials/red.txt"]
    (row,) = client.get(f"{opened}/members", params={"q": "skins/red"}).json()["items"]
    assert (row["made"], row["edit"], row["facts"]["width"], row["facts"]["height"]) == (True, None, 64, 128)
    counts = client.get(opened).json()["counts"]
    assert (counts["members"], counts["ready"], counts["in_work"]) == (377, 3, 1)
    again = client.post(f"{opened}/new", params=asked, content=_png())
    assert again.status_code == 422
    assert "already" in again.json()["detail"]
    for address in made.json()["made"]:
        assert client.delete(f"{opened}/new", params={"address": address}).status_code == 204
    assert client.delete(f"{opened}/new", params={"address": TOWER}).status_code == 422
    (edit,) = client.get(f"{opened}/edits").json()
    assert [one["title"] for one in edit["sheet"]["findings"]] == [
        "It names red, and nothing in the game is called so"
    ]


def test_what_is_no_picture_and_what_cannot_be_wished_are_refused(client: TestClient, opened: str) -> None:  # noqa: F811
    asked = {"like": TOWER, "name": "skins/red.ptx", "file": "red.png"}
    for more, content in (({}, b"no picture"), ({"units": -1}, _png()), ({"most": 3}, _png())):
        answer = client.post(f"{opened}/new", params=asked | more, content=content)
        assert answer.status_code == 422, answer.text
        assert answer.json()["detail"]
    assert client.get(f"{opened}/members", params={"q": "edited:made"}).json()["total"] == 0
