"""Invented archive families, each a layout and a writer that shares nothing with it.

The properties in test_archives.py hold for all of them; a new family is tested by being listed.
"""

from tests.core.families.basic import BASIC
from tests.core.families.cookbook import COOKED
from tests.core.families.family import Family, Members

FAMILIES = [*BASIC, *COOKED]
BY_NAME = {family.name: family for family in FAMILIES}

MEMBERS: Members = [(f"m{k}/item_{k}.x", bytes([k]) * (40 + 90 * k)) for k in range(9)]


def shaped(family: Family, found: dict[str, bytes]) -> Members:
    """Members with names of the family, each name once, in the family's order."""
    return family.order(list({family.shape(word): data for word, data in sorted(found.items())}.items()))


def members_for(family: Family) -> Members:
    """Nine members, or as many as the family can have."""
    if family in BASIC:
        return MEMBERS
    found = {f"{'abcdefhij'[k]}em{k}": bytes([k, 7]) * (20 + 45 * k) for k in range(min(9, family.most))}
    return shaped(family, found)


__all__ = ["BY_NAME", "FAMILIES", "MEMBERS", "Family", "Members", "members_for", "shaped"]
