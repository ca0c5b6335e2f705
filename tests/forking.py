"""Processes that are forked of one in which all of Brae is imported already, and every kernel is loaded.

Hundreds of tests start one; each would otherwise spend seconds on what is the same every time.
"""

from __future__ import annotations

import multiprocessing


def server(*modules: str) -> multiprocessing.context.ForkServerContext:
    """Where such processes are started; ``modules`` are imported beforehand as well."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["tests.loaded", *modules])
    return context
