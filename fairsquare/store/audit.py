"""Who did what: every deed as it was recorded with its key."""

from typing import NamedTuple

from fairsquare.store.database import Connection, select, utc


class Entry(NamedTuple):
    """A deed: when (UTC, ISO 8601), who, and what for as it was recorded."""

    at: str
    name: str
    full_name: str
    role: str
    purpose: str


def deeds(
    connection: Connection,
    *,
    words: str = "",
    beginnings: list[str] | None = None,
    person: str = "",
    since: str = "",
    until: str = "",
    most: int = 100,
    skip: int = 0,
) -> list[Entry]:
    """Return deeds, the newest first: of a person (sign-in), from a time until another (UTC), that hold `words` or begin so."""
    conditions, values = ["TRUE"], []
    if person:
        conditions.append("p.name = %s")
        values.append(person[:80])
    if since:
        conditions.append("k.at >= %s")
        values.append(since)
    if until:
        conditions.append("k.at < %s")
        values.append(until)
    if words:
        likes = [f"%{_plain(words[:80])}%", *(f"{_plain(beginning)}%" for beginning in (beginnings or [])[:80])]
        conditions.append("(" + " OR ".join(["k.purpose LIKE %s ESCAPE '|'"] * len(likes)) + ")")
        values += likes
    rows = select(
        connection,
        f"""SELECT k.at, p.name, p.full_name, p.role, k.purpose FROM request_key k JOIN person p ON p.id = k.person_id
            WHERE {" AND ".join(conditions)} ORDER BY k.at DESC, k.request_key LIMIT %s OFFSET %s""",  # noqa: S608 - built above, values bound
        *values,
        most,
        skip,
    )
    return [Entry(utc(row["at"]), row["name"], row["full_name"], row["role"], row["purpose"]) for row in rows]


def _plain(text: str) -> str:
    return text.replace("|", "||").replace("%", "|%").replace("_", "|_")
