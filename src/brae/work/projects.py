"""What a person chooses for a project: its edition, and the way by which builds go back."""

from __future__ import annotations

from brae.core.errors import NotFoundError
from brae.store.models import Project
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
