"""A stage for benches and pictures: a private MariaDB, a server on it, and a way in."""

import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
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
    """The address of the server, a desk over its database, and the database's own server."""

    address: str
    desk: Desk
    mariadb: PrivateMariaDB


@contextmanager
def stage() -> Iterator[Stage]:
    """Put up a database and a server, and take both down again."""
    folder = Path(tempfile.mkdtemp(prefix="fairsquare-stage-"))
    folder.chmod(0o755)
    mariadb = PrivateMariaDB(folder / "mariadb", quick=True)
    url = mariadb.start()
    migrate(url)
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    with (folder / "log").open("wb") as log:
        server = start(
            [sys.executable, "-m", "fairsquare", "start", "--port", str(port)],
            log=log,
            environment={"FAIRSQUARE_DATABASE_URL": url, "FAIRSQUARE_DEMO": "1", "FAIRSQUARE_LOG_LEVEL": "WARNING"},
        )
    database = Database(url, 4)
    try:
        _wait_for(address)
        yield Stage(address, Desk(database, software="a bench", workshop="a bench", number_prefix="SL-"), mariadb)
    finally:
        database.close()
        stop(server)
        mariadb.stop()
        mariadb.remove()
        shutil.rmtree(folder, ignore_errors=True)


def _wait_for(address: str) -> None:
    until = time.monotonic() + 30
    while time.monotonic() < until:
        try:
            if httpx.get(f"{address}/readyz").status_code == 200:
                return
        except httpx.HTTPError:
            time.sleep(0.05)
    raise OSError("the server did not start")
