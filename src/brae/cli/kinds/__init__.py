"""Words of the command line that only one kind of item has: a module for each kind, found by itself."""

from __future__ import annotations

import pkgutil
from importlib import import_module

for _found in pkgutil.iter_modules(__path__):
    import_module(f"{__name__}.{_found.name}")
