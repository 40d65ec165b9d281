"""The demo: a private MariaDB, the server and the simulated instrument with its towers, started together and stopped together."""

import os
import signal
import sys
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from subprocess import Popen
from types import FrameType
from typing import NoReturn

from fairsquare.demo.people import INSTRUMENT, SIGN_INS
from fairsquare.processes import free_port, start, stop
from fairsquare.service.keeping import forget_url, remember_url
from fairsquare.service.mariadb import MariaDBFault, PrivateMariaDB
from fairsquare.settings import Settings
from fairsquare.store.migrate import has_jobs, migrate

_UP_S = 30.0


class Stopped(Exception):
    """A signal asked us to stop."""


def run_demo(folder: Path, host: str, port: int, *, fresh: bool, towers: bool = True) -> int:
    """Run the demo until Ctrl-C or a signal; return the exit status. Without `towers` nobody pulls as boards say."""
    own = Settings().database_url
    mariadb = None if own else PrivateMariaDB(folder / "mariadb")

    def work(children: list[Popen[bytes]]) -> int:
        if mariadb and fresh:
            tell("forgetting the data of the demo")
            mariadb.remove()
        folder.mkdir(parents=True, exist_ok=True)
        tell("starting MariaDB" if mariadb else "using the database of FAIRSQUARE_DATABASE_URL")
        url = mariadb.start() if mariadb else own
        os.environ |= {"FAIRSQUARE_DATABASE_URL": url, "FAIRSQUARE_DEMO": "1"}
        if mariadb:
            remember_url(folder, url)
        migrate(url)
        load_demo(url)
        address = f"http://{host}:{free_port(port, host)}"
        children += start_all(folder, host, address, towers=towers)
        welcome(address)
        return _watch(mariadb, children)

    def end() -> None:
        if mariadb:
            forget_url(folder)
            mariadb.stop()

    return until_stopped(work, end)


def until_stopped(work: Callable[[list[Popen[bytes]]], int], end: Callable[[], None]) -> int:
    """Do `work`, which starts children, until it ends or a signal comes; then stop them and `end`. Return the exit status."""
    signals = (signal.SIGTERM, signal.SIGHUP, signal.SIGINT)
    for signal_number in signals:
        signal.signal(signal_number, stop_all)
    children: list[Popen[bytes]] = []
    try:
        return work(children)
    except Stopped:
        tell("stopping")
        return 0
    except (MariaDBFault, OSError) as fault:
        sys.stderr.write(f"{fault}\n")
        return 1
    finally:
        for signal_number in signals:
            signal.signal(signal_number, signal.SIG_IGN)
        for child in reversed(children):
            stop(child)
        end()


def load_demo(url: str) -> None:
    """Load the demo's jobs where there are none. What that needs is imported only then, for a second start is to be quick."""
    if has_jobs(url):
        tell("the data of the last time are kept")
        return
    from fairsquare.demo.load import load_all
    from fairsquare.service.server import open_desk

    desk = open_desk()
    tell(f"{len(load_all(desk, tell=tell))} demo jobs loaded, those of the past among them")
    desk.database.close()


def start_all(folder: Path, host: str, address: str, *, towers: bool) -> list[Popen[bytes]]:
    """Start a server at an address, and the simulated instrument once it answers."""
    server = start_server(folder / "server.log", host, address)
    with (folder / "instrument.log").open("ab") as log:
        instrument = start(
            [
                sys.executable,
                "-m",
                "fairsquare",
                "instrument",
                "--server",
                address,
                "--towers" if towers else "--no-towers",
            ],
            log=log,
            environment={
                "FAIRSQUARE_INSTRUMENT_NAME": INSTRUMENT.name,
                "FAIRSQUARE_INSTRUMENT_PASSWORD": INSTRUMENT.password,
            },
        )
    return [server, instrument]


def start_server(log: Path, host: str, address: str, environment: dict[str, str] | None = None) -> Popen[bytes]:
    """Start a server at an address, and wait until it answers. Raises `OSError` where it does not."""
    command = [sys.executable, "-m", "fairsquare", "start", "--host", host, "--port", address.rpartition(":")[2]]
    with log.open("ab") as out:
        server = start(command, log=out, environment=environment)
    wait_until_up(address, server, log)
    return server


def wait_until_up(address: str, server: Popen[bytes], log: Path) -> None:
    """Wait until a server answers. Raises `OSError` with the end of its log where it does not."""
    until = time.monotonic() + _UP_S
    while time.monotonic() < until and server.poll() is None:
        try:
            with urllib.request.urlopen(f"{address}/readyz", timeout=1) as answer:  # noqa: S310 - our own server
                if answer.status == 200:
                    return
        except OSError:
            pass
        time.sleep(0.05)
    raise OSError(f"the server did not start:\n{log.read_text(errors='replace')[-1500:]}")


def _watch(mariadb: PrivateMariaDB | None, children: list[Popen[bytes]]) -> int:
    """Wait; start MariaDB again when it dies; end when the server does."""
    while True:
        time.sleep(0.3)
        if mariadb and not mariadb.running():
            tell("MariaDB died: starting it again; nothing that was confirmed is lost")
            mariadb.restart()
        if children[0].poll() is not None:
            sys.stderr.write("The server ended: see server.log.\n")
            return 1


def welcome(address: str) -> None:
    """Say where it is, and who may sign in."""
    lines = ["", f"Fair Square is at  {address}", "", "Sign in as (an invented workshop, invented people):"]
    lines += [
        f"  {sign_in.name:<10} {sign_in.password:<22} {sign_in.full_name}, {sign_in.role}" for sign_in in SIGN_INS
    ]
    lines += ["", "Ctrl-C stops everything and keeps the data; --fresh begins again.", ""]
    sys.stdout.write("\n".join(lines) + "\n")
    sys.stdout.flush()


def tell(words: str) -> None:
    """Say what is being done."""
    sys.stdout.write(f"· {words}\n")
    sys.stdout.flush()


def stop_all(number: int, frame: FrameType | None) -> NoReturn:
    """Handle a signal."""
    del number, frame
    raise Stopped
