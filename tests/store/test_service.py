"""The demo's processes: started together, stopped together, none left behind, data kept; and a real start's refusals."""

import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import pytest

from fairsquare.demo.people import SIGN_INS
from fairsquare.processes import free_port
from tests.conftest import by_admin

WAIT_S = 180
"""More than a demo takes from nothing on a machine that is ten times as slow; nothing waits longer than it must."""


def until(true: Callable[[], object], what: str) -> None:
    end = time.monotonic() + WAIT_S
    while time.monotonic() < end:
        if true():
            return
        time.sleep(0.05)
    raise AssertionError(f"not within {WAIT_S} s: {what}")


def children_of(pid: int) -> dict[int, str]:
    """Return the processes that a process started, by their ids, with their command lines."""
    found = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
                if parent == pid:
                    found[int(entry.name)] = (entry / "cmdline").read_text().replace("\0", " ")
            except (OSError, ValueError):
                continue
    return found


def alive(pid: int) -> bool:
    try:
        return (Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]) != "Z"
    except OSError:
        return False


@pytest.fixture(scope="module")
def folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="fairsquare-demo-") as name:
        Path(name).chmod(0o755)
        yield Path(name)


class Demo:
    """A demo that runs in the background."""

    def __init__(self, folder: Path) -> None:
        self.port, self.log = free_port(), folder / "told"
        environment = {k: v for k, v in os.environ.items() if not k.startswith("FAIRSQUARE_")}
        command = [sys.executable, "-m", "fairsquare", "demo", "--folder", str(folder), "--port", str(self.port)]
        with self.log.open("wb") as log:
            self.process = subprocess.Popen(command, stdout=log, stderr=log, env=environment, start_new_session=True)
        until(lambda: "Ctrl-C" in self.told() or self.process.poll() is not None, "the demo's welcome")
        assert self.process.poll() is None, self.told()
        self.children = children_of(self.process.pid)

    def told(self) -> str:
        return self.log.read_text(errors="replace")

    def jobs(self) -> int:
        http = httpx.Client(base_url=f"http://127.0.0.1:{self.port}", timeout=20)
        sent = {"name": SIGN_INS[0].name, "password": SIGN_INS[0].password}
        token = http.post("/api/v1/session", json=sent).json()["token"]
        return http.get("/api/v1/jobs", headers={"authorization": f"Bearer {token}"}).json()["many"]


def test_a_demo_from_nothing_killed_and_started_again(folder) -> None:
    first = Demo(folder)
    assert len(first.children) == 3, first.children
    assert first.jobs() == 6
    for one in SIGN_INS:
        assert one.password in first.told(), "the sign-ins are printed"
    first.process.send_signal(signal.SIGKILL)
    first.process.wait()
    until(lambda: not any(alive(pid) for pid in first.children), "no process is left behind")

    second = Demo(folder)
    assert "the data of the last time are kept" in second.told()
    assert second.jobs() == 6
    server = next(pid for pid, command in second.children.items() if "mariadbd" in command)
    os.kill(server, signal.SIGKILL)
    until(lambda: "starting it again" in second.told(), "the supervisor sees that MariaDB died")
    until(lambda: httpx.get(f"http://127.0.0.1:{second.port}/readyz").status_code == 200, "the database is back")
    assert second.jobs() == 6
    family = children_of(second.process.pid)
    second.process.send_signal(signal.SIGINT)
    assert second.process.wait(WAIT_S) == 0
    assert not any(alive(pid) for pid in family)


def test_a_closed_terminal_stops_it_too(folder) -> None:
    demo = Demo(folder)
    demo.process.send_signal(signal.SIGHUP)
    assert demo.process.wait(WAIT_S) == 0
    until(lambda: not any(alive(pid) for pid in demo.children), "no process is left behind")


def run(url: str, *arguments: str, **more: str) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "FAIRSQUARE_DATABASE_URL": url, **more}
    command = [sys.executable, "-m", "fairsquare", *arguments]
    return subprocess.run(command, env=environment, capture_output=True, text=True, check=False, timeout=60)


def test_a_real_start_needs_a_lead_and_no_demo_passwords(url) -> None:
    refused = run(url, "start", "--port", str(free_port()))
    assert refused.returncode == 1
    assert "make the first lead with `fairsquare add-person NAME --role lead`" in refused.stderr
    short = run(url, "add-person", "ada", "--full-name", "Ada B", "--role", "lead", FAIRSQUARE_NEW_PASSWORD="short")
    assert short.returncode == 2
    assert "12 to 200 characters" in short.stderr
    made = run(
        url, "add-person", "ada", "--full-name", "Ada B", "--role", "lead", FAIRSQUARE_NEW_PASSWORD="long-enough-1"
    )
    assert made.stdout.strip() == "Ada B may sign in as ada, lead."
    assert "nothing to apply" in run(url, "migrate").stdout
    assert "5" not in run(url, "load-demo").stderr
    refused = run(url, "start", "--port", str(free_port()))
    assert "passwords that everybody knows: refused" in refused.stderr


@pytest.mark.parametrize("command", ["start", "migrate"])
def test_a_start_says_in_a_sentence_what_is_wrong(empty, command) -> None:
    port = ["--port", str(free_port())] if command == "start" else []
    away = urlsplit(empty)._replace(netloc=f"fairsquare:x@127.0.0.1:{free_port()}").geturl()
    for url, words in ((away, "does not let us in: Can't connect"), ("nonsense", "should look like mysql://")):
        refused = run(url, command, *port)
        assert (refused.returncode, words in refused.stderr, "Traceback" in refused.stderr) == (1, True, False), refused
    run(empty, "migrate")
    by_admin(empty, "UPDATE schema_migration SET sha256 = 'x' WHERE version = 3")
    refused = run(empty, command, *port)
    assert (refused.returncode, "was changed after it was applied" in refused.stderr) == (1, True)
    assert "Traceback" not in refused.stderr


def test_a_start_beside_a_restore_that_was_cut_off_says_what_to_do(empty) -> None:
    run(empty, "migrate")
    by_admin(empty, f"CREATE DATABASE `{urlsplit(empty).path[1:]}_restoring`")
    refused = run(empty, "start", "--port", str(free_port()))
    by_admin(empty, f"DROP DATABASE `{urlsplit(empty).path[1:]}_restoring`")
    assert refused.returncode == 1
    assert "Run `fairsquare restore FILE` again" in refused.stderr


def test_a_sheet_by_the_command_line(tmp_path) -> None:
    file = tmp_path / "sheet.csv"
    file.write_text("code,length,width,height\nA1L,1,2,3\nA1R,1,-2,x\n")
    bad = run("", "import-sheet", str(file))
    assert bad.returncode == 2
    assert "line 3: height: “x” is not a length" in bad.stderr
    file.write_text("code,length,width,height\nA1L,1,2,3\nA1R,1,-2,3\n")
    good = run("", "import-sheet", str(file), "--unit", "in", "--to", "json")
    assert '"xyz"' in good.stdout
    assert "25.4" in good.stdout
