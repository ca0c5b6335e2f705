"""Findings of transparency: lost, filled, gained, hardened, turned round, and the colour beneath it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from brae.core.assets.sheet import Finding
from brae.core.assets.texture.findings.compared import Compared
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.remedies import few, filled_white
from brae.core.assets.texture.texture import alpha_use

#: alpha that nobody sees as clear, but that is not opaque
_ALMOST = 250
#: levels by which alpha differs where it may have been turned round
_FAR = 32


def transparency(edit: Compared) -> Iterator[Finding]:
    alpha, recipe = edit.picture[..., 3], edit.recipe
    now, pixel_format = alpha_use(alpha), edit.original.header.format
    level = int(alpha.flat[0]) if alpha.size and alpha.min() == alpha.max() else None
    if level == 0 and edit.before[..., 3].any():
        yield Finding(
            id="alpha-empty",
            severity="shows",
            title="Every pixel is clear",
            in_game="Nothing shows at all.",
            remedy=edit.remedy("make-opaque" if recipe.alpha == "none" else "restore-alpha"),
        )
    elif level is not None and _ALMOST <= level < 255 and edit.before[..., 3].min() == 255:
        yield Finding(
            id="alpha-almost",
            severity="shows",
            title=f"Alpha is {level} everywhere, in the original 255",
            in_game="A game that asks for opaque pixels leaves it out, or blends what it need not.",
            remedy=edit.remedy("make-opaque"),
        )
    elif recipe.alpha != "none" and _turned_round(edit):
        yield Finding(
            id="alpha-inverted",
            severity="shows",
            title="What was clear is opaque, and what was opaque is clear",
            in_game="Only the surroundings show.",
            remedy=edit.remedy("invert-alpha"),
            sure="likely: turned round it fits the original's transparency",
        )
    elif recipe.alpha == "full" and now == "binary" and _same_cover(edit):
        yield Finding(
            id="alpha-hard",
            severity="shows",
            title="Soft edges became hard",
            in_game="Edges show steps; glow and smoke become patches.",
            remedy=edit.remedy("restore-alpha"),
            sure="likely: the same is covered, but nothing is half clear any more",
        )
    elif recipe.alpha != "none" and now == "none":
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


def _turned_round(edit: Compared) -> bool:
    """Whether alpha is much nearer to the original's the other way round."""
    if not edit.same_sides:
        return False
    now, before = (few(one)[..., 3].astype(np.float32) for one in (edit.picture, edit.before))
    straight = float(np.abs(now - before).mean())
    return straight > _FAR and float(np.abs(255 - now - before).mean()) < 0.3 * straight


def _same_cover(edit: Compared) -> bool:
    """Whether the same pixels are more opaque than clear."""
    if not edit.same_sides:
        return False
    now, before = few(edit.picture)[..., 3] > 127, few(edit.before)[..., 3] > 127
    return bool((now == before).mean() > 0.95)


def hidden_colour(edit: Compared) -> Iterator[Finding]:
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


def premultiplied(edit: Compared) -> Iterator[Finding]:
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
