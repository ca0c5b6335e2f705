"""The match of a texture."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from PIL import Image
from pydantic import BaseModel

from brae.core.textures import formats
from brae.core.textures.encode import encode_like
from brae.core.textures.files import ImageFile, Recipe, TextureFile
from brae.core.textures.formats import Picture

#: 'stops': the game would refuse or break; 'shows': it would look wrong; 'note': good to know
Severity = Literal["stops", "shows", "note"]
RemedyId = Literal["resize", "restore-alpha", "make-opaque", "flip", "convert", "make-mips"]

REMEDIES: dict[RemedyId, str] = {
    "resize": "Resize to the original's sides",
    "restore-alpha": "Take the transparency from the original",
    "make-opaque": "Make every pixel opaque",
    "flip": "Turn it upside down",
}


class Remedy(BaseModel):
    """What puts a finding right."""

    id: RemedyId
    label: str
    applied: bool
    #: always applied: encoding like the original is not a choice
    automatic: bool = False


class Finding(BaseModel):
    """A difference that matters, with what the game would do."""

    id: str
    severity: Severity
    title: str
    in_game: str
    remedy: Remedy | None = None

    @property
    def open(self) -> bool:
        """Whether it still stands."""
        return self.severity != "note" and not (self.remedy and self.remedy.applied)


class Property(BaseModel):
    """One line of the match sheet."""

    name: str
    original: str
    edit: str
    result: str
    same: bool


class MatchSheet(BaseModel):
    """The whole comparison."""

    properties: list[Property]
    findings: list[Finding]
    blocks_kept: int = 0
    blocks: int = 0
    #: peak signal-to-noise ratio of what is stored against what was painted, in dB; None where they are equal
    psnr: float | None = None

    @property
    def open_findings(self) -> list[Finding]:
        """Findings that still stand."""
        return [finding for finding in self.findings if finding.open]


def is_power_of_two(side: int) -> bool:
    """Whether a side is 1, 2, 4, 8 ..."""
    return side & (side - 1) == 0


def _alpha_use(alpha: np.ndarray) -> formats.Alpha:
    if alpha.min(initial=255) == 255:
        return "none"
    return "full" if bool(((alpha > 0) & (alpha < 255)).any()) else "binary"


_ALPHA_WORDS = {"none": "opaque", "binary": "clear or opaque", "full": "soft"}


def resize(picture: Picture, width: int, height: int) -> Picture:
    """Another size by a Lanczos filter; colour is weighted by alpha so that edges do not darken."""
    if picture.shape[:2] == (height, width):
        return picture
    alpha = picture[..., 3].astype(np.float32) / 255

    def channel(values: np.ndarray) -> np.ndarray:
        image = Image.fromarray(np.ascontiguousarray(values, np.float32), "F")
        return np.asarray(image.resize((width, height), Image.Resampling.LANCZOS))

    new_alpha = channel(alpha)
    result = np.empty((height, width, 4), np.uint8)
    for index in range(3):
        values = picture[..., index].astype(np.float32)
        weighted, plain = channel(values * alpha), channel(values)
        colour = np.where(new_alpha > 1 / 512, weighted / np.maximum(new_alpha, 1 / 512), plain)
        result[..., index] = np.rint(np.clip(colour, 0, 255))
    result[..., 3] = np.rint(np.clip(new_alpha * 255, 0, 255))
    return result


def _is_upside_down(picture: Picture, original: Picture) -> bool:
    """Whether the picture is far nearer to the original when it is turned."""

    def small(source: Picture) -> np.ndarray:
        shown = source[..., :3].astype(np.float32) * (source[..., 3:] / 255)
        image = Image.fromarray(shown.astype(np.uint8)).resize((32, 32), Image.Resampling.BOX)
        return np.asarray(image).astype(np.float32)

    a, b = small(picture), small(original)
    straight, turned = np.abs(a - b).mean(), np.abs(a[::-1] - b).mean()
    return bool(turned < 0.4 * straight and straight > 6)


def _filled_white(picture: Picture, before: Picture) -> bool:
    clear = before[..., 3] == 0
    if picture.shape != before.shape or not clear.any():
        return False
    here = picture[clear]
    return bool(((here[:, :3] >= 250).all(axis=1) & (here[:, 3] == 255)).mean() > 0.9)


def apply_remedies(picture: Picture, original: TextureFile, remedies: Sequence[str]) -> Picture:
    """The edit with its remedies applied, always in the same order."""
    before = original.picture()
    if "flip" in remedies:
        picture = picture[::-1]
    if "resize" in remedies:
        picture = resize(picture, original.header.width, original.header.height)
    if "restore-alpha" in remedies:
        if picture.shape != before.shape:
            before = resize(before, picture.shape[1], picture.shape[0])
        picture = picture.copy()
        # Where the original is wholly clear its colour comes back too: white there would bleed into the edges.
        if _filled_white(picture, before):
            clear = before[..., 3] == 0
            picture[clear] = before[clear]
        picture[..., 3] = before[..., 3]
    if "make-opaque" in remedies:
        picture = picture.copy()
        picture[..., 3] = 255
    return np.ascontiguousarray(picture)


def find(
    image: ImageFile,
    original: TextureFile,
    recipe: Recipe,
    remedies: Sequence[str],
    name: str = "",
    size: int | None = None,
) -> list[Finding]:
    """Every finding of an edit, with the remedies that are applied already; ``size`` is its encoded size."""
    return list(_findings(image, original, recipe, remedies, name, size))


def _remedy(remedy: RemedyId, remedies: Sequence[str]) -> Remedy:
    return Remedy(id=remedy, label=REMEDIES[remedy], applied=remedy in remedies)


def _findings(
    image: ImageFile,
    original: TextureFile,
    recipe: Recipe,
    remedies: Sequence[str],
    name: str,
    size: int | None,
) -> Iterator[Finding]:
    picture, before = image.picture, original.picture()
    height, width = picture.shape[:2]
    resized = "resize" in remedies
    if (width, height) != (recipe.width, recipe.height):
        yield Finding(
            id="dimensions",
            severity="stops",
            title=f"{width} x {height} pixels instead of {recipe.width} x {recipe.height}",
            in_game="Many games refuse a texture of other sides, or draw it shifted.",
            remedy=_remedy("resize", remedies),
        )
        if (
            not resized
            and not (is_power_of_two(width) and is_power_of_two(height))
            and (is_power_of_two(recipe.width) and is_power_of_two(recipe.height))
        ):
            yield Finding(
                id="power-of-two",
                severity="stops",
                title="The sides are not powers of two, the original's are",
                in_game="Graphics hardware may refuse it or leave out its mip levels.",
                remedy=_remedy("resize", remedies),
            )
    yield from _encoding_findings(image, original, recipe)
    yield from _alpha_findings(image, before, original.header.format, recipe, remedies)
    if _is_upside_down(picture, before):
        yield Finding(
            id="orientation",
            severity="shows",
            title="It looks like the original upside down",
            in_game="It would be drawn upside down.",
            remedy=_remedy("flip", remedies),
        )
    if image.bits > 8:
        yield Finding(
            id="depth",
            severity="note",
            title=f"{image.bits} bits a channel become 8",
            in_game="Nothing is lost that this pixel format could hold.",
        )
    if image.mode == "P":
        yield Finding(
            id="palette",
            severity="note",
            title="The picture has a palette of at most 256 colours",
            in_game="It is shown with those colours; save as true colour if there were more.",
        )
    if image.type in ("jpeg", "gif"):
        lost = "fine detail and all transparency" if image.type == "jpeg" else "all but 256 colours and soft edges"
        yield Finding(
            id="file-type",
            severity="shows",
            title=f"{image.type.upper()} files lose {lost}",
            in_game="The loss is visible. Save as PNG instead.",
        )
    suffix = name.rpartition(".")[2].lower()
    names = {"jpg": "jpeg", "tif": "tiff"}
    if "." in name and names.get(suffix, suffix) != image.type:
        yield Finding(
            id="file-name",
            severity="note",
            title=f"The name ends in .{suffix}, the file is a {image.type.upper()}",
            in_game="Brae goes by what is in the file.",
        )
    if size is not None and size != recipe.size:
        yield Finding(
            id="byte-size",
            severity="shows" if resized or (width, height) == (recipe.width, recipe.height) else "stops",
            title=f"{size:,} bytes instead of {recipe.size:,}",
            in_game="Some loaders accept only the very same size.",
            remedy=None if resized else _remedy("resize", remedies),
        )


def _encoding_findings(image: ImageFile, original: TextureFile, recipe: Recipe) -> Iterator[Finding]:
    """What the original's encoding asks for; Brae does it by itself."""
    title = original.header.format.title
    if image.type == "dds" and image.mode != title:
        yield Finding(
            id="pixel-format",
            severity="stops",
            title=f"The file's pixels are {image.mode}, the original's {title}",
            in_game="Many games refuse another pixel format.",
            remedy=Remedy(id="convert", label=f"Converted to {title}", applied=True, automatic=True),
        )
    if recipe.levels > 1 and image.levels != recipe.levels:
        have = "no mip levels" if image.levels == 1 else f"{image.levels} mip levels"
        yield Finding(
            id="mip-count",
            severity="stops",
            title=f"The file has {have}, the original {recipe.levels}",
            in_game="The game may refuse it, or it flickers in the distance.",
            remedy=Remedy(
                id="make-mips", label=f"{recipe.levels} levels made from the picture", applied=True, automatic=True
            ),
        )


def _alpha_findings(
    image: ImageFile,
    before: Picture,
    pixel_format: formats.PixelFormat,
    recipe: Recipe,
    remedies: Sequence[str],
) -> Iterator[Finding]:
    now = _alpha_use(image.picture[..., 3])
    if recipe.alpha != "none" and now == "none":
        white = _filled_white(image.picture, before)
        yield Finding(
            id="alpha-filled" if white else "alpha-lost",
            severity="shows",
            title="The clear areas came back filled with white" if white else "The transparency is gone",
            in_game="A box shows around the picture.",
            remedy=_remedy("restore-alpha", remedies),
        )
    elif recipe.alpha == "none" and now != "none":
        yield Finding(
            id="alpha-gained",
            severity="shows",
            title="The edit is partly transparent, the original is opaque",
            in_game="The game may ignore it, or show holes."
            if pixel_format.alpha != "none"
            else "This pixel format holds no transparency: clear areas show their colour.",
            remedy=_remedy("make-opaque", remedies),
        )
    elif now == "full" and pixel_format.alpha == "binary":
        yield Finding(
            id="alpha-soft",
            severity="shows",
            title=f"{pixel_format.title} holds only clear or opaque pixels",
            in_game="Soft edges become hard.",
            remedy=_remedy("restore-alpha", remedies) if recipe.alpha == "binary" else None,
        )


def properties(
    image: ImageFile, original: TextureFile, recipe: Recipe, result: TextureFile | None
) -> list[Property]:
    """The original, the file that came back and what Brae made of it, side by side."""
    height, width = image.picture.shape[:2]
    head = original.header
    made = result.header if result else None
    rows: list[tuple[str, str, str, str]] = [
        (
            "Sides",
            f"{head.width} x {head.height}",
            f"{width} x {height}",
            f"{made.width} x {made.height}" if made else "–",
        ),
        (
            "Pixel format",
            head.format.title,
            f"{image.mode}, {image.bits} bits",
            made.format.title if made else "–",
        ),
        ("Mip levels", str(head.levels), str(image.levels), str(made.levels) if made else "–"),
        (
            "Transparency",
            _ALPHA_WORDS[recipe.alpha],
            _ALPHA_WORDS[_alpha_use(image.picture[..., 3])],
            _ALPHA_WORDS[_alpha_use(result.picture()[..., 3])] if result else "–",
        ),
        ("Rows stored", head.orientation, "top-down", made.orientation if made else "–"),
        ("File type", head.container, image.type, made.container if made else "–"),
        ("Bytes", f"{recipe.size:,}", "–", f"{result.size:,}" if result else "–"),
    ]
    return [
        Property(name=name, original=before, edit=edit, result=after, same=before == after)
        for name, before, edit, after in rows
    ]


def psnr(painted: Picture, stored: Picture) -> float | None:
    """PSNR in dB over visible colour and alpha (peak 255); None where both are equal."""
    visible = painted[..., 3] > 0
    colour = (painted[visible][:, :3].astype(np.float64) - stored[visible][:, :3]) ** 2
    alpha = (painted[..., 3].astype(np.float64) - stored[..., 3]) ** 2
    count = colour.size + alpha.size
    error = (colour.sum() + alpha.sum()) / count
    return None if error == 0 else float(10 * np.log10(255**2 / error))


def match(
    image: ImageFile, original: TextureFile, recipe: Recipe, remedies: Sequence[str], name: str = ""
) -> tuple[MatchSheet, bytes]:
    """The match sheet of an edit, and the edit encoded like its original with the remedies applied."""
    painted = apply_remedies(image.picture, original, remedies)
    encoded = encode_like(painted, original, recipe)
    result = original.again(encoded.data)
    sheet = MatchSheet(
        properties=properties(image, original, recipe, result),
        findings=find(image, original, recipe, remedies, name, len(encoded.data)),
        blocks_kept=encoded.kept,
        blocks=encoded.blocks,
        psnr=psnr(painted, result.picture()),
    )
    return sheet, encoded.data
