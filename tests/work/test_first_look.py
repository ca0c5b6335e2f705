"""A game that nobody has described: what lies in it by signs is listed, changed, built and put back."""

from __future__ import annotations

import io
import time
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from sqlalchemy import select

from brae.core.containers import scattered
from brae.core.errors import CancelledError, ChangedError
from brae.core.signs.scan import Search
from brae.jobs import Silent
from brae.store.models import ArchiveRow, Edit, Member
from brae.work import Workspace, builds
from brae.work.archives import Archives
from brae.work.edits import exchange_file, put_in_work, take_file
from brae.work.items import original_bytes
from brae.work.matching import say_meant
from brae.work.opening import open_game
from brae.work.structures import find_structure, hits_in, keep_layout, look_ahead
from tests.core.signs.mixture import Mixture, crate

FILE = "cargo.crt"


@pytest.fixture
def files() -> list[bytes]:
    mixture = Mixture(8)
    return [
        mixture.makers[name]() for name in ("png", "wav", "tga", "dds", "jpeg", "png", "ogg", "bmp") for _ in "ab"
    ]


@pytest.fixture
def unknown(tmp_path: Path, files: list[bytes]) -> Path:
    folder = tmp_path / "unknown"
    folder.mkdir()
    (folder / FILE).write_bytes(crate(files))
    (folder / "other.crt").write_bytes(crate(files[:9], seed=6))
    (folder / "sealed.bin").write_bytes(np.random.default_rng(1).bytes(70_000))
    return folder


def _members(workspace: Workspace) -> list[Member]:
    with workspace.database.session() as session:
        return list(session.scalars(select(Member).where(Member.project_id == "unknown").order_by(Member.id)))


def _painted(workspace: Workspace, address: str) -> tuple[Path, np.ndarray]:
    """Put a picture in work and save it in one colour, which packs tighter than what was there."""
    put_in_work(workspace, "unknown", address)
    path = exchange_file(workspace, workspace.edit("unknown", address))
    pixels = np.array(Image.open(path))
    pixels[:] = pixels[:1, :1]
    Image.fromarray(pixels).save(path)
    take_file(workspace, "unknown", address, path.read_bytes(), path.name)
    return path, pixels


def test_everything_is_listed_by_its_sign(workspace: Workspace, unknown: Path, files: list[bytes]) -> None:
    result = open_game(workspace, unknown)
    assert result["members"] == len(files) + 9
    data = (unknown / FILE).read_bytes()
    told = [(one.address, one.kind) for one in _members(workspace) if one.address.startswith(FILE)]
    assert {int(Path(address).stem) for address, _ in told} == {data.index(file) for file in files}
    assert {kind for _, kind in told} == {"texture", "sound"}
    said = {entry["path"]: entry for entry in workspace.project("unknown").undescribed}
    assert {path: entry["found"] for path, entry in said.items()} == {FILE: 16, "other.crt": 9, "sealed.bin": 0}
    assert "begins with “CRTE”" in said[FILE]["words"]
    assert said["sealed.bin"]["words"] == ["looks packed or encrypted as a whole"]
    assert said[FILE]["family"] == ["other.crt"]
    assert not said["sealed.bin"]["family"]
    assert [path for path, entry in said.items() if entry["like_archive"]] == [FILE, "other.crt"]


def test_a_picture_is_changed_in_its_place_and_put_back(
    workspace: Workspace, unknown: Path, files: list[bytes]
) -> None:
    open_game(workspace, unknown)
    before = (unknown / FILE).read_bytes()
    place = before.index(files[0])
    address = f"{FILE}//{place:010d}.png"
    _, pixels = _painted(workspace, address)
    assert workspace.edit("unknown", address).state == "ready"
    builds.build(workspace, "unknown")
    after = (unknown / FILE).read_bytes()
    assert len(after) == len(before)
    differs = np.flatnonzero(np.frombuffer(before, np.uint8) != np.frombuffer(after, np.uint8))
    assert place <= differs.min() <= differs.max() < place + len(files[0])
    shown = np.array(Image.open(io.BytesIO(after[place : place + len(files[0])])))
    assert (shown == pixels[..., : shown.shape[2]]).all()
    builds.restore(workspace, "unknown")
    assert (unknown / FILE).read_bytes() == before


def test_what_needs_more_room_is_refused_and_nothing_is_written(
    workspace: Workspace, unknown: Path, files: list[bytes]
) -> None:
    open_game(workspace, unknown)
    before = (unknown / FILE).read_bytes()
    address = f"{FILE}//{before.index(files[0]):010d}.png"
    put_in_work(workspace, "unknown", address)
    path = exchange_file(workspace, workspace.edit("unknown", address))
    shape = np.array(Image.open(path)).shape
    noise = np.random.default_rng(4).integers(0, 256, shape, dtype=np.uint8)
    noise[..., 3:] = 255
    Image.fromarray(noise).save(path)
    take_file(workspace, "unknown", address, path.read_bytes(), path.name)
    with workspace.database.session() as session:
        assert session.scalars(select(Edit)).one().state in ("ready", "attention")
    with pytest.raises(ChangedError, match="nothing else can move"):
        builds.build(workspace, "unknown")
    assert (unknown / FILE).read_bytes() == before


def test_it_is_looked_through_once(workspace: Workspace, unknown: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    open_game(workspace, unknown)
    first = [(one.address, one.name) for one in _members(workspace)]

    def never(search: Search) -> None:
        raise AssertionError("looked through again")

    monkeypatch.setattr(Search, "files", never)
    workspace.forget_archives()
    assert open_game(workspace, unknown)["members"] == len(first)
    assert [(one.address, one.name) for one in _members(workspace)] == first
    named = next(address for address, name in first if name.endswith(".png"))
    found = workspace.find("unknown", named)
    assert original_bytes(workspace, workspace.project("unknown"), found).startswith(b"\x89PNG")


def test_a_changed_file_is_looked_through_again(workspace: Workspace, unknown: Path, files: list[bytes]) -> None:
    open_game(workspace, unknown)
    (unknown / "sealed.bin").write_bytes(crate(files[:3]))
    assert open_game(workspace, unknown)["members"] == len(files) + 9 + 3


def test_the_first_ones_are_there_before_the_last_are_found(
    workspace: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Cancelled in the middle of a large file: what was found is listed, and the next opening goes on."""
    folder = tmp_path / "unknown"
    folder.mkdir()
    picture = Mixture(2).picture("PNG")
    (folder / FILE).write_bytes(b"CRTE" + b"".join(picture + bytes(40_000) for _ in range(600)))
    seen: list[int] = []

    class Impatient(Silent):
        def tick(self, amount: int = 1) -> None:
            if amount > 1:
                seen.append(len(_members(workspace)))
                if len(seen) == 2:
                    raise CancelledError("Cancelled.")

    with pytest.raises(CancelledError):
        open_game(workspace, folder, Impatient())
    assert 0 < seen[0] <= seen[1] < 600
    assert open_game(workspace, folder)["members"] == 600
    assert len(_members(workspace)) == 600


def test_the_directory_gives_itself_away(workspace: Workspace, unknown: Path, files: list[bytes]) -> None:
    """Records in no order are found by the offsets of what was found by its sign."""
    open_game(workspace, unknown)
    assert len(hits_in(workspace, "unknown", FILE)) == len(files)
    best = find_structure(workspace, "unknown", FILE, None)["proposals"][0]
    assert (best["members"], best["state"]) == (len(files), "proved")


def test_what_looks_like_an_archive_is_looked_into_by_itself(workspace: Workspace, unknown: Path) -> None:
    open_game(workspace, unknown)
    assert look_ahead(workspace, "unknown") == ["other.crt"], "the smallest of the family, and nothing of noise"
    until = time.monotonic() + 60
    while (job := workspace.jobs.latest(1)[0])["state"] not in ("done", "failed"):
        assert time.monotonic() < until
        time.sleep(0.05)
    assert job["state"] == "done", job["error"]
    assert (job["unit"], job["result"]["path"]) == ("kinds of structure", "other.crt")
    assert job["result"]["proposals"][0]["members"] == 9
    assert look_ahead(workspace, "unknown") == [], "what was looked into is left alone"


def test_too_many_are_left_out_and_said(
    workspace: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "unknown"
    folder.mkdir()
    (folder / FILE).write_bytes(b"CRTE" + b"".join(Mixture(3).sound("WAV", "PCM_16") + bytes(9) for _ in range(30)))
    monkeypatch.setattr("brae.core.signs.scan.MOST_FILES", 20)
    open_game(workspace, folder)
    assert len(_members(workspace)) == 20
    assert "more than 20 files" in workspace.project("unknown").undescribed[0]["left_out"][0]


def test_the_kept_rows_are_what_was_found(files: list[bytes]) -> None:
    from brae.core.sources import BytesSource

    source = BytesSource(crate(files))
    found = scattered.Scattered.of(source)
    again = scattered.Scattered.kept(source, found.rows())
    assert (again.hits, again.names, again.formats) == (found.hits, found.names, found.formats)


def test_an_edit_by_signs_goes_on_when_the_file_is_described(
    workspace: Workspace, unknown: Path, files: list[bytes]
) -> None:
    """Painted, built, then described: the same edit under a new address, and the game can still be restored."""
    open_game(workspace, unknown)
    before = (unknown / FILE).read_bytes()
    address = f"{FILE}//{before.index(files[0]):010d}.png"
    path, pixels = _painted(workspace, address)
    builds.build(workspace, "unknown")
    built = (unknown / FILE).read_bytes()
    assert built != before
    say_meant(workspace, "unknown", address, "colours-gone", "item")
    text = find_structure(workspace, "unknown", FILE, None)["proposals"][0]["text"]
    keep_layout(workspace, text)
    assert open_game(workspace, unknown)["archives"] == 2
    with workspace.database.session() as session:
        edit = session.scalars(select(Edit).where(Edit.project_id == "unknown")).one()
        assert (edit.state, edit.fault) == ("ready", None)
    assert edit.address != address
    assert workspace.project("unknown").meant == [{"finding": "colours-gone", "within": edit.address}]
    number = int(edit.address.rpartition("//")[2])
    archive = workspace.archive(workspace.project("unknown"), workspace.find("unknown", edit.address).archive)
    assert int(archive.offsets[number]) == before.index(files[0])
    assert exchange_file(workspace, edit) == path, "the file that an editor has open stays where it is"
    builds.build(workspace, "unknown")
    shown = np.array(Image.open(io.BytesIO((unknown / FILE).read_bytes()[before.index(files[0]) :])))
    assert (shown == pixels[..., : shown.shape[2]]).all()
    builds.restore(workspace, "unknown")
    assert (unknown / FILE).read_bytes() == before


def test_an_edit_whose_item_is_gone_says_so(workspace: Workspace, unknown: Path, files: list[bytes]) -> None:
    open_game(workspace, unknown)
    address = f"{FILE}//{(unknown / FILE).read_bytes().index(files[0]):010d}.png"
    put_in_work(workspace, "unknown", address)
    path = exchange_file(workspace, workspace.edit("unknown", address))
    Image.fromarray(np.array(Image.open(path)) // 2).save(path)
    take_file(workspace, "unknown", address, path.read_bytes(), path.name)
    (unknown / FILE).write_bytes(crate(files[2:]))
    open_game(workspace, unknown)
    edit = workspace.edit("unknown", address)
    assert edit.state == "attention"
    assert edit.steps, "no version is lost"


def test_a_file_that_another_program_takes_away_while_it_is_listed(
    workspace: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An updater's draft is there for a moment: the game is opened all the same, and the draft is no original."""
    folder = tmp_path / "drafts"
    folder.mkdir()
    for name in ("kept.zip", "draft.zip"):
        with zipfile.ZipFile(folder / name, "w") as archive:
            archive.writestr("a.txt", "a line of words\n")
    settle = Archives.settle

    def gone(self: Archives, listed: list[Any]) -> None:
        (folder / "draft.zip").unlink(missing_ok=True)
        settle(self, listed)

    monkeypatch.setattr(Archives, "settle", gone)
    project = str(open_game(workspace, folder)["project"])
    assert workspace.find(project, "kept.zip//a.txt").member.kind == "text"
    monkeypatch.undo()
    open_game(workspace, folder)
    with workspace.database.session() as session:
        rows = session.scalars(select(ArchiveRow.address).where(ArchiveRow.project_id == project)).all()
    assert [row for row in rows if row.endswith(".zip")] == ["kept.zip"]
