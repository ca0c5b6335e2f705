"""Where Brae's own folder usually is. Nothing is made here: commands that only read need no more than this."""

from __future__ import annotations

from pathlib import Path


def usual_place() -> Path:
    """Where this system keeps programs' data."""
    from platformdirs import user_data_path

    return user_data_path("brae", appauthor=False)


#: the folder beside a game in which its layouts lie
GAME_LAYOUTS = "brae-layouts"


def layouts_in(home: Path) -> Path:
    """Where a person's own layouts lie in Brae's folder."""
    return home / "layouts"


def layout_folders(file: Path, shipped: Path, home: Path | None) -> list[Path]:
    """Where the layouts lie that are known for a file: shipped ones, the person's own, those of its game."""
    # A game's own layouts lie in its folder, which may be some levels above the archive.
    own = [parent / GAME_LAYOUTS for parent in reversed(file.resolve().parents)]
    return [shipped, layouts_in(home or usual_place()), *own]
