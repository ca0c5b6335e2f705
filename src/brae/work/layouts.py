"""Which layouts know a game; layouts that people give to each other; new archives by a layout."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import select

from brae.core.assets.said import check
from brae.core.atomic import write_atomically
from brae.core.containers import shared
from brae.core.containers.shared import ENDING, Given, Shared, Trial, as_test, read_shared, tried, write_shared
from brae.core.errors import BraeError, FormatError, NotFoundError, ReadOnlyError, storage_error
from brae.core.layouts.library import Library
from brae.core.layouts.segments import write_all
from brae.core.layouts.signs import Signs
from brae.demo import LAYOUTS
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Project
from brae.work.opening import files_below
from brae.work.workspace import Workspace

#: files that a layout is tried on before it is used
_TRIED = 12
#: of a file's beginning and end, what layouts are told by
_HEAD = 256


def overview(workspace: Workspace, project_id: str) -> list[dict[str, Any]]:
    """The layouts that know a game's archives, those of most archives first; then those that know none of them."""
    project = workspace.project(project_id)
    library = workspace.project_library(project)
    with workspace.database.session() as session:
        rows = session.execute(
            select(ArchiveRow.layout, ArchiveRow.proof, ArchiveRow.evidence).where(
                ArchiveRow.project_id == project_id, ArchiveRow.layout.is_not(None)
            )
        ).all()
    seen: dict[str, Counter[str]] = {}
    for name, proof, evidence in rows:
        if name in library.layouts:
            seen.setdefault(name, Counter())[_outcome(proof, evidence)] += 1
    found = []
    for name, layout in library.layouts.items():
        counts = seen.get(name, Counter())
        place = _place(workspace, project, library, name)
        if place == "shipped" and not counts:
            continue  # the demo's: nothing that anybody waits for here
        found.append(
            {
                "layout": name,
                "title": layout.title,
                "kind": layout.kind,
                "place": place,
                "archives": sum(counts.values()),
                "proved": counts["proved"],
                "contradicted": counts["contradicted"],
                "differs": counts["differs"],
                "versions": versions_of(workspace.home.layouts, name),
            }
        )
    for name in _only_kept(workspace, {str(one["layout"]) for one in found}):
        versions = versions_of(workspace.home.layouts, name)
        if versions:
            found.append(
                {
                    "layout": name, "title": versions[0]["title"], "kind": "archive", "place": "kept",
                    "archives": 0, "proved": 0, "contradicted": 0, "differs": 0, "versions": versions,
                }
            )  # fmt: skip
    return sorted(found, key=lambda one: (-one["archives"], one["place"] == "kept", one["title"].lower()))


def _outcome(proof: dict[str, Any] | None, evidence: list[dict[str, Any]] | None) -> str:
    if not proof:
        return "waits"
    if not proof.get("exact"):
        return "differs"
    return "contradicted" if any(one.get("speaks") == "against" for one in evidence or []) else "proved"


def _place(workspace: Workspace, project: Project, library: Library, name: str) -> str:
    """Where a layout comes from: with the game, the person's own, or shipped with Brae."""
    folder = Path(library.versions[name][0]).parent if name in library.versions else LAYOUTS
    if folder == workspace.home.layouts:
        return "yours"
    return "shipped" if folder == LAYOUTS else "game"


# ---- given and taken ----------------------------------------------------------------------------------------


def give(
    workspace: Workspace, project_id: str, name: str, *, version: str, author: str, licence: str, about: str
) -> tuple[str, str, int]:
    """A layout to be given away: the file's name, its text, and how many of the game's files are its test."""
    project = workspace.project(project_id)
    library = workspace.project_library(project)
    layout = library.get(name)
    if name not in library.versions:
        raise NotFoundError(f"The layout '{name}' is in no file.")
    names = library.known_names(layout)
    tests = []
    for path in _proved_files(workspace, project, name):
        try:
            tests.append(as_test(layout, names, path))
        except (BraeError, OSError):
            continue  # changed since, or not proved by itself: no test
        if len(tests) == shared.MOST_TESTS // 2:
            break
    text = _read(Path(library.versions[name][0]))
    says = Shared(
        shared=1, version=version, author=author, licence=licence, about=about, tested=tests,
        names="\n".join(names) + "\n" if layout.hashed and names else "", layout=text,
    )  # fmt: skip
    return f"{name}-{version}{ENDING}", write_shared(says), len(tests)


def _proved_files(workspace: Workspace, project: Project, name: str) -> list[Path]:
    """The game's own files that a layout proves, the smallest first."""
    query = select(ArchiveRow.files, ArchiveRow.proof).where(
        ArchiveRow.project_id == project.id, ArchiveRow.layout == name, ArchiveRow.parent_id.is_(None)
    )
    with workspace.database.session() as session:
        rows = session.execute(query).all()
    paths = [Path(project.folder) / files["main"] for files, proof in rows if proof and proof.get("exact")]
    return sorted((path for path in paths if path.is_file()), key=lambda path: path.stat().st_size)


def checked(text: str) -> Given:
    """A shared layout as it is read; LayoutError, FormatError or LimitError where it is none."""
    return read_shared(text, check)


def receive(workspace: Workspace, project_id: str, text: str, ticker: Ticker | None = None) -> dict[str, Any]:
    """Keep a shared layout beside others, and try it on the files of a game that it knows.

    It is not used before ``use`` says so. Raises LayoutError, FormatError or LimitError where it is no such file.
    """
    ticker = ticker or Silent()
    given = read_shared(text, check)
    project = workspace.project(project_id)
    candidates = list(_recognised(project, given.layout.signs, ticker))
    # What it was tested with tells most.
    sizes = {one.size for one in given.says.tested}
    candidates.sort(key=lambda path: (path.stat().st_size not in sizes, path.stat().st_size))
    trials: list[Trial] = []
    ticker.begin(min(len(candidates), _TRIED), "files")
    for path in candidates[:_TRIED]:
        trials.append(tried(given, path, path.relative_to(project.folder).as_posix(), lambda *_: ticker.tick(0)))
        ticker.tick()
    kept = keep(workspace.home.layouts, given, text)
    return {
        "layout": given.layout.layout,
        "title": given.layout.title,
        "version": kept,
        "author": given.says.author,
        "licence": given.says.licence,
        "about": given.says.about,
        "tested": len(given.says.tested),
        "recognised": len(candidates),
        "trials": [vars(trial) for trial in trials],
    }


def _recognised(project: Project, signs: Signs, ticker: Ticker) -> Iterator[Path]:
    """The files of a game that a layout is told to be for, by their first and last bytes."""
    for path in files_below(Path(project.folder)):
        ticker.tick(0)
        try:
            size = path.stat().st_size
            with path.open("rb") as file:
                head = file.read(_HEAD)
                file.seek(max(size - _HEAD, 0))
                tail = file.read(_HEAD)
        except OSError:
            continue
        if signs.kind == "archive" and signs.fit(path.name, head, tail, size):
            yield path


def keep(own: Path, given: Given, text: str) -> str:
    """Keep a shared layout, in the folder of one's own ones, as one version of its own; returns which.

    Another text of the same version gets a number.
    """
    folder = _folder(own, given.layout.layout)
    folder.mkdir(parents=True, exist_ok=True)
    data, number = text.encode(), 1
    while True:
        version = given.says.version if number == 1 else f"{given.says.version[:27]}-{number}"
        path = folder / f"{version}{ENDING}"
        try:
            with path.open("xb") as file:  # another one may be kept at the same moment
                file.write(data)
            return version
        except FileExistsError:
            if path.read_bytes() == data:
                return version
        except OSError as error:
            raise storage_error(error, "write", path) from error
        number += 1


def _read(path: Path) -> str:
    """A text as it lies there, line ends and all."""
    try:
        return path.read_bytes().decode()
    except UnicodeDecodeError as error:
        raise FormatError("This is not UTF-8 text.", address=path.name, offset=error.start) from error
    except OSError as error:
        raise storage_error(error, "read", path) from error


def _folder(own: Path, name: str) -> Path:
    if not re.fullmatch(r"[a-z0-9][a-z0-9\-]{0,63}", name):
        raise NotFoundError(f"There is no layout '{name}'.")
    return own / "versions" / name


def _only_kept(workspace: Workspace, known: set[str]) -> Iterator[str]:
    folder = workspace.home.layouts / "versions"
    if folder.is_dir():
        yield from sorted(path.name for path in folder.iterdir() if path.is_dir() and path.name not in known)


def versions_of(own: Path, name: str) -> list[dict[str, Any]]:
    """The versions of a layout that are kept, and which of them is used."""
    used = own / f"{name}.yaml"
    text = used.read_bytes() if used.is_file() else None
    found = []
    folder = _folder(own, name)
    for path in sorted(folder.glob(f"*{ENDING}")) if folder.is_dir() else ():
        try:
            given = read_shared(_read(path), check)
        except BraeError:
            continue  # damaged by another program: what else there is can be used
        found.append(
            {
                "version": path.name.removesuffix(ENDING),
                "title": given.layout.title,
                "author": given.says.author,
                "licence": given.says.licence,
                "used": given.says.layout.encode() == text,
            }
        )
    return found


def use(own: Path, name: str, version: str) -> None:
    """Use a version that is kept in the folder of one's own layouts; one that is there is kept as a version first.

    Raises NotFoundError where there is no such version.
    """
    path = _folder(own, name) / f"{version}{ENDING}"
    if not re.fullmatch(r"[0-9A-Za-z][0-9A-Za-z.\-]{0,40}", version) or not path.is_file():
        raise NotFoundError(f"There is no version '{version}' of the layout '{name}'.")
    given = read_shared(_read(path), check)
    target = own / f"{name}.yaml"
    if target.is_file() and not any(one["used"] for one in versions_of(own, name)):
        before = Shared(shared=1, version=f"own-{datetime.now():%Y%m%d-%H%M%S-%f}", layout=_read(target))
        write_atomically(_folder(own, name) / f"{before.version}{ENDING}", write_shared(before).encode())
    write_atomically(target, given.says.layout.encode())
    if given.says.names:
        write_atomically(own / f"{name}.names.txt", given.says.names.encode())


# ---- new archives -------------------------------------------------------------------------------------------


def make(
    workspace: Workspace, project_id: str, name: str, folder: Path, out: Path, like: str | None, ticker: Ticker
) -> dict[str, Any]:
    """A new archive from a folder, by a layout, or like an archive of the game; its files go beside ``out``.

    Raises ReadOnlyError where that would be in the game, or where something is there already.
    """
    from brae.core.assets.folders import edits_in, new_members
    from brae.core.containers.making import make as made
    from brae.core.layouts.library import companions
    from brae.core.layouts.read import file_words
    from brae.core.sources import BytesSource

    project = workspace.project(project_id)
    library = workspace.project_library(project)
    layout = library.get(name)
    if not folder.is_dir():
        raise NotFoundError(f"There is no folder {folder}.")
    inside = Path(project.folder).resolve()
    if inside == out.resolve().parent or inside in out.resolve().parents:
        raise ReadOnlyError(
            "Nothing is put into the game but by a build, which can be taken back.", address=str(out),
            remedy="Choose a place outside of the game's folder.",
        )  # fmt: skip
    if like is not None:
        with workspace.database.session() as session:
            row = session.scalar(
                select(ArchiveRow).where(ArchiveRow.project_id == project_id, ArchiveRow.address == like)
            )
        if row is None:
            raise NotFoundError(f"There is no archive '{like}' in this game.")
        archive = workspace.archive(project, row)
        proof = archive.prove()
        if not proof.exact:
            raise ReadOnlyError(f"'{like}' cannot be rebuilt, so nothing can be made like it: {proof.reason}")
        composed = archive.rebuild(edits_in(archive, folder, library, ticker.tick, add=True, remove=True))
        count = sum(1 for _ in new_members(folder))
    else:
        members = list(new_members(folder))
        count = len(members)
        composed = made(layout, members)
    words = file_words(layout, BytesSource(b"".join(composed.read("main")))) if layout.naming else {}
    targets = companions(layout, out, composed.segments, words)
    if there := next((path for path in targets.values() if path.exists()), None):
        raise ReadOnlyError("There is a file already, and it is not replaced.", address=str(there))
    if not out.parent.is_dir():
        raise NotFoundError(f"There is no folder {out.parent}.")
    write_all(composed, targets)
    return {"members": count, "files": [str(path) for path in targets.values()]}
