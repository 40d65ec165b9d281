"""Several server processes on one machine, all equal, that answer at one address.

They are uvicorn's own workers under its own supervisor, which starts anew whoever ends or hangs, and on SIGHUP replaces one after
the other without refusing a request. Ours is what a worker does: it ends with its supervisor however that ends, and it runs our
server, which lets go of pages that listen before it stops.
"""

import os
import signal
import threading
from socket import socket

import uvicorn
from uvicorn.supervisors import multiprocess

from fairsquare.processes import die_with
from fairsquare.service.server import OurServer, run, set_up_logs
from fairsquare.settings import Settings


class Worker(multiprocess.Process):
    """One of the processes, as its supervisor sees it, and what it does when it is that process."""

    def __init__(self, config: uvicorn.Config, sockets: list[socket]) -> None:
        self._supervisor = os.getpid()
        self._running: OurServer | None = None
        super().__init__(config, sockets)

    def pong(self) -> None:
        """Answer the supervisor whether requests are answered yet."""
        self.child_conn.recv()
        self.child_conn.send(bool(self._running and self._running.started))

    def target(self, sockets: list[socket] | None = None) -> None:
        """Run our server until it is told to stop."""
        die_with(self._supervisor, signal.SIGTERM)
        threading.Thread(target=self.always_pong, daemon=True).start()
        settings = Settings()
        set_up_logs(settings.log_level)
        run(settings, self.config, sockets, self._begun)

    def _begun(self, server: OurServer) -> None:
        self._running = server


class Supervisor(multiprocess.Multiprocess):
    """uvicorn's supervisor, of our workers."""

    def run(self) -> None:
        """Start the workers, and see to them until a signal comes."""
        multiprocess.Process = Worker  # type: ignore[misc]  # the only way in which it can be told of another kind
        super().run()


def supervise(config: uvicorn.Config) -> int:
    """Run as many workers as the configuration says until a signal comes; return the exit status."""
    listening = config.bind_socket()
    Supervisor(config, [listening]).run()
    return 0
