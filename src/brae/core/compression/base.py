"""What a packer is, and where packers are found by name."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from brae.core.errors import FormatError, LimitError

#: No member may unpack to more than this (a game's largest textures are far below it).
LARGEST_MEMBER = 1 << 30


class Packer(Protocol):
    """Packs and unpacks whole members."""

    name: str

    @property
    def levels(self) -> tuple[int, ...]:
        """The settings to try, likeliest first, when the original's own are to be found out."""
        ...

    @property
    def ratio(self) -> int:
        """How many bytes one packed byte can become at most, so that absurd claims are refused unread."""
        ...

    def pack(self, data: bytes, level: int) -> bytes:
        """Pack ``data`` with one of ``levels``."""
        ...

    def unpack(self, data: bytes, size: int | None) -> bytes:
        """Unpack to exactly ``size`` bytes, or raise FormatError; to its own end where ``size`` is None."""
        ...

    def unpack_start(self, data: bytes, length: int) -> bytes:
        """At most the first ``length`` unpacked bytes of a stream that may be cut, to look at a header."""
        ...


def check_size(size: int | None) -> int:
    """The most bytes that may come out; LimitError where more are announced than is sensible."""
    if size is not None and size > LARGEST_MEMBER:
        raise LimitError(f"A member says it unpacks to {size} bytes; the limit is {LARGEST_MEMBER}.")
    return LARGEST_MEMBER if size is None else size


def check_result(result: bytes, size: int | None) -> bytes:
    """The result where it has the announced size; FormatError or LimitError where not."""
    if size is None:
        if len(result) > LARGEST_MEMBER:
            raise LimitError(f"A member unpacks to more than {LARGEST_MEMBER} bytes.")
        return result
    if len(result) != size:
        more = "more than " if len(result) > size else ""
        raise FormatError(
            f"The packed bytes unpack to {more}{min(len(result), size)} bytes.", expected=f"{size} bytes"
        )
    return result


def damaged(error: Exception) -> FormatError:
    """A library's complaint as one of Brae's errors."""
    return FormatError(f"The packed bytes are damaged ({error}).")


@dataclass(eq=False)
class Stored:
    """Members kept as they are."""

    name: str = "none"
    levels: tuple[int, ...] = (0,)
    ratio: int = 1

    def pack(self, data: bytes, level: int) -> bytes:
        return data

    def unpack(self, data: bytes, size: int | None) -> bytes:
        if size is not None and len(data) != size:
            raise FormatError(f"A member kept unpacked has {len(data)} bytes.", expected=f"{size} bytes")
        return data

    def unpack_start(self, data: bytes, length: int) -> bytes:
        return data[:length]


#: for packers that know no bound
UNBOUNDED = 1 << 40
_PACKERS: dict[str, Packer] = {}


def register(packer: Packer) -> Packer:
    """Make a packer known by its name."""
    _PACKERS[packer.name] = packer
    return packer


register(Stored())


def names() -> list[str]:
    """The names a layout may use without describing a packer."""
    return list(_PACKERS)


def get(name: str) -> Packer:
    """The packer of that name; FormatError where there is none."""
    if name not in _PACKERS:
        raise FormatError(f"There is no packer '{name}'.", expected=f"one of {', '.join(_PACKERS)}")
    return _PACKERS[name]


@runtime_checkable
class Streaming(Protocol):
    """A packer that unpacks piece by piece, in bounded memory."""

    def stream(self, data: bytes) -> Iterator[bytes]:
        """The unpacked bytes, piece by piece; FormatError where they are damaged or stop before their end."""
        ...


#: up to this size a member is unpacked whole: that is quicker
_WHOLE = 1 << 22


def unpack_parts(packer: Packer, data: bytes, size: int | None) -> Iterator[bytes]:
    """The unpacked bytes piece by piece, checked as ``unpack`` checks them.

    Packers that know no stream give one piece. FormatError and LimitError as for ``unpack``; what was given before
    is then not to be used.
    """
    most = check_size(size)
    # A Streaming has it; asking the protocol takes longer than unpacking something small.
    stream: Callable[[bytes], Iterator[bytes]] | None = getattr(packer, "stream", None)
    if stream is None or (size is not None and size <= _WHOLE):
        yield packer.unpack(data, size)
        return
    total = 0
    for part in stream(data):
        total += len(part)
        if total > most:
            if size is None:
                raise LimitError(f"A member unpacks to more than {LARGEST_MEMBER} bytes.")
            raise FormatError(f"The packed bytes unpack to more than {size} bytes.", expected=f"{size} bytes")
        yield part
    if size is not None and total != size:
        raise FormatError(f"The packed bytes unpack to {total} bytes.", expected=f"{size} bytes")


def find_level(packer: Packer, packed: bytes, real: bytes) -> int | None:
    """The level at which ``packer`` makes exactly ``packed`` out of ``real``, or None."""
    return next((level for level in packer.levels if packer.pack(real, level) == packed), None)
