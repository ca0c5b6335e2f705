"""Swap lists: which material (or other item) stands in for which, on one object or everywhere."""
