"""Findings that are meant: said once for an item, for a folder, or for every item of the game."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Literal

from sqlalchemy import select

from brae.core.assets.registry import kind_of
from brae.core.assets.sheet import Finding, MatchSheet
from brae.store.models import Edit
from brae.work.workspace import Workspace

#: for what a person says it
Scope = Literal["item", "folder", "game"]
Rule = Mapping[str, Any]


def within(address: str, scope: Scope) -> str:
    """What a rule reaches: an item, a folder (with what divides it from names), or all."""
    return {"item": address, "folder": address[: address.rfind("/") + 1], "game": ""}[scope]


def reaches(rule: Rule, finding: str, address: str) -> bool:
    """Whether a rule says that this finding of this item is meant."""
    place = str(rule["within"])
    here = address == place or ((not place or place.endswith("/")) and address.startswith(place))
    return bool(rule["finding"] == finding and here)


def marked(sheet: MatchSheet, rules: Iterable[Rule], edit: Edit) -> MatchSheet:
    """An edit's sheet whose findings say whether they are meant: by rules, or as its colour steps lead to them."""
    rules = list(rules)
    recoloured = edit.current is not None and edit.current.colours is not None
    asked_for = kind_of(edit.kind).colour_findings if recoloured else ()

    def is_meant(finding: str) -> bool:
        return finding in asked_for or any(reaches(rule, finding, edit.address) for rule in rules)

    findings = [finding.model_copy(update={"meant": is_meant(finding.id)}) for finding in sheet.findings]
    return sheet.model_copy(update={"findings": findings})


def open_findings(workspace: Workspace, project_id: str) -> dict[str, set[str]]:
    """The identifiers of the findings that still stand, of each edit by its address."""
    query = select(Edit.address, Edit.sheet).where(Edit.project_id == project_id, Edit.in_work)
    with workspace.database.session() as session:
        rows = session.execute(query).all()
    return {
        row.address: {
            finding.id
            for one in (row.sheet or {}).get("findings", [])
            if (finding := Finding.model_validate(one)).open
        }
        for row in rows
    }


def standing(edit: Edit, severity: str) -> list[str]:
    """Titles of an edit's findings of one severity that no applied remedy puts right."""
    return [
        finding["title"]
        for finding in (edit.sheet or {}).get("findings", [])
        if finding["severity"] == severity
        and not finding.get("meant")
        and not (finding["remedy"] and finding["remedy"]["applied"])
    ]
