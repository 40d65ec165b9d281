"""Long work by parts: taken up again at another node where one goes, applied once however many begin, never half a restore."""

import threading
import time
from pathlib import Path

import pymysql
import pytest

from fairsquare.service import restoring
from fairsquare.service.keeping import back_up
from fairsquare.store import migrate as migrating
from fairsquare.store.database import Database, execute, select
from fairsquare.store.jobs import JobDetails
from fairsquare.store.migrate import FOLDER, migrate
from fairsquare.store.nodes import connect_arguments
from fairsquare.store.steady import Steady
from tests.conftest import by_admin, key
from tests.store.ways import url_of

_ADDED = "ADD COLUMN IF NOT EXISTS"
_TAKES_AWAY = ("DROP", "RENAME", "CHANGE", "MODIFY", "TRUNCATE")
_BEFORE_THE_RULE = 31


def test_work_is_taken_up_again_at_another_node(url, ways) -> None:
    told = []

    def work(cursor, again: bool) -> int:
        told.append(again)
        if len(told) == 1:
            ways[0].cut()
        return cursor.execute("SELECT @@session.group_concat_max_len + 0 AS it HAVING it = 4321")

    with Steady(url_of(url, ways), "SET group_concat_max_len = 4321") as line:
        assert line.run(work) == 1, "what is to be said on each connection is said on the second, too"
    assert told == [False, True]


def test_of_one_node_a_loss_is_raised(url) -> None:
    with Steady(url) as line, pytest.raises(pymysql.err.OperationalError, match="lost"):
        line.run(lambda *_: (_ for _ in ()).throw(pymysql.err.OperationalError(2013, "lost")))


@pytest.mark.parametrize(("times", "raised"), [(3, False), (99, True)])
def test_a_conflict_is_tried_again_some_times(url, monkeypatch, times, raised) -> None:
    monkeypatch.setattr("fairsquare.store.steady.time.sleep", lambda _: None)
    faults = [pymysql.err.OperationalError(1213, "deadlock")] * times

    def work(cursor, again: bool) -> str:
        assert not again, "nothing was lost"
        if faults:
            raise faults.pop()
        return "done"

    with Steady(url) as line:
        if raised:
            with pytest.raises(pymysql.err.OperationalError, match="deadlock"):
                line.run(work)
        else:
            assert line.run(work) == "done"


@pytest.fixture
def files(url, tmp_path) -> Path:
    """Two migrations more than there are; the column of the first is taken away again."""
    (tmp_path / "9001_a.sql").write_text(
        f"ALTER TABLE listening {_ADDED} a INT NOT NULL DEFAULT 0;\nALTER TABLE listening {_ADDED} b INT NOT NULL DEFAULT 0;\n"
    )
    (tmp_path / "9002_b.sql").write_text(f"ALTER TABLE listening {_ADDED} c INT NOT NULL DEFAULT 0;\n")
    yield tmp_path
    by_admin(
        url,
        "ALTER TABLE listening DROP COLUMN IF EXISTS a, DROP COLUMN IF EXISTS b, DROP COLUMN IF EXISTS c",
        "DELETE FROM schema_migration WHERE version > 9000",
    )


def columns(database: Database) -> set[str]:
    return {row["Field"] for row in database.run(lambda c: select(c, "SHOW COLUMNS FROM listening"))}


def test_of_many_that_begin_at_once_one_applies_a_file(url, database, files) -> None:
    applied: list[str] = []
    begun = [threading.Thread(target=lambda: applied.extend(migrate(url, files))) for _ in range(6)]
    for one in begun:
        one.start()
    for one in begun:
        one.join()
    assert sorted(applied) == ["9001_a", "9002_b"] and {"a", "b", "c"} <= columns(database)


def test_a_migration_whose_node_goes_in_its_middle_is_taken_up_again(url, ways, database, files, monkeypatch) -> None:
    own, said = migrating._still_ours, []

    def cut_after_the_first(cursor, *given) -> bool:
        went_on = own(cursor, *given)
        said.append(given[-1])
        if len(said) == 1:
            ways[0].cut()
        return went_on

    monkeypatch.setattr(migrating, "_still_ours", cut_after_the_first)
    assert migrate(url_of(url, ways), files) == ["9001_a", "9002_b"]
    assert len(said) == 4, "the first file from its beginning, then the second"
    assert {"a", "b", "c"} <= columns(database)


@pytest.mark.parametrize("age", [30, 150])
def test_what_another_applies_is_waited_for_and_taken_over_once_nobody_renews_it(url, database, files, age) -> None:
    migrate(url)
    database.run(
        lambda c: execute(
            c,
            """INSERT INTO schema_migration (version, name, sha256, claimed_at, claimed_by)
               VALUES (9001, '9001_a', %s, UTC_TIMESTAMP(6) - INTERVAL %s SECOND, 'another')""",
            migrating.migrations(files)[0].sha256,
            age,
        )
    )
    applied: list[str] = []
    begun = threading.Thread(target=lambda: applied.extend(migrate(url, files)), daemon=True)
    begun.start()
    begun.join(1.0 if age == 30 else 10.0)
    assert begun.is_alive() == (age == 30) and applied == ([] if age == 30 else ["9001_a", "9002_b"])
    if age == 30:
        database.run(
            lambda c: execute(c, "UPDATE schema_migration SET applied_at = UTC_TIMESTAMP(6) WHERE version = 9001")
        )
        begun.join(10)
        assert applied == ["9002_b"]


def test_who_was_taken_over_from_does_not_say_that_it_is_applied(url, database, files) -> None:
    migrate(url)
    first = migrating.migrations(files)[0]
    with Steady(url) as line:
        assert line.run(lambda cursor, _: migrating._claim(cursor, first, "slow"))
        database.run(lambda c: execute(c, "UPDATE schema_migration SET claimed_by = 'quick' WHERE version = 9001"))
        assert not line.run(lambda cursor, _: migrating._still_ours(cursor, first, "slow", "DO 0"))
    row = database.run(lambda c: select(c, "SELECT applied_at FROM schema_migration WHERE version = 9001"))[0]
    assert row["applied_at"] is None


def test_a_database_whose_claims_had_no_name_yet_is_brought_up_to_date(url, files, database) -> None:
    by_admin(url, "ALTER TABLE schema_migration DROP COLUMN claimed_by")
    assert migrate(url, files) == ["9001_a", "9002_b"]


def test_no_migration_takes_away_what_the_version_before_needs() -> None:
    """A server of the version before goes on while the next one is brought in: additive first (docs/house.md)."""
    for migration in migrating.migrations(FOLDER):
        if migration.version > _BEFORE_THE_RULE and "-- contracts " not in migration.sql:
            words = " ".join(migration.statements()).upper().replace("DROP CONSTRAINT", "").split()
            assert not set(words) & set(_TAKES_AWAY), migration.name


@pytest.mark.parametrize("answered", [True, False])
def test_a_restore_whose_node_goes_in_its_middle_is_whole(
    url, ways, desk, persons, mariadb, tmp_path, monkeypatch, answered
) -> None:
    """Also where rows were put in and only the answer was lost."""
    desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug"))
    file, own, many = tmp_path / "shop.backup", restoring._put_in, []
    back_up(url, file)
    name = f"test_{time.monotonic_ns()}"
    by_admin(url, f"CREATE DATABASE {name}")
    beside = "_restoring"
    for other in (beside, "_before"):
        by_admin(url, f"DROP DATABASE IF EXISTS {name}{other}")

    def cut(table, statement, cursor, again) -> None:
        many.append(table)
        if len(many) == 5:
            if answered:
                own(table, statement, cursor, again)
            else:
                cursor.execute(statement)
            ways[0].cut()
            raise pymysql.err.OperationalError(2013, "lost")
        own(table, statement, cursor, again)

    monkeypatch.setattr(restoring, "_put_in", cut)
    empty = url_of(url, ways).rpartition("/")[0] + f"/{name}"
    told, _, good = restoring.bring_back(empty, file)
    assert good and "job" in told and len(many) > 5
    tables = [row["Tables_in_" + name] for row in asked(url, name, f"SHOW TABLES FROM {name}")]
    for table in tables:
        if table not in ("schema_migration", "shop_key_secret", "slow_work", "listening"):
            assert (
                asked(url, name, f"CHECKSUM TABLE {table}")[0]["Checksum"]
                == (asked(url, None, f"CHECKSUM TABLE {table}")[0]["Checksum"])
            ), table
    by_admin(url, f"DROP DATABASE {name}")


def asked(url: str, name: str | None, question: str) -> list[dict]:
    arguments = connect_arguments(url)
    connection = pymysql.connect(**{**arguments, "database": name or arguments["database"]})
    with connection, connection.cursor() as cursor:
        cursor.execute(question)
        return list(cursor.fetchall())
