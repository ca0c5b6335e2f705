"""Packers: pairs that undo themselves, with the settings that a recipe keeps.

``base`` says what a packer is, ``libraries`` registers those that libraries provide, ``described`` builds those
that a layout describes by their parameters.
"""

from brae.core.compression import libraries as _libraries  # registers its packers
from brae.core.compression.base import LARGEST_MEMBER, Packer, find_level, get, names, register, unpack_parts

__all__ = ["LARGEST_MEMBER", "Packer", "find_level", "get", "names", "register", "unpack_parts"]
_ = _libraries
