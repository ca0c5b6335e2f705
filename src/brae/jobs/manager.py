"""Runs long work in threads and keeps account of it in the database."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, Protocol

from sqlalchemy import select

from brae.core.errors import BraeError, CancelledError, NotFoundError
from brae.jobs.events import Events
from brae.store import Database
from brae.store.models import JobRow, now

log = logging.getLogger(__name__)
_EVERY = 0.1


class Ticker(Protocol):
    """What long work tells of itself."""

    def begin(self, total: int, unit: str) -> None:
        """So much is to be done."""
        ...

    def tick(self, amount: int = 1) -> None:
        """So much more is done; raises CancelledError where the person cancelled."""
        ...


class Silent:
    """A ticker for work that nobody watches."""

    def begin(self, total: int, unit: str) -> None:
        pass

    def tick(self, amount: int = 1) -> None:
        pass


class Job:
    """One piece of long work, from inside."""

    def __init__(self, row: JobRow, events: Events) -> None:
        self.id, self.kind, self.title, self.project_id = row.id, row.kind, row.title, row.project_id
        self.arguments: dict[str, Any] = dict(row.arguments)
        self.state = "running"
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
            "done": self.done,
            "total": self.total,
            "unit": self.unit,
            "rate": self.done / spent if self.state == "running" else None,
            "result": self.result,
            "error": self.error,
        }


class Jobs:
    """Starts and finds jobs."""

    def __init__(self, database: Database, events: Events) -> None:
        self.database, self.events = database, events
        self._pool = ThreadPoolExecutor(2, thread_name_prefix="job")
        self._running: dict[int, Job] = {}
        self._lock = threading.Lock()
        with database.session() as session:
            for row in session.scalars(select(JobRow).where(JobRow.state == "running")):
                row.state, row.ended = "interrupted", now()

    def start(
        self,
        kind: str,
        title: str,
        work: Callable[[Job], dict[str, Any] | None],
        *,
        project: str | None = None,
        **arguments: Any,
    ) -> tuple[Job, Future[None]]:
        """Begin work; ``arguments`` are kept so that it can be begun again after a restart."""
        with self.database.session() as session:
            row = JobRow(kind=kind, title=title, project_id=project, arguments=arguments)
            session.add(row)
            session.flush()
            job = Job(row, self.events)
        with self._lock:
            self._running[job.id] = job
        job.tell()
        return job, self._pool.submit(self._run, job, work)

    def _run(self, job: Job, work: Callable[[Job], dict[str, Any] | None]) -> None:
        try:
            job.tick(0)
            job.result = work(job)
            job.state = "done"
        except CancelledError as error:
            job.state, job.error = "cancelled", error.as_dict()
        except BraeError as error:
            job.state, job.error = "failed", error.as_dict()
        except Exception as error:  # a fault of Brae's own must reach the person too
            log.exception("job %s failed", job.kind)
            message = f"Brae itself failed ({type(error).__name__}: {error})."
            job.state, job.error = "failed", {"code": "internal", "message": message}
        self._write(job)
        with self._lock:
            self._running.pop(job.id, None)
        job.tell()

    def _write(self, job: Job) -> None:
        with self.database.session() as session:
            row = session.get_one(JobRow, job.id)
            row.state, row.done, row.total, row.unit = job.state, job.done, job.total, job.unit
            row.result, row.error, row.ended, row.project_id = job.result, job.error, now(), job.project_id

    def cancel(self, number: int) -> None:
        """Ask a running job to stop; NotFoundError where it does not run."""
        with self._lock:
            job = self._running.get(number)
        if job is None:
            raise NotFoundError(f"Job {number} is not running.")
        job.cancel()

    def get(self, number: int) -> dict[str, Any]:
        """One job, running or ended."""
        with self._lock:
            job = self._running.get(number)
        if job is not None:
            return job.as_dict()
        with self.database.session() as session:
            row = session.get(JobRow, number)
            if row is None:
                raise NotFoundError(f"There is no job {number}.")
            return _row_dict(row)

    def latest(self, limit: int = 20) -> list[dict[str, Any]]:
        """The newest jobs first; running ones as they stand."""
        with self._lock:
            running = {number: job.as_dict() for number, job in self._running.items()}
        with self.database.session() as session:
            rows = session.scalars(select(JobRow).order_by(JobRow.id.desc()).limit(limit))
            return [running.get(row.id) or _row_dict(row) for row in rows]

    def close(self) -> None:
        """Cancel what runs and wait for it."""
        with self._lock:
            for job in self._running.values():
                job.cancel()
        self._pool.shutdown(wait=True)


def _row_dict(row: JobRow) -> dict[str, Any]:
    names = ("id", "kind", "title", "project_id", "arguments", "state", "done", "total", "unit", "result", "error")
    return {name: getattr(row, name) for name in names} | {"rate": None}
