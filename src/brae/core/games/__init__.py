"""Game profiles: how one game finds its files, and by which ways changed ones go back, as data."""

from brae.core.games.model import AddOnWay, Edition, GameProfile, Register
from brae.core.games.order import Copies, Place, places_of
from brae.core.games.settings import register

__all__ = ["AddOnWay", "Copies", "Edition", "GameProfile", "Place", "Register", "places_of", "register"]
