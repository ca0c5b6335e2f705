"""The match: what is found, and that each remedy puts its finding right."""

from __future__ import annotations

import io
import struct
import zlib
from typing import Any

import numpy as np
import pytest
from PIL import Image, ImageCms

from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.files import read_image, read_raw, read_texture
from brae.core.assets.texture.findings import Compared, Finding, find, is_power_of_two
from brae.core.assets.texture.remedies import apply_remedies, resize
from brae.core.assets.texture.sheet import MatchSheet, match
from brae.core.assets.texture.texture import Header, Recipe, TextureFile
from brae.core.layouts.library import Library
from brae.demo import art, desktop


def _texture(library: Library, picture: np.ndarray, name: str = "bc3", levels: int | None = None) -> TextureFile:
    return read_texture(desktop.ptx(picture, name, levels), library)


def _save(picture: np.ndarray, mode: str = "RGBA", kind: str = "PNG", **more: object) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(picture)).convert(mode).save(stream, kind, **more)
    return stream.getvalue()


def matched(*arguments: Any, **more: Any) -> tuple[MatchSheet, bytes]:
    """The sheet of an edit, and the bytes of its file."""
    sheet, made = match(*arguments, **more)
    return sheet, made.data


def _found(
    data: bytes, texture: TextureFile, remedies: tuple[str, ...] = (), name: str = "x.png"
) -> dict[str, Finding]:
    sheet, _ = matched(read_image(data), texture, texture.recipe(), remedies, name)
    return {finding.id: finding for finding in sheet.findings}


@pytest.fixture(scope="module")
def lamp() -> np.ndarray:
    return art.lighthouse(64, 128)


def test_an_untouched_file_has_no_findings(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    sheet, data = matched(read_image(_save(texture.picture())), texture, texture.recipe(), [], "x.png")
    assert (sheet.open_findings, sheet.quality.psnr, sheet.blocks_kept) == ([], None, sheet.blocks)
    assert sheet.findings == [], "an image editor saves one level, and nobody has to decide anything"
    assert all(row.same for row in sheet.properties)
    assert data == texture.rewrite(texture.header, texture.levels)


def test_other_sides_stop_the_game_and_resizing_puts_it_right(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp)
    data = _save(resize(texture.picture(), 100, 200))
    found = _found(data, texture)
    assert {"dimensions", "power-of-two", "byte-size"} <= set(found)
    assert found["dimensions"].severity == "stops"
    assert found["dimensions"].open
    after = _found(data, texture, ("resize",))
    assert not any(finding.open for finding in after.values())
    sheet, encoded = matched(read_image(data), texture, texture.recipe(), ["resize"])
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
        _, data = matched(read_image(_save(edit)), texture, texture.recipe(), [])
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
    sheet, data = matched(read_image(turned), texture, texture.recipe(), ["flip"])
    assert not sheet.open_findings
    assert data == texture.rewrite(texture.header, texture.levels)
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
    sheet, data = matched(read_image(edit), texture, texture.recipe(), [], "x.dds")
    found = {finding.id: finding for finding in sheet.findings}
    assert found["pixel-format"].severity == found["mip-count"].severity == "note"
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
    found = find(Compared(read_image(_save(lamp[:64])), texture, texture.recipe(), []))
    assert "byte-size" not in {finding.id for finding in found}


def _original(picture: np.ndarray, pixel_format: formats.PixelFormat, levels: int | None = 1) -> TextureFile:
    return dds.read(encode_new(picture, pixel_format, levels, dx10=pixel_format is formats.RGBA16F))


def test_exchanged_channels_are_noticed_and_put_right(library: Library, lamp: np.ndarray) -> None:
    texture = _texture(library, lamp, "bgra8")
    swapped = _save(texture.picture()[..., [2, 1, 0, 3]])
    assert "channels-swapped" in _found(swapped, texture)
    sheet, data = matched(read_image(swapped), texture, texture.recipe(), ["swap-red-blue"])
    assert not sheet.open_findings
    assert data == texture.rewrite(texture.header, texture.levels)


def test_colour_under_clear_pixels_is_kept(photo: np.ndarray) -> None:
    painted = photo.copy()
    painted[:20, :, 3] = 0
    texture = _original(painted, formats.BGRA8)
    wiped = painted.copy()
    wiped[wiped[..., 3] == 0] = 0
    assert "hidden-colour" in _found(_save(wiped), texture)
    _, data = matched(read_image(_save(wiped)), texture, texture.recipe(), ["restore-hidden"])
    assert data == texture.rewrite(texture.header, texture.levels)


def test_premultiplied_colour_is_noticed_and_divided_again(photo: np.ndarray) -> None:
    texture = _original(photo, formats.BGRA8)
    multiplied = photo.copy()
    multiplied[..., :3] = np.rint(photo[..., :3] * (photo[..., 3:] / 255))
    assert "premultiplied" in _found(_save(multiplied), texture)
    assert "premultiplied" not in _found(_save(photo), texture)
    again = apply_remedies(multiplied, texture, ["unmultiply"])
    solid = photo[..., 3] > 200
    assert np.abs(again[solid].astype(int) - photo[solid]).max() <= 1


def normal_map(side: int = 64) -> np.ndarray:
    """Round bumps as 8-bit directions."""
    y, x = np.mgrid[0:side, 0:side] / 9.0
    slope = np.dstack([np.sin(x) * 0.6, np.cos(y) * 0.6, np.ones_like(x)])
    directions = slope / np.linalg.norm(slope, axis=2, keepdims=True)
    return np.dstack([np.rint((directions + 1) * 127.5), np.full((side, side), 255)]).astype(np.uint8)


def test_normal_maps_are_known_and_their_faults_found() -> None:
    bumps = normal_map()
    texture = _original(bumps, formats.RGBA8, None)
    assert texture.recipe().content == "normal"
    turned = bumps.copy()
    turned[..., 1] = 255 - turned[..., 1]
    assert "green-direction" in _found(_save(turned), texture)
    assert np.array_equal(apply_remedies(turned, texture, ["flip-green"]), bumps)
    long = bumps.copy()
    long[:32, :, :2] = 128
    long[:32, :, 2] = 190
    assert "not-unit-length" in _found(_save(long), texture)
    mended = apply_remedies(long, texture, ["normalise"])
    assert "not-unit-length" not in _found(_save(mended), texture)
    sheet, _ = matched(read_image(_save(bumps)), _original(bumps, formats.BC5), _recipe(bumps), [])
    assert sheet.quality.angle is not None


def _recipe(bumps: np.ndarray) -> Recipe:
    return _original(bumps, formats.BC5).recipe()


def test_packed_maps_must_not_come_back_grey(photo: np.ndarray) -> None:
    opaque = np.dstack([photo[..., :3], np.full(photo.shape[:2], 255, np.uint8)])
    texture = _original(opaque, formats.RGB8)
    recipe = texture.recipe().model_copy(update={"content": "data"})
    grey = np.repeat(opaque[..., 1:2], 4, axis=2)
    grey[..., 3] = 255
    found = find(Compared(read_image(_save(grey)), texture, recipe, []))
    assert "channels-merged" in {finding.id for finding in found}


def test_what_a_file_says_of_its_colours(photo: np.ndarray) -> None:
    texture = _original(photo, formats.BGRA8)
    plain = _save(photo)
    gamma = plain[:33] + b"\0\0\0\4gAMA" + (100_000).to_bytes(4, "big") + b"\x31\xe8\x96\x5f" + plain[33:]
    assert "gamma" in _found(gamma, texture), "RFC 2083: gamma in 100,000ths"
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    assert _found(_save(photo, icc_profile=profile), texture)["colour-profile"].severity == "note"
    light = _original(photo, formats.RGBA16F)
    assert _found(plain, light)["depth-lost"].severity == "shows"


def _with_chunks(png: bytes, *chunks: tuple[bytes, bytes]) -> bytes:
    """A PNG with chunks behind its header (PNG, third edition, 5.3)."""
    made = b"".join(
        struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))
        for name, data in chunks
    )
    return png[:33] + made + png[33:]


SRGB, GAMMA_1 = (b"sRGB", b"\0"), (b"gAMA", struct.pack(">I", 100_000))
OWN = struct.pack(
    ">8I", 31270, 32900, 70800, 29200, 17000, 79700, 13100, 4600
)  # BT.2020's, as ITU-T H.273 has them
PRIMARIES = (b"cHRM", OWN)


@pytest.mark.parametrize(
    ("chunks", "wanted"),
    [
        ([GAMMA_1], {"gamma"}),
        ([SRGB, GAMMA_1, PRIMARIES], set()),
        ([PRIMARIES], {"colour-space"}),
        ([(b"cHRM", struct.pack(">8I", 31270, 32900, 64000, 33000, 30000, 60000, 15000, 6000))], set()),
        ([(b"cICP", b"\x09\x10\0\x01")], {"colour-space"}),
        ([(b"cICP", b"\x01\x0d\0\x01"), GAMMA_1, PRIMARIES], set()),
    ],
)
def test_what_is_believed_of_a_pngs_colours(
    photo: np.ndarray, chunks: list[tuple[bytes, bytes]], wanted: set[str]
) -> None:
    """PNG, third edition, 4.3: cICP before iCCP before sRGB before gAMA and cHRM."""
    found = _found(_with_chunks(_save(photo), *chunks), _original(photo, formats.BGRA8))
    assert found.keys() & {"gamma", "colour-profile", "colour-space"} == wanted


def test_files_that_lost_something_or_hold_more_are_told(photo: np.ndarray) -> None:
    texture, opaque = _original(photo, formats.BGRA8), photo[..., :3]
    assert "lossy-file" in _found(_save(photo, kind="WEBP", quality=80), texture)
    assert "lossy-file" not in _found(_save(photo, kind="WEBP", lossless=True, exact=True), texture)
    assert "lossy-file" in _found(_save(opaque, "RGB", "TIFF", compression="jpeg"), texture)
    assert "lossy-file" not in _found(_save(photo, kind="TIFF", compression="tiff_lzw"), texture)
    more = [Image.fromarray(photo[::-1].copy()), Image.fromarray(photo[:, ::-1].copy())]
    for kind in ("PNG", "TIFF", "WEBP"):
        quality = {"lossless": True} if kind == "WEBP" else {}
        found = _found(_save(photo, kind=kind, save_all=True, append_images=more, **quality), texture)
        assert found["more-pictures"].title.startswith("The file holds 2 more pictures"), kind
        assert "more-pictures" not in _found(_save(photo, kind=kind, **quality), texture), kind


def test_colour_that_a_lossless_webp_changes_under_clear_pixels_is_told(photo: np.ndarray) -> None:
    before = photo.copy()
    before[:40, :, 3] = 0
    texture = _original(before, formats.BGRA8)
    assert "hidden-colour" in _found(_save(before, kind="WEBP", lossless=True, exact=False), texture)
    assert "hidden-colour" not in _found(_save(before, kind="WEBP", lossless=True, exact=True), texture)


def test_colours_outside_a_palette_are_counted() -> None:
    entries = np.array([[0, 0, 0, 255], [200, 40, 40, 255], [40, 60, 200, 255]], np.uint8)
    indexed = formats.INDEX8.with_palette(entries)
    picture = entries[np.arange(64).reshape(8, 8) % 3]
    texture = read_raw(indexed.encode(picture), Header("raw", indexed, 8, 8, 1))
    edit = picture.copy()
    edit[0, 1] = (201, 41, 40, 255)
    found = _found(_save(edit), texture)
    assert found["outside-palette"].title.startswith("1 of 4 colours")
    _, data = matched(read_image(_save(edit)), texture, texture.recipe(), [])
    assert data == indexed.encode(picture), "the nearest entry is the one that was there"


@pytest.mark.parametrize("kind", ["PNG", "BMP", "TGA", "DDS"])
def test_what_an_editor_appended_is_left_out_and_told(kind: str, library: Library, lamp: np.ndarray) -> None:
    """PNG ends with IEND, BMP states its size, a TGA of version 2.0 has a footer of 26 bytes (Pillow writes it)."""
    texture = _texture(library, lamp)
    picture = texture.picture()
    data = encode_new(picture, formats.RGBA8, 1) if kind == "DDS" else _save(picture, kind=kind)
    plain = read_image(data, f"x.{kind.lower()}")
    assert plain.appended == (26 if kind == "TGA" else 0)
    # Behind a TGA's picture an editor has its area, of which the footer says where it begins.
    more = b"\xef\x01IEND" + bytes(488) + b"\x03"  # its size, and last that there is alpha
    longer = data + more
    if kind == "TGA":
        longer = data[:-26] + more + (len(data) - 26).to_bytes(4, "little") + data[-22:]
    found = read_image(longer, f"x.{kind.lower()}")
    assert found.appended == plain.appended + 495
    assert np.array_equal(found.picture, plain.picture)
    sheet, _ = matched(found, texture, texture.recipe(), [], f"x.{kind.lower()}")
    told = next(finding for finding in sheet.findings if finding.id == "appended")
    assert (told.severity, told.title.partition(" ")[0]) == ("note", str(found.appended))


def test_a_size_that_differs_by_what_was_appended_stops_nothing(library: Library, lamp: np.ndarray) -> None:
    raw = _save(lamp, kind="BMP", mode="RGB")
    texture = read_texture(raw + b"made by an editor", library, "lamp.bmp")
    assert texture.appended == 17
    painted = texture.picture().copy()
    painted[:8, :8, :3] = 9
    sheet, data = matched(read_image(_save(painted)), texture, texture.recipe(), [], "lamp.png")
    assert len(data) == len(raw)
    size = next(finding for finding in sheet.findings if finding.id == "byte-size")
    assert (size.severity, "only what an editor had appended" in size.title) == ("note", True)
