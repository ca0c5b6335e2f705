"""Steps on whole items: the picture out, through the steps, and back like the original."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from brae.core.assets.base import AssetKind, Context, ExchangeFile, Version
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
            known[name] = numbers(read_image(file.read_bytes(), name).picture)
        return known[name]

    return load


def numbers(picture: np.ndarray[Any, Any]) -> Floats:
    """A picture of 8 or 16 bits as numbers of 0 to 1; FormatError for light, which has no largest number."""
    if picture.dtype.kind == "f":
        raise FormatError("Colour steps work on colours of 8 and 16 bits; this picture holds light (HDR).")
    return np.asarray(picture / np.float32(np.iinfo(picture.dtype).max), np.float32)


def recoloured(
    kind: AssetKind[Any], data: bytes, context: Context, steps: Steps, load: Load
) -> tuple[bytes, MatchSheet]:
    """An item with its colours changed, encoded like it was; and what that made of it.

    What the steps do not reach keeps its bytes, where the kind keeps them. Raises FormatError for items without a
    picture of 8 or 16 bits.
    """
    asset = kind.read(data, context)
    sent = kind.send(asset)
    if not kind.pictured:
        raise FormatError(f"{kind.titles} have no colours.")
    read = read_image(sent.data, sent.name)
    picture = changed(read.picture, steps, load)
    file = ExchangeFile(f"recoloured{sent.suffix}", write_image(picture, sent.suffix[1:], alpha=read.has_alpha))
    sheet, made = kind.match(asset, Version(file), kind.recipe(asset).model_dump())
    return made.data, sheet


def changed(before: np.ndarray[Any, Any], steps: Steps, load: Load) -> np.ndarray[Any, Any]:
    """The pixels after all steps; of a large picture in bands, as numbers take four times the memory."""
    result = before.copy()
    most = np.iinfo(before.dtype).max if before.dtype.kind != "f" else 1
    rows = max(_BAND // max(before.shape[1], 1), 1) if steps.local else len(before)
    for top in range(0, len(before), rows):
        band = np.s_[top : top + rows]
        after = apply(steps, numbers(before[band]), load)
        result[band][..., :3] = np.round(np.clip(after[..., :3], 0, 1) * most)
    return result
