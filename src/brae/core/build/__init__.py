"""Putting changes back: a plan first, then the work, so that a kill at any moment leaves before or after."""
