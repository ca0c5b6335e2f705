"""The match sheet of a texture: original, edit and result side by side, findings, and what the encoding cost."""

from __future__ import annotations

from collections.abc import Sequence

from brae.core.assets.sheet import MatchSheet, Property
from brae.core.assets.texture import findings, formats
from brae.core.assets.texture.encode import Encoded, encode_like, rule_of
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.images import ImageFile
from brae.core.assets.texture.metrics import Quality, quality
from brae.core.assets.texture.remedies import apply_remedies
from brae.core.assets.texture.roughen import Roughening, roughened_levels
from brae.core.assets.texture.texture import Recipe, TextureFile, alpha_use


class TextureSheet(MatchSheet):
    """The whole comparison, and what the encoding cost."""

    #: mip levels of what was made
    mips: int = 0
    blocks_kept: int = 0
    blocks: int = 0
    quality: Quality = Quality()


_ALPHA_WORDS = {"none": "opaque", "binary": "clear or opaque", "full": "soft"}
_SHAPE_WORDS = {"2d": "one picture", "cube": "cube faces", "array": "layers", "volume": "slices"}


def properties(
    image: ImageFile, original: TextureFile, recipe: Recipe, result: TextureFile | None
) -> list[Property]:
    """The original, the file that came back and what Brae made of it, side by side."""
    height, width = image.picture.shape[:2]
    head = original.header
    made = result.header if result else None

    def words(header: object) -> str:
        return str(header) if header is not None else "–"

    rows: list[tuple[str, str, str, str]] = [
        (
            "Dimensions",
            f"{head.width} x {head.height}",
            f"{width} x {height}",
            words(made and f"{made.width} x {made.height}"),
        ),
        ("Pixel format", head.format.title, f"{image.mode}, {image.bits} bits", words(made and made.format.title)),
        ("Mip levels", str(head.levels), str(image.levels), words(made and made.levels)),
        (
            "Transparency",
            _ALPHA_WORDS[recipe.alpha],
            _ALPHA_WORDS[alpha_use(formats.shown(image.picture)[..., 3])],
            words(result and _ALPHA_WORDS[alpha_use(result.shown()[..., 3])]),
        ),
        ("Rows stored", head.orientation, "top-down", words(made and made.orientation)),
        ("File type", head.container, image.type, words(made and made.container)),
        ("Bytes", f"{recipe.size:,}", "–", words(result and f"{result.size:,}")),
    ]
    meant = _meant(original, recipe)
    rows.insert(4, ("Channels hold", meant, "–", words(result and meant)))
    if head.pictures() > 1:
        shape = f"{head.pictures()} {_SHAPE_WORDS[head.shape]}"
        rows.insert(1, ("Pictures", shape, f"one sheet of {width} x {height}", words(made and shape)))
    return [Property.of(*row) for row in rows]


_CONTENT_WORDS = {
    "colour": "colour", "cut-out": "colour, cut out", "normal": "directions",
    "data": "numbers",
}  # fmt: skip


def _meant(original: TextureFile, recipe: Recipe) -> str:
    """What the channels are taken for, by which levels and findings go, and how sure that is."""
    said, head = original.content(), original.header
    if recipe.content != said:
        return f"{_CONTENT_WORDS[recipe.content]}, by your choice"
    if said != "normal" or head.use is not None:
        return _CONTENT_WORDS[said]
    why = "it has two channels" if head.format.holds == "rg" else "by its pixels"
    return f"{_CONTENT_WORDS[said]}, likely: {why}"


def match(
    image: ImageFile,
    original: TextureFile,
    recipe: Recipe,
    remedies: Sequence[str],
    name: str = "",
    *,
    replaced: dict[int, Picture] | None = None,
    normals: dict[Roughening, Picture] | None = None,
    target: TextureFile | None = None,
) -> tuple[TextureSheet, Encoded]:
    """The match sheet of an edit, and the edit encoded like its original with the remedies applied.

    ``replaced``: mip levels that a person made by hand; ``normals``: what the roughness of the others follows;
    ``target``: the original in the colours that its palette will have.
    """
    target = target or original
    painted = apply_remedies(image.picture, original, remedies)
    exact = formats.as_precision(painted, original.header.format.precision)
    rough = roughened_levels(exact, recipe.levels, rule_of(recipe), normals or {})
    encoded = encode_like(painted, target, recipe, replaced=rough | (replaced or {}))
    result = target.again(encoded.data, encoded.elsewhere)
    painted = formats.as_precision(painted, result.header.format.precision)
    edit = findings.Compared(image, original, recipe, remedies, name, result.size)
    sheet = TextureSheet(
        properties=properties(image, original, recipe, result),
        findings=findings.find(edit),
        mips=result.header.levels,
        blocks_kept=encoded.kept,
        blocks=encoded.blocks,
        quality=quality(painted, result.picture(), result.header.format.block, normals=recipe.content == "normal"),
    )
    return sheet, encoded
