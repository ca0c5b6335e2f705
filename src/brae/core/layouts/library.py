"""Which layouts there are, and which one fits a file."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from itertools import count
from pathlib import Path
from typing import Any

import numpy as np

from brae.core.errors import BraeError, NotFoundError, storage_error
from brae.core.layouts.files import numbered_file
from brae.core.layouts.load import Check, load
from brae.core.layouts.model import Layout
from brae.core.layouts.read import file_words
from brae.core.layouts.signs import Signs, State, layout_files, named, state_of
from brae.core.places import GAME_LAYOUTS
from brae.core.sources import MAIN, ByteSource, FileSource

Bytes = np.ndarray[tuple[int, int], np.dtype[np.uint8]]
Ints = np.ndarray[Any, np.dtype[np.int64]]
Flags = np.ndarray[Any, np.dtype[np.bool_]]
#: The folder in which a game's or a person's own layouts lie.
FOLDER = GAME_LAYOUTS
#: bytes of a list of names
_LONGEST_LIST = 64 << 20


#: what a game profile's file ends with
GAME = ".game.yaml"


@lru_cache(maxsize=256)
def _loaded(path: Path, changed: int, size: int, check: Check | None) -> Layout:
    """A file as it was at that time; reading YAML is slow, and a page asks for hundreds of pictures."""
    return load(path, check)


@dataclass
class Library:
    """Layouts from several folders; later folders replace layouts of the same identifier."""

    layouts: dict[str, Layout] = field(default_factory=dict)
    #: layouts that could not be read, by path
    errors: dict[str, BraeError] = field(default_factory=dict)
    folders: list[Path] = field(default_factory=list)
    #: what tells this state of each layout from every other: its file, with the file's time and size
    versions: dict[str, State] = field(default_factory=dict)
    #: the files that were read, and what the layouts in them are told by
    read: list[tuple[State, Signs | None]] = field(default_factory=list)

    @classmethod
    def of(cls, folders: Iterable[Path], check: Check | None = None) -> Library:
        """Read every ``*.yaml`` of the folders; faulty ones, also by ``check``, are kept as errors."""
        library = cls()
        for folder in folders:
            library.folders.append(folder)
            for path in layout_files(folder):
                try:
                    state = state_of(path)
                    if path.name.endswith(GAME):  # a game's profile: see brae.core.games.known
                        library.read.append((state, None))
                        continue
                    found = _loaded(path, *state[1:], check)
                    library.add(found)
                    library.versions[found.layout] = state
                    library.read.append((state, found.signs))
                except BraeError as error:
                    library.errors[str(path)] = error
                except OSError as error:  # gone, or not to be read, since it was listed
                    library.errors[str(path)] = storage_error(error, "read", path)
        return library

    def known_names(self, layout: Layout) -> list[str]:
        """The lines of ``LAYOUT.names.txt`` beside the layouts, for archives that hold only hashes of names."""
        found: list[str] = []
        for folder in self.folders:
            path = folder / f"{layout.layout}.names.txt"
            if path.is_file() and path.stat().st_size <= _LONGEST_LIST:
                text = path.read_text(encoding="utf-8", errors="surrogateescape")
                found += [line.strip() for line in text.splitlines() if line.strip()]
        return found

    def preferring(self, names: Sequence[str]) -> Library:
        """The same layouts, with those named (of an edition) coming before others."""
        found = dict(self.layouts)
        for name in reversed(names):
            if name in found:
                found[name] = found.pop(name)
        return replace(self, layouts=found)

    def add(self, layout: Layout) -> None:
        """Make a layout known."""
        self.layouts[layout.layout] = layout

    def get(self, name: str) -> Layout:
        """A layout by its identifier."""
        if name not in self.layouts:
            raise NotFoundError(
                f"There is no layout '{name}'.", expected=f"one of {', '.join(self.layouts) or '(none)'}"
            )
        return self.layouts[name]

    def textures(self) -> list[Layout]:
        """The layouts of textures."""
        return [layout for layout in self.layouts.values() if layout.kind == "texture"]

    def _joins(self) -> list[Layout]:
        """Layouts that join textures of some names with their larger levels: what is said of a name comes first."""
        return [one for one in reversed(self.textures()) if one.match.names and one.streamed]

    def joining(self, name: str, head: bytes, size: int | None) -> Layout | None:
        """The layout that joins a texture of that name, open format or not, with its larger levels elsewhere."""
        low = name.lower()
        return next(
            (one for one in self._joins() if named(low, one.signs.names) and one.signs.fit(name, head, b"", size)),
            None,
        )

    def joined(
        self, names: Sequence[str], rows: Bytes, lengths: Ints, sizes: Ints, free: Flags
    ) -> Iterator[tuple[Layout, Flags]]:
        """The same of many files at once (see ``recognised``)."""
        for layout in self._joins():
            mask = _fitting(layout.signs, names, rows, lengths, sizes, free)
            for place in np.flatnonzero(mask).tolist():
                mask[place] = named(names[place].lower(), layout.signs.names)
            free &= ~mask
            if mask.any():
                yield layout, mask

    def recognise(
        self, name: str, head: bytes, kind: str, tail: bytes = b"", size: int | None = None
    ) -> Layout | None:
        """The layout of a file by its first (and last) bytes; by its name only where the layout has no magic.

        ``size`` is the whole file's, for layouts that are told by it.
        """
        for layout in reversed(list(self.layouts.values())):
            if layout.kind == kind and layout.signs.fit(name, head, tail, size):
                return layout
        return None

    def recognised(
        self, names: Sequence[str], rows: Bytes, lengths: Ints, sizes: Ints, kind: str, free: Flags
    ) -> Iterator[tuple[Layout, Flags]]:
        """The same of many files at once: each layout, and which of the files that are still ``free`` it fits.

        The beginnings are rows of bytes, of which ``lengths`` are real; ``sizes`` are those of the whole files, -1
        where nobody knows.
        """
        for layout in reversed(list(self.layouts.values())):
            if layout.kind == kind:
                mask = _fitting(layout.signs, names, rows, lengths, sizes, free)
                free &= ~mask
                if mask.any():
                    yield layout, mask


def _fitting(signs: Signs, names: Sequence[str], rows: Bytes, lengths: Ints, sizes: Ints, free: Flags) -> Flags:
    """``Signs.fit`` of many files, of which only ``free`` ones are asked about."""
    mask = free.copy() if signs.size is None else free & (sizes == signs.size)
    for at, value in signs.magic:
        if at < 0 or at + len(value) > rows.shape[1]:
            return np.zeros_like(mask)
        mask &= (rows[:, at : at + len(value)] == np.frombuffer(value, np.uint8)).all(axis=1)
        mask &= lengths >= at + len(value)
    if not signs.magic:
        for place in np.flatnonzero(mask).tolist():
            mask[place] = named(names[place].lower(), signs.names)
    return mask


def companion_names(
    layout: Layout,
    name: str,
    exists: Callable[[str], bool],
    wanted: Iterable[str] = (),
    words: Mapping[str, str] | None = None,
) -> dict[str, str]:
    """The names of the files that belong together, by what the layout calls them; ``name`` is the main one's.

    Of numbered files the first is called by the layout's name for them, and the others ``NAME.1`` and so on: as
    many as there are, and those that are ``wanted``. ``words`` are what fields of the header say (see
    ``read.file_words``); a file that only they name is left out without them.
    """
    folder, _, last = name.rpartition("/")
    stem = last.rpartition(".")[0] or last
    found = {MAIN: name}
    known = {"stem": stem, "name": last, **layout.pieces(stem), **(words or {})}
    for file, pattern in layout.files.items():
        if isinstance(pattern, str):
            if not any(f"{{{field}}}" in pattern and field not in known for field in layout.naming):
                found[file] = _beside(folder, pattern.format(**known))
            continue
        for number in count():
            key = numbered_file(file, number)
            other = _beside(folder, pattern.name.format(stem=stem, name=last, number=pattern.first + number))
            if number and key not in wanted and not exists(other):
                break
            if key != MAIN:
                found[key] = other
    return found


def _beside(folder: str, name: str) -> str:
    return f"{folder}/{name}" if folder else name


def companions(
    layout: Layout, path: Path, wanted: Iterable[str] = (), words: Mapping[str, str] | None = None
) -> dict[str, Path]:
    """The files that belong together, by the names that the layout gives them; ``path`` is the main one.

    What its header says of names is read from it, unless ``words`` say it.
    """
    if words is None and layout.naming and path.is_file():
        with FileSource(path) as source:
            words = file_words(layout, source)
    names = companion_names(layout, path.name, lambda name: path.with_name(name).is_file(), wanted, words)
    return {file: path.with_name(name) for file, name in names.items()}


def open_sources(layout: Layout, path: Path) -> dict[str, ByteSource]:
    """The files of an archive, opened; a missing one is left out (reading then says so)."""
    return {name: FileSource(file) for name, file in companions(layout, path).items() if file.is_file()}
