"""What a build would do: which files change, which way, and why. Nothing is written here."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Literal

from sqlalchemy import select

from brae.core import addresses
from brae.core.addresses import split_stretch
from brae.core.build.plan import LARGEST_PATCH, MemberPlan, Way, plan_archive
from brae.core.containers import scattered
from brae.core.containers.base import Container, Proof
from brae.core.containers.nesting import changes_outside
from brae.core.errors import BraeError, ChangedError, FormatError, ReadOnlyError
from brae.core.games.model import AddOnWay, LooseWay
from brae.core.layouts.edits import Edits, MemberChange, NewMember
from brae.core.layouts.library import companion_names
from brae.core.layouts.segments import Composed, Copy, New, Segment
from brae.core.sources import MAIN, BytesSource
from brae.core.sources.stretches import Stretches
from brae.jobs import Silent, Ticker
from brae.store.models import Addition, ArchiveRow, Edit, Original, Project
from brae.work.adding import additions, named
from brae.work.edits import encode_anew
from brae.work.in_game import version
from brae.work.items import needed_by
from brae.work.meant import standing
from brae.work.others import is_fresh
from brae.work.outward import Outward
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Located, Workspace

#: a file that grows by more than this, and by more than this part of itself, is asked about
_GROWTH, _GROWTH_PART = 1 << 20, 0.05


#: what becomes of a file
FileWay = Literal["patch", "rebuild", "replace", "restore", "create", "remove"]


@dataclass
class InsidePlan:
    """An archive inside another that is changed first."""

    address: str
    title: str
    way: Way
    why: str
    members: list[MemberPlan]


@dataclass
class FilePlan:
    """What will happen to one file of the game."""

    __pydantic_config__ = ALWAYS_SENT

    path: str
    way: FileWay
    why: str
    size_before: int
    size_after: int
    members: list[MemberPlan] = field(default_factory=list)
    #: archives inside this one that are rebuilt first, innermost first
    inside: list[InsidePlan] = field(default_factory=list)


@dataclass
class BuildPlan:
    """The whole plan; ``left_out`` names edits that are not built and why, ``faults`` what stops the build."""

    files: list[FilePlan] = field(default_factory=list)
    edits: list[str] = field(default_factory=list)
    #: which versions of them, by their addresses
    held: dict[str, str] = field(default_factory=dict)
    left_out: dict[str, str] = field(default_factory=dict)
    #: edits that are built although something about them would show in the game
    warnings: dict[str, str] = field(default_factory=dict)
    faults: list[dict[str, Any]] = field(default_factory=list)
    #: nothing to do: the game's files are as the edits want them
    up_to_date: bool = False
    #: what the person has to agree to first: files that become much larger, in words
    asks: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return asdict(self)


@dataclass
class Target:
    """One file's new content, not yet written."""

    original: Original
    plan: FilePlan
    composed: Composed
    key: str
    #: whatever lies there is written over (it was kept first)
    force: bool = False


def plan(workspace: Workspace, project_id: str) -> BuildPlan:
    """What a build would do now; nothing is written."""
    while True:
        planner = Planner(workspace, workspace.project(project_id))
        found = planner.run()[0]
        # Where a build ended meanwhile, half of the plan speaks of the files before it.
        if states(workspace.originals(project_id)) == states(planner.originals):
            return found


def states(originals: dict[str, Original]) -> dict[str, tuple[str, str]]:
    return {path: (one.state, one.current_sha256) for path, one in originals.items()}


@dataclass
class _Changes:
    """What is to become of one archive: its members' new bytes, and the archives inside that were rebuilt."""

    row: ArchiveRow
    edited: dict[int, tuple[bytes, dict[str, Any]]] = field(default_factory=dict)
    #: what edits of other items put into members: the larger levels of textures that share a file
    stretches: dict[int, Stretches] = field(default_factory=dict)
    #: members that it has not, by their names
    added: dict[str, bytes] = field(default_factory=dict)
    nested: dict[int, MemberChange] = field(default_factory=dict)
    inside: list[InsidePlan] = field(default_factory=list)


class Planner:
    def __init__(self, workspace: Workspace, project: Project, ticker: Ticker | None = None) -> None:
        self.workspace, self.project, self.ticker = workspace, project, ticker or Silent()
        self.originals = workspace.originals(project.id)

    def run(self) -> tuple[BuildPlan, list[Target]]:
        result = BuildPlan()
        work: dict[int, _Changes] = {}
        edits = self._edits()
        if self._follow(edits):
            edits = self._edits()
        self.ticker.begin(len(edits), "edits")
        reasons = {edit.address: _left_out(edit) for edit in edits}
        added = {one.address: one for one in additions(self.workspace, self.project.id)}
        self._add(added, {edit.address: edit for edit in edits}, work, result)
        for edit in edits:
            self.ticker.tick()
            if edit.address in added:
                continue
            reason = reasons[edit.address] or self._without_others(edit, reasons)
            if reason is not None:
                result.left_out[edit.address] = reason
                continue
            try:
                found = self.workspace.find(self.project.id, edit.address)
                number = self._number(found)
                data = self.workspace.blobs.get(edit.encoded_sha256 or "")
                self._elsewhere(edit, work)
            except ChangedError as error:
                if error.as_dict() not in result.faults:
                    result.faults.append(error.as_dict())
                continue
            except BraeError as error:
                result.left_out[edit.address] = str(error)
                continue
            entry = work.setdefault(found.archive.id, _Changes(found.archive))
            entry.edited[number] = (data, edit.recipe)
            result.edits.append(edit.address)
            result.held[edit.address] = version(edit)
            told = standing(edit, "shows")
            if told:
                result.warnings[edit.address] = told[0]
        targets = self._targets(work, result)
        result.files = [target.plan for target in targets]
        if not result.faults:
            fresh = [target for target in targets if self._is_current(target)]
            targets = [target for target in targets if target not in fresh]
            result.files = [target.plan for target in targets]
            result.up_to_date = not targets
            result.asks = [words for target in targets if (words := _asks(target.plan))]
        return result, targets

    def _add(
        self, added: Mapping[str, Addition], edits: Mapping[str, Edit], work: dict[int, _Changes], result: BuildPlan
    ) -> None:
        """Items that the game has not: as they are edited, or as they were made."""
        known = named(self.workspace, self.project.id) if added else None
        for address, one in added.items():
            edit = edits.get(address)
            touched = edit is not None and edit.state not in ("waiting", "same")
            reason = _left_out(edit) if edit is not None and touched else None
            if reason is not None:
                result.left_out[address] = reason
                continue
            try:
                found = self.workspace.find(self.project.id, address)
                if found.member.base is None:
                    raise ChangedError(
                        "The game has an item of that name by now.", address=address,
                        remedy="Take yours away, or give it another name.",
                    )  # fmt: skip
                sha256 = edit.encoded_sha256 if edit is not None and touched else one.sha256
                data = self.workspace.blobs.get(sha256 or "")
            except BraeError as error:
                result.left_out[address] = str(error)
                continue
            work.setdefault(found.archive.id, _Changes(found.archive)).added[one.name] = data
            result.edits.append(address)
            result.held[address] = version(edit) if edit is not None and touched else one.sha256
            if known is not None and address not in known:
                result.warnings[address] = "nothing in the game names it, so the game may never load it"

    def _edits(self) -> list[Edit]:
        query = select(Edit).where(Edit.project_id == self.project.id, Edit.in_work).order_by(Edit.address)
        with self.workspace.database.session() as session:
            return list(session.scalars(query))

    def _follow(self, edits: Sequence[Edit]) -> bool:
        """Encode edits anew that do not fit the others any more; whether there were any."""
        layouts = self.workspace.project_library(self.project).layouts.values()
        if not any(layout.has_others for layout in layouts):
            return False
        stale = []
        for edit in edits:
            with suppress(BraeError):  # what is gone is told where it is built
                if not is_fresh(self.workspace, self.project, edit):
                    stale.append(edit.address)
        for address in stale:
            encode_anew(self.workspace, self.project.id, address)
        return bool(stale)

    def _without_others(self, edit: Edit, reasons: Mapping[str, str | None]) -> str | None:
        """Why an edit cannot be built that was encoded for another one (its palette) which is left out."""
        if not (edit.sheet or {}).get("others"):
            return None
        try:
            found = self.workspace.find(self.project.id, edit.address)
        except BraeError:
            return None  # told where it is built
        for address in needed_by(self.workspace, self.project, found):
            if reasons.get(address) is not None:
                return f"it is made for {address.rpartition('//')[2]}, which is left out"
        return None

    def _number(self, found: Located) -> int:
        """An item's number in its archive; of a loose file that is 0."""
        if found.archive.layout is None:
            return 0
        return self.workspace.number_of(self.workspace.archive(self.project, found.archive), found)

    def _elsewhere(self, edit: Edit, work: dict[int, _Changes]) -> None:
        """The parts of an edit that other items hold: the larger levels of a streamed texture."""
        for held, sha256 in edit.encoded_elsewhere.items():
            address, start, _ = split_stretch(held)
            found = self.workspace.find(self.project.id, address)
            data, level, number = self.workspace.blobs.get(sha256), None, self._number(found)
            if start is not None:
                entry = work.setdefault(found.archive.id, _Changes(found.archive))
                entry.stretches.setdefault(number, Stretches()).put(start, data, edit.address)
                continue
            if found.archive.layout is not None:
                archive = self.workspace.archive(self.project, found.archive)
                if data == archive.read(number):
                    continue
                level = archive.packing_level(number)
            entry = work.setdefault(found.archive.id, _Changes(found.archive))
            entry.edited[number] = (data, {"packing_level": level})

    def _stretched(self, one: _Changes) -> bool:
        """Put what other items' edits hold of an archive's members into these; whether anything changes by that.

        A loose file may be large: its own are put into it where it is written.
        """
        if one.row.layout is None:
            source = self.workspace.original_source(self.project, one.row.files[MAIN])
            return bool(one.edited) or any(
                source.read(start, len(data)) != data for start, data in one.stretches[0]
            )
        archive = self.workspace.archive(self.project, one.row)
        for number, stretches in one.stretches.items():
            before = archive.read(number)
            data, recipe = one.edited.get(number, (before, {"packing_level": archive.packing_level(number)}))
            after = stretches.over(data)
            if number in one.edited or after != before:
                one.edited[number] = after, recipe
        return bool(one.edited or one.added)

    def _targets(self, work: dict[int, _Changes], result: BuildPlan) -> list[Target]:
        """What every file of the game is to become, by the way that was chosen."""
        for key, one in list(work.items()):
            try:
                if one.stretches and not self._stretched(one):
                    del work[key]
            except BraeError as error:
                result.faults.append(error.at(one.row.address).as_dict())
                del work[key]
        targets: list[Target] = []
        profile = self.workspace.profile(self.project)
        way = profile.way(self.project.way) if profile is not None else None
        try:
            if isinstance(way, LooseWay | AddOnWay):
                elsewhere = {key: one for key, one in work.items() if one.row.layout is not None}
                work = {key: one for key, one in work.items() if key not in elsewhere}
                if elsewhere:
                    outward = Outward(self.workspace, self.project)
                    made = (
                        outward.loose(way, elsewhere)
                        if isinstance(way, LooseWay)
                        else outward.add_on(way, elsewhere)
                    )
                    targets += [self._made(path, words, composed, key) for path, words, composed, key in made]
        except BraeError as error:
            result.faults.append(error.as_dict())
        self._from_inside_out(work, result)
        for one in sorted(work.values(), key=lambda one: one.row.address):
            try:
                targets += self._plan_archive(one)
            except BraeError as error:
                result.faults.append(error.at(one.row.address).as_dict())
        # What was built before and is not wanted any more goes back.
        covered = {target.original.path for target in targets}
        for original in self.originals.values():
            if original.state != "original" and original.path not in covered:
                try:
                    self.workspace.check_unchanged(self.project, original)
                    targets.append(self._put_back(original))
                except BraeError as error:
                    result.faults.append(error.at(original.path).as_dict())
        return targets

    def _made(self, path: str, words: str, composed: Composed, key: str) -> Target:
        """A file that is written as a whole: a new one, or one of the game's that is replaced."""
        target = Path(self.project.folder) / path
        found = self.originals.get(path)
        size = composed.size(key)
        if found is None and os.path.lexists(target):
            # It is looked at here and written down with the build: a plan writes nothing.
            found = self.workspace.observe(self.project, path)[0]
        if found is None or found.state == "created":
            if found is not None:
                self.workspace.check_unchanged(self.project, found)
            original = found or Original(
                project_id=self.project.id, path=path, size=0, sha256="", state="absent", current_size=0,
                current_mtime=0, current_sha256="", made_folders=[], kept=[],
            )  # fmt: skip
            plan = FilePlan(path, "create", words, original.current_size, size)
            return Target(original, plan, composed, key)
        self.workspace.check_unchanged(self.project, found)
        return Target(found, FilePlan(path, "replace", words, found.size, size), composed, key)

    def _from_inside_out(self, work: dict[int, _Changes], result: BuildPlan) -> None:
        """Rebuild the archives that lie inside others, the deepest first; each becomes a change of its holder."""
        while nested := [one for one in work.values() if one.row.parent_id is not None]:
            one = max(nested, key=lambda one: len(addresses.split(one.row.address)))
            del work[one.row.id]
            row = one.row
            try:
                archive = self.workspace.archive(self.project, row)
                found = plan_archive(archive, _proof(row), self._packed(archive, one))
                holder = self.workspace.parent(row)
                outer = self.workspace.archive(self.project, holder)
                entry = work.setdefault(holder.id, _Changes(holder))
                entry.nested |= changes_outside(outer, row.files, found.composed)
            except BraeError as error:
                result.faults.append(error.at(row.address).as_dict())
                continue
            entry.inside += [*one.inside, InsidePlan(row.address, row.title, found.way, found.why, found.members)]

    @staticmethod
    def _packed(archive: Container, one: _Changes) -> Edits:
        def pack(item: tuple[int, tuple[bytes, dict[str, Any]]]) -> tuple[int, MemberChange]:
            number, (data, recipe) = item
            return number, archive.pack(number, data, recipe.get("packing_level"))

        # Packers release the interpreter's lock, so all cores pack.
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            changed = dict(pool.map(pack, one.edited.items())) | one.nested
        return Edits(changed, [NewMember(name, archive.pack_new(name, data)) for name, data in one.added.items()])

    def _originals(self, row: ArchiveRow) -> dict[str, Original]:
        missing = [path for path in row.files.values() if path not in self.originals]
        if missing:
            raise ReadOnlyError(
                "This file has not been looked through yet.",
                address=missing[0],
                remedy="Wait until the game is opened, or open it again.",
            )
        return {name: self.originals[path] for name, path in row.files.items()}

    def _plan_archive(self, one: _Changes) -> list[Target]:
        row = one.row
        if row.layout is None and one.added:
            name, data = next(iter(one.added.items()))
            return [self._made(name, "a new file", Composed({MAIN: BytesSource(b"")}, {MAIN: [New(data)]}), MAIN)]
        originals = self._originals(row)
        for original in originals.values():
            self.workspace.check_unchanged(self.project, original)
        if row.layout is None and not one.edited:
            return [self._in_stretches(one, originals[MAIN])]
        if row.layout is None:
            (data, _), original = next(iter(one.edited.values())), originals[MAIN]
            data = one.stretches[0].over(data) if one.stretches else data
            composed = Composed({MAIN: BytesSource(b"")}, {MAIN: [New(data)]})
            plan = FilePlan(
                original.path, "replace", "a loose file is replaced as a whole", original.size, len(data)
            )
            return [Target(original, plan, composed, MAIN)]
        archive = self.workspace.archive(self.project, row)
        may_patch = all(original.state != "rebuilt" for original in originals.values())
        found = plan_archive(archive, _proof(row), self._packed(archive, one), may_patch=may_patch)
        targets = []
        places = [archive.index_of(member.label) for member in found.members]
        in_files = [archive.file if place < 0 else archive.file_of(place) for place in places]
        for name, original in originals.items():
            size = found.composed.size(name)
            why = found.why
            if row.layout == scattered.KIND:
                why += "; unproved, by signs: a checksum elsewhere in the game may still mind"
            plan = FilePlan(original.path, found.way, why, original.size, size)
            plan.members = [member for member, file in zip(found.members, in_files, strict=True) if file == name]
            plan.inside = one.inside if name == archive.file else []
            targets.append(Target(original, plan, found.composed, name))
        layout = self.workspace.project_library(self.project).layouts.get(row.layout or "")
        if layout is not None and (more := found.composed.segments.keys() - originals.keys()):
            names = companion_names(layout, row.files[MAIN], lambda name: False, found.composed.segments)
            words = "the data needs one numbered file more"
            targets += [self._made(names[key], words, found.composed, key) for key in sorted(more)]
        return targets

    def _in_stretches(self, one: _Changes, original: Original) -> Target:
        """A loose file that keeps its size, and of which only some bytes become others."""
        source = self.workspace.original_source(self.project, original.path)
        segments: list[Segment] = []
        at = 0
        for start, data in one.stretches[0]:
            if start + len(data) > source.size:
                raise FormatError(
                    f"{len(data):,} bytes at {start:,} lie beyond its end.",
                    address=original.path,
                    offset=source.size,
                )
            segments += [Copy(at, start - at), New(data)]
            at = start + len(data)
        composed = Composed({MAIN: source}, {MAIN: [*segments, Copy(at, source.size - at)]})
        moved = composed.moved(MAIN)
        way: FileWay = "patch" if original.state != "rebuilt" and moved <= LARGEST_PATCH else "rebuild"
        why = f"{moved:,} of its bytes are larger levels of textures: nothing else moves"
        return Target(original, FilePlan(original.path, way, why, original.size, source.size), composed, MAIN)

    def _put_back(self, original: Original) -> Target:
        if original.state == "created":
            why = "Brae made it; no edit needs it any more"
            plan = FilePlan(original.path, "remove", why, original.current_size, 0)
            return Target(original, plan, Composed({}, {}), MAIN)
        plan = FilePlan(
            original.path, "restore", "no edit concerns it any more", original.current_size, original.size
        )
        return Target(original, plan, Composed({}, {}), MAIN)

    def _is_current(self, target: Target) -> bool:
        """Whether the file on disk already is what the plan would make of it."""
        return target.plan.way not in (
            "restore",
            "remove",
        ) and target.original.built_from == target.composed.fingerprint(target.key)


def _asks(plan: FilePlan) -> str | None:
    """What a person has to agree to, of one file."""
    more = plan.size_after - plan.size_before
    if plan.way != "rebuild" or more <= max(_GROWTH, plan.size_before * _GROWTH_PART):
        return None
    return f"{plan.path} becomes {more:,} bytes larger ({plan.size_before:,} to {plan.size_after:,}): {plan.why}."


def _proof(row: ArchiveRow) -> Proof | None:
    return Proof(**row.proof) if row.proof else None


def _left_out(edit: Edit) -> str | None:
    if edit.state == "waiting":
        return "its file has not come back yet"
    if edit.state == "same":
        return "it is equal to the original"
    if edit.encoded_sha256 is None:
        return edit.fault or "it could not be encoded"
    stops = standing(edit, "stops")
    return f"the game would refuse it: {stops[0]}" if stops else None
