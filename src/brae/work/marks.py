"""Items made obvious for a trial by test colours, which are versions like others, and given back afterwards."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from brae.core.errors import FormatError
from brae.store.models import MARKED, Edit
from brae.work.edits import add_step, change_edit, go_to, put_in_work, take_out_of_work
from brae.work.items import (
    asset_at,
    item_kind,
)
from brae.work.workspace import Workspace


def set_marks(workspace: Workspace, project_id: str, addresses: Sequence[str], mark: str) -> None:
    """Items made obvious for a trial, those whose kind has the mark; ``take_marks_back`` gives back what they had.

    Raises FormatError where none of them has it.
    """
    kinds_of = {address: item_kind(workspace, workspace.find(project_id, address)) for address in addresses}
    if not any(mark in kind.marks for kind in kinds_of.values()):
        raise FormatError(f"None of these items has test colours '{mark}'.", expected="textures")
    for address, kind in kinds_of.items():
        if mark not in kind.marks:
            continue
        put_in_work(workspace, project_id, address)
        made = kind.mark(asset_at(workspace, project_id, address), mark)
        file = workspace.blobs.put(made.file.data)
        beside = {part: [workspace.blobs.put(own.data), own.name] for part, own in made.beside.items()}
        what, named = f"{MARKED}{kind.marks[mark]}", made.file.name

        def put(edit: Edit, what: str = what, file: str = file, named: str = named, beside: Any = beside) -> bool:
            add_step(edit, what, file_sha256=file, file_name=named, remedies=[], choices={}, beside=beside)
            return True

        change_edit(workspace, project_id, address, put)


def take_marks_back(workspace: Workspace, project_id: str, addresses: Sequence[str]) -> None:
    """Items with test colours get the version before them again; those that had none leave the work."""
    for address in addresses:
        edit = workspace.edit(project_id, address)
        position = edit.position
        while position and edit.steps[position - 1].what.startswith(MARKED):
            position -= 1
        if position == edit.position:
            continue
        untouched = all(step.what.startswith(MARKED) for step in edit.steps)
        go_to(workspace, project_id, address, position)
        if untouched:
            take_out_of_work(workspace, project_id, address)
