"""A new archive from members, by a layout alone."""

from __future__ import annotations

from collections.abc import Iterable

from brae.core.containers.described import Archive, open_archive
from brae.core.errors import LayoutError
from brae.core.layouts.edits import Edits, NewMember
from brae.core.layouts.empty import LIKE, empty
from brae.core.layouts.model import Layout
from brae.core.layouts.segments import Composed
from brae.core.sources import ByteSource, BytesSource


def make(layout: Layout, members: Iterable[tuple[str, bytes]]) -> Composed:
    """The files of a new archive with these members (name, bytes), in this order.

    Numbers that follow are worked out; others have their ``value``, or are zero. Raises LayoutError where the
    layout does not say enough, or where its structure takes no new members.
    """
    sources: dict[str, ByteSource] = {file: BytesSource(data) for file, data in empty(layout).items()}
    archive = open_archive(layout, sources)
    if archive.directory.table is None:
        return _lone(archive, list(members))
    if len(archive):
        raise LayoutError("An archive of this layout has members before any are put in.", remedy=LIKE)
    packing = archive.first_packing()
    added = [NewMember(name, archive.pack_new(name, data), packing) for name, data in members]
    return archive.rebuild(Edits(added=added))


def _lone(archive: Archive, members: list[tuple[str, bytes]]) -> Composed:
    """A file that is one member."""
    if len(members) != 1:
        raise LayoutError(
            f"A file of this layout holds one member, and there are {len(members)}.",
            expected="a folder with one file",
        )
    return archive.rebuild(Edits(changed={0: archive.pack(0, members[0][1])}))
