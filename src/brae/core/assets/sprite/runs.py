"""Frames that are stored run by run, as a layout describes it: to pixels, and back."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from brae.core.assets.sprite import kernels
from brae.core.errors import FormatError, TruncatedError
from brae.core.layouts.frames import Code, Runs

Raw = np.ndarray[Any, np.dtype[np.uint8]]
Mask = np.ndarray[Any, np.dtype[np.bool_]]
_WIDTHS = {None: 0, "u8": 1, "u16": 2, "u32": 4}
#: runs without a number behind their code are at most so long
_MOST = 1023
_WRONG = {
    kernels.SHORT: "ends within a run",
    kernels.UNKNOWN: "has a code that the layout does not say",
    kernels.BEYOND: "has a run that goes beyond its edge",
}


def _does(code: Code) -> int:
    if code.end is not None:
        return kernels.END_ROW if code.end == "row" else kernels.END_FRAME
    return kernels.SKIP if code.skip is not None else kernels.COPY if code.copy_ is not None else kernels.FILL


@dataclass(frozen=True)
class Coding:
    """The codes of a layout as tables, for the kernels."""

    runs: Runs
    form: np.ndarray[Any, Any]
    best: np.ndarray[Any, Any]
    far: np.ndarray[Any, Any]
    end_row: int
    end_frame: int

    @classmethod
    def of(cls, runs: Runs) -> Coding:
        """The tables of these codes."""
        return _coding(runs.model_dump_json(by_alias=True))

    def decode(self, data: Raw, start: int, rows: int, columns: int, step: int, big: bool) -> tuple[Raw, Mask, int]:
        """A frame's pixels (rows, columns, bytes), which of them are drawn, and where its data end.

        Raises TruncatedError or FormatError with the place where the runs go wrong.
        """
        out, drawn = np.zeros(rows * columns * step, np.uint8), np.zeros(rows * columns, np.bool_)
        runs = self.runs
        ends = self.end_row >= 0 if runs.by_rows else self.end_frame >= 0
        if rows and columns:
            at, wrong = kernels.decode(
                data, start, rows, columns, self.form, big, step, runs.by_rows, ends, _WIDTHS[runs.row_length],
                runs.row_length_counts, _WIDTHS[runs.row_offsets], out, drawn,
            )  # fmt: skip
        else:
            at, wrong = start, 0
        if wrong:
            error = TruncatedError if wrong == kernels.SHORT else FormatError
            raise error(f"The frame {_WRONG[wrong]}.", offset=int(at))
        return out.reshape(rows, columns, step), drawn.reshape(rows, columns), int(at)

    def encode(self, pixels: Raw, drawn: Mask, big: bool) -> bytes:
        """The inverse; pixels that are not drawn take a code where there is one. FormatError where none fits."""
        rows, columns, step = pixels.shape
        if not rows or not columns:
            return b""
        if not self.runs.by_rows:
            made = self._row(pixels.reshape(-1, step), drawn.reshape(-1), big, self.end_frame < 0)
            return made + (bytes([self.end_frame]) if self.end_frame >= 0 else b"")
        order: Any = "big" if big else "little"
        trailing = self.end_row < 0
        made_rows = []
        for y in range(rows):
            row = self._row(pixels[y], drawn[y], big, trailing)
            made_rows.append(row if trailing else row + bytes([self.end_row]))
        width = _WIDTHS[self.runs.row_length]
        if width:
            own = width if self.runs.row_length_counts else 0
            return b"".join((_fits(len(row) + own, width)).to_bytes(width, order) + row for row in made_rows)
        width = _WIDTHS[self.runs.row_offsets]
        if not width:
            return b"".join(made_rows)
        places, at = [], width * rows
        for row in made_rows:
            places.append(_fits(at, width).to_bytes(width, order))
            at += len(row)
        return b"".join(places) + b"".join(made_rows)

    def _row(self, pixels: Raw, drawn: Mask, big: bool, trailing: bool) -> bytes:
        out = np.empty(len(pixels) * (pixels.shape[1] + 4) + 8, np.uint8)
        size = kernels.encode(
            np.ascontiguousarray(pixels), np.ascontiguousarray(drawn), self.best, self.far, big, trailing, out
        )
        if size < 0:
            raise FormatError("No code of this layout can say so few pixels as they are.")
        return out[:size].tobytes()


def _fits(number: int, width: int) -> int:
    if number >= 1 << 8 * width:
        raise FormatError(
            f"A row of the frame takes {number:,} bytes, and its length has {width} bytes.",
            remedy="Use fewer different colours in a row, or a smaller frame.",
        )
    return number


@lru_cache(maxsize=64)
def _coding(text: str) -> Coding:
    runs = Runs.model_validate_json(text)
    form = np.zeros((256, 4), np.int64)
    form[:, 0] = -1
    best = np.zeros((3, 2, _MOST + 1), np.int64)
    far = np.full((3, 4), -1, np.int64)
    ends = {kernels.END_ROW: -1, kernels.END_FRAME: -1}
    for one in runs.codes:
        what = _does(one)
        behind = _WIDTHS[one.next]
        for code in range(one.first, one.last + 1):
            start = one.pixels(code)
            counts = one.pixels(code, 1) - start
            form[code] = (what, start, counts, behind)
            if what in ends:
                ends[what] = code if ends[what] < 0 else ends[what]
            elif behind and counts:
                far[what] = (code, start, (1 << 8 * behind) - 1, behind)
            elif not behind and 0 < start <= _MOST and not best[what, 1, start]:
                best[what, 0, start], best[what, 1, start] = start, code
    for what in range(3):
        np.maximum.accumulate(best[what, 0], out=best[what, 0])
    return Coding(runs, form, best, far, ends[kernels.END_ROW], ends[kernels.END_FRAME])
