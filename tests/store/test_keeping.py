"""Backup and restore in one command each: by the command line, into an empty installation, with every record checked."""

import gzip
import os
import stat
import subprocess
import tempfile
from concurrent.futures import ThreadPoolExecutor
from urllib.parse import urlsplit

import pytest
from typer.testing import CliRunner

from fairsquare.actions import Desk, walk_round
from fairsquare.cli import app
from fairsquare.core.errors import Refused
from fairsquare.demo.pictures import drawn_photo
from fairsquare.files.backup import Seal
from fairsquare.files.photos import photo_to_keep
from fairsquare.service import restoring
from fairsquare.service.keeping import KeepingFault, back_up, records_checked
from fairsquare.service.restoring import bring_back
from fairsquare.store import keys, people, records
from fairsquare.store.database import Database, execute, select
from fairsquare.store.jobs import JobDetails
from fairsquare.store.migrate import migrate
from fairsquare.store.nodes import connect_arguments
from tests.conftest import by_admin, key


@pytest.fixture(scope="module")
def kept(desk: Desk, persons) -> tuple[str, str]:
    """A job with a record, and words that SQL and JSON would stumble over."""
    notes = "left 'rail' \\ \"home\"; -- Æøå ≤ 3 mm \U0001f527"
    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug", notes=notes))
    photo = photo_to_keep(drawn_photo("a photo is figures in the middle of a row", "crack"), "rail.png")
    walk_round.keep_photo(
        desk, persons["lead"], key(), job, photo, name="rail.png", words="", about="job", about_id=None
    )
    return job, desk.make_record(persons["lead"], key(), job)


def run(command, *arguments, url):
    return CliRunner().invoke(app, [command, *map(str, arguments)], env={**os.environ, "FAIRSQUARE_DATABASE_URL": url})


def test_what_was_kept_is_there_again_to_the_byte_and_every_record_is_checked(url, empty, desk, kept, tmp_path) -> None:
    job, digest = kept
    file = tmp_path / "shop.backup"
    made = run("backup", file, url=url)
    assert made.exit_code == 0, made.output
    assert "1 job" in made.output
    back = run("restore", file, url=empty)
    assert back.exit_code == 0, back.output
    assert "1 record checked: every one whole" in back.output
    database = Database(empty, 2)
    try:
        again = Desk(database, software="another", workshop="another", number_prefix="SL-")
        assert again.view(job).job.details == desk.view(job).job.details
        assert again.view(job).facts == desk.view(job).facts
        body = database.run(lambda c: records.find_record(c, digest))
        assert body == desk.database.run(lambda c: records.find_record(c, digest))
    finally:
        database.close()


def test_nothing_is_written_over_neither_a_backup_nor_an_installation_with_jobs(url, kept, tmp_path) -> None:
    file = tmp_path / "shop.backup"
    back_up(url, file)
    before = file.read_bytes()
    again = run("backup", file, url=url)
    assert again.exit_code == 2
    assert "is there already" in again.output
    assert file.read_bytes() == before
    with pytest.raises(KeepingFault, match="an empty one only"):
        bring_back(url, file)


@pytest.mark.parametrize("harm", ["cut", "cut inside", "other", "plain"])
def test_a_damaged_file_changes_nothing(url, empty, kept, tmp_path, harm) -> None:
    file = tmp_path / "shop.backup"
    back_up(url, file)
    whole = file.read_bytes()
    if harm == "cut":
        file.write_bytes(whole[: len(whole) // 2])
    elif harm == "cut inside":
        file.write_bytes(gzip.compress(gzip.decompress(whole)[:-4000]))
    elif harm == "other":
        file.write_bytes(gzip.compress(b"DROP TABLE job;"))
    else:
        file.write_bytes(b"hello")
    with pytest.raises(Refused, match=r"no backup|in the middle|damaged"):
        bring_back(empty, file)
    assert run("restore", file, url=empty).exit_code == 2


def lines_of(file) -> list[bytes]:
    return gzip.decompress(file.read_bytes()).split(b"\n")


def sealed_anew(file, lines: list[bytes], key: str = "") -> None:
    """The backup as somebody would write it who knows how it is sealed, and not the shop's key."""
    seal = Seal(key)
    for line in lines[:-2]:
        seal.add(line + b"\n")
    file.write_bytes(gzip.compress(b"\n".join(lines[:-2]) + b"\n" + seal.line()))


@pytest.mark.parametrize(
    "line",
    [
        rb"\! touch {trace}",
        rb"system touch {trace}",
        rb"SELECT 1 INTO OUTFILE '{trace}';",
        rb"DROP TABLE person;",
        rb"INSERT INTO `person` VALUES (1); DROP TABLE person;",
        rb"INSERT INTO `person` (`name`) VALUES (LOAD_FILE('/etc/passwd'));",
        rb"INSERT INTO `person` (`name`) SELECT 'x';",
        rb"INSERT INTO `mysql`.`user` VALUES ('x');",
        rb"INSERT INTO `schema_migration` (`version`) VALUES (99);",
        rb"INSERT INTO `nowhere` (`version`) VALUES (99);",
        rb"INSERT INTO `person` (`name`) VALUES ('x\');\! touch {trace}",
        rb"GRANT ALL ON *.* TO 'x';",
    ],
)
def test_a_line_that_no_backup_of_ours_holds_is_refused_and_never_run(url, empty, kept, tmp_path, line) -> None:
    file, trace = tmp_path / "shop.backup", tmp_path / "trace"
    back_up(url, file)
    lines = lines_of(file)
    lines[1:1] = [line.replace(b"{trace}", str(trace).encode())]
    sealed_anew(file, lines)
    with pytest.raises((Refused, KeepingFault), match=r"Nothing was changed"):
        bring_back(empty, file)
    assert not trace.exists()
    assert databases_beside(empty) == [], "what was read in is gone, and there was nothing else"
    sealed_anew(file, [one for one in lines if one != lines[1]])
    assert bring_back(empty, file)[2], "and it can be done again"


def databases_beside(url: str) -> list[str]:
    database, name = Database(url, 1), urlsplit(url).path[1:]
    try:
        return [str(one) for one in database.run(lambda c: select(c, "SHOW DATABASES LIKE %s", f"{name}\\_%"))]
    finally:
        database.close()


def test_a_backup_is_its_owners_and_a_change_shows_where_the_shop_has_a_key(url, empty, kept, tmp_path) -> None:
    file = tmp_path / "shop.backup"
    back_up(url, file, "a key of our own")
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    lines = lines_of(file)
    forged = [one.replace(b"Sanderling", b"Sanderlink") for one in lines]
    for given, written_with, words in (
        ("a key of our own", "", "was made without a key|was changed"),
        ("a key of our own", "another key", "another key"),
        ("", "a key of our own", "set FAIRSQUARE_BACKUP_KEY"),
    ):
        sealed_anew(file, forged, written_with)
        with pytest.raises(Refused, match=words):
            bring_back(empty, file, given)
    file.write_bytes(gzip.compress(b"\n".join(forged)))
    with pytest.raises(Refused, match="was changed after it was made"):
        bring_back(empty, file, "a key of our own")
    file.write_bytes(gzip.compress(b"\n".join(lines)))
    assert bring_back(empty, file, "a key of our own")[2]


def test_a_restore_that_is_cut_off_leaves_what_was_there_and_is_done_again(
    url, empty, kept, tmp_path, monkeypatch
) -> None:
    file = tmp_path / "shop.backup"
    back_up(url, file)
    migrate(empty)
    by_admin(empty, "CREATE TABLE left_here (id INT)")
    by_admin(empty, f"CREATE DATABASE `{urlsplit(empty).path[1:]}_restoring`")
    assert restoring.under_way(empty)

    def cut(*_) -> None:
        raise RuntimeError("the power went")

    with monkeypatch.context() as patch:
        patch.setattr(restoring, "_swap", cut)
        with pytest.raises(RuntimeError):
            bring_back(empty, file)
    database = Database(empty, 1)
    assert database.run(lambda c: select(c, "SELECT COUNT(*) AS many FROM job"))[0]["many"] == 0
    assert database.run(lambda c: select(c, "SHOW TABLES LIKE 'left_here'"))
    database.close()
    told, words, good = bring_back(empty, file)
    assert ("1 job" in told, "every one whole" in words, good) == (True, True, True)
    assert not restoring.under_way(empty)


def test_people_are_not_replaced_without_a_word(url, empty, kept, tmp_path) -> None:
    file = tmp_path / "shop.backup"
    back_up(url, file)
    migrate(empty)
    database = Database(empty, 1)
    database.run(lambda c: people.add_person(c, "ada", "Ada B", "lead", "a few plain words"))
    database.close()
    refused = run("restore", file, url=empty)
    assert refused.exit_code == 2
    assert "1 person signs in here" in refused.output
    assert run("restore", file, "--over-people", url=empty).exit_code == 0


def test_a_backup_of_the_first_version_is_still_read(url, empty, kept, tmp_path) -> None:
    """As it was written until then: with the statements that make the tables, which are passed over."""
    own = connect_arguments(url)
    with tempfile.NamedTemporaryFile("w", suffix=".cnf") as secret:
        secret.write(f'[client]\nuser="{own["user"]}"\npassword="{own["password"]}"\n')
        secret.flush()
        dump = subprocess.run(
            [
                *("mariadb-dump", f"--defaults-file={secret.name}", "--protocol=tcp", f"--host={own['host']}"),
                *(f"--port={own['port']}", "--single-transaction", "--hex-blob", "--skip-dump-date"),
                *("--default-character-set=utf8mb4", own["database"]),
            ],
            capture_output=True,
            check=True,
        ).stdout
    file = tmp_path / "old.backup"
    file.write_bytes(
        gzip.compress(b"-- Fair Square backup, Fair Square 0.1\n" + dump + b"-- Fair Square backup is whole\n")
    )
    told, _, good = bring_back(empty, file)
    assert ("1 job" in told, good) == (True, True)


def test_a_backup_that_cannot_be_written_says_so_and_leaves_nothing(url, tmp_path) -> None:
    with pytest.raises(KeepingFault, match="cannot be written"):
        back_up(url, tmp_path / "nowhere" / "shop.backup")
    wrong = urlsplit(url)._replace(path="/no_such_database").geturl()
    with pytest.raises(KeepingFault, match="MariaDB says"):
        back_up(wrong, tmp_path / "shop.backup")
    assert not list(tmp_path.iterdir())


def test_a_record_that_was_changed_in_the_database_is_found(url, database, kept) -> None:
    assert records_checked(url)[1]
    change = "UPDATE record SET body = REPLACE(body, 'Sanderling', 'Sanderlinx')"
    database.run(lambda c: execute(c, change))
    words, good = records_checked(url)
    database.run(lambda c: execute(c, "UPDATE record SET body = REPLACE(body, 'Sanderlinx', 'Sanderling')"))
    assert not good
    assert "1 of 1 records are not whole" in words
    assert kept[0] in words


def test_what_signs_leaves_in_no_backup_and_is_made_anew(url, tmp_path, empty) -> None:
    database = Database(url, 1)
    key = database.run(lambda c: keys.signing_key(c, "Sandlark"))
    back_up(url, tmp_path / "b")
    database.close()
    kept = gzip.decompress((tmp_path / "b").read_bytes())
    assert key.public.hex().upper().encode() in kept.upper()
    assert key.private.hex().upper().encode() not in kept.upper()
    bring_back(empty, tmp_path / "b")
    there = Database(empty, 1)
    again = there.run(lambda c: keys.signing_key(c, "Sandlark"))
    assert again.public != key.public
    assert [one.in_force for one in there.run(keys.own_keys)] == [True, False], "the one before is still known"
    assert there.run(lambda c: keys.signing_key(c, "Sandlark")) == again
    there.close()


def test_two_servers_that_start_at_once_make_one_key(empty) -> None:
    migrate(empty)
    databases = [Database(empty, 1) for _ in range(4)]
    with ThreadPoolExecutor(4) as pool:
        made = list(pool.map(lambda d: d.run(lambda c: keys.signing_key(c, "Sandlark")).public, databases))
    assert len(set(made)) == 1
    for one in databases:
        one.close()
