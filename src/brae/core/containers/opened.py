"""Containers that need no layout, because a published standard describes them; each registers itself here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from brae.core.containers.base import Container
from brae.core.sources import ByteSource


@dataclass(frozen=True)
class Standard:
    """One open container: how it is told from its bytes, and how it is opened (with the file's name)."""

    name: str
    title: str
    fits: Callable[[ByteSource], bool]
    open: Callable[[ByteSource, str], Container]


_STANDARDS: dict[str, Standard] = {}


def register(standard: Standard) -> None:
    """Make an open container known."""
    _STANDARDS[standard.name] = standard


def standards() -> dict[str, Standard]:
    """Every open container by its name."""
    return _STANDARDS


def begins(source: ByteSource, magic: bytes, at: int = 0) -> bool:
    """Whether a source has these bytes at a place."""
    return source.size >= at + len(magic) and source.read(at, len(magic)) == magic
