"""Pictures of open formats as textures: told by their beginnings, and JPEG files written as they were.

The reference is Pillow, which wrote every file here and says what it holds.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
from PIL import Image
from PIL.JpegImagePlugin import get_sampling

from brae.core.assets.base import HEAD, Context
from brae.core.assets.registry import kinds
from brae.core.assets.texture import files, images
from brae.core.catalogue import describe
from brae.core.errors import FormatError, ShortError
from brae.core.layouts.library import Library

SIDES = (53, 37)


def _smooth() -> np.ndarray:
    """A picture as photographs are: slopes, an edge, a little noise."""
    high, wide = np.mgrid[0:37, 0:53]
    picture = np.stack([high * 4, wide * 3, (high + wide) * 2, np.full_like(high, 255)], axis=-1)
    picture[10:20, 15:30, :3] = (220, 60, 40)
    return (picture + np.random.default_rng(1).integers(0, 4, picture.shape)).clip(0, 255).astype(np.uint8)


def _file(kind: str, mode: str, **more: Any) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(_smooth()).convert(mode).save(stream, kind, **more)
    return stream.getvalue()


FILES = {
    "jpeg": _file("JPEG", "RGB"),
    "jpeg, progressive": _file("JPEG", "RGB", progressive=True),
    "jpeg, grey": _file("JPEG", "L"),
    "jpeg, a profile before its sides": _file("JPEG", "RGB", icc_profile=bytes(3000)),
    "gif": _file("GIF", "P"),
    "gif, clear": _file("GIF", "P", transparency=3),
    "tiff": _file("TIFF", "RGB"),
    "tiff, packed": _file("TIFF", "RGBA", compression="tiff_lzw"),
    "webp": _file("WEBP", "RGB"),
    "webp, lossless": _file("WEBP", "RGBA", lossless=True),
    "webp, extended": _file("WEBP", "RGBA", quality=50, icc_profile=bytes(200)),
    "bmp": _file("BMP", "RGB"),
    "png": _file("PNG", "RGBA"),
}


@pytest.mark.parametrize("name", FILES)
def test_a_beginning_says_what_the_file_says(name: str) -> None:
    data = FILES[name]
    item = describe(
        data[:HEAD],
        Library(),
        label=name,
        name=name,
        stored=len(data),
        real=len(data),
        packer="none",
        read=lambda length: data[:length],
    )
    whole = images.read(data)
    assert (item.kind, item.container, item.fault) == ("texture", name.partition(",")[0], None)
    assert (item.facts["width"], item.facts["height"]) == SIDES
    assert (item.facts["format"] == "rgba8") == whole.has_alpha


@pytest.mark.parametrize("name", FILES)
def test_every_cut_is_told_or_refused(name: str) -> None:
    """Whatever is missing of the beginning: the right sides, or one of Brae's errors."""
    data = FILES[name]
    for length in [*range(0, min(len(data), 700), 7), len(data) - 1]:
        try:
            found = images.sniff(data[:length], name)
        except FormatError:
            continue
        assert found is None or found[1:3] == SIDES


def test_what_only_more_bytes_would_tell_is_said_so() -> None:
    with pytest.raises(ShortError):
        images.sniff(FILES["jpeg, a profile before its sides"][:HEAD])
    with pytest.raises(ShortError):
        images.sniff(FILES["tiff, packed"][:64])


@pytest.mark.parametrize("quality", [35, 75, 95])
@pytest.mark.parametrize("subsampling", [0, 2])
def test_a_jpeg_file_comes_back_as_it_was_packed(quality: int, subsampling: int) -> None:
    data = _file("JPEG", "RGB", quality=quality, subsampling=subsampling, progressive=quality == 75)
    kind = kinds()["texture"]
    asset = kind.read(data, Context(Library(), "photo.jpg"))
    again = kind.rebuild(asset)
    assert again is not None
    with Image.open(io.BytesIO(data)) as first, Image.open(io.BytesIO(again)) as second:
        assert first.quantization == second.quantization  # type: ignore[attr-defined]
        assert get_sampling(first) == get_sampling(second)
        assert bool(first.info.get("progressive")) == bool(second.info.get("progressive"))
        far = np.abs(np.asarray(first, int) - np.asarray(second, int))
    # Quantised twice by the same tables: hardly anything moves.
    assert far.mean() < 1.5
    assert len(again) < 1.1 * len(data)


def test_a_turned_jpeg_file_is_written_as_it_is_shown() -> None:
    exif = Image.Exif()
    exif[274] = 6
    data = _file("JPEG", "RGB", exif=exif)
    asset = files.read_picture_file(data, "photo.jpg")
    assert (asset.header.width, asset.header.height) == (37, 53)
    with Image.open(io.BytesIO(asset.rewrite(asset.header, asset.levels))) as again:
        assert again.size == (37, 53)
        assert again.getexif().get(274, 1) == 1


def test_ink_colours_are_read_and_not_written() -> None:
    asset = files.read_picture_file(_file("JPEG", "CMYK"), "photo.jpg")
    with pytest.raises(FormatError, match="CMYK"):
        asset.rewrite(asset.header, asset.levels)
