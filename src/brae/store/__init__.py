"""What Brae remembers: a database, a folder of kept bytes addressed by their hash, and a ledger beside them."""

from brae.store.blobs import Blobs
from brae.store.database import Database
from brae.store.home import Home
from brae.store.ledger import Ledger
from brae.store.opening import open_database

__all__ = ["Blobs", "Database", "Home", "Ledger", "open_database"]
