"""Where Brae's own folder usually is. Nothing is made here: commands that only read need no more than this."""

from __future__ import annotations

from pathlib import Path


def usual_place() -> Path:
    """Where this system keeps programs' data."""
    from platformdirs import user_data_path

    return user_data_path("brae", appauthor=False)


def layouts_in(home: Path) -> Path:
    """Where a person's own layouts lie in Brae's folder."""
    return home / "layouts"
