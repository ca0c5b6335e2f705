"""What the numbers before (and behind) a table mean: counts, places, sizes, checksums of what was found."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from brae.core.layouts import checksums

#: checksums of 32 bits that are tried
CHECKS = ("crc32", "adler32", "sum8", "sum32le", "sum32be", "xor32le", "xor32be", "crc32c", "fletcher32")


@dataclass(frozen=True)
class Fact:
    """Something that a number may say: the key of a field and what it names."""

    value: int
    name: str
    text: str


@dataclass(frozen=True)
class Stretch:
    """Bytes of a part that a checksum may cover."""

    names: tuple[str, ...]
    data: bytes


def magic(data: bytes) -> int:
    """How many bytes at the beginning are letters or digits: 0, 3, 4 or 8."""
    for length in (8, 4, 3):
        head = data[:length]
        if len(head) == length and all(0x30 <= byte < 0x7B for byte in head):
            return length
    return 0


def _quoted(raw: bytes) -> str:
    return (
        '"'
        + "".join(chr(byte) if 0x20 <= byte < 0x7F and byte not in b'"\\' else f"\\x{byte:02x}" for byte in raw)
        + '"'
    )


def fields(
    data: bytes, endian: str, facts: list[Fact], stretches: list[Stretch], place: str | None = None
) -> Iterator[str]:
    """One line of a layout for each field of a header (or of a footer, which begins at ``place``)."""
    used: set[str] = set()
    at = 0

    def where() -> str:
        if place is None or at:
            return ""
        return f", at: {place}"

    length = magic(data)
    if length:
        yield f"{{field: magic{where()}, type: bytes, length: {length}, value: {_quoted(data[:length])}}}"
        at = length
        # Numbers stand at multiples of their size, so a letter or two more belong to the magic.
        if at % 4 and len(data) - at >= 4 - at % 4:
            rest = 4 - at % 4
            yield f"{{bytes: version, size: {rest}}}"
            at += rest
    unknown = 0
    while at + 4 <= len(data):
        word = int.from_bytes(data[at : at + 4], "little" if endian == "little" else "big")
        line = _meaning(word, facts, used) or _check(word, stretches, used)
        if line is not None:
            yield f"{{{line[0]}{where()}, type: u32, {line[1]}}}"
            at += 4
            continue
        halves = [
            int.from_bytes(data[at + k : at + k + 2], "little" if endian == "little" else "big") for k in (0, 2)
        ]
        known = [fact for fact in facts if fact.name == "count" and fact.value in halves and "count" not in used]
        if known:
            for half in halves:
                if half == known[0].value and "count" not in used:
                    used.add("count")
                    yield f"{{field: count{where()}, type: u16, {known[0].text}}}"
                else:
                    unknown += 1
                    yield f"{{field: unknown_{unknown}{where()}, type: u16}}"
                at += 2
            continue
        unknown += 1
        if not length and at == 0 and word:
            yield f"{{field: unknown_{unknown}{where()}, type: u32, value: {word}}}"
        else:
            yield f"{{field: unknown_{unknown}{where()}, type: u32}}"
        at += 4
    if at < len(data):
        name = "header_rest" if place is None else "footer_rest"
        yield f"{{bytes: {name}{where()}, size: {len(data) - at}}}"


def _meaning(word: int, facts: list[Fact], used: set[str]) -> tuple[str, str] | None:
    for fact in facts:
        if fact.value == word and fact.name not in used:
            used.add(fact.name)
            return f"field: {fact.name}", fact.text
    return None


def _check(word: int, stretches: list[Stretch], used: set[str]) -> tuple[str, str] | None:
    if word < 0x10000:
        return None
    for stretch in stretches:
        for kind in CHECKS:
            if checksums.checksum(kind, [stretch.data]) == word:
                name = f"check_{len([one for one in used if one.startswith('check_')]) + 1}"
                used.add(name)
                return f"field: {name}", f"checksum: {{kind: {kind}, over: [{', '.join(stretch.names)}]}}"
    return None
