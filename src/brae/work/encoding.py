"""What an edit's version in use becomes in the game: matched, encoded, and told of."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from brae.core.addresses import renamed
from brae.core.assets.registry import kind_of
from brae.core.assets.sheet import Finding
from brae.core.errors import BraeError
from brae.store.models import Edit, Project
from brae.work import copies, meant, naming
from brae.work.items import (
    around,
    neighbour,
    original_asset,
    original_bytes,
    others_of,
    version_of,
)
from brae.work.others import made_for, told
from brae.work.workspace import Located, Workspace


def work_out(workspace: Workspace, edit: Edit) -> None:
    """Match and encode the version in use, on an edit that no session knows."""
    edit.fault, edit.encoded_elsewhere = None, {}
    step = edit.current
    if step is None:
        edit.state, edit.sheet, edit.encoded_sha256 = "waiting", None, None
        return
    project = workspace.project(edit.project_id)
    found = workspace.find(edit.project_id, edit.address)
    kind, original = kind_of(edit.kind), original_asset(workspace, project, found)
    others = others_of(workspace, project, found)
    version = version_of(workspace, step, others)
    sheet, made = kind.match(original, naming.renamed(kind, original, version), edit.recipe)
    sheet = told(workspace, project, found, made.data, sheet, trial=edit.marked)
    sheet = naming.told(workspace, edit.project_id, kind, original, version, sheet)
    if kind.social:
        alone = kind.among(original, kind.again(original, made), around(workspace, edit.project_id, edit.address))
        alone += _beyond_slot(workspace, project, found, made.data, edit.recipe)
        sheet = sheet.model_copy(update={"findings": [*sheet.findings, *alone]})
    if copied := copies.hidden(workspace, project, found.member):
        sheet = sheet.model_copy(update={"findings": [*sheet.findings, *copied]})
    sheet = meant.marked(sheet, workspace.project(edit.project_id).meant, edit)
    edit.sheet = sheet.model_dump() | ({"others": made_for(others)} if others else {})
    edit.encoded_sha256 = workspace.blobs.put(made.data)
    edit.encoded_elsewhere = {
        renamed(name, lambda item: neighbour(workspace, found, item).member.address): workspace.blobs.put(data)
        for name, data in made.elsewhere.items()
    }
    if made.data == original_bytes(workspace, project, found) and kind.unchanged(original, made) and not others:
        edit.state = "same"
    else:
        edit.state = "attention" if sheet.open_findings else "ready"


def _beyond_slot(
    workspace: Workspace, project: Project, found: Located, data: bytes, recipe: Mapping[str, Any]
) -> list[Finding]:
    """That an item does not fit where it lies in its archive any more: by how much, and what that means."""
    if found.archive.layout is None or found.member.base is not None:
        return []
    try:
        archive = workspace.archive(project, found.archive)
        number = workspace.number_of(archive, found)
        change = archive.pack(number, data, recipe.get("packing_level"))
        slot, needs = archive.slot(number), len(change.stored)
    except BraeError:  # what is wrong with the archive is told by the plan
        return []
    if needs <= slot:
        return []
    return [
        Finding(
            id="slot", severity="note", title=f"It needs {needs:,} bytes, and where it lies there are {slot:,}",
            in_game="What follows it moves when it is built. Fewer colours or rectangles make it smaller.",
        )
    ]  # fmt: skip
