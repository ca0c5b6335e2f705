"""Checksums, found by name or described by their parameters: from bytes to a whole number or a digest."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable, Iterable
from functools import lru_cache
from typing import Annotated, Any, Protocol

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator


class _Running(Protocol):
    def update(self, data: bytes) -> object: ...
    def value(self) -> int | bytes: ...


class Crc(BaseModel):
    """A cyclic redundancy check by its parameters, as the published catalogues of CRC algorithms give them."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    width: Annotated[int, Field(ge=8, le=64)]
    poly: Annotated[int, Field(ge=0)]
    init: Annotated[int, Field(ge=0)] = 0
    reflect: bool = Field(False, description="bits are taken lowest first, and the result is mirrored")
    xor_out: Annotated[int, Field(ge=0)] = 0

    @model_validator(mode="after")
    def _whole_bytes(self) -> Crc:
        if max(self.poly, self.init, self.xor_out) >> self.width:
            raise ValueError("poly, init and xor_out have at most 'width' bits")
        return self


#: From memory of the published catalogue; tests check each against its value for "123456789".
CRCS = {
    "crc16-arc": Crc(width=16, poly=0x8005, reflect=True),
    "crc16-kermit": Crc(width=16, poly=0x1021, reflect=True),
    "crc16-modbus": Crc(width=16, poly=0x8005, init=0xFFFF, reflect=True),
    "crc16-xmodem": Crc(width=16, poly=0x1021),
    "crc16-ibm-3740": Crc(width=16, poly=0x1021, init=0xFFFF),
    "crc32-bzip2": Crc(width=32, poly=0x04C11DB7, init=0xFFFFFFFF, xor_out=0xFFFFFFFF),
    "crc32-mpeg2": Crc(width=32, poly=0x04C11DB7, init=0xFFFFFFFF),
    "crc32-jamcrc": Crc(width=32, poly=0x04C11DB7, init=0xFFFFFFFF, reflect=True),
    "crc32c": Crc(width=32, poly=0x1EDC6F41, init=0xFFFFFFFF, reflect=True, xor_out=0xFFFFFFFF),
}


class _Words:
    """A running value over whole words; a tail shorter than a word counts as if zeros followed it.

    (Common practice, no source.)
    """

    def __init__(self, step: Callable[[bytes, int], int], first: int, width: int = 1) -> None:
        self._step, self._value, self._width, self._tail = step, first, width, b""

    def update(self, data: bytes) -> None:
        data = self._tail + data
        whole = len(data) - len(data) % self._width
        self._value = self._step(data[:whole], self._value)
        self._tail = data[whole:]

    def value(self) -> int:
        if not self._tail:
            return self._value
        return self._step(self._tail.ljust(self._width, b"\0"), self._value)


class _Digest:
    def __init__(self, digest: Any, number: bool = False) -> None:
        self.update, self._digest, self._number = digest.update, digest, number

    def value(self) -> int | bytes:
        return int(self._digest.intdigest()) if self._number else bytes(self._digest.digest())


def _sum(dtype: str) -> Callable[[], _Running]:
    def add(data: bytes, value: int) -> int:
        return (value + int(np.frombuffer(data, dtype).sum(dtype=np.uint64))) & 0xFFFFFFFFFFFFFFFF

    return lambda: _Words(add, 0, np.dtype(dtype).itemsize)


def _xor(dtype: str) -> Callable[[], _Running]:
    def fold(data: bytes, value: int) -> int:
        return value ^ int(np.bitwise_xor.reduce(np.frombuffer(data, dtype), initial=0))

    return lambda: _Words(fold, 0, np.dtype(dtype).itemsize)


def _fletcher(bits: int) -> Callable[[], _Running]:
    """Fletcher's checksum (RFC 1146 appendix I for 16 bits): two sums modulo 2^n - 1."""
    half = bits // 2
    modulus = (1 << half) - 1
    dtype = f"<u{half // 8}"

    def step(data: bytes, value: int) -> int:
        low, high = value & modulus, value >> half
        for start in range(0, len(data), 1 << 16):
            words = np.frombuffer(data[start : start + (1 << 16)], dtype).astype(np.uint64)
            weights = np.arange(len(words), 0, -1, dtype=np.uint64)
            high = (high + low * len(words) + int((words % modulus * weights).sum())) % modulus
            low = (low + int(words.sum())) % modulus
        return high << half | low

    return lambda: _Words(step, 0, half // 8)


def _hash(name: str) -> Callable[[], _Running]:
    return lambda: _Digest(hashlib.new(name, usedforsecurity=False))


def _xxhash(name: str) -> Callable[[], _Running]:
    def make() -> _Running:
        import xxhash

        return _Digest(getattr(xxhash, name)(), number=True)

    return make


@lru_cache(maxsize=64)
def _crc_table(spec: Crc) -> np.ndarray[Any, np.dtype[np.uint64]]:
    """What each byte does to the register."""
    table = np.arange(256, dtype=np.uint64)
    one, mask = np.uint64(1), np.uint64((1 << spec.width) - 1)
    if spec.reflect:
        poly = np.uint64(int(f"{spec.poly:0{spec.width}b}"[::-1], 2))
        for _ in range(8):
            table = np.where(table & one, (table >> one) ^ poly, table >> one)
    else:
        poly, top = np.uint64(spec.poly), np.uint64(1 << (spec.width - 1))
        table <<= np.uint64(spec.width - 8)
        for _ in range(8):
            table = np.where(table & top, (table << one) ^ poly, table << one) & mask
    return table


class _CrcRunning:
    def __init__(self, spec: Crc) -> None:
        self._spec = spec
        self._value = int(f"{spec.init:0{spec.width}b}"[::-1], 2) if spec.reflect else spec.init

    def update(self, data: bytes) -> None:
        from brae.core.layouts import kernels

        spec = self._spec
        self._value = int(
            kernels.crc(
                np.frombuffer(data, np.uint8), _crc_table(spec), np.uint64(self._value), spec.width, spec.reflect
            )
        )

    def value(self) -> int:
        return self._value ^ self._spec.xor_out


#: CRC-32 is RFC 1952 section 8, Adler-32 RFC 1950 section 8.2, MD5 RFC 1321, SHA FIPS 180-4.
_KINDS: dict[str, Callable[[], _Running]] = {
    "crc32": lambda: _Words(zlib.crc32, 0),
    "adler32": lambda: _Words(zlib.adler32, 1),
    "sum8": _sum("u1"),
    "sum16le": _sum("<u2"),
    "sum16be": _sum(">u2"),
    "sum32le": _sum("<u4"),
    "sum32be": _sum(">u4"),
    "xor8": _xor("u1"),
    "xor16le": _xor("<u2"),
    "xor16be": _xor(">u2"),
    "xor32le": _xor("<u4"),
    "xor32be": _xor(">u4"),
    "fletcher16": _fletcher(16),
    "fletcher32": _fletcher(32),
    "md5": _hash("md5"),
    "sha1": _hash("sha1"),
    "sha256": _hash("sha256"),
    "xxh32": _xxhash("xxh32"),
    "xxh64": _xxhash("xxh64"),
}


def names() -> list[str]:
    """The names a layout may use."""
    return [*_KINDS, *CRCS]


def checksum(kind: str | Crc, parts: Iterable[bytes]) -> int | bytes:
    """The checksum over ``parts`` joined: a number, or the bytes of a digest."""
    if isinstance(kind, str) and kind in _KINDS:
        running = _KINDS[kind]()
    else:
        running = _CrcRunning(CRCS[kind] if isinstance(kind, str) else kind)
    for part in parts:
        running.update(part)
    return running.value()


def as_bytes(value: int | bytes, width: int, endian: str) -> bytes:
    """A checksum as a field of ``width`` bytes holds it: the low bits of a number, the first bytes of a digest."""
    if isinstance(value, bytes):
        return value[:width].ljust(width, b"\0")
    order = "little" if endian == "little" else "big"
    return (value & ((1 << 8 * width) - 1)).to_bytes(width, order)  # type: ignore[arg-type]
