"""A hundred thousand items as quick as a hundred: listing, opening again, pages, facets, orders and searches.

``python -m benchmarks.scale FOLDER`` lists a folder in a process of its own and prints what it took, as JSON.
"""

from __future__ import annotations

import json
import re
import struct
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache, partial
from itertools import cycle
from pathlib import Path
from typing import Any

import numpy as np
from fastapi.testclient import TestClient
from PIL import Image
from sqlalchemy import create_engine, event, insert, select

from benchmarks.report import best, in_turn, report
from brae.api.app import create_app
from brae.core.assets.base import Context
from brae.core.assets.registry import kinds
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.build.journal import file_hash
from brae.core.containers.described import Archive
from brae.core.containers.nesting import open_path
from brae.core.layouts.library import Library
from brae.demo import LAYOUTS, desktop
from brae.store import Home
from brae.store.models import Base, Member
from brae.work import Workspace, archives, opening, sending
from brae.work.columns import Search
from brae.work.edits import put_in_work

MANY, PACKED, MILLION = 100_000, 12_000, 1_000_000


@cache
def _pictures() -> list[bytes]:
    """Thumbnails of the kind that games have by the thousand; not made where a folder is only listed."""
    return [
        desktop.ptx(
            np.random.default_rng(k).integers(0, 255, (8 << k % 3, 8, 4), dtype=np.uint8), name, None, stamp=0
        )
        for k, name in enumerate(["bc1", "bc3", "bgra8"] * 6)
    ]


def _members(many: int) -> Iterator[tuple[str, bytes]]:
    pictures = _pictures()
    for number in range(many):
        data = bytearray(pictures[number % len(pictures)])
        data[16:20] = struct.pack("<I", number)
        yield f"tiles/{number % 97:02d}/tile_{number:06d}.ptx", bytes(data)


def _list(folder: Path) -> dict[str, float]:
    """What listing a folder takes, until all is known of its members (their proof goes on behind), and again."""
    figures: dict[str, float] = {}
    with tempfile.TemporaryDirectory(prefix="brae-bench-home-") as home:
        workspace = Workspace(Home(Path(home)))
        started = time.perf_counter()
        told, proved = workspace.events.publish, archives.Archives.prove

        def publish(kind: str, **words: Any) -> None:
            if kind == "catalogue":
                figures.setdefault("first", time.perf_counter() - started)
            told(kind, **words)

        def prove(self: Any, one: Any) -> None:
            figures.setdefault("listed", time.perf_counter() - started)
            proved(self, one)

        workspace.events.publish, archives.Archives.prove = publish, prove  # type: ignore[method-assign]
        project = opening.open_game(workspace, folder)["project"]
        figures["proved"] = time.perf_counter() - started
        figures["peak"] = _peak()
        workspace.close()
        # As after a new start of Brae.
        workspace = Workspace(Home(Path(home)))
        started = time.perf_counter()
        opening.open_game(workspace, folder)
        assert len(workspace.catalogues.of(project))
        figures["again"] = time.perf_counter() - started
        workspace.close()
    return figures


def _peak() -> float:
    """MiB of memory that this process had at most; not what the one before it had (as ``ru_maxrss`` says)."""
    status = Path("/proc/self/status").read_text()
    return int(re.findall(r"VmHWM:\s+(\d+) kB", status)[0]) / 1024


def _listed(folder: Path) -> dict[str, float]:
    """The same, measured in a process of its own: its memory is that of the listing alone."""
    command = [sys.executable, "-m", "benchmarks.scale", str(folder)]
    found: dict[str, float] = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
    return found


def _plain_rows(path: Path) -> float:
    """Seconds for hashing a file and writing as many plain rows, of the same table, as it has members."""
    with tempfile.TemporaryDirectory(prefix="brae-bench-rows-") as folder:
        engine = create_engine(f"sqlite:///{folder}/rows.db")
        Base.metadata.create_all(engine)
        row = {
            "project_id": "p", "archive_id": 1, "folder": "tiles", "kind": "texture", "container": "dds",
            "packer": "none", "stored": 200, "real": 200, "facts": {}, "parts": [],
        }  # fmt: skip
        rows = [
            row | {"number": number, "address": f"many.zip//{name}", "name": name}
            for number, (name, _) in enumerate(_members(MANY))
        ]
        started = time.perf_counter()
        file_hash(path)
        with engine.begin() as connection:
            connection.execute(insert(Member), rows)
        seconds = time.perf_counter() - started
        engine.dispose()
    return seconds


@contextmanager
def _pages(folder: Path) -> Iterator[tuple[TestClient, str, Workspace]]:
    with tempfile.TemporaryDirectory(prefix="brae-bench-home-") as home:
        workspace = Workspace(Home(Path(home)))
        project = opening.open_game(workspace, folder)["project"]
        app = create_app(workspace, watch=False, secret="bench")
        with TestClient(app, base_url="http://127.0.0.1:8716") as client:
            client.headers["authorization"] = "Bearer bench"
            yield client, f"/api/projects/{project}", workspace


def run(folder: Path) -> None:
    """All lines of this part."""
    folder.mkdir(exist_ok=True)
    many = folder / "scale"
    many.mkdir()
    desktop.write_pair(many, "many", list(_members(MANY)))
    figures = _listed(many)
    listed, again, first = (figures[name] for name in ("listed", "again", "first"))
    report("100,000 members told and written, names and facts", f"{listed:.2f} s", "under 4 s", listed < 4)
    report("the first of them shown after", f"{first:.2f} s", "under 1 s", first < 1)
    report("the same opened again after a new start", f"{again:.2f} s", "under 1 s", again < 1)
    _answers(many)

    zips = folder / "zips"
    zips.mkdir()
    file = encode_new(np.full((8, 8, 4), 90, np.uint8), formats.get("bc1"), 1)
    with zipfile.ZipFile(zips / "many.zip", "w") as archive:
        for name, _ in _members(MANY):
            archive.writestr(name.replace(".ptx", ".dds"), file)
    ratio = _listed(zips)["listed"] / _plain_rows(zips / "many.zip")
    report("a zip of 100,000 DDS files / hashing and plain rows", f"{ratio:.1f} x", "at most 4 x", ratio <= 4)

    packed = folder / "packed"
    packed.mkdir()
    names = [(name, data * 20) for name, data in _members(PACKED)]
    with zipfile.ZipFile(packed / "packed.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in names:
            archive.writestr(name, data)
    listed = _listed(packed)["listed"]
    report("12,000 packed members told and written", f"{listed:.2f} s", "under 3 s", listed < 3)

    _sent_out(folder / "sent")

    million = folder / "million"
    million.mkdir()
    desktop.write_pair(million, "many", list(_members(MILLION)))
    figures = _listed(million)
    listed, peak = figures["listed"], figures["peak"]
    report("a million members told and written", f"{listed:.1f} s", "under 40 s", listed < 40)
    report("the most memory that this took", f"{peak:.0f} MiB", "under 600 MiB", peak < 600)


def _sent_out(folder: Path) -> None:
    """A game's small textures to a folder, against a loop that decodes and saves each as plainly as can be."""
    folder.mkdir()
    desktop.write_pair(folder, "many", list(_members(PACKED)))
    with tempfile.TemporaryDirectory(prefix="brae-bench-home-") as home:
        workspace = Workspace(Home(Path(home)))
        project = opening.open_game(workspace, folder)["project"]
        library = Library.of([LAYOUTS])
        archive = open_path(folder / "many.kist", [], library).container
        assert isinstance(archive, Archive)
        kind, numbers = kinds()["texture"], iter(range(9))

        def plainly() -> None:
            # As many new files in as many folders: to make one costs a third of the work.
            plain = Path(home) / f"plain{next(numbers)}"
            for index, name in enumerate(archive.names):
                texture = kind.read(archive.read(index), Context(library, name))
                target = (plain / name).with_suffix(".png")
                if not target.parent.is_dir():
                    target.parent.mkdir(parents=True)
                Image.fromarray(texture.picture()).save(target)

        def ours() -> None:
            done = sending.export(workspace, project, Path(home) / f"out{next(numbers)}", Search())
            assert done["written"] == PACKED

        seconds, spent = in_turn([plainly, ours], 3)
        ratio = seconds / spent
        workspace.close()
    words = f"{ratio:.0%} of the speed"
    report("12,000 textures sent / decoded and saved plainly", words, "at least 60 %", ratio >= 0.6)


#: ``#`` is another digit each time, ``@`` another letter: the last conditions are remembered
_ASKED = {
    "a page of the light table": "/members?limit=200&order=kind",
    "the same far down, by bytes": "/members?limit=200&offset=80000&order=bytes",
    "the facets": "/facets",
    "facets under a search": "/facets?q=tile+width%3E%3D1#",
    "a search by words and conditions": "/members?q=tile_0#+format%3Dbc1+width%3E8&order=name",
    "a search with wildcards": "/members?q=*_0?#*&order=pixels",
    "a misspelt word": "/members?q=til@e&order=name",
    "a regular expression": "/members?q=%2Ftile_0%2B%5B12%5D%5Cd%2A#%2F&order=name",
}


def _answers(folder: Path) -> None:
    with _pages(folder) as (client, base, workspace):

        def ask(path: str, digits: Iterator[str], letters: Iterator[str]) -> None:
            path = path.replace("#", next(digits)).replace("@", next(letters))
            assert client.get(f"{base}{path}").status_code == 200

        for what, path in _ASKED.items():
            ask(path, cycle("1"), cycle("e"))
            digits, letters = cycle("23456789"), cycle("abcdfghi")
            milliseconds = best(partial(ask, path, digits, letters)) * 1000
            report(f"{what}, of 100,000 items", f"{milliseconds:.0f} ms", "under 50 ms", milliseconds < 50)
        statements: list[int] = []
        for number in (6, 60):
            with workspace.database.session() as session:
                query = select(Member.address).where(Member.kind == "texture").limit(number)
                chosen = list(session.scalars(query))
            for address in chosen:
                put_in_work(workspace, base.rpartition("/")[2], address)
            with _counted(workspace) as count:
                assert len(client.get(f"{base}/edits").json()) == number
            statements.append(count())
        words = f"{statements[1]} for 60, {statements[0]} for 6"
        report("database statements for a list of edits", words, "the same", statements[0] == statements[1])


@contextmanager
def _counted(workspace: Workspace) -> Iterator[Any]:
    seen: list[str] = []

    def note(*words: Any) -> None:
        seen.append(words[2])

    event.listen(workspace.database.engine, "before_cursor_execute", note)
    yield lambda: len(seen)
    event.remove(workspace.database.engine, "before_cursor_execute", note)


if __name__ == "__main__":
    print(json.dumps(_list(Path(sys.argv[1]))))
