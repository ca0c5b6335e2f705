"""The wheel, installed into an empty environment, runs from another directory without Node."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import venv
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

import pytest

from tests.e2e.driver import chromium, served

ROOT = Path(__file__).parents[2]
pytestmark = [pytest.mark.install, pytest.mark.xdist_group("browser-2")]


def test_installed_wheel_drives_the_demo(tmp_path: Path) -> None:
    subprocess.run(
        [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)], cwd=ROOT, check=True
    )
    (wheel,) = tmp_path.glob("brae-*.whl")
    venv.create(tmp_path / "env", with_pip=True)
    python = tmp_path / "env/bin/python"
    # The lock's versions as constraints: what was tried together is what is installed.
    pins = [
        line.split(" \\")[0].split(" ;")[0]
        for line in (ROOT / "requirements.lock").read_text().splitlines()
        if line[:1].isalnum()
    ]
    # Some stand in it twice, for older and for newer Pythons: those that were installed here.
    usable = [pin for pin in pins if _installed(*pin.split("=="))]
    (tmp_path / "pins.txt").write_text("\n".join(usable))
    subprocess.run(
        [
            python,
            "-m",
            "pip",
            "install",
            "-q",
            "--disable-pip-version-check",
            "--no-compile",
            "-c",
            tmp_path / "pins.txt",
            wheel,
        ],
        check=True,
    )
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    environment = {**os.environ, "PATH": f"{tmp_path / 'env/bin'}:/usr/bin:/bin", "PYTHONPATH": ""}
    brae = tmp_path / "env/bin/brae"
    made = subprocess.run(
        [brae, "demo", "--into", elsewhere, "--no-start"], cwd=elsewhere, env=environment, check=True
    )
    assert made.returncode == 0
    found = subprocess.run(
        [brae, "inspect", elsewhere / "skerry-post-desktop/data/harbour.kist", "--json"],
        cwd=elsewhere, env=environment, check=True, capture_output=True, text=True,
    )  # fmt: skip
    assert json.loads(found.stdout)["proof"]["exact"] is True
    with served(tmp_path / "home", "demo", cwd=elsewhere, brae=str(brae)) as address, chromium() as browser:
        page = browser.new_page()
        page.goto(address)
        page.get_by_role("button", name="Go to the demo game").click(timeout=60_000)
        page.get_by_role("grid").wait_for()
        page.get_by_role("status").filter(has_text="371 items").wait_for()


def _installed(package: str, pinned: str) -> bool:
    try:
        return version(package) == pinned
    except PackageNotFoundError:
        return False
