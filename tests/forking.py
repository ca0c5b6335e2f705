"""Processes that are forked of one in which all of Brae is imported already, and numba's own tables are read.

Hundreds of tests start one; each would otherwise spend seconds on what is the same every time. The one that they
are forked of has no threads and has used no kernel: a child of any other may wait for ever.
"""

from __future__ import annotations

import multiprocessing

from numba.core.registry import cpu_target

import brae.api.app  # noqa: F401
from brae.core.assets.registry import kinds


def server(*modules: str) -> multiprocessing.context.ForkServerContext:
    """Where such processes are started; ``modules`` are imported beforehand as well."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload([__name__, *modules])
    return context


kinds()
cpu_target.typing_context.refresh()
cpu_target.target_context.refresh()
