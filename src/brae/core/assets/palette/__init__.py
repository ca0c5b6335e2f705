"""The kind of palettes that are files of their own."""
