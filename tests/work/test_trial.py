"""A part of the trial that is bounded in time; ``make trial`` does all of it."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.work import trial


@pytest.mark.parametrize("what", ["build", "restore"])
@pytest.mark.parametrize("way", trial.WAYS)
def test_killed_at_any_point(way: str, what: str, made_demo: Path, made_disc: Path, tmp_path: Path) -> None:
    """The last call that touches disk or database is, in turn, one in twelve of them, another one each time."""
    ready = trial.prepare(way, made_demo, made_disc, tmp_path)
    found = trial.kill_points(ready, what, lambda total: range(random.randint(1, 12), total + 1, total // 12))
    assert found["points"] > 40
    assert found["before"]
    assert found["after"]


@pytest.mark.parametrize("processes", [False, True], ids=["threads", "processes"])
def test_two_things_at_once(made_demo: Path, tmp_path: Path, processes: bool) -> None:
    stage = trial.stage_for(made_demo, tmp_path)
    trial.keep_first(stage)
    chance = random.Random(7)
    for number, (first, second) in enumerate(trial.pairs()):
        trial.at_once(stage, first, second, processes=processes, built=bool(number % 2), chance=chance)
