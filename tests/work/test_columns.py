"""The catalogue in memory says what the database says, whatever happens to it meanwhile."""

from __future__ import annotations

import json
import random
import re
import sqlite3
import zipfile
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import delete, insert, select, update

from brae.core.errors import FormatError
from brae.store.models import ArchiveRow, Member, Project
from brae.work import Workspace, columns
from brae.work.columns import Search
from brae.work.opening import open_game

BLOCKS = ["bc1", "bc3", "bc7"]
FORMATS = [*BLOCKS, "bgra8"]


def _rows(project: str, archive: int, numbers: range) -> list[dict[str, object]]:
    chance = random.Random(numbers.start)
    rows = []
    for number in numbers:
        width = 2 ** chance.randrange(3, 10)
        kind = chance.choice(["texture", "texture", "sound", "data"])
        facts = {"width": width, "format": chance.choice(FORMATS)} if kind == "texture" else {}
        rows.append(
            {
                "project_id": project, "archive_id": archive, "number": number, "kind": kind, "name": f"n{number}",
                "address": f"a.zip//f{number % 7}/n{number:05}.ptx", "folder": f"f{number % 7}", "container": "dds",
                "packer": "none", "stored": width, "real": width * 3, "facts": facts,
            }
        )  # fmt: skip
    return rows


@pytest.fixture
def project(workspace: Workspace) -> str:
    """A project with a thousand members of no archive."""
    with workspace.database.change() as session:
        session.add(Project(id="p", name="p", folder="/nowhere"))
        session.flush()
        row = ArchiveRow(project_id="p", address="a.zip", title="a", files={})
        session.add(row)
        session.flush()
        session.execute(insert(Member), _rows("p", row.id, range(1000)))
    return "p"


def _wanted(workspace: Workspace, condition: object) -> list[str]:
    with workspace.database.session() as session:
        query = select(Member).where(Member.project_id == "p").order_by(Member.address)
        return [member.address for member in session.scalars(query) if condition(member)]  # type: ignore[operator]


def _found(workspace: Workspace, search: Search, order: str = "name") -> list[str]:
    held = workspace.catalogues.of("p")
    return [held.addresses[place] for place in held.ordered(order, held.fitting(search)).tolist()]


def test_searches_find_what_the_rows_say(workspace: Workspace, project: str) -> None:
    cases = [
        (Search("n0001"), lambda m: "n0001" in m.address),
        (Search("f3 n*7.ptx"), lambda m: m.folder == "f3" and m.address.endswith("7.ptx")),
        (Search("width>=256 format=bc?"), lambda m: m.facts.get("width", 0) > 255 and m.facts["format"] in BLOCKS),
        (Search("format!=bc1"), lambda m: m.facts.get("format") not in (None, "bc1")),
        (Search("bytes<100 kind=texture"), lambda m: m.real < 100 and m.kind == "texture"),
        (Search("kind:texture width:>=256"), lambda m: m.kind == "texture" and m.facts["width"] >= 256),
        (Search("size:<0.1k width:8..64"), lambda m: m.real < 102 and 8 <= m.facts.get("width", 0) <= 64),
        (Search("-f3 -kind:texture"), lambda m: m.folder != "f3" and m.kind != "texture"),
        (Search('/n0+1[2-5]\\d*\\.PTX$/'), lambda m: re.search("/n0+1[2-5][0-9]*.ptx$", m.address)),
        (Search('"zip//f1/n" archive:a.z'), lambda m: m.folder == "f1"),
        (Search("archive:other"), lambda m: False),
        (Search("unknown=3"), lambda m: "unknown=3" in m.address),
        (Search(where={"kind": ["sound", "data"]}), lambda m: m.kind in ("sound", "data")),
        (Search("kind=texture", {"format": ["bc1", "bc7"]}), lambda m: m.facts.get("format") in BLOCKS[::2]),
        (Search(folder="f2"), lambda m: m.folder == "f2"),
        (Search(folder="f"), lambda m: False),
    ]  # fmt: skip
    for search, condition in cases:
        assert _found(workspace, search) == _wanted(workspace, condition), search
    for words in ("width=wide", "format>bc1", "width:8..wide", "/n(0/", "width:>8..9", "uses:x"):
        with pytest.raises(FormatError):
            _found(workspace, Search(words))


def test_words_find_what_full_text_search_finds(workspace: Workspace, project: str) -> None:
    """Against SQLite's FTS5 (its trigram index finds parts of words too), one word and two."""
    held = workspace.catalogues.of("p")
    table = sqlite3.connect(":memory:")
    table.execute("CREATE VIRTUAL TABLE paths USING fts5(path, tokenize='trigram')")
    table.executemany("INSERT INTO paths VALUES (?)", [(one,) for one in held.addresses])
    chance, found = random.Random(5), 0
    for number in range(60):
        words = []
        for _ in range(1 + number % 2):
            path = chance.choice(held.addresses)
            start = chance.randrange(len(path) - 4)
            word = path[start : start + chance.randrange(3, 8)]
            words.append(word.upper() if chance.random() < 0.3 else word)
        match = " AND ".join(f'"{word}"' for word in words)
        rows = table.execute("SELECT path FROM paths WHERE paths MATCH ? ORDER BY path", (match,))
        wanted = [path for (path,) in rows]
        assert _found(workspace, Search(" ".join(f'"{word}"' for word in words))) == wanted, words
        found += len(wanted)
    assert found > 60


def test_what_is_edited_and_what_is_not(workspace: Workspace, project: str) -> None:
    held = workspace.catalogues.of("p")
    states = {held.addresses[3]: "ready", held.addresses[5]: "attention"}
    for words, wanted in {"edited:yes": {3, 5}, "edited:ready": {3}, "-edited:no": {3, 5}}.items():
        assert set(np.flatnonzero(held.fitting(Search(words), states))) == wanted, words
    assert held.fitting(Search("edited:no"), states).sum() == 998


def test_a_misspelt_word_is_read_as_the_nearest_one(workspace: Workspace, project: str) -> None:
    with workspace.database.change() as session:
        session.execute(update(Member).where(Member.number == 7).values(address="a.zip//f0/lighthouse.ptx"))
        session.execute(update(Project).values(listing=9))
    held = workspace.catalogues.of("p")
    for word in ("lighthose", "Lihgthouse", "lighthousse"):
        search = Search(word)
        assert _found(workspace, search) == ["a.zip//f0/lighthouse.ptx"]
        assert held.read_as(search) == {word: ["lighthouse"]}
    assert not _found(workspace, Search("lamp"))
    assert not held.read_as(Search("lamp"))
    assert not held.read_as(Search("lighthouse"))


def test_what_no_item_can_fit_is_said_in_words(workspace: Workspace, project: str) -> None:
    held = workspace.catalogues.of("p")
    assert held.puzzling(Search("edited:redy")) == [
        "No edit is 'redy'; there are yes, no, waiting, ready, attention, same."
    ]
    assert held.puzzling(Search("edited:Ready edited:no -edited:redy")) == []
    assert held.puzzling(Search("formta:bc1")) == ["There is no condition 'formta'; did you mean 'format'?"]
    (unknown,) = held.puzzling(Search("qqqq:5"))
    assert "'qqqq'" in unknown
    assert ", width" in unknown
    (nothing,) = held.puzzling(Search("format:bc9 width:>100000"))
    assert nothing.startswith("Nothing has format:bc9; there are bc1, ")
    for words in (
        "format:bc1 width:>100000",
        "format!=bc9",
        "-format:bc9",
        "-qqqq:5",
        "n0001",
        "edited:yes",
        "kind:sound",
    ):
        assert held.puzzling(Search(words)) == [], words


def test_orders_and_counts(workspace: Workspace, project: str) -> None:
    held = workspace.catalogues.of("p")
    every = np.ones(len(held), bool)
    for order in columns.orders():
        places = held.ordered(order, every)
        assert sorted(places.tolist()) == list(range(1000)), order
    sizes = held.numbers("bytes")[held.ordered("bytes", every)]
    assert (np.diff(sizes) <= 0).all()
    assert sum(number for _, number in held.counts("kind", every)) == 1000
    counted = dict(held.counts("format", held.fitting(Search(where={"kind": ["texture"]}))))
    assert counted == {
        name: len(_wanted(workspace, lambda m, n=name: m.facts.get("format") == n)) for name in FORMATS
    }


def test_every_fact_orders_both_ways(workspace: Workspace, project: str) -> None:
    """What does not have the fact comes last in either direction; all others stand the other way round."""
    held = workspace.catalogues.of("p")
    every = np.ones(len(held), bool)
    for order in columns.sortable():
        there, back = held.ordered(order, every).tolist(), held.ordered(f"-{order}", every).tolist()
        assert sorted(back) == list(range(1000)), order
        if order not in ("width", "format", "dimensions", "pixels"):
            continue
        fact = "width" if order in ("width", "dimensions", "pixels") else "format"
        has = {number for number in range(1000) if fact in held._facts[held._codes["facts"][number]]}
        if order in ("width", "format"):
            assert [number for number in there if number in has][::-1] == back[: len(has)]
            assert set(there[: len(has)]) == set(back[: len(has)]) == has


def test_what_can_be_edited_and_the_next_name(workspace: Workspace, project: str) -> None:
    held = workspace.catalogues.of("p")
    editable = [held.addresses[place] for place in np.flatnonzero(held.editable())]
    assert sorted(editable) == _wanted(workspace, lambda m: m.kind in ("texture", "sound"))
    with workspace.database.change() as session:
        session.execute(update(Member).where(Member.number == 7).values(container=None, kind="texture"))
        session.execute(update(Project).values(listing=9))
    held = workspace.catalogues.of("p")
    assert not held.editable()[[held.addresses.index(one) for one in held.addresses if "n00007" in one]].any()
    places = held.ordered("name", np.ones(1000, bool))
    names = [held.addresses[place].rpartition("/")[2] for place in places.tolist()]
    for starts, after in [("n0004", -1), ("N0004", 500), ("n00999", 3), ("n", 999)]:
        found = held.next_named(places, starts, after)
        order = [(after + step) % 1000 for step in range(1, 1001)]
        assert found == next(number for number in order if names[number].startswith(starts.lower()))
    assert held.next_named(places, "zzz", 0) is None


def test_what_is_added_changed_or_gone_is_seen(workspace: Workspace, project: str) -> None:
    assert len(workspace.catalogues.of("p")) == 1000
    before = workspace.catalogues.of("p")
    assert workspace.catalogues.of("p") is before, "nothing changed, so nothing is read"
    with workspace.database.change() as session:
        archive = session.scalars(select(ArchiveRow)).one()
        session.execute(insert(Member), _rows("p", archive.id, range(1000, 1500)))
    assert len(workspace.catalogues.of("p")) == 1500
    assert len(before) == 1000, "who looks at it goes on with what they have"
    with workspace.database.change() as session:
        session.execute(delete(Member).where(Member.number < 100))
        session.execute(update(Project).values(listing=Project.listing + 1))
    assert len(workspace.catalogues.of("p")) == 1400
    assert _found(workspace, Search()) == _wanted(workspace, lambda m: True)


def test_a_game_opened_again_with_another_file_is_listed_as_it_is(workspace: Workspace, tmp_path: Path) -> None:
    game = tmp_path / "p"
    game.mkdir()

    def pack(*names: str) -> None:
        with zipfile.ZipFile(game / "a.zip", "w") as archive:
            for name in names:
                archive.writestr(name, f"text of {name}")

    pack("one.txt", "two.txt")
    open_game(workspace, game)
    assert _found(workspace, Search()) == ["a.zip//one.txt", "a.zip//two.txt"]
    pack("three.txt")
    open_game(workspace, game)
    assert _found(workspace, Search()) == ["a.zip//three.txt"]
    facts = workspace.find("p", "a.zip//three.txt").member.facts
    assert json.dumps(facts) == '{"encoding": "utf-8", "ends": "none"}'
    with workspace.database.change() as session:
        session.execute(delete(Project))
    pack("four.txt")
    open_game(workspace, game)
    assert _found(workspace, Search()) == ["a.zip//four.txt"], "the same name and the same numbers, another project"
