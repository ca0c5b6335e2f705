"""From a file that nobody has described to a layout of the person's own."""

from __future__ import annotations

import re
import threading
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from sqlalchemy import select

from brae.core import addresses, catalogue
from brae.core.assets.said import check
from brae.core.atomic import write_atomically
from brae.core.containers import scattered
from brae.core.errors import BraeError, FormatError, LimitError, NotFoundError
from brae.core.layouts.files import MOST_FILES, numbered_file
from brae.core.layouts.load import parse
from brae.core.layouts.model import Layout
from brae.core.sources import ByteSource, BytesSource, FileSource
from brae.core.structure import Follow, Proposal, companion_pattern, propose
from brae.core.structure.workshop import beginning
from brae.jobs import Job, Silent, Ticker
from brae.store.models import ArchiveRow, Member
from brae.work.items import original_bytes
from brae.work.workspace import Workspace

#: of two layouts that are kept at once each gets a name of its own
KEEPING = threading.Lock()
_SHOWN = 5
_NAMES_SHOWN = 6
#: files that are looked into by themselves after a game was opened, and the largest of them
_AHEAD = 4
_MOST_AHEAD = 1 << 30
#: a member that is described in its archive is held in memory
_LARGEST_MEMBER = 256 << 20
#: bytes of a member that is a good example: small, but not next to nothing
_WORTH_A_LOOK = 256
#: sorts of members without a description that are told of, and the side of a texture's picture in the workshop
_MOST_SORTS, _SHOWN_SIDE = 12, 320


def find_structure(
    workspace: Workspace, project_id: str, path: str, data: str | None, ticker: Ticker | None = None
) -> dict[str, Any]:
    """Proposals for a file of the game (with the data file that belongs to it), the best first.

    Raises NotFoundError for files that are not among those that no layout describes.
    """
    ticker = ticker or Silent()
    project = workspace.project(project_id)
    folder, known = Path(project.folder), {entry["path"] for entry in project.undescribed}
    for name in filter(None, (path, data)):
        if name not in known:
            raise NotFoundError("This is no file of the game that waits for a description.", address=name)
    with ExitStack() as opened:
        sources: dict[str, ByteSource] = {"main": opened.enter_context(FileSource(folder / path))}
        if data is not None:
            sources["data"] = opened.enter_context(FileSource(folder / data))
        pattern = None if data is None else companion_pattern(path, data)
        hits = [offset for offset, _, _ in hits_in(workspace, project_id, data or path)]
        found = propose(sources, pattern, follow=_Told(path, data, ticker), hits=hits)
    return _result(path, data, found)


class _Told(Follow):
    """Tells a job how far the search is, and what fits so far."""

    def __init__(self, path: str, data: str | None, ticker: Ticker) -> None:
        self._path, self._data, self._ticker = path, data, ticker
        self._stages: Sequence[str] = ()
        self._found: list[Proposal] = []
        self._tried = 0

    def begin(self, stages: Sequence[str]) -> None:
        self._stages = stages
        self._ticker.begin(len(stages), "kinds of structure")

    def stage(self, number: int) -> None:
        self._number = number
        if number:
            self._ticker.tick()
        self._say()

    def alive(self) -> None:
        self._ticker.tick(0)

    def tried(self) -> None:
        self._tried += 1
        self._ticker.tick(0)
        self._say()

    def found(self, proposal: Proposal) -> None:
        self._found = sorted([*self._found, proposal], key=lambda one: one.rank, reverse=True)[:_SHOWN]
        self._ticker.say(result=_result(self._path, self._data, self._found))

    def _say(self) -> None:
        self._ticker.say(f"{self._stages[self._number]}, {self._tried:,} layouts tried")


def _result(path: str, data: str | None, found: Sequence[Proposal]) -> dict[str, Any]:
    return {
        "path": path,
        "data": data,
        "proposals": [
            {
                "text": one.called(Path(path).suffix.lstrip(".") or Path(path).stem, path),
                "members": one.members,
                "explained": one.explained,
                "exact": one.proof.exact,
                "state": one.state,
                "evidence": [found.as_dict() for found in one.evidence],
                "reason": one.proof.reason,
                "names": [name.encode("utf-8", "backslashreplace").decode() for name in one.names[:_NAMES_SHOWN]],
            }
            for one in found[:_SHOWN]
        ],
    }


def look_ahead(workspace: Workspace, project_id: str) -> list[str]:
    """Begin to look for structures in files that look like archives: the smallest of each family, few at a time.

    What was looked into before, and has not changed, is left alone. Returns the files.
    """
    project = workspace.project(project_id)
    done = {
        (job["arguments"].get("path"), tuple(job["arguments"].get("seen") or ()))
        for job in workspace.jobs.latest(200)
        if (job["kind"], job["project_id"]) == ("structure", project_id)
    }
    begun: list[str] = []
    passed: set[str] = set()
    for entry in sorted(project.undescribed, key=lambda one: int(one["size"])):
        path, seen = str(entry["path"]), tuple(entry.get("seen") or ())
        if path in passed or not entry.get("like_archive"):
            continue
        passed.update(entry.get("family", ()))
        if (path, seen) in done or int(entry["size"]) > _MOST_AHEAD:
            continue
        start_search(workspace, project_id, path, None, seen)
        begun.append(path)
        if len(begun) == _AHEAD:
            break
    return begun


def start_search(
    workspace: Workspace, project_id: str, path: str, data: str | None, seen: Sequence[object] = ()
) -> Job:
    """Look for a structure as a job; those of one project come one after the other, beside its other work."""
    job, _ = workspace.jobs.start(
        "structure",
        f"Looking into {path}",
        lambda job: find_structure(workspace, project_id, path, data, job),
        project=project_id,
        queue=f"{project_id}: structures",
        path=path,
        data=data,
        seen=list(seen),
    )
    return job


def hits_in(workspace: Workspace, project_id: str, path: str) -> list[tuple[int, int, str]]:
    """Where files of open formats lie in a file of the game, by their signs: offset, end, what each is."""
    here = (ArchiveRow.project_id == project_id, ArchiveRow.address == addresses.quote(path))
    with workspace.database.session() as session:
        row = session.scalar(select(ArchiveRow).where(*here, ArchiveRow.layout == scattered.KIND))
    if row is None or not row.member_count:
        return []
    try:
        found = workspace.archive(workspace.project(project_id), row)  # it stays open: bytes are asked for often
    except BraeError:
        return []  # the file is another one by now
    assert isinstance(found, scattered.Scattered)
    return [
        (hit.offset, hit.offset + hit.length, said or hit.format)
        for hit, said in zip(found.hits, found.formats, strict=True)
    ]


def workshop_sources(workspace: Workspace, project_id: str, path: str, data: str | None) -> dict[str, ByteSource]:
    """A file of a game's folder (with its data file), or a member at any depth by its address, to be described.

    Raises NotFoundError outside the folder.
    """
    folder = Path(workspace.project(project_id).folder).resolve()
    found: dict[str, ByteSource] = {}
    if len(addresses.split(path)) > 1 and not (folder / path).is_file():
        item = workspace.find(project_id, path)
        if item.member.real > _LARGEST_MEMBER:
            raise LimitError(f"A member of {item.member.real:,} bytes is too large to be described in its archive.")
        return {"main": BytesSource(original_bytes(workspace, workspace.project(project_id), item))}
    for file, name in (("main", path), ("data", data)):
        if name is None:
            continue
        target = (folder / name).resolve()
        if folder not in target.parents or not target.is_file():
            raise NotFoundError("There is no such file in the game's folder.", address=name)
        found[file] = FileSource(target)
        for number, other in enumerate(_going_on(target), 1):
            found[numbered_file(file, number)] = FileSource(other)
    return found


def _going_on(path: Path) -> Iterator[Path]:
    """The files whose names have the next numbers, if a name ends with one (an ending may follow)."""
    found = re.search(r"(\d+)(\D*)$", path.name)
    if found is None:
        return
    for number in range(int(found[1]) + 1, int(found[1]) + MOST_FILES):
        name = f"{path.name[: found.start()]}{str(number).zfill(len(found[1]))}{found[2]}"
        if not path.with_name(name).is_file():
            return
        yield path.with_name(name)


def beginning_of(workspace: Workspace, project_id: str, path: str, data: str | None) -> str:
    """A description to begin with, for a file of the game."""
    workshop_sources(workspace, project_id, path, data)
    labels = addresses.split(path)
    last = Path(labels[-1])
    name = last.suffix.lstrip(".") or last.stem
    if len(labels) > 1:
        # What lies in an archive and is of no kind is a picture more often than another archive.
        return beginning(name, f"Textures like {last.name}", None, "texture")
    return beginning(name, f"Members of {last.name}", companion_pattern(path, data) if data else None)


def keep_layout(workspace: Workspace, text: str) -> str:
    """Save a layout among the person's own, under its identifier; a number is added rather than replacing another.

    Raises LayoutError with the line where it is not valid. Returns the file's name.
    """
    layout = parse(text, check=check)
    with KEEPING:
        name = free_name(workspace, layout.layout)
        if name != layout.layout:
            text = re.sub(r"^layout:.*$", f"layout: {name}", text, count=1, flags=re.MULTILINE)
            if parse(text).layout != name:
                raise FormatError(
                    f"There is a layout '{layout.layout}' already.", remedy="Give this one another identifier."
                )
        write_atomically(workspace.home.layouts / f"{name}.yaml", text.encode())
    return f"{name}.yaml"


def free_name(workspace: Workspace, wanted: str) -> str:
    """An identifier that no layout has yet, made of what is wanted; a number is added rather than replacing one."""
    base = re.sub(r"[^a-z0-9]+", "-", wanted.lower()).strip("-")[:50] or "layout"
    taken = {other.layout for other in workspace.library().layouts.values()}
    taken |= {path.stem for path in workspace.home.layouts.glob("*.yaml")}
    name, number = base, 1
    while name in taken:
        number += 1
        name = f"{base}-{number}"
    return name


def pictured(layout: Layout, source: ByteSource) -> tuple[str, bytes | None]:
    """A texture that is being described, in words, and as a small PNG where its numbers are colours of 8 bits."""
    import io

    from PIL import Image

    from brae.core.assets.texture.described import read

    texture = read(layout, source.read(0, source.size))
    head = texture.header
    words = f"{head.width} × {head.height}, {head.format.title}, {head.levels} mip levels"
    picture = texture.picture()
    if picture.dtype != "uint8":
        return words, None
    image, found = Image.fromarray(picture), io.BytesIO()
    image.thumbnail((_SHOWN_SIDE, _SHOWN_SIDE))
    image.save(found, "PNG")
    return words, found.getvalue()


def unknown_members(workspace: Workspace, project_id: str) -> list[dict[str, Any]]:
    """Members of described archives that are of no kind, by the endings of their names, most first."""
    workspace.project(project_id)
    query = (
        select(Member.name, Member.address, Member.real)
        .join(ArchiveRow, Member.archive_id == ArchiveRow.id)
        .where(
            Member.project_id == project_id,
            Member.kind == catalogue.DATA,
            ArchiveRow.layout.is_not(None),
            ArchiveRow.layout != scattered.KIND,
        )
    )
    sorts: dict[str, dict[str, Any]] = {}
    with workspace.database.session() as session:
        for name, address, size in session.execute(query).yield_per(5000):
            ending = Path(name).suffix.lower()
            sort = sorts.setdefault(ending, {"ending": ending, "count": 0, "example": address, "size": size})
            sort["count"] += 1
            if _WORTH_A_LOOK <= size < sort["size"] or sort["size"] < _WORTH_A_LOOK < size:
                sort["example"], sort["size"] = address, size
    return sorted(sorts.values(), key=lambda sort: -int(sort["count"]))[:_MOST_SORTS]
