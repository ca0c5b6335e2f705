"""Layouts that people give to each other: a description, its author and licence, names and a test, in one file.

Whoever takes one has it tried on files of their own before it is used. A description is data: reading by it takes
bounded time and memory, and it can name no place but files beside the one that it describes.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Literal

import yaml
from pydantic import Field

from brae.core.containers.base import Progress
from brae.core.containers.described import open_archive
from brae.core.containers.evidence import gather, state
from brae.core.errors import BraeError, FormatError, LimitError
from brae.core.layouts.fields import Strict
from brae.core.layouts.library import open_sources
from brae.core.layouts.load import Check, parse, parse_as
from brae.core.layouts.model import Layout
from brae.core.sources import MAIN, ByteSource

#: what such a file ends with
ENDING = ".shared.yaml"
#: bytes of a shared file: a description, and names
LARGEST = 16 << 20
#: of a test file's beginning, what its hash is over
_BEGINNING = 1 << 16
#: files that are written down as a test
MOST_TESTS = 12
Version = Annotated[str, Field(pattern=r"^[0-9A-Za-z][0-9A-Za-z.\-]{0,31}$")]


class Tested(Strict):
    """A file that the description was proved on; of the file itself only hashes are kept."""

    name: Annotated[str, Field(max_length=300)]
    size: int
    beginning: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$", description="SHA-256 of its first 64 KiB")]
    members: int
    listed: Annotated[
        str, Field(pattern=r"^[0-9a-f]{64}$", description="SHA-256 of what it lists: names and sizes")
    ]


class Shared(Strict):
    """The file in which a layout is given to others."""

    shared: Literal[1] = Field(description="the form of this file")
    version: Version = "1"
    author: Annotated[str, Field(max_length=200)] = ""
    licence: Annotated[str, Field(max_length=200, description="an SPDX identifier, such as CC0-1.0")] = ""
    about: Annotated[str, Field(max_length=4000)] = ""
    tested: Annotated[list[Tested], Field(max_length=MOST_TESTS)] = Field(default_factory=list)
    names: str = Field("", description="names to try where only hashes are stored, a line each")
    layout: str


@dataclass(frozen=True)
class Given:
    """A shared layout as it was read."""

    says: Shared
    layout: Layout

    @property
    def known_names(self) -> list[str]:
        return [line.strip() for line in self.says.names.splitlines() if line.strip()]


#: what became of a file: proved; a beginning (a rebuild differs, or members contradict it); not read at all
Outcome = Literal["proved", "beginning", "unreadable"]


@dataclass(frozen=True)
class Trial:
    """What a layout makes of a file."""

    path: str
    outcome: Outcome
    members: int = 0
    words: str = ""
    #: whether it is a file that the layout was tested with, and whether it lists the same as it did there
    known: bool = False
    same: bool = True


def read_shared(text: str, check: Check | None = None) -> Given:
    """A shared layout from its text; LayoutError, FormatError or LimitError where it is none."""
    if len(text.encode("utf-8", "replace")) > LARGEST:
        raise LimitError(f"A shared layout may have {LARGEST >> 20} MiB at most.")
    if not re.search(r"^shared:", text, re.MULTILINE):
        raise FormatError(
            "This is no shared layout.", expected="a file with 'shared: 1'", remedy="A plain layout goes into the "
            "folder of layouts; 'brae share' makes one that can be given away.",
        )  # fmt: skip
    says = parse_as(Shared, text, "shared layout", longest=LARGEST)
    return Given(says, parse(says.layout, "layout", check))


def write_shared(says: Shared) -> str:
    """The text of a shared layout, the description in it as it was written."""
    content = says.model_dump(exclude_defaults=True)
    return yaml.dump(content, Dumper=_Blocks, sort_keys=False, allow_unicode=True, width=100)


class _Blocks(yaml.SafeDumper):
    """Texts of several lines stand as they are, where YAML can show them so."""


def _text(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style="|" if "\n" in text else None)


_Blocks.add_representer(str, _text)


def as_test(layout: Layout, names: Sequence[str], path: Path) -> Tested:
    """A file as a test of a layout; FormatError where it is not proved."""
    trial, listed, sources = _tried(layout, names, path)
    try:
        if trial.outcome != "proved" or listed is None:
            raise FormatError(f"{path.name} is not proved: {trial.words}", remedy="Only proved files are a test.")
        main = sources[MAIN]
        return Tested(
            name=path.name, size=main.size, beginning=_hash([main.read(0, min(main.size, _BEGINNING))]),
            members=trial.members, listed=listed,
        )  # fmt: skip
    finally:
        _close(sources)


def tried(given: Given, path: Path, shown: str | None = None, progress: Progress | None = None) -> Trial:
    """What a shared layout makes of a file of one's own."""
    trial, listed, sources = _tried(given.layout, given.known_names, path, progress)
    try:
        main = sources.get(MAIN)
        beginning = _hash([main.read(0, min(main.size, _BEGINNING))]) if main is not None else ""
        known = next(
            (
                one
                for one in given.says.tested
                if main is not None and (one.size, one.beginning) == (main.size, beginning)
            ),
            None,
        )
    finally:
        _close(sources)
    trial = replace(trial, path=shown or path.name, known=known is not None)
    if known is None or (known.listed == listed and trial.outcome == "proved"):
        return trial
    words = f"It was tested with this very file, and listed {known.members:,} members there, other ones than here."
    return replace(trial, outcome="beginning" if listed else trial.outcome, same=False, words=words)


def _tried(
    layout: Layout, names: Sequence[str], path: Path, progress: Progress | None = None
) -> tuple[Trial, str | None, Mapping[str, ByteSource]]:
    sources: Mapping[str, ByteSource] = {}
    try:
        sources = open_sources(layout, path)
        archive = open_archive(layout, dict(sources), names)
        listed = _hash(
            f"{name}\0{size}\n".encode("utf-8", "surrogateescape")
            for name, size in zip(archive.names, archive.real_sizes.tolist(), strict=True)
        )
        proof = archive.prove(progress)
    except BraeError as error:
        return Trial(path.name, "unreadable", words=error.message), None, sources
    evidence = gather(archive)
    if state(proof, evidence) == "proved":
        return Trial(path.name, "proved", len(archive)), listed, sources
    against = [one.words for one in evidence if one.speaks == "against"]
    words = proof.reason or " ".join(against) or "A rebuild differs."
    return Trial(path.name, "beginning", len(archive), words), listed, sources


def _hash(pieces: Iterable[bytes]) -> str:
    digest = hashlib.sha256()
    for piece in pieces:
        digest.update(piece)
    return digest.hexdigest()


def _close(sources: Mapping[str, ByteSource]) -> None:
    for source in sources.values():
        close = getattr(source, "close", None)
        if close is not None:
            close()
