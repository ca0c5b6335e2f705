"""DDS headers that say less or more than there is, as several writers leave them."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.encode import encode_like, encode_new
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.findings import Compared, find
from brae.core.assets.texture.texture import Header


def _pillow(picture: np.ndarray) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(picture).save(stream, "DDS")
    return stream.getvalue()


def test_sizes_of_zero_in_a_header(photo: np.ndarray) -> None:
    """The header's own and that of its pixel format: some writers leave them at 0 (common practice, no source)."""
    data = bytearray(_pillow(photo))
    plain = dds.read(bytes(data)).picture()
    data[4:8] = data[76:80] = bytes(4)
    texture = dds.read(bytes(data))
    assert (texture.picture() == plain).all()
    assert texture.rewrite(texture.header, texture.levels) == bytes(data)


@pytest.mark.parametrize("faces", [1, 2, 5])
def test_a_cube_map_with_some_of_its_faces(faces: int) -> None:
    """DDSCAPS2_CUBEMAP_* say which are there (Microsoft, "DDS_HEADER structure", dwCaps2)."""
    rng = np.random.default_rng(faces)
    pictures = rng.integers(0, 256, (faces, 8, 8, 4), np.uint8)
    one = bytearray(dds.write(Header("dds", formats.BGRA8, 8, 8, 1), [formats.BGRA8.encode(pictures[0])]))
    bits = [0x400, 0x800, 0x1000, 0x2000, 0x4000, 0x8000][6 - faces :]
    one[112:116] = (0x200 | sum(bits)).to_bytes(4, "little")
    data = bytes(one) + b"".join(formats.BGRA8.encode(picture) for picture in pictures[1:])
    texture = dds.read(data)
    assert texture.header.pictures() == faces
    assert (texture.picture() == pictures.reshape(-1, 8, 4)).all()
    assert texture.rewrite(texture.header, texture.levels) == data
    changed = texture.picture().copy()
    changed[-1] = 7
    made = encode_like(changed, texture, texture.recipe()).data
    assert made[:128] == data[:128]
    assert (dds.read(made).picture() == changed).all()


@pytest.mark.parametrize("cut", [1, 9, 30, 200])
def test_a_chain_that_is_cut_short_shows_what_is_there(photo: np.ndarray, cut: int) -> None:
    whole = encode_new(photo, formats.BC1, None)
    levels = dds.read(whole).levels
    data = whole[:-cut]
    texture = dds.read(data)
    held = len(texture.levels)
    assert texture.levels == levels[:held]
    assert (texture.missing, held) == (len(levels) - held, texture.header.levels)
    assert len(data) - sum(map(len, levels[:held])) - 128 < len(levels[held])
    assert texture.rewrite(texture.header, texture.levels) == data
    painted = texture.picture().copy()
    painted[:8, :8, :3] = 40
    made = encode_like(painted, texture, texture.recipe()).data
    assert made[:128] == data[:128], "the header goes on saying what it says"
    assert len(made) == len(data)
    found = find(Compared(read_image(write_image(painted)), texture, texture.recipe(), []))
    assert [one.title for one in found if one.id == "chain-short"] == [
        f"The original says that it has {len(levels)} mip levels, and holds {held}"
    ]
