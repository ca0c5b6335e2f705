"""A server that does not wait for ever: a request whose head does not arrive ends after a time."""

from __future__ import annotations

import asyncio
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

#: seconds for a request's head
HEAD = 20.0


class PatientProtocol(H11Protocol):
    """uvicorn's protocol, which knows a limit for idle connections but none for half a request."""

    _timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._watch()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        self._watch()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        self._watch()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._timer is not None:
            self._timer.cancel()
        super().connection_lost(exc)

    def _watch(self) -> None:
        """Begin to count where a head is waited for, stop where one has arrived."""
        waiting = self.cycle is None or self.cycle.response_complete
        if waiting and self._timer is None:
            self._timer = self.loop.call_later(HEAD, self._too_slow)
        elif not waiting and self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _too_slow(self) -> None:
        self._timer = None
        if not self.transport.is_closing():
            self.transport.close()
