"""The store against a real MariaDB: transactions, deadlocks, the server killed between two readings, migrations, keys."""

import threading

import pymysql
import pytest

from fairsquare.core.errors import Refused
from fairsquare.demo.people import INSTRUMENT, SIGN_INS
from fairsquare.job.facts.measure import NewReading
from fairsquare.stand_ins.vehicles import VEHICLES
from fairsquare.store import jobs, links, measuring, people, sessions, sheets
from fairsquare.store.database import Connection, Database, DatabaseAway, DatabaseFull, execute, select, select_one
from fairsquare.store.facts import Lasting, load_facts
from fairsquare.store.jobs import JobDetails, NoSuchJob, StaleEdit
from fairsquare.store.migrate import FOLDER, MigrationFault, migrate, migrations
from fairsquare.store.nodes import connect_arguments, is_full
from fairsquare.store.once import KeyReused, once
from fairsquare.store.passwords import check_password
from tests.conftest import key

DETAILS = JobDetails(vehicle="Dunlin <b>post</b> van", hit_from_deg=45, hit_words="Ærlig; DROP TABLE job;--")


def open_job(database, person, **changes) -> jobs.Job:
    details = DETAILS.model_copy(update=changes)
    number = database.run(lambda c: jobs.open_job(c, details, person, "SL-"))
    return database.run(lambda c: jobs.find_job(c, number))


def test_a_job_comes_back_as_it_was_taken_in(database, persons) -> None:
    job = open_job(database, persons["lead"])
    assert job.details == DETAILS
    assert (job.version, job.opened_by) == (1, "Solveig Haraldsen")
    with pytest.raises(NoSuchJob, match="There is no job SL-9"):
        database.run(lambda c: jobs.find_job(c, "SL-9"))


def test_numbers_are_given_once_even_to_many_at_once(database, persons) -> None:
    found, faults = [], []

    def work() -> None:
        try:
            found.append(open_job(database, persons["lead"]).number)
        except Exception as fault:
            faults.append(fault)

    threads = [threading.Thread(target=work) for _ in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not faults
    assert len(set(found)) == 12


def test_a_stale_edit_is_told_who_changed_what(database, persons) -> None:
    job = open_job(database, persons["lead"])
    changed = DETAILS.model_copy(update={"notes": "lamp gap closed"})
    assert database.run(lambda c: jobs.change_job(c, job, changed, 1, persons["technician"])) == 2
    with pytest.raises(StaleEdit, match="Ngozi Adeyemi changed notes at"):
        database.run(lambda c: jobs.change_job(c, job, DETAILS, 1, persons["lead"]))


def test_search(database, persons) -> None:
    odd = open_job(database, persons["lead"], vehicle="Whimbrel 100%_van", notes="under the stairs")
    assert [j.number for j in database.run(lambda c: jobs.find_jobs(c, "100%_v"))[0]] == [odd.number]
    assert [j.number for j in database.run(lambda c: jobs.find_jobs(c, "stairs whimbrel"))[0]] == [odd.number]
    assert database.run(lambda c: jobs.find_jobs(c, "whimbrel nothing"))[0] == []


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda v: v.name)
def test_a_sheet_comes_back_to_the_last_bit(database, persons, vehicle) -> None:
    job = open_job(database, persons["lead"])
    said = {p.code: (f"{p.xyz[0]} mm", "x", "y") for p in vehicle.sheet.points}
    version = database.run(lambda c: sheets.accept_sheet(c, job.id, vehicle.sheet, said, "x.csv", persons["lead"].id))
    stored = database.run(lambda c: sheets.find_sheet(c, job.id))
    assert (version, stored.sheet, stored.said, stored.source) == (1, vehicle.sheet, said, "x.csv")
    database.run(lambda c: sheets.accept_sheet(c, job.id, vehicle.sheet, {}, "again", persons["lead"].id))
    assert database.run(lambda c: sheets.find_sheet(c, job.id)).version == 2
    assert database.run(lambda c: sheets.find_sheet(c, job.id, 1)).source == "x.csv"


def test_work_that_fails_leaves_nothing(database, persons) -> None:
    before = database.run(lambda c: jobs.find_jobs(c))[1]

    def work(connection) -> None:
        jobs.open_job(connection, DETAILS, persons["lead"], "SL-")
        raise ValueError("half way")

    with pytest.raises(ValueError, match="half way"):
        database.run(work)
    assert database.run(lambda c: jobs.find_jobs(c))[1] == before


def test_two_that_block_each_other_both_end_well(database) -> None:
    database.run(lambda c: execute(c, "CREATE TABLE IF NOT EXISTS pair (id INT PRIMARY KEY, n INT) ENGINE = InnoDB"))
    database.run(lambda c: execute(c, "REPLACE INTO pair VALUES (1, 0), (2, 0)"))
    both, tries = threading.Barrier(2, timeout=5), []

    def work(first: int, second: int):
        def cross(connection) -> None:
            tries.append(first)
            execute(connection, "UPDATE pair SET n = n + 1 WHERE id = %s", first)
            if len(tries) <= 2:
                both.wait()
            execute(connection, "UPDATE pair SET n = n + 1 WHERE id = %s", second)

        return threading.Thread(target=lambda: database.run(cross))

    threads = [work(1, 2), work(2, 1)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert [r["n"] for r in database.run(lambda c: select(c, "SELECT n FROM pair ORDER BY id"))] == [2, 2]
    assert len(tries) == 3, "one was chosen as the victim and run again"


def test_a_key_does_a_thing_once(database, persons) -> None:
    mine, done = key(), []

    def send(purpose: str = "reading", person: str = "lead"):
        return database.run(
            lambda c: once(c, mine, persons[person].id, purpose, lambda: done.append(1) or {"id": len(done)})
        )

    assert send() == ({"id": 1}, False)
    assert send() == ({"id": 1}, True)
    assert done == [1]
    with pytest.raises(KeyReused):
        send(purpose="other")
    with pytest.raises(KeyReused):
        send(person="technician")


def test_the_same_key_at_once_does_it_once(database, persons) -> None:
    mine, done, answers = key(), [], []

    def work(connection):
        return once(connection, mine, persons["lead"].id, "both", lambda: done.append(1) or {"id": 7})

    threads = [threading.Thread(target=lambda: answers.append(database.run(work))) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(done) == 1
    assert sorted(answers, key=str) == sorted([({"id": 7}, False), *([({"id": 7}, True)] * 5)], key=str)


def test_what_was_acknowledged_survives_sigkill(mariadb, database, persons) -> None:
    job = open_job(database, persons["lead"])
    person = persons["technician"].id
    database.run(lambda c: measuring.open_setup(c, job.id, "instrument", "arm", 0.3, 1, person))

    def take(value: float) -> int:
        reading = NewReading(purpose="point", code="F4L", xyz=(value, 0.1, 1e-9), said=f"f4l {value}")
        return database.run(lambda c: measuring.take_reading(c, job.id, 1, reading, person))

    first = take(1.0)
    mariadb.kill()
    with pytest.raises(DatabaseAway, match="Nothing that was confirmed is lost"):
        take(2.0)
    mariadb.restart()
    second = take(3.0)
    found = database.run(
        lambda c: select(c, "SELECT id, x, y, z, said FROM reading WHERE job_id = %s ORDER BY id", job.id)
    )
    assert [(r["id"], r["x"], r["z"]) for r in found] == [(first, 1.0, 1e-9), (second, 3.0, 1e-9)]


def test_a_server_without_room_says_so_and_serves_on(url) -> None:
    """A table in memory that may hold little is full as one on a full disk is (1114)."""

    def fill(connection: Connection, rows: int) -> None:
        execute(connection, "SET SESSION max_heap_table_size = 16384")
        execute(connection, "CREATE TEMPORARY TABLE IF NOT EXISTS little (words CHAR(250)) ENGINE = MEMORY")
        for _ in range(rows):
            execute(connection, "INSERT INTO little VALUES ('what was typed')")

    own = Database(url, 1)
    try:
        with pytest.raises(DatabaseFull, match="no room left on its disk"):
            own.run(lambda c: fill(c, 1000))
        assert own.run(lambda c: select_one(c, "SELECT 1 AS one")) == {"one": 1}
    finally:
        own.close()


@pytest.mark.parametrize(
    ("code", "words", "full"),
    [
        (1021, "Disk full (/var/tmp/#sql); waiting for someone to free some space", True),
        (1026, 'Error writing file ./binlog (errno: 28 "No space left on device")', True),
        (1030, 'Got error 28 "No space left on device" from storage engine InnoDB', True),
        (3, 'Error writing file (Errcode: 28 "No space left on device")', True),
        (1030, 'Got error 128 "Out of memory in engine" from storage engine InnoDB', False),
        (1062, "Duplicate entry '28' for key 'PRIMARY'", False),
    ],
)
def test_a_full_disk_is_known_by_what_mariadb_says(code, words, full) -> None:
    """Errors of MariaDB 10.11 (its list of error codes), and the system's ENOSPC, 28."""
    assert is_full(pymysql.OperationalError(code, words)) == full


def test_a_correction_is_of_the_same_set_up(database, persons) -> None:
    job, other = open_job(database, persons["lead"]), open_job(database, persons["lead"])
    person = persons["technician"].id
    for one in (job, other):
        database.run(lambda c, one=one: measuring.open_setup(c, one.id, "instrument", "arm", 0.3, 1, person))
    reading = NewReading(purpose="point", code="F4L", xyz=(1.0, 2.0, 3.0), said="f4l 1 2 3")
    number = database.run(lambda c: measuring.take_reading(c, job.id, 1, reading, person))
    elsewhere = reading.model_copy(update={"replaces": number})
    with pytest.raises(Refused, match="not of this set-up"):
        database.run(lambda c: measuring.take_reading(c, other.id, 1, elsewhere, person))
    with pytest.raises(Refused, match="no reading"):
        database.run(lambda c: measuring.take_back(c, other.id, number, person))


def test_checks_of_the_tables_hold(database, persons) -> None:
    job = open_job(database, persons["lead"])
    with pytest.raises(pymysql.MySQLError):
        database.run(lambda c: execute(c, "UPDATE job SET construction = 'boat' WHERE id = %s", job.id))
    with pytest.raises(pymysql.MySQLError):
        database.run(lambda c: execute(c, "UPDATE person SET role = 'king' WHERE id = %s", persons["lead"].id))


def test_migrations_are_applied_once_and_are_not_changed(url, tmp_path) -> None:
    assert migrate(url) == []
    assert [m.version for m in migrations()] == list(range(1, len(migrations()) + 1))
    for file in FOLDER.glob("*.sql"):
        (tmp_path / file.name).write_text(file.read_text())
    (tmp_path / "0001_people.sql").write_text("-- changed\nSELECT 1;\n")
    with pytest.raises(MigrationFault, match="0001_people was changed"):
        migrate(url, tmp_path)


def test_every_table_has_a_primary_key_and_is_innodb(database) -> None:
    """What a cluster needs."""
    found = database.run(
        lambda c: select(
            c,
            """SELECT t.TABLE_NAME AS name, t.ENGINE AS engine, MAX(k.CONSTRAINT_TYPE = 'PRIMARY KEY') AS has_key
               FROM information_schema.TABLES t LEFT JOIN information_schema.TABLE_CONSTRAINTS k
                 ON k.TABLE_SCHEMA = t.TABLE_SCHEMA AND k.TABLE_NAME = t.TABLE_NAME
               WHERE t.TABLE_SCHEMA = DATABASE() GROUP BY t.TABLE_NAME, t.ENGINE""",
        )
    )
    assert len(found) > 15
    assert all(table["engine"] == "InnoDB" and table["has_key"] for table in found)


def test_people(database, persons) -> None:
    found = database.run(lambda c: people.find_by_password(c, "solveig", "north-light-12"))
    assert found == persons["lead"]
    stored = database.run(lambda c: select_one(c, "SELECT password_hash FROM person WHERE name = 'solveig'"))
    assert stored["password_hash"].startswith("$argon2id$")
    assert database.run(lambda c: people.find_by_password(c, "solveig", "wrong")) is None
    assert database.run(lambda c: people.find_by_password(c, "nobody", "wrong")) is None
    session = database.run(lambda c: sessions.open_session(c, found, 1))
    assert database.run(lambda c: sessions.find_session(c, session.token, "page")).person == found
    assert database.run(lambda c: sessions.find_session(c, session.token, "token")) is None
    database.run(lambda c: people.set_password(c, found.id, "another-password"))
    assert database.run(lambda c: sessions.find_session(c, session.token, "page")) is None
    with pytest.raises(Refused, match="12 to 200"):
        database.run(lambda c: people.add_person(c, "x", "X", "lead", "short"))
    with pytest.raises(Refused, match="signs in as solveig already"):
        database.run(lambda c: people.add_person(c, "solveig", "X", "lead", "long-enough-1"))


def test_a_url_that_is_none_says_what_is_right() -> None:
    with pytest.raises(ValueError, match="should look like mysql://"):
        connect_arguments("sqlite:///x")
    with pytest.raises(DatabaseAway):
        Database("mysql://a:b@127.0.0.1:9/none").run(lambda c: select(c, "SELECT 1"))


def test_what_lasts_is_read_once_and_again_where_it_does_not_add_up(database, persons) -> None:
    job, person = open_job(database, persons["lead"]), persons["technician"].id
    database.run(lambda c: measuring.open_setup(c, job.id, "instrument", "arm", 0.3, 1, person))

    def take(value: float) -> int:
        reading = NewReading(purpose="point", code="F4L", xyz=(value, 0.0, 0.0), said="f4l")
        return database.run(lambda c: measuring.take_reading(c, job.id, 1, reading, person))

    lasting = Lasting()
    first, second = take(1.0), take(2.0)
    kept = database.run(lambda c: lasting.readings(c, job.id, 2))
    assert [one["id"] for one in kept] == [first, second]
    third = take(3.0)
    again = database.run(lambda c: lasting.readings(c, job.id, 3))
    assert [one["id"] for one in again] == [first, second, third]
    assert again[0] is kept[0], "what was read before is not read again"
    database.run(lambda c: execute(c, "DELETE FROM reading WHERE id = %s", second))
    assert [one["id"] for one in database.run(lambda c: lasting.readings(c, job.id, 2))] == [first, third]
    database.run(lambda c: measuring.take_back(c, job.id, third, person))
    facts = database.run(lambda c: load_facts(c, job, lasting))
    assert [r.taken_back is not None for r in facts.readings] == [False, True]
    before = database.run(lambda c: load_facts(c, job, lasting))
    database.run(lambda c: measuring.record_move(c, job.id, 1, "structure", "pulled at the tower", person))
    after = database.run(lambda c: load_facts(c, job, lasting))
    assert before.setups[0] is not after.setups[0], "what hangs on movements is made anew with them"
    assert [(m.words, r.stale) for m, r in zip(after.movements, after.readings, strict=False)] == [
        ("pulled at the tower", True)
    ]
    assert database.run(lambda c: load_facts(c, job, lasting)).movements[0] is after.movements[0], "else once"


@pytest.mark.parametrize(
    ("password", "words"),
    [
        ("eleven chrs", "12 to 200"),
        ("            ", "over and over"),
        ("aaaaaaaaaaaa", "over and over"),
        ("ngozi1234567"[:11] + "!", "name with a little more"),
        ("password1234", "first that are tried"),
        ("P@ssw0rd2026!", "first that are tried"),
        ("welcomewelcome", "first that are tried"),
        ("qwertyuiopas", "first that are tried"),
        ("098765432109", "first that are tried"),
        ("Workshop 2026", "first that are tried"),
    ],
)
def test_passwords_that_are_tried_first_are_refused(password, words) -> None:
    with pytest.raises(Refused, match=words) as refused:
        check_password(password, "ngozi")
    assert refused.value.field == "password"


def test_other_passwords_are_taken() -> None:
    for one in (
        *(own.password for own in SIGN_INS),
        INSTRUMENT.password,
        "a few plain words",
        "long-enough-1",
        "another-long-1",
    ):
        check_password(one, "ngozi")


def test_who_forgets_old_tries_waits_for_nobody_who_adds_one(database) -> None:
    for many in range(3):
        database.run(lambda c, many=many: links.note_try(c, f"10.0.0.{many}", found=True))
    database.run(lambda c: execute(c, "UPDATE link_try SET at = at - INTERVAL 2 DAY WHERE address = '10.0.0.0'"))
    database.run(lambda c: links.note_try(c, "10.0.0.3", found=True))

    def adds_meanwhile(connection: Connection) -> None:
        links.note_try(connection, "10.0.0.1", found=True)

        def another(other: Connection) -> None:
            execute(other, "SET innodb_lock_wait_timeout = 1")
            links.note_try(other, "10.0.0.1", found=False)
            execute(other, "SET innodb_lock_wait_timeout = 10")

        database.run(another)

    database.run(adds_meanwhile)
    found = database.run(
        lambda c: select(c, "SELECT address, found FROM link_try WHERE address LIKE '10.0.0.%%' ORDER BY id")
    )
    assert [(one["address"], one["found"]) for one in found] == [
        ("10.0.0.1", 1),
        ("10.0.0.2", 1),
        ("10.0.0.3", 1),
        ("10.0.0.1", 1),
        ("10.0.0.1", 0),
    ]


def test_a_connection_that_was_lost_is_opened_again_before_anything_is_begun(url) -> None:
    ours = Database(url, 1, ready=True)
    number = ours.run(lambda c: select_one(c, "SELECT CONNECTION_ID() AS id"))["id"]
    other = Database(url, 1)
    other.run(lambda c: execute(c, f"KILL {number}"))
    assert ours.run(lambda c: select_one(c, "SELECT CONNECTION_ID() AS id"))["id"] != number
    ours.close()
    other.close()
