"""Where the files of a rebuilt archive go, and writing them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from brae.core.errors import ReadOnlyError

if TYPE_CHECKING:
    from brae.core.layouts.model import Layout
    from brae.core.layouts.segments import Composed


def places(layout: Layout | None, out: Path, composed: Composed) -> dict[str, Path]:
    """Where the files of an archive go that is written to ``out``."""
    from brae.core.layouts.library import companions
    from brae.core.layouts.read import file_words
    from brae.core.sources import MAIN, BytesSource

    if layout is None:
        return {MAIN: out}
    # What its header says is said by what is to be written, not by what is there.
    words = file_words(layout, BytesSource(b"".join(composed.read(MAIN)))) if layout.naming else {}
    return companions(layout, out, composed.segments, words)


def spare(originals: Iterable[Path], targets: Iterable[Path]) -> None:
    """Raise ReadOnlyError where what is made would take the place of an original."""
    mine = {path.resolve() for path in originals}
    for target in targets:
        if target.resolve() in mine:
            raise ReadOnlyError(
                "The original is never overwritten.", address=str(target), remedy="Choose another name with -o."
            )
