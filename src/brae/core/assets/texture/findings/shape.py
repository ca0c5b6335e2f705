"""Findings of sides, pixel format, levels and bytes: what a loader counts."""

from __future__ import annotations

from collections.abc import Iterator

from brae.core.assets.sheet import Finding, Remedy
from brae.core.assets.texture import formats
from brae.core.assets.texture.findings.compared import Compared
from brae.core.assets.texture.images import PACKED_TYPES

#: a side beyond which few games of any age go (common practice, no source)
_LARGE_SIDE = 4096


def is_power_of_two(side: int) -> bool:
    """Whether a side is 1, 2, 4, 8 ..."""
    return side & (side - 1) == 0


def sides(edit: Compared) -> Iterator[Finding]:
    recipe, head = edit.recipe, edit.original.header
    height, width = edit.picture.shape[:2]
    sheet_width, sheet_height = head.sheet
    if (width, height) == (sheet_width, sheet_height):
        return
    pictures = f" ({head.pictures()} pictures of {head.width} x {head.height})" if head.pictures() > 1 else ""
    yield Finding(
        id="dimensions",
        severity="stops",
        title=f"{width} x {height} pixels instead of {sheet_width} x {sheet_height}{pictures}",
        in_game="Many games refuse a texture of other dimensions, or draw it shifted.",
        remedy=edit.remedy("resize"),
    )
    if "resize" in edit.remedies or head.pictures() > 1:
        return
    powers = is_power_of_two(recipe.width) and is_power_of_two(recipe.height)
    if powers and not (is_power_of_two(width) and is_power_of_two(height)):
        yield Finding(
            id="power-of-two",
            severity="stops",
            title="The dimensions are not powers of two, the original's are",
            in_game="Graphics hardware may refuse it or leave out its mip levels.",
            remedy=edit.remedy("resize"),
        )
    rows, columns = head.format.block
    if (width % columns or height % rows) and not (recipe.width % columns or recipe.height % rows):
        yield Finding(
            id="block-sides",
            severity="shows",
            title=f"The dimensions are no multiple of {columns}, as {head.format.title} packs blocks of that side",
            in_game="Some hardware refuses it; others repeat the last pixels at the edge.",
            remedy=edit.remedy("resize"),
        )
    if max(width, height) > max(_LARGE_SIDE, 4 * max(recipe.width, recipe.height)):
        yield Finding(
            id="large",
            severity="shows",
            title=f"A side of {max(width, height):,} pixels is more than the game can be expected to load",
            in_game="It may run out of memory, or shrink the picture by itself.",
            remedy=edit.remedy("resize"),
        )


def encoding(edit: Compared) -> Iterator[Finding]:
    """What the original's encoding asks for; Brae does it by itself, so nobody has to decide anything.

    It is told of files that could have had it, not of a PNG, which always holds one level of plain pixels.
    """
    title, image, recipe = edit.original.header.format.title, edit.image, edit.recipe
    encoded = image.type in ("dds", "ktx2")
    if encoded and image.mode != title:
        yield Finding(
            id="pixel-format",
            severity="note",
            title=f"The file's pixels are {image.mode}, the original's {title}",
            in_game="Many games refuse another pixel format.",
            remedy=Remedy(id="convert", label=f"Converted to {title}", applied=True, automatic=True),
        )
    if encoded and recipe.levels > 1 and image.levels != recipe.levels:
        have = "no mip levels" if image.levels == 1 else f"{image.levels} mip levels"
        yield Finding(
            id="mip-count",
            severity="note",
            title=f"The file has {have}, the original {recipe.levels}",
            in_game="The game may refuse it, or it flickers in the distance.",
            remedy=Remedy(
                id="make-mips", label=f"{recipe.levels} levels made from the picture", applied=True, automatic=True
            ),
        )
    if edit.original.missing:
        held = edit.original.header.levels
        yield Finding(
            id="chain-short",
            severity="note",
            title=f"The original says that it has {held + edit.original.missing} mip levels, and holds {held}",
            in_game="As many are made from the picture, and the header goes on saying what it says.",
        )
    if recipe.format != edit.original.header.format.name:
        yield Finding(
            id="other-format",
            severity="shows",
            title=f"Stored as {formats.get(recipe.format).title} by your choice, the original is {title}",
            in_game="Many games refuse another pixel format.",
        )
    before = edit.original.header.levels
    if recipe.levels != before:
        now = "no mip levels" if recipe.levels == 1 else f"{recipe.levels} levels"
        yield Finding(
            id="other-levels",
            severity="shows",
            title=f"Stored with {now} by your choice, the original has {before if before > 1 else 'none'}",
            in_game="The game may refuse it. Without levels it flickers in the distance.",
        )


def size(edit: Compared) -> Iterator[Finding]:
    if edit.size is None or edit.size == edit.recipe.size:
        return
    if edit.original.header.container in PACKED_TYPES:
        return  # such files have another size for every picture, and whoever loads them does not count
    if edit.original.appended and edit.size + edit.original.appended == edit.recipe.size:
        yield Finding(
            id="byte-size",
            severity="note",
            title=f"{edit.size:,} bytes instead of {edit.recipe.size:,}: only what an editor had appended is gone",
            in_game="Nothing of the picture is in those bytes. A loader that counts them would refuse it.",
        )
        return
    resized = "resize" in edit.remedies
    width, height = edit.original.header.sheet
    alike = edit.picture.shape[:2] == (height, width)
    yield Finding(
        id="byte-size",
        # It follows from other sides, and of those a person decides.
        severity="shows" if resized or alike else "note",
        title=f"{edit.size:,} bytes instead of {edit.recipe.size:,}",
        in_game="Some loaders accept only the very same size.",
    )
