"""Every damage is noticed, named and put right, and nothing is said of what people do on purpose."""

from __future__ import annotations

import numpy as np
import pytest

from brae.core.assets.sheet import Finding
from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.findings import Compared, find
from brae.core.assets.texture.remedies import REMEDIES, apply_remedies
from brae.core.assets.texture.texture import TextureFile
from tests.core.assets.texture.painted import DAMAGES, HARMLESS, MAKERS, Damage


def original(picture: np.ndarray) -> TextureFile:
    return dds.read(encode_new(picture, formats.RGBA8, 1))


def open_findings(painted: np.ndarray, texture: TextureFile) -> list[Finding]:
    compared = Compared(read_image(write_image(painted)), texture, texture.recipe(), [])
    return [finding for finding in find(compared) if finding.open]


@pytest.mark.parametrize("damage", DAMAGES.values(), ids=DAMAGES)
def test_every_damage_is_noticed_and_put_right(damage: Damage) -> None:
    chance = np.random.default_rng(41)
    for _ in range(4):
        picture = MAKERS[damage.of](chance)
        texture = original(picture)
        painted = np.ascontiguousarray(damage.edit(picture.copy(), chance))
        (finding,) = open_findings(painted, texture)
        assert (finding.id, finding.remedy.id) == (damage.finding, damage.remedy)  # type: ignore[union-attr]
        mended = apply_remedies(painted, texture, [damage.remedy])
        assert np.abs(mended.astype(int) - picture).mean() <= damage.off + 0.5


@pytest.mark.parametrize("of", HARMLESS)
def test_nothing_is_said_of_what_people_do_on_purpose(of: str) -> None:
    chance = np.random.default_rng(42)
    for name, edit in HARMLESS[of].items():
        for _ in range(2):
            picture = MAKERS[of](chance)
            painted = np.ascontiguousarray(edit(picture.copy(), chance))
            told = [finding.title for finding in open_findings(painted, original(picture))]
            assert not told, name


def test_every_remedy_of_a_comparison_has_its_damage() -> None:
    tried = {damage.remedy for damage in DAMAGES.values()}
    elsewhere = {"resize", "swap-red-blue", "normalise", "unmultiply", "restore-hidden"}  # in test_findings
    assert tried | elsewhere == set(REMEDIES)
