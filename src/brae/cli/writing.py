"""Where the files of a rebuilt archive go, and writing them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from brae.core.errors import ReadOnlyError, storage_error

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


def write_all(composed: Composed, targets: dict[str, Path]) -> None:
    """Write every file of a result; none of them is half there."""
    from brae.core.atomic import replace
    from brae.core.layouts.segments import write_beside

    for name in composed.segments:
        target = targets[name]
        draft = target.with_name(f".{target.name}.brae-new")
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                write_beside(composed, name, draft)
                replace(draft, target)
            finally:
                draft.unlink(missing_ok=True)
        except OSError as error:
            raise storage_error(error, "write", target) from error
