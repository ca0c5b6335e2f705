"""What an archive holds: kind, sides, pixel format and sizes of each member, told by its header."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from brae.core.containers.described import Archive
from brae.core.errors import BraeError
from brae.core.layouts.library import Library
from brae.core.textures.files import HEAD, sniff_texture

Kind = Literal["texture", "sound", "text", "data"]


@dataclass(frozen=True)
class Item:
    """One member as the catalogue shows it; ``fault`` is what is wrong with its header."""

    level: str
    name: str
    kind: Kind
    container: str | None
    stored: int
    real: int
    packer: str
    width: int | None = None
    height: int | None = None
    format: str | None = None
    levels: int | None = None
    orientation: str | None = None
    fault: str | None = None


def _is_text(head: bytes) -> bool:
    if not head or b"\0" in head:
        return False
    try:
        text = head.decode("utf-8")
    except UnicodeDecodeError as error:
        # A character cut in two by the end of what was read is no fault.
        if error.start < len(head) - 3:
            return False
        text = head[: error.start].decode("utf-8")
    return sum(not (char.isprintable() or char in "\r\n\t") for char in text) <= len(text) // 100


def _sound(head: bytes) -> str | None:
    if head[:4] == b"RIFF" and head[8:12] == b"WAVE":
        return "wav"
    return {b"OggS": "ogg", b"fLaC": "flac"}.get(head[:4])


def describe(head: bytes, library: Library, *, level: str, name: str, stored: int, real: int, packer: str) -> Item:
    """The catalogue's entry of a member by its first bytes (HEAD of them)."""

    def item(kind: Kind, container: str | None, **more: object) -> Item:
        return Item(level, name, kind, container, stored, real, packer, **more)  # type: ignore[arg-type]

    try:
        texture = sniff_texture(head, library, name)
    except BraeError as error:
        return item("texture", None, fault=str(error))
    if texture is not None:
        return item(
            "texture",
            texture.container,
            width=texture.width,
            height=texture.height,
            format=texture.format.name,
            levels=texture.levels,
            orientation=texture.orientation,
        )
    sound = _sound(head)
    if sound is not None:
        return item("sound", sound)
    if _is_text(head):
        return item("text", "text")
    return item("data", None)


def catalogue(archive: Archive, library: Library) -> Iterator[Item]:
    """Every member of an archive; only their first bytes are unpacked."""
    for index, (level, name) in enumerate(zip(archive.levels, archive.names, strict=True)):
        try:
            head, packer, fault = archive.read_start(index, HEAD), archive.packer(index).name, None
        except BraeError as error:
            head, packer, fault = b"", "unknown", str(error)
        stored, real = int(archive.stored_sizes[index]), int(archive.real_sizes[index])
        if fault is not None:
            yield Item(level, name, "data", None, stored, real, packer, fault=fault)
            continue
        yield describe(head[:real], library, level=level, name=name, stored=stored, real=real, packer=packer)
