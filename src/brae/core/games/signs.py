"""Which game and which edition lies in a folder."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from brae.core import addresses
from brae.core.containers.nesting import open_path
from brae.core.errors import BraeError
from brae.core.games.known import profiles_in
from brae.core.games.model import Edition, GameProfile, Sign
from brae.core.layouts.library import Library

_MOST = 1 << 20


def _holds(folder: Path, sign: Sign, library: Library) -> bool:
    """Whether a sign holds; what cannot be read does not."""
    file, *labels = addresses.split(sign.file)
    path = folder / file
    if not path.is_file():
        return False
    try:
        if labels:
            container = open_path(path, labels[:-1], library).container
            index = container.index_of(labels[-1])
            head = container.read_start(index, _MOST) if index >= 0 else None
        else:
            with path.open("rb") as stream:
                head = stream.read(_MOST)
    except (BraeError, OSError):
        return False
    return head is not None and (sign.text is None or sign.text.encode() in head)


def _all(folder: Path, signs: Iterable[Sign], library: Library) -> bool:
    return all(_holds(folder, sign, library) for sign in signs)


def game_in(folder: Path, library: Library) -> GameProfile | None:
    """The first profile whose signs all hold in a folder; later folders' profiles come first."""
    found = reversed(list(profiles_in(library.folders)[0].values()))
    return next((profile for profile in found if _all(folder, profile.signs, library)), None)


def edition_in(folder: Path, profile: GameProfile, library: Library) -> Edition | None:
    """The edition whose signs all hold."""
    return next((one for one in profile.editions if _all(folder, one.signs, library)), None)


def missing_halves(profile: GameProfile, files: Iterable[str]) -> list[str]:
    """Files whose other half is missing, in words, by the profile's rule of what goes together."""
    import fnmatch

    paths = list(files)
    known = {path.casefold() for path in paths}
    faults = []
    for patterns in profile.together:
        for pattern in patterns:
            for path in paths:
                if not fnmatch.fnmatchcase(path.casefold(), pattern.casefold()):
                    continue
                stem = path.rpartition(".")[0]
                others = [other for other in patterns if other != pattern]
                for other in others:
                    if f"{stem}.{other.rpartition('.')[2]}".casefold() not in known:
                        faults.append(f"{path} has no {Path(stem).name}.{other.rpartition('.')[2]} beside it")
    return faults
