"""A whole job carried from shop to shop as one file: made here, and read in where it comes to."""

import secrets
from contextlib import suppress
from functools import partial
from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.actions.handover import photos_of
from fairsquare.actions.rights import check_may
from fairsquare.actions.spine import spine, waits
from fairsquare.core.errors import Refused
from fairsquare.core.who import Who
from fairsquare.files.job_file import Incoming, JobBody, job_file
from fairsquare.job.facts.intake import PhotoFact
from fairsquare.job.facts.job import PRACTICE
from fairsquare.store import came, jobs, keys, photos, records, sheets
from fairsquare.store.database import Connection, DatabaseAway, now_of
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person

_TRIES = 3


def carry_out(desk: Desk, person: Person, number: str) -> bytes:
    """Return a job as a file, with a record of it as it stands, which is made and kept. Raises `Refused` for practice."""
    check_may(person, "make record")
    if number.startswith(PRACTICE):
        raise Refused("This is practice: it is not carried anywhere.", field="job", value=number)
    for _ in range(_TRIES):
        before = desk.view(number).job.revision
        sha256 = desk.make_record(person, secrets.token_urlsafe(18), number)
        view, made, sheet, at = desk.database.run(lambda connection: _all_of(desk, connection, number))
        if view.job.revision == before:
            break
    else:
        raise Unsure(
            "Something is being recorded in this job all the time: try again in a moment.", field="job", value=number
        )
    record = made.pop(sha256)
    body = JobBody(
        details=view.job.details.model_dump(mode="json"),
        opened_by=view.job.opened_by,
        opened_at=view.job.opened_at,
        sheet_said=sheet.said if sheet else {},
        sheet_source=sheet.source if sheet else "",
        facts=view.facts,
    )
    return job_file(
        body,
        record,
        made,
        photos_of(desk, sha256, record),
        software=desk.software,
        workshop=desk.workshop,
        made=Who(name=person.full_name, role=person.role, at=at),
        key=desk.database.run(lambda connection: keys.signing_key(connection, desk.workshop)),
    )


def _all_of(
    desk: Desk, connection: Connection, number: str
) -> tuple[JobView, dict[str, str], sheets.StoredSheet | None, str]:
    view = desk.view_in(connection, number)
    kept = [record["sha256"] for record in records.records_of(connection, view.job.id)][::-1]
    made = {sha256: records.find_record(connection, sha256) for sha256 in kept}
    return view, made, sheets.find_sheet(connection, view.job.id), now_of(connection)


def carry_in(desk: Desk, person: Person, key: str, incoming: Incoming) -> str:
    """Take a job in from a file that is whole, and return its number here; one that came before is not taken again.

    It is closed from the beginning: it is read here, and nothing is added to what the other shop recorded. Its photos are kept
    first, each by itself: a transaction as large as all of them would hold up every node of a cluster. Raises `Refused` that says
    what is wrong with the file.
    """
    check_may(person, "take in")
    file = incoming.file
    try:
        details = JobDetails.model_validate(file.body.details)
    except ValueError:
        raise Refused("This job file is not taken: what was taken in cannot be read.", field="file") from None

    before = desk.database.run(lambda c: _here(c, incoming))
    claim, apart = secrets.token_hex(8), dict[int, int]()

    def work(connection: Connection) -> dict[str, Any]:
        before = _here(connection, incoming)
        if before is not None:
            return {"number": before}
        number = jobs.open_job(connection, details, person, desk.number_prefix)
        _keep(connection, jobs.find_job(connection, number).id, number, incoming, person, apart)
        _check_it_can_be_shown(desk, connection, number)
        return {"number": number}

    try:
        for place, photo in enumerate(incoming.photos if before is None else ()):
            keep = partial(photos.keep_apart, claim=claim, place=place, photo=incoming.photos[photo])
            apart[photo] = desk.database.run(keep)
        return str(desk.once(person, key, "carry job in", work)["number"])
    finally:
        with suppress(DatabaseAway):
            for left in desk.database.run(lambda c: photos.apart_without_photo(c, claim)):
                desk.database.run(partial(photos.forget_apart, apart=left))


def _here(connection: Connection, incoming: Incoming) -> str | None:
    """Return the number under which a job was taken in before. Raises `Refused` for one that was recorded here."""
    before = came.number_of(connection, incoming.file.manifest.sha256)
    if before is None:
        for sha256 in incoming.file.records:
            here = records.job_of(connection, sha256)
            if here is not None:
                raise Refused(f"This job is here already: {here} has a record of it.", field="file", value=here)
    return before


def _check_it_can_be_shown(desk: Desk, connection: Connection, number: str) -> None:
    """Raise `Refused` for a job of which the floor could not say where it stands: nothing of it is kept then."""
    try:
        view = desk.view_in(connection, number)
        spine(view)
        waits(view)
    except Exception as fault:  # whatever it is that such a job leads to
        raise Refused(
            f"This job file is not taken: what it says does not go together ({type(fault).__name__}).", field="file"
        ) from fault


def _keep(
    connection: Connection, job_id: int, number: str, incoming: Incoming, person: Person, apart: dict[int, int]
) -> None:
    file, facts = incoming.file, incoming.file.body.facts
    if facts.sheet is not None:
        source = f"came with the job: {file.body.sheet_source}"
        sheets.accept_sheet(
            connection, job_id, facts.sheet, file.body.sheet_said, source, person.id, version=facts.sheet_version
        )
    kept: list[PhotoFact] = []
    for one in facts.photos:
        own = photos.keep_photo(
            connection,
            job_id,
            one.about,
            one.about_id,
            one.name,
            one.words,
            incoming.photos[one.id],
            person.id,
            apart[one.id],
        )
        kept.append(one.model_copy(update={"id": own}))
    for sha256, body in file.records.items():
        records.keep_record(connection, job_id, sha256, body, person.id)
    here = facts.model_copy(update={"number": number, "photos": tuple(kept)})
    came.keep(connection, job_id, file, here, person.id)
    jobs.close_job(connection, job_id, True)
