"""Edit: items go out as files, come back by themselves, are matched and encoded; every step can be undone."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brae.core.errors import BraeError, FormatError, NotFoundError, storage_error
from brae.core.match.remedies import REMEDIES
from brae.core.match.textures import match
from brae.core.textures.files import can_write, read_image, write_image
from brae.core.textures.marks import MARKS, Mark, marked
from brae.core.textures.texture import Departures, Recipe, TextureFile
from brae.store.models import Edit, EditStep, now
from brae.work.workspace import Found, Workspace

#: what an editor may save beside the file that was sent out
SUFFIXES = (
    ".png", ".dds", ".ktx2", ".bmp", ".tga", ".tif", ".tiff", ".webp", ".hdr", ".exr", ".gif", ".jpg", ".jpeg",
)  # fmt: skip
LARGEST_UPLOAD = 1 << 30
#: what a version is called whose file the person's editor saved
CAME_BACK = "file came back"
_MARKED = "test colours: "


def exchange_file(workspace: Workspace, edit: Edit) -> Path:
    """The file on disk that an edit waits for."""
    return workspace.exchange_folder(edit.project_id) / edit.exchange_path


def put_in_work(workspace: Workspace, project_id: str, address: str) -> None:
    """Choose an item for editing: its picture appears in the exchange folder.

    An item that was in work before gets its last version back.
    """
    with workspace.database.session() as session:
        project = workspace.project(session, project_id)
        found = workspace.find(session, project_id, address)
        edit = session.scalar(select(Edit).where(Edit.project_id == project_id, Edit.address == address))
        if found.member.kind != "texture":
            raise FormatError(
                "Only textures can be edited yet.", address=address, remedy="You can look at it or listen to it."
            )
        texture = workspace.original_texture(session, project, found)
        if not can_write(texture.header.container):
            raise FormatError(
                f"{texture.header.container.upper()} files are read, but not written.", address=address
            )
        kind, picture = _sent(texture)
        if edit is None:
            edit = Edit(
                project_id=project_id,
                address=address,
                exchange_path=workspace.exchange_path(found.member, kind),
                recipe=_recipe(workspace, session, found),
                sent_sha256=hashlib.sha256(picture).hexdigest(),
            )
            session.add(edit)
        edit.in_work = True
        if edit.position:
            picture = workspace.blobs.get(edit.steps[edit.position - 1].file_sha256)
        target = exchange_file(workspace, edit)
        if not target.exists():
            write_atomically(target, picture)
            edit.seen_sha256 = hashlib.sha256(picture).hexdigest()
        _refresh(workspace, session, edit)
    _tell(workspace, project_id, address)


def _sent(texture: TextureFile) -> tuple[str, bytes]:
    """The picture that goes out, and its type; the same bytes every time."""
    # Light goes out as floats: a PNG would cut what is brighter than white.
    kind = "exr" if texture.header.format.depth == "float" else "png"
    return kind, write_image(texture.picture(), kind, alpha=texture.header.format.alpha != "none")


def _recipe(workspace: Workspace, session: Session, found: Found) -> dict[str, Any]:
    project = workspace.project(session, found.member.project_id)
    recipe = workspace.original_texture(session, project, found).recipe()
    if found.archive.layout is not None:
        archive = workspace.archive(session, project, found.archive)
        recipe.packer = archive.packer(found.member.number).name
        recipe.packing_level = archive.packing_level(found.member.number)
    return recipe.model_dump()


def take_out_of_work(workspace: Workspace, project_id: str, address: str) -> None:
    """The item keeps its original again; its versions are kept and come back when it is put in work again."""
    with workspace.database.session() as session:
        edit = workspace.edit(session, project_id, address)
        target = exchange_file(workspace, edit)
        if target.is_file():
            data = target.read_bytes()
            sha256 = hashlib.sha256(data).hexdigest()
            if sha256 != edit.sent_sha256 and sha256 not in {step.file_sha256 for step in edit.steps}:
                workspace.blobs.put(data)
                _add_step(edit, "kept when taken out of work", file_sha256=sha256, file_name=target.name)
            target.unlink()
        edit.in_work = False
    _tell(workspace, project_id, address)


def take_file(
    workspace: Workspace, project_id: str, address: str, data: bytes, name: str, *, on_disk: bool = False,
    what: str = CAME_BACK,
) -> bool:  # fmt: skip
    """A file came back: match it and encode it like the original; ``on_disk``: it is the exchange file itself.

    ``what`` is how the version is called.

    Returns False where it is what Brae already has, or lies on disk as it did before. Raises one of Brae's errors
    where it is no picture; the version before stays in use then.
    """
    sha256 = hashlib.sha256(data).hexdigest()
    with workspace.database.session() as session:
        edit = workspace.edit(session, project_id, address)
        current = edit.steps[edit.position - 1].file_sha256 if edit.position else edit.sent_sha256
        if sha256 == current or (on_disk and sha256 == edit.seen_sha256):
            edit.fault = None
            return False
        try:
            read_image(data, name)
        except BraeError as error:
            raise error.at(name) from None
        workspace.blobs.put(data)
        if on_disk:
            edit.seen_sha256 = sha256
        _add_step(edit, what, file_sha256=sha256, file_name=name)
        _refresh(workspace, session, edit)
    _tell(workspace, project_id, address)
    return True


def note_fault(workspace: Workspace, project_id: str, address: str, error: BraeError) -> None:
    """Remember why the file on disk could not be taken; the version before stays in use."""
    with workspace.database.session() as session:
        workspace.edit(session, project_id, address).fault = str(error)
    _tell(workspace, project_id, address)


def set_remedies(workspace: Workspace, project_id: str, address: str, remedies: list[str]) -> None:
    """Apply exactly these remedies to the newest version."""
    unknown = set(remedies) - set(REMEDIES)
    if unknown:
        raise FormatError(f"There is no remedy '{unknown.pop()}'.", expected=f"one of {', '.join(REMEDIES)}")
    with workspace.database.session() as session:
        edit = workspace.edit(session, project_id, address)
        if not edit.position:
            raise NotFoundError("No file has come back yet, so there is nothing to put right.", address=address)
        step = edit.steps[edit.position - 1]
        if set(remedies) == set(step.remedies):
            return
        changed = set(remedies) ^ set(step.remedies)
        what = ", ".join(REMEDIES[remedy] for remedy in REMEDIES if remedy in changed)
        what = what if changed <= set(remedies) else f"not: {what}"
        _add_step(edit, what, remedies=remedies)
        _refresh(workspace, session, edit)
    _tell(workspace, project_id, address)


def set_choices(workspace: Workspace, project_id: str, address: str, choices: Departures) -> None:
    """Encode the newest version otherwise than its original; no choice at all is like the original again."""
    with workspace.database.session() as session:
        edit = workspace.edit(session, project_id, address)
        if not edit.position:
            raise NotFoundError("No file has come back yet, so there is nothing to encode.", address=address)
        step = edit.steps[edit.position - 1]
        wanted = choices.model_dump(exclude_none=True)
        recipe = Recipe.model_validate(edit.recipe)
        wanted = {name: value for name, value in wanted.items() if value != getattr(recipe, name)}
        if wanted == step.choices:
            return
        said = ", ".join(f"{name} {value}" for name, value in wanted.items()) or "like the original"
        _add_step(edit, f"encoded: {said}", choices=wanted)
        _refresh(workspace, session, edit)
    _tell(workspace, project_id, address)


def take_level(workspace: Workspace, project_id: str, address: str, level: int, data: bytes, name: str) -> None:
    """A mip level made by hand comes in the place of the one that is worked out; no bytes take it back.

    Raises FormatError where it has not the sides of that level.
    """
    with workspace.database.session() as session:
        edit = workspace.edit(session, project_id, address)
        levels = dict(edit.steps[edit.position - 1].levels) if edit.position else {}
        project = workspace.project(session, project_id)
        original = workspace.original_texture(session, project, workspace.find(session, project_id, address))
        head = (workspace.edited_texture(session, original, edit) if edit.position else original).header
        if not 1 <= level < head.levels:
            raise FormatError(
                f"Level {level} cannot be made by hand.",
                address=address,
                expected=f"a level from 1 to {head.levels - 1}; level 0 is the picture itself",
            )
        if data:
            try:
                picture = read_image(data, name).picture
            except BraeError as error:
                raise error.at(name) from None
            width, height = head.sides(level)
            height *= head.pictures(level)
            if picture.shape[:2] != (height, width):
                raise FormatError(
                    f"The picture has {picture.shape[1]} x {picture.shape[0]} pixels.",
                    address=name,
                    expected=f"{width} x {height}, the sides of level {level}",
                )
            levels[str(level)] = [workspace.blobs.put(data), name]
            what = f"level {level} by hand: {name}"
        elif levels.pop(str(level), None) is not None:
            what = f"level {level} worked out again"
        else:
            return
        if not edit.position:
            workspace.blobs.put(_sent(original)[1])  # what the version begins with
        _add_step(edit, what, levels=levels)
        _refresh(workspace, session, edit)
    _tell(workspace, project_id, address)


def set_marks(workspace: Workspace, project_id: str, addresses: Sequence[str], mark: Mark) -> None:
    """Test colours in the place of items' pictures; ``take_marks_back`` gives back what they had."""
    for address in addresses:
        put_in_work(workspace, project_id, address)
        with workspace.database.session() as session:
            edit = workspace.edit(session, project_id, address)
            project = workspace.project(session, project_id)
            original = workspace.original_texture(session, project, workspace.find(session, project_id, address))
            picture, levels = marked(original, mark)
            kept = {level: [workspace.blobs.put(write_image(own)), f"{mark}.png"] for level, own in levels.items()}
            _add_step(
                edit,
                f"{_MARKED}{MARKS[mark]}",
                file_sha256=workspace.blobs.put(write_image(picture)),
                file_name=f"{mark}.png",
                remedies=[],
                choices={},
                levels={str(level): value for level, value in kept.items()},
            )
            _refresh(workspace, session, edit)
        _tell(workspace, project_id, address)


def marked_now(edit: Edit) -> bool:
    """Whether the version in use is test colours."""
    return bool(edit.position) and edit.steps[edit.position - 1].what.startswith(_MARKED)


def take_marks_back(workspace: Workspace, project_id: str, addresses: Sequence[str]) -> None:
    """Items with test colours get the version before them again; those that had none leave the work."""
    for address in addresses:
        with workspace.database.session() as session:
            edit = workspace.edit(session, project_id, address)
            position = edit.position
            while position and edit.steps[position - 1].what.startswith(_MARKED):
                position -= 1
            if position == edit.position:
                continue
            untouched = all(step.what.startswith(_MARKED) for step in edit.steps)
        go_to(workspace, project_id, address, position)
        if untouched:
            take_out_of_work(workspace, project_id, address)


def go_to(workspace: Workspace, project_id: str, address: str, position: int) -> None:
    """Undo or redo: use the first ``position`` versions (0: the original)."""
    with workspace.database.session() as session:
        edit = workspace.edit(session, project_id, address)
        if not 0 <= position <= len(edit.steps):
            raise NotFoundError(
                f"There is no version {position}.", address=address, expected=f"0 to {len(edit.steps)}"
            )
        edit.position = position
        _refresh(workspace, session, edit)
    _tell(workspace, project_id, address)


def _add_step(edit: Edit, what: str, **changed: Any) -> None:
    """A version more: like the one in use, but for what has ``changed``."""
    values: dict[str, Any] = {"file_sha256": edit.sent_sha256, "file_name": Path(edit.exchange_path).name}
    if edit.position:
        step = edit.steps[edit.position - 1]
        values = {name: getattr(step, name) for name in (*values, "remedies", "choices", "levels")}
    # Versions that were undone stay in the list; the new one comes last, and all of them can be reached.
    edit.steps.append(EditStep(number=len(edit.steps) + 1, what=what, **values | changed))
    edit.position = len(edit.steps)


def _refresh(workspace: Workspace, session: Session, edit: Edit) -> None:
    """Match and encode the version in use."""
    edit.fault, edit.encoded_elsewhere = None, {}
    if not edit.position:
        edit.state, edit.sheet, edit.encoded_sha256 = "waiting", None, None
        return
    project = workspace.project(session, edit.project_id)
    found = workspace.find(session, edit.project_id, edit.address)
    step = edit.steps[edit.position - 1]
    original = workspace.original_texture(session, project, found)
    image = read_image(workspace.blobs.get(step.file_sha256), step.file_name)
    recipe = Departures.model_validate(step.choices).applied(Recipe.model_validate(edit.recipe))
    replaced = {
        int(level): read_image(workspace.blobs.get(sha256), name).picture
        for level, (sha256, name) in step.levels.items()
    }
    sheet, made = match(image, original, recipe, step.remedies, step.file_name, replaced=replaced)
    edit.sheet = sheet.model_dump()
    edit.encoded_sha256 = workspace.blobs.put(made.data)
    edit.encoded_elsewhere = {
        workspace.neighbour(session, found, name).member.address: workspace.blobs.put(data)
        for name, data in made.elsewhere.items()
    }
    if made.data == workspace.original_bytes(session, project, found) and made.elsewhere == original.elsewhere:
        edit.state = "same"
    else:
        edit.state = "attention" if sheet.open_findings else "ready"


def rematch(workspace: Workspace, project_id: str) -> None:
    """Match every edit anew, after the game was opened again."""
    with workspace.database.session() as session:
        for edit in session.scalars(select(Edit).where(Edit.project_id == project_id, Edit.in_work)):
            try:
                edit.changed = now()
                edit.recipe = _recipe(workspace, session, workspace.find(session, project_id, edit.address))
                _refresh(workspace, session, edit)
            except BraeError as error:
                edit.state, edit.fault = "attention", str(error)


def write_atomically(target: Path, data: bytes) -> None:
    """A file appears whole or not at all."""
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=target.parent, prefix=".brae-", suffix=target.suffix)
        try:
            with os.fdopen(handle, "wb") as stream:
                stream.write(data)
            Path(name).replace(target)
        finally:
            Path(name).unlink(missing_ok=True)
    except OSError as error:
        raise storage_error(error, "write", target) from error


def _tell(workspace: Workspace, project_id: str, address: str) -> None:
    workspace.events.publish("edit", project=project_id, address=address)
