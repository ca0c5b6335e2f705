"""Which copy of each item the game uses, written down with the items: after opening and after every build."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import bindparam, select, update

from brae.core import addresses
from brae.core.assets.sheet import Finding
from brae.core.containers.nesting import open_path
from brae.core.containers.recognise import recognise_file
from brae.core.errors import BraeError, storage_error
from brae.core.games.order import Copies, places_of
from brae.core.sources import MAIN
from brae.store.models import ArchiveRow, Base, Member, Project
from brae.work.workspace import Workspace

#: main file of the archive (None: a loose file), name, address
Copy = tuple[str | None, str, str]


def tell(workspace: Workspace, project_id: str) -> None:
    """Work out the winners by the game's profile and its settings as they are now; nothing without a profile."""
    project = workspace.project(project_id)
    profile = workspace.profile(project)
    if profile is None:
        return
    listed = _listed(workspace, project_id)
    made = _made(workspace, project)
    archives = sorted({main for main, _, _ in [*listed, *made] if main is not None})

    def read(path: str) -> bytes:
        try:
            return (Path(project.folder) / path).read_bytes()
        except OSError as error:
            raise storage_error(error, "read", path) from error

    winners = []
    try:
        copies = Copies(places_of(profile, archives, read))
    except BraeError:
        copies = None  # the settings are missing: what the game would say of that is not ours to guess
    if copies is not None:
        copies.add([*listed, *made])
        for main, name, address in listed:
            winner = copies.winner(main, name)
            if winner is not None and winner != address:
                winners.append({"at": address, "by": winner})
    members = Base.metadata.tables["members"]
    here = members.c.project_id == project_id
    with workspace.database.change() as session:
        session.execute(update(members).where(here, members.c.winner.is_not(None)).values(winner=None))
        if winners:
            change = update(members).where(here, members.c.address == bindparam("at"))
            session.connection().execute(change.values(winner=bindparam("by")), winners)
    workspace.events.publish("catalogue", project=project_id)


def _listed(workspace: Workspace, project_id: str) -> list[Copy]:
    """What lies at no depth: members of the outermost archives, and loose files."""
    query = (
        select(ArchiveRow.layout, ArchiveRow.files, Member.name, Member.address)
        .join(ArchiveRow, Member.archive_id == ArchiveRow.id)
        .where(Member.project_id == project_id, ArchiveRow.parent_id.is_(None))
        .order_by(Member.id)
    )
    with workspace.database.session() as session:
        rows = session.execute(query).all()
    return [(None if layout is None else files.get(MAIN), name, address) for layout, files, name, address in rows]


def _made(workspace: Workspace, project: Project) -> list[Copy]:
    """The same of what Brae itself put beside the game's files: loose files, add-on archives."""
    library = workspace.project_library(project)
    found: list[Copy] = []
    for path, original in workspace.originals(project.id).items():
        if original.state != "created":
            continue
        label, target = addresses.quote(path), Path(project.folder) / path
        found.append((None, path, label))
        try:
            kind = recognise_file(target, library)
            if kind is not None:
                container = open_path(target, [], library, kind).container
                pairs = zip(container.names, container.labels, strict=True)
                found += [(path, name, addresses.join(label, inner)) for name, inner in pairs]
        except BraeError:
            continue  # a part of an archive, or changed since: the game will say
    return found


def hidden(workspace: Workspace, project: Project, member: Member) -> list[Finding]:
    """That the game takes another copy than this one, where it does once the edits are built by the chosen way."""
    if member.winner is None or workspace.way(project) == "loose" or is_own(workspace, project.id, member.winner):
        return []
    return [
        Finding(
            id="hidden", severity="shows", title=f"The game uses another copy: {member.winner}",
            in_game="It shows what is in that one. Edit that copy, or build as loose files.",
        )
    ]  # fmt: skip


def is_own(workspace: Workspace, project_id: str, address: str) -> bool:
    """Whether an address lies in a file that Brae made."""
    original = workspace.original(project_id, addresses.unquote(addresses.split(address)[0]))
    return original is not None and original.state == "created"
