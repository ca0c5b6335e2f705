"""Choosing a game from the folders of this computer: what lies where, and what each file seems to be."""

from __future__ import annotations

import os
import string
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote, urlsplit
from urllib.request import url2pathname

from sqlalchemy import select

from brae.core.containers.recognise import recognise_file, title
from brae.core.errors import BraeError, NotFoundError, storage_error
from brae.core.layouts.library import Library
from brae.core.signs.scan import format_of
from brae.core.structure.header import magic
from brae.store.models import Project
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Workspace

_MOST_ENTRIES = 2000
_MOST_RECENT = 8
#: where systems put drives that somebody plugged in (Filesystem Hierarchy Standard 3.0; macOS: from memory)
_MOUNTS = ("/media", "/run/media", "/mnt", "/Volumes")
_HEAD = 64
_NAMES = {
    "dds": "DDS texture", "ktx2": "KTX 2 texture", "png": "PNG picture", "gif": "GIF picture",
    "jpeg": "JPEG picture", "tiff": "TIFF picture", "bmp": "BMP picture", "webp": "WebP picture",
    "wav": "WAV sound", "ogg": "Ogg sound", "flac": "FLAC sound", "glb": "glTF model", "font": "font",
    "zip": "ZIP archive", "gzip": "packed with gzip", "zstd": "packed with Zstandard",
    "lz4-frame": "packed with LZ4", "bzip2": "packed with bzip2", "xz": "packed with xz",
    "lzma": "packed with LZMA", "text": "text",
}  # fmt: skip


@dataclass(frozen=True)
class FolderEntry:
    """A folder."""

    name: str
    path: str


@dataclass(frozen=True)
class FileEntry(FolderEntry):
    """A file, its bytes, and what its first ones say that it is."""

    size: int
    seems: str | None
    archive: bool


@dataclass
class Folder:
    """A folder with what is in it."""

    __pydantic_config__ = ALWAYS_SENT

    path: str
    parent: str | None
    file: str | None
    folders: list[FolderEntry] = field(default_factory=list)
    files: list[FileEntry] = field(default_factory=list)
    recent: list[FolderEntry] = field(default_factory=list)
    places: list[FolderEntry] = field(default_factory=list)
    left_out: int = 0


def typed_path(text: str) -> Path:
    """A path as a person types or pastes it: ``~`` for their own folder, in quotes, or as a file's address.

    Raises NotFoundError where it is no whole path of this computer.
    """
    text = text.strip()
    if len(text) > 1 and text[0] == text[-1] and text[0] in "\"'":
        text = text[1:-1]
    if text.lower().startswith("file:"):
        address = urlsplit(text)
        if address.netloc not in ("", "localhost"):
            raise NotFoundError(f"'{text}' is on another computer.", expected="a file of this one")
        text = url2pathname(address.path) if os.name == "nt" else unquote(address.path)
    try:
        path = Path(text).expanduser()
    except RuntimeError as error:  # ~somebody
        raise NotFoundError(f"There is nobody of the name in '{text}'.", expected="a whole path") from error
    if not path.is_absolute() or "\0" in text:
        raise NotFoundError(f"'{text}' is not a whole path.", expected="such as /home/me/games/skerry")
    return path


def browse(workspace: Workspace, text: str | None) -> Folder:
    """A folder, or the one of a file; where ``text`` is None the person's own."""
    folder, file = typed_path(text) if text else Path.home(), None
    if folder.is_file():
        folder, file = folder.parent, str(folder)
    if not folder.is_dir():
        raise NotFoundError(f"There is no folder {folder}.", remedy="Check the spelling.")
    here = Folder(str(folder), None if folder.parent == folder else str(folder.parent), file)
    try:
        entries = sorted(folder.iterdir(), key=lambda entry: entry.name.lower())
    except OSError as error:
        raise storage_error(error, "look into", folder) from error
    library = workspace.library()
    entries = [entry for entry in entries if not entry.name.startswith(".")]
    here.left_out = max(0, len(entries) - _MOST_ENTRIES)
    for entry in entries[:_MOST_ENTRIES]:
        try:
            if entry.is_dir():
                here.folders.append(FolderEntry(entry.name, str(entry)))
            elif entry.is_file():
                here.files.append(_seen(entry, library))
        except OSError:
            continue
    here.recent = _recent(workspace)
    here.places = list(_places())
    return here


def _seen(file: Path, library: Library) -> FileEntry:
    size = file.stat().st_size
    try:
        kind = recognise_file(file, library)
        if kind is not None:
            return FileEntry(file.name, str(file), size, title(kind, library), True)
        with file.open("rb") as opened:
            head = opened.read(_HEAD)
    except (BraeError, OSError):
        return FileEntry(file.name, str(file), size, None, False)
    seems = _NAMES.get(format_of(head) or "")
    if seems is None and (length := magic(head)):
        seems = f"begins with “{head[:length].decode('latin-1')}”"
    return FileEntry(file.name, str(file), size, seems, False)


def _recent(workspace: Workspace) -> list[FolderEntry]:
    with workspace.database.session() as session:
        rows = list(session.execute(select(Project.name, Project.folder).order_by(Project.opened.desc())))
    found: dict[str, FolderEntry] = {}
    for name, folder in rows:
        if Path(folder).is_dir():
            found.setdefault(folder, FolderEntry(name, folder))
    return list(found.values())[:_MOST_RECENT]


def _places() -> list[FolderEntry]:
    """The person's own folder, and the drives."""
    found = [FolderEntry("Home", str(Path.home()))]
    if os.name == "nt":
        drives = (f"{letter}:\\" for letter in string.ascii_uppercase)
        return found + [FolderEntry(drive, drive) for drive in drives if Path(drive).exists()]
    found.append(FolderEntry("This computer", "/"))
    for mount in map(Path, _MOUNTS):
        try:
            drives_here = sorted(entry for entry in mount.iterdir() if entry.is_dir())
        except OSError:
            continue
        for drive in drives_here:
            # On some systems a folder of each person's lies between.
            inner = sorted(drive.iterdir()) if mount.name == "media" and not os.path.ismount(drive) else [drive]
            found += [FolderEntry(one.name, str(one)) for one in inner if one.is_dir()]
    return found
