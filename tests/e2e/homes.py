"""Brae's folder with the demo games opened already: made once for all workers, then copied for each test."""

from __future__ import annotations

import json
import shutil
import sqlite3
import time
from pathlib import Path
from typing import Any
from urllib.request import HTTPCookieProcessor, OpenerDirector, build_opener

from filelock import FileLock

from tests.e2e.driver import base, served


def opened_home(place: Path, *games: Path) -> Path:
    """The folder in which these games lie and are opened, at ``place``; it is made where it is not there yet."""
    done = place / "opened"
    with FileLock(f"{place}.lock"):
        if not done.exists():
            home = place / "home"
            shutil.rmtree(home, ignore_errors=True)
            for game in games:
                shutil.copytree(game, home / "games" / game.name)
            # Without a browser: a worker may have one already, and there can be no second.
            with served(home, "demo") as address:
                asking = build_opener(HTTPCookieProcessor())
                asking.open(address, timeout=60)
                while not _is_opened(asking, base(address), len(games)):
                    time.sleep(0.1)
            done.touch()
    return place / "home"


def _is_opened(asking: OpenerDirector, server: str, games: int) -> bool:
    """Whether so many games were opened, and nothing is at work any more."""

    def ask(what: str) -> Any:
        return json.load(asking.open(f"{server}/api/{what}", timeout=60))

    jobs, projects = ask("jobs"), ask("projects")
    opened = [one["id"] for one in projects if ask(f"projects/{one['id']}")["files_seen"]]
    return len(opened) == games and not any(job["state"] in ("waiting", "running") for job in jobs)


def moved(kept: Path, home: Path) -> Path:
    """A copy of such a folder; its games are those of the copy, not changed since they were opened."""
    shutil.copytree(kept, home)
    with sqlite3.connect(home / "brae.db") as database:
        database.execute("UPDATE projects SET folder = replace(folder, ?, ?)", (str(kept), str(home)))
    database.close()
    for path in home.glob("ledger/*/project.json"):
        path.write_text(path.read_text().replace(str(kept), str(home)))
    return home
