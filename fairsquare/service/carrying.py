"""A whole job out of an installation into a file, and from a file into one, by the command line."""

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from fairsquare.actions import Desk, carrying, keys
from fairsquare.files.job_file import job_to_take_in, signer_of
from fairsquare.service.keeping import KeepingFault, database_at
from fairsquare.settings import Settings
from fairsquare.store import people
from fairsquare.store.database import Database
from fairsquare.store.migrate import migrate
from fairsquare.store.people import Person
from fairsquare.web.app import desk_for


def export_to(folder: Path, number: str, file: Path, name: str) -> str:
    """Write a job into a file, and say what was written. Raises `FairSquareError`; a file that is there stays as it is."""
    if file.exists():
        raise KeepingFault(f"{file} is there already: give another name, it is not written over.", field="file")
    with _at(folder, name) as (desk, person):
        content = carrying.carry_out(desk, person, number)
    try:
        file.write_bytes(content)
    except OSError as fault:
        raise KeepingFault(f"{file} cannot be written: {fault.strerror}.", field="file") from None
    return f"{number} in {file}, {len(content) / 1e6:.1f} MB"


def import_from(folder: Path, file: Path, name: str) -> str:
    """Take a job in from a file, and say under which number. Raises `FairSquareError`."""
    with _at(folder, name) as (desk, person):
        incoming = job_to_take_in(file)
        number = carrying.carry_in(desk, person, secrets.token_urlsafe(18), incoming)
        came = desk.view(number).job.came
        signer = desk.database.run(
            lambda c: keys.signer_of(signer_of(incoming.file.manifest), keys.known_keys(c, desk.workshop))
        )
    return f"whole, and its figures follow from its readings: {number} here, {came}\nsigned by: {signer.words}"


@contextmanager
def _at(folder: Path, name: str) -> Iterator[tuple[Desk, Person]]:
    settings = Settings()
    with database_at(folder) as url:
        migrate(url)
        database = Database(url, 2)
        try:
            person_row = next(
                (row for row in database.run(people.people) if row["name"] == name and row["active"]), None
            )
            if person_row is None:
                raise KeepingFault(f"Nobody signs in as {name}.", field="name", value=name)
            yield (
                desk_for(settings, database),
                Person(person_row["id"], person_row["name"], person_row["full_name"], person_row["role"]),
            )
        finally:
            database.close()
