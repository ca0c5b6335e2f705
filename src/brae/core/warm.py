"""``python -m brae.core.warm`` compiles every kernel into the cache, so that nobody waits for it later."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, as_completed
from functools import partial
from multiprocessing import get_context
from pathlib import Path

import numpy as np
from PIL import Image

from brae.core.assets.mesh.looking import picture as shaded
from brae.core.assets.mesh.mesh import Mesh, Part
from brae.core.assets.sound import ima, ms
from brae.core.assets.sound.bits import Head
from brae.core.assets.sound.frames import Frames
from brae.core.assets.sound.imaruns import WAV_STATE, Run
from brae.core.assets.sound.imaruns import Runs as CodeRuns
from brae.core.assets.sprite.runs import Coding
from brae.core.assets.texture import kernels
from brae.core.assets.texture import warm as textures
from brae.core.compression.described import BlocksSpec, LzssSpec, RunsSpec, describe
from brae.core.find.correlation import LANES, best_patterns
from brae.core.find.kernels import best_windows, cut, nearest, settle
from brae.core.find.recoloured import explained_by
from brae.core.layouts import checksums, hashes
from brae.core.layouts.chunks import walk_chunks
from brae.core.layouts.frames import Runs
from brae.core.layouts.obfuscation import RunningKey, Step, reveal
from brae.core.layouts.parts import ChunksPart, TablePart, TreePart
from brae.core.layouts.rows import walk
from brae.core.layouts.trees import walk_tree
from brae.core.palettes.kernels import diffuse, nearest_of
from brae.core.recolour.kernels import look_up, missing_in
from brae.core.recolour.space import from_lab, to_lab
from brae.core.signs.scan import Search
from brae.core.sources import BytesSource
from brae.core.sources.sectors import RAW, wrong_sectors


def _packers() -> None:
    specs = {
        "lzss": LzssSpec(kind="lzss"),
        "runs": RunsSpec(kind="runs", form="negative"),
        "blocks": BlocksSpec(kind="blocks", of="lzss", size=64),
    }
    for name in specs:
        packer = describe(name, specs)
        packer.unpack(packer.pack(b"kernel" * 9, packer.levels[0]), 54)
    reveal([Step(xor_running=RunningKey(seed=1))], b"kernel")


def _layouts() -> None:
    name = {"field": "name", "type": "string", "end": "nul"}
    numbers = [{"field": "files", "type": "u8", "role": "file-count"}]
    numbers += [{"field": "folders", "type": "u8", "role": "folder-count"}]
    table = TablePart.model_validate({"table": "list", "count": 1, "record": [name]})
    walk(table, "little", np.zeros(4, np.uint8), 1, None)
    tree = TreePart.model_validate({"tree": "root", "folder": [name, *numbers], "record": [name]})
    walk_tree(tree, "little", np.zeros(8, np.uint8), 1)
    size = {"field": "size", "type": "u8", "role": "stored-size"}
    chunks = ChunksPart.model_validate({"chunks": "all", "record": [{**name, "role": "name"}, size]})
    walk_chunks(chunks, "little", BytesSource(b"a\0\1b"), 0, 4)
    checksums.checksum("crc16-arc", [b"kernel"])
    hashes.NameHash(kind="fnv1a32").of(["kernel"])


def _sounds() -> None:
    for codec in (ima, ms):
        codec.encode(np.zeros((4, 1), np.int16), 256, bytes(256))
    run = Run(np.zeros(1, np.int64), np.zeros((1, 4), np.uint8))
    state = CodeRuns(Head.of(WAV_STATE, set(), ""))
    for runs, per in ((CodeRuns(None), None), (state, 4)):
        runs.encode(runs.decode(run), run, per)
    Frames(16, Head.of("shift 4, filter 4", set(), ""), 12, -1, ((0, 0),)).encode(np.zeros(4, np.int16), bytes(16))


def _models() -> None:
    places = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    shaded(Mesh({"POSITION": places}, np.array([[0, 1, 2]], np.uint32), (Part("", 0, 1),)), 16)


def _sprites() -> None:
    codes = [{"from": 0, "end": "row"}, {"from": 1, "to": 255, "copy": "code"}]
    coding = Coding.of(Runs.model_validate({"codes": codes}))
    made = coding.encode(np.zeros((1, 1, 1), np.uint8), np.ones((1, 1), np.bool_), False)
    coding.decode(np.frombuffer(made, np.uint8), 0, 1, 1, 1, False)


def _discs() -> None:
    wrong_sectors(BytesSource(bytes(RAW)), 0, 1)


def _signs() -> None:
    for _ in Search(BytesSource(b"DDS " * 64)).files():
        pass


def _pictures() -> None:
    Image.init()  # Pillow looks for what it can write when the first picture is saved
    images, best = np.zeros((1, 1, LANES), np.float32), np.zeros((1, LANES), np.int64)
    best_patterns(images, images[..., :1], best[:, :2] + 1, np.float32(1), images[0].copy(), best)
    ones, scores, places = np.ones((1, 1), np.float32), np.zeros(1, np.float32), np.zeros(1, np.int64)
    which = np.zeros(1, np.int64)
    best_windows(ones, np.ones((3, 1, 1), np.float32), ones, which, *(ones[0],) * 3, np.float32(1), scores, places)
    cut(np.ones((1, 3), np.float32), np.zeros((1, 2), np.int64), 1, np.ones((1, 3), np.float32))
    nearest(ones, 0, ones.copy(), np.zeros((1, 1), np.int64))
    corners = np.array([[0, 0, 2, 0, 2, 2, 0, 2]], np.float64)
    settle(np.ones((1, 2, 2, 4), np.float32), np.ones((3, 3, 3), np.float32), corners, np.zeros(1))
    explained_by(np.ones((1, 2, 2, 4), np.float32), np.ones((1, 2, 2, 3), np.float32), ones[0, 0], ones)
    points = np.zeros((1, 1, 3), np.float32)
    diffuse(points, points[0], np.zeros((1, 1), bool), np.zeros((1, 1), np.int64))
    one, known = np.zeros(1, np.uint32), np.zeros(1, np.uint32)
    look_up(one, known, one.copy())
    missing_in(one, known, np.zeros(1, np.uint32))
    from_lab(to_lab(points[0]))
    nearest_of(points[0], points[0], np.zeros(1, np.int64), np.zeros(1, np.int64), np.zeros(1, np.float32))


_STEPS: dict[str, Callable[[], None]] = {
    **{group: partial(textures.warm, group) for group in textures.GROUPS},
    "packers": _packers,
    "layouts": _layouts,
    "discs": _discs,
    "sounds": _sounds,
    "models": _models,
    "sprites": _sprites,
    "signs": _signs,
    "pictures": _pictures,
}


def _compile(step: str) -> None:
    """One step, in a process of its own.

    The compiler makes millions of objects that stay; looking for rubbish among them would take a tenth of the time.
    """
    gc.disable()
    _STEPS[step]()


#: how many parts ``warm`` has
PARTS = len(_STEPS)


def warm(tick: Callable[[], object] = lambda: None) -> None:
    """Compile every kernel, or load it from the cache; in as many processes as there are cores.

    The compiler holds the interpreter's lock, so threads would not help. What is in the cache already is loaded in
    this process, which is much quicker than starting others. ``tick`` is called after each part that was compiled.
    """
    if cached():
        for run in _STEPS.values():
            run()
        return
    kernels.ready.clear()
    try:
        with ProcessPoolExecutor(mp_context=get_context("spawn")) as pool:
            parts = [pool.submit(_compile, step) for step in _STEPS]
            try:
                for done in as_completed(parts):
                    done.result()
                    tick()
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                raise
    finally:
        kernels.ready.set()


def cached() -> bool:
    """Whether the kernels that take longest are in the cache, by its files."""
    from brae.core.assets.texture.kernels import bc6h, bc7_encode, colour, single

    encoders = (bc7_encode.encode_bc7, bc6h.encode_bc6h, colour.encode_colour, single.encode_channel)
    return all(any(Path(one.stats.cache_path).glob(f"*{one.__name__}*.nbc")) for one in encoders)


if __name__ == "__main__":
    started = time.perf_counter()
    warm()
    print(f"kernels ready in {time.perf_counter() - started:.1f} s")
