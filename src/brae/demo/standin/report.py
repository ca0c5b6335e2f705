"""What the stand-in tells of a start of the game, and the pictures that both editions share."""

from __future__ import annotations

import io
from dataclasses import dataclass, field

from PIL import Image, ImageDraw, ImageFont

WIDTH, HEIGHT = 1024, 640


class Refusal(Exception):
    """The game stops."""


class BadTexture(Exception):
    """One texture is not used; the game goes on with its placeholder."""


@dataclass
class Line:
    """Something that is heard: its sound, and what the speaker's mouth does (from, to, shape); or why it is not."""

    name: str
    speaker: str
    sound: bytes = b""
    moves: list[tuple[float, float, int]] = field(default_factory=list)
    fault: str = ""


@dataclass
class Menu:
    """A screen: its rectangles (left, top, width, height), what each does and where it leads, the cursor's ways."""

    picture: bytes
    boxes: list[tuple[int, ...]]
    targets: list[int]
    #: "opens", "goes back" or "sails"
    does: list[str]
    ways: list[dict[str, int]]


@dataclass
class Report:
    """What the game did: the trace, why it stopped (if it did), what it replaced, and the scene as a PNG."""

    trace: list[str] = field(default_factory=list)
    refused: str | None = None
    placeholders: dict[str, str] = field(default_factory=dict)
    scene: bytes = b""
    #: what is heard in the scene, and each speaker's face with all shapes of the mouth beside each other
    lines: list[Line] = field(default_factory=list)
    faces: dict[str, bytes] = field(default_factory=dict)
    #: the screens that can be walked to, by their numbers, and the one that is begun with
    menus: dict[int, Menu] = field(default_factory=dict)
    first_menu: int = 0

    def stop(self, reason: Refusal) -> Report:
        """The game refuses to go on."""
        self.refused = str(reason)
        self.trace.append(f"stopped: {reason}")
        self.scene = png(_refusal_screen(self.refused))
        return self

    def replaced(self, name: str, reason: BadTexture) -> None:
        """The game shows a placeholder instead of this texture."""
        self.placeholders[name] = str(reason)
        self.trace.append(f"placeholder instead: {reason}")


def png(image: Image.Image) -> bytes:
    stream = io.BytesIO()
    image.convert("RGB").save(stream, "png", compress_level=3)
    return stream.getvalue()


def moving(images: list[Image.Image], milliseconds: int) -> bytes:
    """Pictures as one PNG that plays over and over (PNG, third edition, 11.3.4)."""
    stream = io.BytesIO()
    first, *rest = [one.convert("RGB") for one in images]
    first.save(stream, "png", save_all=True, append_images=rest, duration=milliseconds, loop=0, compress_level=3)
    return stream.getvalue()


def _refusal_screen(reason: str) -> Image.Image:
    image = Image.new("RGB", (WIDTH, HEIGHT), (38, 42, 46))
    draw = ImageDraw.Draw(image)
    draw.text(
        (WIDTH / 2, HEIGHT / 2 - 30), "The boat stays ashore", (226, 238, 236), ImageFont.load_default(38), "mm"
    )
    words, lines = reason.split(), [""]
    for word in words:
        if len(lines[-1]) + len(word) > 70:
            lines.append("")
        lines[-1] += f"{word} "
    for number, line in enumerate(lines):
        draw.text(
            (WIDTH / 2, HEIGHT / 2 + 26 + 26 * number), line, (238, 184, 42), ImageFont.load_default(20), "mm"
        )
    return image


def placeholder(width: int, height: int) -> Image.Image:
    """What the game shows instead of a texture it does not accept: heather hatching."""
    image = Image.new("RGBA", (width, height), (226, 206, 226, 255))
    draw = ImageDraw.Draw(image)
    for start in range(-height, width, 16):
        draw.line([(start, 0), (start + height, height)], (140, 80, 140, 255), 5)
    draw.rectangle([0, 0, width - 1, height - 1], outline=(90, 40, 90, 255), width=2)
    return image
