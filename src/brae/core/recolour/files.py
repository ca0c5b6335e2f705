"""Steps on whole items: the picture out, through the steps, and back like the original."""

from __future__ import annotations

from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np

from brae.core.assets.base import AssetKind, Context, ExchangeFile, Version
from brae.core.assets.palette.palette import came
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.texture.files import read_image, write_image
from brae.core.errors import FormatError, NotFoundError
from brae.core.layouts.load import load_as
from brae.core.recolour.space import Floats
from brae.core.recolour.steps import Load, Steps, apply

#: pixels that are worked on at once, where each depends on itself alone
_BAND = 1 << 20


def steps_in(path: Path) -> Steps:
    """The steps of a YAML file. Raises LayoutError with the line where something is wrong."""
    return load_as(Steps, path)


def beside(path: Path) -> Load:
    """The pictures that steps name, from the folder of their file; each read once."""
    known: dict[str, Floats] = {}

    def load(name: str) -> Floats:
        if name not in known:
            file = path.parent / name
            if not file.is_file():
                raise NotFoundError(f"There is no picture {name} beside the steps.", address=str(path))
            known[name] = numbers(as_picture(file.read_bytes(), name))
        return known[name]

    return load


def as_picture(data: bytes, name: str) -> np.ndarray[Any, Any]:
    """A picture that steps name; a palette (``.pal``, ``.txt``) as one with a pixel for each entry."""
    if name.lower().endswith((".pal", ".txt")):
        colours = came(data, name, 256).colours[None]
        return np.dstack([colours, np.full(colours.shape[:2], 255, np.uint8)])
    return read_image(data, name).picture


def numbers(picture: np.ndarray[Any, Any]) -> Floats:
    """A picture of 8 or 16 bits as numbers of 0 to 1; FormatError for light, which has no largest number."""
    if picture.dtype.kind == "f":
        raise FormatError("Colour steps work on colours of 8 and 16 bits; this picture holds light (HDR).")
    return np.asarray(picture / np.float32(np.iinfo(picture.dtype).max), np.float32)


def recoloured(kind: AssetKind[Any], data: bytes, context: Context, changer: Changer) -> tuple[bytes, MatchSheet]:
    """An item with its colours changed, encoded like it was; and what that made of it.

    What the steps do not reach keeps its bytes, where the kind keeps them. Raises FormatError for items without a
    picture of 8 or 16 bits.
    """
    asset = kind.read(data, context)
    sent = kind.send(asset)
    if not kind.pictured:
        raise FormatError(f"{kind.titles} have no colours.")
    read = read_image(sent.data, sent.name)
    picture = changer.changed(read.picture)
    file = ExchangeFile(f"recoloured{sent.suffix}", write_image(picture, sent.suffix[1:], alpha=read.has_alpha))
    sheet, made = kind.match(asset, Version(file), kind.recipe(asset).model_dump())
    return made.data, sheet


class Changer:
    """The same steps on one picture after the other, in several threads if need be.

    Where only a pixel's colour counts, each of the 8-bit colours is worked out once, however many pictures have it.
    """

    def __init__(self, steps: Steps, load: Load) -> None:
        self._steps, self._load = steps, load
        self._known: np.ndarray[Any, np.dtype[np.uint32]] | None = None
        self._lock = Lock()

    def changed(self, before: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        """A picture, (height, width, 4) of 8 or 16 bits, after all steps. FormatError for light (HDR)."""
        if before.dtype == np.uint8 and self._steps.by_colour and before.size:
            return self._looked_up(np.ascontiguousarray(before))
        return changed(before, self._steps, self._load)

    def _looked_up(self, before: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        from brae.core.recolour.kernels import look_up, missing_in

        pixels = before.reshape(-1, 4).view(np.uint32)[:, 0]
        made = np.empty_like(pixels)
        with self._lock:
            if self._known is None:
                self._known = np.zeros(1 << 24, np.uint32)
        known = self._known
        if look_up(pixels, known, made):
            keys = np.empty(len(pixels), np.uint32)
            # Two threads may work out the same colour: both come to the same.
            keys = np.unique(keys[: missing_in(pixels, known, keys)])
            for start in range(0, len(keys), _BAND):
                some = keys[start : start + _BAND]
                known[some] = self._worked_out(some)
            look_up(pixels, known, made)
        return made.view(np.uint8).reshape(before.shape)

    def _worked_out(self, keys: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        colours = np.stack([keys & 255, keys >> 8 & 255, keys >> 16, keys * 0 + 255], axis=-1)
        after = apply(self._steps, (colours[None] / np.float32(255)).astype(np.float32), self._load)[0]
        new = np.round(np.clip(after[:, :3], 0, 1) * 255).astype(np.uint32)
        return np.asarray(1 << 24 | new[:, 2] << 16 | new[:, 1] << 8 | new[:, 0], np.uint32)


def changed(before: np.ndarray[Any, Any], steps: Steps, load: Load) -> np.ndarray[Any, Any]:
    """One picture after all steps; of a large one in bands, as numbers take four times the memory."""
    result = before.copy()
    most = np.iinfo(before.dtype).max if before.dtype.kind != "f" else 1
    rows = max(_BAND // max(before.shape[1], 1), 1) if steps.local else len(before)
    for top in range(0, len(before), rows):
        band = np.s_[top : top + rows]
        after = apply(steps, numbers(before[band]), load)
        result[band][..., :3] = np.round(np.clip(after[..., :3], 0, 1) * most)
    return result
