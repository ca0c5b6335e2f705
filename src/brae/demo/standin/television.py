"""The disc edition: loads a menu screen and sprites from the disc and shows them on an old television."""

from __future__ import annotations

from pathlib import Path

from PIL import Image, ImageDraw

from brae.demo.standin import chimes, quay
from brae.demo.standin.disc import Disc, Drive, Screens, Volume, read_inlay, read_mosaic, read_slate
from brae.demo.standin.menus import walk
from brae.demo.standin.report import HEIGHT, WIDTH, BadTexture, Refusal, Report, moving, placeholder

#: the screens and sprites that this scene shows; the first screen is the large one
SCREENS = (312, 0, 1, 2, 1500, 2999)
SPRITES = tuple(f"S{number:05d}.SLT" for number in (0, 7, 14, 24, 30, 36, 41, 47))
#: pictures of 256 colours, and one in micro-tiles
KEEPSAKES = ("P00003.INL", "P00004.INL", "M00000.MOS")
#: three sizes of one stamp: the letter on a desk, in a list, on a map
STAMPS = {"STMP03_L.SLT": (96, 72), "STMP03_M.SLT": (48, 36), "STMP03_S.SLT": (32, 24)}
_SCREEN, _SPRITE = (96, 64), (64, 48)
#: rows of the scene below, in which people walk about
_HARBOUR = 240


def play(folder: Path, report: Report) -> Report:
    """Start the game from its disc."""
    pictures: dict[str, Image.Image] = {}
    rectangles: list[tuple[int, ...]] = []
    drive = None
    try:
        drive = Drive(folder / "skerry.bin")
        disc = Disc(drive)
        system = disc.read("SYSTEM.TXT", 0, disc.files.get("SYSTEM.TXT", (0, 0))[1]).decode("ascii", "replace")
        settings = dict(line.split(" = ", 1) for line in system.splitlines() if " = " in line)
        region = settings.get("region", "?")
        report.trace.append(f"SYSTEM.TXT: disc edition, {region}")
        volume = Volume(disc, "CARGO.VOL", report.trace.append)
        screens = Screens(volume, "MENUS.SCR", report.trace.append)
        if screens.edition != {"north": 1, "south": 2}.get(region):
            raise Refusal(f"the screens are of edition {screens.edition}, the disc is of the {region}")
        for number in SCREENS:
            name = f"screen {number}"
            try:
                pictures[name], found = read_slate(screens.read(number), name, *_SCREEN)
                rectangles = rectangles or found
                report.trace.append(f"{name}: {len(found)} rectangles")
            except BadTexture as reason:
                report.replaced(name, reason)
        for name in SPRITES:
            try:
                pictures[name], _ = read_slate(volume.read(name), name, *_SPRITE)
                report.trace.append(f"{name}: drawn")
            except BadTexture as reason:
                report.replaced(name, reason)
        for name in KEEPSAKES:
            try:
                reader = read_mosaic if name.endswith(".MOS") else read_inlay
                pictures[name] = reader(volume.read(name), name, *_SPRITE)
                report.trace.append(f"{name}: drawn")
            except BadTexture as reason:
                report.replaced(name, reason)
        for name, (width, height) in STAMPS.items():
            try:
                pictures[name], _ = read_slate(volume.read(name), name, width, height)
                report.trace.append(f"{name}: drawn")
            except BadTexture as reason:
                report.replaced(name, reason)
        walk(SCREENS[0], lambda number: read_slate(screens.read(number), f"screen {number}", *_SCREEN), report)
        chimes.sound(volume.read, report)
        steps = quay.draw(volume.read, report.trace.append, report.replaced)
    except Refusal as reason:
        return report.stop(reason)
    except OSError as error:
        return report.stop(Refusal(f"the disc cannot be read ({type(error).__name__})"))
    finally:
        if drive is not None:
            drive.close()
    scene = _scene(pictures, rectangles)
    report.scene = moving([_with_harbour(scene, step) for step in steps], 120)
    return report


def _scene(pictures: dict[str, Image.Image], rectangles: list[tuple[int, ...]]) -> Image.Image:
    scene = Image.new("RGB", (WIDTH, HEIGHT + _HARBOUR), (58, 52, 46))
    draw = ImageDraw.Draw(scene)

    def put(name: str, size: tuple[int, int], x: int, y: int, scale: float) -> None:
        image = pictures.get(name) or placeholder(*size)
        image = image.resize((round(size[0] * scale), round(size[1] * scale)), Image.Resampling.NEAREST)
        scene.paste(image, (x, y), image)

    draw.rounded_rectangle([24, 24, 720, 540], 36, fill=(24, 22, 22), outline=(110, 98, 84), width=6)
    put(f"screen {SCREENS[0]}", _SCREEN, 60, 60, 6)
    for x, y, width, height, *_ in rectangles:
        box = [60 + 6 * x, 60 + 6 * y, 60 + 6 * (x + width) - 1, 60 + 6 * (y + height) - 1]
        draw.rectangle(box, outline=(238, 184, 42), width=2)
    for place, number in enumerate(SCREENS[1:]):
        put(f"screen {number}", _SCREEN, 800, 30 + 104 * place, 1.5)
    for place, name in enumerate(SPRITES):
        put(name, _SPRITE, 30 + 88 * place, 564, 1)
    for place, name in enumerate(KEEPSAKES):
        put(name, _SPRITE, 734 + 88 * place, 564, 1)
    for place, (name, size) in enumerate(STAMPS.items()):
        put(name, size, 912, HEIGHT + (10, 100, 150)[place], 1)
    return scene


def _with_harbour(scene: Image.Image, step: Image.Image) -> Image.Image:
    """The scene with one step of the harbour below."""
    found = scene.copy()
    found.paste(step.resize((step.width * 3, step.height * 3), Image.Resampling.NEAREST), (128, HEIGHT))
    return found
