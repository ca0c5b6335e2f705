"""Containers: members inside bytes. ``open <-> rebuild / patch``."""
