"""How members are packed, found by trying."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from brae.core import compression
from brae.core.errors import BraeError
from brae.core.layouts import checksums
from brae.core.structure.places import Ints, Numbers, Table

_TRIED = ("zlib", "deflate", "gzip", "lz4", "zstd", "lz4-frame", "lzma", "xz", "bzip2", "brotli")
_SAMPLE = 12
_CHECKS = (
    "crc32", "adler32", "sum8", "sum16le", "sum16be", "sum32le", "sum32be", "xor8", "xor32le", "xor32be", "crc32c",
    "crc32-jamcrc", "crc32-bzip2", "xxh32", "fletcher32",
)  # fmt: skip


@dataclass
class Packing:
    """Where the real size stands, how members are packed, and what says so."""

    real_at: int | None = None
    packer: str = "none"
    flag_at: int | None = None
    flag_width: int = 1
    meanings: dict[int, str] = field(default_factory=dict)
    equal: bool = False


def _sample(table: Table) -> list[int]:
    full = np.flatnonzero(table.sizes > 0)
    return full[np.unique(np.linspace(0, len(full) - 1, _SAMPLE).astype(int))].tolist() if len(full) else []


def _unpacks(packer: str, data: bytes, size: int | None) -> bool:
    try:
        found = compression.get(packer).unpack(data, size)
    except BraeError:
        return False
    return len(found) > 0 and (size is not None or len(found) > len(data) // 2)


def find_packing(read: Callable[[int, int], bytes], numbers: Numbers, table: Table, taken: set[int]) -> Packing:
    """How the members of a table are packed; ``read`` gives bytes of the data file."""
    sample = _sample(table)
    stored = {index: read(int(table.offsets[index] + table.base), int(table.sizes[index])) for index in sample}
    free = [at for at in range(table.size - 3) if not any(place in taken for place in range(at, at + 4))]
    same: Packing | None = None
    for at in free:
        real = numbers.column(table.start + at, table.size, table.count)
        if real is None or np.any((real < 1) & (table.sizes > 0)):
            continue
        if np.array_equal(real, table.sizes):
            same = same or Packing(real_at=at)
            continue
        if np.any(real > 1 << 28) or np.mean(real >= table.sizes) < 0.7:
            continue
        by = {index: _packer_of(stored[index], int(real[index])) for index in sample}
        if any(packer is None for packer in by.values()):
            continue
        kinds = {packer for packer in by.values() if packer not in (None, "none")}
        if len(kinds) > 2 or not kinds:
            continue
        result = Packing(real_at=at)
        packed = {index: str(packer) for index, packer in by.items()}
        flag = _flag(numbers, table, taken | set(range(at, at + 4)), packed)
        if flag is not None:
            result.flag_at, result.flag_width, result.meanings = flag
        elif set(packed.values()) == kinds and len(kinds) == 1:
            result.packer = next(iter(kinds))
        elif len(kinds) == 1:
            result.packer, result.equal = next(iter(kinds)), True
        else:
            continue
        return result
    if same is not None:
        return same
    for packer in ("zlib", "gzip", "zstd", "lz4-frame", "xz", "bzip2", "lzma"):
        if sample and all(_unpacks(packer, data, None) for data in stored.values()):
            return Packing(packer=packer)
    return Packing()


def _packer_of(data: bytes, real: int) -> str | None:
    """The packer that gives a member its real size."""
    if len(data) == real:
        return "none"
    return next((packer for packer in _TRIED if _unpacks(packer, data, real)), None)


def _flag(
    numbers: Numbers, table: Table, taken: set[int], packed: dict[int, str]
) -> tuple[int, int, dict[int, str]] | None:
    """A column whose value says how each member is packed: place, bytes, meanings."""
    if len(set(packed.values())) < 2:
        return None
    for width in (4, 2, 1):
        for at in range(table.size - width + 1):
            if any(place in taken for place in range(at, at + width)):
                continue
            raw = _narrow(numbers, table, at, width)
            if raw is None or len(np.unique(raw)) > 4:
                continue
            meanings: dict[int, str] = {}
            for index, packer in packed.items():
                if meanings.setdefault(int(raw[index]), packer) != packer:
                    break
            else:
                # Two numbers for one packer are more likely a column of something else.
                if set(np.unique(raw).tolist()) == set(meanings) and len(set(meanings.values())) == len(meanings):
                    return at, width, meanings
    return None


def _narrow(numbers: Numbers, table: Table, at: int, width: int) -> Ints | None:
    """A column of 1, 2 or 4 bytes."""
    if table.start + at < 0 or table.start + at + (table.count - 1) * table.size + width > len(numbers.data):
        return None
    raw = np.frombuffer(numbers.data, np.uint8)
    places = table.start + at + np.arange(table.count) * table.size
    order = range(width) if numbers.endian == "little" else range(width - 1, -1, -1)
    result = np.zeros(table.count, np.int64)
    for place, shift in enumerate(order):
        result |= raw[places + place].astype(np.int64) << (8 * shift)
    return result


def find_checks(
    read_stored: Callable[[int], bytes],
    read_real: Callable[[int], bytes],
    numbers: Numbers,
    table: Table,
    taken: set[int],
) -> dict[int, tuple[str, str]]:
    """Columns of four bytes that hold a checksum of each member: place -> kind, and 'stored' or 'real'."""
    sample = _sample(table)[:4]
    if len(sample) < 2:
        return {}
    found: dict[int, tuple[str, str]] = {}
    contents = {"real": [read_real(index) for index in sample], "stored": [read_stored(index) for index in sample]}
    sums = {
        (kind, over): [checksums.checksum(kind, [data]) for data in datas]
        for over, datas in contents.items()
        for kind in _CHECKS
    }
    for at in range(table.size - 3):
        if any(place in taken or place in found for place in range(at, at + 4)):
            continue
        column = numbers.column(table.start + at, table.size, table.count)
        if column is None or len(np.unique(column)) < 2:
            continue
        values = [int(column[index]) for index in sample]
        for key, totals in sums.items():
            if [int(total) & 0xFFFFFFFF for total in totals] == values:
                found[at] = key
                break
    return found
