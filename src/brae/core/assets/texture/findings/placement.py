"""Findings of a picture that came back upside down, mirrored, turned or moved."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from PIL import Image

from brae.core.assets.sheet import Finding
from brae.core.assets.texture.findings.compared import Compared
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.remedies import RemedyId, few, shift_between

#: levels of 255 by which two pictures have to differ before anything is said of them
_DIFFERS = 6
#: the other way round it has to be so much nearer
_NEARER = 0.4
#: another hue may come near to exchanged channels; but most pixels are then not what they were
_MOST, _ALIKE = 0.3, 4

_Turn = tuple[str, RemedyId, str, str, Callable[[np.ndarray], np.ndarray]]
#: what puts it right, and the finding that it then is
_TURNS: tuple[_Turn, ...] = (
    ("orientation", "flip", "upside down", "upside down", lambda small: small[::-1]),
    ("mirrored", "mirror", "in a mirror", "with left and right exchanged", lambda small: small[:, ::-1]),
    ("turned", "turn-around", "turned half round", "upside down and mirrored", lambda small: small[::-1, ::-1]),
    ("turned", "turn-left", "turned a quarter to the right", "lying on its side", np.rot90),
    ("turned", "turn-right", "turned a quarter to the left", "lying on its side", lambda s: np.rot90(s, -1)),
)


def _small(picture: Picture) -> np.ndarray:
    """A picture as 32 x 32 seen over black, for comparisons as a whole."""
    seen = picture[..., :3].astype(np.float32) * (picture[..., 3:] / 255)
    small = Image.fromarray(seen.astype(np.uint8)).resize((32, 32), Image.Resampling.BOX)
    return np.asarray(small).astype(np.float32)


def _as_before(edit: Compared, channels: list[int]) -> bool:
    """Whether many pixels are what they were, with their channels in another order."""
    if not edit.same_sides:
        return True
    now, before = few(edit.picture)[..., channels].astype(int), few(edit.before)[..., :3].astype(int)
    # Greys are the same in any order and tell nothing.
    tells = np.abs(before - before[..., channels]).max(axis=2) > 4 * _ALIKE
    alike = np.abs(now - before).max(axis=2) <= _ALIKE
    return bool(tells.sum() >= 64 and alike[tells].mean() > _MOST)


def direction(edit: Compared) -> Iterator[Finding]:
    """Turned some way, or with channels exchanged: much nearer to the original the other way."""
    now, before = _small(edit.picture), _small(edit.before)
    straight = float(np.abs(now - before).mean())
    if straight <= _DIFFERS:
        return
    turned = [(float(np.abs(turn[4](now) - before).mean()), turn) for turn in _TURNS]
    off, (found, remedy, seen, drawn, _) = min(turned, key=lambda one: one[0])
    if off < _NEARER * straight:
        yield Finding(
            id=found,
            severity="shows",
            title=f"It looks like the original {seen}",
            in_game=f"It would be drawn {drawn}.",
            remedy=edit.remedy(remedy),
            sure=f"likely: turned back it is {straight / max(off, 0.1):.0f} times as near to the original",
        )
        return
    swapped = float(np.abs(now[..., ::-1] - before).mean())
    if swapped < _NEARER * straight and _as_before(edit, [2, 1, 0]):
        yield Finding(
            id="channels-swapped",
            severity="shows",
            title="Red and blue have changed places",
            in_game="The colours are wrong: what was warm is cold.",
            remedy=edit.remedy("swap-red-blue"),
            sure=f"likely: exchanged it is {straight / max(swapped, 0.1):.0f} times as near to the original",
        )


def shifted(edit: Compared) -> Iterator[Finding]:
    """Everything moved by a pixel or two, as when a canvas is made anew or pasted into."""
    moved = shift_between(edit.picture, edit.before)
    if moved is None:
        return
    ways = [
        f"{abs(by)} to the {words[by > 0]}"
        for by, words in zip(moved, (("top", "bottom"), ("left", "right")), strict=True)
        if by
    ]
    yield Finding(
        id="shifted",
        severity="shows",
        title=f"Everything is moved by pixels: {', '.join(ways)}",
        in_game="Edges do not meet what they belong to: seams, and glyphs that are cut.",
        remedy=edit.remedy("shift-back"),
        sure="likely: moved back it fits the original",
    )
