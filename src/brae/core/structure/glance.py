"""What can be seen of a file that nobody has described, before anything is tried: in one line, and for a sorting.

Nothing here is a proof; each sentence says what is there, and never what it means.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np

from brae.core.sources import ByteSource
from brae.core.structure import names as naming
from brae.core.structure.header import magic
from brae.core.structure.places import Numbers, rising
from brae.core.structure.workshop import entropy

#: so much of the beginning and of the end is looked at for names
_EDGE = 256 << 10
#: and so much for numbers in steps: a directory begins near an edge
_STEPPED = 8 << 10
_LONGEST_STEP = 64
_FEWEST_NAMES = 8
_FEWEST_STEPS = 6
#: bits a byte from which bytes look packed or encrypted
_DENSE = 7.9
#: the file is looked at in so many stretches at most, of each so many bytes
_STRETCHES, _STRETCH = 64, 4096

Density = Literal["whole", "mostly", "partly", "plain"]


@dataclass(frozen=True)
class Glance:
    """What one look shows."""

    #: the first bytes where they are letters or digits
    signature: str | None
    #: how much of the file looks packed or encrypted
    density: Density
    #: bits a byte, the mean over equal stretches
    entropy: float
    #: strings that end with a zero, side by side: how many, and where they begin
    names: int = 0
    names_at: int = 0
    #: numbers that rise in equal steps: how many, where, how many bytes apart
    steps: int = 0
    steps_at: int = 0
    step: int = 0

    @property
    def like_archive(self) -> bool:
        """Whether a search for a structure is worth its time."""
        return bool(self.names or self.steps) or (self.density != "whole" and self.signature is not None)

    def words(self) -> list[str]:
        """The same for people, one fact each."""
        said = {
            "whole": "looks packed or encrypted as a whole",
            "mostly": "most of it looks packed",
            "partly": "parts of it look packed",
            "plain": "",
        }[self.density]
        found = [f"begins with “{self.signature}”"] if self.signature else []
        found += [said] if said else []
        if self.names:
            found.append(f"{self.names:,} names from {self.names_at:,} on")
        if self.steps:
            found.append(f"{self.steps:,} rising numbers, {self.step} bytes apart, from {self.steps_at:,} on")
        return found


def glance(source: ByteSource) -> Glance:
    """One look at a file; bounded, however large it is."""
    head = source.read(0, min(8, source.size))
    length = magic(head)
    stretches = max(1, min(_STRETCHES, source.size // _STRETCH))
    bits = np.array(entropy(source, stretches)) if source.size else np.zeros(1)
    # Few bytes cannot show all values; so much is missing on the average (Miller 1955).
    bits = np.minimum(bits + 255 / (2 * np.log(2) * max(min(_STRETCH, source.size // stretches), 256)), 8)
    dense = float((bits > _DENSE).mean())
    density: Density = (
        "whole" if dense > 0.97 else "mostly" if dense > 0.6 else "partly" if dense > 0.1 else "plain"
    )
    names, names_at = _names(source)
    steps, steps_at, step = _steps(source)
    signature = head[:length].decode("latin-1") if length else None
    return Glance(signature, density, float(bits.mean()), names, names_at, steps, steps_at, step)


def _edges(source: ByteSource, width: int) -> list[tuple[int, bytes]]:
    """The beginning of a source, and its end where that is another part."""
    found = [(0, source.read(0, min(width, source.size)))]
    if source.size > width:
        start = max(source.size - width, width)
        found.append((start, source.read(start, source.size - start)))
    return found


def _names(source: ByteSource) -> tuple[int, int]:
    best = (0, 0)
    for start, data in _edges(source, _EDGE):
        for begin, end in naming.blocks(data, _FEWEST_NAMES):
            strings = data[begin:end].split(b"\0")[:-1]
            # Chance makes short strings; names are longer, and mostly letters.
            if np.mean([len(one) for one in strings]) < 3:
                continue
            letters = sum(chr(byte).isalnum() or byte in b"_-./\\ " for byte in data[begin:end] if byte < 128)
            if letters >= 0.7 * (end - begin - len(strings)) and len(strings) > best[0]:
                best = (len(strings), start + begin)
    return best


def _steps(source: ByteSource) -> tuple[int, int, int]:
    best = (0, 0, 0)
    for start, data in _edges(source, _STEPPED):
        for endian in ("little", "big"):
            numbers = Numbers(data, endian)
            for _, step, first, count in rising(numbers, source.size, _LONGEST_STEP):
                column = numbers.column(first, step, count)
                # Few and small numbers rise by chance; offsets reach through the file.
                if column is None or count < _FEWEST_STEPS or int(column.max()) < source.size // 8:
                    continue
                if count > best[0]:
                    best = (count, start + first, step)
                break
    return best


def families(heads: Mapping[str, bytes]) -> dict[str, str]:
    """The family of each file, by its path: files that begin alike, or else have the same ending, are of one."""
    begins: dict[bytes, int] = {}
    for head in heads.values():
        begins[head[:4]] = begins.get(head[:4], 0) + 1
    found = {}
    for path, head in heads.items():
        ending = path.rpartition("/")[2].rpartition(".")[2].lower()
        found[path] = head[:4].hex() if len(head) >= 4 and begins[head[:4]] > 1 else f".{ending}"
    return found
