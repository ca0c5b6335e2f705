"""The stand-in for the game: loads Skerry Post's files by its own strict readers and draws one scene."""

from brae.demo.standin.play import play, recognises
from brae.demo.standin.report import Report

__all__ = ["Report", "play", "recognises"]
