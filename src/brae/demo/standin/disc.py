"""The disc edition's strict loader: a drive that checks every sector, the game's volume, screens and pictures."""

from __future__ import annotations

import struct
from collections.abc import Callable
from functools import cache
from pathlib import Path

from PIL import Image

from brae.demo.standin.menus import ACTIONS
from brae.demo.standin.report import BadTexture, Refusal

_RAW, _DATA = 2352, 2048
_SYNC = b"\0" + b"\xff" * 10 + b"\0"


@cache
def _step(value: int) -> int:
    for _ in range(8):
        value = value >> 1 ^ (0xD8018001 if value & 1 else 0)
    return value


def _edc(data: bytes) -> int:
    table = [_step(value) for value in range(256)]
    value = 0
    for byte in data:
        value = value >> 8 ^ table[(value ^ byte) & 0xFF]
    return value


def _decimal(number: int) -> int:
    return number // 10 << 4 | number % 10


class Drive:
    """Reads sectors as a drive does: a sector whose codes are wrong is a read error, and the game stops."""

    def __init__(self, image: Path) -> None:
        self._stream = image.open("rb")
        self.sectors = image.stat().st_size // _RAW
        if image.stat().st_size % _RAW:
            raise Refusal(f"{image.name} is no whole number of sectors")
        self._good: dict[int, bytes] = {}

    def sector(self, number: int) -> bytes:
        """The 2,048 bytes of one sector."""
        if number not in self._good:
            self._stream.seek(number * _RAW)
            raw = self._stream.read(_RAW)
            if len(raw) < _RAW or raw[:12] != _SYNC:
                raise Refusal(f"sector {number} cannot be found on the disc")
            frames = number + 150
            address = bytes(map(_decimal, (frames // 4500, frames // 75 % 60, frames % 75)))
            if raw[12:15] != address or raw[15] != 2:
                raise Refusal(f"sector {number} has the address {raw[12:16].hex()}")
            if _edc(raw[16:2072]) != int.from_bytes(raw[2072:2076], "little"):
                raise Refusal(f"read error in sector {number}: its error detection code is wrong")
            self._good[number] = raw[24 : 24 + _DATA]
        return self._good[number]

    def read(self, number: int, offset: int, size: int) -> bytes:
        """Bytes that begin ``offset`` behind a sector's start."""
        first, last = number + offset // _DATA, number + (offset + size - 1) // _DATA
        data = b"".join(self.sector(one) for one in range(first, last + 1))
        return data[offset % _DATA :][:size]

    def close(self) -> None:
        """Open the tray."""
        self._stream.close()


class Disc:
    """The file system of the disc (ECMA-119), as far as the game reads it: the files of its root."""

    def __init__(self, drive: Drive) -> None:
        block = drive.sector(16)
        if block[:7] != b"\1CD001\1" or drive.sector(17)[:6] != b"\xffCD001":
            raise Refusal("the disc has no file system")
        if struct.unpack_from("<I", block, 80)[0] > drive.sectors:
            raise Refusal("the volume is larger than the disc")
        sector, size = struct.unpack_from("<I4xI", block, 158)
        self.files: dict[str, tuple[int, int]] = {}
        listing = drive.read(sector, 0, size)
        at = 0
        while at < len(listing) and listing[at]:
            record = listing[at : at + listing[at]]
            if record[2:6] != record[9:5:-1] or record[10:14] != record[17:13:-1]:
                raise Refusal("a directory record's two byte orders differ")
            name = record[33 : 33 + record[32]].decode("ascii", "replace")
            self.files[name.partition(";")[0]] = struct.unpack_from("<I4xI", record, 2)
            at += listing[at]
        self.drive = drive

    def read(self, name: str, offset: int, size: int) -> bytes:
        """Part of a file of the root."""
        if name not in self.files:
            raise Refusal(f"{name} is not on the disc")
        sector, length = self.files[name]
        if offset + size > length:
            raise Refusal(f"{name} ends at {length:,}, {offset + size:,} were asked for")
        return self.drive.read(sector, offset, size)


class Volume:
    """The game's volume."""

    def __init__(self, disc: Disc, name: str, trace: Callable[[str], None]) -> None:
        self._disc, self._name = disc, name
        head = disc.read(name, 0, 32)
        if head[:8] != b"CARGOVOL":
            raise Refusal(f"{name} does not begin with CARGOVOL")
        count, first = struct.unpack_from("<II", head, 8)
        table = disc.read(name, 32, 24 * count)
        end = first
        self.entries: dict[str, tuple[int, int, int]] = {}
        for number in range(count):
            raw, sector, size, check, _ = struct.unpack_from("<12sIIHH", table, 24 * number)
            member = raw.rstrip(b"\0").decode("ascii", "replace")
            if sector != end or member in self.entries:
                raise Refusal(f"{member} lies in sector {sector} of the volume, where {end} comes next")
            end = sector + -(-size // _DATA)
            self.entries[member] = (sector * _DATA, size, check)
        if end * _DATA != disc.files[name][1]:
            raise Refusal(f"the volume has {disc.files[name][1]:,} bytes, its table makes up {end * _DATA:,}")
        trace(f"{name}: {count:,} files in {end:,} sectors")

    def part(self, member: str, offset: int, size: int) -> bytes:
        """Part of a file, unchecked: large ones are never read whole."""
        if member not in self.entries:
            raise Refusal(f"{member} is not in the volume")
        at, length, _ = self.entries[member]
        if offset + size > length:
            raise Refusal(f"{member} is too short")
        return self._disc.read(self._name, at + offset, size)

    def read(self, member: str) -> bytes:
        """A whole file, with its sum checked."""
        data = self.part(member, 0, self.entries.get(member, (0, 0, 0))[1])
        if sum(data) & 0xFFFF != self.entries[member][2]:
            raise Refusal(f"{member}: its sum is wrong")
        return data


class Screens:
    """The pack of menu screens in the volume."""

    def __init__(self, volume: Volume, member: str, trace: Callable[[str], None]) -> None:
        self._volume, self._member = volume, member
        magic, count, self.edition = struct.unpack("<4sHH", volume.part(member, 0, 8))
        if magic != b"SCRN":
            raise Refusal(f"{member} does not begin with SCRN")
        table = struct.unpack(f"<{2 * count}I", volume.part(member, 8, 8 * count))
        self.places = list(zip(table[::2], table[1::2], strict=True))
        end = 8 + 8 * count
        for number, (offset, size) in enumerate(self.places):
            if offset % 256 or offset < end:
                raise Refusal(f"screen {number} lies at {offset}, where it may not")
            end = offset + size
        trace(f"{member}: {count:,} screens")

    def read(self, number: int) -> bytes:
        """One screen, unpacked; a stream that does not end where it should stops the game."""
        if number >= len(self.places):
            raise Refusal(f"there is no screen {number}")
        offset, size = self.places[number]
        data = self._volume.part(self._member, offset, size)
        wanted = int.from_bytes(data[:4], "little")
        window, place, out, at = bytearray(4096), 4078, bytearray(), 4
        while len(out) < wanted:
            if at >= len(data):
                raise Refusal(f"screen {number} ends after {len(out):,} of {wanted:,} bytes")
            flags = data[at]
            at += 1
            for bit in range(8):
                if len(out) >= wanted or at >= len(data):
                    break
                if flags >> bit & 1:
                    piece = data[at : at + 1]
                    at += 1
                else:
                    low, high = data[at], data[at + 1]
                    at += 2
                    start = low | (high & 0xF0) << 4
                    piece = b""
                    for step in range((high & 15) + 3):
                        byte = window[(start + step) & 4095]
                        window[(place + step) & 4095] = byte
                        piece += bytes([byte])
                for byte in piece:
                    window[place] = byte
                    place = place + 1 & 4095
                out += piece
        if len(out) != wanted or at != len(data):
            raise Refusal(f"screen {number} does not end where it should")
        return bytes(out)


def read_inlay(data: bytes, name: str, width: int, height: int) -> Image.Image:
    """A picture of 256 colours; BadTexture where it is not exactly as the game expects."""
    if data[:4] != b"INL1" or struct.unpack_from("<HH", data, 4) != (width, height):
        raise BadTexture(f"{name} is no INL1 picture of {width} x {height}")
    if len(data) != 8 + 512 + width * height:
        raise BadTexture(f"{name} has {len(data)} bytes")
    colours = [
        bytes([*((value >> shift & 31) * 255 // 31 for shift in (0, 5, 10)), 255 if value & 0x8000 else 0])
        for value in struct.unpack_from("<256H", data, 8)
    ]
    return Image.frombytes("RGBA", (width, height), b"".join(colours[index] for index in data[520:]))


def read_mosaic(data: bytes, name: str, width: int, height: int) -> Image.Image:
    """A picture in micro-tiles of two halves; BadTexture where it is not exactly as the game expects."""
    if data[:4] != b"MOS1" or struct.unpack_from("<HH", data, 4) != (width, height):
        raise BadTexture(f"{name} is no MOS1 picture of {width} x {height}")
    if len(data) != 8 + 4 * width * height:
        raise BadTexture(f"{name} has {len(data)} bytes")
    image = Image.new("RGBA", (width, height))
    for y in range(height):
        for x in range(width):
            tile = 8 + 64 * (y // 4 * (width // 4) + x // 4) + 2 * (y % 4 * 4 + x % 4)
            image.putpixel((x, y), (*data[tile : tile + 2], *data[tile + 32 : tile + 34]))
    return image


def read_slate(data: bytes, name: str, width: int, height: int) -> tuple[Image.Image, list[tuple[int, ...]]]:
    """A picture and its rectangles; BadTexture where it is not exactly of the sides that the game expects."""
    if len(data) < 12 or data[:4] != b"SLT1":
        raise BadTexture(f"{name} is no SLT1 picture")
    found_width, found_height, number, count = struct.unpack_from("<HHBB", data, 4)
    if (found_width, found_height, number) != (width, height, 1):
        raise BadTexture(f"{name} is {found_width} x {found_height}, format {number}; wanted {width} x {height}, 1")
    begin = 12 + 12 * count
    if len(data) != begin + 2 * width * height:
        raise BadTexture(f"{name} has {len(data)} bytes")
    rectangles = [struct.unpack_from("<6H", data, 12 + 12 * k) for k in range(count)]
    for x, y, w, h, _, does in rectangles:
        if x + w > width or y + h > height:
            raise Refusal(f"{name}: a rectangle reaches out of the screen")
        if does not in ACTIONS:
            raise Refusal(f"{name}: a rectangle does {does}, which is nothing that a screen can do")
    values = struct.unpack(f"<{width * height}H", data[begin:])
    pixels = bytearray()
    for value in values:
        parts = [(value >> shift & 31) * 255 // 31 for shift in (0, 5, 10)]
        pixels += bytes([*parts, 255 if value & 0x8000 else 0])
    return Image.frombytes("RGBA", (width, height), bytes(pixels)), rectangles
