"""What differs between an edit and its original, what the game would do, and what puts it right."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from PIL import Image

from brae.core.assets.sheet import Finding, Remedy
from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Indexed, Picture, Stored
from brae.core.assets.texture.images import PACKED_TYPES, ImageFile
from brae.core.assets.texture.remedies import REMEDIES, RemedyId, filled_white
from brae.core.assets.texture.texture import Recipe, TextureFile, alpha_use

#: a side beyond which few games of any age go (common practice, no source)
_LARGE_SIDE = 4096
_SRGB_GAMMA = 1 / 2.2
_DEPTH_WORDS = {"16": "16 bits a channel", "float": "brightness beyond white"}


@dataclass
class Compared:
    """An edit beside its original, with what several findings ask for."""

    image: ImageFile
    original: TextureFile
    recipe: Recipe
    remedies: Sequence[str]
    name: str = ""
    #: bytes of what was encoded; None where it is not known yet
    size: int | None = None

    @cached_property
    def picture(self) -> Picture:
        """The edit, 8 bits a channel."""
        return formats.shown(self.image.picture)

    @cached_property
    def before(self) -> Picture:
        """The original, 8 bits a channel."""
        return self.original.shown()

    @property
    def same_sides(self) -> bool:
        """Whether they can be compared pixel by pixel."""
        return self.picture.shape == self.before.shape

    def remedy(self, remedy: RemedyId) -> Remedy:
        """A remedy, and whether it is applied."""
        return Remedy(id=remedy, label=REMEDIES[remedy], applied=remedy in self.remedies)


def is_power_of_two(side: int) -> bool:
    """Whether a side is 1, 2, 4, 8 ..."""
    return side & (side - 1) == 0


def find(edit: Compared) -> list[Finding]:
    """Every finding of an edit, with the remedies that are applied already."""
    return [finding for rule in _RULES for finding in rule(edit)]


def _sides(edit: Compared) -> Iterator[Finding]:
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
        in_game="Many games refuse a texture of other sides, or draw it shifted.",
        remedy=edit.remedy("resize"),
    )
    if "resize" in edit.remedies or head.pictures() > 1:
        return
    powers = is_power_of_two(recipe.width) and is_power_of_two(recipe.height)
    if powers and not (is_power_of_two(width) and is_power_of_two(height)):
        yield Finding(
            id="power-of-two",
            severity="stops",
            title="The sides are not powers of two, the original's are",
            in_game="Graphics hardware may refuse it or leave out its mip levels.",
            remedy=edit.remedy("resize"),
        )
    rows, columns = head.format.block
    if (width % columns or height % rows) and not (recipe.width % columns or recipe.height % rows):
        yield Finding(
            id="block-sides",
            severity="shows",
            title=f"The sides are no multiple of {columns}, as {head.format.title} packs blocks of that side",
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


def _encoding(edit: Compared) -> Iterator[Finding]:
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


def _alpha(edit: Compared) -> Iterator[Finding]:
    now, recipe = alpha_use(edit.picture[..., 3]), edit.recipe
    pixel_format = edit.original.header.format
    if recipe.alpha != "none" and now == "none":
        white = filled_white(edit.picture, edit.before)
        yield Finding(
            id="alpha-filled" if white else "alpha-lost",
            severity="shows",
            title="The clear areas came back filled with white" if white else "The transparency is gone",
            in_game="A box shows around the picture.",
            remedy=edit.remedy("restore-alpha"),
        )
    elif recipe.alpha == "none" and now != "none":
        yield Finding(
            id="alpha-gained",
            severity="shows",
            title="The edit is partly transparent, the original is opaque",
            in_game="The game may ignore it, or show holes."
            if pixel_format.alpha != "none"
            else "This pixel format holds no transparency: clear areas show their colour.",
            remedy=edit.remedy("make-opaque"),
        )
    elif now == "full" and pixel_format.alpha == "binary":
        yield Finding(
            id="alpha-soft",
            severity="shows",
            title=f"{pixel_format.title} holds only clear or opaque pixels",
            in_game="Soft edges become hard.",
            remedy=edit.remedy("restore-alpha") if recipe.alpha == "binary" else None,
        )


def _hidden_colour(edit: Compared) -> Iterator[Finding]:
    """Editors wipe the colour of clear pixels; games that filter it show a rim."""
    if not edit.same_sides or "restore-alpha" in edit.remedies:
        return
    hidden = (edit.picture[..., 3] == 0) & (edit.before[..., 3] == 0)
    if hidden.sum() < 16:
        return
    now, before = edit.picture[hidden][:, :3], edit.before[hidden][:, :3]
    wiped = (now == now[0]).all() and bool((before != before[0]).any())
    if wiped and np.abs(now.astype(int) - before).mean() > 2:
        yield Finding(
            id="hidden-colour",
            severity="shows",
            title="The colour under clear pixels is gone",
            in_game="A dark or light rim may show at soft edges, where the game mixes neighbouring pixels.",
            remedy=edit.remedy("restore-hidden"),
        )


def _premultiplied(edit: Compared) -> Iterator[Finding]:
    if edit.original.header.premultiplied:
        return

    def looks_multiplied(picture: Picture) -> bool:
        soft = (picture[..., 3] > 0) & (picture[..., 3] < 250)
        if soft.sum() < 64:
            return False
        part = picture[soft]
        bright = part[:, :3].max(axis=1).astype(int)
        return bool((bright <= part[:, 3].astype(int) + 1).mean() > 0.995 and bright.max() > 16)

    if looks_multiplied(edit.picture) and not looks_multiplied(edit.before) and edit.recipe.alpha == "full":
        yield Finding(
            id="premultiplied",
            severity="shows",
            title="The colour was multiplied by its alpha on the way",
            in_game="Soft edges get dark rims.",
            remedy=edit.remedy("unmultiply"),
        )


def _small(picture: Picture) -> np.ndarray:
    """A picture as 32 x 32 seen over black, for comparisons as a whole."""
    seen = picture[..., :3].astype(np.float32) * (picture[..., 3:] / 255)
    small = Image.fromarray(seen.astype(np.uint8)).resize((32, 32), Image.Resampling.BOX)
    return np.asarray(small).astype(np.float32)


def _direction(edit: Compared) -> Iterator[Finding]:
    """Turned upside down, or with channels exchanged: much nearer to the original the other way."""
    now, before = _small(edit.picture), _small(edit.before)
    straight = float(np.abs(now - before).mean())
    if straight <= 6:
        return
    if np.abs(now[::-1] - before).mean() < 0.4 * straight:
        yield Finding(
            id="orientation",
            severity="shows",
            title="It looks like the original upside down",
            in_game="It would be drawn upside down.",
            remedy=edit.remedy("flip"),
        )
    elif np.abs(now[..., ::-1] - before).mean() < 0.4 * straight:
        yield Finding(
            id="channels-swapped",
            severity="shows",
            title="Red and blue have changed places",
            in_game="The colours are wrong: what was warm is cold.",
            remedy=edit.remedy("swap-red-blue"),
        )


def _normals(edit: Compared) -> Iterator[Finding]:
    if edit.recipe.content != "normal":
        return
    directions = edit.picture[..., :3].astype(np.float32) / 127.5 - 1
    if edit.same_sides:
        green = edit.before[..., 1].astype(np.float32) - 127.5
        mine = edit.picture[..., 1].astype(np.float32) - 127.5
        strength = float((green**2).mean() * (mine**2).mean()) ** 0.5
        if strength > 4 and float((green * mine).mean()) < -0.6 * strength:
            yield Finding(
                id="green-direction",
                severity="shows",
                title="The green direction is the other way round than in the original",
                in_game="Light falls from below: bumps look like dents.",
                remedy=edit.remedy("flip-green"),
            )
    if "b" in edit.original.header.format.holds:
        length = np.sqrt((directions**2).sum(axis=2))
        off = float((np.abs(length - 1) > 0.1).mean())
        if off > 0.02:
            yield Finding(
                id="not-unit-length",
                severity="shows",
                title=f"{off:.0%} of the directions of this normal map are not one long",
                in_game="The light on it is too strong or too weak there.",
                remedy=edit.remedy("normalise"),
            )


def _packed_map(edit: Compared) -> Iterator[Finding]:
    """Channels that meant different things came back as one grey, or as a picture with a colour profile."""
    if len(edit.original.header.format.holds.replace("a", "")) < 3:
        return

    def grey(picture: Picture) -> bool:
        colour = picture[..., :3].astype(int)
        return bool(np.abs(colour[..., :1] - colour[..., 1:]).max() <= 2)

    if edit.recipe.content == "data" and grey(edit.picture) and not grey(edit.before):
        yield Finding(
            id="channels-merged",
            severity="shows",
            title="All channels came back alike, in the original each has its own meaning",
            in_game="Gloss, metal and shadow follow one another: it looks like paint.",
        )


def _colours(edit: Compared) -> Iterator[Finding]:
    """What the file says of its colours, and how finely it holds them."""
    image, depth = edit.image, edit.original.header.format.precision
    if image.profile:
        data = edit.recipe.content in ("data", "normal")
        yield Finding(
            id="colour-profile",
            severity="shows" if data else "note",
            title="The file has a colour profile, which games do not read",
            in_game="A map of numbers must not be converted: save it without a profile."
            if data
            else "Colours that lie outside sRGB look different in the game. Convert to sRGB when saving.",
        )
    if image.space is not None:
        yield Finding(
            id="colour-space",
            severity="shows",
            title=f"The file says that its colours are not sRGB: {image.space}",
            in_game="Games do not read that: colours look paler or stronger. Save it as sRGB.",
        )
    if image.gamma is not None and abs(image.gamma - _SRGB_GAMMA) > 0.01:
        yield Finding(
            id="gamma",
            severity="shows",
            title=f"The file says that its gamma is {image.gamma:.4g}, not {_SRGB_GAMMA:.4g}",
            in_game="Games do not read it: it looks brighter or darker than in the editor.",
        )
    if depth != "8" and image.bits == 8:
        yield Finding(
            id="depth-lost",
            severity="shows",
            title=f"The file has 8 bits a channel, the original holds {_DEPTH_WORDS[depth]}",
            in_game="Smooth surfaces show steps."
            if depth == "16"
            else "Lights lose their strength, and steps show.",
        )
    elif depth == "8" and image.bits > 8:
        yield Finding(
            id="depth",
            severity="note",
            title=f"{image.bits} bits a channel become 8",
            in_game="Nothing is lost that this pixel format could hold.",
        )


def _palette(edit: Compared) -> Iterator[Finding]:
    held = edit.original.header.format
    inner = held.inner if isinstance(held, Stored) else held
    if isinstance(inner, Indexed):
        codes = np.unique(np.ascontiguousarray(edit.picture).view("<u4"))
        known = np.ascontiguousarray(inner.palette).view("<u4").reshape(-1)
        new = int((~np.isin(codes, known)).sum())
        if new:
            yield Finding(
                id="outside-palette",
                severity="shows",
                title=f"{new:,} of {codes.size:,} colours are not in the palette of {len(inner.palette)}",
                in_game="Each becomes the nearest colour there is.",
            )
    elif edit.image.mode == "P":
        yield Finding(
            id="palette",
            severity="note",
            title="The picture has a palette of at most 256 colours",
            in_game="It is shown with those colours; save as true colour if there were more.",
        )


def _file(edit: Compared) -> Iterator[Finding]:
    image = edit.image
    if image.lossy is not None and edit.original.header.container not in ("webp", "tiff"):
        yield Finding(
            id="lossy-file",
            severity="shows",
            title=f"The file was packed with loss ({image.lossy})",
            in_game="What was lost shows. Save it without loss, or as PNG.",
        )
    if image.pictures > 1 and image.type not in ("dds", "ktx2"):
        more = image.pictures - 1
        yield Finding(
            id="more-pictures",
            severity="shows",
            title=f"The file holds {more:,} more {'picture' if more == 1 else 'pictures'}; the first one is taken",
            in_game="Layers, pages or frames that lie behind the first are not in the game.",
        )
    if image.type in ("jpeg", "gif"):
        lost = "fine detail and all transparency" if image.type == "jpeg" else "all but 256 colours and soft edges"
        yield Finding(
            id="file-type",
            severity="shows",
            title=f"{image.type.upper()} files lose {lost}",
            in_game="The loss is visible. Save as PNG instead.",
        )
    suffix = edit.name.rpartition(".")[2].lower()
    names = {"jpg": "jpeg", "tif": "tiff"}
    if "." in edit.name and names.get(suffix, suffix) != image.type:
        yield Finding(
            id="file-name",
            severity="note",
            title=f"The name ends in .{suffix}, the file is a {image.type.upper()}",
            in_game="Brae goes by what is in the file.",
        )


def _appended(edit: Compared) -> Iterator[Finding]:
    """What an editor wrote behind the picture makes a file larger and says nothing."""
    if edit.image.appended:
        yield Finding(
            id="appended",
            severity="note",
            title=f"{edit.image.appended:,} bytes stand behind the picture in the file",
            in_game="Some editors append notes or a footer of their own. They are left out; the picture is whole.",
        )


def _size(edit: Compared) -> Iterator[Finding]:
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
        severity="shows" if resized or alike else "stops",
        title=f"{edit.size:,} bytes instead of {edit.recipe.size:,}",
        in_game="Some loaders accept only the very same size.",
        remedy=None if resized or alike else edit.remedy("resize"),
    )


#: the order in which they are told: what stops the game first
_RULES = (
    _sides, _encoding, _alpha, _hidden_colour, _premultiplied, _direction, _normals, _packed_map, _colours,
    _palette, _file, _appended, _size,
)  # fmt: skip
