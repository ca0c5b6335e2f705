"""What a layout is told by, apart from the layout: enough to say that none of them fits a file.

Reading layouts takes longer than all the rest of a short command. What they are told by is remembered beside Brae's
other things, each with the state of its file, so that a file of an open container is opened without reading them.
"""

from __future__ import annotations

import fnmatch
import json
import os
import re
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from brae.core.atomic import write_atomically
from brae.core.errors import StorageError

#: a file's path, time and size
State = tuple[str, int, int]


_OPEN = re.compile(r"[*?\[]")


@dataclass(frozen=True)
class Signs:
    """How files of a layout are known: by values at fixed places (below zero from the end), by name, by size."""

    kind: str
    names: tuple[str, ...]
    size: int | None
    magic: tuple[tuple[int, bytes], ...]

    def fit(self, name: str, head: bytes, tail: bytes, size: int | None) -> bool:
        """Whether a file may be one of them; by its name only where there is no value to tell it by."""
        if self.size not in (None, size):
            return False
        if self.magic:
            return all(_has(head, tail, at, value) for at, value in self.magic)
        return named(name.lower(), self.names)


def _has(head: bytes, tail: bytes, at: int, value: bytes) -> bool:
    """Whether a value stands at a place counted from the beginning, or (below zero) from the end."""
    if at >= 0:
        return head[at : at + len(value)] == value
    start = len(tail) + at
    return start >= 0 and tail[start : start + len(value)] == value


@lru_cache(maxsize=512)
def _sorted_out(patterns: tuple[str, ...]) -> tuple[frozenset[str], re.Pattern[str] | None]:
    """Patterns that are names as they stand, and one expression for all others."""
    low = [pattern.lower() for pattern in patterns]
    open_ = [pattern for pattern in low if _OPEN.search(pattern)]
    whole = "|".join(fnmatch.translate(pattern) for pattern in open_)
    return frozenset(low) - set(open_), re.compile(whole) if open_ else None


def named(name: str, patterns: Sequence[str]) -> bool:
    """Whether a path, or its last part, is of one of the patterns; letter case does not count.

    Of a hundred thousand items each may be asked whether it is one of thousands of names.
    """
    exact, others = _sorted_out(tuple(patterns))
    low = name.lower()
    texts = (low, low.rpartition("/")[2])
    return any(text in exact or (others is not None and others.match(text) is not None) for text in texts)


def layout_files(folder: Path) -> list[Path]:
    """The files of a folder that may hold layouts, in order."""
    try:  # asked for with every item that is read, so by what the system lists alone
        with os.scandir(folder) as entries:
            return sorted(Path(entry.path) for entry in entries if os.path.normcase(entry.name).endswith(".yaml"))
    except OSError:
        return []


def state_of(path: Path) -> State:
    """What tells this state of a file from every other."""
    status = path.stat()
    return str(path), status.st_mtime_ns, status.st_size


def remember(known: Sequence[tuple[State, Signs | None]], cache: Path) -> None:
    """Write down the signs of layouts (None: a file that is none), where Brae's folder is there already."""
    if not cache.parent.is_dir():
        return
    content = [
        [list(state), None if signs is None else [
            signs.kind, signs.names, signs.size, [[at, value.hex()] for at, value in signs.magic]
        ]]
        for state, signs in known
    ]  # fmt: skip
    with suppress(StorageError):  # it is only quicker with it
        write_atomically(cache, json.dumps(content).encode())


def none_fits(
    folders: Iterable[Path], cache: Path, kind: str, name: str, head: bytes, tail: bytes, size: int
) -> bool:
    """Whether surely no layout of a kind fits a file: each is remembered as it is now, and none of them does."""
    try:
        known = {tuple(state): signs for state, signs in json.loads(cache.read_bytes())}
        for folder in folders:
            for path in layout_files(folder):
                state = state_of(path)
                if state not in known:
                    return False
                if known[state] is None:
                    continue
                of, names, length, magic = known[state]
                values = tuple((at, bytes.fromhex(value)) for at, value in magic)
                signs = Signs(of, tuple(names), length, values)
                if signs.kind == kind and signs.fit(name, head, tail, size):
                    return False
    except (OSError, ValueError, TypeError):
        return False
    return True


def form_of(pattern: str) -> re.Pattern[str]:
    """A pattern of names: ``*`` for any characters, ``?`` for one, ``{word}`` for some without a slash.

    Letter case does not count. Raises ValueError where a word stands in it twice.
    """
    pieces = re.split(r"\{([a-z_]+)\}", pattern)
    if len(set(pieces[1::2])) < len(pieces[1::2]):
        raise ValueError(f"'{pattern}' has a word twice")
    plain = [re.escape(piece).replace(r"\*", ".*").replace(r"\?", ".") for piece in pieces[::2]]
    words = [f"(?P<{word}>[^/]+?)" for word in pieces[1::2]]
    pairs = zip(plain, [*words, ""], strict=True)
    return re.compile("".join(part for pair in pairs for part in pair), re.IGNORECASE | re.DOTALL)
