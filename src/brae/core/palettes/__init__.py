"""Palettes: the best one for many pictures at once, pictures in its colours, and its files."""
