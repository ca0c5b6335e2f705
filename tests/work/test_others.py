"""A palette that many pictures share: what its edit does to them is told, and they are re-mapped or follow it."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.palette.palette import PaletteFile, written
from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.matching import arranged
from brae.core.containers.nesting import open_path
from brae.core.errors import FormatError, LimitError, NotFoundError
from brae.core.layouts.library import Library
from brae.demo import LAYOUTS
from brae.demo.standin.quay import Figure, read_colours
from brae.work import Workspace, builds, edits, planning
from brae.work.edits import (
    exchange_file,
    go_to,
    put_in_work,
    take_file,
    take_out_of_work,
)
from brae.work.items import asset_at, look_at, original_bytes
from brae.work.marks import set_marks, take_marks_back
from brae.work.matching import say_meant
from brae.work.opening import open_game
from brae.work.others import users_of
from brae.work.remapping import remap, spoilt
from brae.work.sharing import best_for_all, keep
from brae.work.templates import lay_over
from tests.work.test_flow import edit_of

VOLUME = "skerry.bin//CARGO.VOL"
COLOURS, WOMAN, BYSTANDER, DOG = (
    f"{VOLUME}//{name}" for name in ("HARBOUR.COL", "POSTWOM.STR", "BYSTAND.STR", "DOG.STR")
)
#: the shades of the postwoman's coat; the bystander's scarf has one of them
COAT = slice(16, 24)
LIBRARY = Library.of([LAYOUTS])


@pytest.fixture
def opened(workspace: Workspace, disc_game: Path) -> Path:
    open_game(workspace, disc_game)
    return disc_game


def colours(workspace: Workspace) -> PaletteFile:
    found = asset_at(workspace, "skerry", COLOURS)
    assert isinstance(found, PaletteFile)
    return found


def blue_coat(workspace: Workspace) -> None:
    """The coat's shades turned to blue."""
    entries = colours(workspace).entries.copy()
    entries[COAT, :3] = entries[COAT, :3][:, ::-1]
    put_in_work(workspace, "skerry", COLOURS)
    take_file(workspace, "skerry", COLOURS, written(entries, ".png"), "HARBOUR.COL.png")


def open_findings(workspace: Workspace, address: str) -> list[str]:
    findings = (edit_of(workspace, address).sheet or {}).get("findings", [])
    return [one["id"] for one in findings if one["severity"] != "note" and not one["meant"]]


def it_is_meant(workspace: Workspace) -> None:
    """A person has seen what the palette changes."""
    (found,) = open_findings(workspace, COLOURS)
    say_meant(workspace, "skerry", COLOURS, found, "item")


def frames(workspace: Workspace, address: str) -> list[np.ndarray]:
    """The frames as they will be in the game."""
    _, viewed = look_at(workspace, "skerry", address)
    shown = viewed.edit if viewed.edit is not None else viewed.original
    assert isinstance(shown, SpriteFile)
    return [one.picture for one in shown.sprite.frames]


def test_who_is_drawn_with_a_palette_is_known(workspace: Workspace, opened: Path) -> None:
    project = workspace.project("skerry")
    users, unseen = users_of(workspace, project, workspace.find("skerry", COLOURS))
    assert unseen == 0
    assert sorted(one.member.name for one in users) == [
        "BYSTAND.STR", "DOG.STR", "GULL.STR", "HARBOUR.BKD", "POSTWOM.STR",
    ]  # fmt: skip
    assert users_of(workspace, project, workspace.find("skerry", DOG)) == ([], 0)


def test_nothing_is_spoilt_silently(workspace: Workspace, opened: Path) -> None:
    blue_coat(workspace)
    told = spoilt(workspace, "skerry", COLOURS)
    assert [one.name for one in told] == ["POSTWOM.STR", "BYSTAND.STR"]
    assert told[0].share > told[1].share > 0
    assert min(one.mean for one in told) > 10
    assert [one.partition("-")[0] for one in open_findings(workspace, COLOURS)] == ["spoilt"]
    assert "2 other items look different" in planning.plan(workspace, "skerry").left_out[COLOURS]
    # What is made for it is not built without it.
    remap(workspace, "skerry", COLOURS, [BYSTANDER])
    plan = planning.plan(workspace, "skerry")
    assert plan.edits == []
    assert plan.left_out[BYSTANDER] == "it is made for HARBOUR.COL, which is left out"
    it_is_meant(workspace)
    assert open_findings(workspace, COLOURS) == []
    assert planning.plan(workspace, "skerry").edits == [BYSTANDER, COLOURS]
    # The dog's coat as well: that was not meant.
    entries = colours(workspace).entries.copy()
    entries[COAT, :3], entries[48:56, :3] = entries[COAT, :3][:, ::-1], (90, 90, 90)
    take_file(workspace, "skerry", COLOURS, written(entries, ".png"), "HARBOUR.COL.png")
    assert len(open_findings(workspace, COLOURS)) == 1


def test_the_bystander_is_re_mapped_and_the_postwoman_is_blue(workspace: Workspace, opened: Path) -> None:
    before = {address: frames(workspace, address) for address in (WOMAN, BYSTANDER, DOG)}
    dog = original_bytes(workspace, workspace.project("skerry"), workspace.find("skerry", DOG))
    blue_coat(workspace)
    result = remap(workspace, "skerry", COLOURS, [BYSTANDER])
    assert (result.done, result.faults) == (1, [])
    assert [(one.name, one.edited) for one in spoilt(workspace, "skerry", COLOURS)] == [
        ("POSTWOM.STR", False),
        ("BYSTAND.STR", True),
    ]
    it_is_meant(workspace)
    step = edit_of(workspace, BYSTANDER).current
    assert step is not None
    assert step.what == "re-mapped to HARBOUR.COL"
    # His scarf is as red as the other colours allow; the rest of him kept its very numbers.
    _, viewed = look_at(workspace, "skerry", BYSTANDER)
    scarf = before[BYSTANDER][0][..., 0].astype(int) - before[BYSTANDER][0][..., 2] > 120
    shown = frames(workspace, BYSTANDER)[0]
    assert (shown[scarf][:, 0].astype(int) > shown[scarf][:, 2]).all()
    old, new = viewed.original.stored[0], viewed.edit.stored[0]
    assert np.array_equal(old.raw[~scarf], new.raw[~scarf])
    assert not np.isin(new.raw[scarf], np.arange(COAT.start, COAT.stop)).any()
    builds.build(workspace, "skerry")
    # The game's own reader: the coat is blue, the scarf is not.
    volume = open_path(opened / "skerry.bin", ["CARGO.VOL"], LIBRARY).container

    def member(name: str) -> bytes:
        return volume.read(volume.index_of(name))

    palette = read_colours(member("HARBOUR.COL"))
    for name, blue in (("POSTWOM.STR", True), ("BYSTAND.STR", False)):
        _, _, rows = Figure(member(name), name).frames[0]
        drawn = [palette[index] for row in rows for index in row if index is not None]
        assert any(b > r + 60 for r, _, b in drawn) == blue, name
    assert member("DOG.STR") == dog


def test_what_was_left_behind_is_noticed_before_a_build(
    workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Brae was ended between the change of the palette and the following of the figures."""
    blue_coat(workspace)
    remap(workspace, "skerry", COLOURS, [BYSTANDER, WOMAN])
    assert open_findings(workspace, COLOURS) == []
    with monkeypatch.context() as killed:
        killed.setattr(edits, "_renew", lambda *_: None)
        entries = colours(workspace).entries.copy()
        entries[COAT, :3] = entries[COAT, :3][:, [1, 0, 2]]
        take_file(workspace, "skerry", COLOURS, written(entries, ".png"), "HARBOUR.COL.png")
        take_out_of_work(workspace, "skerry", WOMAN)
    before = (edit_of(workspace, BYSTANDER).sheet or {})["others"]
    plan = planning.plan(workspace, "skerry")
    assert "1 other item looks different" in plan.left_out[COLOURS]
    assert BYSTANDER in plan.left_out
    after = (edit_of(workspace, BYSTANDER).sheet or {})["others"]
    assert before != after == {"HARBOUR.COL": edit_of(workspace, COLOURS).encoded_sha256}
    scarf = frames(workspace, BYSTANDER)[0]
    assert planning.plan(workspace, "skerry").left_out == plan.left_out
    assert np.array_equal(scarf, frames(workspace, BYSTANDER)[0])


def test_an_edit_follows_the_palette_that_it_is_drawn_with(workspace: Workspace, opened: Path) -> None:
    """Painted before or after the palette was changed: what is stored is right for the palette as it will be."""
    put_in_work(workspace, "skerry", BYSTANDER)
    path = exchange_file(workspace, edit_of(workspace, BYSTANDER))
    picture = np.asarray(Image.open(path).convert("RGBA")).copy()
    green = tuple(colours(workspace).entries[56].tolist())
    picture[14:16, 10:14] = green
    Image.fromarray(picture).save(path)
    take_file(workspace, "skerry", BYSTANDER, path.read_bytes(), path.name)
    before = frames(workspace, BYSTANDER)
    blue_coat(workspace)
    assert [one.name for one in spoilt(workspace, "skerry", COLOURS) if not one.edited] == ["POSTWOM.STR"]
    after = frames(workspace, BYSTANDER)
    red = before[0][..., 0].astype(int) - before[0][..., 2] > 120
    assert np.array_equal(before[0][~red], after[0][~red])
    assert (after[0][red][:, 0].astype(int) > after[0][red][:, 2]).all()
    # The palette taken back: the edit is as it was.
    go_to(workspace, "skerry", COLOURS, 0)
    assert all(np.array_equal(a, b) for a, b in zip(before, frames(workspace, BYSTANDER), strict=True))
    go_to(workspace, "skerry", COLOURS, 1)
    assert not np.array_equal(before[0], frames(workspace, BYSTANDER)[0])
    # The edit out of work: he is spoilt again, and that is told.
    take_out_of_work(workspace, "skerry", BYSTANDER)
    assert "2 other items" in str(edit_of(workspace, COLOURS).sheet)
    take_out_of_work(workspace, "skerry", COLOURS)
    assert spoilt(workspace, "skerry", COLOURS) != []


def test_spare_entries_keep_a_bystander_as_he_was(workspace: Workspace, opened: Path) -> None:
    before = frames(workspace, BYSTANDER)
    blue_coat(workspace)
    result = keep(workspace, "skerry", COLOURS, [BYSTANDER])
    assert (result.done, result.faults) == (1, [])
    assert result.entries > 0
    for old, new in zip(before, frames(workspace, BYSTANDER), strict=True):
        assert np.array_equal(old, new), "not a pixel of him is other than it was"
    # The spare entries are drawn by nobody else, and the coat stays blue.
    assert [one.name for one in spoilt(workspace, "skerry", COLOURS) if not one.edited] == ["POSTWOM.STR"]
    _, viewed = look_at(workspace, "skerry", COLOURS)
    assert viewed.edit is not None
    changed = np.flatnonzero((viewed.edit.entries != viewed.original.entries).any(axis=1))
    assert len(changed) == result.entries + COAT.stop - COAT.start
    it_is_meant(workspace)
    assert planning.plan(workspace, "skerry").edits == [BYSTANDER, COLOURS]
    with pytest.raises(NotFoundError, match="looks different"):
        keep(workspace, "skerry", COLOURS, [BYSTANDER])


def test_without_spare_entries_nothing_is_changed(workspace: Workspace, opened: Path) -> None:
    entries = colours(workspace).entries.copy()
    entries[:, 0] ^= 128  # every entry is wanted for something
    put_in_work(workspace, "skerry", COLOURS)
    take_file(workspace, "skerry", COLOURS, written(entries, ".png"), "HARBOUR.COL.png")
    position = edit_of(workspace, COLOURS).position
    with pytest.raises(LimitError, match="entries are spare"):
        keep(workspace, "skerry", COLOURS, [])
    assert edit_of(workspace, COLOURS).position == position
    assert workspace.edit_or_none("skerry", DOG) is None


def test_one_palette_for_all_that_is_drawn_with_it(workspace: Workspace, opened: Path) -> None:
    """A postwoman in colours that the palette has not: shared out anew she loses hardly anything, nor do others."""
    before = {address: frames(workspace, address) for address in (BYSTANDER, DOG)}
    put_in_work(workspace, "skerry", WOMAN)
    picture = np.asarray(Image.open(exchange_file(workspace, edit_of(workspace, WOMAN))).convert("RGBA")).copy()
    coat = (picture[..., 3] > 0) & (picture[..., 0].astype(int) > picture[..., 2] + 60)
    shade = np.arange(picture.shape[0])[:, None] * 2 % 120 + 0 * picture[..., 0]
    picture[coat] = np.stack([60 + 0 * shade, 140 + shade // 2, 190 - shade // 3, 255 + 0 * shade], -1)[coat]
    file = io.BytesIO()
    Image.fromarray(picture).save(file, "png")
    take_file(workspace, "skerry", WOMAN, file.getvalue(), "POSTWOM.STR.png")

    def off() -> float:
        _, viewed = look_at(workspace, "skerry", WOMAN)
        assert viewed.edit is not None
        made = arranged(viewed.edit, viewed.edit.cells)
        return float(np.abs(made[coat][:, :3].astype(int) - picture[coat][:, :3]).mean())

    poor = off()
    result = best_for_all(workspace, "skerry", COLOURS, weight=4)
    assert (result.pictures, result.faults) == (5, [])
    assert off() < poor / 3
    reserved = list(colours(workspace).reserved)
    _, viewed = look_at(workspace, "skerry", COLOURS)
    assert viewed.edit is not None
    assert np.array_equal(viewed.edit.entries[reserved], viewed.original.entries[reserved])
    assert np.array_equal(viewed.edit.stored(viewed.edit.entries), viewed.edit.entries), (
        "nothing that cannot be kept"
    )
    for address, old in before.items():
        new = frames(workspace, address)
        apart = np.concatenate([np.abs(a.astype(int) - b).ravel() for a, b in zip(old, new, strict=True)])
        assert apart.mean() < 4
    assert open_findings(workspace, COLOURS) == [], "all that would be spoilt is re-mapped"


def test_the_best_palette_needs_pictures(workspace: Workspace, opened: Path) -> None:
    with pytest.raises(FormatError, match="no entries that others are drawn with"):
        best_for_all(workspace, "skerry", DOG)
    with pytest.raises(FormatError, match="weight"):
        best_for_all(workspace, "skerry", COLOURS, weight=0)


def test_a_palette_in_loud_colours_spoils_nothing_for_good(workspace: Workspace, opened: Path) -> None:
    set_marks(workspace, "skerry", [COLOURS], "loud")
    assert [one for one in open_findings(workspace, COLOURS) if one.startswith("spoilt")] == []
    assert COLOURS in planning.plan(workspace, "skerry").edits
    _, viewed = look_at(workspace, "skerry", COLOURS)
    assert viewed.edit is not None
    seen = {tuple(entry) for entry in viewed.edit.entries[:, :3].tolist()}
    assert len(seen) >= len(viewed.edit.entries) - len(viewed.original.reserved) - 1
    take_marks_back(workspace, "skerry", [COLOURS])
    assert not edit_of(workspace, COLOURS).in_work


def test_one_sprite_is_the_template_of_another(workspace: Workspace, opened: Path) -> None:
    woman, before = frames(workspace, WOMAN), frames(workspace, BYSTANDER)
    result = lay_over(workspace, "skerry", BYSTANDER, WOMAN)
    assert result.frames == min(len(woman), len(before))
    assert result.missing == list(range(len(woman), len(before)))
    step = edit_of(workspace, BYSTANDER).current
    assert step is not None
    assert step.what == "frames of POSTWOM.STR"
    after = frames(workspace, BYSTANDER)
    # They have one palette: what fits is drawn to the bit.
    drawn = [int((one[..., 3] > 0).sum()) for one in after]
    whole = [n for n in range(result.frames) if n not in result.cut]
    assert whole
    assert [drawn[n] for n in whole] == [int((woman[n][..., 3] > 0).sum()) for n in whole]
    with pytest.raises(FormatError, match="no frames"):
        lay_over(workspace, "skerry", BYSTANDER, COLOURS)
