"""Brae's server in a process that is forked: see ``tests.forking``."""

from __future__ import annotations

import os
import sys
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess

from brae.cli.main import app
from tests.forking import server

_SERVER = server(__name__)


def _run(words: list[str], told: Connection) -> None:
    os.dup2(told.fileno(), 1)
    sys.stdout = os.fdopen(1, "w", buffering=1)
    app(words, prog_name="brae")


def start(words: list[str]) -> tuple[BaseProcess, Connection]:
    """``brae`` with these words, and where what it prints is read."""
    listening, told = _SERVER.Pipe(duplex=False)
    process = _SERVER.Process(target=_run, args=(words, told))
    process.start()
    told.close()
    return process, listening
