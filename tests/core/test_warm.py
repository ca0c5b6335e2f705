"""Nobody waits for the compiler after set-up: what it makes ready is all that encoders and decoders call."""

from __future__ import annotations

import importlib
import pkgutil
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

import brae.core
from brae.core.assets.texture import formats, kernels
from brae.core.assets.texture.formats import How
from brae.core.warm import PARTS, warm


def _compiled() -> dict[str, int]:
    """For each kernel how many sets of argument types it is compiled for."""
    found: dict[str, int] = {}
    for module in pkgutil.walk_packages(brae.core.__path__, "brae.core."):
        if "kernels" in module.name:
            for name, value in vars(importlib.import_module(module.name)).items():
                if hasattr(value, "nopython_signatures"):
                    found[f"{value.__module__}.{name}"] = len(value.nopython_signatures)
    return found


@pytest.fixture(scope="module")
def blocks() -> np.ndarray:
    """Blocks of one colour, opaque, cut out and soft, and sides that are no multiple of four."""
    picture = np.random.default_rng(4).integers(0, 256, (14, 23, 4), np.uint8)
    picture[:4, :4] = 90
    picture[:, 4:8, 3] = 255
    picture[:, 8:12, 3] = np.where(picture[:, 8:12, 3] > 99, 255, 0)
    return picture


@pytest.mark.parametrize("name", sorted(one.name for one in formats.all_formats()))
def test_no_format_compiles_anything_later(name: str, blocks: np.ndarray) -> None:
    warm()
    before = _compiled()
    assert sum(before.values()) > 30
    pixel_format = formats.get(name)
    for how in (How(), How(effort="fast"), How(effort="high", perceptual=True), How(clear=False)):
        data = pixel_format.encode(blocks, how)
        pixel_format.decode(data, 23, 14)
    changed = np.zeros(6 * 4, bool)
    changed[::2] = True
    if pixel_format.block == (4, 4):
        pixel_format.encode(blocks, How(keep=data, changed=changed))
    assert _compiled() == before


@pytest.mark.parametrize("name", ["bc1", "bc2", "bc3", "bc4", "bc5", "bc5s", "bc7"])
def test_pictures_are_shown_while_the_kernels_are_compiled(name: str, blocks: np.ndarray) -> None:
    """By Pillow, which decodes all of these to the same bytes, and without a kernel."""
    pixel_format = formats.get(name)
    data = pixel_format.encode(blocks)
    wanted = pixel_format.decode(data, 23, 14)
    kernels.ready.clear()
    try:
        assert np.array_equal(pixel_format.decode(data, 23, 14), wanted)
    finally:
        kernels.ready.set()


def test_what_is_to_be_encoded_waits_for_the_kernels(blocks: np.ndarray) -> None:
    kernels.ready.clear()
    try:
        with ThreadPoolExecutor() as pool:
            made = pool.submit(formats.BC7.encode, blocks)
            with pytest.raises(TimeoutError):
                made.result(timeout=0.3)
            kernels.ready.set()
            assert made.result(timeout=60) == formats.BC7.encode(blocks)
    finally:
        kernels.ready.set()


def test_each_part_is_told_and_encoding_goes_on_afterwards(monkeypatch: pytest.MonkeyPatch) -> None:
    """As on a first start: nothing in the cache (though here it is, so the parts are quick)."""
    monkeypatch.setattr("brae.core.warm.cached", lambda: False)
    seen = []
    warm(lambda: seen.append(kernels.ready.is_set()))
    assert seen == [False] * PARTS
    assert kernels.ready.is_set()

    def cancel() -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        warm(cancel)
    assert kernels.ready.is_set()
