"""What Brae remembers: a database, and a folder of kept bytes addressed by their hash."""

from brae.store.blobs import Blobs
from brae.store.database import Database
from brae.store.home import Home

__all__ = ["Blobs", "Database", "Home"]
