"""What every test may ask for."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from filelock import FileLock
from hypothesis import HealthCheck, settings

from brae.core.layouts.library import Library
from brae.demo import DESKTOP, LAYOUTS, desktop, disc
from brae.demo import DISC as DISC_FOLDER
from brae.store import Home
from brae.work import Workspace

# Hundreds of tests start the command or a server: each would translate all of Brae's modules anew.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

settings.register_profile(
    "brae",
    deadline=None,
    max_examples=int(os.environ.get("EXAMPLES", "60")),
    # The same examples each time where a result must be repeatable; new ones at a person's desk.
    derandomize="CI" in os.environ,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
settings.load_profile("brae")


def _shared(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of this run, the same for all of its workers; what an earlier run made may be of other code."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own


@pytest.fixture(scope="session")
def made_demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo game's folder, made once for all workers; never written to."""
    folder = _shared(tmp_path_factory) / "brae-demo"
    with FileLock(f"{folder}.lock"):
        if not (folder / DESKTOP / "skerry.cfg").exists():
            desktop.generate(folder)
    return folder / DESKTOP


@pytest.fixture(scope="session")
def made_disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small disc of the demo's disc edition, made once for all workers; never written to."""
    folder = _shared(tmp_path_factory) / "brae-disc"
    with FileLock(f"{folder}.lock"):
        if not (folder / DISC_FOLDER / "skerry.cue").exists():
            disc.generate(folder, screens=40, members=96, film=12)
    return folder / DISC_FOLDER


@pytest.fixture(scope="session")
def whole_disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's disc edition as it ships, made once for all workers; never written to."""
    folder = _shared(tmp_path_factory) / "brae-whole-disc"
    with FileLock(f"{folder}.lock"):
        if not (folder / DISC_FOLDER / "skerry.cue").exists():
            disc.generate(folder)
    return folder / DISC_FOLDER


@pytest.fixture
def disc_game(made_disc: Path, tmp_path: Path) -> Path:
    """A copy of the small disc that a test may change."""
    return Path(shutil.copytree(made_disc, tmp_path / "skerry"))


@pytest.fixture
def game(made_demo: Path, tmp_path: Path) -> Path:
    """A copy of the demo game that a test may change."""
    return Path(shutil.copytree(made_demo, tmp_path / "skerry"))


@pytest.fixture
def home(tmp_path: Path) -> Home:
    """A Brae folder of the test's own."""
    return Home(tmp_path / "home")


@pytest.fixture
def workspace(home: Home) -> Iterator[Workspace]:
    """A workspace in that folder."""
    workspace = Workspace(home)
    yield workspace
    workspace.close()


@pytest.fixture(scope="session")
def library() -> Library:
    """The layouts that ship with Brae."""
    return Library.of([LAYOUTS])


@pytest.fixture(scope="session")
def photo() -> np.ndarray:
    """A picture with soft and hard parts: gradients, noise, an edge, three kinds of alpha (64 x 96)."""
    rng = np.random.default_rng(7)
    y, x = np.mgrid[0:64, 0:96]
    picture = np.empty((64, 96, 4))
    picture[..., 0] = 255 * x / 95
    picture[..., 1] = 128 + 120 * np.sin(x / 9) * np.cos(y / 7)
    picture[..., 2] = 255 * y / 63
    picture[..., 3] = 255
    picture[20:40, 30:60, :3] = (240, 180, 30)
    picture[..., :3] += rng.normal(0, 4, (64, 96, 3))
    picture[:16, :32, 3] = 0
    picture[16:32, :32, 3] = np.linspace(0, 255, 32)
    return np.clip(np.rint(picture), 0, 255).astype(np.uint8)


#: what takes longest comes first, so that no worker is left alone with it at the end
_FIRST = ("tests/install/", "tests/e2e/", "tests/work/test_trial.py", "tests/demo/", "tests/work/")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put the slow folders first; within one the order stays."""

    def rank(item: pytest.Item) -> int:
        path = item.nodeid
        return next((place for place, start in enumerate(_FIRST) if path.startswith(start)), len(_FIRST))

    items.sort(key=rank)
