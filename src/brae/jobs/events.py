"""What happens, told to whoever listens (a page, a test)."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

Event = dict[str, Any]
_LONGEST = 1000


class Events:
    """Publishes small dictionaries to every listener; a listener that sleeps loses the oldest."""

    def __init__(self) -> None:
        self._listeners: set[queue.Queue[Event]] = set()
        self._lock = threading.Lock()

    def publish(self, kind: str, **details: Any) -> None:
        """Tell everybody."""
        event = {"kind": kind, **details}
        with self._lock:
            listeners = list(self._listeners)
        for listener in listeners:
            while True:
                try:
                    listener.put_nowait(event)
                    break
                except queue.Full:
                    try:
                        listener.get_nowait()
                    except queue.Empty:
                        continue

    @contextmanager
    def listen(self) -> Iterator[queue.Queue[Event]]:
        """A queue of everything published from now on."""
        listener: queue.Queue[Event] = queue.Queue(_LONGEST)
        with self._lock:
            self._listeners.add(listener)
        try:
            yield listener
        finally:
            with self._lock:
                self._listeners.discard(listener)
