"""Items that another edit spoils made edits of their own: the same pictures, encoded for the new colours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from brae.core.errors import BraeError
from brae.jobs import Silent, Ticker
from brae.work.edits import add_version, encode_anew, put_in_work
from brae.work.others import Spoilt, look, spoilt_by
from brae.work.workspace import Workspace

#: pixels of a close look
_CLOSE = 72


@dataclass
class Remapped:
    """How many items became edits, and what could not."""

    done: int = 0
    faults: list[dict[str, object]] = field(default_factory=list)


def spoilt(workspace: Workspace, project_id: str, address: str) -> list[Spoilt]:
    """What the edit of an item does to others; nothing where it has no version."""
    edit = workspace.edit(project_id, address)
    if edit.encoded_sha256 is None:
        return []
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    return spoilt_by(workspace, project, found, workspace.blobs.get(edit.encoded_sha256))[0]


def seen(workspace: Workspace, project_id: str, address: str, by: str, *, after: bool, closely: bool) -> Any:
    """How an item looks now, or ``after`` the edit of the item ``by``; closely where that changes something first.

    Uint8 (height, width, 4).
    """
    project, user = workspace.project(project_id), workspace.find(project_id, address)
    edit, other = workspace.edit(project_id, by), workspace.find(project_id, by)
    made = workspace.blobs.get(edit.encoded_sha256) if edit.encoded_sha256 else None
    new = {other.member.name: made} if made is not None else {}
    shown = look(workspace, project, user, new if after else {})
    beside = look(workspace, project, user, {} if after else new) if closely else shown
    if shown.shape == beside.shape and (shown != beside).any():
        y, x = (int(part[0]) for part in np.nonzero((shown != beside).any(axis=-1)))
        height, width = shown.shape[:2]
        top = min(max(0, y - _CLOSE // 4), max(0, height - _CLOSE))
        left = min(max(0, x - _CLOSE // 2), max(0, width - _CLOSE))
        shown = shown[top : top + _CLOSE, left : left + _CLOSE]
    return np.ascontiguousarray(shown)


def remap(
    workspace: Workspace, project_id: str, address: str, which: Sequence[str], ticker: Ticker | None = None
) -> Remapped:
    """Give items that are spoilt by an edit a version of their own: as they are, in the nearest of the new colours.

    ``which``: their addresses; all that are not edited yet where it is empty.
    """
    ticker = ticker or Silent()
    open_ = [one for one in spoilt(workspace, project_id, address) if not one.edited]
    wanted = [one for one in open_ if not which or one.address in which]
    result = Remapped()
    name = workspace.find(project_id, address).member.name.rpartition("/")[2]
    make_edits(workspace, project_id, address, wanted, f"re-mapped to {name}", result, ticker)
    return result


def make_edits(
    workspace: Workspace, project_id: str, address: str, items: Sequence[Spoilt], words: str, result: Remapped,
    ticker: Ticker,
) -> None:  # fmt: skip
    """Make items that the edit of another, ``address``, spoils edits of their own as they are; see ``result``."""
    ticker.begin(len(items), "items re-mapped")
    for one in items:
        ticker.tick()
        try:
            put_in_work(workspace, project_id, one.address)
            add_version(workspace, project_id, one.address, words, alone=True)
            result.done += 1
        except BraeError as error:
            result.faults.append(error.at(one.address).as_dict())
    # Once for all of them: what is still spoilt.
    encode_anew(workspace, project_id, address)
