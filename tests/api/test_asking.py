"""Searches with conditions on what items say of each other, links, lines and kept searches over HTTP."""

from __future__ import annotations

import threading

import pytest
from starlette.testclient import TestClient

from brae.core.errors import CancelledError
from brae.work import linking
from tests.api.test_api import client, opened  # noqa: F401

KEEPER = "data/figures.bundle//figures/keeper.ptx"
MATERIAL = "data/figures.bundle//materials/keeper.txt"


def _found(client: TestClient, opened: str, q: str) -> set[str]:  # noqa: F811
    answer = client.get(f"{opened}/members", params={"q": q, "limit": 1000})
    assert answer.status_code == 200, answer.text
    return {one["address"] for one in answer.json()["items"]}


def test_a_material_leads_to_its_texture_and_back(client: TestClient, opened: str) -> None:  # noqa: F811
    there = client.get(f"{opened}/links", params={"address": MATERIAL}).json()
    assert [(one["target"], one["how"], one["line"]) for one in there["needs"]] == [
        (KEEPER, "path", "colour = figures/keeper")
    ]
    back = client.get(f"{opened}/links", params={"address": KEEPER}).json()
    assert [one["owner"] for one in back["used_by"]] == [MATERIAL]
    assert there["missing"] == back["missing"] == []
    assert client.get(f"{opened}/links", params={"address": "nothing"}).status_code == 404


def test_searches_ask_what_items_say_of_each_other(client: TestClient, opened: str) -> None:  # noqa: F811
    assert _found(client, opened, "uses:figures/keeper.ptx") == {MATERIAL}
    assert _found(client, opened, "used-by:materials/keeper") == {KEEPER}
    assert KEEPER not in _found(client, opened, "unused:yes kind:texture")
    assert KEEPER in _found(client, opened, "-unused:yes kind:texture")
    assert _found(client, opened, "missing:yes") == set()
    assert _found(client, opened, 'text:"colour figures/keeper"') == {MATERIAL}
    facets = client.get(f"{opened}/facets", params={"q": "text:figures/keeper"}).json()
    assert facets["facets"][0]["values"] == [{"value": "material", "count": 1}]
    counted = client.get(f"{opened}/lines", params={"words": "FIGURES/keeper", "address": MATERIAL}).json()
    assert [one["line"] for one in counted] == ["colour = figures/keeper"]
    assert client.get(f"{opened}/lines", params={"words": "FIGURES/keeper", "address": KEEPER}).json() == []


@pytest.mark.parametrize("q", ["/(/", "width:many", "a " * 60])
def test_what_cannot_be_asked_is_told(client: TestClient, opened: str, q: str) -> None:  # noqa: F811
    answer = client.get(f"{opened}/members", params={"q": q})
    assert answer.status_code in (413, 422)
    assert answer.json()["detail"]


def test_a_misspelt_word_says_what_it_is_read_as(client: TestClient, opened: str) -> None:  # noqa: F811
    said = client.get(f"{opened}/members", params={"q": "lightouse"}).json()
    assert (said["total"], said["read_as"]) == (3, {"lightouse": ["lighthouse"]})
    assert client.get(f"{opened}/members", params={"q": "lighthouse"}).json()["read_as"] == {}


def test_searches_are_kept_newest_first(client: TestClient, opened: str) -> None:  # noqa: F811
    def keep(query: str, *, kept: bool = True) -> list[str]:
        answer = client.put(f"{opened}/searches", json={"query": query, "kept": kept})
        assert answer.status_code == 204
        searches: list[str] = client.get(opened).json()["searches"]
        return searches

    assert keep("q=boat") == ["q=boat"]
    assert keep("where=kind%3Atexture") == ["where=kind%3Atexture", "q=boat"]
    assert keep("q=boat") == ["q=boat", "where=kind%3Atexture"]
    for number in range(60):
        found = keep(f"q={number}")
    assert (len(found), found[0]) == (50, "q=59")
    assert keep("q=59", kept=False)[0] == "q=58"


def test_what_is_still_being_read_is_said_and_then_there(
    client: TestClient,  # noqa: F811
    opened: str,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Of a game with very many texts a request waits for a moment only; one job reads them for all who ask."""
    go = threading.Event()
    read = linking.linked
    monkeypatch.setattr(linking, "_A_MOMENT", 0.05)
    monkeypatch.setattr(linking, "linked", lambda *arguments: go.wait(60) and read(*arguments))
    for _ in range(3):
        assert client.get(f"{opened}/links", params={"address": MATERIAL}).json()["ready"] is False
        waiting = client.get(f"{opened}/members", params={"q": "text:lamp"})
        assert (waiting.status_code, waiting.json()["code"]) == (409, "waiting")
    jobs = [one for one in client.get("/api/jobs").json() if one["kind"] in ("links", "texts")]
    assert sorted(one["kind"] for one in jobs) == ["links", "texts"]
    go.set()
    monkeypatch.setattr(linking, "_A_MOMENT", 60)
    assert client.get(f"{opened}/links", params={"address": MATERIAL}).json()["ready"] is True
    assert _found(client, opened, "text:figures/keeper") == {MATERIAL}


def test_a_reading_that_was_cancelled_is_not_begun_again(
    client: TestClient,  # noqa: F811
    opened: str,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def cancelled(*_: object) -> None:
        raise CancelledError("Cancelled.")

    monkeypatch.setattr(linking, "links_of", cancelled)
    for _ in range(2):
        assert client.get(f"{opened}/links", params={"address": MATERIAL}).json()["ready"] is False
    jobs = [one for one in client.get("/api/jobs").json() if one["kind"] == "links"]
    assert [one["state"] for one in jobs] == ["cancelled"]
    said = client.get(f"{opened}/members", params={"q": "unused:yes"}).json()
    assert "could not be read to the end" in said["detail"], "nobody waits for what will not come"


def test_room_for_alpha_is_asked_for_and_a_value_that_nothing_has_is_told(client: TestClient, opened: str) -> None:  # noqa: F811
    every = {one: _found(client, opened, f"alpha:{one}") for one in ("none", "one-bit", "soft")}
    assert all(every.values())
    assert set.union(*every.values()) == _found(client, opened, "kind:texture")
    assert every["one-bit"] == _found(client, opened, "format:bc1")
    said = client.get(f"{opened}/members", params={"q": "alpha:yes"}).json()
    assert said["puzzling"] == ["Nothing has alpha:yes; there are none, one-bit, soft."]
    assert client.get(f"{opened}/members", params={"q": "alpha:soft"}).json()["puzzling"] == []
