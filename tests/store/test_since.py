"""Time travel: a backup, what was recorded since from the binary log, and any moment between brought back.

What was put back is compared with what is there row by row and value by value. (CHECKSUM TABLE, which would be MariaDB's own word
for it, tells tables of the same rows apart now and then.)
"""

import datetime
import gzip
import json
import os
import re
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

import pymysql
import pytest
from typer.testing import CliRunner

from fairsquare.actions import Desk, walk_round
from fairsquare.cli import app
from fairsquare.core.errors import Refused
from fairsquare.demo.pictures import drawn_photo
from fairsquare.files import since as files
from fairsquare.files.photos import photo_to_keep
from fairsquare.service import since
from fairsquare.service.drilling import hold_drill
from fairsquare.service.keeping import LEFT_OUT, KeepingFault, back_up
from fairsquare.service.mariadb import PrivateMariaDB
from fairsquare.service.restoring import Until, bring_back
from fairsquare.service.since import back_up_since, moment
from fairsquare.store import restore_drills
from fairsquare.store.database import Database, execute, select
from fairsquare.store.jobs import JobDetails
from fairsquare.store.migrate import migrate
from fairsquare.store.nodes import connect_arguments
from tests.conftest import by_admin, key, let_in


class Shop:
    """A shop whose database keeps a log."""

    def __init__(self, mariadb: PrivateMariaDB) -> None:
        self.mariadb, self.url = mariadb, mariadb.start()
        migrate(self.url)
        self.database = Database(self.url, 4)
        self.desk = Desk(self.database, software="a test", workshop="a test", number_prefix="SL-")
        self.lead = let_in(self.database)["lead"]

    def job(self, vehicle: str) -> str:
        return self.desk.open_job(self.lead, key(), JobDetails(vehicle=vehicle, notes="Æøå ≤ 3 mm \\ ' \" \U0001f527"))

    def photo(self, job: str) -> None:
        photo = photo_to_keep(drawn_photo("the rail", "crack"), "rail.png")
        walk_round.keep_photo(
            self.desk, self.lead, key(), job, photo, name="rail.png", words="", about="job", about_id=None
        )

    def moment(self) -> datetime.datetime:
        """Return a moment of whole seconds that nothing was recorded at."""
        time.sleep(1.1)
        now = datetime.datetime.now(datetime.UTC).replace(microsecond=0)
        time.sleep(1.1)
        return now

    def elsewhere(self) -> str:
        """Return an empty database beside it."""
        name = f"test_{time.monotonic_ns()}"
        by_admin(self.url, f"CREATE DATABASE {name}")
        return urlsplit(self.url)._replace(path=f"/{name}").geturl()


@pytest.fixture(scope="module")
def shop(tmp_path_factory) -> Iterator[Shop]:
    folder = tmp_path_factory.mktemp("shop")
    for above in (folder, *folder.parents):
        if not above.stat().st_mode & 0o001:
            above.chmod(above.stat().st_mode | 0o011)
    mariadb = PrivateMariaDB(folder / "db")
    made = Shop(mariadb)
    yield made
    made.database.close()
    mariadb.stop()
    mariadb.remove()


@pytest.fixture
def backup(shop, tmp_path) -> Path:
    shop.job("There before")
    told = back_up(shop.url, tmp_path / "a.backup")
    assert "nothing can follow" not in told
    return tmp_path / "a.backup"


@pytest.fixture
def followed(shop, backup) -> Path:
    """A backup, and what followed it beside it."""
    shop.job("Another")
    since_of(shop, backup, "b.since")
    return backup


def vehicles(url: str) -> list[str]:
    database = Database(url, 1)
    rows = database.run(lambda c: select(c, "SELECT vehicle FROM job ORDER BY id"))
    database.close()
    return [row["vehicle"] for row in rows]


def kept_in(url: str) -> dict[str, list[str]]:
    """Return every row of every table that a backup holds, each value as exactly as Python tells it."""
    connection = pymysql.connect(**connect_arguments(url))
    with connection, connection.cursor() as cursor:
        cursor.execute("SHOW TABLES")
        tables = {next(iter(row.values())) for row in cursor.fetchall()} - LEFT_OUT
        found = {}
        for table in tables:
            cursor.execute(f"SELECT * FROM `{table}`")
            found[table] = sorted(map(repr, cursor.fetchall()))
    return found


def since_of(shop: Shop, before: Path, name: str) -> Path:
    back_up_since(shop.url, before, before.with_name(name))
    return before.with_name(name)


def test_everything_until_the_latest_is_there_again_to_the_bit(shop, backup) -> None:
    job = shop.job("Recorded after")
    shop.photo(job)
    shop.desk.make_record(shop.lead, key(), job)
    shop.database.run(lambda c: execute(c, "UPDATE job SET notes = 'changed by hand' WHERE number = %s", job))
    first = since_of(shop, backup, "b.since")
    shop.database.run(lambda c: execute(c, "DELETE FROM request_key LIMIT 1"))
    since_of(shop, first, "c.since")
    there = shop.elsewhere()
    told, words, good = bring_back(there, backup, until=Until(None))
    assert good and "every one whole" in words and "transactions that followed" in told
    assert kept_in(there) == kept_in(shop.url)


def test_any_moment_between_is_brought_back(shop, backup) -> None:
    shop.job("The first")
    between = shop.moment()
    lost = shop.job("The second, a mistake")
    shop.database.run(lambda c: execute(c, "UPDATE job SET vehicle = 'spoilt' WHERE vehicle = 'The first'"))
    since_of(shop, backup, "b.since")
    there = shop.elsewhere()
    bring_back(there, backup, until=Until(between))
    assert "The first" in vehicles(there) and "The second, a mistake" not in vehicles(there)
    assert lost and "spoilt" in vehicles(shop.url)
    assert vehicles(there)[-1] == "The first"


def test_by_the_command_line_in_the_shops_time_and_from_the_newest_of_a_folder(shop, backup) -> None:
    environment = {**os.environ, "FAIRSQUARE_DATABASE_URL": shop.url, "FAIRSQUARE_TIME_ZONE": "Pacific/Auckland"}

    def run(*words, url=shop.url):
        return CliRunner().invoke(app, [*map(str, words)], env={**environment, "FAIRSQUARE_DATABASE_URL": url})

    shop.job("By the command line")
    between = shop.moment()
    shop.job("Too late")
    made = run("backup", backup.parent / "b.since", "--since", backup.parent)
    assert made.exit_code == 0 and re.match(r"\d+ transactions until ", made.output), made.output
    typed = between.astimezone(ZoneInfo("Pacific/Auckland")).strftime("%Y-%m-%d %H:%M:%S")
    there = shop.elsewhere()
    back = run("restore", backup, "--until", typed, url=there)
    assert back.exit_code == 0, back.output
    assert "By the command line" in vehicles(there) and "Too late" not in vehicles(there)


def test_what_is_written_while_a_backup_is_taken_is_there_once(shop, tmp_path, monkeypatch) -> None:
    """The log is read from before the backup began: what is in both is put back twice, to the same."""
    from fairsquare.service import keeping

    own = keeping._place_in_the_log

    def then_somebody_records(url):
        place = own(url)
        job = shop.job("While it was taken")
        shop.database.run(lambda c: execute(c, "UPDATE job SET notes = 'and changed' WHERE number = %s", job))
        shop.database.run(lambda c: execute(c, "DELETE FROM request_key LIMIT 1"))
        return place

    monkeypatch.setattr(keeping, "_place_in_the_log", then_somebody_records)
    back_up(shop.url, tmp_path / "a.backup")
    since_of(shop, tmp_path / "a.backup", "b.since")
    there = shop.elsewhere()
    bring_back(there, tmp_path / "a.backup", until=Until(None))
    assert kept_in(there) == kept_in(shop.url)


def test_how_far_it_goes_is_said(shop, backup) -> None:
    since_of(shop, backup, "b.since")
    now = datetime.datetime.now(datetime.UTC)
    for hours, words in ((-1, "take an earlier one"), (1, "goes until")):
        with pytest.raises(Refused, match=words):
            bring_back(shop.elsewhere(), backup, until=Until(now + datetime.timedelta(hours=hours)))
    for words in ("yesterday", "2026-13-01", ""):
        with pytest.raises(KeepingFault, match="say it as 2026"):
            moment(words, ZoneInfo("UTC"))
    assert moment(" latest ", ZoneInfo("UTC")) is None


def test_a_link_that_is_missing_ends_what_follows(shop, backup) -> None:
    first = since_of(shop, backup, "b.since")
    between = shop.moment()
    since_of(shop, first, "c.since")
    first.unlink()
    with pytest.raises(Refused, match="goes until"):
        bring_back(shop.elsewhere(), backup, until=Until(between))


def test_one_that_is_damaged_ends_what_follows_and_is_named(shop, followed) -> None:
    since_of(shop, followed.with_name("b.since"), "c.since")
    between = shop.moment()
    since_of(shop, followed.with_name("c.since"), "d.since")
    damaged = followed.with_name("c.since")
    damaged.write_bytes(damaged.read_bytes()[:-40])
    with pytest.raises(Refused, match=r"goes until .* c\.since is damaged"):
        bring_back(shop.elsewhere(), followed, until=Until(between))
    assert bring_back(shop.elsewhere(), followed, until=Until(None))[2], "as far as it goes"


def test_a_drill_tries_what_follows_too(shop, followed) -> None:
    told, good = hold_drill(shop.url, followed.parent)
    assert good and re.search(r"a\.backup: \d+ jobs?, .* with \d+ transactions that followed until 20", told), told
    damaged = followed.with_name("b.since")
    content = bytearray(damaged.read_bytes())
    content[len(content) // 2] ^= 1
    damaged.write_bytes(content)
    told, good = hold_drill(shop.url, followed.parent)
    last = shop.database.run(restore_drills.last)
    assert not good and not last.good, "a backup alone is not all that is relied on"
    assert "b.since" in last.words and "transactions that followed" not in last.told


def forged(file: Path, change) -> None:
    lines = gzip.decompress(file.read_bytes()).splitlines()[:-1]
    head = files.SinceHead.model_validate_json(lines[0][len(files.HEAD) :])
    with file.open("wb") as raw, files.written(raw, head, "") as out:
        for line in lines[1:]:
            out.write((change(line) if line.startswith(b'{"at"') else line) + b"\n")


def rows_of(line: bytes, change) -> bytes:
    told = json.loads(line)
    for row in told["rows"]:
        change(row)
    return json.dumps(told, separators=(",", ":")).encode()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda row: row.__setitem__(0, "mysql.user"), "no table of ours"),
        (lambda row: row.__setitem__(0, "shop_key_secret"), "no table of ours"),
        (lambda row: row.__setitem__(0, "job` SET vehicle = 'x' -- "), "no table of ours"),
        (lambda row: row.__setitem__(1, "drop"), "no transaction"),
        (lambda row: row[2].pop(next(iter(row[2]))), "not whole|no table"),
        (lambda row: row.__setitem__(2, {"id` = 1 OR 1 -- ": 1}), "not whole|no table"),
        (lambda row: row[2].update(extra={"code": "x"}), "no transaction"),
    ],
)
def test_what_is_not_ours_is_refused(shop, followed, tmp_path, change, words) -> None:
    """As somebody would who wants to have something run at a restore, where the shop has no key of its own."""
    file = tmp_path / "b.since"
    file.write_bytes(followed.with_name("b.since").read_bytes())
    forged(file, lambda line: rows_of(line, change))
    with pytest.raises(Refused, match=words):
        since.put_back(shop.url, [files.read_since(file, "")], None)


def test_where_one_is_refused_nothing_is_changed(shop, followed) -> None:
    forged(followed.with_name("b.since"), lambda line: rows_of(line, lambda row: row.__setitem__(0, "mysql.user")))
    there = shop.elsewhere()
    with pytest.raises(Refused, match="no table of ours"):
        bring_back(there, followed, until=Until(None))
    database = Database(there, 1)
    assert not database.run(lambda c: select(c, "SHOW TABLES")), "nothing took the place of what was there"
    database.close()


def test_with_a_key_a_change_is_seen_and_without_one_it_is_not_read(shop, tmp_path) -> None:
    backup = tmp_path / "a.backup"
    back_up(shop.url, backup, "a key")
    shop.job("Sealed")
    back_up_since(shop.url, backup, tmp_path / "b.since", "a key")
    with pytest.raises(Refused, match="another key"):
        files.read_since(tmp_path / "b.since", "some other key")
    with pytest.raises(Refused, match="was made with a key"):
        files.read_since(tmp_path / "b.since", "")
    there = shop.elsewhere()
    assert bring_back(there, backup, "a key", until=Until(None))[2] and "Sealed" in vehicles(there)


def test_where_tables_were_changed_a_whole_backup_is_asked_for(shop, backup) -> None:
    by_admin(shop.url, "ALTER TABLE listening ADD COLUMN more INT NULL", "ALTER TABLE listening DROP COLUMN more")
    with pytest.raises(KeepingFault, match=r"tables were changed since .* take a whole backup"):
        back_up_since(shop.url, backup, backup.with_name("b.since"))
    assert not backup.with_name("b.since").exists() and not backup.with_name("b.since.part").exists()


def test_where_the_log_is_gone_a_whole_backup_is_asked_for(shop, backup) -> None:
    with shop.mariadb._as_root(shop.mariadb._password()) as connection, connection.cursor() as cursor:
        cursor.execute("FLUSH BINARY LOGS")
        cursor.execute("RESET MASTER")
    with pytest.raises(KeepingFault, match="take a whole backup"):
        back_up_since(shop.url, backup, backup.with_name("b.since"))


def test_where_no_log_is_kept_it_says_so(url, database, persons, tmp_path) -> None:
    assert "nothing can follow this" in back_up(url, tmp_path / "a.backup")
    with pytest.raises(KeepingFault, match="no binary log was kept"):
        back_up_since(url, tmp_path / "a.backup", tmp_path / "b.since")


def test_another_node_is_not_asked_for_what_followed_at_one(shop, backup, tmp_path) -> None:
    elsewhere = shop.url.replace("127.0.0.1", "localhost")
    with pytest.raises(KeepingFault, match="does not name"):
        back_up_since(elsewhere, backup, tmp_path / "b.since")


def test_a_line_that_is_lost_while_the_log_is_read_ends_it(shop, backup, monkeypatch) -> None:
    """The library asks again for ever."""
    own, made = pymysql.connect, []

    def connect(**arguments):
        if "sql_mode" not in arguments:
            made.append(arguments)
            if len(made) > 1:
                raise pymysql.OperationalError(2013, "lost")
        return own(**arguments)

    monkeypatch.setattr(since.pymysql, "connect", connect)
    with pytest.raises(KeepingFault):
        back_up_since(shop.url, backup, backup.with_name("b.since"))
