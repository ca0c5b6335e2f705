"""What a build will do to each archive, before anything is written."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from brae.core.containers.described import Archive, Proof
from brae.core.errors import ReadOnlyError
from brae.core.layouts.write import Composed, MemberChange

Way = Literal["patch", "rebuild", "replace"]


@dataclass(frozen=True)
class MemberPlan:
    """One member's bytes before and after."""

    level: str
    stored_before: int
    stored_after: int
    real_before: int
    real_after: int
    slot: int


@dataclass
class ArchivePlan:
    """How the changes go into one archive: which way, why, and the result (not yet written)."""

    way: Way
    why: str
    composed: Composed
    members: list[MemberPlan] = field(default_factory=list)


def plan_archive(
    archive: Archive, proof: Proof, changes: dict[int, MemberChange], *, may_patch: bool = True
) -> ArchivePlan:
    """Patch in place where every changed member fits its slot, else rebuild.

    Raises ReadOnlyError without a proof, LayoutError where the structure does not allow the change.
    """
    if not proof.exact:
        raise ReadOnlyError(
            f"This archive is read-only: {proof.reason}",
            offset=proof.offset,
            remedy="Correct the layout until an unchanged rebuild equals the original.",
        )
    members = [
        MemberPlan(
            archive.levels[index],
            int(archive.stored_sizes[index]),
            len(change.stored),
            int(archive.real_sizes[index]),
            len(change.real),
            archive.slot(index),
        )
        for index, change in sorted(changes.items())
    ]
    too_large = [member for member in members if member.stored_after > member.slot]
    if may_patch and not too_large:
        return ArchivePlan(
            "patch", "every changed member fits its slot: nothing else moves", archive.patch(changes), members
        )
    if too_large:
        first = too_large[0]
        why = f"{first.level} needs {first.stored_after:,} bytes, its slot has {first.slot:,}: what follows moves"
    else:
        why = "the archive was rebuilt before, so it is rebuilt from the kept original"
    return ArchivePlan("rebuild", why, archive.rebuild(changes), members)
