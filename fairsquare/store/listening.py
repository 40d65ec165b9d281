"""Servers that listen for what others record: the revisions they ask for, and where they can be told to ask now."""

from collections.abc import Collection, Iterator
from contextlib import contextmanager
from ipaddress import ip_address

from fairsquare.store.database import Connection, Database, execute, select

FORGOTTEN_S = 15


class Line:
    """A connection of its own, over which a server asks and says where it listens, each statement for itself."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def revisions(self, numbers: Collection[str]) -> dict[str, int]:
        """Return the revisions of jobs by their numbers, of those that are there."""
        if not numbers:
            return {}
        places = ", ".join(["%s"] * len(numbers))
        query = f"SELECT number, revision FROM job WHERE number IN ({places})"  # noqa: S608 - places, values bound
        return {row["number"]: row["revision"] for row in select(self._connection, query, *numbers)}

    def listen(self, name: str, machine: str, host: str, port: int) -> None:
        """Say that a server listens there; to be said again before `FORGOTTEN_S` are over."""
        execute(
            self._connection,
            """REPLACE INTO listening (name, machine, host, port, seen_at)
               VALUES (%(name)s, %(machine)s, %(host)s, %(port)s, UTC_TIMESTAMP(6))""",
            name=name,
            machine=machine,
            host=host,
            port=port,
        )

    def leave(self, name: str) -> None:
        """Say that a server listens no more; those that are long gone are forgotten with it."""
        execute(
            self._connection,
            "DELETE FROM listening WHERE name = %s OR seen_at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY",
            name,
        )


@contextmanager
def line(database: Database) -> Iterator[Line]:
    """Yield a line to a database. Raises what PyMySQL raises."""
    with database.alone() as connection:
        yield Line(connection)


def others(connection: Connection, name: str, machine: str) -> tuple[tuple[str, int], ...]:
    """Return where servers but this one listen and can be told: all of this machine, and those that listen for other machines."""
    rows = select(
        connection,
        f"""SELECT machine, host, port FROM listening
            WHERE name <> %s AND seen_at > UTC_TIMESTAMP(6) - INTERVAL {FORGOTTEN_S} SECOND""",  # noqa: S608 - a constant
        name,
    )
    return tuple(
        (row["host"], row["port"])
        for row in rows
        if row["machine"] == machine or not ip_address(row["host"]).is_loopback
    )
