"""``python -m brae.cli`` is the command ``brae``."""

from brae.cli.main import app

app()
