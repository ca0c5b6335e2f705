"""Edit: items go out as files, come back by themselves, are matched and encoded; every step can be undone."""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm.exc import StaleDataError

from brae.core.addresses import exchange_path
from brae.core.assets.base import AssetKind, ExchangeFile
from brae.core.assets.registry import kind_of, kinds
from brae.core.atomic import write_atomically
from brae.core.errors import BraeError, ChangedError, FormatError, NotFoundError, storage_error
from brae.jobs import Silent, Ticker
from brae.store.models import Edit, EditStep, Project, now
from brae.work import naming
from brae.work.encoding import work_out
from brae.work.items import (
    asset_at,
    edited_asset,
    look_at,
    needed_by,
    original_asset,
    others_of,
    version_of,
)
from brae.work.workspace import Located, Workspace

log = logging.getLogger(__name__)
LARGEST_UPLOAD = 1 << 30
#: what a version is called whose file the person's editor saved
CAME_BACK = "file came back"
#: how often an edit is worked out anew because something else changed it meanwhile
_TRIES = 50
#: edits that are encoded anew while somebody waits; more are a job
_FEW_FOLLOW = 6


def exchange_file(workspace: Workspace, edit: Edit) -> Path:
    """The file on disk that an edit waits for."""
    return workspace.exchange_folder(edit.project_id) / edit.exchange_path


def change_edit(
    workspace: Workspace,
    project_id: str,
    address: str,
    change: Callable[[Edit], bool],
    *,
    encode: bool = True,
    refuse: bool = True,
    alone: bool = False,
) -> bool:
    """One unit of work on one edit: read it, ``change`` the copy, encode it, write it down if it is still as read.

    No database session is open while it is worked out. Whatever else changed the edit meanwhile comes first: then
    all of it is done again, on what is there now. What cannot be encoded is refused, or (without ``refuse``) stays
    with its fault. Returns False where ``change`` says that there is nothing to do.
    """
    for _ in range(_TRIES):
        edit = workspace.edit(project_id, address)
        before = _seen_by_others(edit)
        if not change(edit):
            return False
        if encode:
            try:
                work_out(workspace, edit)
            except BraeError as error:
                if refuse:
                    raise
                edit.state, edit.sheet, edit.encoded_sha256, edit.fault = "attention", None, None, str(error)
        edit.changed = now()
        try:
            with workspace.database.change() as session:
                session.merge(edit)
        except StaleDataError:
            continue
        workspace.ledger.keep_edit(edit)
        _tell(workspace, project_id, address)
        if not alone and _seen_by_others(edit) != before:
            _renew(workspace, project_id, address)
        return True
    raise ChangedError("The edit changes all the time.", address=address, remedy="Try again in a moment.")


def _seen_by_others(edit: Edit) -> str | None:
    """What of an edit counts for items that are read with it, or with which it is read."""
    return edit.encoded_sha256 if edit.in_work and edit.position else None


def _renew(workspace: Workspace, project_id: str, address: str) -> None:
    """Encode the edits anew that are read with this item, and those with which it is read."""
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    layouts = workspace.project_library(project).layouts.values()
    reading: list[str] = []
    if any(layout.may_need(found.member.name) for layout in layouts):
        with workspace.database.session() as session:
            query = select(Edit.address).where(Edit.project_id == project_id, Edit.in_work, Edit.position > 0)
            edited = list(session.scalars(query))
        for other in edited:
            with suppress(NotFoundError):  # what is gone from the game needs nothing
                if address in needed_by(workspace, project, workspace.find(project_id, other)):
                    reading.append(other)
    # What they tell of each other is told anew once, when all of them have followed.
    following = [*reading, *needed_by(workspace, project, found), *([address] if reading else [])]
    if len(following) <= _FEW_FOLLOW:
        _follow_others(workspace, project_id, following, Silent())
        return
    name = found.member.name.rpartition("/")[2]
    workspace.jobs.start(
        "follow",
        f"Encoding what is drawn with {name} anew",
        lambda job: {"edits": _follow_others(workspace, project_id, following, job)},
        project=project_id,
        queue=project_id,
    )


def _follow_others(workspace: Workspace, project_id: str, addresses: Sequence[str], ticker: Ticker) -> int:
    """Encode edits anew, each by itself; one that is not there any more has nothing to follow."""
    ticker.begin(len(addresses), "edits encoded")
    for address in addresses:
        ticker.tick()
        edit = workspace.edit_or_none(project_id, address)
        if edit is not None and edit.in_work and edit.position:
            encode_anew(workspace, project_id, address, alone=True)
    return len(addresses)


def encode_anew(workspace: Workspace, project_id: str, address: str, *, alone: bool = False) -> None:
    """Match and encode the version in use once more: what it is read with, or what is read with it, has changed.

    ``alone``: who calls sees to the others.
    """
    change_edit(workspace, project_id, address, lambda edit: True, refuse=False, alone=alone)


def add_version(workspace: Workspace, project_id: str, address: str, what: str, *, alone: bool = False) -> None:
    """A version more of an item in work that holds the same as the one in use, or as the original.

    ``alone``: who calls sees to what is read with it, or with which it is read.
    """

    def add(edit: Edit) -> bool:
        if not edit.position:
            original = asset_at(workspace, project_id, address)
            workspace.blobs.put(kind_of(edit.kind).send(original).data)
        add_step(edit, what)
        return True

    change_edit(workspace, project_id, address, add, alone=alone)


def put_in_work(workspace: Workspace, project_id: str, address: str) -> None:
    """Choose an item for editing: its file appears in the exchange folder.

    An item that was in work before gets its last version back.
    """
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    kind = kinds().get(found.member.kind)
    if kind is None or not kind.exchange:
        what = kind.titles if kind is not None else "Items of this kind"
        raise FormatError(
            f"{what} cannot be edited yet.", address=address, remedy="You can look at it, listen to it and keep it."
        )
    original = original_asset(workspace, project, found)
    try:
        kind.check_writable(original)
    except BraeError as error:
        raise error.at(address) from None
    recipe = recipe_of(workspace, project, found, kind, original)
    _create(workspace, found, kind.send(original), recipe)

    def enter(edit: Edit) -> bool:
        # The game may have been updated while it was out of work.
        edit.in_work, edit.recipe = True, recipe
        target = exchange_file(workspace, edit)
        check_place(workspace, target)
        if not target.exists():
            _send_out(workspace, edit, original)
        return True

    change_edit(workspace, project_id, address, enter, refuse=False)


def _create(workspace: Workspace, found: Located, sent: ExchangeFile, recipe: dict[str, Any]) -> None:
    """An edit for an item that has none yet."""
    project_id, address = found.member.project_id, found.member.address
    with workspace.database.change() as session:
        rows = session.execute(select(Edit.address, Edit.exchange_path).where(Edit.project_id == project_id)).all()
        taken = {path for other, path in rows if other != address}
        if len(taken) < len(rows):
            return
        path = exchange_path(address, sent.suffix[1:], taken)
        session.add(
            Edit(
                project_id=project_id,
                address=address,
                kind=found.member.kind,
                exchange_path=path,
                recipe=recipe,
                sent_sha256=hashlib.sha256(sent.data).hexdigest(),
                in_work=False,
            )
        )


def _send_out(workspace: Workspace, edit: Edit, original: Any) -> None:
    """Write the version in use into the exchange folder, so that an editor shows it."""
    kind = kind_of(edit.kind)
    step, target = edit.current, exchange_file(workspace, edit)
    if step is None:
        data = kind.send(original).data
    else:
        made = _for_editor(workspace, edit, step, original, target.suffix)
        data = kind.send(original).data if made is None else made  # an empty text is one, too
    write_atomically(target, data)
    edit.seen_sha256 = hashlib.sha256(data).hexdigest()


def _for_editor(workspace: Workspace, edit: Edit, step: EditStep, original: Any, suffix: str) -> bytes | None:
    """A version as the file type that an editor has open; None where it cannot be that."""
    kind, data = kind_of(edit.kind), workspace.blobs.get(step.file_sha256)
    if Path(step.file_name).suffix.lower() == suffix:
        return data
    # The file came back as another type than was sent out.
    with suppress(BraeError):
        return kind.convert(ExchangeFile(step.file_name, data), suffix)
    with suppress(BraeError):  # a file of the game's own: as what it was encoded
        version = naming.renamed(kind, original, version_of(workspace, step))
        return kind.send(kind.again(original, kind.match(original, version, edit.recipe)[1])).data
    return None


def recipe_of(
    workspace: Workspace, project: Project, found: Located, kind: AssetKind[Any], original: Any
) -> dict[str, Any]:
    """The kind's recipe, and how the member is packed."""
    recipe = kind.recipe(original).model_dump() | {"packer": None, "packing_level": None}
    if found.archive.layout is not None and found.member.base is None:
        archive = workspace.archive(project, found.archive)
        number = workspace.number_of(archive, found)
        recipe["packer"] = archive.packer(number).name
        recipe["packing_level"] = archive.packing_level(number)
    return recipe


def take_out_of_work(workspace: Workspace, project_id: str, address: str) -> None:
    """The item keeps its original again; its versions are kept and come back when it is put in work again.

    A file on disk that cannot be read is no version: it is put aside in the exchange folder.
    """

    def leave(edit: Edit) -> bool:
        target = exchange_file(workspace, edit)
        check_place(workspace, target)
        if target.is_file():
            data = _read_exchange(target)
            sha256 = hashlib.sha256(data).hexdigest()
            known = {edit.sent_sha256, edit.seen_sha256, *(step.file_sha256 for step in edit.steps)}
            if sha256 not in known:
                try:
                    kind_of(edit.kind).check_file(ExchangeFile(target.name, data))
                    workspace.blobs.put(data)
                    add_step(edit, "kept when taken out of work", file_sha256=sha256, file_name=target.name)
                except BraeError:
                    _put_aside(target)
            target.unlink(missing_ok=True)
        edit.in_work = False
        return True

    change_edit(workspace, project_id, address, leave, encode=False)


def _read_exchange(target: Path) -> bytes:
    try:
        return target.read_bytes()
    except OSError as error:
        raise storage_error(error, "read", target) from error


def _put_aside(target: Path) -> None:
    """Give a file that cannot be read another name beside it."""
    number = 1
    while (aside := target.with_name(f"{target.stem} (not readable {number}){target.suffix}")).exists():
        number += 1
    try:
        target.rename(aside)
    except OSError as error:
        raise storage_error(error, "rename", target) from error


def check_place(workspace: Workspace, target: Path) -> None:
    """Raise ChangedError where a link or a folder has taken the place of an exchange file or of a folder above it.

    It is not followed: it could lead anywhere.
    """
    root = workspace.home.exchange
    for place in [target, *target.parents]:
        if place == root:
            return
        if place.is_symlink() or (place == target and place.is_dir()) or (place != target and place.is_file()):
            raise ChangedError(
                f"{place} is not what Brae put there (a link, or another kind of thing).",
                remedy="Move it away: Brae then writes its own file again.",
            )


def take_file(
    workspace: Workspace, project_id: str, address: str, data: bytes, name: str, *, on_disk: bool = False,
    what: str = CAME_BACK, colours: dict[str, Any] | None = None, on: int | None = None,
    still: Callable[[], bool] | None = None,
) -> bool:  # fmt: skip
    """A file came back: match it and encode it like the original; ``on_disk``: it is the exchange file itself.

    ``still`` says whether it lies there as it was read: a version that came in otherwise may have been put in its
    place since, and what was there before is no save of anybody's.

    ``what`` is how the version is called, ``colours`` the colour steps that it was made by; ``on``: it was made of
    this version, and is not taken where another one is in use by now.

    Returns False where it is what Brae already has, or lies on disk as it did before. Raises one of Brae's errors
    where it cannot be read; the version before stays in use then.
    """
    sha256 = hashlib.sha256(data).hexdigest()
    read: list[str] = []

    def take(edit: Edit) -> bool:
        current = edit.current.file_sha256 if edit.current else edit.sent_sha256
        if (on_disk and not edit.in_work) or (on is not None and edit.position != on):
            return False
        if sha256 == current or (on_disk and sha256 == edit.seen_sha256):
            if edit.fault is not None:
                _forget_fault(workspace, edit)
            return False
        if still is not None and not still():
            return False
        if not read:  # once, however often the edit has to be read anew
            kind_of(edit.kind).check_file(ExchangeFile(name, data))
            read.append(workspace.blobs.put(data))
        if on_disk:
            edit.seen_sha256 = sha256
        add_step(edit, what, file_sha256=sha256, file_name=name, colours=colours)
        return True

    taken = change_edit(workspace, project_id, address, take)
    if taken and not on_disk:
        change_edit(workspace, project_id, address, lambda edit: _follow(workspace, edit, data), encode=False)
    return taken


def _follow(workspace: Workspace, edit: Edit, data: bytes) -> bool:
    """What came in otherwise lies in the exchange folder too, unless something was saved there meanwhile."""
    target, step = exchange_file(workspace, edit), edit.current
    if not edit.in_work or step is None or step.file_sha256 != hashlib.sha256(data).hexdigest():
        return False
    check_place(workspace, target)
    if target.exists() and not _is_seen(edit, _read_exchange(target)):
        return False
    if Path(step.file_name).suffix.lower() != target.suffix:
        original = asset_at(workspace, edit.project_id, edit.address)
        made = _for_editor(workspace, edit, step, original, target.suffix)
        if made is None:
            return False
        data = made
    write_atomically(target, data)
    edit.seen_sha256 = hashlib.sha256(data).hexdigest()
    return True


def _forget_fault(workspace: Workspace, edit: Edit) -> None:
    with workspace.database.change() as session:
        row = session.get(Edit, edit.id)
        if row is not None:
            row.fault = None
    _tell(workspace, edit.project_id, edit.address)


def note_fault(workspace: Workspace, project_id: str, address: str, error: BraeError) -> None:
    """Remember why the file on disk could not be taken; the version before stays in use."""

    def note(edit: Edit) -> bool:
        edit.fault = str(error)
        return True

    change_edit(workspace, project_id, address, note, encode=False)


def set_remedies(workspace: Workspace, project_id: str, address: str, remedies: list[str]) -> None:
    """Apply exactly these remedies to the newest version."""

    def apply(edit: Edit) -> bool:
        kind = kind_of(edit.kind)
        known = kind.remedies
        names = kind.worded or kind.refers
        unknown = {one for one in remedies if one not in known and not (names and naming.is_written(one))}
        if unknown:
            raise FormatError(f"There is no remedy '{unknown.pop()}'.", expected=f"one of {', '.join(known)}")
        if edit.current is None:
            raise NotFoundError("No file has come back yet, so there is nothing to put right.", address=address)
        changed = set(remedies) ^ set(edit.current.remedies)
        if not changed:
            return False
        added = changed & set(remedies)
        words = [known[remedy] for remedy in known if remedy in (added or changed)]
        words += [naming.label_of(one) for one in sorted(added or changed) if naming.is_written(one)]
        what = ("" if added else "not: ") + ", ".join(words)
        add_step(edit, what, remedies=remedies)
        return True

    change_edit(workspace, project_id, address, apply)


def set_choices(workspace: Workspace, project_id: str, address: str, choices: Mapping[str, Any]) -> None:
    """Encode the newest version otherwise than its original; no choice at all is like the original again."""

    def choose(edit: Edit) -> bool:
        kind = kind_of(edit.kind)
        try:
            asked = kind.choices.model_validate(choices)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(map(str, first["loc"]))
            raise FormatError(f"The choice '{where}' does not fit: {first['msg']}.", address=address) from None
        if edit.current is None:
            raise NotFoundError("No file has come back yet, so there is nothing to encode.", address=address)
        wanted = asked.model_dump(exclude_none=True)
        wanted = {name: value for name, value in wanted.items() if value != edit.recipe.get(name)}
        if wanted == edit.current.choices:
            return False
        add_step(edit, f"encoded: {kind.said(wanted)}", choices=wanted)
        return True

    change_edit(workspace, project_id, address, choose)


def take_beside(workspace: Workspace, project_id: str, address: str, part: str, data: bytes, name: str) -> None:
    """A file that replaces one part of an item (such as a mip level made by hand); no bytes take it back.

    Raises FormatError where it does not fit, or where there is no such part.
    """
    original = asset_at(workspace, project_id, address)

    def replace(edit: Edit) -> bool:
        kind = kind_of(edit.kind)
        beside = dict(edit.current.beside) if edit.current else {}
        others = others_of(workspace, workspace.project(project_id), workspace.find(project_id, address))
        made = edited_asset(workspace, kind, original, edit, others) if edit.current else None
        try:
            words = kind.check_beside(original, made, part, ExchangeFile(name, data) if data else None)
        except BraeError as error:
            raise error.at(address) from None
        if data:
            beside[part] = [workspace.blobs.put(data), name]
            what = f"{words}: {name}"
        elif beside.pop(part, None) is not None:
            what = f"{words} worked out again"
        else:
            return False
        if not edit.position:
            workspace.blobs.put(kind.send(original).data)  # what the version begins with
        add_step(edit, what, beside=beside)
        return True

    change_edit(workspace, project_id, address, replace)


def make_change(
    workspace: Workspace, project_id: str, address: str, name: str, query: Any, file: ExchangeFile | None
) -> None:
    """A step that only the item's kind has: what was edited last becomes another file, a version more."""
    kind, viewed = look_at(workspace, project_id, address)
    try:
        made, words = kind.changes[name].make(viewed, query, file)
    except BraeError as error:
        raise error.at(address) from None
    take_file(workspace, project_id, address, made.data, made.name, what=words)


def go_to(workspace: Workspace, project_id: str, address: str, position: int) -> None:
    """Undo or redo: use the first ``position`` versions (0: the original).

    The exchange file becomes that version too, unless something was saved there that has not been taken yet.
    """
    original = asset_at(workspace, project_id, address)

    def go(edit: Edit) -> bool:
        if not 0 <= position <= len(edit.steps):
            raise NotFoundError(
                f"There is no version {position}.", address=address, expected=f"0 to {len(edit.steps)}"
            )
        edit.position = position
        target = exchange_file(workspace, edit)
        check_place(workspace, target)
        if edit.in_work and (not target.exists() or _is_seen(edit, _read_exchange(target))):
            _send_out(workspace, edit, original)
        return True

    change_edit(workspace, project_id, address, go, refuse=False)


def _is_seen(edit: Edit, data: bytes) -> bool:
    """Whether an exchange file holds nothing that Brae has not."""
    known = {edit.sent_sha256, edit.seen_sha256, *(step.file_sha256 for step in edit.steps)}
    return hashlib.sha256(data).hexdigest() in known


def add_step(edit: Edit, what: str, **changed: Any) -> None:
    """A version more: like the one in use, but for what has ``changed``."""
    values: dict[str, Any] = {"file_sha256": edit.sent_sha256, "file_name": Path(edit.exchange_path).name}
    values |= {"remedies": [], "choices": {}, "beside": {}}
    if edit.current is not None:
        values = {name: getattr(edit.current, name) for name in values}
        if "file_sha256" not in changed:
            values["colours"] = edit.current.colours
    # Versions that were undone stay in the list; the new one comes last, and all of them can be reached.
    edit.steps.append(EditStep(number=len(edit.steps) + 1, what=what, **values | changed))
    edit.position = len(edit.steps)


def _tell(workspace: Workspace, project_id: str, address: str) -> None:
    workspace.events.publish("edit", project=project_id, address=address)
