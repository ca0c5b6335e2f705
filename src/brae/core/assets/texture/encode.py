"""Encoding a picture like its original, or anew."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from brae.core.addresses import split_stretch
from brae.core.assets.texture import formats, mips
from brae.core.assets.texture.files import write_texture
from brae.core.assets.texture.formats import How, Picture, PixelFormat, Stored
from brae.core.assets.texture.mips import MipRule
from brae.core.assets.texture.texture import OPAQUE, Header, Recipe, TextureFile, with_sides
from brae.core.errors import FormatError, LimitError


@dataclass(frozen=True)
class Encoded:
    """A texture file made from a picture."""

    data: bytes
    #: blocks (or pixels, where the format has no blocks) that kept the original's bytes, and all of them
    kept: int
    blocks: int
    #: what other files of the game hold of it, by their names
    elsewhere: dict[str, bytes] = field(default_factory=dict)


def split_sheet(picture: Picture, header: Header) -> list[Picture]:
    """The pictures that stand one below the other; FormatError where the height does not divide."""
    count = header.pictures()
    height = picture.shape[0]
    if height % count:
        raise FormatError(
            f"The picture holds {count} pictures one below the other, but its height of {height} does not divide.",
            expected=f"{header.width} x {header.height * count} pixels",
        )
    return [picture[height // count * index : height // count * (index + 1)] for index in range(count)]


def _levels_of(picture: Picture, header: Header, rule: MipRule) -> list[list[Picture]]:
    """All pictures of each level, rows as stored."""
    pictures = split_sheet(picture, header)
    if header.orientation == "bottom-up":
        pictures = [one[::-1] for one in pictures]
    pictures = [np.ascontiguousarray(one) for one in pictures]
    if rule.content == "normal" and header.format.holds == "rg":
        pictures = [mips.with_third(one) for one in pictures]
    if header.shape != "volume":
        chains = [mips.make_levels(one, header.levels, rule) for one in pictures]
        return [list(level) for level in zip(*chains, strict=True)]
    levels = [pictures]
    for _ in range(1, header.levels):
        smaller = [mips.make_levels(one, 2, rule)[-1] for one in levels[-1]]
        levels.append(mips.halve_depth(smaller, rule))
    return levels


def encode_levels(
    picture: Picture,
    header: Header,
    how: How = formats.DEFAULT,
    rule: MipRule = mips.PLAIN,
    *,
    original: TextureFile | None = None,
    replaced: dict[int, Picture] | None = None,
) -> tuple[list[bytes], int, int]:
    """All levels of a picture as the header says, and how many blocks were kept, of how many.

    Blocks in which neither the picture nor the level made from it differs from what the original shows keep the
    original's bytes: an edit costs nothing where nothing was painted, and what comes back untouched is equal to
    the byte. ``replaced``: levels that a person made by hand.
    """
    pixel_format = header.format
    picture = formats.as_precision(picture, pixel_format.precision)
    levels = _levels_of(picture, header, rule)
    # Levels that the file has no room for any more wait until it has.
    replaced = {level: own for level, own in (replaced or {}).items() if level < len(levels)}
    for level, own in replaced.items():
        levels[level] = _own_level(own, header, level)
    before = None
    if original is not None and _comparable(original.header, header):
        # What the same rule makes of the original tells where an edit reaches, whatever made its own levels.
        shown = original.picture()
        before = None if shown.shape != picture.shape else _levels_of(shown, header, rule)
    data, kept, blocks = [], 0, 0
    for level, pictures in enumerate(levels):
        parts = []
        for index, pixels in enumerate(pictures):
            rows, columns = formats.blocks_of(pixel_format, pixels.shape[1], pixels.shape[0])
            blocks += rows * columns
            asked = how
            if before is not None and original is not None and level < len(original.levels):
                old = before[level][index]
                if level in replaced:
                    old = _stored_picture(original, level, index)
                changed = mips.reduce_blocks(_differ(old, pixels), pixel_format.block)
                size = pixel_format.size(pixels.shape[1], pixels.shape[0])
                asked = how.keeping(original.levels[level][size * index : size * (index + 1)], changed)
                kept += int(changed.size - np.count_nonzero(changed))
            parts.append(pixel_format.encode(pixels, asked))
        data.append(b"".join(parts))
    return data, kept, blocks


def _differ(a: Picture, b: Picture) -> np.ndarray:
    if a.dtype == np.uint8:
        # Pixels as numbers: a quarter of the memory.
        one, other = (np.ascontiguousarray(each).view("<u4")[..., 0] for each in (a, b))
        return np.asarray(one != other)
    different = a != b
    if a.dtype == np.float32:
        different &= ~(np.isnan(a) & np.isnan(b))
    result: np.ndarray = different.any(axis=2)
    return result


def _comparable(a: Header, b: Header) -> bool:
    """Whether blocks of one can stand in the other."""
    same = (a.width, a.height, a.shape, a.surfaces, a.depth) == (b.width, b.height, b.shape, b.surfaces, b.depth)
    return same and a.format is b.format and a.orientation == b.orientation


def _stored_picture(original: TextureFile, level: int, index: int) -> Picture:
    sides = original.header.sides(level)
    size = original.header.format.size(*sides)
    return original.header.format.decode(original.levels[level][size * index : size * (index + 1)], *sides)


def _own_level(own: Picture, header: Header, level: int) -> list[Picture]:
    """A level made by hand, as pictures with rows as stored."""
    width, height = header.sides(level)
    count = header.pictures(level)
    if own.shape[:2] != (height * count, width):
        raise LimitError(
            f"Level {level} is {own.shape[1]} x {own.shape[0]} pixels.", expected=f"{width} x {height * count}"
        )
    own = formats.as_precision(own, header.format.precision)
    parts = [own[height * index : height * (index + 1)] for index in range(count)]
    return [np.ascontiguousarray(part[::-1] if header.orientation == "bottom-up" else part) for part in parts]


def like(pixel_format: PixelFormat, name: str) -> PixelFormat:
    """The format of that name, in the same order of blocks."""
    if pixel_format.name == name:
        return pixel_format
    return (
        formats.stored(formats.get(name), pixel_format.storage)
        if isinstance(pixel_format, Stored)
        else formats.get(name)
    )


def rule_of(recipe: Recipe) -> MipRule:
    """How a recipe's levels are made."""
    return MipRule(recipe.content, recipe.filter, recipe.wrap, recipe.linear)


def _unseen_alpha_kept(picture: Picture, original: TextureFile, recipe: Recipe) -> Picture:
    """A picture with the original's alpha where both look opaque: 254 for 255 is no change, and costs no block."""
    if recipe.alpha != "none" or picture.dtype != np.uint8 or original.header.format.alpha == "none":
        return picture
    before = original.picture()
    if before.shape != picture.shape or before.dtype != np.uint8 or bool((before[..., 3] == 255).all()):
        return picture
    unseen = np.minimum(before[..., 3], picture[..., 3]) >= OPAQUE
    result = picture.copy()
    result[..., 3] = np.where(unseen, before[..., 3], picture[..., 3])
    return result


def encode_like(
    picture: Picture, original: TextureFile, recipe: Recipe, *, replaced: dict[int, Picture] | None = None
) -> Encoded:
    """A picture as a file like its original: pixel format, levels, orientation, header.

    ``recipe.levels`` is kept where the sides are; a picture of other sides that had a full chain gets one.
    """
    before = original.header
    picture = _unseen_alpha_kept(picture, original, recipe)
    height, width = picture.shape[0] // before.pictures(), picture.shape[1]
    count = recipe.levels
    if count == formats.full_chain(recipe.width, recipe.height):
        count = formats.full_chain(width, height) if count > 1 else 1
    count = min(count, formats.full_chain(max(width, before.depth), height))
    header = replace(with_sides(before, width, height, count), format=like(before.format, recipe.format))
    how = How(clear=recipe.alpha != "none", effort=recipe.effort, perceptual=recipe.perceptual)
    levels, kept, blocks = encode_levels(
        picture, header, how, rule_of(recipe), original=original, replaced=replaced
    )
    elsewhere = original.divide(header, levels) if original.divide is not None else {}
    gone = sorted(original.elsewhere.keys() - elsewhere.keys())
    if gone or elsewhere.keys() - original.elsewhere.keys():
        if any(split_stretch(name)[1] is not None for name in gone):
            raise FormatError(
                "Its larger levels lie in a file with those of others, and would need more or fewer bytes there.",
                expected=f"{before.format.title}, {before.width} x {before.height}, {before.levels} levels",
                remedy="Keep its sides, its pixel format and its levels.",
            )
        raise FormatError(
            "With so many levels the texture would lie in other files than now, and none are made or taken away.",
            expected=f"{before.levels} levels",
        )
    return Encoded(original.rewrite(header, levels), kept, blocks, elsewhere)


def encode_new(
    picture: Picture,
    pixel_format: PixelFormat,
    levels: int | None,
    *,
    container: str = "dds",
    dx10: bool = False,
    scheme: str = "none",
    how: How = formats.DEFAULT,
    rule: MipRule = mips.PLAIN,
    srgb: bool = False,
) -> bytes:
    """A DDS or KTX2 file; ``levels`` None makes the full chain, ``srgb`` says so in the header where it can."""
    height, width = picture.shape[:2]
    formats.check_size(width, height)
    longest = formats.full_chain(width, height)
    count = longest if levels is None else levels
    if not 1 <= count <= longest:
        raise LimitError(f"{width} x {height} pixels cannot have {count} levels.", expected=f"1 to {longest}")
    header = Header(container, pixel_format, width, height, count, colour="srgb" if srgb else None)
    data, _, _ = encode_levels(picture, header, how, rule)
    return write_texture(header, data, dx10=dx10, scheme=scheme)
