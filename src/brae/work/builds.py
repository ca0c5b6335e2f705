"""Build and restore: edits into the game's files, and every original back."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import select

from brae.core import addresses
from brae.core.build import journal as journals
from brae.core.build.plan import plan_archive
from brae.core.containers import scattered
from brae.core.containers.base import Container, Proof
from brae.core.containers.depth import changes_outside
from brae.core.errors import BraeError, ChangedError, NotFoundError, ReadOnlyError, storage_error
from brae.core.games.model import AddOnWay, LooseWay
from brae.core.layouts.edits import MemberChange
from brae.core.layouts.library import companion_names
from brae.core.layouts.segments import Composed, Copy, New, write_beside
from brae.core.sources import MAIN, ByteSource, BytesSource, FileSource, OverlaySource, chunks
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Edit, Original, Project
from brae.work import copies
from brae.work.outward import Outward
from brae.work.workspace import Found, Workspace

#: originals up to this size are kept whole even where a patch needs its ranges only: they survive more
KEEP_WHOLE_BELOW = 64 << 20


#: a file that grows by more than this, and by more than this part of itself, is asked about
_GROWTH, _GROWTH_PART = 1 << 20, 0.05


class GrowthError(ReadOnlyError):
    """A file of the game would become much larger, and nobody has agreed to that."""

    code = "growth"


@dataclass
class FilePlan:
    """What will happen to one file of the game."""

    path: str
    way: str
    why: str
    size_before: int
    size_after: int
    members: list[dict[str, Any]] = field(default_factory=list)
    #: archives inside this one that are rebuilt first, innermost first
    inside: list[dict[str, Any]] = field(default_factory=list)


@dataclass
class BuildPlan:
    """The whole plan; ``left_out`` names edits that are not built and why, ``faults`` what stops the build."""

    files: list[FilePlan] = field(default_factory=list)
    edits: list[str] = field(default_factory=list)
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
class _Target:
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
        planner = _Planner(workspace, workspace.project(project_id))
        found = planner.run()[0]
        # Where a build ended meanwhile, half of the plan speaks of the files before it.
        if _states(workspace.originals(project_id)) == _states(planner.originals):
            return found


def _states(originals: dict[str, Original]) -> dict[str, tuple[str, str]]:
    return {path: (one.state, one.current_sha256) for path, one in originals.items()}


@dataclass
class _Work:
    """What is to become of one archive: its members' new bytes, and the archives inside that were rebuilt."""

    row: ArchiveRow
    edited: dict[int, tuple[bytes, dict[str, Any]]] = field(default_factory=dict)
    nested: dict[int, MemberChange] = field(default_factory=dict)
    inside: list[dict[str, Any]] = field(default_factory=list)


class _Planner:
    def __init__(self, workspace: Workspace, project: Project, ticker: Ticker | None = None) -> None:
        self.workspace, self.project, self.ticker = workspace, project, ticker or Silent()
        self.originals = workspace.originals(project.id)

    def run(self) -> tuple[BuildPlan, list[_Target]]:
        result = BuildPlan()
        work: dict[int, _Work] = {}
        query = select(Edit).where(Edit.project_id == self.project.id, Edit.in_work).order_by(Edit.address)
        with self.workspace.database.session() as session:
            edits = list(session.scalars(query))
        self.ticker.begin(len(edits), "edits")
        for edit in edits:
            self.ticker.tick()
            reason = _left_out(edit)
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
            entry = work.setdefault(found.archive.id, _Work(found.archive))
            entry.edited[number] = (data, edit.recipe)
            result.edits.append(edit.address)
            standing = _standing(edit, "shows")
            winner = found.member.winner
            own = winner is not None and copies.is_own(self.workspace, self.project.id, winner)
            if winner is not None and not own and not self._loose_way():
                standing.append(f"the game uses another copy: {found.member.winner}")
            if standing:
                result.warnings[edit.address] = standing[0]
        targets = self._targets(work, result)
        result.files = [target.plan for target in targets]
        if not result.faults:
            fresh = [target for target in targets if self._is_current(target)]
            targets = [target for target in targets if target not in fresh]
            result.files = [target.plan for target in targets]
            result.up_to_date = not targets
            result.asks = [words for target in targets if (words := _asks(target.plan))]
        return result, targets

    def _number(self, found: Found) -> int:
        """An item's number in its archive; of a loose file that is 0."""
        if found.archive.layout is None:
            return 0
        return self.workspace.number_of(self.workspace.archive(self.project, found.archive), found)

    def _elsewhere(self, edit: Edit, work: dict[int, _Work]) -> None:
        """The parts of an edit that other items hold: the larger levels of a streamed texture."""
        for address, sha256 in edit.encoded_elsewhere.items():
            found = self.workspace.find(self.project.id, address)
            data, level, number = self.workspace.blobs.get(sha256), None, self._number(found)
            if found.archive.layout is not None:
                archive = self.workspace.archive(self.project, found.archive)
                if data == archive.read(number):
                    continue
                level = archive.packing_level(number)
            entry = work.setdefault(found.archive.id, _Work(found.archive))
            entry.edited[number] = (data, {"packing_level": level})

    def _loose_way(self) -> bool:
        """Whether what is built comes before every other copy."""
        profile = self.workspace.profile(self.project)
        return profile is not None and profile.way(self.project.way).way == "loose"

    def _targets(self, work: dict[int, _Work], result: BuildPlan) -> list[_Target]:
        """What every file of the game is to become, by the way that was chosen."""
        targets: list[_Target] = []
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

    def _made(self, path: str, words: str, composed: Composed, key: str) -> _Target:
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
            return _Target(original, plan, composed, key)
        self.workspace.check_unchanged(self.project, found)
        return _Target(found, FilePlan(path, "replace", words, found.size, size), composed, key)

    def _from_inside_out(self, work: dict[int, _Work], result: BuildPlan) -> None:
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
                entry = work.setdefault(holder.id, _Work(holder))
                entry.nested |= changes_outside(outer, row.files, found.composed)
            except BraeError as error:
                result.faults.append(error.at(row.address).as_dict())
                continue
            step = {"address": row.address, "title": row.title, "way": found.way, "why": found.why}
            entry.inside += [*one.inside, step | {"members": [asdict(member) for member in found.members]}]

    @staticmethod
    def _packed(archive: Container, one: _Work) -> dict[int, MemberChange]:
        def pack(item: tuple[int, tuple[bytes, dict[str, Any]]]) -> tuple[int, MemberChange]:
            number, (data, recipe) = item
            return number, archive.pack(number, data, recipe.get("packing_level"))

        # Packers release the interpreter's lock, so all cores pack.
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            return dict(pool.map(pack, one.edited.items())) | one.nested

    def _originals(self, row: ArchiveRow) -> dict[str, Original]:
        missing = [path for path in row.files.values() if path not in self.originals]
        if missing:
            raise ReadOnlyError(
                "This file has not been looked through yet.",
                address=missing[0],
                remedy="Wait until the game is opened, or open it again.",
            )
        return {name: self.originals[path] for name, path in row.files.items()}

    def _plan_archive(self, one: _Work) -> list[_Target]:
        row = one.row
        originals = self._originals(row)
        for original in originals.values():
            self.workspace.check_unchanged(self.project, original)
        if row.layout is None:
            (data, _), original = next(iter(one.edited.values())), originals[MAIN]
            composed = Composed({MAIN: BytesSource(b"")}, {MAIN: [New(data)]})
            plan = FilePlan(
                original.path, "replace", "a loose file is replaced as a whole", original.size, len(data)
            )
            return [_Target(original, plan, composed, MAIN)]
        archive = self.workspace.archive(self.project, row)
        may_patch = all(original.state != "rebuilt" for original in originals.values())
        found = plan_archive(archive, _proof(row), self._packed(archive, one), may_patch=may_patch)
        targets = []
        in_files = [archive.file_of(archive.index_of(member.level)) for member in found.members]
        for name, original in originals.items():
            size = found.composed.size(name)
            why = found.why
            if row.layout == scattered.KIND:
                why += "; unproved, by signs: a checksum elsewhere in the game may still mind"
            plan = FilePlan(original.path, found.way, why, original.size, size)
            plan.members = [
                asdict(member) for member, file in zip(found.members, in_files, strict=True) if file == name
            ]
            plan.inside = one.inside if name == archive.file else []
            targets.append(_Target(original, plan, found.composed, name))
        layout = self.workspace.project_library(self.project).layouts.get(row.layout or "")
        if layout is not None and (more := found.composed.segments.keys() - originals.keys()):
            names = companion_names(layout, row.files[MAIN], lambda name: False, found.composed.segments)
            words = "the data needs one numbered file more"
            targets += [self._made(names[key], words, found.composed, key) for key in sorted(more)]
        return targets

    def _put_back(self, original: Original) -> _Target:
        if original.state == "created":
            why = "Brae made it; no edit needs it any more"
            plan = FilePlan(original.path, "remove", why, original.current_size, 0)
            return _Target(original, plan, Composed({}, {}), MAIN)
        plan = FilePlan(
            original.path, "restore", "no edit concerns it any more", original.current_size, original.size
        )
        return _Target(original, plan, Composed({}, {}), MAIN)

    def _is_current(self, target: _Target) -> bool:
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
    stops = _standing(edit, "stops")
    return f"the game would refuse it: {stops[0]}" if stops else None


def _standing(edit: Edit, severity: str) -> list[str]:
    """Titles of an edit's findings of one severity that no applied remedy puts right."""
    return [
        finding["title"]
        for finding in (edit.sheet or {}).get("findings", [])
        if finding["severity"] == severity and not (finding["remedy"] and finding["remedy"]["applied"])
    ]


def build(
    workspace: Workspace, project_id: str, ticker: Ticker | None = None, *, may_grow: bool = False
) -> dict[str, Any]:
    """Carry the plan out. Killed at any moment, the game's files are as before, or (once the journal stands)
    become as after, now or at the next start.

    ``may_grow``: the person agrees that a file becomes much larger (``BuildPlan.asks``).
    Returns what was done. Raises one of Brae's errors where anything stops it; then nothing was changed.
    """
    ticker = ticker or Silent()
    with workspace.locked(project_id, "building"):
        project = workspace.project(project_id)
        found, targets = _Planner(workspace, project, ticker).run()
        if found.faults:
            first = dict(found.faults[0])
            first.pop("code", None)
            raise ChangedError(first.pop("message"), **first)
        if found.asks and not may_grow:
            raise GrowthError(found.asks[0], remedy="Say that it may (--may-grow), or make the edit smaller.")
        if not targets:
            return {"files": [], "edits": found.edits, "up_to_date": True, "left": []}
        note: dict[str, Any] = {"project": project_id, "what": "build", "edits": found.edits, "files": []}
        left = _carry_out(workspace, project, targets, note, ticker)
        if left:
            raise ChangedError(
                "This file of the game was changed by something else while it was built; it was left as it is.",
                address=left[0],
                remedy="Open the game again, then build again.",
            )
        copies.tell(workspace, project_id)
        return {
            "files": [asdict(file) for file in found.files],
            "edits": found.edits,
            "up_to_date": False,
            "left": left,
        }


def _carry_out(
    workspace: Workspace, project: Project, targets: list[_Target], note: dict[str, Any], ticker: Ticker
) -> list[str]:
    """Prepare every target, commit, apply; returns the files that were left as they are.

    ``targets`` is used up: no file may be open when it is replaced.
    """
    journal = journals.start(workspace.home.journal(project.id))
    plans = [asdict(target.plan) for target in targets]
    kept = sum(target.original.size for target in targets if _is_kept_whole(target))
    ticker.begin(sum(target.plan.size_after for target in targets) + kept, "bytes")
    written: list[Path] = []
    try:
        while targets:
            target = targets.pop(0)
            path = Path(project.folder) / target.original.path
            if path.exists():
                with path.open("r+b"):  # refused now where it is read-only or in use, not half-way
                    pass
            step = _Step(workspace, project, target, path, journals.Seen.at(path), journal, written, ticker)
            note["files"].append(step.prepare())
        del target, step
        journal.note = note | {"plan": plans}
        ticker.tick(0)  # the last moment at which a cancel leaves all as it was
        workspace.forget_archives()
        journal.commit()
    except BaseException as error:
        for new in written:
            new.unlink(missing_ok=True)
        journal.clear()
        if isinstance(error, OSError):
            raise storage_error(error, "write beside the game's files in", project.folder) from error
        raise
    return workspace.finish(journal)


@dataclass
class _Step:
    """One target on its way into the journal."""

    workspace: Workspace
    project: Project
    target: _Target
    path: Path
    before: journals.Seen | None
    journal: journals.Journal
    written: list[Path]
    ticker: Ticker

    def prepare(self) -> dict[str, Any]:
        """Keep what is needed to go back, write what is to come, and put the step into the journal."""
        original = self.target.original
        expected = None
        if original.state != "absent":
            expected = journals.Seen(original.current_size, original.current_mtime)
        if self.before != expected and not self.target.force:
            raise _changed(original.path)
        ways = {"patch": self._patch, "remove": self._remove, "restore": self._restore, "create": self._create}
        return ways.get(self.target.plan.way, self._replace)()

    def _note(self, state: str, sha256: str, kept: list[list[Any]], built_from: str | None) -> dict[str, Any]:
        original = self.target.original
        return {
            "path": original.path,
            "original": [original.size, original.sha256],
            "state": state,
            "sha256": sha256,
            "kept": kept,
            "built_from": built_from,
            "made_folders": original.made_folders,
        }

    def _before_sha256(self) -> str:
        """The bytes that are there now, by their hash."""
        known = self.target.original.current_sha256
        if self.before is None or (known and not self.target.force):
            return known
        return journals.file_hash(self.path)

    def _write(self, composed: Composed, key: str, ticker: Ticker) -> str:
        """Write the new version where it waits for the journal; returns its SHA-256."""
        new = journals.staged(self.path)
        self.journal.writes(new)
        self.written.append(new)
        sha256 = write_beside(composed, key, new, ticker.tick, digest=True)
        self.journal.replace(self.path, sha256, self.before, self._before_sha256())
        return sha256

    def _create(self) -> dict[str, Any]:
        folder = self.project.folder
        folders = [one.relative_to(folder).as_posix() for one in journals.missing_folders(self.path)]
        sha256 = self._write(self.target.composed, self.target.key, self.ticker)
        note = self._note("created", sha256, [], self.target.composed.fingerprint(self.target.key))
        return note | {"made_folders": self.target.original.made_folders or folders}

    def _remove(self) -> dict[str, Any]:
        folders = [Path(self.project.folder) / folder for folder in self.target.original.made_folders]
        self.journal.remove(self.path, folders, self.before, self._before_sha256())
        return self._note("removed", "", [], None)

    def _replace(self) -> dict[str, Any]:
        original = self.target.original
        whole = _keep_whole(self.workspace, original, self.path, self.ticker)
        sha256 = self._write(self.target.composed, self.target.key, self.ticker)
        kept = [[-1, original.size, whole]]
        return self._note("rebuilt", sha256, kept, self.target.composed.fingerprint(self.target.key))

    def _patch(self) -> dict[str, Any]:
        """Ranges that shall differ from the original, and those of the last build that shall not any more."""
        original = self.target.original
        source = self.target.composed.sources[self.target.key]  # the original's view
        wanted = list(self.target.composed.changes(self.target.key))
        kept: list[list[Any]] = [
            [offset, len(data), self.workspace.blobs.put(source.read(offset, len(data)))] for offset, data in wanted
        ]
        if original.size <= KEEP_WHOLE_BELOW:
            kept.append([-1, original.size, _keep_whole(self.workspace, original, self.path, self.ticker)])
        self.journal.patch(self.path, self._ranges(source, wanted), self.before, original.sha256)
        self.ticker.tick(self.target.plan.size_after)
        # The hash of a patched file is not worked out: that would read all of it. Its ranges tell what it is.
        built_from = self.target.composed.fingerprint(self.target.key)
        if not wanted:
            return self._note("original", original.sha256, [], built_from)
        return self._note("patched", "", kept, built_from)

    def _ranges(self, source: ByteSource, wanted: list[tuple[int, bytes]]) -> list[journals.Range]:
        """Every range that was or shall be patched; ``source`` is the original."""
        places = [(kept.offset, kept.offset + kept.length) for kept in self.target.original.ranges]
        places += [(offset, offset + len(data)) for offset, data in wanted]
        after = OverlaySource(source, wanted)
        with FileSource(self.path) as current:
            return [
                journals.Range(
                    begin,
                    source.read(begin, end - begin),
                    current.read(begin, end - begin),
                    after.read(begin, end - begin),
                )
                for begin, end in _united(places)
            ]

    def _restore(self) -> dict[str, Any]:
        original, whole = self.target.original, self.target.original.whole
        if whole is None:
            with FileSource(self.path) as current:
                ranges = self._ranges(self.workspace.as_it_was(original, current), [])
            self.journal.patch(self.path, ranges, self.before, original.sha256)
        else:
            with FileSource(self.workspace.blobs.path(whole.sha256)) as source:
                kept = Composed({MAIN: source}, {MAIN: [Copy(0, source.size)]})
                copied = self._write(kept, MAIN, Silent())
            if copied != original.sha256:
                raise NotFoundError(f"The kept bytes {whole.sha256[:12]}… are damaged.", address=original.path)
        self.ticker.tick(self.target.plan.size_after)
        return self._note("original", original.sha256, [], None)


def _united(places: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Ranges (begin, end) in order, those that touch or overlap as one."""
    found: list[tuple[int, int]] = []
    for begin, end in sorted(places):
        if found and begin <= found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((begin, end))
    return found


def _changed(path: str) -> ChangedError:
    return ChangedError(
        "This file of the game was changed by something else.",
        address=path,
        remedy="Open the game again: Brae takes the file as it is now and keeps your edits.",
    )


def _is_kept_whole(target: _Target) -> bool:
    """Whether the original is now to be kept as a whole."""
    if target.original.whole is not None or target.original.state in ("absent", "created"):
        return False
    way = target.plan.way
    return way in ("replace", "rebuild") or (way == "patch" and target.original.size <= KEEP_WHOLE_BELOW)


def _keep_whole(workspace: Workspace, original: Original, path: Path, ticker: Ticker) -> str:
    """Keep an original as a whole, verified by its hash; returns the hash."""
    if original.whole is not None:
        return original.whole.sha256
    with FileSource(path) as source:
        ranges = [(kept.offset, workspace.blobs.get(kept.sha256)) for kept in original.ranges]
        kept = workspace.blobs.put_parts(chunks(OverlaySource(source, ranges)), ticker.tick)
    if kept != original.sha256:
        raise _changed(original.path)
    return kept


def restore(
    workspace: Workspace,
    project_id: str,
    paths: list[str] | None = None,
    *,
    force: bool = False,
    ticker: Ticker | None = None,
) -> dict[str, Any]:
    """Put the originals back, of one file or of all that Brae changed; verified by their hashes.

    A file that something else changed since is left alone unless ``force``; then what lies there is kept first.
    Returns what was put back, and what was ``left`` alone with the reason. Raises ChangedError where nothing could
    be put back.
    """
    with workspace.locked(project_id, "restoring"):
        project = workspace.project(project_id)
        originals = [one for one in workspace.originals(project_id).values() if one.state != "original"]
        if paths is not None:
            missing = sorted(set(paths) - {original.path for original in originals})
            if missing:
                raise NotFoundError(f"{missing[0]} is as it was: there is nothing to restore.")
            originals = [original for original in originals if original.path in paths]
        targets, left = [], []
        for original in originals:
            try:
                targets.append(_to_restore(workspace, project, original, force=force))
            except BraeError as error:
                left.append(error.at(original.path))
        if not targets:
            if left:
                raise left[0]
            return {"files": [], "left": []}
        back = [(target.original, target.plan.way) for target in targets]
        note: dict[str, Any] = {"project": project_id, "what": "restore", "edits": [], "files": []}
        changed = _carry_out(workspace, project, targets, note, ticker or Silent())
        left += [_changed(path) for path in changed]
        done = [(original, way) for original, way in back if original.path not in changed]
        for original, way in done:
            path = Path(project.folder) / original.path
            if path.exists() if way == "remove" else journals.file_hash(path) != original.sha256:
                raise ChangedError(
                    "The restored file is not what it was.",
                    address=original.path,
                    expected=original.sha256,
                    remedy="The disk may be failing: restore it once more, to another disk.",
                )
        copies.tell(workspace, project_id)
        return {
            "files": [original.path for original, _ in done],
            "left": [{"path": error.address, "reason": f"{error.message} {error.remedy or ''}"} for error in left],
        }


def _to_restore(workspace: Workspace, project: Project, original: Original, *, force: bool) -> _Target:
    """What puts one original back; ChangedError where something else changed the file and nobody ``force``s it."""
    path = Path(project.folder) / original.path
    try:
        workspace.check_unchanged(project, original)
        force = False
    except ChangedError:
        if not force or (original.whole is None and original.state != "created"):
            raise
        if path.exists():
            workspace.blobs.put_file(path)
    way = "remove" if original.state == "created" else "restore"
    plan = FilePlan(original.path, way, "asked for", original.current_size, original.size)
    return _Target(original, plan, Composed({}, {}), MAIN, force)
