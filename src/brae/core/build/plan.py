"""What a build will do to each archive, before anything is written."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from brae.core.addresses import quote
from brae.core.containers.base import Container, Proof, as_edits
from brae.core.errors import ReadOnlyError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import Composed

Way = Literal["patch", "rebuild", "replace"]


@dataclass(frozen=True)
class MemberPlan:
    """One member's bytes before and after."""

    label: str
    stored_before: int
    stored_after: int
    real_before: int
    real_after: int
    slot: int
    #: whether the archive has none of that name
    new: bool = False


@dataclass
class ArchivePlan:
    """How the changes go into one archive: which way, why, and the result (not yet written)."""

    way: Way
    why: str
    composed: Composed
    members: list[MemberPlan] = field(default_factory=list)


#: a patch of more bytes than this would be kept, journalled and written three times: a new file is cheaper
LARGEST_PATCH = 64 << 20


def plan_archive(
    archive: Container, proof: Proof | None, changes: Edits | dict[int, MemberChange], *, may_patch: bool = True
) -> ArchivePlan:
    """Patch in place where every changed member fits its slot and none is added, else rebuild.

    Raises ReadOnlyError without a proof, LayoutError where the structure does not allow the change.
    """
    if proof is None:
        raise ReadOnlyError(
            "This archive has not been proved yet.", remedy="Wait until the game is opened, or open it again."
        )
    if not proof.exact:
        raise ReadOnlyError(
            f"This archive is read-only: {proof.reason}",
            offset=proof.offset,
            remedy="Correct the layout until an unchanged rebuild equals the original.",
        )
    edits = as_edits(changes)
    changes = edits.changed
    members = [
        MemberPlan(
            archive.labels[index],
            int(archive.stored_sizes[index]),
            len(change.stored),
            int(archive.real_sizes[index]),
            len(change.real),
            archive.slot(index),
        )
        for index, change in sorted(changes.items())
    ]
    unfit = [
        member
        for (index, change), member in zip(sorted(changes.items()), members, strict=True)
        if not archive.takes(index, change)
    ]
    if edits.added:
        members += [
            MemberPlan(quote(one.name), 0, len(one.change.stored), 0, len(one.change.real), 0, new=True)
            for one in edits.added
        ]
        number = (
            f"{len(edits.added)} of its members are new" if len(edits.added) > 1 else f"{members[-1].label} is new"
        )
        return ArchivePlan("rebuild", f"{number}: what follows moves", archive.rebuild(edits), members)
    if not unfit and may_patch:
        composed = archive.patch(changes)
        if _moved(composed) <= LARGEST_PATCH:
            return ArchivePlan("patch", "every changed member fits its slot: nothing else moves", composed, members)
        why = "nothing else moves, but so much changes that a new file is written"
        return ArchivePlan("rebuild", why, composed, members)
    composed = archive.rebuild(changes)
    if unfit and archive.in_blocks:
        why = f"{unfit[0].label} lies in blocks that others share: those that changed are packed anew"
        patched = may_patch and _moved(composed) <= min(LARGEST_PATCH, _size(composed) // 4)
        return ArchivePlan("patch" if patched else "rebuild", why, composed, members)
    if unfit and may_patch and _moved(composed) <= min(LARGEST_PATCH, _size(composed) // 4):
        first = unfit[0]
        why = f"{first.label} needs {first.stored_after:,} bytes and goes to free room: nothing else moves"
        return ArchivePlan("patch", why, composed, members)
    if unfit:
        first = unfit[0]
        why = f"{first.label} needs {first.stored_after:,} bytes, its slot has {first.slot:,}: what follows moves"
        if first.stored_after <= first.slot:
            why = f"{first.label} has another size, {first.stored_after:,} bytes: what follows moves"
    else:
        why = "the archive was rebuilt before, so it is rebuilt from the kept original"
    return ArchivePlan("rebuild", why, composed, members)


def _moved(composed: Composed) -> int:
    """Bytes that a patch would have to write; more than any limit where a file's size changes."""
    total = 0
    for file, source in composed.sources.items():
        if file in composed.segments:
            total += composed.moved(file) if composed.size(file) == source.size else 1 << 62
    return total


def _size(composed: Composed) -> int:
    return sum(composed.size(file) for file in composed.segments)
