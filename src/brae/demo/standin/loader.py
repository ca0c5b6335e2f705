"""The strict loader: whatever is not exactly as expected stops the game, with the reason."""

from __future__ import annotations

import configparser
import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PIL import Image

from brae.demo.standin.report import BadTexture, Refusal


@dataclass(frozen=True)
class Entry:
    """One line of the index."""

    offset: int
    stored: int
    real: int
    check: int
    packing: int


class Kist:
    """An archive, opened and checked as the game does it."""

    def __init__(self, index: Path, trace: Callable[[str], None]) -> None:
        self.hold_path = index.with_suffix(".hold")
        if not index.is_file() or not self.hold_path.is_file():
            raise Refusal(f"{index.name} or {self.hold_path.name} is missing")
        data = index.read_bytes()
        if len(data) < 64 or data[:4] != b"KIST":
            raise Refusal(f"{index.name} does not begin with KIST")
        version, flags, count, names_size, names_at, hold_size, check = struct.unpack_from("<HHIIIII", data, 4)
        if version != 2 or flags != 3:
            raise Refusal(f"version {version}, flags {flags}; this game wants 2 and 3")
        if zlib.adler32(data[:48]) != struct.unpack_from("<I", data, 48)[0]:
            raise Refusal("the header's checksum is wrong")
        if names_at != (64 + 24 * count + 15) // 16 * 16 or names_at + names_size != len(data):
            raise Refusal(f"{count} entries and {names_size} bytes of names do not make up {len(data)} bytes")
        names = data[names_at:]
        if zlib.crc32(names, zlib.crc32(data[64 : 64 + 24 * count])) != check:
            raise Refusal("the directory's checksum is wrong")
        with self.hold_path.open("rb") as stream:
            if stream.read(4) != b"HOLD":
                raise Refusal(f"{self.hold_path.name} does not begin with HOLD")
        if self.hold_path.stat().st_size != hold_size:
            raise Refusal(
                f"{self.hold_path.name} has {self.hold_path.stat().st_size} bytes, the index says {hold_size}"
            )
        self.entries: dict[str, Entry] = {}
        end = 16
        for number in range(count):
            name_at, offset, stored, real, crc, packing = struct.unpack_from("<IIIIIB", data, 64 + 24 * number)
            name = names[name_at : names.index(b"\0", name_at)].decode("utf-8")
            if offset % 32 or offset < end or offset + stored > hold_size:
                raise Refusal(f"{name} lies at {offset}, where it may not")
            if name in self.entries:
                raise Refusal(f"{name} stands in the index twice")
            end = offset + stored
            self.entries[name] = Entry(offset, stored, real, crc, packing)
        trace(f"{index.name}: {count} entries, {hold_size:,} bytes of cargo")

    def read(self, name: str) -> bytes:
        """A member's bytes; a damaged one stops the game."""
        if name not in self.entries:
            raise BadTexture(f"{name} is not in the archive")
        entry = self.entries[name]
        with self.hold_path.open("rb") as stream:
            stream.seek(entry.offset)
            data = stream.read(entry.stored)
        try:
            if entry.packing:
                data = zlib.decompress(data, {1: 15, 2: -15}[entry.packing])
        except (KeyError, zlib.error) as error:
            raise Refusal(f"{name} cannot be unpacked ({error})") from error
        if len(data) != entry.real or zlib.crc32(data) != entry.check:
            raise Refusal(f"{name}: size or checksum is wrong")
        return data


def read_minis(path: Path, wanted: list[str], trace: Callable[[str], None]) -> list[bytes]:
    """Small pictures, found by the hashes of their paths; the game stops where one is missing."""
    if not path.is_file():
        raise Refusal(f"{path.name} is missing")
    data = path.read_bytes()
    if data[:4] != b"MINI":
        raise Refusal(f"{path.name} does not begin with MINI")
    (count,) = struct.unpack_from("<I", data, 4)
    rows = [struct.unpack_from("<IHHI", data, 8 + 12 * k) for k in range(count)]
    hashes = [row[0] for row in rows]
    if hashes != sorted(set(hashes)):
        raise Refusal(f"the hashes of {path.name} are not in order")
    places = {key: (512 * sector, size) for key, sector, _, size in rows}
    found = []
    for name in wanted:
        key = 0x811C9DC5
        for byte in name.lower().replace("/", "\\").encode():
            key = (key ^ byte) * 0x01000193 & 0xFFFFFFFF
        at, size = places.get(key, (0, 0))
        if not size or at + size > len(data):
            raise Refusal(f"{path.name} does not hold {name}")
        found.append(data[at : at + size])
    trace(f"{path.name}: {count} small pictures")
    return found


def read_bundle(path: Path, trace: Callable[[str], None]) -> dict[str, bytes]:
    """The objects of a bundle by type and name; an object that belongs to one that is not there stops the game."""
    if not path.is_file():
        raise Refusal(f"{path.name} is missing")
    data = path.read_bytes()
    if data[:4] != b"BNDL":
        raise Refusal(f"{path.name} does not begin with BNDL")
    kinds, count, names_size = struct.unpack_from("<III", data, 4)
    types = {}
    for k in range(kinds):
        number, word = struct.unpack_from("<I12s", data, 16 + 16 * k)
        types[number] = word.rstrip(b"\0").decode("ascii", "replace")
    at = 16 + 16 * kinds
    rows = [struct.unpack_from("<QIIQII", data, at + 32 * k) for k in range(count)]
    names = data[at + 32 * count :][:names_size]
    numbers = {row[0] for row in rows}
    found = {}
    end = at + 32 * count + names_size
    for _, kind, name_at, offset, size, owner in rows:
        if offset % 8 or offset < end or offset + size > len(data) or kind not in types:
            raise Refusal(f"an object of {path.name} lies at {offset}, where it may not")
        if owner and owner not in numbers:
            raise Refusal(f"an object of {path.name} belongs to {owner}, which is not there")
        end = offset + size
        name = names[name_at : names.index(b"\0", name_at)].decode("utf-8", "replace")
        found[f"{name}.{types[kind]}"] = data[offset : offset + size]
    trace(f"{path.name}: {count} objects of {kinds} types")
    return found


@dataclass(frozen=True)
class Cloth:
    """What a figure is dressed in: its texture, light from everywhere (three numbers), and how much it shines."""

    colour: str
    ambient: tuple[float, float, float]
    highlight: float
    two_sided: bool


def read_material(data: bytes, name: str) -> Cloth:
    """A material's text, read as the game reads it: what it does not expect stops it."""
    said: dict[str, str] = {}
    try:
        lines = data.decode("ascii").splitlines()
    except UnicodeDecodeError as error:
        raise Refusal(f"{name} is no plain text (byte {error.start})") from error
    for number, line in enumerate(lines, 1):
        line = line.partition(";")[0].strip()
        if line in ("", "[material]"):
            continue
        key, sign, value = (part.strip() for part in line.partition("="))
        if not sign or key in said or not value:
            raise Refusal(f"line {number} of {name} is not 'key = value'")
        said[key] = value
    try:
        ambient = tuple(float(one) for one in said["ambient"].split())
        highlight = float(said["highlight"])
        two_sided = {"yes": True, "no": False}[said["two_sided"]]
        if len(ambient) != 3 or not all(0 <= one <= 1 for one in (*ambient, highlight)):
            raise ValueError(said)
        return Cloth(said["colour"], (ambient[0], ambient[1], ambient[2]), highlight, two_sided)
    except (KeyError, ValueError) as error:
        raise Refusal(f"{name} has no colour, ambient, highlight and two_sided that the game takes") from error


def read_finish(data: bytes, name: str) -> Cloth:
    """A material's record, read as the game reads it."""
    if len(data) != 56 or data[:4] != b"FNSH":
        raise Refusal(f"{name} is no finish")
    two_sided, colour, red, green, blue, highlight = struct.unpack_from("<B32s4f", data, 4)
    if two_sided > 1 or not all(0 <= one <= 1 for one in (red, green, blue, highlight)):
        raise Refusal(f"{name} has no numbers that the game takes")
    return Cloth(colour.split(b"\0")[0].decode("ascii", "replace"), (red, green, blue), highlight, bool(two_sided))


class Files:
    """The game's files by the settings: loose files first, then archives in the order in which they are listed."""

    def __init__(self, folder: Path, trace: Callable[[str], None]) -> None:
        self._folder, self._trace = folder, trace
        settings = configparser.ConfigParser()
        try:
            text = (folder / "skerry.cfg").read_text(encoding="utf-8")
            settings.read_string(text)
            listed = dict(settings["archives"])
        except (OSError, KeyError, configparser.Error, UnicodeDecodeError) as error:
            raise Refusal(f"skerry.cfg cannot be read ({type(error).__name__})") from error
        # The game reads each line into 64 bytes and has room for eight archives.
        longest = max((len(line.encode()) for line in text.splitlines()), default=0)
        if longest > 63:
            raise Refusal(f"a line of skerry.cfg has {longest} bytes, the game reads 63")
        if len(listed) > 8:
            raise Refusal(f"skerry.cfg lists {len(listed)} archives, the game has room for 8")
        trace(f"skerry.cfg: {settings.get('game', 'edition', fallback='?')} edition")
        self.archives = [Kist(folder / path, trace) for path in listed.values()]
        self._own = {folder / path for name, path in listed.items() if name in ("main", "streams")}

    def read(self, name: str) -> bytes:
        """A file's bytes; BadTexture where none of the places has it."""
        loose = self._folder / "loose" / name
        if loose.is_file():
            self._trace(f"{name}: the loose file is used")
            return loose.read_bytes()
        for archive in self.archives:
            if name in archive.entries:
                if archive.hold_path.with_suffix(".kist") not in self._own:
                    self._trace(f"{name}: taken from {archive.hold_path.stem}")
                return archive.read(name)
        raise BadTexture(f"{name} is in none of the archives")


@dataclass(frozen=True)
class Expected:
    """What the game's own table says of a texture."""

    width: int
    height: int
    format: int
    levels: int


#: the number of a block-compressed format is that of its name
_BLOCK_BYTES = {1: 8, 3: 16, 4: 8, 5: 16, 7: 16}
_HALF_LIGHT = 95


def read_light(data: bytes, name: str, width: int, height: int, levels: int) -> Image.Image:
    """A sky of light in a DDS file, as much of it as a screen shows; BadTexture where it is not as expected."""
    sides = [(max(1, width >> level), max(1, height >> level)) for level in range(levels)]
    size = 148 + sum(((w + 3) // 4) * ((h + 3) // 4) * 16 for w, h in sides)
    if len(data) != size or data[:4] != b"DDS " or data[84:88] != b"DX10":
        raise BadTexture(f"{name} has {len(data)} bytes, the game wants a DDS file of {size}")
    found = struct.unpack_from("<II", data, 12)
    if found != (height, width) or struct.unpack_from("<I", data, 28)[0] != levels:
        raise BadTexture(f"{name} is {found[1]} x {found[0]}, the game wants {width} x {height}")
    if struct.unpack_from("<I", data, 128)[0] != _HALF_LIGHT:
        raise BadTexture(f"{name} holds no light of half floats")
    first = data[148 : 148 + (width // 4) * (height // 4) * 16]
    return Image.frombytes("RGB", (width, height), first, "bcn", (6, "BC6H")).convert("RGBA")


def own_size(data: bytes) -> Expected:
    """What a texture says of itself: for those that are not in the game's table, but in a material."""
    if len(data) < 20:
        return Expected(0, 0, 0, 0)
    return Expected(*struct.unpack_from("<HHBB", data, 4))


def read_texture(data: bytes, name: str, expected: Expected) -> Image.Image:
    """The largest level as an RGBA picture; BadTexture where it is not exactly as the table says."""
    if len(data) < 20 or data[:4] != b"PTX2":
        raise BadTexture(f"{name} is no PTX2 texture")
    width, height, number, levels, rows = struct.unpack_from("<HHBBB", data, 4)
    (size,) = struct.unpack_from("<I", data, 12)
    found = Expected(width, height, number, levels)
    if found != expected:
        raise BadTexture(f"{name} is {_words(found)}, the table says {_words(expected)}")
    total, largest = 0, 0
    for level in range(levels):
        w, h = max(1, width >> level), max(1, height >> level)
        if number in _BLOCK_BYTES:
            part = ((w + 3) // 4) * ((h + 3) // 4) * _BLOCK_BYTES[number]
        else:
            part = w * h * (4 if number == 8 else 3)
        largest = largest or part
        total += part
    if size != total or len(data) != 20 + total:
        raise BadTexture(f"{name} has {len(data)} bytes, the table says {20 + total}")
    pixels = data[20 : 20 + largest]
    if number in _BLOCK_BYTES:
        mode = {4: "L", 5: "RGB"}.get(number, "RGBA")
        image = Image.frombytes(mode, (width, height), pixels, "bcn", number).convert("RGBA")
    elif number == 8:
        image = Image.frombytes("RGBA", (width, height), pixels, "raw", "BGRA")
    else:
        image = Image.frombytes("RGB", (width, height), pixels, "raw", "BGR").convert("RGBA")
    return image.transpose(Image.Transpose.FLIP_TOP_BOTTOM) if rows == 1 else image


def read_grain(data: bytes, name: str) -> Image.Image:
    """Pixels without a header, as only the game knows them: 128 x 128 of BC1 with all levels."""
    sides = [128 >> level for level in range(8)]
    wanted = sum(((side + 3) // 4) ** 2 * 8 for side in sides)
    if len(data) != wanted:
        raise BadTexture(f"{name} has {len(data)} bytes, the game wants {wanted}")
    return Image.frombytes("RGBA", (128, 128), data[: 32 * 32 * 8], "bcn", 1).convert("RGBA")


def read_streamed(stub: bytes, away: bytes, name: str, expected: Expected, here: int) -> Image.Image:
    """The largest level of a texture in two files; BadTexture where they are not exactly as the table says."""
    if len(stub) < 20 or stub[:4] != b"PTS1":
        raise BadTexture(f"{name} is no PTS1 texture")
    width, height, number, levels, held, _, kept_size, away_size = struct.unpack_from("<HHBBBBII", stub, 4)
    found = Expected(width, height, number, levels)
    if found != expected or held != here:
        raise BadTexture(f"{name} is {_words(found)}, the table says {_words(expected)}")
    sides = [(max(1, width >> level), max(1, height >> level)) for level in range(levels)]
    sizes = [((w + 3) // 4) * ((h + 3) // 4) * _BLOCK_BYTES[number] for w, h in sides]
    if (kept_size, len(stub) - 20) != (sum(sizes[-here:]),) * 2 or (away_size, len(away)) != (
        sum(sizes[:-here]),
    ) * 2:
        raise BadTexture(f"{name} has {len(stub)} and {len(away)} bytes, the table says {sum(sizes) + 20}")
    return Image.frombytes("RGBA", (width, height), away[: sizes[0]], "bcn", number).convert("RGBA")


def _words(texture: Expected) -> str:
    return f"{texture.width} x {texture.height}, format {texture.format}, {texture.levels} levels"
