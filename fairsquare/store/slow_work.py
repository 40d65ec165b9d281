"""Slow work that is made once, whichever server is asked for it.

A piece of work is a row. Who makes it holds its `claim`, and renews a lease; when the lease is over, who is asked next takes it
over, and what the one before writes then is not kept. Times are the database's.
"""

import json
from collections.abc import Collection
from typing import Any, Literal, NamedTuple

from fairsquare.core.errors import FairSquareError
from fairsquare.store.database import OF_YESTERDAY, Connection, execute, forget, select, select_one

LEASE_S = 10
Kind = Literal["paper", "search"]
_LIVES = "ended = 0 AND lease_until > UTC_TIMESTAMP(6)"


class Claimed(NamedTuple):
    """What came of asking for a piece of work: `ours` to make, being made by another, or made, with its result or its fault."""

    ours: bool
    result: bytes | None = None


class Row(NamedTuple):
    """How a piece of work stands. `lapsed`: whoever made it is gone. `asked`: what is needed to begin it anew."""

    claim: str
    asked_by: str
    asked: dict[str, Any]
    tried: int
    stopped: bool
    over: bool
    lapsed: bool
    fault: FairSquareError | None


def under_way(connection: Connection, kind: Kind, by: str, but: str = "") -> tuple[int, int]:
    """Return how much of a kind is under way at all servers, in all and of one who asked, the work named `but` left out."""
    row = select_one(
        connection,
        f"""SELECT COUNT(*) AS many, COALESCE(SUM(asked_by = %(by)s), 0) AS own
            FROM slow_work WHERE kind = %(kind)s AND name <> %(but)s AND {_LIVES}""",  # noqa: S608 - a constant
        kind=kind,
        by=by[:120],
        but=but,
    )
    assert row is not None
    return int(row["many"]), int(row["own"])


def claim(connection: Connection, kind: Kind, name: str, by: str, holder: str, token: str) -> Claimed:
    """Claim a piece of work with a new token: it is ours where nobody made or makes it, or whoever did so failed or is gone."""
    forget(connection, "slow_work", OF_YESTERDAY)
    if execute(
        connection,
        f"""INSERT IGNORE INTO slow_work (kind, name, asked_by, holder, claim, lease_until, at)
            VALUES (%(kind)s, %(name)s, %(by)s, %(holder)s, %(token)s,
                    UTC_TIMESTAMP(6) + INTERVAL {LEASE_S} SECOND, UTC_TIMESTAMP(6))""",  # noqa: S608 - a constant
        kind=kind,
        name=name,
        by=by[:120],
        holder=holder,
        token=token,
    ):
        return Claimed(ours=True)
    if take_over(connection, kind, name, holder, token):
        return Claimed(ours=True)
    row = select_one(connection, "SELECT result FROM slow_work WHERE kind = %s AND name = %s", kind, name)
    return Claimed(ours=False, result=row["result"] if row else None)


def take_over(connection: Connection, kind: Kind, name: str, holder: str, token: str) -> bool:
    """Say whether a piece of work is ours now: it failed, or whoever made it is gone."""
    return bool(
        execute(
            connection,
            f"""UPDATE slow_work SET holder = %(holder)s, claim = %(token)s, ended = 0, fault = NULL, stopped = 0,
                                   lease_until = UTC_TIMESTAMP(6) + INTERVAL {LEASE_S} SECOND
                WHERE kind = %(kind)s AND name = %(name)s
                  AND (fault IS NOT NULL OR (ended = 0 AND lease_until <= UTC_TIMESTAMP(6)))""",  # noqa: S608 - a constant
            holder=holder,
            token=token,
            kind=kind,
            name=name,
        )
    )


def begin_anew(
    connection: Connection, kind: Kind, name: str, by: str, asked: dict[str, Any], holder: str, token: str
) -> None:
    """Begin a piece of work from the beginning, whoever makes it now: what that one finds is not kept any more."""
    execute(connection, "DELETE FROM slow_work WHERE kind = %s AND name = %s", kind, name)
    claim(connection, kind, name, by, holder, token)
    execute(connection, "UPDATE slow_work SET asked = %s WHERE claim = %s", json.dumps(asked), token)


def renew(connection: Connection, tokens: Collection[str]) -> dict[str, bool]:
    """Renew the leases of claims; return those that are still held, each with whether it was asked to stop."""
    if not tokens:
        return {}
    places = ", ".join(["%s"] * len(tokens))
    execute(
        connection,
        f"""UPDATE slow_work SET lease_until = UTC_TIMESTAMP(6) + INTERVAL {LEASE_S} SECOND
            WHERE claim IN ({places}) AND ended = 0""",  # noqa: S608 - a constant and places
        *tokens,
    )
    rows = select(connection, f"SELECT claim, stopped FROM slow_work WHERE claim IN ({places})", *tokens)  # noqa: S608
    return {row["claim"]: bool(row["stopped"]) for row in rows}


def tell(connection: Connection, token: str, tried: int, so_far: str) -> bool:
    """Keep how far a piece of work is; say whether the claim is still held."""
    return bool(
        execute(connection, "UPDATE slow_work SET tried = %s, so_far = %s WHERE claim = %s", tried, so_far, token)
    )


def finish(connection: Connection, token: str, result: bytes | None, fault: FairSquareError | None = None) -> bool:
    """Keep what came of a piece of work; say whether the claim was still held, else nothing is kept."""
    told = json.dumps({"title": fault.title, "status": fault.status, "kind": fault.kind}) if fault else None
    return bool(
        execute(
            connection,
            "UPDATE slow_work SET ended = 1, result = %(result)s, fault = %(fault)s WHERE claim = %(token)s AND ended = 0",
            result=result,
            fault=told,
            token=token,
        )
    )


def stop(connection: Connection, kind: Kind, name: str) -> None:
    """Ask whoever makes a piece of work to stop."""
    execute(connection, "UPDATE slow_work SET stopped = 1 WHERE kind = %s AND name = %s", kind, name)


def look(connection: Connection, kind: Kind, name: str) -> Row | None:
    """Return how a piece of work stands, without what it made; None where nobody asked for it."""
    row = select_one(
        connection,
        """SELECT claim, asked_by, asked, tried, stopped, ended, fault, lease_until <= UTC_TIMESTAMP(6) AS lapsed
           FROM slow_work WHERE kind = %s AND name = %s""",
        kind,
        name,
    )
    if row is None:
        return None
    return Row(
        row["claim"],
        row["asked_by"],
        json.loads(row["asked"] or "{}"),
        row["tried"],
        bool(row["stopped"]),
        bool(row["ended"]),
        bool(row["lapsed"]) and not row["ended"],
        _fault(row["fault"]),
    )


def so_far(connection: Connection, kind: Kind, name: str) -> str | None:
    """Return how far a piece of work is, as it was told last."""
    row = select_one(connection, "SELECT so_far FROM slow_work WHERE kind = %s AND name = %s", kind, name)
    return row["so_far"] if row else None


def result_of(connection: Connection, kind: Kind, name: str) -> bytes | None:
    """Return what a piece of work made."""
    row = select_one(connection, "SELECT result FROM slow_work WHERE kind = %s AND name = %s", kind, name)
    return row["result"] if row else None


def before(connection: Connection, kind: Kind, name: str) -> int:
    """Return how many the holder of a piece of work has to make before it, those that it makes now among them."""
    row = select_one(
        connection,
        """SELECT COUNT(*) AS many FROM slow_work own JOIN slow_work other
              ON other.kind = own.kind AND other.holder = own.holder AND other.id < own.id
            WHERE own.kind = %s AND own.name = %s AND own.ended = 0
              AND other.ended = 0 AND other.lease_until > UTC_TIMESTAMP(6)""",
        kind,
        name,
    )
    return int(row["many"]) if row else 0


def _fault(told: str | None) -> FairSquareError | None:
    if told is None:
        return None
    read = json.loads(told)
    fault = FairSquareError(read["title"])
    fault.status, fault.kind = read["status"], read["kind"]
    return fault
