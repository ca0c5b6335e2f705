"""In what order pixels lie, as a layout says it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field


class Tile(BaseModel):
    """A tile of what lies within it: single blocks, or the tile named before."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    columns: int = Field(ge=1, le=4096)
    rows: int = Field(ge=1, le=4096)
    order: Literal["rows", "columns"] = Field(
        "rows", description="what follows what: along a row, or down a column"
    )


class Storage(BaseModel):
    """In what order a level's pixels lie; sizes in blocks (pixels, where the format has none)."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    tiles: tuple[Tile, ...] = Field((), description="the smallest first; each counts in tiles of the one before")
    morton: Literal["x-first", "y-first"] | None = Field(
        None,
        description="bits of column and row interleaved, the lowest that of x (or of y); the longer side goes on",
    )
    pitch: int = Field(1, ge=1, le=65536, description="bytes of a row are a multiple of this")
    split: tuple[tuple[int, ...], ...] = Field(
        (), description="within the smallest tile: these bytes of all blocks first, then those, and so on"
    )
    align: int = Field(1, ge=1, le=1 << 20, description="bytes of a level are a multiple of this")

    @property
    def plain(self) -> bool:
        """Whether it is row by row and nothing more."""
        return not self.tiles and self.morton is None and self.pitch == 1 and self.align == 1

    @property
    def words(self) -> str:
        """A few words for a person."""
        if self.morton:
            return "Morton order"
        if self.tiles:
            return "tiles of " + " of ".join(f"{tile.columns} x {tile.rows}" for tile in self.tiles)
        return f"rows of a multiple of {self.pitch} bytes" if self.pitch > 1 else "padded levels"
