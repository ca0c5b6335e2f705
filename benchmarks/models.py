"""Models of a million vertices, five hundred as pictures, 3,400 packed screens: seconds, and beside numpy."""

from __future__ import annotations

import re
import struct
import tempfile
import time
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np
from tests.e2e.driver import base, chromium, served

from benchmarks.report import best, report
from brae.core.assets.base import Context, ExchangeFile, Version, Viewed
from brae.core.assets.mesh import described, files
from brae.core.assets.mesh.kind import KIND, MeshQuery
from brae.core.assets.screen.kind import KIND as SCREEN
from brae.core.assets.screen.screen import Area, to_json
from brae.core.assets.texture.looking import TextureQuery
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from brae.demo import DISC, disc
from brae.store import Home
from brae.work import Workspace
from brae.work.edits import put_in_work, take_beside
from brae.work.opening import open_game

_LAYOUT = parse(
    """
layout: sheet
title: Sheet
kind: mesh
parts:
  - {field: vertices, type: u32, is: count(corners)}
  - {field: indices, type: u32, is: count(faces)}
  - vertices: corners
    count: vertices
    axes: "x z -y"
    attributes:
      - {attribute: POSITION, type: f32, of: 3}
      - {attribute: NORMAL, type: i8, of: 4, normalised: true}
      - {attribute: TEXCOORD_0, type: f32, of: 2}
  - {indices: faces, count: indices, type: u32}
"""
)
_MENU = parse(
    """
layout: menu
title: Menu
kind: screen
parts:
  - {field: width, type: u16}
  - {field: height, type: u16}
  - {field: count, type: u16, is: count(buttons)}
  - table: buttons
    count: count
    record:
      - {field: x, type: u16, role: area-x}
      - {field: y, type: u16, role: area-y}
      - {field: w, type: u16, role: area-width}
      - {field: h, type: u16, role: area-height}
  - {pixels: picture, facts: {width: width, height: height, format: abgr1555}}
  - {areas: rectangles, of: buttons}
"""
)


def _sheet(side: int) -> bytes:
    """A wavy sheet of side x side vertices, as _LAYOUT says."""
    y, x = np.mgrid[0:side, 0:side].astype("<f4") / side
    rows = np.zeros(side * side, np.dtype([("place", "<f4", 3), ("normal", "i1", 4), ("at", "<f4", 2)]))
    rows["place"] = np.stack([x, y, 0.1 * np.sin(20 * x)], axis=-1).reshape(-1, 3)
    rows["normal"] = (0, 0, 127, 0)
    rows["at"] = np.stack([x, y], axis=-1).reshape(-1, 2)
    number = np.arange(side * side, dtype="<u4").reshape(side, side)
    a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
    faces = np.concatenate([np.stack(one, axis=-1).reshape(-1, 3) for one in ((a, b, c), (a, c, d))])
    return struct.pack("<II", len(rows), faces.size) + rows.tobytes() + faces.astype("<u4").tobytes()


def _by_numpy(data: bytes) -> float:
    """The same numbers read by numpy alone, each once, and compared with what they were read from."""
    vertices, _ = struct.unpack_from("<II", data)
    rows = np.frombuffer(data, np.dtype([("p", "<f4", 3), ("n", "i1", 4), ("t", "<f4", 2)]), vertices, 8)
    faces = np.frombuffer(data, "<u4", -1, 8 + rows.nbytes)
    told = rows["p"].astype("f4").sum() + (rows["n"].astype("f4") / 127).sum() + rows["t"].astype("f4").sum()
    return float(told) + float(faces.astype("u4").max()) + float(data == rows.tobytes() + faces.tobytes())


def _seconds(what: str, seconds: float, most: float) -> None:
    report(what, f"{seconds:.2f} s", f"{most:g} s", seconds < most)


#: from a move of the pointer to the end of the frame that shows it
_WATCH = """() => {
  window.told = [];
  window.addEventListener("pointermove", () => {
    const start = performance.now();
    requestAnimationFrame(() => {
      const after = new MessageChannel();
      after.port1.onmessage = () => window.told.push(performance.now() - start);
      after.port2.postMessage(0);
    });
  }, true);
}"""
_RECTANGLES = 60


def _dragged() -> float:
    """Milliseconds from a move of the pointer to the frame that shows a rectangle there, of sixty; the median."""
    address = "skerry.bin//CARGO.VOL//MENUS.SCR//0012"
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        disc.generate(place, screens=40, members=96, film=12)
        workspace = Workspace(Home(place / "home"))
        project = str(open_game(workspace, place / DISC)["project"])
        put_in_work(workspace, project, address)
        spread = [Area(x=number % 12 * 8, y=number // 12 * 12, width=7, height=11) for number in range(_RECTANGLES)]
        take_beside(workspace, project, address, "areas", to_json(spread), "areas.json")
        workspace.close()
        with served(place / "home", "serve") as start, chromium() as browser:
            page = browser.new_page(viewport={"width": 1280, "height": 800}, base_url=base(start))
            page.goto(start)
            page.goto(f"/p/{project}/edit?item={address}")
            box = page.get_by_role("button", name=re.compile("^Rectangle 30: ")).bounding_box()
            assert box is not None
            page.evaluate(_WATCH)
            page.mouse.move(box["x"] + 9, box["y"] + 9)
            page.mouse.down()
            page.mouse.move(box["x"] + 200, box["y"] + 60, steps=120)
            page.mouse.up()
            told: list[float] = page.evaluate("() => window.told")
    return float(np.median(told))


def run() -> None:
    """All lines of this part."""
    data = _sheet(1000)
    alone = best(lambda: _by_numpy(data), 3)
    file = described.read(_LAYOUT, data)

    def proved() -> None:
        assert described.read(_LAYOUT, data).rewrite(file.mesh) == data

    seconds = best(proved, 3)
    report(
        "a million vertices read and proved, beside numpy alone",
        f"{seconds / alone:.1f} x",
        "3 x",
        seconds < 3 * alone,
    )
    out = best(lambda: files.to_glb(file.near), 3)
    _seconds("a million vertices as .glb", out, 2)
    glb = files.to_glb(file.near)
    moved = files.to_glb(replace(file.mesh, attributes={
        **file.mesh.attributes, "POSITION": file.mesh.positions * np.float32(1.01)}))  # fmt: skip
    version = Version(ExchangeFile("a.glb", moved))
    start = time.perf_counter()
    KIND.match(file, version, {})
    _seconds("a million vertices, changed, back into their form", time.perf_counter() - start, 3)
    assert KIND.match(file, Version(ExchangeFile("a.glb", glb)), {})[1].data == data

    shown = _dragged()
    report(
        f"a rectangle of {_RECTANGLES} moved, to the frame that shows it",
        f"{shown:.1f} ms",
        "16.7 ms",
        shown < 1000 / 60,
    )
    small = _sheet(51)  # 5,000 triangles
    context = Context(Library({"sheet": _LAYOUT}), "a.shp", layout=_LAYOUT)
    KIND.preview(Viewed(KIND.read(small, context)), MeshQuery())
    start = time.perf_counter()
    for number in range(500):
        KIND.preview(Viewed(KIND.read(small, context)), MeshQuery(yaw=float(number % 90), side=160))
    _seconds("500 models of 5,000 triangles as tiles", time.perf_counter() - start, 10)

    rng = np.random.default_rng(4)
    pixels = (rng.integers(0, 4, (200, 320)) * 0x0821).astype("<u2").tobytes()
    menu = struct.pack("<HHH", 320, 200, 4) + struct.pack("<16H", *range(16)) + pixels
    packed = zlib.compress(menu, 6)
    screen = Context(Library({"menu": _MENU}), "0001", layout=_MENU)
    query = TextureQuery(fit=160)
    SCREEN.preview(Viewed(SCREEN.read(menu, screen)), query)
    start = time.perf_counter()
    for _ in range(3400):
        SCREEN.preview(Viewed(SCREEN.read(zlib.decompress(packed), screen)), query)
    _seconds("3,400 packed screens as tiles, on one core", time.perf_counter() - start, 20)
