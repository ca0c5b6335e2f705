"""Items that the game has not: made like one of its own, edited like it, and built into where that one lies."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from brae.core import addresses, catalogue
from brae.core.assets.base import HEAD, AssetKind, ExchangeFile, NoWords, Version
from brae.core.assets.registry import kinds
from brae.core.catalogue import Item
from brae.core.errors import BraeError, ChangedError, FormatError, NotFoundError, ReadOnlyError
from brae.core.find.graph import mentions_of, pointed
from brae.core.find.links import Links
from brae.core.games.model import WorldRule
from brae.core.layouts.edits import Edits, NewMember
from brae.core.sources import MAIN
from brae.store.models import Addition, ArchiveRow, Edit, Member, Project
from brae.work import naming
from brae.work.edits import (
    add_step,
    change_edit,
    encode_anew,
    go_to,
    put_in_work,
    recipe_of,
    take_file,
    take_out_of_work,
)
from brae.work.items import item_kind, look_at, original_asset, original_bytes
from brae.work.linking import kept, links_soon, state_of
from brae.work.listing import listed_otherwise
from brae.work.outward import check_case
from brae.work.workspace import Located, Workspace

#: what a number of a member is that no archive has yet
_BEHIND_ALL = 1 << 40
#: characters of a name
_LONGEST = 240


@dataclass(frozen=True)
class Beginning:
    """What a new item is made of: an item like it, a name, and a file that is encoded like that one."""

    like: str
    name: str
    file: ExchangeFile | None = None
    #: what is wished of it, as its kind has it
    wish: Mapping[str, Any] = field(default_factory=dict)
    #: without a file: other items that it names, old to new, as items are called
    names: Mapping[str, str] = field(default_factory=dict)


def make(workspace: Workspace, project_id: str, beginning: Beginning) -> str:
    """A new item; returns its address. Without a file it holds what its like holds, as that is edited now.

    Raises FormatError where the name cannot be, the archive takes no members, or the game would refuse it.
    """
    like, name = beginning.like, _checked(beginning.name)
    project, found = workspace.project(project_id), workspace.find(project_id, like)
    kind, library = item_kind(workspace, found), workspace.project_library(project)
    address, place = _address(workspace, project, found, name)
    try:
        data = _bytes(workspace, project, found, kind, beginning)
    except BraeError as error:
        raise error.at(like) from None
    item = _told(workspace, name, data, library)
    if item.kind != kind.id:
        raise FormatError(
            f"Called '{name}' it is not taken for {kind.title.lower()} by this game's layouts.", address=like,
            remedy=f"Keep it in the folder of {found.member.name}, with the same ending.",
        )  # fmt: skip
    _check_goes_in(workspace, project, found, name, data)
    sha256 = workspace.blobs.put(data)
    with workspace.database.change() as session:
        row = session.scalar(select(Addition).where(Addition.project_id == project_id, Addition.address == address))
        if row is not None and not row.gone:
            raise _taken(name)
        if row is None:
            row = Addition(project_id=project_id, address=address)
            session.add(row)
        row.archive, row.name, row.like, row.sha256, row.gone = place, name, like, sha256, False
        session.flush()
        _list(session, project_id, [row], {address: item})
    _keep(workspace, project_id)
    workspace.events.publish("catalogue", project=project_id)
    _tell_anew(workspace, project_id, _missing_one(workspace, project_id))
    return address


def take_away(workspace: Workspace, project_id: str, address: str) -> None:
    """An item that a person made is no more there, and out of the next build; its versions are kept."""
    found = workspace.find(project_id, address)
    if found.member.base is None:
        raise FormatError("This item is the game's own: it stays.", address=address)
    edit = workspace.edit_or_none(project_id, address)
    if edit is not None and edit.in_work:
        take_out_of_work(workspace, project_id, address)
    users = [one for one in _edited(workspace, project_id) if names_of(workspace, project_id, one, address)]
    with workspace.database.change() as session:
        here = Addition.project_id == project_id, Addition.address == address
        session.execute(update(Addition).where(*here).values(gone=True))
        session.execute(delete(Member).where(Member.id == found.member.id))
        if found.archive.layout is None:
            session.execute(delete(ArchiveRow).where(ArchiveRow.id == found.archive.id))
        listed_otherwise(session, project_id)
    _keep(workspace, project_id)
    workspace.events.publish("catalogue", project=project_id)
    _tell_anew(workspace, project_id, users)


def _missing_one(workspace: Workspace, project_id: str) -> list[str]:
    """The edits of which it is told that they name what the game has not."""
    query = select(Edit).where(Edit.project_id == project_id, Edit.in_work, Edit.state == "attention")
    with workspace.database.session() as session:
        return [
            edit.address
            for edit in session.scalars(query)
            if any(one["id"].startswith(naming.NOTHING) for one in (edit.sheet or {}).get("findings", []))
        ]


def _tell_anew(workspace: Workspace, project_id: str, edits: Sequence[str]) -> None:
    """Edits matched once more: what they name has come, or has gone."""
    for address in edits:
        with suppress(BraeError):  # told where it is looked at
            encode_anew(workspace, project_id, address)


def additions(workspace: Workspace, project_id: str) -> list[Addition]:
    """The items that a person made, by their addresses."""
    query = select(Addition).where(Addition.project_id == project_id, Addition.gone.is_(False))
    with workspace.database.session() as session:
        return list(session.scalars(query.order_by(Addition.address)))


def list_again(workspace: Workspace, project_id: str) -> None:
    """Put the items that a person made among the others, where they are not; the game may be listed anew since."""
    here = additions(workspace, project_id)
    found = dict(workspace.find_each(project_id, [one.address for one in here]))
    lost = [one for one in here if found[one.address] is None]
    if not lost:
        return
    library = workspace.library_of(project_id)
    told = {one.address: _told(workspace, one.name, workspace.blobs.get(one.sha256), library) for one in lost}
    with workspace.database.change() as session:
        _list(session, project_id, lost, told)
    workspace.events.publish("catalogue", project=project_id)


def _list(session: Session, project_id: str, made: Sequence[Addition], told: Mapping[str, Item]) -> None:
    """Put new items among the game's; one whose archive is gone is told of where it is built."""
    for one in made:
        there = select(Member.id).where(Member.project_id == project_id, Member.address == one.address)
        if session.scalar(there) is not None:
            continue  # the game has it by now, or somebody else has just listed it
        archives = select(ArchiveRow.id).where(ArchiveRow.project_id == project_id)
        row = session.scalar(archives.where(ArchiveRow.address == (one.archive or one.address)))
        if row is None and one.archive is not None:
            continue
        if row is None:
            loose = ArchiveRow(
                project_id=project_id, address=one.address, layout=None, title="New file",
                files={MAIN: one.name}, member_count=0,
            )  # fmt: skip
            session.add(loose)
            session.flush()
            row = loose.id
        session.add(_member(project_id, row, one, told[one.address]))
    listed_otherwise(session, project_id)


def _member(project_id: str, archive_id: int, one: Addition, item: Item) -> Member:
    above = "/".join(addresses.split(one.archive)[1:]) if one.archive is not None else ""
    return Member(
        project_id=project_id, archive_id=archive_id, number=_BEHIND_ALL + one.id, address=one.address,
        name=one.name, folder=f"{above}/{one.name}".strip("/").rpartition("/")[0], kind=item.kind,
        container=item.container, packer=item.packer, stored=item.stored, real=item.real, facts=dict(item.facts),
        fault=item.fault, winner=None, parts=list(item.parts), base=one.sha256,
    )  # fmt: skip


def named(workspace: Workspace, project_id: str) -> set[str] | None:
    """The addresses of all items that another one names, as those are edited now.

    None where the links of the game are not known yet.
    """
    known: Links | None = kept(workspace.linked, state_of(workspace, project_id))
    if known is None:
        return None
    edited = set(_edited(workspace, project_id))
    found = {link.target for link in known.links if link.owner not in edited}
    names, _ = naming.known_names(workspace, project_id)
    for address in edited:
        with suppress(BraeError):
            kind, viewed = look_at(workspace, project_id, address)
            for mention in mentions_of(kind, viewed.edit or viewed.original):
                found.update(names.resolve(mention)[1])
    return found


# ---- in the place of the other --------------------------------------------------------------------------------


def names_of(workspace: Workspace, project_id: str, user: str, target: str) -> list[str]:
    """How an item names another one, as it is edited now; nothing where it does not."""
    kind, viewed = look_at(workspace, project_id, user)
    if not (kind.worded or kind.refers):
        return []
    asset = viewed.edit or viewed.original
    known, _ = naming.known_names(workspace, project_id)
    return list(dict.fromkeys(one.text for one in mentions_of(kind, asset) if target in known.resolve(one)[1]))


def use_instead(workspace: Workspace, project_id: str, user: str, old: str, new: str) -> None:
    """An item that names ``old`` names ``new`` from now on: a version more. FormatError where it does not."""
    said = names_of(workspace, project_id, user, old)
    target = workspace.find(project_id, new).member.name
    if not said:
        raise FormatError(f"It does not name {addresses.split(old)[-1]}.", address=user)
    kind, viewed = look_at(workspace, project_id, user)
    written = kind.spelt(viewed.edit or viewed.original, target)
    put_in_work(workspace, project_id, user)
    words = f"uses {written}"
    edit = workspace.edit(project_id, user)
    file = _file_of(workspace, kind, viewed.original, edit)
    if kind.worded:
        # Its text says so, as if the person had written it.
        made = kind.renamed(viewed.original, file, dict.fromkeys(said, written))
        if not take_file(workspace, project_id, user, made.data, made.name, what=words, on=edit.position):
            raise ChangedError(
                f"It could not be made to name {written}: it was changed meanwhile, or it only seems to name it.",
                address=user, remedy="Write it by hand.",
            )  # fmt: skip
        return
    workspace.blobs.put(file.data)
    write = {one: naming.writing(one, written) for one in said}

    def put(edit: Edit) -> bool:
        had = list(edit.current.remedies) if edit.current is not None else []
        # What was written instead before is what is named now.
        first = naming.instead_of(had)
        back = {now: before for before, now in first.items()}
        kept = [
            one
            for one in had
            if not (naming.is_written(one) and set(naming.instead_of([one]).values()) & set(said))
        ]
        add_step(edit, words, remedies=[*kept, *(naming.writing(back.get(one, one), written) for one in write)])
        return True

    change_edit(workspace, project_id, user, put)


def _file_of(workspace: Workspace, kind: AssetKind[Any], original: Any, edit: Edit) -> ExchangeFile:
    step = edit.current
    if step is None:
        return kind.send(original)
    return ExchangeFile(step.file_name, workspace.blobs.get(step.file_sha256))


def make_with(
    workspace: Workspace,
    project_id: str,
    beginning: Beginning,
    *,
    copy: str | None = None,
    copy_name: str = "",
    users: Sequence[str] = (),
) -> list[str]:
    """A new item; a ``copy`` of one that names its like, naming the new one; ``users`` that use the last of these.

    All of it or nothing: what fails on the way takes away what was made. Returns the addresses of what was made.
    """
    made: list[str] = []
    before_it: list[tuple[str, Edit | None]] = []
    try:
        made.append(make(workspace, project_id, beginning))
        before = like = beginning.like
        if copy is not None:
            names = {workspace.find(project_id, like).member.name: workspace.find(project_id, made[0]).member.name}
            if not names_of(workspace, project_id, copy, like):
                raise FormatError(f"It does not name {addresses.split(like)[-1]}.", address=copy)
            made.append(make(workspace, project_id, Beginning(copy, copy_name, names=names)))
            before = copy
        for user in users:
            before_it.append((user, workspace.edit_or_none(project_id, user)))
            use_instead(workspace, project_id, user, before, made[-1])
    except BaseException:
        for user, edit in reversed(before_it):
            with suppress(BraeError):
                _as_before(workspace, project_id, user, edit)
        for address in reversed(made):
            with suppress(BraeError):
                take_away(workspace, project_id, address)
        raise
    return made


def _as_before(workspace: Workspace, project_id: str, address: str, before: Edit | None) -> None:
    """An edit at the version that it had, or out of work again."""
    now = workspace.edit_or_none(project_id, address)
    position = before.position if before is not None else 0
    if now is not None and now.position != position:
        go_to(workspace, project_id, address, position)
    if now is not None and now.in_work and (before is None or not before.in_work):
        take_out_of_work(workspace, project_id, address)


@dataclass(frozen=True)
class Nearby:
    """An item that another one names, or that names it."""

    address: str
    name: str
    kind: str


@dataclass(frozen=True)
class Proposed:
    """What a new item like another one could be."""

    name: str
    from_file: bool
    sized: bool
    uses: list[Nearby]
    used_by: list[Nearby]
    ready: bool
    scale: float
    most: int


def proposal(workspace: Workspace, project_id: str, like: str) -> Proposed:
    """A free name for a new item like this one, what it names that a file can make, and what names it."""
    found = workspace.find(project_id, like)
    kind = item_kind(workspace, found)
    known = links_soon(workspace, project_id)
    linked = [] if known is None else [one.owner for one in known.used_by(like)]
    # What was made to use it since, and what was made to use another.
    edited = _edited(workspace, project_id)
    owners = {one for one in linked if one not in edited}
    for address in edited:
        with suppress(BraeError):
            if names_of(workspace, project_id, address, like):
                owners.add(address)
    uses = []
    if kind.worded or kind.refers:
        viewed = look_at(workspace, project_id, like)[1]
        names, _ = naming.known_names(workspace, project_id)
        for mention in pointed(kind, viewed.edit or viewed.original):
            uses += names.resolve(mention)[1]
    world = getattr(workspace.profile(workspace.project(project_id)), "world", None) or WorldRule()
    return Proposed(
        name=_free(workspace, project_id, found),
        from_file=bool(kind.exchange),
        sized=kind.wishes is not NoWords,
        uses=[one for one in _nearby(workspace, project_id, uses) if kinds()[one.kind].wishes is not NoWords],
        used_by=[one for one in _nearby(workspace, project_id, sorted(owners)) if _can_say(one.kind)],
        ready=known is not None,
        scale=world.scale,
        most=world.most,
    )


def _can_say(kind: str) -> bool:
    known = kinds().get(kind)
    return known is not None and bool(known.exchange) and (known.worded or known.refers)


def _edited(workspace: Workspace, project_id: str) -> list[str]:
    """The items in work that may name others."""
    query = select(Edit.address, Edit.kind).where(Edit.project_id == project_id, Edit.in_work, Edit.position > 0)
    with workspace.database.session() as session:
        return [address for address, kind in session.execute(query) if _can_say(kind)]


def _nearby(workspace: Workspace, project_id: str, addresses: Sequence[str]) -> list[Nearby]:
    found = workspace.find_each(project_id, list(dict.fromkeys(addresses)))
    there = [one.member for _, one in found if one is not None]
    return [Nearby(one.address, one.name, one.kind) for one in there if one.kind in kinds()]


def _free(workspace: Workspace, project_id: str, found: Located) -> str:
    """A name like an item's that nothing has yet."""
    folder, slash, base = found.member.name.rpartition("/")
    stem, point, ending = base.rpartition(".")
    stem = stem or base
    with workspace.database.session() as session:
        taken = {
            name.lower()
            for name in session.scalars(
                select(Member.name).where(
                    Member.project_id == project_id,
                    Member.name.startswith(f"{folder}{slash}{stem}", autoescape=True),
                )
            )
        }
    number = 2
    while (name := f"{folder}{slash}{stem}_{number}{point}{ending if point else ''}").lower() in taken:
        number += 1
    return name


# ---- one new item ---------------------------------------------------------------------------------------------


def _checked(name: str) -> str:
    """A name that an item can have. FormatError where it leads elsewhere, or says nothing."""
    name = name.strip().replace("\\", "/").strip("/")
    steps = name.split("/")
    if not name or len(name) > _LONGEST or any(step.strip() in ("", ".", "..") for step in steps):
        raise FormatError(
            f"'{name[:60]}' cannot be the name of an item.", expected="a path such as textures/new.dds"
        )
    if any(char in name for char in ':*?"<>|\0') or not name.isprintable():
        raise FormatError(
            f"'{name}' has characters that no file can have.", expected="letters, digits, - _ . and spaces"
        )
    return name


def _taken(name: str) -> FormatError:
    return FormatError(f"There is a '{name}' already.", remedy="Give it another name.")


def _address(workspace: Workspace, project: Project, found: Located, name: str) -> tuple[str, str | None]:
    """The address of a new item beside another, and that of its archive. FormatError where it is taken."""
    place = None if found.archive.layout is None else found.archive.address
    label = addresses.quote(name)
    address = label if place is None else addresses.join(place, label)
    with workspace.database.session() as session:
        taken = session.scalar(
            select(Member.name).where(
                Member.project_id == project.id, func.lower(Member.address) == address.lower()
            )
        )
    if taken is not None or (place is None and workspace.has_file(project, name)):
        raise _taken(taken or name)
    if place is None:
        _check_path(Path(project.folder), name)
    layout = workspace.project_library(project).layouts.get(found.archive.layout or "")
    if layout is not None and layout.content is not None and layout.content.kind is not None:
        raise FormatError(
            f"The records of {found.archive.title} say what each member is: nothing can be added to it yet.",
            address=found.archive.address,
        )
    if found.archive.parent_id is not None and found.member.base is None and found.archive.fault:
        raise FormatError(f"Nothing can be added: {found.archive.fault}", address=found.archive.address)
    return address, place


def _check_path(folder: Path, name: str) -> None:
    """Refuse a path that leads through a link, or differs from one that is there in letter case only."""
    check_case(folder, name)
    for step in name.split("/"):
        folder /= step
        if folder.is_symlink():
            raise FormatError(f"'{step}' is a link: it could lead anywhere.", address=name)


def _bytes(
    workspace: Workspace,
    project: Project,
    found: Located,
    kind: AssetKind[Any],
    beginning: Beginning,
) -> bytes:
    file, names = beginning.file, beginning.names
    original = original_asset(workspace, project, found)
    if file is not None:
        recipe = recipe_of(workspace, project, found, kind, original)
        kind.check_file(file)
        return kind.begun(original, file, recipe, _wish(kind, beginning.wish))
    edit = workspace.edit_or_none(project.id, found.member.address)
    as_it_is = edit is not None and edit.in_work and edit.position and edit.encoded_sha256
    data = workspace.blobs.get(edit.encoded_sha256) if as_it_is else original_bytes(workspace, project, found)  # type: ignore[union-attr,arg-type]
    if not names:
        return data
    asset = look_at(workspace, project.id, found.member.address)[1]
    shown = asset.edit or asset.original
    instead: dict[str, str] = {}
    known, _ = naming.known_names(workspace, project.id)
    for mention in mentions_of(kind, shown):
        for address in known.resolve(mention)[1]:
            with suppress(NotFoundError):
                old = workspace.find(project.id, address).member.name
                if old in names:
                    instead[mention.text] = kind.spelt(shown, names[old])
    version = Version(kind.renamed(shown, kind.send(shown), instead))
    return kind.match(shown, version, kind.recipe(shown).model_dump())[1].data


def _wish(kind: AssetKind[Any], wish: Mapping[str, Any]) -> Any:
    try:
        return kind.wishes.model_validate(dict(wish))
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise FormatError(f"What is wished of it cannot be: {where}: {first['msg']}.") from None


def _told(workspace: Workspace, name: str, data: bytes, library: Any) -> Item:
    return catalogue.describe(
        data[:HEAD], library, label=addresses.quote(name), name=name, stored=len(data), real=len(data),
        packer="none", read=lambda length: data[:length],
    )  # fmt: skip


def _check_goes_in(workspace: Workspace, project: Project, found: Located, name: str, data: bytes) -> None:
    """Refuse what the build would refuse: an archive whose structure takes no new members."""
    profile = workspace.profile(project)
    way = profile.way(project.way).way if profile is not None else "archive"
    if found.archive.layout is None or way != "archive":
        return
    proof = found.archive.proof
    if proof and not proof.get("exact"):
        raise ReadOnlyError(
            f"This archive is read-only: {proof.get('reason')}", address=found.archive.address,
            remedy="Choose another way of building, or correct its layout.",
        )  # fmt: skip
    archive = workspace.archive(project, found.archive)
    archive.rebuild(Edits(added=[NewMember(name, archive.pack_new(name, data))]))


def _keep(workspace: Workspace, project_id: str) -> None:
    with workspace.database.session() as session:
        rows = list(session.scalars(select(Addition).where(Addition.project_id == project_id)))
    workspace.ledger.keep_additions(project_id, rows)
