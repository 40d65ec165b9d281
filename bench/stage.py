"""A stage for benches and pictures: a private MariaDB, a server on it, and a way in."""

import shutil
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import httpx

from fairsquare.actions import Desk
from fairsquare.processes import free_port, start, stop
from fairsquare.service.mariadb import PrivateMariaDB
from fairsquare.store.database import Database
from fairsquare.store.migrate import migrate


class Stage(NamedTuple):
    """The address of the first server, a desk over its database, and the database's own server; the addresses of all servers."""

    address: str
    desk: Desk
    mariadb: PrivateMariaDB
    addresses: tuple[str, ...] = ()
    pids: tuple[int, ...] = ()


@contextmanager
def stage(workers: Sequence[int] = (1,)) -> Iterator[Stage]:
    """Put up a database and servers on it, each of so many processes, and take all down again."""
    folder = Path(tempfile.mkdtemp(prefix="fairsquare-stage-"))
    folder.chmod(0o755)
    mariadb = PrivateMariaDB(folder / "mariadb", quick=True)
    url = mariadb.start()
    migrate(url)
    environment = {"FAIRSQUARE_DATABASE_URL": url, "FAIRSQUARE_DEMO": "1", "FAIRSQUARE_LOG_LEVEL": "WARNING"}
    database, servers, addresses = Database(url, 4), [], []
    desk = Desk(database, software="a bench", workshop="a bench", number_prefix="SL-")
    try:
        with (folder / "log").open("wb") as log:
            for many in workers:
                port = free_port()
                addresses.append(f"http://127.0.0.1:{port}")
                command = [sys.executable, "-m", "fairsquare", "start", "--port", str(port), "--workers", str(many)]
                servers.append(start(command, log=log, environment=environment))
                _wait_for(addresses[-1])
        yield Stage(addresses[0], desk, mariadb, tuple(addresses), tuple(server.pid for server in servers))
    finally:
        database.close()
        for server in servers:
            stop(server)
        mariadb.stop()
        mariadb.remove()
        shutil.rmtree(folder, ignore_errors=True)


def _wait_for(address: str) -> None:
    until = time.monotonic() + 60
    while time.monotonic() < until:
        try:
            if httpx.get(f"{address}/readyz").status_code == 200:
                return
        except httpx.HTTPError:
            time.sleep(0.05)
    raise OSError("the server did not start")
