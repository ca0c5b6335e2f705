"""Which games are known: the profiles beside the layouts."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path

from brae.core.errors import BraeError, storage_error
from brae.core.games.model import GameProfile
from brae.core.layouts.library import GAME
from brae.core.layouts.load import load_as
from brae.core.layouts.signs import layout_files, state_of


@lru_cache(maxsize=64)
def _loaded(path: Path, changed: int, size: int) -> GameProfile:
    return load_as(GameProfile, path)


def profiles_in(folders: Iterable[Path]) -> tuple[dict[str, GameProfile], dict[str, BraeError]]:
    """The profiles of several folders, later ones in the place of earlier; what cannot be read, by path."""
    found: dict[str, GameProfile] = {}
    errors: dict[str, BraeError] = {}
    for path in (path for folder in folders for path in layout_files(folder) if path.name.endswith(GAME)):
        try:
            profile = _loaded(path, *state_of(path)[1:])
            found[profile.game] = profile
        except BraeError as error:
            errors[str(path)] = error
        except OSError as error:  # gone, or not to be read, since it was listed
            errors[str(path)] = storage_error(error, "read", path)
    return found, errors
