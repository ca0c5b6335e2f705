"""Skerry Post: an invented game with invented formats, and the stand-in that plays it.

The layouts in ``layouts/`` are all that Brae knows of these formats: nothing that a person could not write.
"""

from pathlib import Path

LAYOUTS = Path(__file__).with_name("layouts")
#: the folders of both editions
DESKTOP, DISC = "skerry-post-desktop", "skerry-post-disc"
