"""Starts the edition of the game that lies in a folder."""

from __future__ import annotations

from pathlib import Path

from brae.demo.standin import harbour, television
from brae.demo.standin.report import Report


def _is_desktop(folder: Path) -> bool:
    settings = folder / "skerry.cfg"
    return settings.is_file() and "edition" in settings.read_text(encoding="utf-8", errors="replace")


def _is_disc(folder: Path) -> bool:
    return (folder / "skerry.bin").is_file()


def recognises(folder: Path) -> bool:
    """Whether this is a folder of the game."""
    return _is_desktop(folder) or _is_disc(folder)


def play(folder: Path) -> Report:
    """Start the game in ``folder``; never raises for what the files hold."""
    start = television.play if _is_disc(folder) else harbour.play
    return start(folder, Report())
