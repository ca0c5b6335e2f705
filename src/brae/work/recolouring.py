"""One change of colours over many items: looked at before it is made, made as an edit of each, taken back together.

Steps work on what a person made, or on the original; never on what steps made before, so they can be changed as
often as one likes. A picture that was painted after its colours were changed is left as it is.
"""

from __future__ import annotations

import re
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
import yaml

from brae.core.assets.base import ExchangeFile
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.maps import MapView, surface
from brae.core.atomic import write_atomically
from brae.core.errors import BraeError, FormatError, NotFoundError
from brae.core.layouts.load import parse_as
from brae.core.layouts.roles import OPPOSITES
from brae.core.recolour.files import Changer, changed, numbers, steps_in
from brae.core.recolour.space import Floats
from brae.core.recolour.steps import Load, MapRole, Steps, fitted, reached
from brae.jobs import Ticker
from brae.store.home import Home
from brae.store.models import Edit
from brae.work.edits import change_edit, go_to, put_in_work, take_file, take_out_of_work
from brae.work.items import around, asset_at, item_kind, look_at
from brae.work.sending import for_each
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Workspace

Picture = np.ndarray[Any, Any]
#: bytes of small pictures that are remembered, so that each change of a step shows at once
_MOST = 64 << 20
#: times that an item is tried which is saved by somebody else meanwhile
_TRIES = 3
_NAME = re.compile(r"\w[\w \-]{0,63}")


@dataclass(frozen=True)
class Recoloured:
    """What became of items: how many were changed, and the addresses of the others by the reason."""

    __pydantic_config__ = ALWAYS_SENT

    done: int
    #: no step reaches anything in them
    same: list[str]
    #: painted since their colours were changed
    painted: list[str]
    faults: list[dict[str, Any]]


def _before_colours(edit: Edit | None) -> int | None:
    """The version that steps work on, counted from 1 (0: the original); None where one was painted on colours."""
    if edit is None or edit.current is None:
        return 0
    made = [step.colours is not None for step in edit.steps[: edit.position]]
    position = edit.position
    while position and made[position - 1]:
        position -= 1
    return None if any(made[:position]) else position


def _file(workspace: Workspace, project_id: str, address: str, edit: Edit | None, position: int) -> ExchangeFile:
    if edit is not None and position:
        step = edit.steps[position - 1]
        return ExchangeFile(step.file_name, workspace.blobs.get(step.file_sha256))
    kind = item_kind(workspace, workspace.find(project_id, address))
    if not kind.pictured:
        raise FormatError(f"{kind.titles} have no colours.", address=address)
    return kind.send(asset_at(workspace, project_id, address))


def _loader(workspace: Workspace, project_id: str) -> Load:
    """The pictures that steps name: here items, by their addresses."""
    known: dict[str, Floats] = {}

    def load(address: str) -> Floats:
        if address not in known:
            palette = _palette(workspace, project_id, address)
            file = None if palette is not None else _file(workspace, project_id, address, None, 0)
            picture = palette if file is None else read_image(file.data, file.name).picture
            assert picture is not None
            known[address] = numbers(picture)
        return known[address]

    return load


def _palette(workspace: Workspace, project_id: str, address: str) -> Picture | None:
    """The entries of a palette as it is edited, a pixel for each; None of any other item."""
    if workspace.find(project_id, address).member.kind != "palette":
        return None
    viewed = look_at(workspace, project_id, address)[1]
    shown = viewed.edit if viewed.edit is not None else viewed.original
    return np.asarray(shown.entries[None])


# ---- before it is made -------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Little:
    """An item as a small picture, shape (height, width, 4), 8 bits, and why colour steps are no good for it."""

    picture: Picture
    colourless: str | None


class Small:
    """Small pictures of items as they are before any colours, kept for the moment."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._kept: OrderedDict[tuple[object, ...], Little] = OrderedDict()
        self._bytes = 0

    def of(self, workspace: Workspace, project_id: str, address: str, side: int) -> Little:
        """One of them, no side longer than ``side``."""
        edit = workspace.edit_or_none(project_id, address)
        position = _before_colours(edit)
        if position is None:  # it stays as it is
            assert edit is not None
            position = edit.position
        version = edit.steps[position - 1].file_sha256 if edit is not None and position else ""
        key = (project_id, workspace.project(project_id).listing, address, side, version)
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        kind = item_kind(workspace, workspace.find(project_id, address))
        if not kind.pictured:
            raise FormatError(f"{kind.titles} have no colours.", address=address)
        original = asset_at(workspace, project_id, address)
        if position:
            file = _file(workspace, project_id, address, edit, position)
            picture = read_image(file.data, file.name).picture
        else:
            picture = kind.likeness(original, 2 * side)
        made = Little(_shrunk(picture, side), kind.colourless(original))
        with self._lock:
            before = self._kept.pop(key, None)  # two may have asked for it at once
            self._bytes -= before.picture.nbytes if before is not None else 0
            self._kept[key] = made
            self._bytes += made.picture.nbytes
            while self._bytes > _MOST and len(self._kept) > 1:
                self._bytes -= self._kept.popitem(last=False)[1].picture.nbytes
        return made


def look(
    workspace: Workspace, small: Small, project_id: str, addresses: Sequence[str], side: int
) -> dict[str, str]:
    """Those of some items for which colour steps are no good, with the reason."""
    found = {}
    for address in addresses:
        try:
            why = small.of(workspace, project_id, address, side).colourless
        except BraeError as error:
            why = error.message
        if why is not None:
            found[address] = why
    return found


def _shrunk(picture: Picture, side: int) -> Picture:
    import cv2

    if picture.dtype.kind == "f":  # to be looked at only
        shown = np.clip(picture, 0, 1) ** np.array([1 / 2.2, 1 / 2.2, 1 / 2.2, 1], np.float32)
        picture = np.round(shown * 255).astype(np.uint8)
    height, width = picture.shape[:2]
    scale = side / max(height, width)
    if scale < 1:
        size = (max(round(width * scale), 1), max(round(height * scale), 1))
        # Colours under clear pixels do not bleed into what is seen.
        whole = picture.astype(np.float32)
        most = np.float32(np.iinfo(picture.dtype).max)
        alpha = whole[..., 3:] / most
        small = cv2.resize(
            np.concatenate([whole[..., :3] * alpha, alpha], axis=2), size, interpolation=cv2.INTER_AREA
        )
        clear = np.maximum(small[..., 3:], 1e-6)
        whole = np.concatenate([small[..., :3] / clear, small[..., 3:] * most], axis=2)
        picture = np.round(np.clip(whole, 0, most)).astype(picture.dtype)
    return picture if picture.dtype == np.uint8 else (picture >> 8).astype(np.uint8)


def preview(
    workspace: Workspace, small: Small, project_id: str, address: str, steps: Steps | None, side: int
) -> bytes:
    """A PNG of an item after the steps (None: before them)."""
    picture = small.of(workspace, project_id, address, side).picture
    leave = _before_colours(workspace.edit_or_none(project_id, address)) is None
    if steps is not None and not leave:
        picture = changed(picture, steps, _small_loader(workspace, small, project_id))
    return write_image(picture, "png", quick=True)


def _small_loader(workspace: Workspace, small: Small, project_id: str) -> Load:
    def load(address: str) -> Floats:
        palette = _palette(workspace, project_id, address)
        return numbers(small.of(workspace, project_id, address, 256).picture if palette is None else palette)

    return load


# ---- made, and taken back ----------------------------------------------------------------------------------------


def recolour(
    workspace: Workspace, project_id: str, addresses: Sequence[str], steps: Steps, ticker: Ticker | None = None
) -> Recoloured:
    """Change the colours of items: each is an edit, or a version more of the one that it has."""
    load, same, painted = _loader(workspace, project_id), [], []
    changer = Changer(steps, load)
    words = f"colours: {steps.title}" if steps.title else "colours"
    data = steps.model_dump(mode="json", by_alias=True, exclude_none=True)
    for name in steps.named():  # what is missing is told before anything is written
        load(name)

    def act(address: str) -> None:
        for _ in range(_TRIES):
            if once(address):
                return
        painted.append(address)  # somebody saves it all the time

    def once(address: str) -> bool:
        """Whether nothing else became its version meanwhile."""
        edit = workspace.edit_or_none(project_id, address)
        position = _before_colours(edit)
        if position is None:
            painted.append(address)
            return True
        file = _file(workspace, project_id, address, edit, position)
        read = read_image(file.data, file.name)
        picture = changer.changed(read.picture)
        if np.array_equal(picture, read.picture):
            same.append(address)
            if steps.on_maps:  # the colours may stay, and the other maps change
                _maps_too(workspace, project_id, address, numbers(read.picture), steps, load, words)
            return True
        if edit is None or not edit.in_work:
            put_in_work(workspace, project_id, address)
        suffix = file.suffix if file.suffix in (".png", ".tga", ".bmp") else ".png"
        made = write_image(picture, suffix[1:], alpha=read.has_alpha)
        name = f"{Path(file.name).stem}{suffix}"
        on = edit.position if edit is not None else 0
        taken = take_file(workspace, project_id, address, made, name, what=words, colours=data, on=on)
        if not taken and workspace.edit(project_id, address).position != on:
            return False
        if not taken:  # the same picture, by other steps
            change_edit(workspace, project_id, address, partial(_made_by, data), encode=False)
        if steps.on_maps:
            _maps_too(workspace, project_id, address, numbers(read.picture), steps, load, words)
        return True

    told = for_each(addresses, act, "items", ticker)
    return Recoloured(told["done"] - len(same) - len(painted), same, painted, told["faults"])


def _made_by(data: dict[str, Any], edit: Edit) -> bool:
    if edit.current is None or edit.current.colours is None:
        return False
    edit.current.colours = data
    return True


def _partners(workspace: Workspace, project_id: str, address: str) -> list[MapView]:
    """The other maps of an item's surface."""
    return [one for one in surface(None, None, around(workspace, project_id, address)) if one.address != address]


def _maps_too(
    workspace: Workspace, project_id: str, address: str, picture: Floats, steps: Steps, load: Load, words: str
) -> None:
    """The values that steps name, in the other maps of a surface: each is an edit, or a version more."""
    wanted = reached(steps, picture, load)
    data = steps.model_dump(mode="json", by_alias=True, exclude_none=True, exclude_defaults=True)
    for one in _partners(workspace, project_id, address):
        edit = workspace.edit_or_none(project_id, one.address)
        position = _before_colours(edit)
        if position is None:
            continue  # painted since: it stays as it is
        file = _file(workspace, project_id, one.address, edit, position)
        read = read_image(file.data, file.name)
        made = _with_values(read.picture, one, wanted)
        if np.array_equal(made, read.picture):
            continue
        if edit is None or not edit.in_work:
            put_in_work(workspace, project_id, one.address)
        stored = write_image(made, "png", alpha=read.has_alpha)
        # What somebody saves meanwhile stays on top, as it does of the colours.
        on = edit.position if edit is not None else 0
        take_file(workspace, project_id, one.address, stored, "maps.png", what=words, colours=data, on=on)


def _with_values(picture: Picture, one: MapView, wanted: Sequence[tuple[dict[MapRole, float], Floats]]) -> Picture:
    result = numbers(picture).copy()
    most = np.iinfo(picture.dtype).max
    for values, part in wanted:
        for role, value in values.items():
            here, mixed = _channels_of(one, role), fitted(part, result.shape)
            if not here:
                opposite = OPPOSITES.get(role)
                here, value = (_channels_of(one, opposite), 1 - value) if opposite else ([], value)
            for channel in here:
                result[..., channel] += (value - result[..., channel]) * mixed
    return np.asarray(np.round(np.clip(result, 0, 1) * most), picture.dtype)


def _channels_of(one: MapView, role: str) -> list[int]:
    """Which channels of a map have a role: of a map that is nothing else red, green and blue."""
    if one.role == role:
        return [0, 1, 2]
    return ["rgba".index(channel) for channel, its in one.channels.items() if its == role]


def take_back(
    workspace: Workspace, project_id: str, addresses: Sequence[str], ticker: Ticker | None = None
) -> dict[str, Any]:
    """Items whose last versions were made by colour steps get the one before; with no other they leave the work."""

    def act(address: str) -> None:
        back(address)
        for one in _partners(workspace, project_id, address):
            made_by = steps_of(workspace, project_id, one.address)
            if made_by is not None and made_by.on_maps:
                back(one.address)

    def back(address: str) -> None:
        edit = workspace.edit_or_none(project_id, address)
        position = _before_colours(edit)
        if edit is None or not edit.in_work or position is None or position == edit.position:
            return
        go_to(workspace, project_id, address, position)
        if all(step.colours is not None for step in edit.steps):
            take_out_of_work(workspace, project_id, address)

    return for_each(addresses, act, "items", ticker)


def steps_of(workspace: Workspace, project_id: str, address: str) -> Steps | None:
    """The steps that the version in use was made by."""
    edit = workspace.edit_or_none(project_id, address)
    if edit is None or not edit.in_work or edit.current is None or edit.current.colours is None:
        return None
    return Steps.model_validate(edit.current.colours)


# ---- kept, and given to others -----------------------------------------------------------------------------------


def kept(home: Home) -> dict[str, Steps]:
    """All steps that are kept, by their names; what is faulty is left out."""
    found = {}
    for file in sorted(home.colours.glob("*.yaml")):
        try:
            found[file.stem] = steps_in(file)
        except BraeError:
            continue
    return found


def keep(home: Home, name: str, steps: Steps) -> None:
    """Keep steps under a name, in place of what was called so."""
    home.colours.mkdir(parents=True, exist_ok=True)
    write_atomically(_kept_file(home, name), as_text(steps).encode())


def forget(home: Home, name: str) -> None:
    """Keep steps no longer; NotFoundError where there are none of that name."""
    file = _kept_file(home, name)
    if not file.is_file():
        raise NotFoundError(f"No colour steps are called '{name}'.")
    file.unlink()


def _kept_file(home: Home, name: str) -> Path:
    if not _NAME.fullmatch(name):
        raise FormatError(
            f"Colour steps cannot be called '{name}'.", expected="letters, digits, spaces and hyphens"
        )
    return home.colours / f"{name}.yaml"


def as_text(steps: Steps) -> str:
    """Steps as the YAML that ``brae recolour`` takes: a line for each."""
    data = steps.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    head = yaml.safe_dump({"title": steps.title}, allow_unicode=True, width=1000) if steps.title else ""
    lines = [
        yaml.safe_dump(step, default_flow_style=True, sort_keys=False, allow_unicode=True, width=1000)
        for step in data["steps"]
    ]
    return f"{head}steps:\n" + "".join(f"  - {line}" for line in lines)


def from_text(text: str) -> Steps:
    """Steps that somebody wrote; LayoutError with the line where something is wrong."""
    return parse_as(Steps, text, "colour steps")
