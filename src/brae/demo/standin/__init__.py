"""The stand-in for the game: loads Skerry Post's files by its own strict reader and draws one scene."""

from brae.demo.standin.play import Report, play, recognises

__all__ = ["Report", "play", "recognises"]
