"""A picture of every finding that the eye can see, from the demo's drawings: ``python -m
tests.core.assets.texture.drawn docs/findings``.

Each shows the original, what came back, what the game would show of it, and the same with the finding's remedy.
"""

from __future__ import annotations

import io
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from PIL import Image, ImageFilter, PngImagePlugin

from brae.core.assets.sheet import Finding
from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.encode import encode_like, encode_new
from brae.core.assets.texture.files import read_image, read_raw, write_image
from brae.core.assets.texture.findings import Compared, find
from brae.core.assets.texture.formats import Picture, PixelFormat
from brae.core.assets.texture.remedies import apply_remedies
from brae.core.assets.texture.texture import Header, TextureFile
from brae.core.layouts.roles import MapUse
from brae.demo import art
from tests.core.assets.texture.painted import DAMAGES, Edit

SIDE = 128
#: between pictures, and the squares of the ground
_GAP, _SQUARE = 6, 8
Save = Callable[[Picture], bytes]


def _rng() -> np.random.Generator:
    return np.random.default_rng(7)


def _sail() -> Picture:
    return art.sail(_rng(), SIDE, SIDE)


def _stamp() -> Picture:
    """Opaque, and coloured all over."""
    picture = art.parcel(_rng(), SIDE, (196, 160, 104), art.OXBLOOD).copy()
    picture[..., 3] = 255
    return picture


def _bumps() -> Picture:
    rocks = Image.fromarray(art.rock(_rng(), SIDE)[..., 0]).filter(ImageFilter.GaussianBlur(1.2))
    down, across = np.gradient(np.asarray(rocks).astype(float) / 255 * 9)
    directions = np.dstack([-across, down, np.ones_like(down)])
    directions /= np.linalg.norm(directions, axis=2, keepdims=True)
    return np.dstack([np.rint((directions + 1) * 127.5), np.full(down.shape, 255)]).astype(np.uint8)


_OF = {"sprite": _sail, "photo": _stamp, "normal": _bumps}


@dataclass(frozen=True)
class Drawn:
    """One finding: an original, what came back, and the finding that it brings."""

    id: str
    original: TextureFile
    file: bytes
    #: what an editor shows of the file, where that is not what is in it
    editor: Picture | None = None
    #: the darkest and brightest value (0 to 1) between which all is drawn
    between: tuple[float, float] = (0.0, 1.0)

    def finding(self) -> Finding:
        """As the match sheet has it."""
        made = self.compared()
        return next(one for one in find(made) if one.id == self.id)

    def compared(self) -> Compared:
        """The edit beside its original."""
        return Compared(read_image(self.file), self.original, self.original.recipe(), [])

    def picture(self) -> Image.Image:
        """Original, what came back, what the game shows, and (where there is one) with the remedy."""
        painted = read_image(self.file).picture
        remedy = self.finding().remedy
        came_back = painted if self.editor is None else self.editor
        parts = [self.original.picture(), came_back, self._in_game(painted)]
        if remedy is not None and not remedy.automatic:
            parts.append(self._in_game(apply_remedies(painted, self.original, [remedy.id])))
        strip = Image.new("RGB", (len(parts) * (SIDE + _GAP) - _GAP, SIDE), (243, 238, 232))
        for number, part in enumerate(parts):
            strip.paste(_on_ground(self._stretched(part)), (number * (SIDE + _GAP), 0))
        return strip

    def _stretched(self, picture: Picture) -> Picture:
        low, high = self.between
        values = picture.astype(np.float32) / formats.white_of(picture)
        values[..., :3] = (values[..., :3] - low) / (high - low)
        return np.rint(values.clip(0, 1) * 255).astype(np.uint8)

    def _in_game(self, painted: Picture) -> Picture:
        made = encode_like(np.ascontiguousarray(painted), self.original, self.original.recipe())
        return self.original.again(made.data).picture()


def _on_ground(picture: Picture) -> Image.Image:
    """A picture over grey squares, as large as there is room."""
    y, x = np.mgrid[0:SIDE, 0:SIDE] // _SQUARE
    ground = Image.fromarray(np.where((x + y) % 2, 150, 120).astype(np.uint8)).convert("RGBA")
    image = Image.fromarray(np.ascontiguousarray(picture))
    image.thumbnail((SIDE, SIDE))
    ground.alpha_composite(image, ((SIDE - image.width) // 2, (SIDE - image.height) // 2))
    return ground.convert("RGB")


def _texture(picture: Picture, pixel_format: PixelFormat = formats.BC7, content: int = 1) -> TextureFile:
    return dds.read(encode_new(np.ascontiguousarray(picture), pixel_format, content))


def _file(kind: str, **more: object) -> Save:
    def save(picture: Picture) -> bytes:
        stream = io.BytesIO()
        image = Image.fromarray(picture)
        (image.convert("RGB") if kind == "JPEG" else image).save(stream, kind, **more)
        return stream.getvalue()

    return save


def _on_white(picture: Picture, _: np.random.Generator) -> Picture:
    white = Image.new("RGBA", (picture.shape[1], picture.shape[0]), (255, 255, 255, 255))
    white.alpha_composite(Image.fromarray(picture))
    return np.asarray(white)


def _opaque(picture: Picture, _: np.random.Generator) -> Picture:
    return np.dstack([picture[..., :3], np.full(picture.shape[:2], 255, np.uint8)])


def _fading(picture: Picture, _: np.random.Generator) -> Picture:
    return np.dstack([picture[..., :3], np.linspace(60, 255, SIDE * SIDE).reshape(SIDE, SIDE).astype(np.uint8)])


def _multiplied(picture: Picture, _: np.random.Generator) -> Picture:
    colour = picture[..., :3] * (picture[..., 3:] / 255)
    return np.dstack([np.rint(colour).astype(np.uint8), picture[..., 3]])


def _bare(picture: Picture, _: np.random.Generator) -> Picture:
    return np.where(picture[..., 3:] == 0, np.uint8(0), picture)


def _longer(picture: Picture, _: np.random.Generator) -> Picture:
    return np.dstack([np.clip(picture[..., :3].astype(int) + 60, 0, 255), picture[..., 3]]).astype(np.uint8)


def _glow() -> Picture:
    """A shape whose colour goes on where it is clear, its edge soft and wide."""
    y, x = np.mgrid[-1 : 1 : SIDE * 1j, -1 : 1 : SIDE * 1j]
    picture = art.water(_rng(), SIDE).copy()
    picture[..., 3] = np.clip((0.85 - np.hypot(x, y)) * 2, 0, 1) * 255
    return picture


def _few_colours(picture: Picture) -> TextureFile:
    """Indices into a palette of 16, which is the picture's own."""
    few = Image.fromarray(picture[..., :3]).quantize(16, dither=Image.Dither.NONE)
    entries = np.full((256, 4), 255, np.uint8)
    entries[:16, :3] = np.array(few.getpalette(), np.uint8)[:48].reshape(16, 3)
    assert isinstance(formats.INDEX8, formats.Indexed)
    header = Header("raw", formats.INDEX8.with_palette(entries), SIDE, SIDE, 1)
    return read_raw(np.asarray(few).tobytes(), header)


def _changed(picture: Picture, edit: Edit) -> Picture:
    return np.ascontiguousarray(edit(picture.copy(), np.random.default_rng(3)))


_PNG: Save = write_image


def drawn() -> Iterator[Drawn]:
    """Every one of them."""
    told = set()
    for damage in DAMAGES.values():
        if damage.finding not in told:
            told.add(damage.finding)
            picture = _OF[damage.of]()
            yield Drawn(damage.finding, _texture(picture, formats.RGBA8), _PNG(_changed(picture, damage.edit)))
    sail, stamp, bumps, glow = _sail(), _stamp(), _bumps(), _glow()
    for name, picture, edit in (
        ("alpha-filled", sail, _on_white),
        ("alpha-lost", glow, _opaque),
        ("alpha-gained", stamp, _fading),
        ("premultiplied", glow, _multiplied),
        ("hidden-colour", glow, _bare),
        ("channels-swapped", stamp, lambda picture, _: picture[..., [2, 1, 0, 3]]),
        ("not-unit-length", bumps, _longer),
        ("dimensions", stamp, lambda picture, _: picture[: SIDE // 2]),
        ("power-of-two", stamp, lambda picture, _: picture[:100, :100]),
        ("block-sides", stamp, lambda picture, _: picture[:99, :99]),
    ):
        yield Drawn(name, _texture(picture), _PNG(_changed(picture, edit)))
    cut = np.dstack([glow[..., :3], (glow[..., 3] > 127) * np.uint8(255)])
    yield Drawn("alpha-soft", _texture(cut, formats.BC1), _PNG(glow))
    other = _changed(stamp, lambda picture, _: picture[..., [2, 0, 1, 3]])
    yield Drawn("outside-palette", _few_colours(stamp), _PNG(other))
    yield Drawn("file-type", _texture(stamp), _file("JPEG", quality=8)(stamp))
    yield Drawn("lossy-file", _texture(stamp), _file("WEBP", quality=2)(stamp))
    ramp = np.zeros((SIDE, SIDE, 4), np.uint16)
    ramp[..., :3], ramp[..., 3] = np.linspace(9000, 14000, SIDE)[:, None, None], 65535
    fine = read_raw(formats.get("rgba16").encode(ramp), Header("raw", formats.get("rgba16"), SIDE, SIDE, 1))
    yield Drawn("depth-lost", fine, _PNG((ramp >> 8).astype(np.uint8)), between=(0.13, 0.22))
    yield from _said_by_files(stamp)


def _said_by_files(stamp: Picture) -> Iterator[Drawn]:
    """What a file says, and what lies behind its first picture, only an editor shows."""
    brighter = np.dstack([np.rint((stamp[..., :3] / 255) ** 0.55 * 255), stamp[..., 3]]).astype(np.uint8)
    gamma = io.BytesIO()
    info = PngImagePlugin.PngInfo()
    info.add(b"gAMA", (100_000).to_bytes(4, "big"))
    Image.fromarray(stamp).save(gamma, "PNG", pnginfo=info)
    yield Drawn("gamma", _texture(stamp), gamma.getvalue(), brighter)
    layers = io.BytesIO()
    marked = stamp.copy()
    marked[20:60, 20:60, :3] = (238, 184, 42)
    Image.fromarray(stamp).save(layers, "TIFF", save_all=True, append_images=[Image.fromarray(marked)])
    yield Drawn("more-pictures", _texture(stamp), layers.getvalue(), marked)
    packed = np.dstack(
        [art.rock(_rng(), SIDE)[..., 0], art.planks(_rng(), SIDE)[..., 0], stamp[..., 1], stamp[..., 3]]
    )
    texture = _texture(packed, formats.RGBA8)
    use = MapUse(channels={"r": "metallic", "g": "roughness", "b": "occlusion"})
    known = replace(texture, header=replace(texture.header, use=use))
    yield Drawn("channels-merged", known, _PNG(_changed(packed, DAMAGES["grey"].edit)))


def main(folder: Path) -> None:
    """Write all pictures."""
    folder.mkdir(parents=True, exist_ok=True)
    for one in drawn():
        one.picture().quantize(128, dither=Image.Dither.NONE).save(folder / f"{one.id}.png", optimize=True)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
