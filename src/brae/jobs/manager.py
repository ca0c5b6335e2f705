"""Runs long work in threads and keeps account of it in the database."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, Protocol

from sqlalchemy import select

from brae.core.errors import BraeError, CancelledError, NotFoundError
from brae.jobs.events import Events
from brae.store import Database
from brae.store.models import JobRow, now

log = logging.getLogger(__name__)
_EVERY = 0.1
_THREADS = 4


class Ticker(Protocol):
    """What long work tells of itself."""

    def begin(self, total: int, unit: str) -> None:
        """So much is to be done."""
        ...

    def tick(self, amount: int = 1) -> None:
        """So much more is done; raises CancelledError where the person cancelled."""
        ...

    def say(self, words: str | None = None, result: dict[str, Any] | None = None) -> None:
        """What is being done just now, in words; and what has come out so far."""
        ...


class Silent:
    """A ticker for work that nobody watches."""

    def begin(self, total: int, unit: str) -> None:
        pass

    def tick(self, amount: int = 1) -> None:
        pass

    def say(self, words: str | None = None, result: dict[str, Any] | None = None) -> None:
        pass


class Job:
    """One piece of long work, from inside."""

    def __init__(self, row: JobRow, events: Events) -> None:
        self.id, self.kind, self.title, self.project_id = row.id, row.kind, row.title, row.project_id
        self.arguments: dict[str, Any] = dict(row.arguments)
        self.state = "waiting"
        #: what it waits for, for people
        self.waits_for: str | None = None
        #: what is being done just now
        self.doing: str | None = None
        self.result: dict[str, Any] | None = None
        self.error: dict[str, Any] | None = None
        self.done = self.total = 0
        self.unit = ""
        self.began = time.monotonic()
        self._events = events
        self._told = 0.0
        self._cancelled = threading.Event()

    def begin(self, total: int, unit: str) -> None:
        self.done, self.total, self.unit, self.began = 0, total, unit, time.monotonic()
        self.tell()

    def tick(self, amount: int = 1) -> None:
        if self._cancelled.is_set():
            raise CancelledError("Cancelled.")
        self.done += amount
        if time.monotonic() - self._told > _EVERY:
            self.tell()

    def say(self, words: str | None = None, result: dict[str, Any] | None = None) -> None:
        if words is not None:
            self.doing = words
        if result is not None:
            self.result = result
        if time.monotonic() - self._told > _EVERY:
            self.tell()

    def cancel(self) -> None:
        """Ask the work to stop at its next step."""
        self._cancelled.set()

    def tell(self) -> None:
        """Publish how far it is."""
        self._told = time.monotonic()
        self._events.publish("job", job=self.as_dict())

    def as_dict(self) -> dict[str, Any]:
        """For JSON; ``rate`` is done per second."""
        spent = max(time.monotonic() - self.began, 1e-6)
        return {
            "id": self.id,
            "kind": self.kind,
            "title": self.title,
            "project_id": self.project_id,
            "arguments": self.arguments,
            "state": self.state,
            "waits_for": self.waits_for,
            "doing": self.doing if self.state == "running" else None,
            "done": self.done,
            "total": self.total,
            "unit": self.unit,
            "rate": self.done / spent if self.state == "running" else None,
            "result": self.result,
            "error": self.error,
        }


#: what a job does; its result is kept
Work = Callable[[Job], dict[str, Any] | None]


@dataclass
class _Entry:
    """A job with what it does and who waits for its end."""

    job: Job
    work: Work
    queue: str | None
    ended: Future[None] = field(default_factory=Future)


class Jobs:
    """Starts and finds jobs. Those of one ``queue`` run one after the other."""

    def __init__(self, database: Database, events: Events) -> None:
        self.database, self.events = database, events
        self._pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="job")
        self._entries: dict[int, _Entry] = {}
        self._queues: dict[str, deque[_Entry]] = {}
        #: ended jobs whose end could not be written down
        self._unwritten: dict[int, Job] = {}
        self._lock = threading.Lock()
        with database.change() as session:
            for row in session.scalars(select(JobRow).where(JobRow.state.in_(("waiting", "running")))):
                row.state, row.ended = "interrupted", now()

    def start(
        self,
        kind: str,
        title: str,
        work: Work,
        *,
        project: str | None = None,
        queue: str | None = None,
        **arguments: Any,
    ) -> tuple[Job, Future[None]]:
        """Begin work, or let it wait for its turn in a queue; ``arguments`` are kept for people to see."""
        with self.database.change() as session:
            row = JobRow(kind=kind, title=title, project_id=project, arguments=arguments, state="waiting")
            session.add(row)
            session.flush()
            job = Job(row, self.events)
        entry = _Entry(job, work, queue)
        with self._lock:
            self._entries[job.id] = entry
            line = self._queues.setdefault(queue, deque()) if queue is not None else None
            if line is not None:
                line.append(entry)
            first = line is None or line[0] is entry
            if line is not None and not first:
                job.waits_for = line[-2].job.title
        job.tell()
        if first:
            self._pool.submit(self._run, entry)
        return job, entry.ended

    def _run(self, entry: _Entry) -> None:
        job = entry.job
        job.waits_for, job.state = None, "running"
        try:
            job.tick(0)
            job.tell()
            job.result = entry.work(job)
            job.state = "done"
        except CancelledError as error:
            job.state, job.error = "cancelled", error.as_dict()
        except BraeError as error:
            job.state, job.error = "failed", error.as_dict()
        except BaseException as error:  # a fault of Brae's own must reach the person too
            log.exception("job %s failed", job.kind)
            message = f"Brae itself failed ({type(error).__name__}: {error})."
            job.state, job.error = "failed", {"code": "internal", "message": message}
        self._end(entry)

    def _end(self, entry: _Entry) -> None:
        """Write the end down, let the next in the queue begin, tell everybody; whatever fails, the rest is done."""
        job = entry.job
        try:
            self._write(job)
        except Exception:
            log.exception("the end of job %s could not be written down", job.id)
            self._unwritten[job.id] = job
        with self._lock:
            self._entries.pop(job.id, None)
            line = self._queues.get(entry.queue) if entry.queue is not None else None
            if line is not None:
                first = bool(line) and line[0] is entry
                if first:
                    line.popleft()
                if not line:
                    del self._queues[entry.queue or ""]
                elif first:
                    self._pool.submit(self._run, line[0])
        job.tell()
        entry.ended.set_result(None)

    def _write(self, job: Job) -> None:
        with self.database.change() as session:
            row = session.get_one(JobRow, job.id)
            row.state, row.done, row.total, row.unit = job.state, job.done, job.total, job.unit
            row.result, row.error, row.ended, row.project_id = job.result, job.error, now(), job.project_id

    def cancel(self, number: int) -> None:
        """Ask a job to stop, or take it out of its queue; NotFoundError where it neither runs nor waits."""
        with self._lock:
            entry = self._entries.get(number)
            line = self._queues.get(entry.queue or "") if entry is not None else None
            waits = line is not None and entry is not None and line[0] is not entry
            if waits and line is not None and entry is not None:
                line.remove(entry)
        if entry is None:
            raise NotFoundError(f"Job {number} is not running.")
        entry.job.cancel()
        if waits:
            entry.job.waits_for, entry.job.state = None, "cancelled"
            entry.job.error = CancelledError("Cancelled.").as_dict()
            self._end(entry)

    def get(self, number: int) -> dict[str, Any]:
        """One job: waiting, running or ended."""
        with self._lock:
            entry = self._entries.get(number)
            job = self._unwritten.get(number) if entry is None else entry.job
        if job is not None:
            return job.as_dict()
        with self.database.session() as session:
            row = session.get(JobRow, number)
            if row is None:
                raise NotFoundError(f"There is no job {number}.")
            return _row_dict(row)

    def latest(self, limit: int = 20) -> list[dict[str, Any]]:
        """The newest jobs first; those that have not ended as they stand."""
        with self._lock:
            here = {number: job.as_dict() for number, job in self._unwritten.items()}
            here |= {number: entry.job.as_dict() for number, entry in self._entries.items()}
        with self.database.session() as session:
            rows = session.scalars(select(JobRow).order_by(JobRow.id.desc()).limit(limit))
            return [here.get(row.id) or _row_dict(row) for row in rows]

    def close(self) -> None:
        """Cancel what runs or waits, and wait for its end."""
        with self._lock:
            numbers = list(self._entries)
        for number in reversed(numbers):
            with suppress(NotFoundError):  # it has ended meanwhile
                self.cancel(number)
        while True:
            with self._lock:
                left = [entry.ended for entry in self._entries.values()]
            if not left:
                break
            wait(left)
        self._pool.shutdown(wait=True)


def _row_dict(row: JobRow) -> dict[str, Any]:
    names = ("id", "kind", "title", "project_id", "arguments", "state", "done", "total", "unit", "result", "error")
    return {name: getattr(row, name) for name in names} | {"rate": None, "waits_for": None, "doing": None}
