"""Ways back that leave the game's archives alone: loose files, an add-on archive, the line that registers them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, Protocol

from sqlalchemy import select

from brae.core.build.addon import add_on
from brae.core.errors import FormatError, LayoutError, LimitError, NotFoundError
from brae.core.games.model import AddOnWay, LooseWay, Register
from brae.core.games.settings import register
from brae.core.layouts.library import companion_names
from brae.core.layouts.segments import Composed, New
from brae.core.sources import MAIN, BytesSource, chunks
from brae.store.models import ArchiveRow, Project
from brae.work.workspace import Workspace

#: a file's path, why it is written, what it holds, and under which name in the result
Made = tuple[str, str, Composed, str]


class Work(Protocol):
    """What is to become of one archive's members."""

    row: ArchiveRow
    edited: dict[int, tuple[bytes, dict[str, Any]]]
    added: dict[str, bytes]


class Outward:
    """Files beside the game's archives for the edits of one project."""

    def __init__(self, workspace: Workspace, project: Project) -> None:
        self._workspace, self._project = workspace, project

    def _items(self, work: Mapping[int, Work]) -> Iterator[tuple[str, bytes, int | None]]:
        """Name, new bytes and packing level of each edited member; names that occur twice are refused."""
        seen: dict[str, str] = {}
        for one in work.values():
            archive = self._workspace.archive(self._project, one.row)
            changed = [
                (archive.names[number], data, recipe.get("packing_level"))
                for number, (data, recipe) in one.edited.items()
            ]
            for name, data, level in [*changed, *((name, data, None) for name, data in one.added.items())]:
                if name in seen:
                    raise FormatError(
                        f"Two edited members are called {name}, and outside the archives only one can be.",
                        address=one.row.address,
                        expected=f"one of them; the other lies in {seen[name]}",
                    )
                seen[name] = one.row.address
                yield name, data, level

    def loose(self, way: LooseWay, work: Mapping[int, Work]) -> Iterator[Made]:
        """Each edited member as a file under the folder of overrides, its path mirrored exactly."""
        paths = []
        for name, data, _ in self._items(work):
            path = f"{way.folder.rstrip('/')}/{name}"
            if any(step in ("", ".", "..") for step in name.split("/")) or "\\" in name or ":" in name:
                raise FormatError("This name cannot be a path of loose files.", address=name)
            check_case(Path(self._project.folder), path)
            paths.append(path)
            yield path, "a loose file that overrides the archives", _new(data), MAIN
        if way.register_line is not None and paths:
            lines = [_line(way.register_line, path, None) for path in sorted(paths)]
            yield self._registered(way.register_line, lines)

    def add_on(self, way: AddOnWay, work: Mapping[int, Work]) -> Iterator[Made]:
        """One new archive with every edited member, and the line that registers it."""
        query = select(ArchiveRow).where(
            ArchiveRow.project_id == self._project.id,
            ArchiveRow.parent_id.is_(None),
            ArchiveRow.files[MAIN].as_string() == way.like,
        )
        with self._workspace.database.session() as session:
            row = session.scalar(query)
        if row is None:
            raise NotFoundError(f"The archive {way.like}, which an add-on is made like, is not there.")
        like = self._workspace.archive(self._project, row)
        members, levels = {}, {}
        for name, data, level in self._items(work):
            members[name], levels[name] = data, level
        composed = add_on(like, members, levels)
        number, path = self._free(way)
        layout = self._workspace.project_library(self._project).layouts.get(row.layout or "")
        files = {MAIN: path}
        if layout is not None:
            if layout.naming:
                raise LayoutError(
                    f"The headers of '{layout.title}' name their data files, so an add-on like one would name the "
                    "game's.",
                    remedy="Build into the archive, or as loose files.",
                )
            files = companion_names(layout, path, lambda name: False, composed.segments)
        for file, name in files.items():
            yield name, f"an add-on archive with {len(members)} of the game's files", composed, file
        if way.register_line is not None:
            yield self._registered(way.register_line, [_line(way.register_line, path, number)])

    def _free(self, way: AddOnWay) -> tuple[int, str]:
        """The number of the add-on: the one Brae made before, else the next that nothing uses."""
        originals = self._workspace.originals(self._project.id).values()
        mine = {original.path for original in originals if original.state == "created"}
        names = {number: way.file.format(number=number) for number in range(way.first, way.last + 1)}
        for number, name in names.items():
            if name in mine:
                return number, name
        taken = self._taken(way)
        for number, name in names.items():
            if name.casefold() not in taken and not (Path(self._project.folder) / name).exists():
                return number, name
        raise LimitError(f"Every number from {way.first} to {way.last} is taken by an add-on.")

    def _taken(self, way: AddOnWay) -> set[str]:
        """What the settings name already, so that a line of another add-on is not doubled."""
        if way.register_line is None:
            return set()
        text = self._settings(way.register_line).decode(way.register_line.encoding, "replace").casefold()
        names = (way.file.format(number=number).casefold() for number in range(way.first, way.last + 1))
        return {name for name in names if name in text.replace("\\", "/")}

    def _settings(self, rule: Register) -> bytes:
        """The settings as they were when the game was opened."""
        if not (Path(self._project.folder) / rule.file).is_file():
            raise NotFoundError(f"The settings file {rule.file} is not there.", address=rule.file)
        source = self._workspace.original_source(self._project, rule.file)
        return b"".join(chunks(source))

    def _registered(self, rule: Register, lines: list[str]) -> Made:
        text = register(self._settings(rule), rule, lines)
        many = f"{len(lines)} lines are" if len(lines) > 1 else f"the line '{lines[0]}' is"
        return rule.file, f"{many} put in; all others stay", _new(text), MAIN


def check_case(folder: Path, path: str) -> None:
    """Refuse a path that differs from an existing one in letter case only: the game would see two."""
    for step in path.split("/"):
        if folder.is_dir():
            twin = next((p.name for p in folder.iterdir() if p.name.casefold() == step.casefold()), step)
            if twin != step:
                raise FormatError(f"'{step}' lies there as '{twin}': names must agree to the letter.", address=path)
        folder /= step


def _new(data: bytes) -> Composed:
    return Composed({MAIN: BytesSource(b"")}, {MAIN: [New(data)]})


def _line(rule: Register, path: str, number: int | None) -> str:
    folder, _, name = path.rpartition("/")
    parts = {"file": path, "folder": folder, "name": name, "stem": name.rpartition(".")[0] or name}
    parts = {key: value.replace("/", rule.slash) for key, value in parts.items()}
    try:
        return rule.line.format(number=number, **parts)
    except (KeyError, IndexError, ValueError, AttributeError) as error:
        raise FormatError(
            f"The profile's line '{rule.line}' holds something that is not known.",
            expected="{file}, {folder}, {name}, {stem} and {number}",
        ) from error
