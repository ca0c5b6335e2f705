"""Archives inside archives, from opening to restore: a screen in a pack in a volume on a raw disc."""

from __future__ import annotations

import gzip
import io
import re
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import func, select

from brae.core.assets.screen.kind import LearntQuery
from brae.core.assets.screen.screen import to_json
from brae.core.assets.texture.files import read_texture
from brae.core.containers.nesting import open_path
from brae.core.errors import CancelledError, FormatError
from brae.core.layouts.library import FOLDER, Library
from brae.core.sources import FileSource
from brae.core.sources.sectors import wrong_sectors
from brae.demo import LAYOUTS, art, desktop
from brae.demo.standin.disc import read_inlay, read_mosaic
from brae.jobs import Silent
from brae.store import Home
from brae.store.models import ArchiveRow, Member
from brae.work import Workspace, builds, planning
from brae.work.edits import go_to, put_in_work, take_beside
from brae.work.items import around, look_at
from brae.work.opening import open_game
from tests.work.test_flow import come_back, digests, edit_of, paint

VOLUME = "skerry.bin//CARGO.VOL"
PACK, BANK = f"{VOLUME}//MENUS.SCR", f"{VOLUME}//CHIMES.BEL"
SCREEN, OTHER = f"{PACK}//0012", f"{PACK}//0031"
SPRITE = f"{VOLUME}//S00003.SLT"
LIBRARY = Library.of([LAYOUTS])


def _member(game: Path, address: str) -> bytes:
    _, *levels = address.split("//")
    archive = open_path(game / "skerry.bin", levels[:-1], LIBRARY).container
    return archive.read(archive.index_of(levels[-1]))


def test_every_level_is_listed_and_proved(workspace: Workspace, disc_game: Path) -> None:
    result = open_game(workspace, disc_game)
    assert result["archives"] == 4
    with workspace.database.session() as session:
        rows = {row.address: row for row in session.scalars(select(ArchiveRow)) if row.layout}
        assert set(rows) == {"skerry.bin", VOLUME, PACK, BANK}
        counts = {address: row.member_count for address, row in rows.items()}
        assert counts == {"skerry.bin": 3, VOLUME: 94, PACK: 40, BANK: 8}
        assert all(row.proof == {"exact": True, "members": row.member_count} for row in rows.values())
        assert rows[PACK].parent_id == rows[VOLUME].id
        folders = dict(session.execute(select(Member.folder, func.count()).group_by(Member.folder)).all())
        assert folders["CARGO.VOL/MENUS.SCR"] == 40
        kinds = dict(session.execute(select(Member.kind, func.count()).group_by(Member.kind)).all())
        assert kinds["archive"] == 3


def test_one_build_carries_changes_of_several_depths_outwards(workspace: Workspace, disc_game: Path) -> None:
    open_game(workspace, disc_game)
    before = digests(disc_game)
    originals = {address: _member(disc_game, address) for address in (SCREEN, SPRITE, OTHER)}
    for address in (SCREEN, SPRITE):
        come_back(workspace, address, paint(workspace, address))
    (file,) = planning.plan(workspace, "skerry").files
    assert (file.path, file.way) == ("skerry.bin", "patch")
    assert [(step.address, step.way) for step in file.inside] == [(PACK, "patch"), (VOLUME, "patch")]
    assert [member.label for member in file.inside[1].members] == ["MENUS.SCR", "S00003.SLT"]
    builds.build(workspace, "skerry")
    assert _member(disc_game, OTHER) == originals[OTHER]
    for address in (SCREEN, SPRITE):
        edit = edit_of(workspace, address)
        assert _member(disc_game, address) == workspace.blobs.get(edit.encoded_sha256 or "") != originals[address]
    with FileSource(disc_game / "skerry.bin") as raw:
        assert wrong_sectors(raw, 0, raw.size // 2352) == []
    assert planning.plan(workspace, "skerry").up_to_date
    # One edit is taken back, the other stays.
    go_to(workspace, "skerry", SPRITE, 0)
    builds.build(workspace, "skerry")
    assert _member(disc_game, SPRITE) == originals[SPRITE]
    assert _member(disc_game, SCREEN) != originals[SCREEN]
    builds.restore(workspace, "skerry")
    assert digests(disc_game) == before


def test_a_screen_that_grows_moves_what_follows_at_every_level(workspace: Workspace, disc_game: Path) -> None:
    open_game(workspace, disc_game)
    before = digests(disc_game)
    originals = {address: _member(disc_game, address) for address in (OTHER, SPRITE)}
    come_back(workspace, SCREEN, paint(workspace, SCREEN, noisy=True))
    (file,) = planning.plan(workspace, "skerry").files
    assert [step.way for step in file.inside] == ["rebuild", "rebuild"]
    builds.build(workspace, "skerry")
    for address, data in originals.items():
        assert _member(disc_game, address) == data
    assert open_path(disc_game / "skerry.bin", ["CARGO.VOL", "MENUS.SCR"], LIBRARY).container.prove().exact
    # The volume grew beyond its sectors: it lies elsewhere now, and the film still lies where it was.
    builds.restore(workspace, "skerry")
    assert digests(disc_game) == before


def test_opening_again_keeps_edits_at_depth(workspace: Workspace, disc_game: Path) -> None:
    open_game(workspace, disc_game)
    come_back(workspace, SCREEN, paint(workspace, SCREEN))
    builds.build(workspace, "skerry")
    assert open_game(workspace, disc_game)["archives"] == 4
    assert edit_of(workspace, SCREEN).state == "ready"
    assert planning.plan(workspace, "skerry").up_to_date


def test_an_index_and_a_data_file_inside_a_zip(workspace: Workspace, tmp_path: Path) -> None:
    """A replacement pack: the two halves of an archive are two members of the ZIP, and both change."""
    texture = desktop.ptx(art.hull(64, 64), "bgra8", 1)
    desktop.write_pair(tmp_path / "pair", "dory", [("a.ptx", texture), ("b.txt", b"oars " * 90)])
    game = tmp_path / "skerry"
    game.mkdir()
    with zipfile.ZipFile(game / "pack.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted((tmp_path / "pair").iterdir()):
            archive.write(file, f"data/{file.name}")
        archive.writestr("credits.txt", "by nobody")
    open_game(workspace, game)
    address = "pack.zip//data/dory.kist//a.ptx"
    come_back(workspace, address, paint(workspace, address, noisy=True))
    builds.build(workspace, "skerry")
    with zipfile.ZipFile(game / "pack.zip") as archive:
        assert archive.testzip() is None
        assert archive.read("credits.txt") == b"by nobody"
        for name in ("dory.kist", "dory.hold"):
            (tmp_path / name).write_bytes(archive.read(f"data/{name}"))
    inner = open_path(tmp_path / "dory.kist", [], LIBRARY).container
    assert inner.prove().exact
    assert inner.read(0) != texture
    assert read_texture(inner.read(0), LIBRARY, "a.ptx").header.width == 64


class _Stops(Silent):
    def __init__(self, after: int) -> None:
        self.left = after

    def tick(self, amount: int = 1) -> None:
        self.left -= 1
        if self.left < 0:
            raise CancelledError("Cancelled.")


def _listed(workspace: Workspace) -> list[tuple[object, ...]]:
    """All that is known of members and archives, but for the rows' numbers."""
    query = select(Member.address, Member.kind, Member.number, Member.real, Member.winner, ArchiveRow.proof)
    with workspace.database.session() as session:
        rows = session.execute(query.join(ArchiveRow, Member.archive_id == ArchiveRow.id)).all()
    return sorted(tuple(map(str, row)) for row in rows)


@pytest.mark.parametrize("after", [1, 30, 130, 200, 270])
def test_an_interrupted_opening_goes_on_where_it_was(workspace: Workspace, disc_game: Path, after: int) -> None:
    with pytest.raises(CancelledError):
        open_game(workspace, disc_game, _Stops(after))
    found = open_game(workspace, disc_game)
    assert found["reused"] == {1: 0, 30: 1, 130: 2, 200: 4, 270: 4}[after], "what was whole is not read again"
    assert found["members"] == 3 + 94 + 40 + 8 + 1
    whole = _listed(workspace)
    assert all("'exact': True" in str(row) for row in whole)
    with pytest.raises(CancelledError):
        open_game(workspace, disc_game, _Stops(1))
    assert _listed(workspace) == whole, "a second opening that is cancelled loses nothing"
    again = open_game(workspace, disc_game)
    assert again["reused"] == again["archives"]
    assert _listed(workspace) == whole
    other = disc_game.parent / "other"
    shutil.copytree(disc_game, other)
    fresh = Workspace(Home(disc_game.parent / "fresh"))
    open_game(fresh, other)
    assert _listed(fresh) == whole, "as an opening that nothing interrupted"
    fresh.close()


def test_packed_files_in_packed_files_end_somewhere(workspace: Workspace, tmp_path: Path) -> None:
    data = b"reef " * 50
    for _ in range(14):
        data = gzip.compress(data, mtime=0)
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "deep.gz").write_bytes(data)
    assert 8 <= open_game(workspace, tmp_path / "deep")["archives"] <= 10


def test_a_damaged_inner_archive_is_named_and_the_rest_is_listed(workspace: Workspace, tmp_path: Path) -> None:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("inner.zip", b"PK\3\4" + bytes(200))
        archive.writestr("note.txt", "still here")
    (tmp_path / "odd").mkdir()
    (tmp_path / "odd" / "outer.zip").write_bytes(stream.getvalue())
    open_game(workspace, tmp_path / "odd")
    with workspace.database.session() as session:
        inner = session.scalar(select(ArchiveRow).where(ArchiveRow.address == "outer.zip//inner.zip"))
        assert inner is not None
        assert inner.fault
        assert not inner.proof["exact"]
        assert session.scalar(select(Member).where(Member.name == "note.txt")) is not None


def test_a_cue_sheet_leads_to_its_image(workspace: Workspace, disc_game: Path) -> None:
    open_game(workspace, disc_game / "skerry.cue", name="skerry")
    assert workspace.project("skerry").only == "skerry.bin"
    (disc_game / "other.cue").write_text('FILE "missing.bin" BINARY')
    with pytest.raises(FormatError, match="no image"):
        open_game(workspace, disc_game / "other.cue")


def test_layouts_of_the_game_serve_at_depth(workspace: Workspace, disc_game: Path) -> None:
    """A layout that a person keeps beside the game is used for what lies inside a disc."""
    own = disc_game / FOLDER
    own.mkdir()
    text = (
        (LAYOUTS / "screens.yaml")
        .read_text()
        .replace("skerry-screens", "my-screens")
        .replace("Skerry Post s", "My s")
    )
    (own / "screens.yaml").write_text(text)
    open_game(workspace, disc_game)
    with workspace.database.session() as session:
        assert session.scalar(select(ArchiveRow.title).where(ArchiveRow.address == PACK)) == "My screens"


@pytest.mark.parametrize("name", ["P00003.INL", "M00000.MOS"])
def test_palettes_and_micro_tiles_change_as_the_game_reads_them(
    workspace: Workspace, disc_game: Path, name: str
) -> None:
    open_game(workspace, disc_game)
    before = digests(disc_game)
    address = f"{VOLUME}//{name}"
    old = read_texture(_member(disc_game, address), LIBRARY, name)
    come_back(workspace, address, paint(workspace, address))
    sheet = edit_of(workspace, address).sheet
    assert sheet is not None
    # The green of the test is no colour of the palette: said, and the nearest one is taken.
    wanted = {"outside-palette"} if name.endswith(".INL") else set()
    assert {finding["id"] for finding in sheet["findings"]} == wanted
    builds.build(workspace, "skerry")
    new = read_texture(_member(disc_game, address), LIBRARY, name)
    differs = (old.picture() != new.picture()).any(axis=2)
    assert differs.any()
    assert len(old.levels[0]) == len(new.levels[0])
    reader = read_mosaic if name.endswith(".MOS") else read_inlay
    seen = np.asarray(reader(_member(disc_game, address), name, 64, 48))
    assert np.array_equal(seen, new.picture()), "the game's own reader sees what Brae shows"
    builds.restore(workspace, "skerry")
    assert digests(disc_game) == before


def test_a_rectangle_that_leads_nowhere_is_told_beside_all_screens_of_the_game(
    workspace: Workspace, disc_game: Path
) -> None:
    open_game(workspace, disc_game)
    put_in_work(workspace, "skerry", SCREEN)
    kind, viewed = look_at(workspace, "skerry", SCREEN)
    first, *rest = viewed.original.areas
    for target, wanted in ((39, []), (40, ["target"])):
        moved = first.model_copy(update={"numbers": {"target": target, "action": 0}})
        take_beside(workspace, "skerry", SCREEN, "areas", to_json([moved, *rest]), "areas.json")
        sheet = edit_of(workspace, SCREEN).sheet or {}
        assert [one["id"] for one in sheet["findings"] if one["severity"] != "note"] == wanted
    # Noise does not pack: it is told that it does not fit where it lies.
    come_back(workspace, SCREEN, paint(workspace, SCREEN, noisy=True))
    (note,) = [one for one in (edit_of(workspace, SCREEN).sheet or {})["findings"] if one["id"] == "slot"]
    needs, slot = (int(one.replace(",", "")) for one in re.findall(r"[0-9][0-9,]*", note["title"]))
    stored = len(open_path(disc_game / "skerry.bin", ["CARGO.VOL", "MENUS.SCR"], LIBRARY).container.read_stored(12))
    assert needs > slot >= stored
    place = around(workspace, "skerry", SCREEN)
    learnt = kind.questions["learnt"].ask(viewed, LearntQuery(), place)
    threes = kind.questions["learnt"].ask(viewed, LearntQuery(starts="3"), place)
    found = {one.number: one.example for one in threes.targets}
    assert found[34] == f"{PACK}//0034"
    assert not {33, 35} & set(found), (
        "screen 11 leads there with its second button only: the others sail and go back"
    )
    assert {one.words: one.screens for one in learnt.actions}["opens"] == 40
    assert {one.words: one.screens > 0 for one in learnt.actions} == {
        "opens": True,
        "goes back": True,
        "sails": True,
    }
