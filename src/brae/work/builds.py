"""Build and restore: edits into the game's files, and every original back."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from brae.core.build import journal as journals
from brae.core.errors import BraeError, ChangedError, NotFoundError, ReadOnlyError, storage_error
from brae.core.layouts.segments import Composed, Copy, write_beside
from brae.core.sources import MAIN, ByteSource, FileSource, OverlaySource, chunks
from brae.jobs import Silent, Ticker
from brae.store.models import Original, Project
from brae.work import copies
from brae.work.planning import FilePlan, FileWay, Planner, Target
from brae.work.workspace import Workspace

#: originals up to this size are kept whole even where a patch needs its ranges only: they survive more
KEEP_WHOLE_BELOW = 64 << 20


class GrowthError(ReadOnlyError):
    """A file of the game would become much larger, and nobody has agreed to that."""

    code = "growth"


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
        found, targets = Planner(workspace, project, ticker).run()
        if found.faults:
            first = dict(found.faults[0])
            first.pop("code", None)
            raise ChangedError(first.pop("message"), **first)
        if found.asks and not may_grow:
            raise GrowthError(found.asks[0], remedy="Say that it may (--may-grow), or make the edit smaller.")
        if not targets:
            return {"files": [], "edits": found.edits, "up_to_date": True, "left": []}
        note: dict[str, Any] = {"project": project_id, "what": "build", "edits": found.edits, "files": []}
        note["held"] = {"way": workspace.way(project), "items": found.held}
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
    workspace: Workspace, project: Project, targets: list[Target], note: dict[str, Any], ticker: Ticker
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
    target: Target
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


def _is_kept_whole(target: Target) -> bool:
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


def _to_restore(workspace: Workspace, project: Project, original: Original, *, force: bool) -> Target:
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
    way: FileWay = "remove" if original.state == "created" else "restore"
    plan = FilePlan(original.path, way, "asked for", original.current_size, original.size)
    return Target(original, plan, Composed({}, {}), MAIN, force)
