"""Long work: progress, cancel, and what is left of it after a restart."""

from brae.jobs.events import Events
from brae.jobs.manager import Job, Jobs, Silent, Ticker

__all__ = ["Events", "Job", "Jobs", "Silent", "Ticker"]
