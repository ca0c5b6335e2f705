"""The cache of what pictures are found by: it may be damaged, held by another process, or too large."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np

from brae.core.find.pictures import Shown
from brae.store.likenesses import Likenesses, key


def _shown(seed: int) -> Shown:
    return Shown.of(np.random.default_rng(seed).integers(0, 256, (40, 30, 4), dtype=np.uint8))


def test_what_is_kept_comes_back(tmp_path: Path) -> None:
    memory = Likenesses(tmp_path / "l.db")
    made = {key("one", k): _shown(k) for k in range(700)}
    memory.keep(made)
    memory.keep(dict(list(made.items())[:2]))
    found = memory.of([*made, key("nobody")])
    assert set(found) == set(made)
    assert all(found[name].kept == made[name].kept for name in made)
    assert all(np.array_equal(found[name].features.signs, made[name].features.signs) for name in made)
    memory.close()


def test_a_damaged_one_is_begun_anew(tmp_path: Path) -> None:
    (tmp_path / "l.db").write_bytes(b"no database" * 1000)
    memory = Likenesses(tmp_path / "l.db")
    memory.keep({"a": _shown(1)})
    assert set(memory.of(["a"])) == {"a"}
    memory.close()


def test_one_that_another_process_holds_is_left_alone(tmp_path: Path) -> None:
    memory = Likenesses(tmp_path / "l.db")
    memory.keep({"a": _shown(1)})
    memory.close()
    holder = sqlite3.connect(tmp_path / "l.db", isolation_level=None)
    holder.execute("PRAGMA locking_mode = EXCLUSIVE")
    holder.execute("BEGIN EXCLUSIVE")
    busy = Likenesses(tmp_path / "l.db")
    busy.keep({"b": _shown(2)})
    busy.of(["a"])  # whatever it can see, it does not fail
    busy.close()
    holder.execute("ROLLBACK")
    holder.close()
    again = Likenesses(tmp_path / "l.db")
    assert set(again.of(["a", "b"])) == {"a"}
    again.close()


def test_the_oldest_go_where_there_are_too_many(tmp_path: Path) -> None:
    memory = Likenesses(tmp_path / "l.db", most=400_000)
    names = [key(k) for k in range(120)]
    for number, name in enumerate(names):
        memory.keep({name: _shown(number)})
    found = memory.of(names)
    assert names[-1] in found
    assert names[0] not in found
    assert 4 < len(found) < 60
    memory.close()
