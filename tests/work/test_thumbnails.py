"""Small previews are kept: found by place, found by content, never wrong, never in the way."""

from __future__ import annotations

import io
import os
import shutil
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.base import Preview, Viewed
from brae.core.assets.registry import kind_of
from brae.store.thumbnails import Thumbnails
from brae.work import Workspace
from brae.work.items import preview_of
from brae.work.opening import open_game


def _png(colour: tuple[int, int, int]) -> bytes:
    stream = io.BytesIO()
    image = Image.new("RGB", (300, 200), colour)
    image.paste((255, 255, 255), (0, 0, 40, 40))
    image.save(stream, "PNG")
    return stream.getvalue()


@pytest.fixture
def small(tmp_path: Path, workspace: Workspace) -> str:
    game = tmp_path / "small"
    game.mkdir()
    with zipfile.ZipFile(game / "a.zip", "w") as archive:
        archive.writestr("red.png", _png((200, 0, 0)))
        archive.writestr("again/red.png", _png((200, 0, 0)))
        archive.writestr("blue.png", _png((0, 0, 200)))
    return str(open_game(workspace, game)["project"])


TEXTURE = kind_of("texture")
QUERY = TEXTURE.query.model_validate({"fit": "128"})


def _colour(made: Preview) -> list[int]:
    image = Image.open(io.BytesIO(made.data)).convert("RGB")
    assert image.format is None
    assert image.size == (128, 85)
    return [round(value / 20) * 20 for value in np.asarray(image)[60, 100].tolist()]


def _drawn(monkeypatch: pytest.MonkeyPatch) -> list[object]:
    """What is drawn from here on."""
    drawn: list[object] = []
    plain = type(TEXTURE).preview

    def preview(self: object, viewed: Viewed, query: object) -> Preview:
        drawn.append(query)
        return plain(TEXTURE, viewed, query)

    monkeypatch.setattr(type(TEXTURE), "preview", preview)
    return drawn


def test_a_picture_is_drawn_once_for_its_bytes(
    workspace: Workspace, small: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn = _drawn(monkeypatch)
    red = preview_of(workspace, small, "a.zip//red.png", QUERY)
    assert (_colour(red), red.media) == ([200, 0, 0], "image/webp")
    assert preview_of(workspace, small, "a.zip//red.png", QUERY) == red
    assert preview_of(workspace, small, "a.zip//again/red.png", QUERY) == red
    assert len(drawn) == 1
    assert _colour(preview_of(workspace, small, "a.zip//blue.png", QUERY)) == [0, 0, 200]
    # Another size is another picture.
    preview_of(workspace, small, "a.zip//red.png", TEXTURE.query.model_validate({"fit": "64"}))
    assert len(drawn) == 3


def test_a_changed_game_shows_what_is_there_now(
    workspace: Workspace, small: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An update that exchanges two pictures: nothing old is shown, and what only moved is not drawn again."""
    for name in ("red.png", "blue.png"):
        preview_of(workspace, small, f"a.zip//{name}", QUERY)
    drawn = _drawn(monkeypatch)
    file = tmp_path / "small" / "a.zip"
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("red.png", _png((0, 0, 200)))
        archive.writestr("blue.png", _png((0, 200, 0)))
    os.utime(file, ns=(1, 10**18))
    open_game(workspace, tmp_path / "small")
    assert _colour(preview_of(workspace, small, "a.zip//red.png", QUERY)) == [0, 0, 200]
    assert drawn == []
    assert _colour(preview_of(workspace, small, "a.zip//blue.png", QUERY)) == [0, 200, 0]
    assert len(drawn) == 1


@pytest.mark.parametrize("damage", ["gone", "garbage", "a folder"])
def test_a_damaged_cache_is_no_harm(workspace: Workspace, small: str, damage: str) -> None:
    path = workspace.home.thumbnails
    red = preview_of(workspace, small, "a.zip//red.png", QUERY)
    workspace.thumbnails.close()
    for name in (path, path.with_name(path.name + "-wal"), path.with_name(path.name + "-shm")):
        name.unlink(missing_ok=True)
    if damage == "garbage":
        path.write_bytes(b"no database at all" * 500)
    elif damage == "a folder":
        path.mkdir()
    workspace.thumbnails = Thumbnails(path)
    for _ in range(2):
        assert preview_of(workspace, small, "a.zip//red.png", QUERY) == red
    workspace.thumbnails.close()
    if path.is_dir():
        shutil.rmtree(path)


def test_two_threads_and_too_many_pictures(tmp_path: Path) -> None:
    kept, other = (Thumbnails(tmp_path / "thumbnails.db", most=100_000) for _ in range(2))

    def keep(number: int) -> None:
        (kept, other)[number % 2].keep(f"p{number}", f"c{number}", Preview(bytes(200), "image/webp"))

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(keep, range(4100)))
    left = [number for number in range(4100) if kept.at(f"p{number}") is not None]
    assert 300 < len(left) < 3000, "room was made when there was too much"
    assert kept.at(f"p{left[-1]}") == other.of(f"c{left[-1]}") == Preview(bytes(200), "image/webp")
    assert left[-1] > 4050, "the newest stay"
    kept.close()
    other.close()
