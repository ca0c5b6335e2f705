"""Speed and memory of discs, of archives inside archives, and of very large files."""

from __future__ import annotations

import os
import shutil
import struct
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
from PIL import Image
from sqlalchemy import func, select

from benchmarks.report import best, report
from brae.core.containers.iso9660 import Disc
from brae.core.layouts.library import Library
from brae.core.layouts.segments import Ranges, Take, write_beside
from brae.core.sources import FileSource
from brae.demo import LAYOUTS, disc
from brae.store import Home
from brae.store.models import Member
from brae.work import Workspace, builds
from brae.work.edits import put_in_work, take_file
from brae.work.opening import open_game

LIBRARY = Library.of([LAYOUTS])
SCREEN = "skerry.bin//CARGO.VOL//MENUS.SCR//0312"


def depth(folder: Path) -> None:
    """The demo's disc: from opening it to a changed screen three levels deep."""
    started = time.perf_counter()
    game = disc.generate(folder)
    seconds = time.perf_counter() - started
    size = (game / "skerry.bin").stat().st_size / 1e6
    report(f"the disc edition made ({size:.0f} MB)", f"{seconds:.1f} s", "under 60 s", seconds < 60)
    workspace = Workspace(Home(folder / "home"))
    first: list[float] = []
    started = time.perf_counter()

    def watch() -> None:
        while not first:
            with workspace.database.session() as session:
                if session.scalar(select(func.count()).select_from(Member).where(Member.kind == "texture")):
                    first.append(time.perf_counter() - started)
            time.sleep(0.01)

    thread = threading.Thread(target=watch)
    thread.start()
    project = open_game(workspace, game)["project"]
    seconds = time.perf_counter() - started
    thread.join()
    report("volume of 12,000 with a pack of 3,000: first pictures", f"{first[0]:.2f} s", "under 1 s", first[0] < 1)
    report("the same, listed, hashed and proved", f"{seconds:.1f} s", "under 10 s", seconds < 10)
    put_in_work(workspace, project, SCREEN)
    edit = workspace.edit(project, SCREEN)
    path = workspace.exchange_folder(project) / edit.exchange_path
    image = Image.open(path).convert("RGBA")
    image.putpixel((90, 60), (250, 20, 20, 255))
    image.save(path)
    take_file(workspace, project, SCREEN, path.read_bytes(), path.name)
    started = time.perf_counter()
    way = builds.build(workspace, project)["files"][0]["way"]
    seconds = time.perf_counter() - started
    report(
        "a screen in the pack on the disc, built in place",
        f"{seconds:.2f} s",
        "under 3 s",
        seconds < 3 and way == "patch",
    )
    workspace.close()


def large_disc(folder: Path) -> None:
    """A raw image of 650 MB: opened, and a file of 300 MB in it replaced."""
    folder.mkdir()
    rng = np.random.default_rng(3)
    part = rng.bytes(1 << 20)
    image = folder / "large.bin"
    files = [("FILM.BIN", part * 286, False), ("REST.BIN", part * 250, False)]
    with image.open("wb") as stream:
        stream.write(disc.raw_disc(files, "north").data)
    del files
    seconds = best(lambda: Disc(FileSource(image)), 3)
    report(
        f"opening a raw image of {image.stat().st_size / 1e6:.0f} MB", f"{seconds:.3f} s", "under 1 s", seconds < 1
    )
    (folder / "new.bin").write_bytes(rng.bytes(1 << 20) * 286)
    opened = Disc(FileSource(image))
    new = FileSource(folder / "new.bin")
    body = Ranges((Take(new, 0, new.size),), opened.source)
    change = {opened.index_of("FILM.BIN"): opened.pack(opened.index_of("FILM.BIN"), body)}

    def copy() -> None:
        shutil.copyfile(image, folder / "copy.bin")
        with (folder / "copy.bin").open("rb+") as stream:
            os.fsync(stream.fileno())

    def replace() -> None:
        write_beside(opened.rebuild(change), "main", folder / "replaced.bin")

    plain, ours = best(copy, 4), best(replace, 4)
    report(
        "replacing 300 MB with EDC and ECC / copying the image",
        f"{ours / plain:.2f} x",
        "at most 3 x",
        ours <= 3 * plain,
    )


_SPARSE = """
layout: sparse
title: Sparse
kind: archive
parts:
  - {field: count, type: u32, is: count(entries)}
  - table: entries
    count: count
    record:
      - {field: offset, type: u64, role: offset}
      - {field: size, type: u64, role: stored-size}
  - {members: data, of: entries, align: 4096}
"""
_MEASURED = """
import re, sys
from pathlib import Path
from brae.core.containers.described import open_archive
from brae.core.layouts.load import load
from brae.core.sources import FileSource
folder = Path(sys.argv[1])
archive = open_archive(load(folder / "sparse.yaml"), {"main": FileSource(folder / "sparse.arc")})
archive.read_start(0, 64)
composed = archive.patch({3: archive.pack(3, b"new" * 1000)})
assert list(composed.changes("main"))
composed = archive.rebuild({3: archive.pack(3, b"new" * 9000)})
assert composed.size("main") > 8 << 30
# The most this very program used; a resource limit's figure would be inherited from the one that started it.
print(int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())[1]) // 1024)
"""


def memory(folder: Path) -> None:
    """An archive of 8 GiB (a sparse file): opened, patched and rebuilt as a plan, in a process of its own."""
    folder.mkdir()
    (folder / "sparse.yaml").write_text(_SPARSE)
    sizes = [2 << 30, 2 << 30, 2 << 30, 4096, (2 << 30) - 16384]
    place, table = 4096, b""
    for size in sizes:
        table += struct.pack("<QQ", place, size)
        place += -(-size // 4096) * 4096
    with (folder / "sparse.arc").open("wb") as stream:
        stream.write((struct.pack("<I", len(sizes)) + table).ljust(4096, b"\0"))
        stream.truncate(place)
    found = subprocess.run(
        [sys.executable, "-c", _MEASURED, folder], check=True, capture_output=True, text=True
    ).stdout
    report("memory for an archive of 8 GiB", f"{int(found)} MiB", "under 300 MiB", int(found) < 300)
