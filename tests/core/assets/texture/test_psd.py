"""Layered pictures that psd-tools writes, whole, in 8 and 16 bits, without a merged picture, and damaged."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import skimage.data
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from psd_tools import PSDImage
from psd_tools.constants import BlendMode

from brae.core.assets.texture import psd
from brae.core.assets.texture.files import read_image
from brae.core.errors import BraeError, FormatError, LimitError

ART = np.dstack([skimage.data.astronaut()[:24, :40], np.tile(np.arange(40, dtype=np.uint8) * 6, (24, 1))])


def _saved(file: PSDImage) -> bytes:
    stream = io.BytesIO()
    file.save(stream)
    return stream.getvalue()


def merged(picture: np.ndarray) -> bytes:
    """A file with one merged picture."""
    return _saved(PSDImage.frompil(Image.fromarray(picture)))


def layered(*layers: tuple[str, np.ndarray, int, int], sides: tuple[int, int] = (40, 24)) -> bytes:
    """A file with layers (name, pixels, left, top), the lowest first."""
    file = PSDImage.new("RGBA", sides)
    for name, pixels, left, top in layers:
        file.create_pixel_layer(Image.fromarray(pixels), name=name, top=top, left=left)
    return _saved(file)


@pytest.mark.parametrize("mode", ["RGBA", "RGB", "L"])
def test_the_merged_picture(mode: str) -> None:
    image = Image.fromarray(ART).convert(mode)
    found = read_image(merged(np.asarray(image)), "gull.psd")
    assert (found.type, found.bits, found.has_alpha) == ("psd", 8, mode == "RGBA")
    assert np.array_equal(found.picture, np.asarray(image.convert("RGBA")))


def test_sixteen_bits() -> None:
    """Written by hand: no compression, three channels one after the other (the specification's "Image Data")."""
    random = np.random.default_rng(3)
    pixels = random.integers(0, 65_536, (3, 5, 7), dtype=np.uint16)
    header = struct.pack(">4sH6xHIIHH", b"8BPS", 1, 3, 5, 7, 16, 3)
    data = header + struct.pack(">III", 0, 0, 0) + struct.pack(">H", 0) + pixels.astype(">u2").tobytes()
    found = read_image(data)
    assert found.picture.dtype == np.uint16
    assert not found.has_alpha
    assert np.array_equal(found.picture[..., :3], pixels.transpose(1, 2, 0))


def test_layers_that_show_where_frames_are_do_not_come_back() -> None:
    lines = np.zeros_like(ART)
    lines[::6] = (255, 0, 0, 255)
    made, *_ = psd.read(layered(("sheet", ART, 0, 0), ("Borders", lines, 0, 0)), ("borders", "anchors"))
    assert np.array_equal(made, ART), "to the bit, also where it is nearly clear"
    both, *_ = psd.read(layered(("sheet", ART, 0, 0), ("more", ART[:6, :6, :3], 4, 5)))
    assert np.array_equal(both[5:11, 4:10, :3], ART[:6, :6, :3])


def test_other_ways_of_blending_are_as_the_editor_shows_them() -> None:
    """Multiplied with grey; the specification of PDF 2.0, 11.3.5, has the formula."""
    opaque = ART.copy()
    opaque[..., 3] = 255
    file = PSDImage.open(
        io.BytesIO(
            layered(("low", np.full_like(ART, 255), 0, 0), ("high", opaque, 0, 0), ("borders", opaque, 0, 0))
        )
    )
    low, high, _ = file
    grey = np.full_like(ART, 128)
    grey[..., 3] = 255
    file.remove(low)
    file.insert(0, file.create_pixel_layer(Image.fromarray(grey), name="grey"))
    high.blend_mode = BlendMode.MULTIPLY
    made, *_ = psd.read(_saved(file), ("borders",))
    assert np.abs(made[..., :3] - opaque[..., :3] * (128 / 255)).max() <= 1.5


def test_what_a_game_has_not_is_a_clear_error() -> None:
    header = struct.Struct(">4sH6xHIIHH")
    for fields, words in (
        ((b"8BPS", 1, 4, 5, 5, 8, 4), "CMYK"),
        ((b"8BPS", 1, 3, 5, 5, 32, 3), "32 bits"),
        ((b"8BPS", 1, 3, 1 << 20, 1 << 20, 8, 3), "1,048,576"),
    ):
        with pytest.raises((FormatError, LimitError), match=words):
            psd.read(header.pack(*fields) + bytes(14))
    with pytest.raises(FormatError, match="cut short"):
        psd.read(b"8BPS")


@settings(max_examples=60, deadline=None)
@given(at=st.integers(0, 3000), junk=st.binary(min_size=1, max_size=8), cut=st.integers(20, 4000))
def test_any_damage_is_a_picture_or_a_clear_error(at: int, junk: bytes, cut: int) -> None:
    data = bytearray(_WHOLE)
    at %= len(data)
    data[at : at + len(junk)] = junk
    try:
        found = psd.read(bytes(data[:cut]))
    except BraeError:
        return
    assert found[0].ndim == 3


_WHOLE = layered(("sheet", ART, 0, 0), ("more", ART[:4, :4], 3, 3))
