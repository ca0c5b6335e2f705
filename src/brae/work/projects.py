"""What a person chooses for a project: its edition, the way by which builds go back, searches that are kept."""

from __future__ import annotations

from sqlalchemy import select

from brae.core.errors import NotFoundError
from brae.store.models import Edit, Member, Project
from brae.work.edits import change_edit
from brae.work.workspace import Workspace


def choose(workspace: Workspace, project_id: str, *, edition: str | None = None, way: str | None = None) -> None:
    """Override the edition ("" takes the override away) or choose a way; NotFoundError where there is none such."""
    profile = workspace.profile(workspace.project(project_id))
    editions = [one.edition for one in profile.editions] if profile is not None else []
    ways = [one.way for one in profile.ways] if profile is not None else ["archive"]
    if edition and edition not in editions:
        raise NotFoundError(
            f"There is no edition '{edition}'.", expected=f"one of {', '.join(editions) or '(none)'}"
        )
    if way and way not in ways:
        raise NotFoundError(f"This game has no way '{way}'.", expected=f"one of {', '.join(ways)}")
    with workspace.database.change() as session:
        project = session.get_one(Project, project_id)
        if edition is not None:
            project.chosen_edition = edition or None
        if way is not None:
            project.way = way or None
    workspace.events.publish("project", project=project_id)
    if way is not None:
        _match_hidden(workspace, project_id)


def _match_hidden(workspace: Workspace, project_id: str) -> None:
    """Match anew what another copy hides by one way and not by another."""
    with workspace.database.session() as session:
        query = (
            select(Edit.address)
            .join(Member, (Member.project_id == Edit.project_id) & (Member.address == Edit.address))
            .where(Edit.project_id == project_id, Edit.in_work, Member.winner.is_not(None))
        )
        addresses = list(session.scalars(query))
    for address in addresses:
        change_edit(workspace, project_id, address, lambda edit: True)


#: searches that are kept for one project, at most
MOST_SEARCHES = 50


def keep_search(workspace: Workspace, project_id: str, query: str, *, kept: bool) -> None:
    """Keep a search as the page asks with it, as the newest; or keep it no longer."""
    workspace.project(project_id)
    with workspace.database.change() as session:
        project = session.get_one(Project, project_id)
        others = [one for one in project.searches if one != query]
        project.searches = ([query] if kept else []) + others[: MOST_SEARCHES - kept]
    workspace.events.publish("project", project=project_id)
