"""The files for real machines: programs that read them find nothing wrong, and they say what `./run cluster` was tried with."""

import re
import shutil
import subprocess
from pathlib import Path

import pytest

from fairsquare.service import cluster, mariadb
from fairsquare.service.mariadb import server_program

HOUSE = Path(__file__).parents[2]
UNITS, NODE = HOUSE / "deploy" / "systemd", HOUSE / "deploy" / "mariadb" / "fairsquare-node.cnf"
LOG = HOUSE / "deploy" / "mariadb" / "fairsquare-log.cnf"


def read_by_mariadb(options: Path, folder: Path) -> "subprocess.CompletedProcess[str]":
    """Have the server read a file of options and tell what it makes of them; it refuses one that it does not know."""
    server = server_program()
    assert server is not None
    command = [server, f"--defaults-file={options}", "--user=mysql", f"--datadir={folder}", "--verbose", "--help"]
    return subprocess.run(command, capture_output=True, text=True, check=False)


def test_mariadb_knows_every_option_of_a_node(tmp_path) -> None:
    own = tmp_path / "node.cnf"
    own.write_text(NODE.read_text().replace("/usr/lib/galera/libgalera_smm.so", "none"))
    read = read_by_mariadb(own, tmp_path)
    assert read.returncode == 0, read.stderr[-500:]
    said = dict(re.findall(r"^([a-z-]+) +(.*)$", read.stdout, re.MULTILINE))
    assert said["require-secure-transport"].strip() == "TRUE" and said["wsrep-sst-method"].strip() == "mariabackup"
    own.write_text(own.read_text().replace("[mariadbd]", "[mariadbd]\nno_such_thing = 1"))
    refused = read_by_mariadb(own, tmp_path)
    assert refused.returncode, "an option that there is not would be noticed"


def test_mariadb_knows_every_option_of_the_log_and_the_tests_were_held_with_them(tmp_path) -> None:
    read = read_by_mariadb(LOG, tmp_path)
    assert read.returncode == 0, read.stderr[-500:]
    said = {
        name.replace("_", "-"): value for name, value in re.findall(r"^(\w+) += (\S+)$", LOG.read_text(), re.MULTILINE)
    }
    for option in mariadb._LOG:
        name, _, value = option.removeprefix("--").partition("=")
        assert name in said and (name == "log-bin" or said[name] == value), option


def test_a_real_node_listens_as_long_as_those_that_the_drills_were_held_with() -> None:
    said = NODE.read_text()
    for option in (*cluster._HEARS.split(";"), cluster._CAUSAL):
        assert option in said, option


def test_units_are_sound_and_keep_what_they_promise(tmp_path) -> None:
    analyze = shutil.which("systemd-analyze")
    if analyze is None:
        pytest.skip("this machine has no systemd-analyze")
    for unit in UNITS.iterdir():
        (tmp_path / unit.name).write_text(
            unit.read_text().replace("/opt/fairsquare/current/.venv/bin/python", "/bin/true")
        )
    read = subprocess.run(
        [analyze, "verify", *map(str, tmp_path.iterdir())], capture_output=True, text=True, check=False
    )
    assert read.returncode == 0 and "fairsquare" not in read.stderr, read.stderr
    for unit in (unit.name for unit in UNITS.glob("*.service")):
        told = subprocess.run(
            [analyze, "security", "--offline=true", str(tmp_path / unit)], capture_output=True, text=True, check=False
        ).stdout
        exposed = float(told.rpartition(f"{unit}: ")[2].split()[0])
        assert exposed < 2.0, f"{unit} is exposed at {exposed}"


def test_what_units_run_is_there() -> None:
    for unit in UNITS.glob("*.service"):
        for command in re.findall(r"-m fairsquare ([a-z-]+)", unit.read_text()):
            assert f"def {command.replace('-', '_')}(" in (HOUSE / "fairsquare" / "cli.py").read_text()
