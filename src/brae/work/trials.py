"""Try: the game's files, loaded by the stand-in for the game."""

from __future__ import annotations

import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path

from brae.core.errors import NotFoundError
from brae.core.sources import chunks
from brae.demo.standin import Report, play, recognises
from brae.work.workspace import Workspace


@dataclass(frozen=True)
class Trial:
    """The game as it was when it was opened, and as it is now."""

    before: Report
    after: Report


def has_standin(folder: Path) -> bool:
    """Whether a stand-in for this game ships with Brae."""
    return recognises(folder)


def run(workspace: Workspace, project_id: str) -> Trial:
    """Play both; NotFoundError where there is no stand-in for this game."""
    project = workspace.project(project_id)
    folder = Path(project.folder)
    if not has_standin(folder):
        raise NotFoundError(
            "There is no stand-in for this game.", remedy="Start the game itself to see the built files."
        )
    originals = list(workspace.originals(project_id).values())
    after = play(folder)
    if all(original.state == "original" for original in originals):
        return Trial(after, after)
    with tempfile.TemporaryDirectory(prefix="brae-trial-") as name:
        copy = Path(name) / "game"
        changed = {folder / original.path for original in originals}

        def known(current: str, names: list[str]) -> list[str]:
            return [name for name in names if Path(current) / name in changed]

        shutil.copytree(folder, copy, ignore=known)
        for original in originals:
            if original.state == "created":
                continue
            target = copy / original.path
            target.parent.mkdir(parents=True, exist_ok=True)
            source = workspace.original_source(project, original.path)
            with target.open("wb") as stream:
                stream.writelines(chunks(source))
        return Trial(play(copy), after)
