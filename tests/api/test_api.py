"""The server: guards, problems, the catalogue, pictures, the whole work over HTTP."""

from __future__ import annotations

import io
import json
import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from starlette.testclient import TestClient

from brae.api.app import create_app
from brae.store.home import InUseError
from brae.store.models import Build
from brae.work import Workspace
from tests.core.families import BY_NAME, members_for
from tests.work.test_flow import digests

SECRET = "only for tests"
SAIL = "data/harbour.kist//textures/boat/sail.ptx"


@pytest.fixture
def client(workspace: Workspace) -> Iterator[TestClient]:
    app = create_app(workspace, watch=False, secret=SECRET)
    with TestClient(app, base_url="http://127.0.0.1:8716", raise_server_exceptions=False) as client:
        client.headers["authorization"] = f"Bearer {SECRET}"
        yield client


def wait_for(client: TestClient, job: dict[str, Any]) -> dict[str, Any]:
    """A job's end."""
    deadline = time.monotonic() + 60
    while job["state"] in ("waiting", "running"):
        assert time.monotonic() < deadline
        time.sleep(0.05)
        job = client.get(f"/api/jobs/{job['id']}").json()
    return job


@pytest.fixture
def opened(client: TestClient, game: Path) -> str:
    job = wait_for(client, client.post("/api/projects", json={"path": str(game)}).json())
    assert (job["state"], job["error"]) == ("done", None)
    return f"/api/projects/{job['result']['project']}"


# ---- guards


@pytest.mark.parametrize(
    "host", ["example.org", "127.0.0.1.example.org", "192.168.1.4:8716", "", "evil@127.0.0.1x"]
)
def test_other_hosts_are_refused(client: TestClient, host: str) -> None:
    answer = client.get("/api/state", headers={"host": host})
    assert answer.status_code == 403
    assert answer.headers["content-type"] == "application/problem+json"


@pytest.mark.parametrize("host", ["127.0.0.1:8716", "localhost:8716", "[::1]:8716", "localhost"])
def test_this_computer_is_answered(client: TestClient, host: str) -> None:
    assert client.get("/api/state", headers={"host": host}).status_code == 200


@pytest.mark.parametrize(
    "origin", ["http://example.org", "null", "http://127.0.0.1:9999", "https://localhost:8716"]
)
def test_other_origins_are_refused(client: TestClient, origin: str, game: Path) -> None:
    answer = client.post("/api/projects", json={"path": str(game)}, headers={"origin": origin})
    assert answer.status_code == 403
    assert client.get("/api/projects").json() == []
    same = client.get("/api/state", headers={"origin": "http://127.0.0.1:8716"})
    assert same.status_code == 200


def test_answers_carry_guards_of_their_own(client: TestClient) -> None:
    headers = client.get("/api/state").headers
    assert "default-src 'self'" in headers["content-security-policy"]
    assert headers["x-content-type-options"] == "nosniff"


@pytest.mark.parametrize(
    "path",
    ["/../../../../etc/passwd", "/assets/../../app.py", "/%2e%2e/%2e%2e/pyproject.toml", "/..%5c..%5cwindows"],
)
def test_nothing_outside_the_page_is_served(client: TestClient, path: str) -> None:
    answer = client.get(path)
    assert answer.status_code in (200, 404)
    assert b"root:" not in answer.content
    assert b"hatchling" not in answer.content


# ---- problems


def test_problems_say_what_and_where(client: TestClient, opened: str) -> None:
    answer = client.get(f"{opened}/item", params={"address": "nowhere"})
    assert answer.status_code == 404
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert (problem["code"], problem["address"], problem["status"]) == ("not-found", "nowhere", 404)
    assert client.get("/api/projects/none").json()["expected"] == "one of skerry"
    assert client.get(f"{opened}/members", params={"limit": 0}).json()["code"] == "request"
    assert client.post("/api/projects", json={"path": "relative"}).status_code == 404
    assert client.post("/api/projects", json={"path": "/no/such/place"}).status_code == 404
    assert client.post(f"{opened}/edits", json={"addresses": [GRAIN]}).status_code == 422


# ---- the catalogue


def test_search_and_facets(client: TestClient, opened: str) -> None:
    def total(**search: object) -> int:
        return int(client.get(f"{opened}/members", params=search).json()["total"])

    assert total() == 375
    assert total(where="kind:texture") == 227
    assert total(where=["kind:sound", "kind:text"]) == 40 + 57
    assert total(q="boat sail") == 1
    assert total(q="harbour.kist stamp_0?") == 10
    assert total(q="*.wav") == 39
    assert total(q="stamp%0") == 0, "a percent sign is no wildcard"
    assert total(where="format:bgr8") == 4
    assert total(q="format=BGR8") == 4
    assert total(q="format=bgr*") == total(where=["format:bgr8", "format:bgra8"])
    assert total(q="format!=bgr8", where="kind:texture") == 227 - 4
    assert total(where="dimensions:256 × 512") == 1
    assert total(q="width=256 height>=512") == 1
    assert total(q="rate>0") == 40
    assert total(folder="textures/boat") == 4
    assert total(folder="textures") == 201 + 12 + 2 + 5
    assert total(q="bytes>=100000 kind=texture") == 5
    facets = client.get(f"{opened}/facets", params={"where": "kind:texture"}).json()
    by_name = {facet["name"]: facet for facet in facets["facets"]}
    assert by_name["format"]["label"] == "Pixel format"
    assert {one["value"]: one["count"] for one in by_name["format"]["values"]} == {
        "bc3": 95,
        "bc1": 70,
        "bgra8": 53,
        "bgr8": 4,
        "bc7": 2,
        "bc4": 1,
        "bc5": 1,
        "bc6h": 1,
    }
    assert {one["value"] for one in by_name["kind"]["values"]} == {
        "texture",
        "sound",
        "text",
        "data",
        "part",
        "material",
        "mesh",
        "track",
        "swap",
    }, "a facet does not narrow itself"
    page = client.get(f"{opened}/members", params={"offset": 330, "limit": 50}).json()
    assert len(page["items"]) == 45
    first = client.get(f"{opened}/members", params={"order": "bytes"}).json()["items"]
    assert [item["real"] for item in first] == sorted((item["real"] for item in first), reverse=True)


def _picture(client: TestClient, opened: str, **query: object) -> np.ndarray:
    answer = client.get(f"{opened}/preview", params={"address": SAIL, **query})
    assert answer.status_code == 200, answer.text
    return np.asarray(Image.open(io.BytesIO(answer.content)))


def test_pictures(client: TestClient, opened: str) -> None:
    assert _picture(client, opened).shape == (256, 256, 4)
    assert _picture(client, opened, level=3).shape == (32, 32, 4)
    assert _picture(client, opened, fit=64).shape == (64, 64, 4)
    alpha = _picture(client, opened, channels="a")
    assert np.array_equal(alpha[..., 0], _picture(client, opened)[..., 3])
    assert client.get(f"{opened}/preview", params={"address": SAIL, "level": 12}).status_code == 404
    assert client.get(f"{opened}/preview", params={"address": SAIL, "which": "edit"}).status_code == 404


def test_sounds_and_texts(client: TestClient, opened: str) -> None:
    bell = {"address": "data/harbour.kist//sounds/bell/00.wav"}
    sound = client.get(f"{opened}/preview", params=bell)
    assert (sound.headers["content-type"], sound.content[:4]) == ("audio/wav", b"RIFF")
    part = client.get(f"{opened}/preview", params=bell, headers={"Range": "bytes=4-11"})
    assert (part.status_code, part.content) == (206, sound.content[4:12])
    assert part.headers["content-range"] == f"bytes 4-11/{len(sound.content)}"
    # The preview is heard at a safe loudness; the bytes are the game's own.
    whole = client.get(f"{opened}/bytes", params=bell)
    last = client.get(f"{opened}/bytes", params=bell, headers={"Range": "bytes=-3"})
    assert (last.status_code, last.content) == (206, whole.content[-3:])
    assert client.get(f"{opened}/bytes", params=bell, headers={"Range": "bytes=99999999-"}).status_code == 416
    text = client.get(f"{opened}/preview", params={"address": "data/harbour.kist//texts/letters/00.txt"})
    assert text.text.startswith("[letter 00]")
    assert text.headers["content-type"] == "text/plain; charset=utf-8"
    raw = client.get(f"{opened}/bytes", params={"address": SAIL, "download": True})
    assert raw.headers["content-disposition"] == 'attachment; filename="sail.ptx"'
    assert raw.headers["content-type"] == "application/octet-stream"


def test_many_are_chosen_by_their_places(client: TestClient, opened: str) -> None:
    search = {"q": "harbour shop", "order": "name"}
    every = [one["address"] for one in client.get(f"{opened}/members", params=search).json()["items"]]
    some = client.get(f"{opened}/addresses", params=search | {"span": ["0-2", "5-5"]}).json()
    assert some == {"addresses": [*every[:3], every[5]], "others": 0}
    assert client.get(f"{opened}/addresses", params=search).json()["addresses"] == every
    mixed = client.get(f"{opened}/addresses").json()
    total = client.get(f"{opened}/members").json()["total"]
    assert len(mixed["addresses"]) + mixed["others"] == total
    assert mixed["others"] > 0
    assert client.get(f"{opened}/addresses", params={"span": "3"}).status_code == 422
    backwards = client.get(f"{opened}/members", params=search | {"order": "-name"}).json()["items"]
    assert [one["address"] for one in backwards] == every[::-1]
    assert client.get(f"{opened}/members", params={"order": "-nonsense"}).status_code == 422
    name = every[4].rpartition("/")[2]
    assert client.get(f"{opened}/place", params=search | {"starts": name[:-4].upper()}).json() == 4
    assert client.get(f"{opened}/place", params=search | {"starts": "zzz"}).json() is None


def test_many_are_put_in_work_as_a_job(client: TestClient, opened: str) -> None:
    """What one of them refuses is told and does not stop the others."""
    every = client.get(f"{opened}/addresses", params={"q": "harbour shop"}).json()["addresses"]
    part = client.get(f"{opened}/members", params={"where": "kind:data"}).json()["items"][0]["address"]
    job = client.post(f"{opened}/many", json={"addresses": [*every, part], "act": "edit"}).json()
    ended = wait_for(client, job)
    assert ended["state"] == "done"
    assert ended["result"]["done"] == len(every)
    assert [fault["address"] for fault in ended["result"]["faults"]] == [part]
    edits = {one["address"]: one for one in client.get(f"{opened}/edits").json()}
    assert set(every) <= set(edits)
    assert all(Path(edits[one]["file"]).is_file() for one in every)
    wait_for(client, client.post(f"{opened}/many", json={"addresses": every, "act": "mark", "mark": "flat"}).json())
    assert all(one["marked"] for one in client.get(f"{opened}/edits").json() if one["address"] in every)
    wait_for(client, client.post(f"{opened}/many", json={"addresses": every, "act": "unmark"}).json())
    assert not any(one["marked"] for one in client.get(f"{opened}/edits").json())


# ---- the whole work


def _edit(client: TestClient, opened: str, address: str = SAIL) -> bytes:
    """Put an item in work; returns its picture with something painted on it."""
    (edit,) = client.post(f"{opened}/edits", json={"addresses": [address]}).json()
    assert (edit["state"], edit["file_exists"]) == ("waiting", True)
    sent = client.get(f"{opened}/edits/file", params={"address": address})
    assert sent.headers["content-type"] == "image/png"
    pixels = np.array(Image.open(io.BytesIO(sent.content)))
    pixels[100:150, 60:120, :3] = (10, 120, 200)
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "PNG")
    return stream.getvalue()


def test_the_work_over_http(client: TestClient, opened: str, game: Path) -> None:
    before = digests(game)
    painted = _edit(client, opened)
    answer = client.put(f"{opened}/edits/file", params={"address": SAIL, "name": "sail.png"}, content=painted)
    edit = answer.json()
    assert (edit["state"], edit["position"]) == ("ready", 1)
    assert edit["sheet"]["findings"] == []
    assert 0 < edit["details"]["blocks_kept"] < edit["details"]["blocks"]
    assert not np.array_equal(_picture(client, opened, which="edit"), _picture(client, opened))
    difference = _picture(client, opened, which="difference")
    assert difference[..., :3].any()
    assert not difference[:40, :, :3].any()
    item = client.get(f"{opened}/item", params={"address": SAIL}).json()
    assert (item["member"]["edit"], item["edit"]["details"]["recipe"]["packer"]) == (
        "ready",
        item["member"]["packer"],
    )
    plan = client.get(f"{opened}/plan").json()
    assert {file["way"] for file in plan["files"]} == {"patch"}
    job = wait_for(client, client.post(f"{opened}/build").json())
    assert (job["state"], job["result"]["edits"]) == ("done", [SAIL])
    assert client.get(f"{opened}/plan").json()["up_to_date"]
    assert client.get(f"{opened}/edits").json()[0]["built"]
    assert client.get(opened).json()["counts"] == {
        "members": 375,
        "in_work": 1,
        "attention": 0,
        "ready": 0,
        "built_files": 2,
    }
    trial = client.post(f"{opened}/trial").json()
    assert (trial["after"]["refused"], trial["after"]["placeholders"]) == (None, {})
    assert trial["after"]["scene"] != trial["before"]["scene"]
    assert client.delete(opened).json()["code"] == "read-only", "a changed game is not forgotten"
    assert wait_for(client, client.post(f"{opened}/restore", json={}).json())["result"]["files"]
    assert digests(game) == before
    assert [build["what"] for build in client.get(f"{opened}/builds").json()] == ["restore", "build"]
    assert (
        client.put(f"{opened}/edits/position", params={"address": SAIL}, json={"position": 0}).json()["state"]
        == "waiting"
    )
    assert client.delete(f"{opened}/edits", params={"address": SAIL}).status_code == 204
    assert client.get(f"{opened}/edits").json() == []
    assert client.delete(opened).status_code == 204
    assert client.get("/api/projects").json() == []


def test_builds_of_an_earlier_brae_are_listed(client: TestClient, workspace: Workspace, opened: str) -> None:
    """A member's label was called its level, in the plan and in those of archives inside."""
    numbers = {"stored_before": 9, "stored_after": 8, "real_before": 9, "real_after": 9, "slot": 16}
    member = {"level": "sail.ptx", **numbers}
    inside = {"address": "a//b", "title": "b", "way": "patch", "why": "it fits", "members": [member]}
    file = {"path": "a", "way": "patch", "why": "it fits", "size_before": 9, "size_after": 9}
    with workspace.database.change() as session:
        project = opened.rpartition("/")[2]
        files = [file | {"members": [member], "inside": [inside]}]
        session.add(Build(project_id=project, what="build", files=files, edits=[]))
    (build,) = client.get(f"{opened}/builds").json()
    told = [{"label": "sail.ptx", **numbers, "new": False}]
    assert build["files"][0]["members"] == told
    assert build["files"][0]["inside"][0]["members"] == told


def test_bad_uploads_keep_the_version_before(client: TestClient, opened: str) -> None:
    painted = _edit(client, opened)
    where = {"address": SAIL, "name": "x.png"}
    client.put(f"{opened}/edits/file", params=where, content=painted)
    for bad in (b"", b"not a picture", painted[:100]):
        assert client.put(f"{opened}/edits/file", params=where, content=bad).status_code == 422
    (edit,) = client.get(f"{opened}/edits").json()
    assert (edit["state"], edit["position"]) == ("ready", 1)


def test_jobs_are_cancelled_and_outlive_a_restart(
    client: TestClient, workspace: Workspace, game: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from brae.work import opening
    from brae.work import workspace as workspaces

    def slow(path: Path, tick: Any = None) -> str:
        for _ in range(200):
            time.sleep(0.02)
            ticker_of[0].tick(0)
        return "0" * 64

    ticker_of: list[Any] = []
    real = opening._Opening.__init__

    def init(self: Any, *arguments: Any) -> None:
        real(self, *arguments)
        ticker_of.append(self.ticker)

    monkeypatch.setattr(opening._Opening, "__init__", init)
    monkeypatch.setattr(workspaces, "file_hash", slow)
    job = client.post("/api/projects", json={"path": str(game)}).json()
    deadline = time.monotonic() + 60
    while client.get("/api/projects/skerry/members").json()["total"] < 375:
        assert time.monotonic() < deadline
        time.sleep(0.05)
    assert client.post(f"/api/jobs/{job['id']}/cancel").status_code == 202
    ended = wait_for(client, job)
    assert (ended["state"], ended["error"]["code"]) == ("cancelled", "cancelled")
    assert client.get("/api/projects/skerry/members").json()["total"] == 375, "what was listed stays"
    assert client.post(f"/api/jobs/{job['id']}/cancel").status_code == 404
    monkeypatch.undo()
    assert wait_for(client, client.post("/api/projects", json={"path": str(game)}).json())["state"] == "done"


def test_events_tell_of_progress(workspace: Workspace, game: Path) -> None:
    with workspace.events.listen() as listener:
        from brae.work.opening import open_game

        job, future = workspace.jobs.start("open", "Opening", lambda job: open_game(workspace, game, job))
        future.result(timeout=60)
        told = [listener.get(timeout=5) for _ in range(listener.qsize())]
    jobs = [event["job"] for event in told if event["kind"] == "job"]
    assert [jobs[0]["state"], jobs[1]["state"]] == ["waiting", "running"]
    assert jobs[-1]["state"] == "done"
    assert {"files", "members"} <= {job["unit"] for job in jobs}
    assert workspace.jobs.get(job.id)["result"]["members"] == 375


def test_browse_shows_every_file_and_what_it_seems_to_be(client: TestClient, game: Path) -> None:
    data = game / "data"
    found = client.get("/api/browse", params={"path": str(data)}).json()
    told = {entry["name"]: entry for entry in found["files"]}
    assert set(told) == {path.name for path in data.iterdir() if path.is_file()}
    assert all(entry["size"] == (data / name).stat().st_size for name, entry in told.items())
    archives = {name for name, entry in told.items() if entry["archive"]}
    assert archives == {"figures.bundle", "harbour.kist", "minis.hash", "streams.kist"}
    assert told["harbour.hold"]["seems"] == "begins with “HOLD”"
    assert (found["parent"], found["file"], found["left_out"]) == (str(game), None, 0)
    assert client.get("/api/browse", params={"path": "/no/such"}).status_code == 404
    assert client.get("/api/browse").json()["path"] == str(Path.home())


@pytest.mark.parametrize("form", ['"{}"', "'{}'", "  {}  ", "file://{}", "FILE://localhost{}"])
def test_a_path_is_taken_as_people_paste_it(client: TestClient, tmp_path: Path, form: str) -> None:
    folder = tmp_path / "my game"
    folder.mkdir()
    (folder / "one.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    path = str(folder) if "file" not in form.lower() else folder.as_uri().removeprefix("file://")
    assert client.get("/api/browse", params={"path": form.format(path)}).json()["path"] == str(folder)
    found = client.get("/api/browse", params={"path": form.format(f"{path}/one.png")}).json()
    assert (found["path"], found["file"]) == (str(folder), str(folder / "one.png"))
    assert found["files"][0]["seems"] == "PNG picture"


@pytest.mark.parametrize("path", ["games/skerry", "file://elsewhere/games", "~nobody-of-this-name/x"])
def test_what_is_no_path_of_this_computer_is_told(client: TestClient, path: str) -> None:
    answer = client.get("/api/browse", params={"path": path})
    assert answer.status_code == 404
    assert answer.json()["detail"]


def test_a_fault_of_brae_itself_reaches_the_person(workspace: Workspace) -> None:
    def broken(_: object) -> None:
        raise RuntimeError("odd")

    job, future = workspace.jobs.start("build", "Building", broken)
    future.result(timeout=10)
    error = workspace.jobs.get(job.id)["error"]
    assert error["code"] == "internal"
    assert "odd" in error["message"]


def test_two_braes_do_not_build_at_once(client: TestClient, opened: str, workspace: Workspace) -> None:
    with workspace.home.held("skerry", 1):
        with pytest.raises(InUseError), workspace.locked("skerry", wait=False):
            pass
        ended = wait_for(client, client.post(f"{opened}/restore", json={}).json())
        assert ended["error"]["code"] == "in-use"
        assert str(os.getpid()) in ended["error"]["message"], "it says which process it is"


# ---- files that nobody has described


def test_an_unknown_archive_becomes_one_like_the_others(client: TestClient, tmp_path: Path) -> None:
    folder = tmp_path / "isles"
    folder.mkdir()
    pair = BY_NAME["pair"]
    members = members_for(pair)
    files = pair.write(members)
    (folder / "harbour.idx").write_bytes(files["main"])
    (folder / "harbour.idx.bin").write_bytes(files["body"])
    (folder / "outside.txt").write_text("not an archive")
    job = wait_for(client, client.post("/api/projects", json={"path": str(folder)}).json())
    url = f"/api/projects/{job['result']['project']}"
    undescribed = client.get(url).json()["undescribed"]
    assert [entry["path"] for entry in undescribed] == ["harbour.idx.bin", "harbour.idx"]
    body = {"path": "harbour.idx", "data": "harbour.idx.bin"}
    job = wait_for(client, client.post(f"{url}/structure", json=body).json())
    assert (job["state"], job["error"]) == ("done", None)
    (found,) = client.get(f"{url}/structure").json()
    best = found["proposals"][0]
    assert (found["path"], best["members"], best["exact"]) == ("harbour.idx", len(members), True)
    kept = client.post("/api/layouts", json={"text": best["text"]})
    assert (kept.status_code, kept.json()) == (201, {"file": "idx.yaml"})
    assert client.post("/api/layouts", json={"text": best["text"]}).json() == {"file": "idx-2.yaml"}
    spaced = best["text"].replace("layout: idx", "layout:   idx")
    assert client.post("/api/layouts", json={"text": spaced}).json() == {"file": "idx-3.yaml"}
    wait_for(client, client.post(f"{url}/open").json())
    project = client.get(url).json()
    assert project["undescribed"] == []
    (archive,) = project["archives"]
    assert (archive["member_count"], archive["proof"]["exact"]) == (len(members), True)


def test_only_files_of_the_game_are_looked_into(client: TestClient, opened: str) -> None:
    for path in ("/etc/passwd", "../secret", "skerry.cfg"):
        job = wait_for(client, client.post(f"{opened}/structure", json={"path": path}).json())
        assert job["state"] == "failed"
        assert "waits for a description" in job["error"]["message"]
    refused = client.post("/api/layouts", json={"text": "layout: x\nparts: []"})
    assert refused.status_code == 422
    assert refused.json()["line"] == 1


def test_light_has_an_exposure_and_exact_values(client: TestClient, opened: str) -> None:
    address = "data/harbour.kist//textures/harbour/noon.dds"
    sky = client.get(f"{opened}/members", params={"q": "noon.dds"}).json()["items"][0]
    address = sky["address"]
    assert sky["facts"]["format"] == "bc6h"

    def seen(**more: Any) -> np.ndarray:
        answer = client.get(f"{opened}/preview", params={"address": address, **more})
        return np.asarray(Image.open(io.BytesIO(answer.content)))

    assert seen(exposure=-6)[..., :3].mean() < seen()[..., :3].mean() < seen(exposure=3)[..., :3].mean()
    place = client.get(f"{opened}/texture/pixel", params={"address": address, "x": 179, "y": 38}).json()
    assert place["values"][0] > 10, "the sun is far brighter than white"
    outside = client.get(f"{opened}/texture/pixel", params={"address": address, "x": 999, "y": 0})
    assert outside.status_code == 404


def test_an_edit_is_encoded_by_choice_and_its_cost_shown(client: TestClient, opened: str) -> None:
    address = client.get(f"{opened}/members", params={"q": "boat/sail"}).json()["items"][0]["address"]
    edit = client.post(f"{opened}/edits", json={"addresses": [address]}).json()[0]
    assert {"bc1", "bc7", "bgra8"} <= set(edit["details"]["formats"])
    item = {"address": address}
    assert (
        client.put(f"{opened}/edits/choices", params=item, json={"choices": {"effort": "high"}}).status_code == 404
    )
    painted = np.asarray(Image.open(edit["file"])).copy()
    painted[40:90, 60:120, :3] = np.random.default_rng(3).integers(0, 256, (50, 60, 3))
    stream = io.BytesIO()
    Image.fromarray(painted).save(stream, "PNG")
    edit = client.put(f"{opened}/edits/file", params=item, content=stream.getvalue()).json()
    cost = edit["details"]["quality"]
    assert cost["psnr"] < 60
    assert 36 <= cost["worst"][1] < 92
    heat = client.get(f"{opened}/preview", params={**item, "which": "heat"})
    hot = np.asarray(Image.open(io.BytesIO(heat.content)))[..., :3].sum(axis=2)
    assert hot[42:88, 62:118].mean() > hot[:36].mean() == 60
    finer = client.put(f"{opened}/edits/choices", params=item, json={"choices": {"format": "bc7"}}).json()
    assert finer["details"]["choices"]["format"] == "bc7"
    assert finer["details"]["quality"]["psnr"] > cost["psnr"]
    assert "other-format" in {finding["id"] for finding in finer["sheet"]["findings"]}
    fewer = client.put(f"{opened}/edits/choices", params=item, json={"choices": {"levels": 1}}).json()
    said = {finding["id"]: finding["title"] for finding in fewer["sheet"]["findings"]}
    assert said["other-levels"].startswith("Stored with no mip levels by your choice, the original has ")
    client.put(f"{opened}/edits/choices", params=item, json={"choices": {"format": "bc7"}})
    assert (
        client.put(f"{opened}/edits/choices", params=item, json={"choices": {"format": "rgb565"}}).status_code
        == 422
    )
    again = client.put(f"{opened}/edits/choices", params=item, json={"choices": {}}).json()
    assert again["details"]["quality"] == cost
    back = client.put(f"{opened}/edits/position", params=item, json={"position": 2}).json()
    assert back["details"]["choices"]["format"] == "bc7"


GRAIN = "data/harbour.kist//textures/grain/wood_00.raw"


def test_pixels_without_a_header_become_textures_with_their_siblings(client: TestClient, opened: str) -> None:
    assert client.get(f"{opened}/members", params={"q": "grain", "where": "kind:texture"}).json()["total"] == 0
    guesses = f"{opened}/texture/guesses"
    found = client.get(guesses, params={"address": GRAIN}).json()
    assert found["size"] == sum(max(1, side // 4) ** 2 * 8 for side in (128, 64, 32, 16, 8, 4, 2, 1))
    best = found["guesses"][0]
    assert (best["format"], best["width"], best["height"], best["levels"]) == ("bc1", 128, 128, 8)
    shown = client.get(f"{guesses}/preview", params={"address": GRAIN, "guess": json.dumps(best), "fit": 64})
    assert Image.open(io.BytesIO(shown.content)).size == (64, 64)
    wrong = json.dumps(best | {"width": 4096, "height": 4096})
    refused = client.get(f"{guesses}/preview", params={"address": GRAIN, "guess": wrong})
    assert "follow the header" in refused.json()["detail"]
    assert "no guess" in client.get(f"{guesses}/preview", params={"address": GRAIN, "guess": "[]"}).json()["detail"]
    kept = client.post(guesses, json={"address": GRAIN, "guess": best, "title": "Wood grain"}).json()
    assert kept == {"file": "wood-grain.yaml"}
    assert wait_for(client, client.post(f"{opened}/open").json())["state"] == "done"
    siblings = client.get(f"{opened}/members", params={"q": "grain", "where": "kind:texture"}).json()
    assert siblings["total"] == 4
    painted = _edit(client, opened, GRAIN)
    answer = client.put(f"{opened}/edits/file", params={"address": GRAIN, "name": "a.png"}, content=painted).json()
    assert answer["state"] == "ready"
    built = wait_for(client, client.post(f"{opened}/build").json())
    assert built["state"] == "done"


def test_test_colours_come_and_go(client: TestClient, opened: str) -> None:
    cliff = "data/harbour.kist//textures/rock/cliff.pts"
    for mark in ("flat", "checker", "levels"):
        made = client.put(f"{opened}/edits/test-colours", json={"addresses": [SAIL, cliff], "mark": mark}).json()
        assert [one["marked"] for one in made] == [True, True]
        assert made[0]["steps"][-1]["what"].startswith("test colours")
    colours = set()
    for level in range(4):
        picture = client.get(f"{opened}/preview", params={"address": cliff, "which": "edit", "level": level})
        colours.add(Image.open(io.BytesIO(picture.content)).convert("RGB").getpixel((20, 20)))
    assert len(colours) == 4, "each level has a colour of its own"
    assert len(made[1]["beside"]) == 9
    back = client.put(f"{opened}/edits/test-colours", json={"addresses": [SAIL, cliff], "mark": None}).json()
    assert [(one["marked"], one["position"]) for one in back] == [(False, 0), (False, 0)]
    assert client.get(f"{opened}/edits").json() == []


def test_a_level_comes_and_goes_over_http(client: TestClient, opened: str) -> None:
    client.post(f"{opened}/edits", json={"addresses": [SAIL]})
    where = {"address": SAIL, "part": 1}
    level = client.get(f"{opened}/preview", params={"address": SAIL, "level": 1}).content
    pixels = np.array(Image.open(io.BytesIO(level)))
    pixels[:16, :16, :3] = 0
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "PNG")
    made = client.put(
        f"{opened}/edits/beside", params=where | {"name": "mine.png"}, content=stream.getvalue()
    ).json()
    assert made["beside"] == {"1": "mine.png"}
    assert made["details"]["own_mips"] == {"1": "mine.png"}
    assert made["state"] == "ready"
    refused = client.put(f"{opened}/edits/beside", params={"address": SAIL, "part": 2}, content=stream.getvalue())
    assert "the dimensions of level 2" in refused.json()["expected"]
    assert client.put(f"{opened}/edits/beside", params=where, content=b"").json()["state"] == "same"


def test_parts_of_a_picture_make_up_the_whole(client: TestClient, opened: str) -> None:
    cliff = {"address": "data/harbour.kist//textures/rock/cliff.pts"}

    def picture(**more: object) -> np.ndarray[Any, Any]:
        answer = client.get(f"{opened}/preview", params=cliff | more)
        assert answer.status_code == 200, answer.text
        return np.asarray(Image.open(io.BytesIO(answer.content)))

    whole = picture()
    for left in (0, 256):
        for top in (0, 256):
            part = picture(tile=f"{left},{top},256,1")
            assert np.array_equal(part, whole[top : top + 256, left : left + 256])
    assert picture(tile="300,300,512,1").shape == (212, 212, 4)
    assert np.array_equal(picture(tile="0,0,256,2"), picture(level=1))
    assert picture(tile="3,0,8,2").shape == (8, 8, 4), "where no level has the same part, the pixels are averaged"
    beyond = client.get(f"{opened}/preview", params=cliff | {"tile": "512,0,256,1"})
    assert (beyond.status_code, beyond.json()["expected"]) == (404, "512 x 512")


def test_texels_a_unit(client: TestClient, opened: str) -> None:
    """The wall of 128 units that at a scale of 0.25, which is 4 texels a unit, wants 512 (common practice)."""
    wall = {"address": SAIL, "world": 128, "wanted": 4}
    found = client.get(f"{opened}/texture/texels", params=wall).json()
    assert found == {"per_unit": 2, "scale": 0.5, "across": 128, "side": 512}
    assert client.get(f"{opened}/texture/texels", params=wall | {"world": 64}).json()["scale"] == 0.25
    assert client.get(f"{opened}/texture/texels", params=wall | {"world": 0}).status_code == 422
    text = {"address": "data/harbour.kist//texts/letters/00.txt"}
    assert "no texture" in client.get(f"{opened}/texture/texels", params=wall | text).json()["detail"]


def test_maps_of_a_surface_and_their_channels(client: TestClient, opened: str) -> None:
    wear = "data/harbour.kist//textures/boat/hull_wear.ptx"
    maps = client.get(f"{opened}/texture/maps", params={"address": wear}).json()
    assert [(one["name"], one["role"]) for one in maps] == [
        ("textures/boat/hull.ptx", "colour"),
        ("textures/boat/hull_wear.ptx", None),
    ]
    for archive in ("addons/lantern", "data/harbour"):
        copies = client.get(
            f"{opened}/texture/maps", params={"address": f"{archive}.kist//textures/signs/mossbay.ptx"}
        )
        assert [one["address"].partition(".kist")[0] for one in copies.json()] == [archive], "copies are no maps"
    assert maps[1]["channels"] == {"r": "roughness", "g": "metallic", "b": "occlusion"}
    client.post(f"{opened}/edits", json={"addresses": [wear]})
    before = np.asarray(Image.open(io.BytesIO(client.get(f"{opened}/preview", params={"address": wear}).content)))
    where = {"address": wear, "channel": "g"}
    grey = client.get(f"{opened}/preview", params={"address": wear, "channels": "g", "exact": True})
    assert np.array_equal(np.asarray(Image.open(io.BytesIO(grey.content)).convert("L")), before[..., 1])
    made = client.put(f"{opened}/texture/channel", params=where | {"invert": True}, content=b"").json()
    assert made["steps"][-1]["what"] == "G inverted"
    painted = client.get(f"{opened}/preview", params={"address": wear, "which": "painted"}).content
    inverted = np.asarray(Image.open(io.BytesIO(painted)))
    assert np.array_equal(inverted[..., 1], 255 - before[..., 1])
    assert np.array_equal(inverted[..., [0, 2, 3]], before[..., [0, 2, 3]])
    back = client.put(
        f"{opened}/texture/channel", params=where, headers={"X-File-Name": "g.png"}, content=grey.content
    ).json()
    assert (back["steps"][-1]["what"], back["state"]) == ("G from g.png", "same")
    stream = io.BytesIO()
    Image.new("L", (8, 8)).save(stream, "PNG")
    refused = client.put(
        f"{opened}/texture/channel", params=where, headers={"X-File-Name": "s.png"}, content=stream.getvalue()
    )
    assert "different dimensions" in refused.json()["detail"]


def test_roughness_follows_a_normal_map_in_the_levels_alone(client: TestClient, opened: str) -> None:
    wear = "data/harbour.kist//textures/boat/hull_wear.ptx"
    client.post(f"{opened}/edits", json={"addresses": [wear]})
    swell = {"address": "data/harbour.kist//textures/water/swell_n.ptx", "exact": True}
    normals = client.get(f"{opened}/preview", params=swell).content
    where = {"address": wear, "part": "r:roughness", "name": "swell_n.png"}
    made = client.put(f"{opened}/edits/beside", params=where, content=normals).json()
    assert made["steps"][-1]["what"] == "roughness in R follows: swell_n.png"
    assert made["beside"] == {"r:roughness": "swell_n.png"}

    def level(number: int, which: str) -> np.ndarray:
        query = {"address": wear, "level": number, "which": which}
        picture = Image.open(io.BytesIO(client.get(f"{opened}/preview", params=query).content))
        return np.asarray(picture).astype(float)

    # What is rough gets rougher; metal and shadow stay as numbers that are averaged.
    plain = level(0, "original").reshape(8, 16, 16, 16, -1).mean(axis=(1, 3))
    assert level(4, "edit")[..., 0].mean() > plain[..., 0].mean() + 2
    assert np.abs(level(4, "edit") - plain)[..., 1:3].mean() < 3
    gone = client.put(f"{opened}/edits/beside", params=where, content=b"").json()
    assert (gone["steps"][-1]["what"], gone["beside"]) == ("the levels of roughness in R worked out again", {})
    refused = client.put(f"{opened}/edits/beside", params=where | {"part": "r:gloss"}, content=normals)
    assert "no part" in refused.json()["detail"]


@pytest.mark.parametrize("act", ["export", "import"])
@pytest.mark.parametrize("folder", ["~nobody-of-that-name/mods", "mods", ""])
def test_folders_that_cannot_be_are_refused_in_words(
    client: TestClient, opened: str, act: str, folder: str
) -> None:
    answer = client.post(f"{opened}/{act}", json={"folder": folder})
    assert (answer.status_code, answer.json()["code"]) == (404, "not-found")
