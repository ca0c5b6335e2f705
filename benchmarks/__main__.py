"""``make bench``: speed and memory as ratios, measured in one run on one machine.

Single figures depend on the machine and drift; ratios less. The targets stand beside each figure.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import struct
import subprocess
import sys
import tempfile
import time
import urllib.parse
import urllib.request
import zipfile
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

from benchmarks import (
    codecs,
    discs,
    findings,
    headerless,
    levels,
    likeness,
    models,
    normals,
    palettes,
    recolour,
    scale,
    signs,
    sizes,
    sounds,
    sprites,
    voices,
)
from benchmarks.report import best, in_turn, report
from brae.core.assets.folders import member_paths, unpack
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.containers.described import Archive, open_archive
from brae.core.containers.nesting import open_path
from brae.core.layouts.directory import directory
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from brae.core.layouts.read import parse as read
from brae.core.layouts.segments import write_beside
from brae.core.sources import BytesSource
from brae.core.warm import warm
from brae.demo import LAYOUTS, art, desktop

LIBRARY = Library.of([LAYOUTS])


def _open(path: Path) -> Archive:
    opened = open_path(path, [], LIBRARY).container
    assert isinstance(opened, Archive)
    return opened


def _listing(folder: Path) -> None:
    content = [(f"tiles/{k % 97:02d}/tile_{k:06d}.ptx", struct.pack("<I", k)) for k in range(100_000)]
    desktop.write_pair(folder, "many", content)
    seconds = best(lambda: _open(folder / "many.kist").labels)
    report("listing 100,000 members with their names", f"{seconds:.2f} s", "under 1 s", seconds < 1)


RECORDS = """
layout: records
title: Many records
kind: archive
parts:
  - {field: count, type: u32, is: count(entries)}
  - table: entries
    count: count
    record:
      - NAME
      - {field: offset, type: u32, role: offset}
      - {field: size, type: u32, role: stored-size}
  - {members: data, of: entries}
"""


CHUNKS = """
layout: chunks
title: Chunks
kind: archive
match: {names: ["*.chk"]}
parts:
  - chunks: all
    record: [{field: tag, type: string, length: 4, role: name}, {field: size, type: u32, role: stored-size}]
"""


def _records() -> None:
    number = 1_000_000
    fixed = np.zeros((number, 3), "<u4")
    fixed[:, 0], fixed[:, 1] = np.arange(number), 4 + fixed.nbytes
    source = BytesSource(struct.pack("<I", number) + fixed.tobytes())
    layout = parse(RECORDS.replace("NAME", "{field: number, type: u32, role: id}"))
    seconds = best(lambda: open_archive(layout, {"main": source}), 3)
    report("opening an archive of a million fixed records", f"{seconds:.2f} s", "under 2 s", seconds < 2)
    rows = b"".join(b"islets/name_%06d.ptx\0" % number + bytes(8) for number in range(number // 2))
    named = BytesSource(struct.pack("<I", number // 2) + rows)
    layout = parse(RECORDS.replace("NAME", "{field: name, type: string, end: nul, role: name}"))
    rate = number / 2 / best(lambda: directory(read(layout, {"main": named})), 3)
    report("records of variable size read, with names", f"{rate:,.0f} a second", "300,000", rate > 300_000)
    number = 400_000
    sizes = (np.arange(number) * 37 % 90).tolist()
    chunks = b"".join(b"T%03d" % (size % 1000) + struct.pack("<I", size) + bytes(size) for size in sizes)
    source = BytesSource(chunks)
    layout = parse(CHUNKS)
    rate = number / best(lambda: open_archive(layout, {"main": source}), 3)
    report("chunks walked and named", f"{rate:,.0f} a second", "400,000", rate > 400_000)


def _archive(folder: Path, members: int, size: int) -> Path:
    rng = np.random.default_rng(1)
    half = [rng.bytes(size // 2) for _ in range(16)]
    content = [
        (f"d{k % 60:02d}/m{k:05d}.bin", half[k % 16] + bytes([k % 251]) * (size // 2)) for k in range(members)
    ]
    desktop.write_pair(folder, "big", content)
    return folder / "big.kist"


def _unpacking(folder: Path) -> None:
    archive = _open(_archive(folder, 12_000, 8192))
    paths = member_paths(archive.labels)
    data = [archive.read(index) for index in range(len(archive))]

    def plain() -> None:
        out = folder / "plain"
        for parent in {Path(path).parent for path in paths}:
            (out / parent).mkdir(parents=True, exist_ok=True)
        for path, content in zip(paths, data, strict=True):
            (out / path).write_bytes(content)
        shutil.rmtree(out)

    def ours() -> None:
        list(unpack(archive, folder / "ours"))
        shutil.rmtree(folder / "ours")

    ratio = best(ours, 3) / best(plain, 3)
    report("unpacking 12,000 members / writing the same plainly", f"{ratio:.2f} x", "at most 1.3 x", ratio <= 1.3)


def _repacking(folder: Path) -> None:
    path = _archive(folder, 12_000, 16_384)
    archive = _open(path)
    change = {5000: archive.pack(5000, np.random.default_rng(2).bytes(40_000))}

    def copy() -> None:
        # A copy that is as safe: flushed to the disk, and hashed on the way.
        shutil.copyfile(path.with_suffix(".hold"), folder / "copy")
        with (folder / "copy").open("rb+") as stream:
            os.fsync(stream.fileno())

    def repack() -> None:
        composed = archive.rebuild(change)
        for file in composed.segments:
            write_beside(composed, file, folder / f"new.{file}")

    ratio = best(repack, 3) / best(copy, 3)
    megabytes = path.with_suffix(".hold").stat().st_size >> 20
    report(f"repack with one change / copying ({megabytes} MiB)", f"{ratio:.2f} x", "at most 1.3 x", ratio <= 1.3)


def _patching(folder: Path) -> None:
    """Patching planned and its ranges found, in a small archive and in one 64 times as large."""
    seconds = []
    for name, size in (("small", 512), ("large", 32_768)):
        content = [(f"m{k:05d}.bin", bytes([k % 251]) * (512 if k == 2000 else size)) for k in range(4000)]
        desktop.write_pair(folder / name, "big", content)
        archive = _open(folder / name / "big.kist")
        seconds.append(best(lambda archive=archive: _patch(archive, 2000), 9))  # type: ignore[misc]
    ratio = seconds[1] / seconds[0]
    report("patch in place, archive 64 x as large / small", f"{ratio:.2f} x", "about 1 x", ratio < 1.5)


def _patch(archive: Archive, index: int) -> None:
    composed = archive.patch({index: archive.pack(index, b"tiny")})
    for file in composed.segments:
        list(composed.changes(file))


def _server(folder: Path) -> None:
    """From the command to the first page, and a hundred thumbnails, as a browser sees them."""
    subprocess.run(
        [sys.executable, "-m", "brae.cli", "demo", "--into", folder / "home/games", "--no-start"],
        check=True,
        capture_output=True,
    )
    command = [sys.executable, "-m", "brae.cli", "demo", "--no-browser", "--home", str(folder / "home")]
    # As on a person's computer: modules that were imported once are compiled.
    env = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    subprocess.run([sys.executable, "-c", "import brae.cli.server"], env=env, check=True)
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=env)
    assert process.stdout is not None
    try:
        address = next(re.search(r"http://\S+", line).group() for line in process.stdout if "http" in line)  # type: ignore[union-attr]
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        browser.open(address).read()
        seconds = time.perf_counter() - started
        address = address.partition("?")[0]
        report("server start to the first page", f"{seconds:.2f} s", "under 3 s", seconds < 3)
        _wait_for_jobs(browser, address)
        pictures = [art.rock(np.random.default_rng(k), 256) for k in range(5)]
        content = [(f"t{k:03d}.ptx", desktop.ptx(pictures[k % 5], "bc1", None, stamp=k)) for k in range(100)]
        desktop.write_pair(folder / "thumbs", "thumbs", content)
        request = urllib.request.Request(
            f"{address}api/projects",
            f'{{"path": "{folder / "thumbs"}"}}'.encode(),
            {"Content-Type": "application/json"},
        )
        browser.open(request).read()
        _wait_for_jobs(browser, address)

        def fetch(name: str) -> int:
            query = urllib.parse.urlencode({"address": f"thumbs.kist//{name}", "fit": 128})
            return len(browser.open(f"{address}api/projects/thumbs/preview?{query}").read())

        fetch("t000.ptx")
        started = time.perf_counter()
        with ThreadPoolExecutor(6) as pool:
            list(pool.map(fetch, [name for name, _ in content]))
        seconds = time.perf_counter() - started
        report(
            "a hundred thumbnails of 256 px textures, as the page asks",
            f"{seconds:.2f} s",
            "under 1 s",
            seconds < 1,
        )
    finally:
        process.terminate()
        process.wait()


def _wait_for_jobs(browser: urllib.request.OpenerDirector, address: str) -> None:
    while any(job["state"] in ("waiting", "running") for job in json.load(browser.open(f"{address}api/jobs"))):
        time.sleep(0.1)


def _commands(folder: Path) -> None:
    """Short commands, against starting Python and importing numpy; all take turns."""
    folder.mkdir()
    path = folder / "small.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("a.txt", "tide")
    desktop.write_pair(folder, "small", [("a.txt", b"tide")])
    env = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    ours = [sys.executable, "-m", "brae.cli"]
    home = ["--home", str(folder)]
    commands = {
        "numpy": [sys.executable, "-c", "import numpy"],
        "brae --help": [*ours, "--help"],
        "brae inspect, a small zip": [*ours, "inspect", str(path), *home],
        "brae inspect, a small file that a layout describes": [*ours, "inspect", str(folder / "small.kist"), *home],
    }
    for command in commands.values():
        subprocess.run(command, check=True, capture_output=True, env=env)
    seconds = in_turn([partial(subprocess.run, one, capture_output=True, env=env) for one in commands.values()], 7)
    for (name, _), spent, wanted in zip(commands.items(), seconds, (9.0, 3.0, 3.0, 8.0), strict=True):
        if name != "numpy":
            ratio = spent / seconds[0]
            words = f"{ratio:.1f} x ({spent:.2f} s)"
            report(f"{name} / python and numpy", words, f"at most {wanted:g} x", ratio <= wanted)


def _compiling() -> None:
    """All kernels compiled anew, into a cache of their own, then loaded from it."""
    with tempfile.TemporaryDirectory(prefix="brae-kernels-") as cache:
        for what, most in (("compiled anew", 45), ("loaded from the cache", 2)):
            command = [sys.executable, "-m", "brae.core.warm"]
            printed = subprocess.run(
                command, env={**os.environ, "NUMBA_CACHE_DIR": cache}, check=True, capture_output=True, text=True
            ).stdout
            seconds = float(re.findall(r"[\d.]+", printed)[0])
            report(f"all kernels {what}", f"{seconds:.1f} s", f"under {most} s", seconds < most)


def main() -> None:
    """Run everything."""
    warm()
    with tempfile.TemporaryDirectory(prefix="brae-bench-") as name:
        folder = Path(name)
        started = time.perf_counter()
        desktop.generate(folder / "demo")
        seconds = time.perf_counter() - started
        report("the demo game made", f"{seconds:.1f} s", "under 10 s", seconds < 10)
        for index, part in enumerate(
            (
                _listing,
                _unpacking,
                _repacking,
                _patching,
                discs.depth,
                discs.large_disc,
                discs.memory,
                _server,
                _commands,
                scale.run,
                signs.run,
            )
        ):
            part(folder / str(index))
    _records()
    _compiling()
    codecs.run()
    headerless.run()
    levels.run()
    normals.run()
    findings.run()
    likeness.run()
    models.run()
    palettes.run()
    recolour.run()
    sizes.run()
    sounds.run()
    sprites.run()
    voices.run()
    seconds = best(
        lambda: encode_new(np.random.default_rng(1).integers(0, 256, (2048, 2048, 4), np.uint8), formats.BC3, None),
        1,
    )
    print(f"     2048 x 2048 to BC3 with all levels (worst case, noise): {seconds:.2f} s")


if __name__ == "__main__":
    main()
