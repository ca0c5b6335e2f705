"""Raw CD images, written without Brae's own code: the parity by the library reedsolo, the EDC byte by byte."""

from __future__ import annotations

import subprocess
from functools import cache, lru_cache
from pathlib import Path

import reedsolo


@cache
def _coder() -> reedsolo.RSCodec:
    # ECMA-130 annex A: GF(2^8) with x^8+x^4+x^3+x^2+1, the generator's roots are 1 and alpha
    return reedsolo.RSCodec(2, fcr=0, prim=0x11D, generator=2)


@cache
def _step(value: int) -> int:
    for _ in range(8):
        value = value >> 1 ^ (0xD8018001 if value & 1 else 0)  # 0x8001801B, lowest bit first
    return value


def edc(data: bytes) -> bytes:
    """The EDC as a sector holds it (ECMA-130 14.3; CRC-32/CD-ROM-EDC in the catalogue of CRC algorithms)."""
    value = 0
    for byte in data:
        value = value >> 8 ^ _step((value ^ byte) & 0xFF)
    return value.to_bytes(4, "little")


def parity(block: bytearray) -> None:
    """P and Q parity (ECMA-130 annex A); ``block`` are the bytes from the header on, 2,340 of them."""
    for plane in (0, 1):  # low and high bytes of the 16-bit words are coded apart
        words = block[plane::2]
        for column in range(43):
            code = _coder().encode(bytes(words[column + 43 * row] for row in range(24)))
            words[1032 + column], words[1075 + column] = code[24], code[25]
        for diagonal in range(26):
            code = _coder().encode(bytes(words[(44 * step + 43 * diagonal) % 1118] for step in range(43)))
            words[1118 + diagonal], words[1144 + diagonal] = code[43], code[44]
        block[plane::2] = words


def bcd(number: int) -> int:
    """Two decimal digits in a byte."""
    return number // 10 << 4 | number % 10


# Most sectors of two images are the same, and each takes milliseconds.
@lru_cache(maxsize=8192)
def sector(number: int, data: bytes, mode: int = 1, subheader: bytes = b"") -> bytes:
    """One raw sector; mode 2 with an XA subheader of four bytes, form 2 where its submode says so."""
    frames = number + 150
    head = bytes([bcd(frames // 4500), bcd(frames // 75 % 60), bcd(frames % 75), mode])
    sync = b"\0" + b"\xff" * 10 + b"\0"
    if mode == 1:
        block = bytearray(head + data + edc(sync + head + data) + bytes(8 + 276))
        parity(block)
        return sync + bytes(block)
    if subheader[2] & 0x20:
        body = subheader * 2 + data
        return sync + head + body + edc(body)
    body = subheader * 2 + data
    block = bytearray(bytes(4) + body + edc(body) + bytes(276))
    parity(block)
    return sync + head + bytes(block[4:])


def raw_image(iso: bytes, mode: int = 1) -> bytes:
    """A raw image of a 2,048-byte one."""
    return b"".join(
        sector(at // 2048, iso[at : at + 2048], mode, b"\0\0\x08\0" if mode == 2 else b"")
        for at in range(0, len(iso), 2048)
    )


def iso_image(folder: Path, target: Path, *options: str) -> bytes:
    """An image of a folder made by genisoimage."""
    subprocess.run(["genisoimage", "-quiet", *options, "-o", target, folder], check=True)
    return target.read_bytes()
