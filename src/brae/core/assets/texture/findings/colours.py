"""Findings of colours: what the file says of them, how finely it holds them, what became of them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from brae.core.assets.sheet import Finding
from brae.core.assets.texture.findings.compared import Compared
from brae.core.assets.texture.formats import Indexed, Stored
from brae.core.assets.texture.remedies import few, gamma_between

#: pixels that are needed to say anything of colours as a whole, and the range of channels that is colour: one in
#: twenty has it
_ENOUGH, _COLOURED = 64, 20
_SRGB_GAMMA = 1 / 2.2
_PRECISION_WORDS = {"16": "16 bits a channel", "float": "brightness beyond white"}


def said_by_the_file(edit: Compared) -> Iterator[Finding]:
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
            title=f"The file has 8 bits a channel, the original holds {_PRECISION_WORDS[depth]}",
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


def changed_on_the_way(edit: Compared) -> Iterator[Finding]:
    """Colours that an editor or converter took away, or brightened as a whole."""
    if edit.recipe.content not in ("colour", "cut-out") or not edit.same_sides:
        return
    picture, original = few(edit.picture), few(edit.before)
    seen = (picture[..., 3] > 0) & (original[..., 3] > 0)
    now, before = picture[seen][:, :3], original[seen][:, :3]
    if len(now) < _ENOUGH:
        return
    if np.ptp(now, axis=1).max() <= 2 and np.percentile(np.ptp(before, axis=1), 95) > _COLOURED:
        yield Finding(
            id="colours-gone",
            severity="shows",
            title="It came back in shades of grey, the original is coloured",
            in_game="It looks like stone among what is coloured.",
            remedy=edit.remedy("restore-colour"),
        )
        return
    gamma = gamma_between(edit.picture, edit.before)
    if gamma is not None:
        brighter = gamma < 1
        yield Finding(
            id="gamma-applied",
            severity="shows",
            title=f"The whole picture is {'brighter' if brighter else 'darker'} by a gamma of {gamma:.2f}",
            in_game=f"It looks {'pale' if brighter else 'dark'}: light and sRGB were taken for one another.",
            remedy=edit.remedy("undo-gamma"),
            sure="likely: without it, it fits the original",
        )


def palette(edit: Compared) -> Iterator[Finding]:
    held = edit.original.header.format
    inner = held.inner if isinstance(held, Stored) else held
    if isinstance(inner, Indexed):
        codes = np.unique(np.ascontiguousarray(edit.picture).view("<u4"))
        known = np.ascontiguousarray(inner.palette).view("<u4").reshape(-1)
        if inner.palette[:, 3].min() == 0:
            codes = codes[codes >> 24 > 0]  # what is clear has no colour
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
