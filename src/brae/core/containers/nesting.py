"""Archives inside archives: the way in, and the way a change takes outwards."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from brae.core import addresses
from brae.core.containers.base import Container
from brae.core.containers.recognise import files_of, labels_of_parts, open_container, recognise, recognise_file
from brae.core.errors import LayoutError, NotFoundError, UnknownFormatError
from brae.core.layouts.edits import MemberChange
from brae.core.layouts.library import FOLDER, Library
from brae.core.layouts.segments import Composed, stays
from brae.core.sources import ByteSource, FileSource


def changes_outside(outer: Container, files: Mapping[str, str], composed: Composed) -> dict[int, MemberChange]:
    """What the rebuild of an inner archive means for the one that holds it.

    ``files`` are the labels of the outer archive's members that make up the inner one. Members that stay are left
    out.
    """
    changes = {}
    if more := composed.segments.keys() - files.keys():
        raise LayoutError(
            f"It would need {len(more)} numbered files more, and no members of its holder are there for them.",
            remedy="Make the changed members smaller.",
        )
    for file, label in files.items():
        if not stays(composed.segments[file], composed.sources[file].size):
            index = outer.index_of(label)
            changes[index] = outer.nest(index, composed.segments[file], outer.packing_level(index))
    return changes


@dataclass
class Opened:
    """An archive that was opened, the members of its holder that it consists of, and that holder."""

    container: Container
    kind: str
    files: dict[str, str]
    holder: Opened | None = None

    def outwards(self, composed: Composed) -> Composed:
        """The outermost archive, after a rebuild of this one."""
        if self.holder is None:
            return composed
        changes = changes_outside(self.holder.container, self.files, composed)
        return self.holder.outwards(self.holder.container.rebuild(changes))

    @property
    def outermost(self) -> Opened:
        """The archive that is a file (or several) on disk."""
        return self if self.holder is None else self.holder.outermost


def open_path(path: Path, labels: Sequence[str], library: Library, kind: str | None = None) -> Opened:
    """Open a file, and the archives inside it that ``labels`` of an address lead through.

    ``kind`` names the layout of the innermost, where it is not to be recognised. Raises UnknownFormatError where
    no layout and no open container fits.
    """
    own = recognise_file(path, library) if kind is None or labels else kind
    if own is None:
        raise _unknown(path.name, library)
    sources: dict[str, ByteSource] = {name: FileSource(file) for name, file in files_of(own, path, library).items()}
    known = library.known_names(library.layouts[own]) if own in library.layouts else []
    opened = Opened(open_container(own, sources, path.name, library, known), own, {})
    for number, label in enumerate(labels):
        outer = opened.container
        index = outer.index_of(label)
        if index < 0:
            raise NotFoundError(
                f"There is no member '{label}'.", address=addresses.join(path.name, *labels[:number])
            )
        source = outer.member_source(index)
        last = number == len(labels) - 1
        inner = kind if kind is not None and last else recognise(source, outer.names[index], library)
        if inner is None:
            raise _unknown(addresses.join(path.name, *labels[: number + 1]), library)
        files = labels_of_parts(inner, outer, index, library)
        inside = {name: outer.member_source(outer.index_of(member)) for name, member in files.items()}
        known = library.known_names(library.layouts[inner]) if inner in library.layouts else []
        known += outer.names
        opened = Opened(open_container(inner, inside, outer.names[index], library, known), inner, files, opened)
    return opened


def _unknown(name: str, library: Library) -> UnknownFormatError:
    faults = "; ".join(str(error) for error in library.errors.values())
    return UnknownFormatError(
        f"No layout fits {name}.{f' Faulty layouts: {faults}' if faults else ''}",
        remedy=f"Describe it in {FOLDER}/NAME.yaml beside it, or name a layout with --layout.",
    )
