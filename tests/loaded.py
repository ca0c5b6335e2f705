"""What is loaded once, before processes are forked (see ``tests.forking``): all of Brae, and every kernel."""

import brae.api.app  # noqa: F401
from brae.core.assets.registry import kinds
from brae.core.warm import cached, warm

kinds()
if cached():
    warm()
