"""What items need of each other is read once: a restart, and a game that was opened again, read what is new."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pytest

from brae.core.errors import CancelledError
from brae.core.find.links import Links
from brae.jobs import Silent
from brae.store import Home
from brae.store.mentions import Mentions
from brae.work import Workspace, linking
from brae.work.opening import open_game


def _written(folder: Path, archive: str, texts: dict[str, str]) -> None:
    folder.mkdir(exist_ok=True)
    with zipfile.ZipFile(folder / archive, "w") as made:
        for name, text in texts.items():
            made.writestr(name, text)


@pytest.fixture
def reads(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The addresses of the items that were read."""
    read: list[str] = []
    real = linking._read

    def counted(*given: object) -> object:
        read.append(str(given[-1]))
        return real(*given)  # type: ignore[arg-type]

    monkeypatch.setattr(linking, "_read", counted)
    return read


def _sorted(found: Links) -> tuple[list[object], list[object]]:
    return sorted(found.links, key=str), sorted(found.missing, key=str)


def _again(home: Home, folder: Path) -> Links:
    """The links as a Brae that was started anew has them."""
    workspace = Workspace(home)
    try:
        project = str(open_game(workspace, folder)["project"])
        return linking.links(workspace, project)
    finally:
        workspace.close()


def test_only_what_is_new_is_read(home: Home, tmp_path: Path, reads: list[str]) -> None:
    game = tmp_path / "game"
    _written(game, "a.zip", {"one.txt": "see two.txt", "two.txt": "see gone.txt"})
    _written(game, "b.zip", {"three.txt": "see one.txt"})
    first = _again(home, game)
    assert {(one.owner, one.target) for one in first.links} == {
        ("a.zip//one.txt", "a.zip//two.txt"),
        ("b.zip//three.txt", "a.zip//one.txt"),
    }
    assert len(reads) == 3
    assert _sorted(_again(home, game)) == _sorted(first)
    assert len(reads) == 3, "a restart reads nothing"
    _written(game, "b.zip", {"three.txt": "see two.txt", "gone.txt": "nothing"})
    second = _again(home, game)
    assert reads[3:] == ["b.zip//three.txt", "b.zip//gone.txt"]
    # What was missing for an item that was not read again is there now.
    assert ("a.zip//two.txt", "b.zip//gone.txt") in {(one.owner, one.target) for one in second.links}
    assert second.missing == []
    home.mentions.unlink()
    assert _sorted(_again(home, game)) == _sorted(second)


def test_what_was_read_before_it_was_cancelled_is_not_read_again(
    home: Home, tmp_path: Path, reads: list[str]
) -> None:
    game = tmp_path / "game"
    _written(game, "a.zip", {f"{number}.txt": "see 0.txt" for number in range(6)})
    workspace = Workspace(home)
    project = str(open_game(workspace, game)["project"])

    class Stops(Silent):
        def tick(self, amount: int = 1) -> None:
            if len(reads) == 3:
                raise CancelledError("Cancelled.")

    with pytest.raises(CancelledError):
        linking.links(workspace, project, Stops())
    assert len(linking.links(workspace, project).links) == 5
    assert len(reads) == 6
    workspace.close()


def test_the_demo_is_linked_as_it_is_without_a_memory(
    home: Home, game: Path, reads: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    first = _again(home, game)
    read = len(reads)
    second = _again(home, game)
    assert len(reads) - read < read / 4, "but for what needs other items to be read"
    assert _sorted(second) == _sorted(first)
    assert len(first.links) > 20
    monkeypatch.setattr(Mentions, "of", lambda *_: {})
    assert _sorted(_again(home, game)) == _sorted(first)
