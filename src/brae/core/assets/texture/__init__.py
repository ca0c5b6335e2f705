"""Textures: pixel formats, block compression, mipmaps, files and recipes."""
