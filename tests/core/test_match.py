"""The match: what is found, and that each remedy puts its finding right."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from brae.core.layouts.library import Library
from brae.core.match.textures import Finding, apply_remedies, find, is_power_of_two, match, resize
from brae.core.textures import formats
from brae.core.textures.encode import encode_new
from brae.core.textures.files import TextureFile, read_image, read_texture
from brae.demo import art, desktop


def _texture(library: Library, picture: np.ndarray, name: str = "bc3", levels: int | None = None) -> TextureFile:
    return read_texture(desktop.ptx(picture, name, levels), library)


def _save(picture: np.ndarray, mode: str = "RGBA", kind: str = "PNG", **more: object) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(picture)).convert(mode).save(stream, kind, **more)
    return stream.getvalue()


def _found(
    data: bytes, texture: TextureFile, remedies: tuple[str, ...] = (), name: str = "x.png"
) -> dict[str, Finding]:
    sheet, _ = match(read_image(data), texture, texture.recipe(), remedies, name)
    return {finding.id: finding for finding in sheet.findings}


@pytest.fixture(scope="module")
def lamp() -> np.ndarray:
    return art.lighthouse(64, 128)


def test_an_untouched_file_has_no_findings(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    sheet, data = match(read_image(_save(texture.picture())), texture, texture.recipe(), [], "x.png")
    assert (sheet.open_findings, sheet.psnr, sheet.blocks_kept) == ([], None, sheet.blocks)
    assert [finding.id for finding in sheet.findings] == ["mip-count"], "an image editor saves one level"
    assert all(row.same for row in sheet.properties)
    assert data == texture.write(texture.levels, 64, 128)


def test_other_sides_stop_the_game_and_resizing_puts_it_right(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    data = _save(resize(texture.picture(), 100, 200))
    found = _found(data, texture)
    assert {"dimensions", "power-of-two", "byte-size"} <= set(found)
    assert found["dimensions"].severity == "stops"
    assert found["dimensions"].open
    after = _found(data, texture, ("resize",))
    assert not any(finding.open for finding in after.values())
    sheet, encoded = match(read_image(data), texture, texture.recipe(), ["resize"])
    assert len(encoded) == texture.size
    assert sheet.properties[0].same


def test_lost_and_filled_transparency(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    before = texture.picture()
    flat = Image.new("RGBA", (64, 128), (255, 255, 255, 255))
    flat.alpha_composite(Image.fromarray(np.ascontiguousarray(before)))
    white = _save(np.asarray(flat), "RGB")
    assert "alpha-filled" in _found(white, texture)
    black = _save(before[..., :3] * (before[..., 3:] > 0), "RGB")
    assert "alpha-lost" in _found(black, texture)
    repaired = apply_remedies(read_image(white).picture, texture, ["restore-alpha"])
    assert np.array_equal(repaired[..., 3], before[..., 3])
    clear = before[..., 3] == 0
    assert np.array_equal(repaired[clear], before[clear]), "white under clear pixels would bleed"
    assert not any(finding.open for finding in _found(white, texture, ("restore-alpha",)).values())


def test_gained_transparency(library: Library, photo: np.ndarray) -> None:
    opaque = photo.copy()
    opaque[..., 3] = 255
    for name in ("bc1", "bgr8"):
        texture = _texture(library, opaque, name)
        edit = texture.picture().copy()
        edit[:8, :8, 3] = 0
        found = _found(_save(edit), texture)
        assert found["alpha-gained"].remedy is not None
        assert not any(finding.open for finding in _found(_save(edit), texture, ("make-opaque",)).values())
        _, data = match(read_image(_save(edit)), texture, texture.recipe(), [])
        assert (read_texture(data, library).picture()[..., 3] == 255).all(), "an opaque texture stays opaque"


def test_soft_edges_in_a_format_of_one_bit(library: Library, photo: np.ndarray) -> None:
    hard = photo.copy()
    hard[..., 3] = np.where(photo[..., 3] > 128, 255, 0)
    texture = _texture(library, hard, "bc1")
    assert texture.recipe().alpha == "binary"
    assert "alpha-soft" in _found(_save(photo), texture)


def test_upside_down_is_noticed_and_turned(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    turned = _save(texture.picture()[::-1])
    assert "orientation" in _found(turned, texture)
    sheet, data = match(read_image(turned), texture, texture.recipe(), ["flip"])
    assert not sheet.open_findings
    assert data == texture.write(texture.levels, 64, 128)
    assert "orientation" not in _found(_save(texture.picture()), texture)


def test_depth_palette_and_file_type(library: Library, photo: np.ndarray) -> None:
    opaque = photo.copy()
    opaque[..., 3] = 255
    texture = _texture(library, opaque, "bc1")
    stream = io.BytesIO()
    Image.fromarray(opaque[..., 0].astype(np.uint16) * 257).save(stream, "PNG")
    assert "depth" in _found(stream.getvalue(), texture)
    assert "palette" in _found(_save(opaque, "P"), texture)
    jpeg = _found(_save(opaque, "RGB", "JPEG", quality=95), texture)
    assert jpeg["file-type"].severity == "shows"
    assert "file-name" in jpeg, "the name says .png, the bytes are JPEG"
    assert "file-name" not in _found(_save(opaque, "RGB", "JPEG", quality=95), texture, name="x.jpg")


def test_another_encoding_is_put_right_by_itself(library: Library, photo: np.ndarray) -> None:
    opaque = photo.copy()
    opaque[..., 3] = 255
    texture = _texture(library, opaque, "bc1")
    edit = encode_new(texture.picture(), formats.BC3, 3)
    sheet, data = match(read_image(edit), texture, texture.recipe(), [], "x.dds")
    found = {finding.id: finding for finding in sheet.findings}
    assert found["pixel-format"].severity == found["mip-count"].severity == "stops"
    assert not sheet.open_findings, "both are put right without being asked"
    result = read_texture(data, library)
    assert (result.header.format.name, result.header.levels) == ("bc1", 7)


def test_resizing_keeps_colour_at_clear_edges() -> None:
    picture = np.zeros((32, 32, 4), np.uint8)
    picture[:, :16] = (250, 40, 40, 255)
    small = resize(picture, 16, 16)
    visible = small[..., 3] > 8
    assert np.abs(small[visible][:, :3].astype(int) - (250, 40, 40)).max() <= 4
    assert resize(picture, 32, 32) is picture


def test_powers_of_two() -> None:
    assert [side for side in range(1, 70) if is_power_of_two(side)] == [1, 2, 4, 8, 16, 32, 64]


def test_findings_come_without_an_encoding_too(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    found = find(read_image(_save(lamp[:64])), texture, texture.recipe(), [])
    assert "byte-size" not in {finding.id for finding in found}
