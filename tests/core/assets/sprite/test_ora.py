"""Layered files: as the published form says, and as other writers leave them."""

from __future__ import annotations

import io
import zipfile
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.base import ExchangeFile, Version
from brae.core.assets.sprite import ora
from brae.core.assets.sprite.kind import KIND
from brae.core.assets.texture.layers import Layer, flattened
from brae.core.errors import BraeError
from tests.core.assets.sprite.test_sprite import FILES, LAYOUTS, matched, opened, sent


def foreign(layers: list[tuple[str, np.ndarray, dict[str, str]]], sides: tuple[int, int], **files: bytes) -> bytes:
    """A file as another program would write it, by zipfile and Pillow alone: layers in a nested stack."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("mimetype", files.pop("mimetype", b"image/openraster"))
        rows = ""
        for number, (name, picture, more) in enumerate(layers):
            data = io.BytesIO()
            Image.fromarray(picture).save(data, "PNG")
            archive.writestr(f"data/{number}.png", data.getvalue())
            words = " ".join(f'{key}="{value}"' for key, value in more.items())
            rows += f'<layer name="{name}" src="data/{number}.png" {words}/>'
        text = f'<image w="{sides[0]}" h="{sides[1]}"><stack><stack name="all">{rows}</stack></stack></image>'
        archive.writestr("stack.xml", text)
        for name, data in files.items():
            archive.writestr(name, data)
    return stream.getvalue()


@pytest.mark.parametrize("name", LAYOUTS)
def test_out_and_back_is_no_change(name: str) -> None:
    file = opened(name)
    data = KIND.saved(file, ".ora")
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        first = archive.infolist()[0]
        assert (first.filename, first.compress_type, archive.read("mimetype")) == (
            "mimetype",
            0,
            b"image/openraster",
        )
        assert {"stack.xml", "mergedimage.png", "Thumbnails/thumbnail.png"} <= set(archive.namelist())
        image = ElementTree.fromstring(archive.read("stack.xml"))
        assert [one.get("name") for one in image.iter("layer")] == ["anchors", "borders", "sheet"]
        bottom = Image.open(io.BytesIO(archive.read(list(image.iter("layer"))[-1].get("src") or "")))
        assert np.array_equal(np.asarray(bottom.convert("RGBA"))[..., 3] > 0, sent(file)[..., 3] > 0)
        assert Image.open(io.BytesIO(archive.read("mergedimage.png"))).size == (
            int(image.get("w")),
            int(image.get("h")),
        )  # type: ignore[arg-type]
    _, encoded = KIND.match(file, Version(ExchangeFile("sprite.ora", data)), KIND.recipe(file).model_dump())
    assert encoded.data == FILES[name]
    assert KIND.saved(file, ".ora") == data


def test_a_layer_of_ones_own_is_laid_over_the_sheet_and_guides_are_left_out() -> None:
    file = opened("puff")
    sheet = sent(file)
    height, width = sheet.shape[:2]
    hat = np.zeros((2, 4, 4), np.uint8)
    colour = tuple(int(one) for one in file.palette[60])  # type: ignore[index]
    hat[...] = colour
    loud = np.full_like(sheet, 255)
    layers = [
        ("borders", loud, {}), ("my hat", hat, {"x": "6", "y": "9"}), ("not this", loud, {"visibility": "hidden"}),
        ("sheet", sheet, {"opacity": "1.0"}),
    ]  # fmt: skip
    _, again = matched(file, ExchangeFile("sprite.ora", foreign(layers, (width, height))))
    assert (again.sprite.on_canvas(0)[9:11, 6:10] == colour).all()
    assert np.array_equal(again.sprite.frames[1].picture, file.sprite.frames[1].picture)


def test_layers_are_blended_as_pillow_blends_them() -> None:
    rng = np.random.default_rng(6)
    above, under = (rng.integers(0, 256, (9, 11, 4)).astype(np.uint8) for _ in range(2))
    made = flattened([Layer("a", above), Layer("b", under)], 11, 9).astype(int)
    theirs = np.asarray(Image.alpha_composite(Image.fromarray(under), Image.fromarray(above))).astype(int)
    seen = theirs[..., 3] > 8
    assert np.abs(made - theirs)[seen].max() <= 2
    moved = flattened([Layer("a", above, -3, 4)], 11, 9)
    assert np.array_equal(moved[4:, :8], above[:5, 3:])


@pytest.mark.parametrize(
    "data",
    [
        b"nothing", b"PK\5\6" + bytes(18), foreign([], (4, 4), mimetype=b"image/other"), foreign([], (0, 4)),
        foreign([("a", np.zeros((2, 2, 4), np.uint8), {"x": "left"})], (4, 4)), foreign([], (1 << 20, 4)),
    ],
)  # fmt: skip
def test_files_that_are_none_are_refused(data: bytes) -> None:
    with pytest.raises(BraeError):
        KIND.check_file(ExchangeFile("sprite.ora", data))


def test_entities_are_refused() -> None:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("mimetype", "image/openraster")
        archive.writestr(
            "stack.xml", '<!DOCTYPE a [<!ENTITY b "bb">]><image w="1" h="1"><stack>&b;</stack></image>'
        )
    with pytest.raises(BraeError, match="entities"):
        ora.read(stream.getvalue())
