"""What an archive holds: kind, sides, pixel format and sizes of each member, told by its header."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal

from brae.core.assets.texture.files import HEAD, parts_elsewhere, sniff_texture
from brae.core.containers.base import Container
from brae.core.containers.recognise import recognise
from brae.core.errors import BraeError, internal
from brae.core.layouts.library import Library
from brae.core.layouts.roles import MapUse
from brae.core.sources import ByteSource, BytesSource

log = logging.getLogger(__name__)

#: "levels": the larger levels of a streamed texture, which are shown and edited with it
Kind = Literal["texture", "sound", "text", "archive", "data", "levels"]


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
    #: what a texture is for, where its format says so
    use: MapUse | None = None
    #: other files of the game that hold the larger levels of a streamed texture, by their names
    parts: tuple[str, ...] = ()


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
        texture = sniff_texture(head, library, name, real)
        parts = tuple(parts_elsewhere(head, library, name)) if texture is not None else ()
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
            use=texture.use,
            parts=parts,
        )
    sound = _sound(head)
    if sound is not None:
        return item("sound", sound)
    if _is_text(head):
        return item("text", "text")
    return item("data", None)


def _inner(container: Container, index: int, head: bytes, library: Library) -> str | None:
    """Which container a member is itself; of a packed one only the beginning is looked at."""
    source: ByteSource = container.member_source(index) if container.is_plain(index) else BytesSource(head)
    return recognise(source, container.names[index], library)


def catalogue(container: Container, library: Library) -> Iterator[Item]:
    """Every member of a container; only their first bytes are unpacked.

    The ``container`` of an item that is an archive itself is what ``recognise`` says of it.
    """
    for index, (level, name) in enumerate(zip(container.levels, container.names, strict=True)):
        try:
            yield _item(container, index, level, name, library)
        except Exception as error:  # whatever one member does, the others are listed
            if not isinstance(error, BraeError):
                log.exception("describing %s failed", level)
                error = internal(error, level)
            stored, real = int(container.stored_sizes[index]), int(container.real_sizes[index])
            yield Item(level, name, "data", None, stored, real, "unknown", fault=str(error))


def _item(container: Container, index: int, level: str, name: str, library: Library) -> Item:
    stored, real = int(container.stored_sizes[index]), int(container.real_sizes[index])
    head, packer = container.read_start(index, HEAD), container.packer(index).name
    if real >= 0:
        head = head[:real]
    item = describe(head, library, level=level, name=name, stored=stored, real=real, packer=packer)
    if item.kind in ("data", "text") and item.fault is None:
        inner = _inner(container, index, head, library)
        if inner is not None:
            item = replace(item, kind="archive", container=inner)
    return item
