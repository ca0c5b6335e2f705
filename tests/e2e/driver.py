"""Starts the real server on loopback and a headless Chromium to drive its pages."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Browser, expect, sync_playwright

from tests.e2e.forked import start

# A machine that is busy shows the same things later.
expect.set_options(timeout=20_000)
CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium")
ARGUMENTS = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--enable-unsafe-swiftshader",
]


@contextmanager
def served(
    home: Path, *words: str, cwd: Path | None = None, brae: str | None = None, env: dict[str, str] | None = None
) -> Iterator[str]:
    """``brae`` with these words, as a process of its own; the address it prints, with the secret of this start.

    Where it is this environment's own as it stands, the process is forked (see ``forked``).
    """
    words = (*words, "--home", str(home), "--no-browser")
    if cwd is None and brae is None and env is None:
        child, listening = start(list(words))
        try:
            with os.fdopen(os.dup(listening.fileno()), closefd=True) as lines:
                yield _address(lines, child.exitcode)
        finally:
            child.terminate()
            child.join(60)
            listening.close()
            assert not child.is_alive()
        return
    command = [brae] if brae else [sys.executable, "-m", "brae.cli"]
    process = subprocess.Popen(
        [*command, *words],
        stdout=subprocess.PIPE,
        text=True,
        cwd=cwd,
        env=os.environ | (env or {}),
    )
    assert process.stdout is not None
    try:
        yield _address(process.stdout, process.poll())
    finally:
        process.terminate()
        process.wait(timeout=60)


def _address(lines: Iterable[str], code: int | None) -> str:
    """The address among the lines that a server prints."""
    for line in lines:
        if found := re.search(r"http://127\.0\.0\.1:\d+/\?key=[\w-]+", line):
            return found.group()
    raise AssertionError(f"the server did not start (exit {code})")


def base(address: str) -> str:
    """The address without its secret: what paths are added to, once the page was opened with it."""
    return address.partition("/?")[0]


@contextmanager
def chromium() -> Iterator[Browser]:
    """Debian's Chromium, headless, with a profile of its own."""
    with tempfile.TemporaryDirectory() as _, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield browser
        browser.close()
