"""Handing over: links under which a record is shown to the owner, the payer or an inspector, without signing in."""

import json
import secrets
from typing import Any

from fairsquare.actions.desk import Desk, JobView
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.security_log import security, told_code
from fairsquare.store import links, photos, records
from fairsquare.store.database import Connection
from fairsquare.store.links import NoSuchLink
from fairsquare.store.people import Person
from fairsquare.store.records import Audience, LinkedRecord

LINK_DAYS = (1, 7, 30, 90, 365)
AUDIENCES: dict[Audience, str] = {"owner": "the owner", "payer": "the payer", "inspector": "an inspector"}
_CODE_BYTES = 24


def add_link(
    desk: Desk, person: Person, key: str, number: str, sha256: str, audience: str, named: str, days: int
) -> str | None:
    """Make a link to a record and return its code, which is not kept; None where this was done before under the same key."""
    check_may(person, "make record")
    name = " ".join(named.split())
    if not 2 <= len(name) <= 120:
        raise Refused("For whom is it? Name them.", field="named", value=named[:120])
    if audience not in AUDIENCES:
        raise Refused("For the owner, the payer or an inspector?", field="audience", value=audience[:20])
    if days not in LINK_DAYS:
        raise Refused("A link may last 1, 7, 30, 90 or 365 days.", field="days", value=days)
    code = secrets.token_urlsafe(_CODE_BYTES)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if sha256 not in {record["sha256"] for record in records.records_of(connection, view.job.id)}:
            raise Refused("That record is not of this job.", field="record", value=sha256[:64])
        records.add_link(connection, sha256, code, audience, name, days, person.id)
        return {"made": links.hash_of(code).hex()}

    answer = desk.in_job(person, key, f"record link {number}", number, work, touch=False, even_closed=True)
    security("link made", link=told_code(code), person=person.name, job=number)
    return code if answer["made"] == links.hash_of(code).hex() else None


def withdraw_link(desk: Desk, person: Person, key: str, number: str, link: int) -> None:
    """Have a link lead nowhere any more."""
    check_may(person, "make record")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if link not in {link["id"] for link in records.links_of(connection, view.job.id)}:
            raise Refused("There is no such link in this job.", field="link", value=link)
        records.withdraw_link(connection, link, person.id)
        return {}

    desk.in_job(person, key, f"record link {number} {link}", number, work, touch=False, even_closed=True)


def open_link(desk: Desk, code: str, address: str, *, of_page: bool = False) -> LinkedRecord:
    """Return what a link shows. Raises `NoSuchLink`, alike for every reason, and `TooManyLinks`.

    What a page asks for by itself (`of_page`), as its photos, is counted only where it leads nowhere.
    """

    def look(connection: Connection) -> LinkedRecord | None:
        links.check_tries(connection, address)
        linked = records.by_link(connection, code[:200])
        if linked is None or not of_page:
            links.note_try(connection, address, linked is not None)
        return linked

    linked = desk.database.run(look)
    security("link used" if linked else "link refused", link=told_code(code), address=address)
    if linked is None:
        raise NoSuchLink
    return linked


def body_of(desk: Desk, linked: LinkedRecord) -> str:
    """Return the body of the record that a link shows."""
    return desk.database.run(lambda c: records.find_record(c, linked.sha256))


def photos_of(desk: Desk, sha256: str, body: str) -> dict[int, bytes]:
    """Return the photos of a record that is kept, by the ids that it gives them."""
    wanted = {photo["id"]: photo["sha256"] for photo in json.loads(body)["photos"]}

    def look(connection: Connection) -> dict[int, bytes]:
        pictures = {name: photos.recorded_photo(connection, sha256, sha, "recorded") for name, sha in wanted.items()}
        return {one: picture for one, picture in pictures.items() if picture is not None}

    return desk.database.run(look)
