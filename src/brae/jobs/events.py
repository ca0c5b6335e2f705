"""What happens, told to whoever listens (a page, a test)."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

Event = dict[str, Any]
_LONGEST = 1000
#: what a listener that fell behind finds in the place of what it missed: it is to look at everything anew
LOST = "lost"


class Listener(queue.Queue[Event]):
    """A queue of everything published since; ``wake`` is called, in whatever thread, when there is more."""

    def __init__(self, wake: Callable[[], object] | None) -> None:
        super().__init__(_LONGEST)
        self._wake = wake

    def tell(self, event: Event) -> None:
        """Put an event into the queue; where it is full, what waits in it gives way to LOST."""
        try:
            self.put_nowait(event)
        except queue.Full:
            with self.mutex:
                self.queue.clear()
                self.queue.append({"kind": LOST})
        if self._wake is not None:
            with suppress(RuntimeError):  # the loop that it wakes has ended
                self._wake()


class Events:
    """Publishes small dictionaries to every listener."""

    def __init__(self) -> None:
        self._listeners: set[Listener] = set()
        self._lock = threading.Lock()

    def publish(self, kind: str, **details: Any) -> None:
        """Tell everybody."""
        event = {"kind": kind, **details}
        with self._lock:
            listeners = list(self._listeners)
        for listener in listeners:
            listener.tell(event)

    @contextmanager
    def listen(self, wake: Callable[[], object] | None = None) -> Iterator[Listener]:
        """A queue of everything published from now on."""
        listener = Listener(wake)
        with self._lock:
            self._listeners.add(listener)
        try:
            yield listener
        finally:
            with self._lock:
                self._listeners.discard(listener)
