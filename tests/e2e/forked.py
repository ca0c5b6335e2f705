"""Brae's server in a process that is forked of one in which all of it is imported already.

Half a hundred tests start a server; each would otherwise spend seconds on imports that are the same every time.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess

import brae.api.app
import brae.core.assets.registry
from brae.cli.main import app

_SERVER = multiprocessing.get_context("forkserver")
_SERVER.set_forkserver_preload([__name__])
brae.core.assets.registry.kinds()


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
