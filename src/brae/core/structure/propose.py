"""Layouts for an archive that nobody has described, ranked by how much of it they explain, each proved."""

from __future__ import annotations

import itertools
import json
import math
import re
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePath
from typing import Literal

import numpy as np

from brae.core.containers.base import Proof
from brae.core.containers.described import Archive, open_archive
from brae.core.containers.evidence import Evidence, gather, state
from brae.core.containers.follows import unexplained
from brae.core.errors import BraeError
from brae.core.layouts.fields import FieldPart
from brae.core.layouts.load import parse
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import ChunksPart, MembersPart, NamesPart, TablePart
from brae.core.sources import MAIN, ByteSource
from brae.core.structure import simple
from brae.core.structure.places import rising
from brae.core.structure.search import DATA, Search
from brae.core.structure.varied import varied

#: so much of the beginning and of the end is searched for a table
_WINDOW = 1 << 20
_SECONDS = 15.0
#: once something convincing was found, so long is looked for one with names
_FOR_NAMES = 4.0
_MOST_RUNS = 24
#: the share of the bytes that has to have a meaning before a proposal is called proved
_EXPLAINED = 0.9
#: fields that say how much there is of something
_COUNTED = ("is: count(", "is: size(", "is: end(", "is: real_size(", "is: file_size(")


class Follow:
    """Is told how far a search is; this one does not mind."""

    def begin(self, stages: Sequence[str]) -> None:
        """The search has these stages, in words for people."""

    def stage(self, number: int) -> None:
        """A stage begins."""

    def alive(self) -> None:
        """The search goes on; may raise to end it."""

    def tried(self) -> None:
        """A layout is tried."""

    def found(self, proposal: Proposal) -> None:
        """A layout fits; better ones may follow."""


@dataclass(frozen=True)
class Proposal:
    """A layout that fits: its text, how many members, the share of bytes that it explains (0 to 1), its proof."""

    text: str
    layout: Layout
    members: int
    explained: float
    proof: Proof
    named: bool
    #: the first members' names
    names: tuple[str, ...]
    #: what speaks for it, or against it, beside the proof
    evidence: tuple[Evidence, ...] = ()

    @property
    def state(self) -> Literal["proved", "beginning"]:
        """``proved`` where the rebuild is exact, nothing contradicts, and the file itself says how much there is.

        Bytes that nothing explains rebuild as well, whatever is said of the others: such a proposal is a beginning.
        """
        if not self.counted or self.explained < _EXPLAINED:
            return "beginning"
        return state(self.proof, self.evidence)

    @property
    def counted(self) -> bool:
        """Whether the file itself says how much there is of what was found."""
        return any(
            word in self.text for word in ("is: count(", "chunks:", "is: size(", "is: real_size(", "is: file_size(")
        )

    def convincing(self, named: bool) -> bool:
        """Whether looking further is not worth the time; ``named``: only if its members have names."""
        lone = self.members == 1 and "of: entries" not in self.text
        whole = self.explained > (0.9 if self.members > 4 else 0.97) and (self.named or lone or not named)
        return self.state == "proved" and self.counted and whole

    def called(self, name: str, file: str = "") -> str:
        """The layout's text under an identifier made of ``name``.

        Where nothing in the bytes tells such files apart, they are known by the ending of ``file``'s name.
        """
        identifier = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "proposed"
        text = self.text.replace("layout: proposed\n", f"layout: {identifier}\n", 1)
        if file and not self.layout.magic:
            last = PurePath(file)
            pattern = json.dumps(f"*{last.suffix}" if last.suffix else last.name)
            text = text.replace("kind: archive\n", f"kind: archive\nmatch: {{names: [{pattern}]}}\n", 1)
        return text

    @property
    def rank(self) -> tuple[bool, bool, float, bool, int]:
        """Better ones are larger: proved, more explained, counted by its own header, named."""
        guessed = self.layout.content is not None and "role: stored-size" not in self.text
        score = self.explained + 0.2 * self.counted + 0.03 * self.named + 0.02 * math.log2(self.members)
        # What unpacks, and sums that agree, are no chance.
        score += 0.1 * ("compression: " in self.text or "role: compression" in self.text)
        score += 0.1 * ("checksum: " in self.text)
        score -= 0.2 * (guessed and "role: end-offset" not in self.text and self.members > 1)
        # What the members contradict comes behind all that they do not.
        return self.state == "proved", self.proof.exact, round(score, 4), self.named, -len(self.text)


def propose(
    sources: Mapping[str, ByteSource],
    pattern: str | None = None,
    seconds: float = _SECONDS,
    follow: Follow | None = None,
    hits: Sequence[int] = (),
) -> list[Proposal]:
    """Proposals for a file (``main``), or for an index and its data file (``data``); the best first.

    ``pattern`` is the data file's name as a layout writes it, ``hits`` are the offsets of files that were found in
    it by their signs. Works for about ``seconds`` at most; ``follow`` is told how far it is.
    """
    follow = follow or Follow()
    started = time.monotonic()
    deadline = started + seconds
    found: dict[str, Proposal] = {}
    enough = False
    for text in _texts(sources, pattern, deadline, follow, hits):
        follow.tried()
        if text in found:
            continue
        proposal = _try(text, sources)
        if proposal is not None:
            found[text] = proposal
            follow.found(proposal)
            if proposal.convincing(named=True):
                break
            enough = enough or proposal.convincing(named=False)
        # Names are worth a longer look, but not the whole time.
        if time.monotonic() > (min(started + _FOR_NAMES, deadline) if enough else deadline):
            break
    return sorted(found.values(), key=lambda one: one.rank, reverse=True)[:10]


def companion_pattern(index: str, data: str) -> str:
    """A data file's name as a layout writes it: by what it has in common with its index's name."""
    first, other = PurePath(index), PurePath(data)
    if other.stem == first.stem:
        return f"{{stem}}{other.suffix}"
    return other.name.replace(first.name, "{name}")


def _texts(
    sources: Mapping[str, ByteSource], pattern: str | None, deadline: float, follow: Follow, hits: Sequence[int]
) -> Iterator[str]:
    stages = list(_stages(sources, pattern, deadline, hits, follow))
    follow.begin([words for words, _ in stages])
    for number, (_, texts) in enumerate(stages):
        follow.stage(number)
        yield from texts


def _stages(
    sources: Mapping[str, ByteSource], pattern: str | None, deadline: float, hits: Sequence[int], follow: Follow
) -> Iterator[tuple[str, Iterator[str]]]:
    """What is tried one after the other, in words and as layouts; nothing is worked out before its turn."""
    main = sources[MAIN]
    if DATA not in sources:
        yield "chunks that follow each other", simple.chunked(main)
        yield "one packed stream", simple.packed(main)
    windows = [(0, main.read(0, min(main.size, _WINDOW)))]
    if main.size > _WINDOW:
        windows.append((main.size - _WINDOW, main.read(main.size - _WINDOW, _WINDOW)))
    places = ["at the beginning", "at the end"]
    both: list[tuple[str, list[Search]]] = []
    for (origin, window), place in zip(windows, places, strict=False):
        searches = [Search(sources, pattern, origin, window, endian, follow.alive) for endian in ("little", "big")]
        both.append((place, searches))
    if hits:
        for place, searches in both:
            yield (
                f"a table of the files found by their signs, {place}",
                _chained(search.by_hits(hits, deadline) for search in searches),
            )
    for place, searches in both:
        runs = _Runs(searches)
        # Both byte orders get their first turn before either is searched to the end.
        yield f"offsets that rise, {place}", runs.texts(3, deadline)
        yield f"names of any length, {place}", _chained(varied(search, deadline) for search in searches)
        yield f"as many records as are counted, {place}", _chained(search.by_count(deadline) for search in searches)
        yield f"offsets that rise, all of them, {place}", runs.texts(_MOST_RUNS, deadline)


class _Runs:
    """The runs of rising numbers of one window in both byte orders, looked for once."""

    def __init__(self, searches: Sequence[Search]) -> None:
        self._searches = searches
        self._runs: list[Iterator[tuple[int, int, int, int]]] | None = None

    def texts(self, most: int, deadline: float) -> Iterator[str]:
        if self._runs is None:
            self._runs = [rising(search.numbers, search.data.size) for search in self._searches]
        for search, run in zip(self._searches, self._runs, strict=True):
            yield from search.by_runs(itertools.islice(run, most), deadline)


def _chained(parts: Iterable[Iterator[str]]) -> Iterator[str]:
    return itertools.chain.from_iterable(parts)


def _try(text: str, sources: Mapping[str, ByteSource]) -> Proposal | None:
    """Open and prove by a proposed text; None where it does not even read."""
    found = _opened(text, sources)
    if found is None:
        return None
    archive, proof = found
    # Numbers that turn out to follow from the members are written so at once.
    more = text
    for field, line in unexplained(archive):
        more = re.sub(rf"(\{{field: {field}, type: u\d+)\}}", rf"\1, {line}}}", more, count=1)
    if more != text and (better := _opened(more, sources)) is not None and better[1].exact >= proof.exact:
        text, (archive, proof) = more, better
    layout = archive.layout
    total = sum(source.size for source in sources.values())
    covered = min(_explained(archive), total)
    names = tuple(archive.names[:50])
    named = any(not name.isdigit() for name in names)
    explained = covered / max(total, 1)
    return Proposal(text, layout, len(archive), explained, proof, named, names, tuple(gather(archive)))


def _opened(text: str, sources: Mapping[str, ByteSource]) -> tuple[Archive, Proof] | None:
    try:
        archive = open_archive(parse(text), dict(sources))
        proof = archive.prove()
    except BraeError:
        return None
    return (archive, proof) if len(archive) else None


def _explained(archive: Archive) -> int:
    """How many bytes have a meaning, not only a place."""
    covered = 0.0
    for region in archive.parsed.regions.values():
        part, length = region.part, region.end - region.start
        if isinstance(part, FieldPart):
            says = (part.value, part.is_)
            covered += length if part.checksum or any(one is not None for one in says) else 0
        elif isinstance(part, TablePart):
            known = sum(column.width for column in part.record if column.role or column.checksum)
            covered += length * known / sum(column.width for column in part.record)
        elif isinstance(part, ChunksPart | NamesPart):
            covered += length
        elif isinstance(part, MembersPart):
            # Data that several records claim counts once, and so does the padding behind it.
            starts, which = np.unique(archive.offsets, return_index=True)
            padded = starts + archive.stored_sizes[which]
            covered += int((padded + -padded % part.align - starts).sum())
    return int(covered) + _free(archive)


def _free(archive: Archive) -> int:
    """Bytes at the end of the main file that are nothing but zeros behind everything else: room, not a riddle."""
    main = archive.parsed.sources[MAIN]
    end = max((region.end for region in archive.parsed.regions.values() if region.file == MAIN), default=0)
    if not 0 < main.size - end <= _WINDOW or any(main.read(end, main.size - end)):
        return 0
    return main.size - end
