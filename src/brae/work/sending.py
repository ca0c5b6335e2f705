"""Many items at once: a selection, a search or a whole game to a folder, and such a folder taken back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any

from brae.core.assets import sending
from brae.core.assets.base import Context
from brae.core.assets.sending import ToSend
from brae.core.errors import BraeError, CancelledError, NotFoundError
from brae.core.layouts.library import Library
from brae.jobs import Silent, Ticker
from brae.store.models import Project
from brae.work.columns import Search
from brae.work.edits import LARGEST_UPLOAD, put_in_work, take_file, take_out_of_work
from brae.work.items import context_of, originals_together
from brae.work.telling import told
from brae.work.workspace import Located, Workspace


def export(
    workspace: Workspace,
    project_id: str,
    folder: Path,
    chosen: Sequence[str] | Search,
    ticker: Ticker | None = None,
) -> dict[str, Any]:
    """Send items to a folder as open files with mirrored paths; what is there stays. See ``sending.send``."""
    ticker = ticker or Silent()
    project = workspace.project(project_id)
    held = workspace.catalogues.of(project_id)
    stems = dict(zip(held.addresses, sending.stems(held.addresses), strict=True))
    if isinstance(chosen, Search):
        mask = held.fitting(
            chosen, workspace.catalogues.in_work(project_id), told=told(workspace, project_id, patient=True)
        )
        wanted = [held.addresses[place] for place in held.ordered("name", mask).tolist()]
    else:
        wanted = list(chosen)
        for address in wanted:
            if address not in stems:
                raise NotFoundError("There is no such item.", address=address)
    names, codes = held.texts("kind")
    kind_of = {address: names[code] for address, code in zip(held.addresses, codes.tolist(), strict=True)}
    library = workspace.project_library(project)

    def items() -> Iterator[ToSend]:
        for together in _together(workspace.find_each(project_id, wanted)):
            some = _Some(workspace, project, library, [found for _, found in together if found is not None])
            for address, found in together:
                read = partial(some.read, found) if found is not None else partial(_gone, address)
                size = found.member.real if found is not None else 0
                yield ToSend(address, kind_of[address], stems[address], read, size)

    ticker.begin(len(wanted), "items")
    return sending.send(items(), folder, ticker.tick).as_dict()


#: items that are read in one go: so many, and of so many bytes, at most
_MOST, _MOST_BYTES = 32, 1 << 20


def _together(found: Iterable[tuple[str, Located | None]]) -> Iterator[list[tuple[str, Located | None]]]:
    """The same in the same order, with small ones of one archive together."""
    some: list[tuple[str, Located | None]] = []
    archive, size = -1, 0
    for address, one in found:
        here = one.archive.id if one is not None else -1
        more = max(one.member.real, 0) if one is not None else 0
        size += more
        if some and (here != archive or len(some) == _MOST or size > _MOST_BYTES):
            yield some
            some, size = [], more
        some.append((address, one))
        archive = here
    if some:
        yield some


def _gone(address: str) -> tuple[bytes, Context]:
    raise NotFoundError("There is no such item.", address=address)


@dataclass
class _Some:
    """Items of one archive, all read when the first is asked for: seeing to its files costs as much as an item."""

    workspace: Workspace
    project: Project
    library: Library
    found: list[Located]
    _read: dict[str, bytes | BraeError] = field(default_factory=dict)
    _lock: Lock = field(default_factory=Lock)

    def read(self, one: Located) -> tuple[bytes, Context]:
        """One of them."""
        with self._lock:
            if self.found:
                read = originals_together(self.workspace, self.project, self.found, self.library)
                self._read = dict(zip((found.member.address for found in self.found), read, strict=True))
                self.found = []
            data = self._read.pop(one.member.address)
        if isinstance(data, BraeError):
            raise data
        return data, context_of(self.workspace, self.project, one, self.library)


def for_each(
    addresses: Sequence[str], act: Callable[[str], None], what: str, ticker: Ticker | None = None
) -> dict[str, Any]:
    """Do something with many items, one after the other. What one of them refuses does not stop the others.

    Returns how many are ``done``, and the ``faults``.
    """
    ticker = ticker or Silent()
    ticker.begin(len(addresses), what)
    faults: list[dict[str, Any]] = []
    for address in addresses:
        try:
            act(address)
        except CancelledError:
            raise
        except BraeError as error:
            faults.append(error.at(address).as_dict())
        ticker.tick(1)
    return {"done": len(addresses) - len(faults), "faults": faults}


def take_back(workspace: Workspace, project_id: str, folder: Path, ticker: Ticker | None = None) -> dict[str, Any]:
    """Take what differs in a folder that was exported from this project: each file is a version more of its item.

    Returns the addresses ``taken``, how many were ``untouched`` or ``same`` (equal to the original once encoded),
    the ``strangers`` (files of no item), the ``missing`` (sent, and gone), and the ``faults``.
    """
    ticker = ticker or Silent()
    workspace.project(project_id)
    if not folder.is_dir():
        raise NotFoundError(f"There is no folder {folder}.", remedy="Check the spelling.")
    held = workspace.catalogues.of(project_id)
    names, codes = held.texts("kind")
    by_stem = {
        stem: (address, names[code])
        for stem, address, code in zip(sending.stems(held.addresses), held.addresses, codes.tolist(), strict=True)
    }
    found = sending.compare(folder, by_stem)
    taken: list[str] = []
    same: list[str] = []
    faults: list[dict[str, Any]] = []

    def take(one: tuple[str, Path]) -> tuple[str, str | dict[str, Any]]:
        address, path = one
        try:
            return address, _take_one(workspace, project_id, address, path)
        except CancelledError:
            raise
        except BraeError as error:
            return address, error.at(path.relative_to(folder).as_posix()).as_dict()

    ticker.begin(len(found.changed), "files")
    with ThreadPoolExecutor(2) as pool:
        futures = [pool.submit(take, one) for one in found.changed.items()]
        try:
            for future in futures:
                address, outcome = future.result()
                if isinstance(outcome, dict):
                    faults.append(outcome)
                else:
                    (taken if outcome == "taken" else same).append(address)
                ticker.tick()
        finally:
            pool.shutdown(cancel_futures=True)
    return {
        "folder": str(folder), "taken": taken, "same": len(same), "untouched": found.untouched,
        "strangers": found.strangers, "missing": found.missing, "faults": faults,
    }  # fmt: skip


def _take_one(workspace: Workspace, project_id: str, address: str, path: Path) -> str:
    if path.stat().st_size > LARGEST_UPLOAD:
        raise NotFoundError(f"The file is larger than {LARGEST_UPLOAD:,} bytes.")
    before = workspace.edit_or_none(project_id, address)
    put_in_work(workspace, project_id, address)
    taken = True
    try:
        take_file(workspace, project_id, address, path.read_bytes(), path.name, what=f"{path.name} from a folder")
        taken = workspace.edit(project_id, address).state not in ("same", "waiting")
    except BraeError:
        taken = False
        raise
    finally:
        if not taken and (before is None or not before.in_work):
            take_out_of_work(workspace, project_id, address)
    return "taken" if taken else "same"
