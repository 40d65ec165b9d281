"""How long a connection may take to say what it wants: heads that are never sent to their end are hung up on."""

import asyncio
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_S = 15.0
"""From the first to the last byte of a request's head, and from the connection to its first byte."""


class PatientProtocol(H11Protocol):
    """uvicorn's protocol by h11, which closes a connection whose head takes longer than `HEAD_S`."""

    def __init__(self, *arguments: Any, **named: Any) -> None:
        super().__init__(*arguments, **named)
        self._hang_up: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]  # as in uvicorn
        """Begin to wait for the first request."""
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Take bytes; while they are no whole head the time that is left is not prolonged."""
        super().data_received(data)
        if self.cycle is not None and not self.cycle.response_complete:
            self._stop_waiting()
        else:
            self._wait()

    def on_response_complete(self) -> None:
        """Answered: what comes next is a head again, or nothing until keep-alive ends."""
        super().on_response_complete()
        self._stop_waiting()

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing is waited for any more."""
        self._stop_waiting()
        super().connection_lost(exc)

    def _wait(self) -> None:
        if self._hang_up is None:
            self._hang_up = self.loop.call_later(HEAD_S, self.transport.close)

    def _stop_waiting(self) -> None:
        if self._hang_up is not None:
            self._hang_up.cancel()
            self._hang_up = None
