"""The trial of what Brae promises: killed at every point, and every two things at once.

``python -m tests.work.trial`` carries out all of it and prints figures; tests/work/test_trial.py a part that is
bounded in time.
"""

from __future__ import annotations

import hashlib
import io
import itertools
import os
import random
import shutil
import signal
import sqlite3
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from brae.core.containers.nesting import open_path
from brae.core.errors import BraeError
from brae.demo import DESKTOP, DISC, desktop, disc
from brae.store import Home
from brae.work import Workspace, builds
from brae.work.adding import Beginning, additions, make, take_away
from brae.work.edits import exchange_file, put_in_work, set_remedies, take_file
from brae.work.items import original_bytes
from brae.work.opening import open_game
from brae.work.projects import choose
from tests.forking import server

SAIL = "data/harbour.kist//textures/boat/sail.ptx"
SKY = "data/harbour.kist//textures/harbour/sky.ptx"
_VOLUME = "skerry.bin//CARGO.VOL"
SCREEN, SPRITE = f"{_VOLUME}//MENUS.SCR//0012", f"{_VOLUME}//S00003.SLT"
#: how a build goes into the game, and on which game
WAYS = ("patch", "rebuild", "disc", "disc moved", "loose", "add-on")


def digests(folder: Path) -> dict[str, str]:
    """Every file's hash, by path; what a build has begun to write beside them does not count."""
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not path.name.endswith(".brae-new")
    }


def _painted(workspace: Workspace, address: str, *, noisy: bool) -> bytes:
    """An item's picture, changed as an editor would."""
    put_in_work(workspace, "skerry", address)
    pixels = np.array(Image.open(exchange_file(workspace, workspace.edit("skerry", address))))
    rows, columns = pixels.shape[0] // 2, pixels.shape[1] // 2
    pixels[rows - 6 : rows + 6, columns - 6 : columns + 6, :3] = (40, 160, 90)
    if noisy:
        pixels[..., :3] = np.random.default_rng(2).integers(0, 256, pixels[..., :3].shape)
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "png")
    return stream.getvalue()


# ---- killed at every point ------------------------------------------------------------------------------

#: calls into the operating system or the database that change something, by the name of the function
_CALLS = {
    "write", "writelines", "flush", "fsync", "replace", "rename", "unlink", "remove", "mkdir", "rmdir", "truncate",
    "ftruncate", "commit", "execute", "executemany", "copy_file_range", "close", "chmod", "symlink", "link",
}  # fmt: skip
_OWNERS = (io.IOBase, sqlite3.Connection, sqlite3.Cursor)


class Counter_:
    """Counts every such call of all threads; before the ``last``-th the process kills itself (SIGKILL)."""

    def __init__(self, last: int | None) -> None:
        self.count, self._last, self._lock = 0, last, threading.Lock()

    def __call__(self, frame: object, event: str, call: Any) -> None:
        if event != "c_call" or call.__name__ not in _CALLS:
            return
        if getattr(call, "__module__", None) != "posix" and not isinstance(call.__self__, _OWNERS):
            return
        with self._lock:
            self.count += 1
            if self.count == self._last:
                os.kill(os.getpid(), signal.SIGKILL)

    def run(self, work: Callable[[], object]) -> int:
        """Do something under this count."""
        threading.setprofile(self)
        sys.setprofile(self)
        try:
            work()
        finally:
            sys.setprofile(None)
            threading.setprofile(None)  # type: ignore[arg-type]
        return self.count


_SERVER = server("tests.work.trial")


def _counted(home: Path, work: Callable[[Workspace], object], last: int | None, told: Any) -> None:
    workspace = Workspace(Home(home))
    told.send(Counter_(last).run(lambda: work(workspace)))


def _in_child(home: Path, work: Callable[[Workspace], object], last: int | None) -> int | None:
    """Do something in a process of its own; how many calls it made, or None where it was killed."""
    listening, told = _SERVER.Pipe(duplex=False)
    child = _SERVER.Process(target=_counted, args=(home, work, last, told))
    child.start()
    told.close()
    child.join(120)
    if child.exitcode == -signal.SIGKILL:
        return None
    assert child.exitcode == 0, "the process failed by itself, or waits for ever"
    return int(listening.recv())


@dataclass
class Ready:
    """A game with edits, before a build and after it, each with its home."""

    folder: Path
    before: dict[str, str]
    after: dict[str, str]
    addresses: list[str] = field(default_factory=list)
    #: items that the game has not
    made: list[str] = field(default_factory=list)

    @property
    def game(self) -> Path:
        return self.folder / "now" / "skerry"

    @property
    def home(self) -> Path:
        return self.folder / "now" / "home"

    def reset(self, state: str) -> None:
        """Put everything to where it was before, or after, the build."""
        shutil.rmtree(self.folder / "now", ignore_errors=True)
        # With their times: Brae knows its files by them.
        shutil.copytree(self.folder / state, self.folder / "now", copy_function=shutil.copy2)


def prepare(way: str, made_desktop: Path, made_disc: Path, folder: Path) -> Ready:
    """A game by one of the ``WAYS``."""
    on_disc, noisy = way.startswith("disc"), way in ("rebuild", "disc moved")
    ready = Ready(folder, {}, {}, [SCREEN, SPRITE] if on_disc else [SAIL, SKY])
    shutil.copytree(made_disc if on_disc else made_desktop, ready.game, copy_function=shutil.copy2)
    workspace = Workspace(Home(ready.home))
    open_game(workspace, ready.game)
    for address in ready.addresses:
        data = _painted(workspace, address, noisy=noisy and address in (SAIL, SCREEN))
        take_file(workspace, "skerry", address, data, "edit.png")
    if way in ("loose", "add-on"):
        choose(workspace, "skerry", way=way)
    if way in ("rebuild", "add-on"):
        ready.made.append(make(workspace, "skerry", Beginning(SKY, "textures/harbour/sky_new.ptx")))
    workspace.close()
    ready.before = digests(ready.game)
    shutil.copytree(folder / "now", folder / "before", copy_function=shutil.copy2)
    workspace = Workspace(Home(ready.home))
    builds.build(workspace, "skerry", may_grow=True)
    workspace.close()
    ready.after = digests(ready.game)
    assert ready.after != ready.before
    shutil.copytree(folder / "now", folder / "after", copy_function=shutil.copy2)
    return ready


def _build(workspace: Workspace) -> None:
    builds.build(workspace, "skerry", may_grow=True)


def _restore(workspace: Workspace) -> None:
    builds.restore(workspace, "skerry")


def check_sound(home: Path) -> None:
    """The database is whole, as SQLite itself says."""
    with sqlite3.connect(home / "brae.db") as connection:
        assert connection.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert connection.execute("PRAGMA foreign_key_check").fetchall() == []


def check_after_kill(ready: Ready) -> str:
    """What is to hold after a kill, whenever it came; returns as what the game was found."""
    workspace = Workspace(Home(ready.home))  # the next start finishes what was begun
    left = [path.name for path in ready.game.rglob("*.brae-new")]
    assert left == [], "nothing of Brae's own is left in the game's folders"
    found = digests(ready.game)
    assert found in (ready.before, ready.after)
    assert not list((ready.home / "journals").iterdir())
    for address in ready.addresses:
        assert workspace.edit("skerry", address).position == 1, "the edits are kept"
        project, item = workspace.project("skerry"), workspace.find("skerry", address)
        original_bytes(workspace, project, item)
    assert [one.address for one in additions(workspace, "skerry")] == ready.made
    back = builds.restore(workspace, "skerry")
    assert back["left"] == []
    assert digests(ready.game) == ready.before
    workspace.close()
    check_sound(ready.home)
    return "before" if found == ready.before else "after"


def kill_points(ready: Ready, what: str, chosen: Callable[[int], Iterable[int]]) -> Counter[str]:
    """Kill a build or a restore before its n-th call, for the n that are ``chosen`` of all; what was found then."""
    start, work = ("before", _build) if what == "build" else ("after", _restore)
    ready.reset(start)
    total = _in_child(ready.home, work, None)
    assert total is not None
    outcomes: Counter[str] = Counter()
    for number in chosen(total):
        ready.reset(start)
        killed = _in_child(ready.home, work, number) is None
        # Threads take turns otherwise each time, so that the last calls may not be reached.
        assert killed or number > total * 0.9, f"{what} was not killed at {number} of {total}"
        try:
            outcomes[check_after_kill(ready)] += 1
        except BaseException as error:
            error.add_note(f"{what} killed at {number} of {total}")
            raise
    outcomes["points"] = total
    return outcomes


# ---- two things at once ---------------------------------------------------------------------------------


@dataclass
class Stage:
    """A workspace on which two things happen at once, and what was seen."""

    folder: Path
    #: another version of the game's files, as an update brings them
    update: dict[str, bytes]
    pictures: list[bytes]
    refused: Counter[str] = field(default_factory=Counter)

    @property
    def game(self) -> Path:
        return self.folder / "skerry"

    @property
    def home(self) -> Path:
        return self.folder / "home"

    def act(self, name: str, workspace: Workspace, number: int) -> None:
        """One of the things that can happen. Refusals in words are in order; any other error is a fault."""
        try:
            ACTS[name](self, workspace, number)
        except BraeError as error:
            assert error.code in ("in-use", "changed-behind", "not-found", "read-only"), (
                f"{name}: {error!r} {error}"
            )
            self.refused[f"{name}: {error.code}"] += 1


def _open(stage: Stage, workspace: Workspace, number: int) -> None:
    open_game(workspace, stage.game)


def _take(stage: Stage, workspace: Workspace, number: int) -> None:
    take_file(workspace, "skerry", SAIL, stage.pictures[number % len(stage.pictures)], f"sail{number}.png")


def _remedy(stage: Stage, workspace: Workspace, number: int) -> None:
    for remedies in (["make-opaque"], []):
        set_remedies(workspace, "skerry", SAIL, remedies)


def _update(stage: Stage, workspace: Workspace, number: int) -> None:
    """Another program replaces the game's files, each at once, as an updater does."""
    for path, data in stage.update.items():
        # A draft of its own: two updaters at once do not take each other's away.
        draft = stage.game / f"{path}.{number}.updating"
        draft.write_bytes(data)
        draft.replace(stage.game / path)


def _make(stage: Stage, workspace: Workspace, number: int) -> None:
    """A new item, and away again."""
    address = make(workspace, "skerry", Beginning(SKY, f"textures/harbour/new{number}.ptx"))
    take_away(workspace, "skerry", address)


ACTS: dict[str, Callable[[Stage, Workspace, int], None]] = {
    "open": _open,
    "take": _take,
    "remedy": _remedy,
    "build": lambda stage, workspace, number: _build(workspace),
    "restore": lambda stage, workspace, number: _restore(workspace),
    "update": _update,
    "make": _make,
}


def pairs() -> Iterator[tuple[str, str]]:
    """Every two things that can happen at once, one and the same included."""
    return itertools.combinations_with_replacement(ACTS, 2)


def stage_for(made_desktop: Path, folder: Path) -> Stage:
    """An opened game with two edits, and an update of it (the game with another sail)."""
    made = Stage(folder, {}, [])
    shutil.copytree(made_desktop, made.game, copy_function=shutil.copy2)
    workspace = Workspace(Home(made.home))
    open_game(workspace, made.game)
    for colour in range(4):
        image = Image.new("RGBA", (64, 64), (40 * colour, 90, 200 - 30 * colour, 255))
        stream = io.BytesIO()
        image.resize(Image.open(io.BytesIO(_painted(workspace, SAIL, noisy=False))).size).save(stream, "png")
        made.pictures.append(stream.getvalue())
    for address in (SAIL, SKY):
        take_file(workspace, "skerry", address, _painted(workspace, address, noisy=False), "edit.png")
    before = digests(made.game)
    builds.build(workspace, "skerry")
    changed = [path for path, sha in digests(made.game).items() if before.get(path) != sha]
    made.update = {path: (made.game / path).read_bytes() for path in changed}
    builds.restore(workspace, "skerry")
    assert digests(made.game) == before
    workspace.close()
    return made


def _alone(stage: Stage, name: str, number: int, wait: float) -> None:
    """One of two things, in a process of its own."""
    workspace = Workspace(Home(stage.home))
    time.sleep(wait)
    stage.act(name, workspace, number)
    workspace.close()


def at_once(stage: Stage, first: str, second: str, *, processes: bool, built: bool, chance: random.Random) -> None:
    """Do two things at once, then check that nothing is lost."""
    known = [digests(stage.game)]
    known.append(known[0] | {path: hashlib.sha256(data).hexdigest() for path, data in stage.update.items()})
    workspace = Workspace(Home(stage.home))
    if built:
        _build(workspace)
    known_steps = {one.file_sha256 for one in workspace.edit("skerry", SAIL).steps}
    waits = [chance.uniform(0, 0.15), chance.uniform(0, 0.15)]
    if processes:
        workspace.close()
        children = [
            _SERVER.Process(target=_alone, args=(stage, name, number, wait))
            for number, (name, wait) in enumerate(zip((first, second), waits, strict=True))
        ]
        for child in children:
            child.start()
        for child in children:
            child.join(60)
        assert [child.exitcode for child in children] == [0, 0]
        workspace = Workspace(Home(stage.home))
    else:
        faults: list[BaseException] = []

        def run(name: str, number: int, wait: float) -> None:
            time.sleep(wait)
            try:
                stage.act(name, workspace, number)
            except BaseException as error:
                faults.append(error)

        threads = [
            threading.Thread(target=run, args=(name, number, wait))
            for number, (name, wait) in enumerate(zip((first, second), waits, strict=True))
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        if faults:
            raise faults[0]
    _check_nothing_lost(stage, workspace, known, known_steps, {first, second})
    workspace.close()
    check_sound(stage.home)


def _check_nothing_lost(
    stage: Stage, workspace: Workspace, known: list[dict[str, str]], steps: set[str], acts: set[str]
) -> None:
    updated = "update" in acts
    open_game(workspace, stage.game)  # whatever an update brought is the original from now on
    assert additions(workspace, "skerry") == []
    edit = workspace.edit("skerry", SAIL)
    kept = {step.file_sha256 for step in edit.steps}
    assert steps <= kept, "no version is lost"
    if "take" in acts:
        saved = {hashlib.sha256(picture).hexdigest() for picture in stage.pictures[:2]}
        assert saved & kept, "what was saved came back"
    builds.restore(workspace, "skerry")
    found = digests(stage.game)
    for path, sha in found.items():
        allowed = {one[path] for one in known[: 1 + updated] if path in one}
        assert sha in allowed, f"{path} is neither the original nor the update"
    # What is shown as an original is what lies in the file.
    project, item = workspace.project("skerry"), workspace.find("skerry", SAIL)
    file, member = SAIL.split("//")
    there = open_path(stage.game / file, [], workspace.library()).container
    assert original_bytes(workspace, project, item) == there.read(there.index_of(member))
    if updated:  # back to the game as it was, for the next two
        for path in stage.update:
            data = (stage.folder / "first" / path).read_bytes()
            (stage.game / path).write_bytes(data)
        open_game(workspace, stage.game)
        assert digests(stage.game) == known[0]


def keep_first(stage: Stage) -> None:
    """Keep the game as it is at first, so that it can be updated again and again."""
    shutil.copytree(stage.game, stage.folder / "first", copy_function=shutil.copy2)


def _all_points(way: str, root: Path) -> list[str]:
    """Every kill point of one way; a line for each of build and restore."""
    ready = prepare(way, root / DESKTOP, root / DISC, root / way)
    lines = []
    for what in ("build", "restore"):
        began = time.monotonic()
        found = kill_points(ready, what, lambda total: range(1, total + 1))
        words = ", ".join(f"{count} {word}" for word, count in sorted(found.items()) if word != "points")
        lines.append(f"  {way}, {what}: {found['points']} points: {words} ({time.monotonic() - began:.0f} s)")
    return lines


def main() -> None:
    """All of it, with its figures."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory(prefix="brae-trial-") as name:
        root = Path(name)
        desktop.generate(root)
        disc.generate(root, screens=40, members=96, film=12)
        print("killed at every point", flush=True)
        with ProcessPoolExecutor(os.cpu_count(), mp_context=_SERVER) as pool:
            for lines in pool.map(_all_points, WAYS, [root] * len(WAYS)):
                print("\n".join(lines), flush=True)
        print("two things at once", flush=True)
        stage = stage_for(root / DESKTOP, root / "pairs")
        keep_first(stage)
        chance, done = random.Random(5), 0
        for _ in range(rounds):
            for first, second in pairs():
                for processes in (False, True):
                    for built in (False, True):
                        at_once(stage, first, second, processes=processes, built=built, chance=chance)
                        done += 1
        print(f"  {done} pairs of {len(ACTS)} acts by threads and processes, nothing lost; refused in words:")
        for words, count in sorted(stage.refused.items()):
            print(f"    {words}: {count} (by threads)")


if __name__ == "__main__":
    from tests.work.trial import main as whole  # by its own name, which processes of its pool know

    whole()
