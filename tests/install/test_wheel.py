"""The wheel, installed into an empty environment, runs from another directory without Node."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import venv
from importlib.metadata import distribution, distributions
from pathlib import Path

import pytest
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

import brae
from tests.e2e.driver import chromium, served

ROOT = Path(__file__).parents[2]
pytestmark = [pytest.mark.install]


def test_installed_wheel_drives_the_demo(tmp_path: Path) -> None:
    subprocess.run(
        [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)], cwd=ROOT, check=True
    )
    (wheel,) = tmp_path.glob("brae-*.whl")
    venv.create(tmp_path / "env", with_pip=True)
    python = tmp_path / "env/bin/python"
    subprocess.run(
        [python, "-m", "pip", "install", "-q", "--disable-pip-version-check", "--no-compile", "--no-deps", wheel],
        check=True,
    )
    place = Path(
        subprocess.run(
            [python, "-c", "import sysconfig; print(sysconfig.get_path('purelib'))"],
            check=True, capture_output=True, text=True,
        ).stdout.strip()
    )  # fmt: skip
    lend(place, requirements_of(place))
    lend_kernels(place)
    subprocess.run([python, "-m", "pip", "check", "--disable-pip-version-check"], check=True)
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    environment = {**os.environ, "PATH": f"{tmp_path / 'env/bin'}:/usr/bin:/bin", "PYTHONPATH": ""}
    brae = tmp_path / "env/bin/brae"
    made = subprocess.run(
        [brae, "demo", "--into", tmp_path / "home/games", "--no-start"], cwd=elsewhere, env=environment, check=True
    )
    assert made.returncode == 0
    found = subprocess.run(
        [brae, "inspect", tmp_path / "home/games/skerry-post-desktop/data/harbour.kist", "--json"],
        cwd=elsewhere, env=environment, check=True, capture_output=True, text=True,
    )  # fmt: skip
    assert json.loads(found.stdout)["proof"]["exact"] is True
    with (
        served(tmp_path / "home", "demo", cwd=elsewhere, brae=str(brae)) as address,
        chromium() as browser,
    ):
        page = browser.new_page()
        page.goto(address)
        page.get_by_role("button", name="Go to the demo game").click(timeout=60_000)
        page.get_by_role("grid").wait_for()
        page.get_by_role("status").filter(has_text=re.compile("^375 items")).wait_for()


def requirements_of(place: Path) -> list[str]:
    """What the installed wheel says that it needs, and what that needs: names of distributions."""
    own = next(iter(distributions(path=[str(place)], name="brae")))
    waiting, found = [Requirement(one) for one in own.requires or []], set()
    while waiting:
        one = waiting.pop()
        if one.marker is not None and not any(
            one.marker.evaluate({"extra": extra}) for extra in one.extras or [""]
        ):
            continue
        name = canonicalize_name(one.name)
        if name not in found:
            found.add(name)
            # Its own needs, and those of the extras that are asked for.
            for other in map(Requirement, distribution(name).requires or []):
                if other.marker is None or any(
                    other.marker.evaluate({"extra": extra}) for extra in {"", *one.extras}
                ):
                    other.marker = None
                    waiting.append(other)
    return sorted(found)


def lend_kernels(place: Path) -> None:
    """What was compiled of the very same sources here: that numba compiles is not the wheel's doing."""
    own = Path(brae.__file__).parent
    for source in own.rglob("*.py"):
        installed = place / "brae" / source.relative_to(own)
        compiled = list((source.parent / "__pycache__").glob(f"{source.stem}.*.nb?"))
        if compiled and installed.read_bytes() == source.read_bytes():
            # A kernel counts as compiled where its source has the same time and size.
            os.utime(installed, ns=(source.stat().st_atime_ns, source.stat().st_mtime_ns))
            (installed.parent / "__pycache__").mkdir(exist_ok=True)
            for one in compiled:
                shutil.copy2(one, installed.parent / "__pycache__" / one.name)


def lend(place: Path, names: list[str]) -> None:
    """Distributions of this environment, and no others, in an environment whose packages lie in ``place``.

    As links: to unpack a gigabyte again would show no more. What the wheel does not ask for is not there.
    """
    for name in names:
        files = distribution(name).files or []
        tops = {one.parts[0] for one in files if one.parts[0] not in ("..", "__pycache__")}
        for top in tops:
            target = Path(str(distribution(name).locate_file(top)))
            if target.exists() and not (place / top).exists():
                (place / top).symlink_to(target)
