"""Backup and restore in one command each: by the command line, into an empty installation, with every record checked."""

import gzip
import os
from urllib.parse import urlsplit

import pytest
from typer.testing import CliRunner

from fairsquare.actions import Desk
from fairsquare.cli import app
from fairsquare.service.keeping import KeepingFault, back_up, bring_back, records_checked
from fairsquare.store import records
from fairsquare.store.database import Database, execute
from fairsquare.store.jobs import JobDetails
from tests.conftest import key


@pytest.fixture(scope="module")
def kept(desk: Desk, persons) -> tuple[str, str]:
    """A job with a record, and words that SQL and JSON would stumble over."""
    notes = "left 'rail' \\ \"home\"; -- Æøå ≤ 3 mm \U0001f527"
    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug", notes=notes))
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
    with pytest.raises(KeepingFault, match=r"no backup|in the middle|damaged"):
        bring_back(empty, file)
    assert run("restore", file, url=empty).exit_code == 2


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
