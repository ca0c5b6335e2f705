"""The exchange folder: names any system can hold, links, broken files, undo, and a watcher that nothing stops."""

from __future__ import annotations

import threading
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from brae.core import addresses
from brae.core.assets.texture.files import LARGE
from brae.core.errors import ChangedError, FormatError, StorageError, UnknownFormatError
from brae.store.models import Edit
from brae.work import Workspace, planning, watch
from brae.work.edits import (
    exchange_file,
    go_to,
    put_in_work,
    set_choices,
    take_beside,
    take_file,
    take_out_of_work,
)
from brae.work.items import look_at
from brae.work.opening import open_game
from brae.work.watch import Watcher
from tests.work.test_flow import SAIL, SKY, come_back, edit_of, paint


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    open_game(workspace, game)
    return game


def _png(colour: tuple[int, int, int] = (9, 90, 200)) -> bytes:
    import io

    stream = io.BytesIO()
    Image.fromarray(np.full((8, 8, 3), colour, np.uint8)).save(stream, "png")
    return stream.getvalue()


def _zip_of(path: Path, *names: str) -> None:
    with zipfile.ZipFile(path, "w") as archive:
        for number, name in enumerate(names):
            archive.writestr(name, _png((number, 7, 7)))


# ---- names


def test_names_that_differ_in_letter_case_have_files_of_their_own(workspace: Workspace, tmp_path: Path) -> None:
    names = ["boat/Sail.png", "boat/sail.png", "BOAT/sail.png", "boat/SAIL.png"]
    (tmp_path / "skerry").mkdir()
    _zip_of(tmp_path / "skerry" / "a.zip", *names)
    open_game(workspace, tmp_path / "skerry")
    files = []
    for name in names:
        put_in_work(workspace, "skerry", f"a.zip//{name}")
        files.append(exchange_file(workspace, edit_of(workspace, f"a.zip//{name}")))
    assert len({str(file).casefold() for file in files}) == len(names)
    for number, file in enumerate(files):
        assert np.array(Image.open(file))[0, 0].tolist()[:3] == [number, 7, 7], "each shows its own picture"
        file.write_bytes(_png((number, 200, 7)))
        Watcher(workspace).take(file)
    for number, name in enumerate(names):
        step = edit_of(workspace, f"a.zip//{name}").current
        assert step is not None
        assert workspace.blobs.get(step.file_sha256) == _png((number, 200, 7))


@pytest.mark.parametrize(
    "name",
    [
        "n" * 253,
        "x" * 300,
        "ф" * 130,
        "a/" + "long " * 60 + "/b",
        "dir.png",
        "CON/aux.png",
        "end. ",
        "..%2f..",
        "co:lon?.png",
        "ta\tb.png",
        "../../outside.png",
    ],
)
def test_any_name_can_be_put_in_work(workspace: Workspace, tmp_path: Path, name: str) -> None:
    (tmp_path / "skerry").mkdir()
    _zip_of(tmp_path / "skerry" / "a.zip", name, "dir.png.png/inside")
    open_game(workspace, tmp_path / "skerry")
    address = addresses.join("a.zip", addresses.quote(name))
    put_in_work(workspace, "skerry", address)
    file = exchange_file(workspace, edit_of(workspace, address))
    assert file.is_file()
    assert workspace.exchange_folder("skerry").resolve() in file.resolve().parents
    file.write_bytes(_png())
    Watcher(workspace).take(file)
    assert edit_of(workspace, address).state in ("ready", "attention")
    put_in_work(workspace, "skerry", addresses.join("a.zip", "dir.png.png/inside"))


@given(st.lists(st.text(st.sampled_from("aAbB/.~1ß"), min_size=1, max_size=6), min_size=1, max_size=12))
def test_exchange_paths_never_meet(names: list[str]) -> None:
    taken: list[str] = []
    for level in addresses.labels_of(names):
        taken.append(addresses.exchange_path(addresses.join("x.zip", level), "png", taken))
    folded = [path.casefold() for path in taken]
    assert len(set(folded)) == len(folded)
    assert not any(other.startswith(f"{path}/") for path in folded for other in folded), "no file is a folder"
    assert all(len(step.encode()) <= 255 for path in taken for step in path.split("/"))


# ---- links and other things in the place of a file


@pytest.mark.parametrize("what", ["file", "broken", "folder", "parent"])
def test_nothing_is_read_or_written_through_a_link(workspace: Workspace, opened: Path, what: str) -> None:
    put_in_work(workspace, "skerry", SAIL)
    file = exchange_file(workspace, edit_of(workspace, SAIL))
    outside = opened.parent / "outside"
    outside.mkdir()
    (outside / file.name).write_bytes(_png())
    secret = (outside / file.name).read_bytes()
    file.unlink()
    if what == "file":
        file.symlink_to(outside / file.name)
    elif what == "broken":
        file.symlink_to(outside / "nowhere")
    elif what == "folder":
        file.mkdir()
    else:
        file.parent.rmdir()
        file.parent.symlink_to(outside)
    for act in (
        lambda: put_in_work(workspace, "skerry", SAIL),
        lambda: take_out_of_work(workspace, "skerry", SAIL),
        lambda: go_to(workspace, "skerry", SAIL, 0),
    ):
        with pytest.raises(ChangedError, match="not what Brae put there"):
            act()
    if what != "broken":
        watcher = Watcher(workspace)
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(watch, "_PATIENCE", 0.1)
            watcher.take(file)
        assert "not what Brae put there" in (edit_of(workspace, SAIL).fault or "")
    assert edit_of(workspace, SAIL).steps == []
    assert sorted(path.name for path in outside.iterdir()) == [file.name]
    assert (outside / file.name).read_bytes() == secret


# ---- broken files


def test_a_broken_file_is_put_aside_and_the_item_can_be_edited_again(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL))
    file = exchange_file(workspace, edit_of(workspace, SAIL))
    file.write_bytes(b"\x89PNG half a pict")
    take_out_of_work(workspace, "skerry", SAIL)
    (aside,) = file.parent.glob("*not readable*")
    assert aside.read_bytes() == b"\x89PNG half a pict"
    assert len(edit_of(workspace, SAIL).steps) == 1, "what is no picture is no version"
    put_in_work(workspace, "skerry", SAIL)
    edit = edit_of(workspace, SAIL)
    assert (edit.state, edit.fault) == ("ready", None)
    assert file.is_file()


def test_a_broken_version_from_before_does_not_lock_the_item(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL))
    with workspace.database.change() as session:
        row = session.merge(edit_of(workspace, SAIL))
        row.steps[0].file_sha256 = workspace.blobs.put(b"no picture at all")
    exchange_file(workspace, edit_of(workspace, SAIL)).unlink()
    take_out_of_work(workspace, "skerry", SAIL)
    put_in_work(workspace, "skerry", SAIL)
    edit = edit_of(workspace, SAIL)
    assert (edit.in_work, edit.state) == (True, "attention")
    assert "not a picture" in (edit.fault or "")
    assert planning.plan(workspace, "skerry").edits == []
    take_file(workspace, "skerry", SAIL, _png(), "sail.png")
    assert edit_of(workspace, SAIL).fault is None


def test_a_huge_file_that_is_no_picture_is_refused_by_its_beginning(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", SAIL)
    file = exchange_file(workspace, edit_of(workspace, SAIL))
    header = file.read_bytes()[:64]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Path, "read_bytes", lambda _: pytest.fail("the whole file is read"))
        for head, error in ((b"", UnknownFormatError), (b"RIFF", UnknownFormatError), (header, FormatError)):
            with file.open("wb") as stream:
                stream.write(head)
                stream.truncate(LARGE * 8)
            with pytest.raises(error):
                Watcher(workspace)._read(file, edit_of(workspace, SAIL))


def test_a_level_by_hand_and_one_level_go_together(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SKY, paint(workspace, SKY))
    stored = look_at(workspace, "skerry", SKY)[1].edit
    width, height = stored.header.sides(2)
    level = np.full((height, width, 4), (200, 10, 10, 255), np.uint8)
    import io

    stream = io.BytesIO()
    Image.fromarray(level).save(stream, "png")
    take_beside(workspace, "skerry", SKY, "2", stream.getvalue(), "red.png")
    set_choices(workspace, "skerry", SKY, {"levels": 1})
    one = look_at(workspace, "skerry", SKY)[1].edit
    assert one.header.levels == 1
    set_choices(workspace, "skerry", SKY, {})
    again = look_at(workspace, "skerry", SKY)[1].edit
    assert again.header.levels == stored.header.levels
    assert abs(again.shown(2)[..., 0].astype(int) - 200).max() < 12, "the level by hand is back"


# ---- undo


def test_undo_changes_the_file_that_an_editor_shows(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", SAIL)
    file = exchange_file(workspace, edit_of(workspace, SAIL))
    sent = file.read_bytes()
    versions = [sent]
    for colour in ((200, 30, 30), (30, 200, 30)):
        paint(workspace, SAIL, colour)
        Watcher(workspace).take(file)
        versions.append(file.read_bytes())
    for position in (1, 0, 2, 1):
        go_to(workspace, "skerry", SAIL, position)
        assert file.read_bytes() == versions[position]
        Watcher(workspace).take(file)
        assert edit_of(workspace, SAIL).position == position, "what Brae wrote itself is no edit"
        assert len(edit_of(workspace, SAIL).steps) == 2
    file.write_bytes(_png())
    go_to(workspace, "skerry", SAIL, 2)
    assert file.read_bytes() == _png(), "what was saved and not taken yet is not written over"
    Watcher(workspace).take(file)
    assert edit_of(workspace, SAIL).position == 3


def test_undo_to_a_file_of_another_type_writes_a_picture_of_the_first(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", SAIL)
    file = exchange_file(workspace, edit_of(workspace, SAIL))
    pixels = np.array(Image.open(file).convert("RGB"))
    other = file.with_suffix(".bmp")
    Image.fromarray(255 - pixels).save(other)
    take_file(workspace, "skerry", SAIL, other.read_bytes(), other.name)
    take_file(workspace, "skerry", SAIL, _png(), "next.png")
    go_to(workspace, "skerry", SAIL, 1)
    assert (np.array(Image.open(file).convert("RGB")) == 255 - pixels).all()
    assert file.read_bytes()[:4] == b"\x89PNG"


# ---- watching


@pytest.fixture
def watching(workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Watcher]:
    monkeypatch.setattr(watch, "_PATIENCE", 4.0)
    watcher = Watcher(workspace)
    watcher.start()
    yield watcher
    watcher.stop()


def _until(done: object, seconds: float = 20) -> None:
    deadline = time.monotonic() + seconds
    while not done():  # type: ignore[operator]
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_files_that_cannot_be_read_hold_up_no_other(workspace: Workspace, watching: Watcher) -> None:
    waiting = [SAIL, *(f"data/harbour.kist//textures/boat/{name}.ptx" for name in ("hull", "hull_wear", "pennant"))]
    for address in waiting:
        put_in_work(workspace, "skerry", address)
        exchange_file(workspace, edit_of(workspace, address)).write_bytes(b"\x89PNG and no more")
    time.sleep(0.6)
    began = time.monotonic()
    paint(workspace, SKY)
    _until(lambda: edit_of(workspace, SKY).position == 1)
    assert time.monotonic() - began < 3.5, "less than the patience with the broken ones"
    _until(lambda: all(edit_of(workspace, one).fault for one in waiting))


def test_what_could_not_be_taken_is_tried_again(
    workspace: Workspace, watching: Watcher, monkeypatch: pytest.MonkeyPatch
) -> None:
    put_in_work(workspace, "skerry", SAIL)
    real, refused = watch.take_file, []

    def refusing(*arguments: object, **named: object) -> bool:
        if len(refused) < 3:
            refused.append(StorageError("Another program holds Brae's database."))
            raise refused[-1] if len(refused) > 1 else RuntimeError("some fault")
        return real(*arguments, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(watch, "take_file", refusing)
    paint(workspace, SAIL)
    _until(lambda: edit_of(workspace, SAIL).position == 1)
    assert len(refused) == 3
    assert edit_of(workspace, SAIL).fault is None


def test_the_folder_may_go_and_come_back(workspace: Workspace, watching: Watcher) -> None:
    import shutil

    put_in_work(workspace, "skerry", SAIL)
    time.sleep(0.5)
    shutil.rmtree(workspace.home.exchange)
    time.sleep(1.5)
    put_in_work(workspace, "skerry", SAIL)
    time.sleep(1.5)
    paint(workspace, SAIL)
    _until(lambda: edit_of(workspace, SAIL).position == 1)


def test_a_file_saved_by_many_at_once_loses_no_version(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", SAIL)
    colours = [(k * 20, 255 - k * 20, 90) for k in range(8)]

    def save(colour: tuple[int, int, int]) -> None:
        take_file(workspace, "skerry", SAIL, _png(colour), "sail.png")

    threads = [threading.Thread(target=save, args=(colour,)) for colour in colours]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    kept = {workspace.blobs.get(step.file_sha256) for step in edit_of(workspace, SAIL).steps}
    assert kept == {_png(colour) for colour in colours}
    assert edit_of(workspace, SAIL).position == len(colours)


def test_what_was_read_before_a_version_came_in_otherwise_is_no_save(
    workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The watcher has read the file that was sent; then a version is put in its place: the old one is not taken."""
    put_in_work(workspace, "skerry", SAIL)
    file = exchange_file(workspace, edit_of(workspace, SAIL))
    sent = file.read_bytes()
    read = Watcher._read

    def slowly(self: Watcher, path: Path, edit: Edit) -> bytes:
        data = read(self, path, edit)
        if not edit_of(workspace, SAIL).steps:
            take_file(workspace, "skerry", SAIL, _png((1, 2, 3)), "made.png", what="made")
        return data

    monkeypatch.setattr(Watcher, "_read", slowly)
    Watcher(workspace).take(file)
    assert [step.what for step in edit_of(workspace, SAIL).steps] == ["made"]
    assert file.read_bytes() == _png((1, 2, 3))
    monkeypatch.undo()
    file.write_bytes(sent)  # by somebody who wants it back: that is a save
    Watcher(workspace).take(file)
    assert [step.what for step in edit_of(workspace, SAIL).steps] == ["made", "file came back"]
