"""Nobody waits for the compiler after set-up: what it makes ready is all that encoders and decoders call."""

from __future__ import annotations

import importlib
import pkgutil

import numpy as np
import pytest

import brae.core
from brae.core.textures import formats
from brae.core.textures.formats import How
from brae.core.warm import warm


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
