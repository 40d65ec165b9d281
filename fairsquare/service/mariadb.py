"""A private MariaDB: Debian's server, run as an unprivileged user on a free loopback port, with its data in one folder."""

import hashlib
import os
import secrets
import shutil
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

import pymysql

from fairsquare.processes import free_port, reachable_by, start, stop

UNPRIVILEGED = "mysql"
_START_S = 60.0
_LOG = (
    "--server-id=1",
    "--log-bin=log",
    "--binlog-format=ROW",
    "--binlog-row-metadata=FULL",
    "--sync-binlog=1",
    "--expire-logs-days=7",
)


class MariaDBFault(RuntimeError):
    """The private server cannot be made or does not start; the message says what to do."""


class PrivateMariaDB:
    """One server process and its data folder. Root starts it as user mysql, anyone else as themselves.

    The folder holds `data`, the log and the password. Where user mysql cannot reach it (below a home folder that is
    closed, say), the data stand in /var/lib/fairsquare and `data` is a link to them.
    """

    host, lets_in = "127.0.0.1", "127.0.0.1"
    """Where it listens, and from where it lets in."""
    keeps_log = True
    """Whether it keeps a binary log, unless it is to be quick: what was recorded since a backup is read from it."""

    def __init__(self, folder: Path, *, quick: bool = False) -> None:
        self.folder = folder
        self.port = 0
        self.environment: dict[str, str] = {}
        self._quick = quick
        self._process: subprocess.Popen[bytes] | None = None
        self._user = UNPRIVILEGED if os.geteuid() == 0 else None

    def start(self) -> str:
        """Make the data folder when it is not there, start the server, and return the URL of its database."""
        self.folder.mkdir(parents=True, exist_ok=True)
        data = self._data_folder()
        if not (data / "mysql").is_dir():
            self._install(data)
        self.port = self.port or free_port()
        self._process = self._launch(data)
        self._wait_until_up()
        return self._own_database()

    def running(self) -> bool:
        """Return whether the server process is alive."""
        return self._process is not None and self._process.poll() is None

    @property
    def pid(self) -> int:
        """The server's process id."""
        if self._process is None:
            raise MariaDBFault("The server was not started.")
        return self._process.pid

    def restart(self) -> None:
        """Start the server again on the port it had, after it died."""
        stop(self._process)
        self._process = self._launch(self._data_folder())
        self._wait_until_up()

    def kill(self) -> None:
        """Kill the server with SIGKILL, as a power cut would."""
        if self._process is not None:
            self._process.send_signal(signal.SIGKILL)
            self._process.wait()

    def stop(self) -> None:
        """Shut the server down in order."""
        stop(self._process, patience_s=30.0)
        self._process = None

    def remove(self) -> None:
        """Delete the data; the server must be stopped."""
        link = self.folder / "data"
        if link.is_symlink():
            shutil.rmtree(_temporary(link.resolve()), ignore_errors=True)
            shutil.rmtree(link.resolve(), ignore_errors=True)
            link.unlink()
        shutil.rmtree(self.folder, ignore_errors=True)

    def _data_folder(self) -> Path:
        link = self.folder / "data"
        if self._user is None or reachable_by(self._user, link):
            link.mkdir(exist_ok=True)
        elif not link.is_symlink():
            name = hashlib.sha256(str(self.folder.resolve()).encode()).hexdigest()[:16]
            elsewhere = Path("/var/lib/fairsquare") / name
            elsewhere.mkdir(parents=True, exist_ok=True)
            elsewhere.parent.chmod(0o755)
            link.symlink_to(elsewhere)
        data = link.resolve()
        if self._user is not None:
            shutil.chown(data, self._user, self._user)
        data.chmod(0o700)
        temporary = _temporary(data)
        temporary.mkdir(exist_ok=True)
        if self._user is not None:
            shutil.chown(temporary, self._user, self._user)
        return data

    def _install(self, data: Path) -> None:
        installer = shutil.which("mariadb-install-db") or shutil.which("mysql_install_db")
        if installer is None or server_program() is None:
            raise MariaDBFault(
                "Debian's package mariadb-server is not installed: run `apt-get install mariadb-server`."
            )
        done = subprocess.run(  # noqa: S603 - our own command
            [
                installer,
                "--no-defaults",
                f"--datadir={data}",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                *([f"--user={self._user}"] if self._user else []),
            ],
            capture_output=True,
            text=True,
            check=False,
            env={**os.environ, "TMPDIR": str(_temporary(data))},
        )
        if done.returncode:
            raise MariaDBFault(f"The data folder could not be made:\n{done.stdout[-1500:]}{done.stderr[-1500:]}")

    def _launch(self, data: Path) -> subprocess.Popen[bytes]:
        server = server_program()
        if server is None:
            raise MariaDBFault(
                "Debian's package mariadb-server is not installed: run `apt-get install mariadb-server`."
            )
        with (self.folder / "mariadb.log").open("ab") as log:
            return start([server, *self._options(data)], log=log, user=self._user, environment=self.environment)

    def _options(self, data: Path) -> list[str]:
        careless = ["--innodb-flush-log-at-trx-commit=2", "--innodb-log-file-size=24M"] if self._quick else []
        return [
            "--no-defaults",
            f"--datadir={data}",
            f"--socket={data / 's'}" if len(str(data)) < 90 else "--socket=s",
            f"--tmpdir={_temporary(data)}",
            f"--pid-file={data / 'mariadb.pid'}",
            f"--bind-address={self.host}",
            f"--port={self.port}",
            "--skip-name-resolve",
            "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_unicode_520_ci",
            "--innodb-buffer-pool-size=128M",
            "--max-connections=100",
            "--performance-schema=OFF",
            *careless,
            *(_LOG if self.keeps_log and not self._quick else ()),
        ]

    def _wait_until_up(self) -> None:
        until = time.monotonic() + _START_S
        while time.monotonic() < until:
            if not self.running():
                break
            for password in ("", self._password()):
                try:
                    self._as_root(password).close()
                    return
                except pymysql.err.OperationalError as fault:
                    if fault.args[0] not in (1045, 2003, 2013):
                        raise
            time.sleep(0.05)
        tail = (self.folder / "mariadb.log").read_text(errors="replace")[-1500:]
        raise MariaDBFault(f"MariaDB did not start on port {self.port}:\n{tail}")

    def _as_root(self, password: str, **more: Any) -> Any:
        """Return a connection of the administrator. Raises what PyMySQL raises."""
        return pymysql.connect(host=self.host, port=self.port, user="root", password=password, **more)

    def _password(self) -> str:
        kept = self.folder / "password"
        if not kept.exists():
            kept.touch(mode=0o600)
            kept.write_text(secrets.token_hex(16))
        return kept.read_text()

    def _own_database(self) -> str:
        """Make the database and its user on the first start; close the root account with the same password."""
        password = self._password()
        try:
            connection = self._as_root("")
        except pymysql.err.OperationalError:
            connection = self._as_root(password)
        with connection.cursor() as cursor:
            cursor.execute("CREATE DATABASE IF NOT EXISTS fairsquare")
            cursor.execute("CREATE USER IF NOT EXISTS 'fairsquare'@%s IDENTIFIED BY %s", (self.lets_in, password))
            cursor.execute("GRANT ALL ON fairsquare.* TO 'fairsquare'@%s", (self.lets_in,))
            cursor.execute("GRANT REPLICATION SLAVE, BINLOG MONITOR ON *.* TO 'fairsquare'@%s", (self.lets_in,))
            for others in (r"`test\_%%`", r"`fairsquare\_%%`"):
                cursor.execute(f"GRANT ALL ON {others}.* TO 'fairsquare'@%s", (self.lets_in,))
            cursor.execute(
                "SELECT User, Host FROM mysql.global_priv WHERE User = 'root' AND Host IN ('localhost', '127.0.0.1', '::1')"
            )
            for user, host in cursor.fetchall():
                cursor.execute("ALTER USER %s@%s IDENTIFIED BY %s", (user, host, password))
        connection.close()
        return self._url(password)

    def _url(self, password: str) -> str:
        return f"mysql://fairsquare:{password}@{self.host}:{self.port}/fairsquare"


def _temporary(data: Path) -> Path:
    """Return the folder for temporary files of a server: two that share one take each other's away."""
    return data.with_name(f"{data.name}-tmp")


def server_program() -> str | None:
    """Return where MariaDB's server is; None where it is not installed."""
    return shutil.which("mariadbd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")
