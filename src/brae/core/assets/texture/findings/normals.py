"""Findings of maps that hold directions or several meanings."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from brae.core.assets.sheet import Finding
from brae.core.assets.texture.findings.compared import Compared
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.remedies import few, slope_ratio

#: how far both channels have to agree before their strengths are compared, and how much may be on purpose
_ALIKE, _STRONGER = 0.85, 1.5


def _grey(picture: Picture) -> bool:
    colour = picture[..., :3].astype(int)
    return bool(np.abs(colour[..., :1] - colour[..., 1:]).max() <= 2)


def _agreement(now: np.ndarray, before: np.ndarray) -> float:
    """How far two channels go the same way: 1 alike, -1 the other way round, 0 where nothing can be told."""
    strength = float((before**2).mean() * (now**2).mean()) ** 0.5
    return float((before * now).mean()) / strength if strength > 4 else 0.0


def normals(edit: Compared) -> Iterator[Finding]:
    """A normal map's directions: grey, turned round, too strong or too weak, not one long."""
    if edit.recipe.content != "normal":
        return
    if _grey(edit.picture):
        yield Finding(
            id="normals-grey",
            severity="shows",
            title="The normal map came back grey: it holds no directions",
            in_game="The surface is lit as if it leaned to one side.",
            remedy=edit.remedy("from-heights"),
        )
        return
    directions = few(edit.picture)[..., :3].astype(np.float32) / 127.5 - 1
    if edit.same_sides:
        now, before = (few(one)[..., :2].astype(np.float32) - 127.5 for one in (edit.picture, edit.before))
        agree = [_agreement(now[..., channel], before[..., channel]) for channel in range(2)]
        for channel, remedy, name, seen in (
            (0, "flip-red", "red", "Light falls from the wrong side: bumps look like dents."),
            (1, "flip-green", "green", "Light falls from below: bumps look like dents."),
        ):
            if agree[channel] < -0.6:
                yield Finding(
                    id=f"{name}-direction",
                    severity="shows",
                    title=f"The {name} direction is the other way round than in the original",
                    in_game=seen,
                    remedy=edit.remedy(remedy),  # type: ignore[arg-type]
                    sure=f"likely: turned round it agrees with the original by {-agree[channel]:.0%}",
                )
        times = slope_ratio(edit.picture, edit.before)
        if min(agree) > _ALIKE and not 1 / _STRONGER < times < _STRONGER:
            strong = times > 1
            yield Finding(
                id="normals-strength",
                severity="shows",
                title=f"The slopes are {times:.1f} times as steep as in the original"
                if strong
                else f"The slopes are only {times:.0%} as steep as in the original",
                in_game="Every bump is too deep." if strong else "The surface looks flat.",
                remedy=edit.remedy("match-strength"),
                sure="likely: they point the same ways",
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


def packed_map(edit: Compared) -> Iterator[Finding]:
    """Channels that meant different things came back as one grey, or as a picture with a colour profile."""
    if len(edit.original.header.format.holds.replace("a", "")) < 3:
        return
    if edit.recipe.content == "data" and _grey(edit.picture) and not _grey(edit.before):
        yield Finding(
            id="channels-merged",
            severity="shows",
            title="All channels came back alike, in the original each has its own meaning",
            in_game="Gloss, metal and shadow follow one another: it looks like paint.",
        )
