"""The desktop edition: loads the game's files and draws the harbour, so that each texture can be recognised."""

from __future__ import annotations

from pathlib import Path

from PIL import Image, ImageDraw

from brae.demo.standin.loader import (
    Cloth,
    Expected,
    Files,
    own_size,
    read_bundle,
    read_grain,
    read_light,
    read_material,
    read_minis,
    read_streamed,
    read_texture,
)
from brae.demo.standin.report import HEIGHT, WIDTH, BadTexture, Refusal, Report, placeholder, png
from brae.demo.standin.shapes import models
from brae.demo.standin.voices import ring, speak, tune

_BC1, _BC3, _BC4, _BC5, _BC7, _BGRA, _BGR = 1, 3, 4, 5, 7, 8, 9

#: the game's own table of the textures in this scene
TABLE: dict[str, Expected] = {
    "textures/harbour/sky.ptx": Expected(512, 256, _BC1, 10),
    "textures/harbour/lighthouse.ptx": Expected(256, 512, _BC3, 10),
    "textures/harbour/jetty.ptx": Expected(256, 256, _BC1, 9),
    "textures/harbour/chart.ptx": Expected(256, 256, _BGR, 1),
    "textures/harbour/shop_00.ptx": Expected(128, 128, _BC3, 8),
    "textures/harbour/shop_03.ptx": Expected(128, 128, _BC3, 8),
    "textures/boat/hull.ptx": Expected(512, 256, _BC3, 10),
    "textures/boat/sail.ptx": Expected(256, 256, _BC3, 9),
    "textures/boat/pennant.ptx": Expected(128, 64, _BGRA, 8),
    "textures/signs/mossbay.ptx": Expected(128, 128, _BGRA, 8),
    "textures/post/label.ptx": Expected(256, 128, _BGRA, 1),
    "textures/post/parcel_00.ptx": Expected(128, 128, _BC1, 8),
    "textures/post/parcel_05.ptx": Expected(128, 128, _BC1, 8),
    "textures/post/parcel_10.ptx": Expected(128, 128, _BC1, 8),
    "textures/stamps/stamp_00.ptx": Expected(128, 128, _BC1, 8),
    "textures/stamps/stamp_01.ptx": Expected(128, 128, _BC3, 8),
    "textures/stamps/stamp_02.ptx": Expected(128, 128, _BC3, 8),
    "textures/seabirds/gull_1.ptx": Expected(64, 64, _BC3, 7),
    "textures/seabirds/petrel_4.ptx": Expected(64, 64, _BGRA, 7),
    "textures/seabirds/skua_2.ptx": Expected(64, 64, _BGRA, 1),
    "textures/water/sea_00.ptx": Expected(128, 128, _BC1, 8),
    "textures/water/sea_05.ptx": Expected(128, 128, _BC1, 8),
    "textures/rock/skerry_00.ptx": Expected(128, 128, _BC1, 8),
    "textures/rock/skerry_03.ptx": Expected(128, 128, _BGR, 8),
    "textures/weather/sign_00.ptx": Expected(64, 64, _BGRA, 1),
    "textures/weather/sign_01.ptx": Expected(64, 64, _BGRA, 1),
    "textures/harbour/dusk.ptx": Expected(512, 256, _BC7, 10),
    "textures/water/swell_n.ptx": Expected(128, 128, _BC5, 8),
    "textures/boat/hull_wear.ptx": Expected(256, 128, _BC7, 9),
    "textures/rock/height.ptx": Expected(128, 128, _BC4, 8),
}


#: light, in a file of an open format
NOON = "textures/harbour/noon.dds"
#: in two files: small levels in the one, large ones in the other
CLIFF = "textures/rock/cliff.pts"
#: pixels and nothing else
GRAIN = "textures/grain/wood_00.raw"
#: small pictures of an archive that knows only hashes, and objects of the bundle
MINIS = [f"textures/stamps/stamp_{k:02d}.ptx" for k in range(6)]
#: what is rung while the boat comes in
BELL = "sounds/bell/00.wav"
#: what is played on the way
TUNE = "tunes/crossing.ogg"
FIGURES = ("keeper", "ishbel", "ferryman")


def play(folder: Path, report: Report) -> Report:
    """Start the game and draw the harbour."""
    textures: dict[str, Image.Image] = {}
    try:
        files = Files(folder, report.trace.append)
        for name, expected in TABLE.items():
            try:
                data = files.read(name)
            except BadTexture as reason:
                report.replaced(name, reason)
            else:
                _take(name, data, expected, textures, report)
        try:
            noon = read_light(files.read(NOON), NOON, 256, 128, 9)
        except BadTexture as reason:
            report.replaced(NOON, reason)
        else:
            textures[NOON] = noon
            report.trace.append(f"{NOON}: 256 x 128 of light")
        _stream(files, textures, report)
        try:
            textures[GRAIN] = read_grain(files.read(GRAIN), GRAIN)
            report.trace.append(f"{GRAIN}: 128 x 128 without a header")
        except BadTexture as reason:
            report.replaced(GRAIN, reason)
        minis = read_minis(folder / "data/minis.hash", MINIS, report.trace.append)
        for k, data in enumerate(minis):
            _take(f"mini {k}", data, Expected(32, 32, _BGRA, 1), textures, report)
        objects = read_bundle(folder / "data/figures.bundle", report.trace.append)
        speak(objects, report)
        try:
            ring(files.read(BELL), BELL, report)
        except BadTexture as reason:
            report.trace.append(f"no bell: {reason}")
        try:
            tune(files.read(TUNE), TUNE, report)
        except BadTexture as reason:
            report.trace.append(f"no tune: {reason}")
        cloths: dict[str, Cloth] = {}
        for name in FIGURES:
            material = objects.get(f"materials/{name}.txt")
            if material is None:
                report.trace.append(f"materials/{name} is not there: nothing is drawn of the {name}")
                continue
            cloths[name] = cloth = read_material(material, f"materials/{name}")
            figure = objects.get(f"{cloth.colour}.ptx")
            if figure is None:
                report.replaced(f"figure {name}", BadTexture(f"materials/{name} names {cloth.colour}: not there"))
            else:
                _take(f"figure {name}", figure, Expected(128, 128, _BC1, 8), textures, report)

        def texture(colour: str) -> Image.Image:
            name = f"{colour}.ptx"
            if name in textures:
                return textures[name]
            data = objects.get(name) or files.read(name)
            return read_texture(data, name, own_size(data))

        shapes = models(objects, texture, report)
    except Refusal as reason:
        return report.stop(reason)
    wanted = len(TABLE) + len(MINIS) + len(FIGURES) + 3
    report.trace.append(f"scene drawn with {len(textures)} of {wanted} textures")
    report.scene = png(_harbour(textures, cloths, shapes))
    return report


def _lit(cloth: Image.Image, material: Cloth) -> Image.Image:
    """Cloth around a body, lit from the left: Lambert's cosine over what comes from everywhere, and a shine."""
    lit = cloth.copy()
    pixels = lit.load()
    assert pixels is not None
    for x in range(lit.width):
        side = 2 * (x + 0.5) / lit.width - 1
        facing = max(0.0, -0.6 * side + 0.8 * (1 - side * side) ** 0.5)
        shine = material.highlight * facing**24
        light = [one + (1 - one) * facing for one in material.ambient]
        for y in range(lit.height):
            *colour, alpha = pixels[x, y]  # type: ignore[misc]
            shown = (round(min(255, one * by + 255 * shine)) for one, by in zip(colour, light, strict=True))
            pixels[x, y] = (*shown, alpha)
    return lit


def _stream(files: Files, textures: dict[str, Image.Image], report: Report) -> None:
    try:
        stub, away = files.read(CLIFF), files.read(f"streams/{CLIFF.removesuffix('.pts')}.lvl")
        textures[CLIFF] = read_streamed(stub, away, CLIFF, Expected(512, 512, _BC1, 10), 7)
        report.trace.append(f"{CLIFF}: 512 x 512, 3 levels streamed")
    except BadTexture as reason:
        report.replaced(CLIFF, reason)


def _take(name: str, data: bytes, expected: Expected, textures: dict[str, Image.Image], report: Report) -> None:
    try:
        textures[name] = read_texture(data, name, expected)
        report.trace.append(f"{name}: {expected.width} x {expected.height}, {len(data):,} bytes")
    except BadTexture as reason:
        report.replaced(name, reason)


def _harbour(
    textures: dict[str, Image.Image], cloths: dict[str, Cloth], shapes: dict[str, Image.Image]
) -> Image.Image:
    scene = Image.new("RGBA", (WIDTH, HEIGHT))

    def texture(name: str) -> Image.Image:
        name = f"textures/{name}.ptx"
        expected = TABLE[name]
        return textures.get(name) or placeholder(expected.width, expected.height)

    def put(name: str, x: int, y: int, width: int, height: int, turn: float = 0) -> None:
        image = texture(name).resize((width, height), Image.Resampling.LANCZOS)
        if turn:
            image = image.rotate(turn, Image.Resampling.BICUBIC, expand=True)
        scene.alpha_composite(image, (x, y))

    def tile(name: str, box: tuple[int, int, int, int], side: int) -> None:
        image = texture(name).resize((side, side), Image.Resampling.LANCZOS)
        area = Image.new("RGBA", (box[2] - box[0], box[3] - box[1]))
        for y in range(0, area.height, side):
            for x in range(0, area.width, side):
                area.paste(image, (x, y))
        scene.paste(area, box[:2])

    def skerry(name: str, outline: list[tuple[int, int]], side: int) -> None:
        stone = Image.new("RGBA", scene.size)
        image = texture(name).resize((side, side), Image.Resampling.LANCZOS)
        for y in range(0, HEIGHT, side):
            for x in range(0, WIDTH, side):
                stone.paste(image, (x, y))
        mask = Image.new("L", (WIDTH * 2, HEIGHT * 2))
        ImageDraw.Draw(mask).polygon([(x * 2, y * 2) for x, y in outline], fill=255)
        scene.paste(stone, (0, 0), mask.resize((WIDTH, HEIGHT), Image.Resampling.BOX))

    put("harbour/sky", 0, 0, WIDTH, 360)
    tile("water/sea_00", (0, 340, WIDTH, 470), 96)
    tile("water/sea_05", (0, 470, WIDTH, HEIGHT), 170)
    skerry(
        "rock/skerry_00",
        [(0, 320), (90, 268), (170, 286), (262, 276), (330, 318), (372, 368), (330, 402), (120, 412), (0, 398)],
        110,
    )
    skerry("rock/skerry_03", [(806, 352), (850, 306), (918, 296), (WIDTH, 322), (WIDTH, 402), (842, 394)], 96)
    put("harbour/lighthouse", 120, 20, 136, 272)
    put("harbour/shop_00", 840, 222, 104, 104)
    put("harbour/shop_03", 920, 246, 88, 88)
    tile("harbour/jetty", (0, 520, 470, HEIGHT), 120)
    draw = ImageDraw.Draw(scene)
    draw.rectangle([0, 512, 470, 522], fill=(74, 58, 44, 255))
    for x in (60, 200, 340, 462):
        draw.rectangle([x - 8, 486, x + 8, HEIGHT], fill=(64, 50, 40, 255))
        draw.ellipse([x - 8, 480, x + 8, 492], fill=(120, 98, 74, 255))
    draw.line([(672, 130), (672, 480)], fill=(92, 66, 44, 255), width=9)
    put("boat/sail", 655, 160, 262, 262)
    put("boat/pennant", 580, 118, 96, 48)
    put("boat/hull", 482, 388, 452, 226)
    put("post/parcel_00", 56, 428, 96, 96)
    put("post/parcel_05", 150, 442, 82, 82)
    put("post/parcel_10", 106, 352, 80, 80)
    put("post/parcel_05", 620, 404, 58, 58, -6)
    put("signs/mossbay", 318, 372, 150, 150)
    put("seabirds/gull_1", 430, 60, 92, 92)
    put("seabirds/petrel_4", 520, 190, 64, 64)
    put("seabirds/skua_2", 330, 150, 72, 72)
    put("post/label", 24, 540, 168, 84)
    for number in range(3):
        put(f"stamps/stamp_0{number}", 210 + 84 * number, 540, 76, 76)
    put("harbour/chart", WIDTH - 136, 16, 120, 120)
    draw.rectangle([WIDTH - 138, 14, WIDTH - 15, 137], outline=(58, 46, 40, 255), width=3)
    put("weather/sign_00", WIDTH - 196, 16, 48, 48)
    put("weather/sign_01", WIDTH - 196, 70, 48, 48)
    # What a game never shows as it is, on the wall of the drawing office: maps of numbers, and two more skies.
    for place, name in enumerate(("water/swell_n", "boat/hull_wear", "rock/height", "harbour/dusk")):
        put(name, 420 + 60 * place, 16, 52, 52)
    noon = textures.get(NOON) or placeholder(256, 128)
    scene.paste(noon.resize((104, 52), Image.Resampling.LANCZOS), (420 + 60 * 4, 16))
    cliff = textures.get(CLIFF) or placeholder(512, 512)
    scene.paste(cliff.resize((52, 52), Image.Resampling.LANCZOS), (300, 16))
    grain = textures.get(GRAIN) or placeholder(128, 128)
    scene.paste(grain.resize((52, 52), Image.Resampling.LANCZOS), (360, 16))
    for place, shape in enumerate(shapes.values()):  # the models of the drawing office
        scene.alpha_composite(shape, (14, 8 + 92 * place))
    # The people on the jetty, in the cloth of the bundle; below them an album of small stamps.
    for place, name in enumerate(FIGURES):
        if name not in cloths:
            continue
        cloth = textures.get(f"figure {name}") or placeholder(128, 128)
        cloth = _lit(cloth.resize((34, 52), Image.Resampling.LANCZOS), cloths[name])
        x, y = 372 + 40 * place, 468 - 6 * (place % 2)
        draw.ellipse([x + 7, y - 22, x + 27, y - 2], fill=(226, 190, 160, 255))
        scene.paste(cloth, (x, y))
    for place in range(len(MINIS)):
        mini = textures.get(f"mini {place}") or placeholder(32, 32)
        scene.alpha_composite(
            mini.resize((44, 44), Image.Resampling.LANCZOS), (WIDTH - 300 + 48 * place, HEIGHT - 54)
        )
    return scene
