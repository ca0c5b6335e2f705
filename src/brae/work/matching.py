"""Edits matched anew: after the game was opened again, and after a person said that a finding is meant."""

from __future__ import annotations

import hashlib
import logging
from contextlib import suppress

from sqlalchemy import select
from sqlalchemy.orm.exc import StaleDataError

from brae import __version__
from brae.core.addresses import split
from brae.core.assets.registry import kind_of
from brae.core.assets.sheet import MatchSheet
from brae.core.errors import BraeError, CancelledError, FormatError, NotFoundError
from brae.jobs import Silent, Ticker
from brae.store.models import Addition, ArchiveRow, Edit, Member, Project
from brae.work import meant
from brae.work.edits import change_edit, recipe_of
from brae.work.items import original_asset
from brae.work.workspace import Workspace

log = logging.getLogger(__name__)
_TEXT = "text"


def say_meant(workspace: Workspace, project_id: str, address: str, finding: str, scope: meant.Scope | None) -> None:
    """A finding of an item is meant: of this one, of its folder or everywhere; None takes all that reaches it back.

    What the edits hold stays as it is; those that only waited for this decision are ready.
    """
    workspace.edit(project_id, address)
    with workspace.database.change() as session:
        project = session.get_one(Project, project_id)
        if scope is None:
            changed = [rule for rule in project.meant if meant.reaches(rule, finding, address)]
            rules = [rule for rule in project.meant if rule not in changed]
        else:
            changed = [{"finding": finding, "within": meant.within(address, scope)}]
            rules = [*(rule for rule in project.meant if rule not in changed), *changed]
        project.meant = rules
        query = select(Edit.address).where(Edit.project_id == project_id, Edit.in_work)
        reached = [
            one for one in session.scalars(query) if any(meant.reaches(rule, finding, one) for rule in changed)
        ]
        # Within the change, so that of two at once the later one is written down last.
        workspace.ledger.keep_meant(project_id, rules)

    def judge(edit: Edit) -> bool:
        # Written down even where nothing changes, so that what is being matched with the rules before starts again.
        if edit.sheet is None:
            return True
        # By the rules as they are now: somebody else may have said something meanwhile.
        rules = workspace.project(project_id).meant
        sheet = meant.marked(MatchSheet.model_validate(edit.sheet), rules, edit)
        edit.sheet = edit.sheet | {"findings": sheet.model_dump()["findings"]}
        if edit.state in ("ready", "attention") and edit.fault is None and edit.encoded_sha256 is not None:
            edit.state = "attention" if sheet.open_findings else "ready"
        return True

    for one in reached:
        change_edit(workspace, project_id, one, judge, encode=False)


def rematch(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> None:
    """Match the edits anew, after the game was opened again; each is written down by itself.

    Where nothing that they are matched with has changed since all of them were, only those are that had a fault.
    """
    ticker = ticker or Silent()
    against, project = _against(workspace, project_id), workspace.project(project_id)
    again = select(Edit.address).where(Edit.project_id == project_id, Edit.in_work)
    if against and against == project.matched:
        not_told = (Edit.position > 0) & Edit.encoded_sha256.is_(None)
        again = again.where(Edit.fault.is_not(None) | not_told)
    elif project.matched:
        # Now already: ended in between and the game put back, it would be the same as before, and some edits not.
        _keep_matched(workspace, project_id, "")
    with workspace.database.session() as session:
        addresses = list(session.scalars(again))
    if addresses:
        ticker.begin(len(addresses), "edits matched")
    sent: dict[str, str] = {}
    for address in addresses:
        ticker.tick()
        try:
            address = _followed(workspace, project_id, address, sent)

            def told_anew(edit: Edit) -> bool:
                project, found = workspace.project(project_id), workspace.find(project_id, edit.address)
                if found.member.kind != edit.kind:
                    raise FormatError(f"This item was a {edit.kind} and is none any more.", address=edit.address)
                original = original_asset(workspace, project, found)
                edit.recipe = recipe_of(workspace, project, found, kind_of(edit.kind), original)
                return True

            change_edit(workspace, project_id, address, told_anew)
        except CancelledError:
            raise
        except BraeError as error:
            words = str(error)

            def fail(edit: Edit, words: str = words) -> bool:
                edit.state, edit.fault = "attention", words
                return True

            change_edit(workspace, project_id, address, fail, encode=False)
    if against != project.matched:
        _keep_matched(workspace, project_id, against)


def _keep_matched(workspace: Workspace, project_id: str, against: str) -> None:
    with workspace.database.change() as session:
        session.get_one(Project, project_id).matched = against


def _against(workspace: Workspace, project_id: str) -> str:
    """A fingerprint of all that edits are matched with: the game's files, and how they are described and used.

    Of texts that lie loose (logs and settings, which a game writes at each start) only their names, unless one is
    in work. "" where the state of a file cannot be told.
    """
    project = workspace.project(project_id)
    profile = workspace.profile(project)
    here = ArchiveRow.project_id == project_id, ArchiveRow.parent_id.is_(None)
    loose = (Member.archive_id == ArchiveRow.id) & ArchiveRow.layout.is_(None)
    rows = select(ArchiveRow.address, ArchiveRow.listed_from, Member.kind).where(*here).outerjoin(Member, loose)
    used = select(Member.address, Member.winner).where(Member.project_id == project_id, Member.winner.is_not(None))
    made = select(Addition.address, Addition.sha256, Addition.gone).where(Addition.project_id == project_id)
    with workspace.database.session() as session:
        edited = set(session.scalars(select(Edit.address).where(Edit.project_id == project_id)))
        files = [
            (address, "" if kind == _TEXT and address not in edited else state or None)
            for address, state, kind in session.execute(rows.order_by(ArchiveRow.address))
        ]
        if any(state is None for _, state in files):
            return ""
        beside = [list(map(tuple, session.execute(query.order_by("address")))) for query in (used, made)]
    said = (__version__, profile.model_dump_json() if profile is not None else "")
    chosen = (project.edition, project.chosen_edition, project.way)
    return hashlib.sha256(repr((said, chosen, files, beside)).encode()).hexdigest()


#: items that are compared with the one that an edit was made from
_MOST_ALIKE = 500


def _followed(workspace: Workspace, project_id: str, address: str, sent: dict[str, str]) -> str:
    """The address of an edit's item, also where the game's file calls it otherwise now.

    A file that was found by signs and is described later, or a layout that knows more names, gives an item another
    address. It is the same one if it alone, of all in its file, goes out as the very file that was sent. ``sent``
    keeps the hashes of what items go out as, for the next edit that looks for its own.
    """
    try:
        workspace.find(project_id, address)
        return address
    except NotFoundError:
        pass
    edit = workspace.edit(project_id, address)
    here = f"{split(address)[0]}//"
    with workspace.database.session() as session:
        query = select(Member.address, Member.real).where(
            Member.project_id == project_id,
            Member.kind == edit.kind,
            Member.address.startswith(here, autoescape=True),
        )
        size = edit.recipe.get("size")
        alike = [item for item, real in session.execute(query) if size is None or real == size]
        others = set(session.scalars(select(Edit.address).where(Edit.project_id == project_id)))
    project, kind = workspace.project(project_id), kind_of(edit.kind)
    found = []
    for item in alike[:_MOST_ALIKE]:
        with suppress(BraeError):
            if item not in sent:
                file = kind.send(original_asset(workspace, project, workspace.find(project_id, item)))
                sent[item] = hashlib.sha256(file.data).hexdigest()
            if sent[item] == edit.sent_sha256:
                found.append(item)
    if len(found) != 1 or found[0] in others:
        return address
    edit.address = found[0]
    try:
        with workspace.database.change() as session:
            session.merge(edit)
            # What was said of it alone goes on with it.
            row = session.get_one(Project, project_id)
            moved = [rule | {"within": found[0]} if rule["within"] == address else rule for rule in row.meant]
            if moved != row.meant:
                row.meant = moved
                workspace.ledger.keep_meant(project_id, moved)
    except StaleDataError:  # something else changed it meanwhile: on what is there now
        return _followed(workspace, project_id, address, sent)
    workspace.ledger.keep_edit(workspace.edit(project_id, found[0]))
    workspace.ledger.drop_edit(project_id, address)
    log.info("the edit of %s goes on as %s", address, found[0])
    return found[0]
