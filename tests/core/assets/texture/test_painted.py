"""Every damage is noticed, named and put right, and nothing is said of what people do on purpose."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.sheet import Finding
from brae.core.assets.texture import dds, findings, formats
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.findings import Compared, find
from brae.core.assets.texture.remedies import REMEDIES, apply_remedies
from brae.core.assets.texture.texture import TextureFile
from tests.core.assets.texture.drawn import drawn
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


#: findings of which there is nothing to be seen, or that Brae puts right by itself or a person chose
UNSEEN = {
    "appended", "byte-size", "chain-short", "colour-profile", "colour-space", "depth", "file-name", "large",
    "mip-count", "other-format", "other-levels", "palette", "pixel-format",
}  # fmt: skip
DOCS = Path(__file__).parents[4] / "docs"


def test_every_finding_that_can_be_seen_has_its_picture() -> None:
    """Each drawn file really brings its finding, and docs/findings.md shows it."""
    source = "".join(path.read_text() for path in Path(findings.__file__).parent.glob("*.py"))
    known = set(re.findall(r'Finding\(\s+id="([a-z-]+)"', source)) | {"orientation", "mirrored", "turned"}
    known |= {"alpha-lost", "red-direction", "green-direction"}
    page = (DOCS / "findings.md").read_text()
    shown = set(re.findall(r"findings/([a-z-]+)\.png", page))
    pictures = {one.id: one for one in drawn()}
    assert shown == set(pictures) == known - UNSEEN
    for name, one in pictures.items():
        assert one.finding().open, name
        kept, made = Image.open(DOCS / "findings" / f"{name}.png").convert("RGB"), one.picture()
        away = np.abs(np.asarray(kept).astype(int) - np.asarray(made))
        assert kept.size == made.size
        assert away.mean() < 6, f"{name} is drawn otherwise by now"
