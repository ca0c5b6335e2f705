"""Files that other libraries wrote, one behind the other among zeros and noise: what is to be found, and where."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import random
import struct
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field

import lz4.frame
import numpy as np
import soundfile
import zstandard
from PIL import Image

WORDS = ("harbour", "boat", "oar", "tide", "letter", "gull", "skerry", "lantern")


@dataclass
class Mixture:
    """Bytes that grow, and what lies where in them: offset, length, format."""

    seed: int
    data: bytearray = field(default_factory=bytearray)
    wanted: list[tuple[int, int, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.chance = random.Random(self.seed)
        self.noise = np.random.default_rng(self.seed)
        self.makers: dict[str, Callable[[], bytes]] = {
            "png": lambda: self.picture("PNG"),
            "bmp": lambda: self.picture("BMP"),
            "gif": lambda: self.picture("GIF"),
            "jpeg": lambda: self.picture("JPEG", quality=self.chance.randint(40, 95)),
            "webp": lambda: self.picture("WEBP", lossless=self.chance.random() < 0.5),
            "tiff": lambda: self.picture("TIFF", compression=self.chance.choice([None, "tiff_lzw"])),
            "tga": lambda: self.picture("TGA", compression=self.chance.choice([None, "tga_rle"])),
            "dds": lambda: self.picture("DDS"),
            "wav": lambda: self.sound("WAV", "PCM_16"),
            "ogg": lambda: self.sound("OGG", "VORBIS"),
            "flac": lambda: self.sound("FLAC", "PCM_16"),
            "glb": self.model,
            "font": self.font,
            "text": self.text,
            "zlib": lambda: zlib.compress(self.payload(), self.chance.choice([1, 6, 9])),
            "gzip": lambda: gzip.compress(self.payload()),
            "bzip2": lambda: bz2.compress(self.payload()),
            "xz": lambda: lzma.compress(self.payload()),
            "lzma": lambda: lzma.compress(self.payload(), lzma.FORMAT_ALONE),
            "zstd": lambda: zstandard.compress(self.payload()),
            "lz4-frame": lambda: lz4.frame.compress(self.payload()),
        }

    def picture(self, kind: str, **more: object) -> bytes:
        width, height = self.chance.randint(4, 80), self.chance.randint(4, 80)
        ramp = np.add.outer(np.arange(height) * self.chance.randint(1, 4), np.arange(width) * 2)[..., None]
        pixels = (ramp + self.noise.integers(0, 50, (height, width, 3))).astype(np.uint8)
        stream = io.BytesIO()
        Image.fromarray(pixels).save(stream, kind, **more)
        return stream.getvalue()

    def sound(self, kind: str, codec: str) -> bytes:
        count = self.chance.randint(200, 16_000)
        stream = io.BytesIO()
        wave = np.sin(np.arange(count) / self.chance.randint(5, 40)) * 0.4 + self.noise.normal(0, 0.02, count)
        soundfile.write(stream, wave, self.chance.choice([8000, 22050, 44100]), format=kind, subtype=codec)
        return stream.getvalue()

    def text(self) -> bytes:
        count = self.chance.randint(40, 300)
        return " ".join(
            self.chance.choice(WORDS) + self.chance.choice(["", ",", "."]) for _ in range(count)
        ).encode()

    def payload(self) -> bytes:
        return self.chance.choice(
            [self.text, lambda: self.picture("PNG"), lambda: self.picture("BMP"), lambda: self.noise.bytes(500)]
        )()

    def model(self) -> bytes:
        """A glTF binary by hand (glTF 2.0, 4.4): a JSON chunk and a binary one."""
        said = b'{"asset":{"version":"2.0"}}' + b" " * self.chance.randint(0, 40)
        said += b" " * (-len(said) % 4)
        body = self.noise.bytes(4 * self.chance.randint(1, 200))
        chunks = struct.pack("<I4s", len(said), b"JSON") + said + struct.pack("<I4s", len(body), b"BIN\0") + body
        return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks

    def font(self) -> bytes:
        """A font's table directory (ISO/IEC 14496-22, 4.3) with tables of noise, padded as they are."""
        tags = sorted([b"cmap", b"glyf", b"head", b"hhea", b"hmtx", b"loca", b"maxp", b"name", b"post"])
        sizes = [self.chance.randint(8, 400) for _ in tags]
        power = 1 << len(tags).bit_length() - 1
        head = struct.pack(
            ">4sHHHH", b"\0\1\0\0", len(tags), power * 16, power.bit_length() - 1, (len(tags) - power) * 16
        )
        at, body = 12 + 16 * len(tags), b""
        for tag, size in zip(tags, sizes, strict=True):
            head += struct.pack(">4s3I", tag, 0, at + len(body), size)
            body += self.noise.bytes(size) + bytes(-size % 4)
        return head + body

    def add(self, name: str) -> None:
        """One file more, behind zeros or noise (a text between zeros: it has no end of its own)."""
        file = self.makers[name]()
        gap = self.chance.choice([0, 16, self.chance.randint(1, 300)])
        self.data += self.chance.choice([bytes(gap), self.noise.bytes(gap)])
        if name == "text":
            self.data += b"\0"
        self.wanted.append((len(self.data), len(file), name))
        self.data += file
        if name == "text":
            self.data += b"\0"

    def fill(self, count: int) -> Mixture:
        """So many files of all formats, by chance."""
        names = list(self.makers)
        for _ in range(count):
            self.add(self.chance.choice(names))
        return self


def zipped(files: dict[str, bytes], *, descriptor: bool = False) -> bytes:
    """A ZIP archive by the standard library; with descriptors as where it is written to a stream."""
    stream = io.BytesIO()
    if descriptor:
        stream.seekable = lambda: False  # type: ignore[method-assign]
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return stream.getvalue()


def crate(files: list[bytes], seed: int = 5) -> bytes:
    """An archive of nobody's: magic, count, records of a hash, an offset and a size in no order, data."""
    chance = random.Random(seed)
    order = list(range(len(files)))
    chance.shuffle(order)
    at, places = 12 + 16 * len(files), {}
    body = b""
    for number, file in enumerate(files):
        places[number] = at + len(body)
        body += file + bytes(-len(file) % 8)
    rows = b"".join(struct.pack("<4I", chance.getrandbits(32), places[k], len(files[k]), 7) for k in order)
    return struct.pack("<4sII", b"CRTE", len(files), 12) + rows + body
