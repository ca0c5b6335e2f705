"""What is to become of an archive's members."""

from __future__ import annotations

from dataclasses import dataclass, field

from brae.core.layouts.segments import Body


@dataclass(frozen=True)
class MemberChange:
    """A member's new bytes: as stored in the archive, and unpacked."""

    stored: Body
    real: Body
    #: whether they are stored unpacked though others are packed
    plain: bool = False


@dataclass(frozen=True)
class NewMember:
    """A member that the archive does not have yet."""

    name: str
    change: MemberChange
    packing: int | None = None


@dataclass
class Edits:
    """What is to become of an archive's members: changes by index, additions, and removals."""

    changed: dict[int, MemberChange] = field(default_factory=dict)
    added: list[NewMember] = field(default_factory=list)
    removed: set[int] = field(default_factory=set)
