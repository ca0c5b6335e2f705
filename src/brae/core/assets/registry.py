"""Which kinds there are: those in this package, each in its folder, and those of other installed packages."""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module
from importlib.metadata import entry_points
from typing import Any

from brae.core import assets
from brae.core.assets.base import AssetKind
from brae.core.errors import NotFoundError

#: the entry points of other packages that bring a kind
GROUP = "brae.assets"


@cache
def kinds() -> dict[str, AssetKind[Any]]:
    """Every kind by its identifier, in the order in which members are told and shown."""
    own = [
        import_module(f"{assets.__name__}.{found.name}.kind").KIND
        for found in pkgutil.iter_modules(assets.__path__)
        if found.ispkg
    ]
    brought = [point.load() for point in entry_points(group=GROUP)]
    every = sorted([*own, *brought], key=lambda kind: (kind.rank, kind.id))
    return {kind.id: kind for kind in every}


def kind_of(identifier: str) -> AssetKind[Any]:
    """A kind by its identifier; NotFoundError where there is none."""
    found = kinds().get(identifier)
    if found is None:
        raise NotFoundError(f"There is no kind '{identifier}'.", expected=f"one of {', '.join(kinds())}")
    return found


def suffixes() -> tuple[str, ...]:
    """Endings of all files that can come back."""
    return tuple(dict.fromkeys(suffix for kind in kinds().values() for suffix in kind.suffixes()))
