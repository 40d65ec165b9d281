"""A backup is tried: brought back beside what is there, and what came of it said on The shop. Copies that only one key can read.

Outside of this project: age's own tools make the key and read the copy.
"""

import datetime
import gzip
import os
import re
import shutil
import stat
import subprocess
from pathlib import Path

import pytest
from typer.testing import CliRunner

from fairsquare.cli import app
from fairsquare.service.copies import copy_for, recipients_of
from fairsquare.service.drilling import hold_drill
from fairsquare.service.keeping import KeepingFault, back_up
from fairsquare.store import restore_drills
from fairsquare.store.database import execute, select
from fairsquare.store.jobs import JobDetails
from tests.conftest import by_admin, key


@pytest.fixture(scope="module")
def kept(desk, persons) -> str:
    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug"))
    desk.make_record(persons["lead"], key(), job)
    return job


@pytest.fixture
def folder(url, kept, tmp_path) -> Path:
    """Three nights' backups, of which the second is the newest."""
    for name, hours in (("a", 50), ("b", 2), ("c", 26)):
        back_up(url, tmp_path / f"{name}.backup")
        taken = datetime.datetime.now(datetime.UTC).timestamp() - hours * 3600
        os.utime(tmp_path / f"{name}.backup", (taken, taken))
    (tmp_path / "notes.txt").write_text("newer than all")
    return tmp_path


@pytest.fixture(scope="module")
def identity(tmp_path_factory) -> tuple[Path, str]:
    file = tmp_path_factory.mktemp("keys") / "key.txt"
    made = subprocess.run([shutil.which("age-keygen"), "-o", file], capture_output=True, text=True, check=True)
    return file, re.search(r"age1\w+", made.stderr + file.read_text()).group()


def run(*words, url, **environment):
    given = {**os.environ, "FAIRSQUARE_DATABASE_URL": url, **environment}
    return CliRunner().invoke(app, [*map(str, words)], env=given)


def names(url: str, database) -> set[str]:
    return {row["Database"] for row in database.run(lambda c: select(c, "SHOW DATABASES"))}


def test_the_newest_is_brought_back_beside_what_is_there_and_nothing_of_that_is_touched(url, database, folder) -> None:
    before = names(url, database)
    jobs = database.run(lambda c: select(c, "SELECT number, revision FROM job"))
    held = run("drill", folder, url=url)
    assert held.exit_code == 0, held.output
    assert held.output.startswith("b.backup: 1 job, 0 readings, 0 photos, 1 record; 1 record checked: every one whole")
    assert (
        names(url, database) == before and database.run(lambda c: select(c, "SELECT number, revision FROM job")) == jobs
    )
    last = database.run(restore_drills.last)
    assert (last.file, last.good, last.told) == ("b.backup", True, "1 job, 0 readings, 0 photos, 1 record")
    taken = datetime.datetime.fromisoformat(last.taken_at)
    assert abs(datetime.datetime.now(datetime.UTC) - taken - datetime.timedelta(hours=2)).total_seconds() < 60


def damaged(file: Path) -> None:
    content = bytearray(file.read_bytes())
    content[len(content) // 2] ^= 1
    file.write_bytes(content)


def cut(file: Path) -> None:
    file.write_bytes(gzip.compress(gzip.decompress(file.read_bytes())[:-100]))


@pytest.mark.parametrize(("spoil", "words"), [(damaged, "is damaged"), (cut, "ends in the middle")])
def test_one_that_is_not_good_is_told_with_why(url, database, folder, spoil, words) -> None:
    newest = folder / "b.backup"
    times = newest.stat()
    spoil(newest)
    os.utime(newest, (times.st_atime, times.st_mtime))
    held = run("drill", folder, url=url)
    assert held.exit_code == 1 and words in held.output
    last = database.run(restore_drills.last)
    assert (last.file, last.good) == ("b.backup", False) and words in last.words


def test_a_record_that_was_changed_in_the_backup_is_found(url, database, folder, kept) -> None:
    database.run(lambda c: execute(c, "UPDATE record SET body = REPLACE(body, 'Sanderling tug', 'Sanderling bug')"))
    try:
        back_up(url, folder / "d.backup")
        assert not hold_drill(url, folder)[1]
        assert kept in database.run(restore_drills.last).words
    finally:
        database.run(lambda c: execute(c, "UPDATE record SET body = REPLACE(body, 'Sanderling bug', 'Sanderling tug')"))


def test_it_may_be_held_on_another_server(url, empty, database, folder) -> None:
    held = run("drill", folder, url=url, FAIRSQUARE_DRILL_URL=empty)
    assert held.exit_code == 0 and database.run(restore_drills.last).good


def test_where_there_is_none_it_says_where_to_look(url, tmp_path) -> None:
    refused = run("drill", tmp_path, url=url)
    assert refused.exit_code == 2 and "name the folder in which they are kept" in refused.output


def test_a_copy_is_for_who_has_the_key_and_for_nobody_else(url, empty, kept, identity, tmp_path) -> None:
    file, public = identity
    made = run("backup", tmp_path / "shop.backup", "--copy-for", public, url=url)
    copy = tmp_path / "shop.backup.age"
    assert made.exit_code == 0 and str(copy) in made.output.replace("\n", "")
    assert copy.read_bytes().startswith(b"age-encryption.org/v1") and stat.S_IMODE(copy.stat().st_mode) == 0o600
    (tmp_path / "shop.backup").unlink()
    unread = run("restore", copy, url=empty)
    assert unread.exit_code == 2 and "is encrypted: say --identity" in unread.output
    other = tmp_path / "other.txt"
    subprocess.run([shutil.which("age-keygen"), "-o", other], capture_output=True, check=True)
    assert "no identity matched" in run("restore", copy, "--identity", other, url=empty).output
    assert run("drill", tmp_path, "--identity", file, url=url).exit_code == 0, "the copy itself can be tried"
    back = run("restore", copy, "--identity", file, url=empty)
    assert back.exit_code == 0 and "1 record checked: every one whole" in back.output


def test_settings_may_say_for_whom(url, kept, identity, tmp_path) -> None:
    made = run("backup", tmp_path / "shop.backup", url=url, FAIRSQUARE_BACKUP_FOR=f"{identity[1]}, {identity[1]}")
    assert made.exit_code == 0 and (tmp_path / "shop.backup.age").exists()
    with pytest.raises(KeepingFault, match="is there already"):
        copy_for(tmp_path / "shop.backup", (identity[1],))


@pytest.mark.parametrize("words", ["age1abc", "AGE-SECRET-KEY-1QQQ", "age1" + "b" * 58, "--help"])
def test_who_is_nobody_is_refused_before_anything_is_written(url, kept, tmp_path, words) -> None:
    refused = run("backup", tmp_path / "shop.backup", f"--copy-for={words}", url=url)
    assert refused.exit_code == 2 and "is nobody for whom a copy can be made" in refused.output
    assert not list(tmp_path.iterdir()) and recipients_of("") == ()


def test_trials_are_not_in_a_backup(url, empty, kept, tmp_path) -> None:
    back_up(url, tmp_path / "shop.backup")
    assert b"restore_drill" not in gzip.decompress((tmp_path / "shop.backup").read_bytes())
    by_admin(url, "DELETE FROM restore_drill")
