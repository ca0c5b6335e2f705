"""Packers that a layout describes by their parameters: LZSS, byte runs, blocks, a size in front."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from brae.core.compression.base import Packer, check_result, check_size, get, names
from brae.core.errors import FormatError, LimitError

Piece = Annotated[str, Field(pattern=r"^(distance|length) [1-9][0-9]?$")]


class _Spec(BaseModel):
    model_config = ConfigDict(extra="forbid")
    about: str | None = None


class LzssSpec(_Spec):
    """Literals and references into what was unpacked, told apart by flag bits (the LZSS family)."""

    kind: Literal["lzss"]
    flag_bytes: Literal[1, 2, 4] = Field(1, description="flags are read in units of so many bytes")
    flag_order: Literal["low-first", "high-first"] = "low-first"
    literal: Literal[0, 1] = Field(1, description="the flag of a literal byte")
    endian: Literal["little", "big"] = Field("little", description="of flag units and references")
    reference: list[Piece] = Field(
        default_factory=lambda: ["distance 8", "length 4", "distance 4"],
        min_length=2,
        max_length=6,
        description="the bits of a reference, from the lowest up",
    )
    distance: Literal["back", "window"] = Field(
        "back", description="how far back, or a place in a window that is written in turn"
    )
    distance_add: Annotated[int, Field(ge=0, le=65536)] = 1
    length_add: Annotated[int, Field(ge=1, le=256)] = 3
    longer: Annotated[int, Field(ge=0, le=2)] = Field(
        0, description="so many bytes follow, to be added, where the length has its largest value"
    )
    window: Annotated[int, Field(ge=16, le=1 << 20)] | None = Field(None, description="bytes; 2 ^ distance bits")
    start: Annotated[int, Field(ge=0)] = Field(0, description="where in the window the first byte is written")
    fill: Annotated[int, Field(ge=0, le=255)] = Field(0, description="what the window holds at first")
    end: Literal["size", "zero-distance"] = Field("size", description="what ends the data")

    @property
    def pieces(self) -> list[tuple[int, int]]:
        """(1 for length or 0 for distance, bits), from the lowest bit up."""
        return [(int(word == "length"), int(bits)) for word, bits in (piece.split() for piece in self.reference)]

    @model_validator(mode="after")
    def _whole_bytes(self) -> LzssSpec:
        total = [sum(bits for which, bits in self.pieces if which == kind) for kind in (0, 1)]
        if sum(total) % 8 or not 8 <= sum(total) <= 32 or not total[0] or not 1 <= total[1] <= 16 or total[0] > 20:
            raise ValueError("a reference has 8, 16, 24 or 32 bits: at most 20 of distance and 16 of length")
        if self.end == "zero-distance" and self.distance == "back" and self.distance_add:
            raise ValueError("with distance_add there is no zero distance to end with")
        if self.distance == "window" and self.window is not None and self.window > 1 << total[0]:
            raise ValueError("the window is larger than the distance can say")
        return self


class RunsSpec(_Spec):
    """Byte-run coding: a byte repeated, or bytes copied."""

    kind: Literal["runs"]
    form: Literal["negative", "top-bit", "escape", "pairs", "top-bits"] = Field(
        description="negative: a negative count is a run (PackBits); top-bit: bit 7 marks a run; "
        "escape: a byte, a count, a value; pairs: count and value, always; top-bits: bits 6 and 7 mark a count, "
        "and a value follows; any other byte is itself (PCX)"
    )
    escape: Annotated[int, Field(ge=0, le=255)] = 0
    run_add: Annotated[int, Field(ge=0, le=16)] = 1
    copy_add: Annotated[int, Field(ge=0, le=16)] = 1


class BlocksSpec(_Spec):
    """A member packed in blocks, with a table of the blocks' stored sizes at its beginning."""

    kind: Literal["blocks"]
    of: str = Field(description="how each block is packed")
    size: Annotated[int, Field(ge=64, le=1 << 26)] = Field(
        description="unpacked bytes of a block; the last is less"
    )
    entry: Literal["u16", "u32"] = "u32"
    endian: Literal["little", "big"] = "little"
    raw_bit: Annotated[int, Field(ge=0, le=31)] | None = Field(None, description="set where a block is not packed")
    raw_if_full: bool = Field(False, description="a block as large as its content is not packed")
    count_first: bool = Field(False, description="the number of blocks stands before the table")


class SizedSpec(_Spec):
    """The unpacked size in front of the packed bytes."""

    kind: Literal["sized"]
    of: str
    size: Literal["u16", "u24", "u32", "u64"] = "u32"
    endian: Literal["little", "big"] = "little"


PackerSpec = Annotated[LzssSpec | RunsSpec | BlocksSpec | SizedSpec, Field(discriminator="kind")]


def describe(name: str, specs: dict[str, Any]) -> Packer:
    """The packer ``name`` among a layout's own ``specs``, or the registered one of that name."""
    return _build(name, specs, ())


def check(specs: dict[str, Any]) -> None:
    """Raise ValueError where a described packer is built on one that does not exist, or on itself."""
    for name in specs:
        try:
            _build(name, specs, ())
        except FormatError as error:
            raise ValueError(error.message.rstrip(".")) from None


def _build(name: str, specs: dict[str, Any], above: tuple[str, ...]) -> Packer:
    spec = specs.get(name)
    if spec is None:
        if name not in names():
            raise FormatError(f"There is no packer '{name}'.", expected=f"one of {', '.join([*names(), *specs])}")
        return get(name)
    if name in above:
        raise FormatError(f"The packer '{name}' is built on itself.")
    if isinstance(spec, LzssSpec):
        return Lzss(name, spec)
    if isinstance(spec, RunsSpec):
        return Runs(name, spec)
    inner = _build(spec.of, specs, (*above, name))
    return Blocks(name, inner, spec) if isinstance(spec, BlocksSpec) else Sized(name, inner, spec)


def _array(data: bytes) -> np.ndarray[Any, np.dtype[np.uint8]]:
    return np.frombuffer(data, np.uint8)


#: what the kernel says of a reference that points before the data
_FAR = 2
#: padding behind a packed stream has fewer bytes than this (common practice, no source)
_PADDING = 64


def _without_padding(data: bytes, size: int, exact: tuple[bytes, int], result: bytes) -> bytes:
    """The result of the right size where nothing but zeros was read beyond it, else what was read."""
    found, used = exact
    rest = data[used:]
    return found if len(found) == size and 0 < len(rest) < _PADDING and not any(rest) else result


@dataclass(eq=False)
class Lzss:
    """The LZSS family; the fast level is greedy, the others look one place ahead."""

    name: str
    spec: LzssSpec
    levels: tuple[int, ...] = (2, 1, 3)

    @property
    def ratio(self) -> int:
        """The longest reference for its bytes."""
        return (
            (1 << sum(bits for kind, bits in self.spec.pieces if kind))
            + self.spec.length_add
            + (1 << 8 * self.spec.longer)
        )

    @cached_property
    def parameters(self) -> np.ndarray[Any, np.dtype[np.int64]]:
        """The array that the kernels read."""
        spec = self.spec
        big = int(spec.endian == "big")
        bits = [sum(size for kind, size in spec.pieces if kind == which) for which in (0, 1)]
        ring = int(spec.distance == "window")
        window = spec.window or 1 << bits[0]
        head = [
            spec.flag_bytes, int(spec.flag_order == "high-first"), big, spec.literal,
            sum(bits) // 8, big, len(spec.pieces),
            ring, window, spec.start % window, spec.fill,
            spec.length_add, spec.distance_add, bits[1], bits[0], spec.longer,
            int(spec.end == "zero-distance"),
        ]  # fmt: skip
        return np.array(head + [number for piece in spec.pieces for number in piece], np.int64)

    def pack(self, data: bytes, level: int) -> bytes:
        from brae.core.compression import kernels

        target = np.empty(3 * len(data) + 64, np.uint8)
        tries = {1: 16, 2: 256, 3: 8192}[level]
        if self.spec.end == "zero-distance" and self.spec.distance == "window":
            # Place zero of the window is the end mark, so no reference may begin there.
            raise FormatError("Packing into a window that ends at place zero is not possible yet.")
        length = kernels.lz_pack(_array(data), target, self.parameters, tries, level > 1)
        return target[:length].tobytes()

    def _run(self, data: bytes, most: int) -> tuple[bytes, int, int]:
        from brae.core.compression import kernels

        # What a stream can unpack to at most bounds the buffer, whatever the directory says.
        target = np.empty(min(most, (len(data) + 1) * self.ratio), np.uint8)
        out, used, state = kernels.lz_unpack(_array(data), target, self.parameters)
        return target[:out].tobytes(), used, state

    def unpack(self, data: bytes, size: int | None) -> bytes:
        result, _, state = self._run(data, check_size(size) + 1)
        if size is not None and len(result) != size and state != _FAR:
            result = _without_padding(data, size, self._run(data, size)[:2], result)
        if state == _FAR and len(result) != size:
            raise FormatError(f"A reference points before the data, after {len(result)} unpacked bytes.")
        return check_result(result, size)

    def unpack_start(self, data: bytes, length: int) -> bytes:
        return self._run(data, length)[0]


@dataclass(eq=False)
class Runs:
    """Byte-run coding."""

    name: str
    spec: RunsSpec
    levels: tuple[int, ...] = (0,)
    ratio: int = 272

    def _arguments(self) -> tuple[int, int, int, int]:
        spec = self.spec
        return (
            ("negative", "top-bit", "escape", "pairs", "top-bits").index(spec.form),
            spec.escape,
            spec.run_add,
            spec.copy_add,
        )

    def pack(self, data: bytes, level: int) -> bytes:
        from brae.core.compression import kernels

        target = np.empty(3 * len(data) + 64, np.uint8)
        length = kernels.runs_pack(_array(data), target, *self._arguments())
        if length < 0:
            raise FormatError(
                "These bytes cannot be said in this byte-run coding: a run or copy is too short for it."
            )
        return target[:length].tobytes()

    def unpack(self, data: bytes, size: int | None) -> bytes:
        result, _ = self._run(data, check_size(size) + 1)
        if size is not None and len(result) != size:
            result = _without_padding(data, size, self._run(data, size), result)
        return check_result(result, size)

    def _run(self, data: bytes, most: int) -> tuple[bytes, int]:
        from brae.core.compression import kernels

        target = np.empty(min(most, self.ratio * len(data) + 16), np.uint8)
        out, used = kernels.runs_unpack(_array(data), target, *self._arguments())
        return target[:out].tobytes(), used

    def unpack_start(self, data: bytes, length: int) -> bytes:
        return self._run(data, length)[0]


@dataclass(eq=False)
class Blocks:
    """A member in blocks, each packed alone."""

    name: str
    inner: Packer
    spec: BlocksSpec

    @property
    def levels(self) -> tuple[int, ...]:
        """Those of the blocks' own packer."""
        return self.inner.levels

    @property
    def ratio(self) -> int:
        """That of the blocks' own packer, as far as a block reaches."""
        return min(self.inner.ratio, self.spec.size)

    @property
    def _entry(self) -> np.dtype[Any]:
        return np.dtype(
            ("<" if self.spec.endian == "little" else ">")
            + self.spec.entry.replace("u16", "u2").replace("u32", "u4")
        )

    def pack(self, data: bytes, level: int) -> bytes:
        size, bit = self.spec.size, self.spec.raw_bit
        sizes, bodies = [], []
        for start in range(0, len(data), size):
            block = data[start : start + size]
            packed = self.inner.pack(block, level)
            raw = len(packed) >= len(block) and (bit is not None or self.spec.raw_if_full)
            if not raw and self.spec.raw_if_full and len(packed) == len(block):
                raw = True
            body = block if raw else packed
            entry = len(body) | (1 << bit if raw and bit is not None else 0)
            if entry >> (8 * self._entry.itemsize):
                raise FormatError(f"A block of {len(body)} bytes does not fit its entry ({self.spec.entry}).")
            sizes.append(entry)
            bodies.append(body)
        head = np.array([len(sizes)] if self.spec.count_first else [], self._entry).tobytes()
        return head + np.array(sizes, self._entry).tobytes() + b"".join(bodies)

    def _blocks(self, data: bytes, size: int) -> tuple[np.ndarray[Any, Any], int]:
        width = self._entry.itemsize
        start = width if self.spec.count_first else 0
        count = -(-size // self.spec.size)
        if self.spec.count_first:
            stated = int.from_bytes(data[:width], self.spec.endian) if len(data) >= width else None
            if stated != count:
                raise FormatError("The number of blocks does not fit the real size.", expected=f"{count} blocks")
        if start + count * width > len(data):
            raise FormatError(f"The table of {count} blocks is cut short.")
        return np.frombuffer(data, self._entry, count, start).astype(np.int64), start + count * width

    def unpack(self, data: bytes, size: int | None) -> bytes:
        if size is None:
            raise FormatError("A member in blocks needs the role real-size.")
        check_size(size)
        entries, at = self._blocks(data, size)
        parts = []
        for number, entry in enumerate(entries.tolist()):
            want = min(self.spec.size, size - number * self.spec.size)
            part, at = self._block(data, at, entry, want)
            parts.append(part)
        if at != len(data):
            raise FormatError(f"{len(data) - at} bytes follow the last block.", expected="the end")
        return b"".join(parts)

    def _block(self, data: bytes, at: int, entry: int, want: int) -> tuple[bytes, int]:
        bit = self.spec.raw_bit
        length = entry & ~(1 << bit) if bit is not None else entry
        raw = (bit is not None and entry >> bit & 1) or (self.spec.raw_if_full and length == want)
        body = data[at : at + length]
        if len(body) < length:
            raise FormatError(f"A block of {length} bytes is cut short.", offset=at)
        if raw:
            return check_result(body, want), at + length
        return self.inner.unpack(body, want), at + length

    def unpack_start(self, data: bytes, length: int) -> bytes:
        # The table's length is known only with the real size, so the first block is looked for where it can be.
        return b""


@dataclass(eq=False)
class Sized:
    """The unpacked size before the packed bytes."""

    name: str
    inner: Packer
    spec: SizedSpec

    @property
    def levels(self) -> tuple[int, ...]:
        """Those of the packer inside."""
        return self.inner.levels

    @property
    def ratio(self) -> int:
        """That of the packer inside."""
        return self.inner.ratio

    @property
    def _width(self) -> int:
        return int(self.spec.size[1:]) // 8

    def pack(self, data: bytes, level: int) -> bytes:
        if len(data) >> 8 * self._width:
            raise LimitError(f"{len(data)} bytes do not fit the size in front ({self.spec.size}).")
        return len(data).to_bytes(self._width, self.spec.endian) + self.inner.pack(data, level)

    def unpack(self, data: bytes, size: int | None) -> bytes:
        if len(data) < self._width:
            raise FormatError("The size before the packed bytes is cut short.", offset=0)
        own = int.from_bytes(data[: self._width], self.spec.endian)
        if size is not None and own != size:
            raise FormatError(f"The packed bytes say {own} bytes.", offset=0, expected=f"{size} bytes")
        return self.inner.unpack(data[self._width :], own)

    def unpack_start(self, data: bytes, length: int) -> bytes:
        return self.inner.unpack_start(data[self._width :], length)
