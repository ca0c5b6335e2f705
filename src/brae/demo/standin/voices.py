"""What is said and rung in the game: voices with mouths that move, and the bell, by the game's own readers."""

from __future__ import annotations

import io
import struct
import wave
from collections.abc import Mapping

from PIL import Image, ImageDraw

from brae.demo.standin.report import Line, Report, png

_RATE = 22050
#: how far each of the game's shapes opens the mouth, how wide it is, and whether teeth or the tongue are seen
_SHAPES = [
    (0.0, 0.5, 0), (0.0, 0.42, 0), (0.12, 0.5, 1), (0.2, 0.5, 3), (0.25, 0.5, 1), (0.35, 0.5, 0), (0.25, 0.3, 1),
    (0.12, 0.62, 1), (0.3, 0.5, 2), (0.3, 0.36, 0), (1.0, 0.56, 0), (0.6, 0.66, 1), (0.35, 0.76, 1), (0.7, 0.36, 0),
    (0.35, 0.18, 0),
]  # fmt: skip
_SIDE = 160
SPEAKERS = {"ishbel": ((232, 196, 168), (120, 74, 108)), "keeper": ((214, 170, 138), (66, 70, 78))}
LINES = ("ishbel_1", "ishbel_2", "keeper_1")
#: times that the bell is rung on
_TURNS = 3


class Silent(Exception):
    """A sound is not played; the game goes on."""


class Still(Exception):
    """A mouth does not move; the game goes on."""


def _chunks(data: bytes, name: str) -> dict[bytes, bytes]:
    if data[:4] != b"RIFF" or data[8:12] != b"WAVE":
        raise Silent(f"{name} is no WAVE file")
    found: dict[bytes, bytes] = {}
    at = 12
    while at + 8 <= len(data):
        size = int.from_bytes(data[at + 4 : at + 8], "little")
        if data[at : at + 4] == b"data" and b"fmt " not in found:
            raise Silent(f"{name} has its samples before it says what they are")
        found[data[at : at + 4]] = data[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    return found


def read_sound(data: bytes, name: str, turns: int = 1) -> bytes:
    """Samples of 16 bits, mono, at the game's only rate, as a WAVE file; a loop is played so many times."""
    chunks = _chunks(data, name)
    if len(chunks.get(b"fmt ", b"")) < 16 or b"data" not in chunks:
        raise Silent(f"{name} does not say what its samples are")
    tag, channels, rate, _, _, bits = struct.unpack_from("<HHIIHH", chunks[b"fmt "])
    if tag != 1 or bits != 16:
        raise Silent(f"{name} has samples of form {tag} and {bits} bits; the game plays 16-bit PCM")
    if rate != _RATE:
        raise Silent(f"{name} has {rate} Hz; the game plays {_RATE}")
    if channels != 1:
        raise Silent(f"{name} has {channels} channels; a sound with a place in the world has one")
    samples = chunks[b"data"]
    smpl = chunks.get(b"smpl", b"")
    if turns > 1 and len(smpl) >= 60 and struct.unpack_from("<I", smpl, 28)[0]:
        start, end = struct.unpack_from("<II", smpl, 44)
        if not start < end < len(samples) // 2:
            raise Silent(f"{name} loops from {start} to {end}, and has {len(samples) // 2} samples")
        samples = (
            samples[: 2 * (end + 1)] + samples[2 * start : 2 * (end + 1)] * (turns - 1) + samples[2 * end + 2 :]
        )
    stream = io.BytesIO()
    with wave.open(stream, "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(rate)
        out.writeframes(samples)
    return stream.getvalue()


def read_moves(data: bytes, name: str) -> list[tuple[float, float, int]]:
    """What a mouth does: from when to when, in seconds, and which shape."""
    if data[:4] != b"MOUT" or len(data) < 8:
        raise Still(f"{name} does not begin with MOUT")
    _, count = struct.unpack_from("<HH", data, 4)
    if len(data) != 8 + 18 * count:
        raise Still(f"{name} has {len(data)} bytes for {count} moves")
    found: list[tuple[float, float, int]] = []
    last = 0
    for number in range(count):
        at, lasts, shape = struct.unpack_from("<HHB", data, 8 + 18 * number)
        if at < last:
            raise Still(f"move {number} of {name} begins at {at}, before the one before it has ended")
        if shape >= len(_SHAPES):
            raise Still(f"move {number} of {name} is shape {shape}, which there is not")
        last = at + lasts
        found.append((at / 100, last / 100, shape))
    return found


def faces(speaker: str) -> bytes:
    """A speaker's face with each of the shapes, one beside the other."""
    skin, hair = SPEAKERS[speaker]
    sheet = Image.new("RGB", (_SIDE * len(_SHAPES), _SIDE), (196, 214, 222))
    for place, (opened, wide, seen) in enumerate(_SHAPES):
        draw = ImageDraw.Draw(sheet)
        x = place * _SIDE
        draw.ellipse([x + 22, 8, x + 138, 150], fill=hair)
        draw.ellipse([x + 32, 26, x + 128, 156], fill=skin)
        for eye in (58, 102):
            draw.ellipse([x + eye - 5, 66, x + eye + 5, 78], fill=(40, 34, 34))
        draw.line([(x + 80, 80), (x + 76, 100), (x + 83, 101)], fill=(150, 110, 90), width=3)
        half, high = 10 + 30 * wide, 3 + 22 * opened
        draw.ellipse([x + 80 - half, 124 - high, x + 80 + half, 124 + high], fill=(122, 44, 48))
        if seen & 1:
            draw.rectangle(
                [x + 80 - half * 0.7, 124 - high, x + 80 + half * 0.7, 124 - high * 0.3], fill=(240, 236, 226)
            )
        if seen & 2:
            draw.ellipse([x + 80 - half * 0.5, 124, x + 80 + half * 0.5, 124 + high], fill=(196, 104, 104))
    return png(sheet)


def speak(objects: Mapping[str, bytes], report: Report) -> None:
    """All lines of the scene, as far as they can be heard and seen."""
    for name in LINES:
        speaker = name.partition("_")[0]
        line = Line(f"voices/{name}", speaker)
        try:
            line.sound = read_sound(objects.get(f"voices/{name}.wav", b""), f"voices/{name}.wav")
            line.moves = read_moves(objects.get(f"voices/{name}.mth", b""), f"voices/{name}.mth")
            report.trace.append(f"voices/{name}: {len(line.moves)} moves of the mouth")
        except Silent as reason:
            line.fault = f"not heard: {reason}"
        except Still as reason:
            line.fault = f"the mouth stays shut: {reason}"
        if line.fault:
            report.trace.append(
                f"voices/{name} is {line.fault}" if not line.sound else f"voices/{name}: {line.fault}"
            )
        report.lines.append(line)
        report.faces.setdefault(speaker, faces(speaker))


def tune(data: bytes, name: str, report: Report) -> None:
    """What is played on the way across; as the game wants it, or not at all."""
    line = Line(name, "")
    try:
        line.sound = _checked(data, name)
        report.trace.append(f"{name}: played")
    except Silent as reason:
        line.fault = f"not heard: {reason}"
        report.trace.append(f"{name} is {line.fault}")
    report.lines.append(line)


def _checked(data: bytes, name: str) -> bytes:
    """A Vorbis stream of two channels at the game's rate, whose tags say the loop that it has."""
    head, body = data[:27], data[27 + data[26] if len(data) > 26 else 27 :]
    if head[:4] != b"OggS" or body[:7] != b"\x01vorbis" or len(body) < 30:
        raise Silent(f"{name} is no Vorbis")
    channels, rate = struct.unpack_from("<BI", body, 11)
    if (channels, rate) != (2, _RATE):
        raise Silent(f"{name} has {channels} channels at {rate} Hz; the game plays 2 at {_RATE}")
    last = struct.unpack_from("<q", data, data.rindex(b"OggS") + 6)[0]
    found = {}
    for word in (b"LOOPSTART=", b"LOOPLENGTH="):
        at = data.find(word)
        size = struct.unpack_from("<I", data, at - 4)[0] if at >= 4 else 0
        number = data[at + len(word) : at + size]
        if at < 0 or not number.isdigit():
            raise Silent(f"{name} does not say {word[:-1].decode()}")
        found[word] = int(number)
    if sum(found.values()) > last:
        raise Silent(f"{name} goes round until {sum(found.values())}, and has {last} samples")
    return data


def ring(data: bytes, name: str, report: Report) -> None:
    """The bell, for as long as it takes the boat to come in."""
    line = Line(name, "")
    try:
        line.sound = read_sound(data, name, _TURNS)
        report.trace.append(f"{name}: rung on {_TURNS} times")
    except Silent as reason:
        line.fault = f"not heard: {reason}"
        report.trace.append(f"{name} is {line.fault}")
    report.lines.append(line)
