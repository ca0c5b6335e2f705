"""A palette that many pictures share: the best for all of them, and spare entries for those that shall stay."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from brae.core.assets.base import ExchangeFile
from brae.core.assets.palette.loud import loud, used
from brae.core.assets.palette.palette import Entries, PaletteFile, written
from brae.core.errors import BraeError, FormatError, LimitError, NotFoundError
from brae.core.palettes.best import Points, Reserved, best_of, distinct, merged, placed
from brae.jobs import Silent, Ticker
from brae.store.models import Project
from brae.work.edits import put_in_work, take_file
from brae.work.items import edited_asset, item_kind, look_at, original_asset
from brae.work.others import look, users_of
from brae.work.remapping import Remapped, make_edits, remap, spoilt
from brae.work.workspace import Located, Workspace

#: how much more a pixel of what a person edits may count
MOST_WEIGHT = 100
#: no picture is made smaller: each of its colours counts
_WHOLE = 1 << 20


@dataclass
class Shared(Remapped):
    """What became of a palette and of what is drawn with it."""

    #: pictures that it was worked out for, and the entries that got another colour
    pictures: int = 0
    entries: int = 0


def best_for_all(
    workspace: Workspace, project_id: str, address: str, *, weight: float = 1, ticker: Ticker | None = None
) -> Shared:
    """Give a palette the colours with which all that is drawn with it loses least, edits too; re-map all of it.

    Reserved entries keep their colours. ``weight``: how much a pixel of what is edited counts beside one of what is
    not. Raises FormatError where the item is no palette, or where nothing is drawn with it.
    """
    ticker = ticker or Silent()
    if not 0 < weight <= MOST_WEIGHT:
        raise FormatError(f"A weight of {weight:g} cannot be.", expected=f"above 0, to {MOST_WEIGHT}")
    project, found, file = _palette(workspace, project_id, address)
    users = _users(workspace, project, found)
    result = Shared()
    seen: list[Entries] = []
    weights: list[Points] = []
    ticker.begin(len(users), "pictures looked at")
    for user in users:
        ticker.tick()
        try:
            picture, edited = _meant(workspace, project, user)
        except BraeError as error:
            result.faults.append(error.at(user.member.address).as_dict())
            continue
        # Of each picture only its colours are kept: all pixels of five hundred are too many.
        colours, counts = distinct([picture], [weight if edited else 1.0])
        seen.append(colours)
        weights.append(counts)
    if not seen:
        raise FormatError("Nothing that can be looked at is drawn with this palette.", address=address)
    result.pictures = len(seen)
    clear = {int(index) for index in np.flatnonzero(file.entries[:, 3] == 0)}
    kept = {index: _rgb(file.entries[index]) for index in {*file.reserved} - clear if index < len(file.entries)}
    reserved = Reserved({**kept, **dict.fromkeys(clear)})
    colours, counts = merged(np.concatenate(seen), np.concatenate(weights))
    new = best_of(colours, counts, len(file.entries), reserved, store=partial(_stored, file))
    entries = file.entries.copy()
    free = [index for index in range(len(entries)) if index not in reserved.taken()]
    entries[free, :3] = placed(file.entries[free, :3], new.colours[free][new.usable[free]])
    result.entries = int((entries != file.entries).any(axis=1).sum())
    _take(workspace, project_id, address, entries, f"the best for {len(seen)} pictures")
    again = remap(workspace, project_id, address, [], ticker)
    result.done, result.faults = again.done, [*result.faults, *again.faults]
    return result


def keep(
    workspace: Workspace, project_id: str, address: str, which: Sequence[str], ticker: Ticker | None = None
) -> Shared:
    """Let items look as they did: the colours that they lose get entries that nothing else is drawn with.

    ``which``: their addresses; all that the palette's edit spoils where it is empty. Raises LimitError where
    there are fewer spare entries than colours; nothing is changed then.
    """
    ticker = ticker or Silent()
    project, found, file = _palette(workspace, project_id, address)
    edited = look_at(workspace, project_id, address)[1].edit
    if edited is None:
        raise FormatError("This palette has no other colours.", address=address)
    now = edited.entries
    open_ = [one for one in spoilt(workspace, project_id, address) if not one.edited]
    chosen = [one for one in open_ if not which or one.address in which]
    users = _users(workspace, project, found)
    if not chosen:
        raise NotFoundError("None of these items looks different with it.", address=address)
    entries = loud(file)
    others = {found.member.name: file.rewrite(entries)}
    used_by = {user.member.address: used(look(workspace, project, user, others, _WHOLE), entries) for user in users}
    edits = [_used_by_edit(workspace, project, user, entries, others) for user in users]
    wanted: dict[tuple[int, ...], None] = {}
    for one in chosen:
        for index in sorted(used_by[one.address]):
            if (file.entries[index] != now[index]).any():
                wanted[tuple(file.entries[index].tolist())] = None
    there = {tuple(entry) for entry in now.tolist()}
    missing = [colour for colour in wanted if colour not in there]
    taken = {*file.reserved}.union(*used_by.values(), *edits, np.flatnonzero(now[:, 3] == 0).tolist())
    # What gets another colour now is wanted for something.
    taken |= {int(index) for index in np.flatnonzero((file.entries != now).any(axis=1))}
    spare = [index for index in range(len(now)) if index not in taken]
    if len(missing) > len(spare):
        raise LimitError(
            f"{len(missing)} colours are wanted, and {len(spare)} entries are spare.",
            address=address,
            remedy="Re-map some of the items instead, or keep fewer.",
        )
    entries = now.copy()
    for index, colour in zip(spare, missing, strict=False):
        entries[index] = colour
    result = Shared(pictures=len(chosen), entries=len(missing))
    if missing:  # else all of their colours stand elsewhere in it
        what = "1 spare entry" if len(missing) == 1 else f"{len(missing)} spare entries"
        _take(workspace, project_id, address, entries, f"{what} used")
    name = found.member.name.rpartition("/")[2]
    make_edits(workspace, project_id, address, chosen, f"kept in {name}", result, ticker)
    return result


def _palette(workspace: Workspace, project_id: str, address: str) -> tuple[Project, Located, PaletteFile]:
    found = workspace.find(project_id, address)
    kind, viewed = look_at(workspace, project_id, address)
    if not isinstance(viewed.original, PaletteFile):
        raise FormatError(f"{kind.titles} have no entries that others are drawn with.", address=address)
    return workspace.project(project_id), found, viewed.original


def _users(workspace: Workspace, project: Project, found: Located) -> list[Located]:
    """All that is drawn with it; LimitError where that is more than is looked at."""
    users, unseen = users_of(workspace, project, found)
    if unseen:
        raise LimitError(f"{len(users) + unseen:,} items are drawn with it.", expected=f"at most {len(users):,}")
    return users


def _take(workspace: Workspace, project_id: str, address: str, entries: Entries, what: str) -> None:
    put_in_work(workspace, project_id, address)
    take_file(workspace, project_id, address, written(entries, ".png"), "palette.png", what=what)


def _meant(workspace: Workspace, project: Project, user: Located) -> tuple[Entries, bool]:
    """All pixels of an item as a person wants them, (pixels, 1, 4), and whether it is edited."""
    kind = item_kind(workspace, user)
    edit = workspace.edit_or_none(project.id, user.member.address)
    if edit is not None and edit.in_work and edit.current is not None and not edit.marked:
        data = workspace.blobs.get(edit.current.file_sha256)
        original = original_asset(workspace, project, user)
        pictures = kind.painted(original, ExchangeFile(edit.current.file_name, data))
        return np.concatenate([picture.reshape(-1, 1, 4) for picture in pictures]), True
    return look(workspace, project, user, {}, _WHOLE).reshape(-1, 1, 4), False


def _used_by_edit(
    workspace: Workspace, project: Project, user: Located, entries: Entries, others: dict[str, bytes]
) -> set[int]:
    """The entries that the edit of an item is drawn with; ``others``: the palette with ``entries``, loud ones."""
    edit = workspace.edit_or_none(project.id, user.member.address)
    if edit is None or not (edit.in_work and edit.position and edit.encoded_sha256) or edit.state == "same":
        return set()
    kind, original = item_kind(workspace, user), original_asset(workspace, project, user)
    made = edited_asset(workspace, kind, original, edit, others)
    return used(kind.likeness(made, _WHOLE), entries)


def _rgb(entry: Entries) -> tuple[int, int, int]:
    red, green, blue = (int(part) for part in entry[:3])
    return red, green, blue


def _stored(file: PaletteFile, colours: Entries) -> Entries:
    """Colours (n, 3) as the palette's file holds them."""
    opaque = np.full((len(colours), 1), 255, np.uint8)
    return file.stored(np.hstack([colours, opaque]))[:, :3] if len(colours) else colours
