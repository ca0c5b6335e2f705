"""Where the frames of a sheet lie: a grid of cells, or rectangles from a JSON file."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from PIL import Image
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from brae.core.errors import FormatError, NotFoundError, storage_error

Picture = np.ndarray[Any, np.dtype[np.uint8]]
#: frames of one sheet
MOST = 10_000
_LAST_NUMBER = re.compile(r"(\d{1,6})\D*$")
_CELL = re.compile(r"(\d{1,5})x(\d{1,5})")
#: milliseconds of a frame that says none
USUAL = 100


@dataclass(frozen=True)
class Frame:
    """A rectangle of a sheet in pixels, and how long it is shown in milliseconds."""

    x: int
    y: int
    width: int
    height: int
    ms: int = USUAL

    def of(self, sheet: Picture) -> Picture:
        """The frame's pixels."""
        return sheet[self.y : self.y + self.height, self.x : self.x + self.width]


class _Rectangle(BaseModel):
    model_config = ConfigDict(extra="forbid")
    x: Annotated[int, Field(ge=0)]
    y: Annotated[int, Field(ge=0)]
    width: Annotated[int, Field(ge=1)]
    height: Annotated[int, Field(ge=1)]
    ms: Annotated[int, Field(ge=1, le=655_350)] = USUAL


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frames: list[_Rectangle] = Field(min_length=1, max_length=MOST)


def grid(sheet: Picture, cell: str) -> list[Frame]:
    """The cells of a sheet, row by row; those that are wholly clear at its end are left out.

    ``cell``: such as 32x48. Raises FormatError where the sheet is no whole number of them.
    """
    found = _CELL.fullmatch(cell)
    width, height = (int(found[1]), int(found[2])) if found is not None else (0, 0)
    if not width or not height:
        raise FormatError(f"'{cell}' is no size of a cell.", expected="width and height, such as 32x48")
    if sheet.shape[1] % width or sheet.shape[0] % height:
        raise FormatError(
            f"A sheet of {sheet.shape[1]} x {sheet.shape[0]} pixels is no whole number of cells of {cell}.",
            remedy="Say the rectangles in a file, with --frames.",
        )
    columns, rows = sheet.shape[1] // width, sheet.shape[0] // height
    if columns * rows > MOST:
        raise FormatError(f"A sheet of {columns * rows:,} frames is too many.", expected=f"at most {MOST:,}")
    frames = [Frame(x * width, y * height, width, height) for y in range(rows) for x in range(columns)]
    while len(frames) > 1 and not frames[-1].of(sheet)[..., 3].any():
        frames.pop()
    return frames


def listed(path: Path, sheet: Picture) -> list[Frame]:
    """The rectangles of a JSON file: ``{"frames": [{"x", "y", "width", "height", "ms"}]}``.

    Raises FormatError where one lies outside the sheet, or the file is none.
    """
    try:
        said = _File.model_validate(json.loads(path.read_text(encoding="utf-8")))
    except OSError as error:
        raise storage_error(error, "read", path) from error
    except (ValueError, ValidationError) as error:
        first = error.errors()[0] if isinstance(error, ValidationError) else {"loc": (), "msg": str(error)}
        where = ".".join(map(str, first["loc"]))
        raise FormatError(f"{where}: {first['msg']}" if where else str(first["msg"]), address=str(path)) from None
    for number, one in enumerate(said.frames):
        if one.x + one.width > sheet.shape[1] or one.y + one.height > sheet.shape[0]:
            raise FormatError(
                f"Frame {number} ends outside the sheet of {sheet.shape[1]} x {sheet.shape[0]} pixels.",
                address=str(path),
            )
    return [Frame(one.x, one.y, one.width, one.height, one.ms) for one in said.frames]


def numbered(folder: Path) -> dict[int, Picture]:
    """The pictures of a folder by the last number in their names, uint8 (height, width, 4).

    Raises NotFoundError where there are none, FormatError where two have the same number or one cannot be read.
    """
    found: dict[int, Picture] = {}
    for file in sorted(folder.iterdir()):
        number = _LAST_NUMBER.search(file.stem)
        if file.suffix.lower() != ".png" or number is None or not file.is_file():
            continue
        if int(number[1]) in found:
            raise FormatError(f"Two pictures have the number {int(number[1])}.", address=str(file))
        if len(found) >= MOST:
            raise FormatError("There are too many pictures.", address=str(folder), expected=f"at most {MOST:,}")
        try:
            found[int(number[1])] = np.asarray(Image.open(file).convert("RGBA"))
        except (OSError, SyntaxError, ValueError) as error:
            raise FormatError(f"The picture cannot be read ({error}).", address=str(file)) from error
    if not found:
        raise NotFoundError("There are no numbered PNGs.", address=str(folder), expected="0000.png and so on")
    return found


def put_back(sheet: Picture, frames: Sequence[Frame], pictures: Mapping[int, Picture]) -> Picture:
    """A sheet with numbered frames in their places; FormatError where one has other sides, or is none of them."""
    result = sheet.copy()
    for number, picture in pictures.items():
        if number >= len(frames):
            raise FormatError(f"There is no frame {number}.", expected=f"0 to {len(frames) - 1}")
        place = frames[number]
        if picture.shape[:2] != (place.height, place.width):
            raise FormatError(
                f"Frame {number} has {picture.shape[1]} x {picture.shape[0]} pixels.",
                expected=f"{place.width} x {place.height}",
            )
        place.of(result)[...] = picture
    return result


def same_size(frames: Sequence[Frame], sheet: Picture) -> list[Picture]:
    """All frames on a canvas of the largest, from its top left corner; a moving file has one size."""
    width, height = max(one.width for one in frames), max(one.height for one in frames)
    canvases = []
    for one in frames:
        canvas = np.zeros((height, width, 4), np.uint8)
        canvas[: one.height, : one.width] = one.of(sheet)
        canvases.append(canvas)
    return canvases
