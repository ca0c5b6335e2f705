"""What differs between an edit and its original, what the game would do, and what puts it right."""

from __future__ import annotations

from brae.core.assets.sheet import Finding
from brae.core.assets.texture.findings import alpha, colours, file, normals, placement, shape
from brae.core.assets.texture.findings.compared import Compared
from brae.core.assets.texture.findings.shape import is_power_of_two

__all__ = ["Compared", "find", "is_power_of_two"]

#: the order in which they are told: what stops the game first
_RULES = (
    shape.sides, shape.encoding, alpha.transparency, alpha.hidden_colour, alpha.premultiplied, placement.direction,
    placement.shifted, normals.normals, normals.packed_map, colours.said_by_the_file,
    colours.changed_on_the_way, colours.palette, file.kind_of_file,
    file.appended, shape.size,
)  # fmt: skip


def find(edit: Compared) -> list[Finding]:
    """Every finding of an edit, with the remedies that are applied already."""
    return [finding for rule in _RULES for finding in rule(edit)]
