"""What a container is: members inside bytes, to be read, changed and put back."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from brae.core import addresses, compression
from brae.core.errors import BraeError, FormatError, LayoutError, LimitError, NotFoundError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import Body, Composed, Copy, Ranges, Segment, body_parts, parts, whole
from brae.core.sources import MAIN, ByteSource, BytesSource, SliceSource

if TYPE_CHECKING:
    from brae.core.layouts.rows import Ints

Progress = Callable[[int, int], None]
#: members up to this size are unpacked whole where their beginning alone cannot be
_SMALL = 1 << 20
#: an archive whose members become more bytes than this, and so many times its own, is not unpacked as a whole
_SWOLLEN, _SWELLING = 1 << 29, 200

#: members are read in one go over gaps of so many bytes, and so many bytes at a time
_GAP, _RUN = 4096, 1 << 22
#: packed members that one thread unpacks before it takes others
_FEW = 256

T = TypeVar("T")


@dataclass(frozen=True)
class Proof:
    """Whether an unchanged rebuild equals the original, and where it first differs."""

    exact: bool
    #: how many members were unpacked and checked against their sizes and checksums
    members: int = 0
    file: str | None = None
    offset: int | None = None
    field: str | None = None
    reason: str | None = None
    #: what an unchanged rebuild writes in that field, and what stood there, in hexadecimal
    wrote: str | None = None
    stood: str | None = None
    #: the line of the layout that would explain it, where something does
    remedy: str | None = None
    #: "signs": only the members are known, by their signs, and nothing of what lies between them
    scope: str | None = None

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return {key: value for key, value in vars(self).items() if value is not None}


class Container(ABC):
    """Members inside bytes; arrays hold one entry a member, in the directory's order."""

    #: what it is called, for people
    title: str
    #: how each member is called in an address: its name, quoted, with a number where names repeat
    labels: list[str]
    #: the bytes it is read from, by file
    sources: Mapping[str, ByteSource]

    # ---- what each kind says of itself ------------------------------------------------------------------

    @property
    @abstractmethod
    def names(self) -> list[str]:
        """The members' names as the container has them, folders divided by ``/``."""

    @property
    @abstractmethod
    def offsets(self) -> Ints:
        """Where each member lies."""

    @property
    @abstractmethod
    def stored_sizes(self) -> Ints:
        """Bytes of each member as it lies there."""

    @property
    @abstractmethod
    def real_sizes(self) -> Ints:
        """Bytes of each member unpacked; -1 where nobody knows."""

    def said(self, indices: Sequence[int]) -> list[dict[str, int | float | str] | None]:
        """What the container itself says of members: their kind (as ``kind``) and its facts; None for nothing."""
        return [None] * len(indices)

    @abstractmethod
    def packer(self, index: int) -> compression.Packer:
        """How a member is packed; FormatError where that is not known."""

    @abstractmethod
    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        """The container with edited members; LayoutError where its structure does not allow them.

        Unchanged members keep their bytes and order; ``in_place`` moves nothing.
        """

    @abstractmethod
    def slot(self, index: int) -> int:
        """How many bytes a member may have without anything else moving."""

    def fits(self, index: int, length: int) -> bool:
        """Whether so many stored bytes can take a member's place without anything else moving."""
        return length <= self.slot(index)

    def takes(self, index: int, change: MemberChange) -> bool:
        """Whether a change can take a member's place without anything else moving, its record included."""
        return self.fits(index, len(change.stored))

    def check_member(self, index: int) -> None:
        """Unpack a member and check its checksums; FormatError where they are wrong."""
        for _ in self.unpacked(index):
            pass

    def unpacked(self, index: int) -> Iterator[bytes]:
        """A member's bytes, unpacked piece by piece in bounded memory where its packing can be read so."""
        if self.is_plain(index):
            yield from body_parts(self.body(index))
            return
        packer, real = self._packing(index)
        try:
            data = self.reveal(self.read_stored(index))
            yield from compression.unpack_parts(packer, data, None if real < 0 else real)
        except BraeError as error:
            raise error.at(self.labels[index]) from None

    def _packing(self, index: int) -> tuple[compression.Packer, int]:
        """How a member is packed, and its size unpacked; LimitError for sizes that no bytes can unpack to."""
        stored, real = int(self.stored_sizes[index]), int(self.real_sizes[index])
        packer = self.packer(index)
        if real > compression.LARGEST_MEMBER or stored * packer.ratio + 64 < real:
            raise LimitError(
                f"{stored} stored bytes claim to unpack to {real}.",
                address=self.labels[index],
                remedy="The directory is damaged, or it is too large to be unpacked as a whole.",
            )
        return packer, real

    def differs_in(self, file: str, offset: int) -> str:
        """What stands at an offset, in words."""
        return f"byte {offset} of {file}"

    @property
    def file(self) -> str:
        """The file, by the layout's name, in which the members lie."""
        return MAIN

    @property
    def in_blocks(self) -> bool:
        """Whether members lie in packed blocks that they share, so that none has a place of its own."""
        return False

    def file_of(self, index: int) -> str:
        """The file, of those that it is read from, in which a member begins."""
        return self.file

    def reveal(self, data: bytes) -> bytes:
        """Stored bytes without their obfuscation."""
        return data

    @property
    def references(self) -> Ints:
        """Pairs of members, of which the first refers to the second; shape (pairs, 2)."""
        return np.empty((0, 2), np.int64)

    # ---- what follows from it ---------------------------------------------------------------------------

    def __len__(self) -> int:
        return len(self.labels)

    @property
    def source(self) -> ByteSource:
        """The bytes in which the members lie."""
        return self.sources[self.file]

    @cached_property
    def _places(self) -> dict[str, int]:
        return {label: index for index, label in enumerate(self.labels)}

    def index_of(self, label: str) -> int:
        """The member of a label, or -1."""
        return self._places.get(label, -1)

    def references_by_owner(self) -> dict[int, list[int]]:
        """The members that each member refers to, each once."""
        found: dict[int, list[int]] = {}
        for owner, target in np.unique(self.references, axis=0).tolist():
            found.setdefault(owner, []).append(target)
        return found

    def refers_to(self, index: int) -> list[str]:
        """The labels of the members that one refers to."""
        pairs = self.references
        return [self.labels[target] for target in pairs[pairs[:, 0] == index, 1].tolist()]

    def used_by(self, index: int) -> list[str]:
        """The labels of the members that refer to one."""
        pairs = self.references
        return [self.labels[owner] for owner in pairs[pairs[:, 1] == index, 0].tolist()]

    def is_plain(self, index: int) -> bool:
        """Whether a member's bytes lie in the file as they are."""
        return self.packer(index).name == "none"

    def read_range(self, index: int, start: int, length: int) -> bytes:
        """Part of a member's bytes as they lie in the container."""
        return self.source.read(int(self.offsets[index]) + start, length)

    def read_stored(self, index: int) -> bytes:
        """A member's bytes as they lie in the container."""
        return self.read_range(index, 0, int(self.stored_sizes[index]))

    def read(self, index: int) -> bytes:
        """A member's bytes, unpacked."""
        try:
            packer, real = self._packing(index)
            return packer.unpack(self.reveal(self.read_stored(index)), None if real < 0 else real)
        except BraeError as error:
            raise error.at(self.labels[index]) from None

    def read_named(self, name: str) -> bytes:
        """A member's bytes, or a stretch of them, by its name; NotFoundError where there is none."""
        item, start, length = addresses.split_stretch(name)
        if item not in self.names:
            raise NotFoundError(f"There is no member '{item}'.")
        index = self.names.index(item)
        return self.read(index) if start is None else self.member_source(index).read(start, length)

    def member_source(self, index: int) -> ByteSource:
        """A member as a source of its own: a view where it lies unpacked, else its bytes in memory."""
        if self.is_plain(index):
            return SliceSource(self.source, int(self.offsets[index]), int(self.stored_sizes[index]))
        return BytesSource(self.read(index))

    def body(self, index: int) -> Body:
        """A member's bytes, unpacked; as ranges of the file where they lie there as they are."""
        if self.is_plain(index):
            copy = Copy(int(self.offsets[index]), int(self.stored_sizes[index]))
            return Ranges((copy,), self.source)
        return self.read(index)

    def read_start(self, index: int, length: int) -> bytes:
        """At most the first ``length`` unpacked bytes; fewer where the member is shorter or damaged."""
        packer = self.packer(index)
        wide = length if packer.name == "none" else max(length * 4, 1024)
        size = min(int(self.stored_sizes[index]), wide)
        packed = self.reveal(self.read_range(index, 0, size))
        try:
            found = packer.unpack_start(packed, length)
            # Some streams give nothing before a whole block of them is read.
            if not found and self.real_sizes[index] and int(self.stored_sizes[index]) <= _SMALL:
                found = self.read(index)[:length]
            return found
        except (FormatError, LimitError):
            return b""

    def beginnings(self, indices: Sequence[int], length: int) -> list[bytes | Exception]:
        """``read_start`` of many members, or what went wrong; those that lie close together are read in one go.

        Members that are packed are unpacked on all cores.
        """
        found: list[bytes | Exception] = [b""] * len(indices)
        packed: list[int] = []
        plain: list[int] = []
        # What has ranges of its own, such as files of a disc in several pieces, is read by its own way.
        in_one_go = type(self).read_range is Container.read_range
        for place, is_plain in enumerate(self.are_plain(indices)):
            if isinstance(is_plain, Exception):
                found[place] = is_plain
            else:
                (plain if in_one_go and is_plain else packed).append(place)
        numbers = np.fromiter((indices[place] for place in plain), np.int64, len(plain))
        starts, sizes = self.offsets[numbers], np.minimum(self.stored_sizes[numbers], length)
        order = np.argsort(starts, kind="stable")
        for first, last in _runs(starts[order], sizes[order]):
            run = order[first:last]
            begin = int(starts[run[0]])
            try:
                data = self.source.read(begin, int((starts[run] + sizes[run]).max()) - begin)
            except Exception:  # one of them lies outside: each is asked by itself
                packed += [plain[place] for place in run.tolist()]
                continue
            for place, at, size in zip(
                run.tolist(), (starts[run] - begin).tolist(), sizes[run].tolist(), strict=True
            ):
                found[plain[place]] = self.reveal(data[at : at + size])

        def start(places: list[int]) -> None:
            for place in places:
                try:
                    found[place] = self.read_start(indices[place], length)
                except Exception as error:  # whatever one member is, the others are read
                    found[place] = error

        if len(packed) <= _FEW:
            start(packed)
        else:
            with ThreadPoolExecutor(os.cpu_count()) as pool:
                list(pool.map(start, [packed[at : at + _FEW] for at in range(0, len(packed), _FEW)]))
        return found

    def are_plain(self, indices: Sequence[int]) -> list[bool | Exception]:
        """``is_plain`` of many members, or what is wrong with one."""
        return [_tried(self.is_plain, index) for index in indices]

    def packings(self, indices: Sequence[int]) -> list[str | Exception]:
        """The names of many members' packers, or what is wrong with one."""
        return [_tried(lambda index: self.packer(index).name, index) for index in indices]

    def read_end(self, index: int, length: int) -> bytes:
        """The last bytes of a member that lies unpacked; nothing of one that is packed."""
        size = int(self.stored_sizes[index])
        if not self.is_plain(index):
            return b""
        return self.read_range(index, max(size - length, 0), min(length, size))

    def pack(self, index: int, real: Body, level: int | None = None) -> MemberChange:
        """New bytes for a member, packed as its original is (``level`` as its recipe says)."""
        packer = self.packer(index)
        if packer.name == "none":
            return MemberChange(real, real, True)
        data = whole(real)
        return MemberChange(packer.pack(data, packer.levels[0] if level is None else level), data)

    def pack_new(self, name: str, real: bytes, level: int | None = None) -> MemberChange:
        """Bytes for a member that is to be added, packed as most others are."""
        raise LayoutError(f"'{name}' cannot be added: {self.title} takes no new members.")

    def packing_level(self, index: int) -> int | None:
        """The level that gives the original's stored bytes again, or None where no level does."""
        packer = self.packer(index)
        if packer.name == "none":
            return packer.levels[0]
        return compression.find_level(packer, self.reveal(self.read_stored(index)), self.read(index))

    def nest(self, index: int, segments: Sequence[Segment], level: int | None = None) -> MemberChange:
        """A member that is a container itself, after its own rebuild: ``segments`` of what ``member_source`` gave.

        Where the member lies unpacked its ranges become ranges of this container's file; nothing is read.
        """
        if not self.is_plain(index):
            return self.pack(index, b"".join(parts(segments, self.member_source(index))), level)
        begin = int(self.offsets[index])
        moved = tuple(
            Copy(segment.offset + begin, segment.length) if isinstance(segment, Copy) else segment
            for segment in segments
        )
        return self.pack(index, Ranges(moved, self.source), level)

    def rebuild(self, edits: Edits | dict[int, MemberChange]) -> Composed:
        """The container with edited members; unchanged ones keep their bytes and their order."""
        return self.compose(as_edits(edits), in_place=False)

    def patch(self, edits: Edits | dict[int, MemberChange]) -> Composed:
        """The same, with nothing moved; LayoutError where a member does not fit its slot."""
        return self.compose(as_edits(edits), in_place=True)

    def prove(self, progress: Progress | None = None) -> Proof:
        """Rebuild without a change and compare; then unpack and check every member.

        Never raises for what the container holds: the reason stands in the result.
        """
        try:
            composed = self.rebuild(Edits())
            for file in composed.segments:
                offset = composed.first_difference(file)
                if offset is not None:
                    name = self.differs_in(file, offset)
                    return Proof(
                        False,
                        file=self.file_name(file),
                        offset=offset,
                        field=name,
                        reason=f"An unchanged rebuild differs from the original at {offset}, in {name}.",
                    )
        except BraeError as error:
            return Proof(False, offset=error.offset, reason=str(error))
        if (reason := self._swells()) is not None:
            return Proof(False, reason=reason)
        for index in range(len(self)):
            try:
                self.check_member(index)
            except BraeError as error:
                return Proof(False, index, offset=error.offset, field=error.address, reason=str(error))
            if progress:
                progress(index + 1, len(self))
        return Proof(True, len(self))

    def _swells(self) -> str | None:
        """Why the members are not unpacked for a proof: they claim to become absurdly much."""
        real = int(np.maximum(self.real_sizes, 0).astype(np.float64).sum()) if len(self) else 0
        size = sum(source.size for source in self.sources.values())
        if real < _SWOLLEN or real <= _SWELLING * size:
            return None
        return (
            f"Its {size:,} bytes unpack to {real:,}, more than {_SWELLING} times as much. That is damage or a "
            "trap, so its members are read one by one, but not unpacked for a proof."
        )

    def file_name(self, file: str) -> str:
        """A file by the name that people know it by."""
        return file


def _tried(ask: Callable[[int], T], index: int) -> T | Exception:
    """What is asked of one member; whatever one of them is, the others are told."""
    try:
        return ask(index)
    except Exception as error:
        return error


def _runs(starts: Ints, sizes: Ints) -> Iterator[tuple[int, int]]:
    """Ranges of members, in the order in which they lie, that are worth reading in one go."""
    first = 0
    for place in range(1, len(starts) + 1):
        if (
            place == len(starts)
            or starts[place] > starts[place - 1] + sizes[place - 1] + _GAP
            or starts[place] - starts[first] > _RUN
        ):
            yield first, place
            first = place


def as_edits(edits: Edits | dict[int, MemberChange]) -> Edits:
    """Changes alone, as edits."""
    return Edits(changed=edits) if isinstance(edits, dict) else edits


@dataclass(frozen=True)
class Entry:
    """One member of an open container."""

    name: str
    offset: int
    stored: int
    real: int
    packer: str = "none"


class Listed(Container):
    """A container whose entries a reader of an open standard has listed."""

    def __init__(self, title: str, source: ByteSource, entries: Sequence[Entry]) -> None:
        self.title, self.sources, self.entries = title, {MAIN: source}, list(entries)
        self.labels = addresses.labels_of(self.names)

    @cached_property
    def names(self) -> list[str]:
        return [entry.name for entry in self.entries]

    def _column(self, values: Iterable[int]) -> Ints:
        return np.fromiter(values, np.int64, len(self.entries))

    @cached_property
    def offsets(self) -> Ints:
        return self._column(entry.offset for entry in self.entries)

    @cached_property
    def stored_sizes(self) -> Ints:
        return self._column(entry.stored for entry in self.entries)

    @cached_property
    def real_sizes(self) -> Ints:
        return self._column(entry.real for entry in self.entries)

    def packer(self, index: int) -> compression.Packer:
        return compression.get(self.entries[index].packer)

    def slot(self, index: int) -> int:
        return self.entries[index].stored
