"""Names in an edited text that name nothing of the game: findings, and what writes existing names instead."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import Any

from sqlalchemy import select

from brae.core.assets.base import Asset, AssetKind, Version
from brae.core.assets.sheet import Finding, MatchSheet, Remedy
from brae.core.errors import BraeError, NotFoundError
from brae.core.find.graph import mentions_of, pointed, with_archives
from brae.core.find.links import Names
from brae.core.find.mentions import Mention
from brae.core.find.spelling import wrong_names
from brae.store.models import Member
from brae.work.linking import kept, state_of
from brae.work.workspace import Workspace

#: how the finding of a name of nothing begins
NOTHING = "names-nothing-"
#: a remedy of no kind's own: this, the name that is there, a tab, and the name that is written instead
_WRITE, _BETWEEN = "write:", "\t"
#: names of nothing that are told of one text
_MOST = 20


def is_written(remedy: str) -> bool:
    """Whether a remedy writes another name."""
    return remedy.startswith(_WRITE) and _BETWEEN in remedy


def label_of(remedy: str) -> str:
    """What it does, in words."""
    return f"Write {remedy.removeprefix(_WRITE).partition(_BETWEEN)[2]}"


def writing(old: str, new: str) -> str:
    """The remedy that writes one name in the place of another."""
    return f"{_WRITE}{old}{_BETWEEN}{new}"


def instead_of(remedies: Iterable[str]) -> dict[str, str]:
    """What is written in the place of what in the end: one remedy may write what another one wrote instead."""
    parts = (one.removeprefix(_WRITE).partition(_BETWEEN) for one in remedies if is_written(one))
    said = {old: new for old, _, new in parts}
    found = {}
    for old in said:
        new, seen = said[old], {old}
        while new in said and new not in seen:
            seen.add(new)
            new = said[new]
        found[old] = new
    return found


def renamed(kind: AssetKind[Asset], original: Asset, version: Version) -> Version:
    """A version with the names that its remedies write, and without those remedies."""
    instead = instead_of(version.remedies)
    if not instead:
        return version
    remedies = tuple(one for one in version.remedies if not is_written(one))
    return replace(version, file=kind.renamed(original, version.file, instead), remedies=remedies)


def told(
    workspace: Workspace,
    project_id: str,
    kind: AssetKind[Asset],
    original: Asset,
    version: Version,
    sheet: MatchSheet,
) -> MatchSheet:
    """An edit's sheet with the names of nothing in it that its original has not."""
    if not (kind.worded or kind.refers):
        return sheet
    applied = instead_of(version.remedies)
    if not kind.worded:
        # Its file has no text in which a person would see what is written instead: only the result counts.
        version, applied = renamed(kind, original, version), {}
    try:
        came = kind.came(original, version.file)
    except BraeError:  # what cannot be read is told otherwise
        return sheet
    names, named = known_names(workspace, project_id)
    findings = wrong_in(kind, came, original, names, named, applied)
    if kind.judges:
        before = {one.id for one in kind.judged(original, _facts(workspace, project_id, kind, original, names))}
        judged = kind.judged(came, _facts(workspace, project_id, kind, came, names))
        findings += [one for one in judged if one.id not in before]
    return sheet.model_copy(update={"findings": [*sheet.findings, *findings]}) if findings else sheet


def _facts(
    workspace: Workspace, project_id: str, kind: AssetKind[Asset], asset: Asset, names: Names
) -> dict[str, dict[str, Any]]:
    """The facts of the items that one surely names, by how it writes them, as they were."""
    found: dict[str, dict[str, Any]] = {}
    for mention in pointed(kind, asset):
        for address in names.resolve(mention)[1][:1]:
            with suppress(NotFoundError):
                found[mention.text] = workspace.find(project_id, address).member.facts
    return found


def wrong_in(
    kind: AssetKind[Asset],
    came: Asset,
    original: Asset | None,
    names: Names,
    named: Mapping[str, str],
    applied: Mapping[str, str] | None = None,
) -> list[Finding]:
    """The names of nothing in an item that its original has not, and those in other letters than the items' own.

    ``named``: the name of each item by its address; ``applied``: what is written instead by now.
    """
    applied, before = applied or {}, [] if original is None else list(mentions_of(kind, original))
    wrong = wrong_names(mentions_of(kind, came), before, names, named, partial(kind.spelt, came), _MOST)
    found = [_finding(one.text, one.line, one.instead, applied.get(one.text)) for one in wrong]
    old = {mention.text for mention in before}
    for mention in pointed(kind, came):
        targets = [named[one] for one in names.resolve(mention)[1] if one in named]
        if mention.text in old or not targets or mention.means in targets:
            continue
        right = next((one for one in targets if one.lower() == mention.means.lower()), None)
        if right is not None and (spelt := kind.spelt(came, right)) != mention.text:
            found.append(_letters(mention, spelt, applied.get(mention.text)))
    return found


def _letters(mention: Mention, spelt: str, applied: str | None) -> Finding:
    remedy = writing(mention.text, spelt)
    return Finding(
        id=f"letters-{hashlib.sha256(mention.text.encode()).hexdigest()[:8]}",
        severity="shows",
        title=f"{mention.text} is called {spelt} in this game: other capital letters",
        in_game="Where a game, or the system under it, tells capital from small letters, it finds nothing.",
        remedy=Remedy(id=remedy, label=label_of(remedy), applied=applied == spelt),
        sure="certain that it differs; whether this game minds is not known",
    )


def _finding(text: str, line: int, instead: Sequence[str], applied: str | None) -> Finding:
    remedies = [Remedy(id=writing(text, new), label=f"Write {new}", applied=new == applied) for new in instead]
    where = f"Line {line}" if line else "It"
    remedies.sort(key=lambda one: not one.applied)
    return Finding(
        id=f"{NOTHING}{hashlib.sha256(text.encode()).hexdigest()[:8]}",
        severity="shows",
        title=f"{where} names {text}, and nothing in the game is called so",
        in_game="What a game does for a name of nothing: it shows its placeholder, or nothing, or stops.",
        remedy=remedies[0] if remedies else None,
        others=remedies[1:] if remedies and not remedies[0].applied else [],
        sure="likely: it is written as the names of this game's files are",
    )


def known_names(workspace: Workspace, project_id: str) -> tuple[Names, dict[str, str]]:
    """The names of a game's items and archives, kept until it is listed otherwise."""
    state = state_of(workspace, project_id)
    found: tuple[Names, dict[str, str]] | None = kept(workspace.named, state)
    if found is None:
        with workspace.database.session() as session:
            rows = session.execute(select(Member.address, Member.name).where(Member.project_id == project_id)).all()
        named = with_archives({row.address: row.name for row in rows})
        found = Names(named.items()), named
        workspace.named = (state, found)
    return found
