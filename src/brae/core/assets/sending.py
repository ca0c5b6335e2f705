"""Many items at once: sent to a folder as open files with mirrored paths, and told apart when they come back.

Beside the files lies ``brae-export.jsonl``, one line for each: whose file it is, of which original bytes, and how
it was when it was written. By it an interrupted export goes on, a file that a person painted on is never written
over, and a folder that comes back is compared without decoding what nobody touched.
"""

from __future__ import annotations

import hashlib
import json
import os
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any

from brae.core import addresses
from brae.core.assets.base import Context
from brae.core.assets.folders import check_link, member_paths
from brae.core.assets.registry import kinds
from brae.core.atomic import write_atomically
from brae.core.errors import BraeError, internal, storage_error

LIST = "brae-export.jsonl"
#: Batches of items that wait, for each core, and how many are in one. To hand over a small one costs as much as it.
_AHEAD, _BATCH = 2, 8
#: Bytes of an item below which its batch is done by one thread: the work on it is the interpreter's, which two
#: threads only take from each other (measured on 12,000 textures of 3 kB: 16 seconds of work instead of 12).
_SMALL = 8 << 10


@dataclass(frozen=True)
class ToSend:
    """One item: where it is, of which kind, where its file goes (without the ending), and how it is read."""

    address: str
    kind: str
    stem: str
    read: Callable[[], tuple[bytes, Context]]
    #: bytes, as far as they are known
    size: int = 0


@dataclass(frozen=True)
class Sent:
    """A line of the list: a file as it was written."""

    address: str
    file: str
    #: hashes of the original bytes, and of the file
    original: str
    sha256: str
    size: int
    mtime: int


@dataclass
class Export:
    """What an export did."""

    folder: str
    written: int = 0
    #: files that were there already, as they were sent
    there: int = 0
    #: files that a person changed since: they were left alone
    changed: list[str] = field(default_factory=list)
    #: items of kinds that no open file is made of
    left_out: int = 0
    faults: list[dict[str, Any]] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return asdict(self)


def stems(every: Sequence[str]) -> list[str]:
    """The path of each item's file without its ending; ``every`` item counts, so a part of them has the same."""
    return member_paths(["/".join(addresses.split(address)) for address in every])


def read_list(folder: Path) -> dict[str, Sent]:
    """The list in a folder, by the files' paths; what cannot be read of it is passed over."""
    found: dict[str, Sent] = {}
    with suppress(OSError):
        for line in (folder / LIST).read_text(encoding="utf-8").splitlines():
            with suppress(ValueError, TypeError):
                sent = Sent(**json.loads(line))
                found[sent.file] = sent
    return found


def is_untouched(path: Path, sent: Sent) -> bool:
    """Whether a file is as it was sent: by size and time, or else by its bytes."""
    try:
        status = path.stat()
        if (status.st_size, status.st_mtime_ns) == (sent.size, sent.mtime):
            return True
        return hashlib.sha256(path.read_bytes()).hexdigest() == sent.sha256
    except OSError:
        return False


class _List:
    """The list while it is written: a line is there as soon as its file is."""

    def __init__(self, folder: Path) -> None:
        self.known = {sent.address: sent for sent in read_list(folder).values()}
        self._lock = threading.Lock()
        try:
            folder.mkdir(parents=True, exist_ok=True)
            check_link(folder / LIST)
            self._stream = (folder / LIST).open("a", encoding="utf-8")
        except OSError as error:
            raise storage_error(error, "write", folder) from error

    def add(self, sent: Sent) -> None:
        with self._lock:
            self._stream.write(json.dumps(vars(sent)) + "\n")
            self._stream.flush()

    def close(self) -> None:
        self._stream.close()


def send(items: Iterable[ToSend], folder: Path, tick: Callable[[], None] = lambda: None) -> Export:
    """Write every item's file below ``folder``, on all cores; what is there already stays.

    Items that cannot be read are told in ``faults``. Raises StorageError where the folder cannot be written; what
    ``tick`` raises ends it, and the next export goes on.
    """
    result, written = Export(str(folder)), _List(folder)
    try:
        for outcome in _on_all_cores(lambda item: _send_one(item, folder, written), items):
            if isinstance(outcome, dict):
                result.faults.append(outcome)
            elif outcome == "left out":
                result.left_out += 1
            elif outcome == "written":
                result.written += 1
            elif outcome == "there":
                result.there += 1
            else:
                result.changed.append(outcome)
            tick()
    finally:
        written.close()
    return result


def _on_all_cores(work: Callable[[ToSend], Any], items: Iterable[ToSend]) -> Iterator[Any]:
    """The results in order, with only so many items in memory at a time."""
    cores = os.cpu_count() or 1
    waiting: deque[Future[list[Any]]] = deque()
    some = iter(items)
    with ThreadPoolExecutor(cores, thread_name_prefix="sending") as pool:
        try:
            while batch := list(islice(some, _BATCH)):
                waiting.append(pool.submit(lambda batch: [work(item) for item in batch], batch))
                small = sum(item.size for item in batch) < _SMALL * len(batch)
                while len(waiting) >= (1 if small else cores * _AHEAD):
                    yield from waiting.popleft().result()
            while waiting:
                yield from waiting.popleft().result()
        finally:
            pool.shutdown(wait=True, cancel_futures=True)


def _send_one(item: ToSend, folder: Path, written: _List) -> str | dict[str, Any]:
    kind = kinds().get(item.kind)
    if kind is None or (not kind.exchange and kind.preview_media == "none"):
        return "left out"
    try:
        data, context = item.read()
        original = hashlib.sha256(data).hexdigest()
        known = written.known.get(item.address)
        if known is not None and (folder / known.file).is_file():
            if not is_untouched(folder / known.file, known):
                return known.file
            if known.original == original:
                return "there"
        file = item.stem
        if kind.exchange:
            sent = kind.send(kind.read(data, context))
            file, data = addresses.without_ending(item.stem, sent.suffix) + sent.suffix, sent.data
        target = folder / file
        if os.path.lexists(target):
            check_link(target)
            if known is None:
                return file  # something of the person's own
        status = write_atomically(target, data)
        sha256 = hashlib.sha256(data).hexdigest()
        written.add(Sent(item.address, file, original, sha256, status.st_size, status.st_mtime_ns))
    except OSError as error:
        raise storage_error(error, "write", folder / item.stem) from error
    except BraeError as error:
        if error.status >= 500:
            raise
        return error.at(item.address).as_dict()
    except Exception as error:  # whatever one item does, the others are sent
        return internal(error, item.address).as_dict()
    return "written"


@dataclass
class Returned:
    """A folder that comes back, compared with what was sent."""

    #: files that differ from what was sent, by their items' addresses
    changed: dict[str, Path] = field(default_factory=dict)
    untouched: int = 0
    #: files that belong to no item
    strangers: list[str] = field(default_factory=list)
    #: items whose files are gone
    missing: list[str] = field(default_factory=list)


def compare(folder: Path, by_stem: Mapping[str, tuple[str, str]]) -> Returned:
    """What came back in a folder; ``by_stem`` has the address and the kind of every item by its file's stem.

    Raises LinkError where a link stands in the folder.
    """
    sent, result = read_list(folder), Returned()
    seen: set[str] = set()
    for path in sorted(folder.rglob("*")):
        check_link(path)
        relative = path.relative_to(folder).as_posix()
        if not path.is_file() or relative == LIST or path.name.startswith("."):
            continue
        known = sent.get(relative)
        if known is not None:
            seen.add(relative)
            if is_untouched(path, known):
                result.untouched += 1
                continue
        address = known.address if known is not None else _address(relative, by_stem)
        if address is None:
            result.strangers.append(relative)
        else:
            result.changed[address] = path
    for file, one in sent.items():
        # An editor may have saved another file type than was sent.
        if file not in seen and one.address not in result.changed:
            result.missing.append(file)
    return result


def _address(relative: str, by_stem: Mapping[str, tuple[str, str]]) -> str | None:
    suffix = Path(relative).suffix
    found = by_stem.get(relative.removesuffix(suffix)) or by_stem.get(relative)
    # What ended so by itself got no second ending.
    if found is None:
        return None
    kind = kinds().get(found[1])
    return found[0] if kind is not None and suffix.lower() in kind.suffixes() else None
