"""What is kept from the dry fit on: versions, what was done and taken back, clocks; and a record out of a restored backup."""

import json
import secrets
import subprocess
from urllib.parse import urlsplit

import pymysql
import pytest

from fairsquare.actions import Desk, clocking, finishing, handover, measuring, walk_round
from fairsquare.demo.pictures import drawn_photo
from fairsquare.files.photos import photo_to_keep
from fairsquare.files.records import check_record, record_archive
from fairsquare.job.facts.done import FinishItem
from fairsquare.job.measure.ageing import aged
from fairsquare.job.release.holds import job_state
from fairsquare.store import clocks, records
from fairsquare.store.database import Database, execute
from fairsquare.store.facts import load_facts
from fairsquare.store.finishing import worked_before
from fairsquare.store.jobs import find_job
from fairsquare.store.nodes import connect_arguments
from tests.conftest import by_admin, key
from tests.web.fitting import SEAM, coupon, prove, ready_job


@pytest.fixture(scope="module")
def job(desk, persons) -> str:
    return ready_job(desk, persons)


def test_only_the_last_version_counts_and_every_entry_stays(desk, persons, job) -> None:
    technician = persons["technician"]
    for version, limit in enumerate((150.0, 140.0, 130.0)):
        plan = SEAM.model_copy(update={"limit_c": limit})
        finishing.say_seam(desk, technician, key(), job, min(version, 1), plan, version)
    (said,) = desk.view(job).facts.said
    assert (said.version, said.seam.limit_c) == (3, 130.0)
    wax = finishing.note(desk, technician, key(), job, FinishItem(what="wax", words="wax in the rail"))
    finishing.take_back(desk, technician, key(), job, wax)
    (done,) = desk.view(job).facts.done
    assert (done.what.words, done.taken_back.name) == ("wax in the rail", "Ngozi Adeyemi")


def test_what_worked_in_the_shop_before(desk, persons, job, database) -> None:
    finishing.note(desk, persons["lead"], key(), job, coupon(1, settings="tried 60 A", end="let_go", accepted=False))
    finishing.note(desk, persons["lead"], key(), job, coupon(1, settings="70 A, 17 V"))
    back = finishing.note(desk, persons["lead"], key(), job, coupon(1, settings="taken back"))
    finishing.take_back(desk, persons["lead"], key(), job, back)
    found = database.run(lambda c: worked_before(c, "plug", "steel", 1.1))
    assert [(number, made.settings) for number, made, _ in found] == [(job, "70 A, 17 V")]
    for process, metal, thick in (("squeeze", "steel", 1.0), ("plug", "aluminium", 1.0), ("plug", "steel", 2.0)):
        assert database.run(lambda c, of=(process, metal, thick): worked_before(c, *of)) == []


def test_clocks_count_by_the_database_and_never_more_than_they_were_set_to(desk, persons, job, database) -> None:
    own = clocking.start_clock(desk, persons["technician"], key(), job, "other", "", "foam sets", 10.0)

    def now() -> clocks.RunningClock:
        return next(one for one in database.run(clocks.running) if one.id == own)

    assert 595 < now().left_s <= 600
    database.run(lambda c: execute(c, "UPDATE clock SET at = at - INTERVAL 12 MINUTE WHERE id = %s", own))
    assert -125 < now().left_s <= -115, "over, and it says for how long"
    database.run(lambda c: execute(c, "UPDATE clock SET at = UTC_TIMESTAMP(6) + INTERVAL 1 HOUR WHERE id = %s", own))
    assert now().left_s == 600
    assert now().ahead_s > 3500
    clocking.end_clock(desk, persons["technician"], key(), job, own, "")
    assert own not in {one.id for one in database.run(clocks.running)}


def test_what_is_old_is_known_by_the_order_even_where_the_servers_time_was_put_back(desk, persons, database) -> None:
    job = ready_job(desk, persons)
    prove(desk, persons, job)
    measuring.record_move(desk, persons["technician"], key(), job, "clamp", "a clamp was taken off")
    database.run(
        lambda c: execute(c, "UPDATE movement SET at = at - INTERVAL 3 HOUR WHERE words = 'a clamp was taken off'")
    )
    facts = database.run(lambda c: load_facts(c, find_job(c, job)))
    assert all(one.stale for one in facts.readings if one.purpose == "point")
    assert all(gap.stale for gap in facts.gaps)
    assert aged(facts) == facts
    assert not job_state(facts).may_weld


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE clock SET minutes = 0",
        "UPDATE clock SET kind = 'egg'",
        "UPDATE job_event SET kind = 'gossip'",
        "UPDATE job_event SET body = 'no JSON'",
        "UPDATE job_said SET topic = 'weather'",
        "INSERT INTO movement (job_id, what, words, person_id, at) SELECT id, 'moon', '', 1, UTC_TIMESTAMP(6) FROM job LIMIT 1",
    ],
)
def test_the_tables_refuse_what_cannot_be(database, job, statement) -> None:
    with pytest.raises((pymysql.err.OperationalError, pymysql.err.IntegrityError)):
        database.run(lambda c: execute(c, statement))


def test_a_record_out_of_a_restored_backup_verifies(desk, persons, url, mariadb) -> None:
    lead = persons["lead"]
    job = ready_job(desk, persons)
    prove(desk, persons, job)
    photo = photo_to_keep(drawn_photo("a coupon", "other"), "coupon.png")
    walk_round.keep_photo(desk, lead, key(), job, photo, name="coupon.png")
    first = desk.make_record(lead, key(), job)
    finishing.note(desk, lead, key(), job, FinishItem(what="wax", words="wax in the rail"))
    second = desk.make_record(lead, key(), job)
    whole = mariadb._own_database()
    name = f"test_{secrets.token_hex(4)}"
    by_admin(whole, f"CREATE DATABASE {name}")
    given = connect_arguments(url)
    access = [
        f"--host={given['host']}",
        f"--port={given['port']}",
        f"--user={given['user']}",
        f"--password={given['password']}",
    ]
    dump = ["mariadb-dump", "--single-transaction", "--hex-blob", *access, given["database"]]
    backup = subprocess.run(dump, capture_output=True, check=True).stdout
    subprocess.run(["mariadb", *access, name], input=backup, capture_output=True, check=True)
    restored = Database(urlsplit(url)._replace(path=f"/{name}").geturl(), 2)
    try:
        again = Desk(restored, software="another", workshop="another", number_prefix="SL-")
        for digest in (first, second):
            body = restored.run(lambda c, sha=digest: records.find_record(c, sha))
            assert body == desk.database.run(lambda c, sha=digest: records.find_record(c, sha)), "to the byte"
            assert check_record(body.encode()).good
        assert json.loads(body)["integrity"]["previous"] == first
        assert check_record(record_archive(body, handover.photos_of(again, digest, body))).good
        assert again.view(job).state == desk.view(job).state
        third = again.make_record(lead, key(), job)
        assert check_record(restored.run(lambda c: records.find_record(c, third)).encode()).good
    finally:
        restored.close()
        by_admin(whole, f"DROP DATABASE {name}")
