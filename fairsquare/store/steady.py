"""A connection of its own for long work by parts, such as a migration or a restore: each statement stands for itself.

What is done is small enough for the write-sets of a cluster, and a part that failed because its node went, or because somebody else
wanted the same rows, is taken up again at a node that serves.
"""

import random
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any, TypeVar

import pymysql
import structlog

from fairsquare.store.nodes import arguments_of_serving, is_conflict, is_gone, nodes_of

T = TypeVar("T")
log = structlog.get_logger("fairsquare.store")
PATIENCE_S = 60.0
_PAUSE_S, _LONGEST_S = 0.2, 3600
_CONFLICTS = 10


class Steady:
    """A connection to the first node of a URL that serves, made anew at another where it is lost; `begin` is said on each.

    Where the URL names one server only there is no other, and what it raises is raised. Making it raises what PyMySQL raises.
    """

    def __init__(self, url: str, begin: str = "", **more: Any) -> None:
        self._url, self._begin, self._more = url, begin, more
        self._several = len(nodes_of(url)) > 1
        self._connection = self._connected()

    def run(self, work: Callable[[Any, bool], T]) -> T:
        """Return what `work` makes with a cursor; done again from its beginning after a conflict, or a loss where there are several
        nodes. It is told whether it may have been done before. Raises what PyMySQL raises where that does not help.
        """
        lost, conflicts, until = False, 0, time.monotonic() + PATIENCE_S
        while True:
            try:
                if self._connection is None:
                    self._connection = self._connected()
                with self._connection.cursor() as cursor:
                    return work(cursor, lost)
            except pymysql.MySQLError as fault:
                if is_conflict(fault) and conflicts < _CONFLICTS:
                    conflicts += 1
                    time.sleep(random.uniform(0.01, 0.04) * 2**conflicts)  # noqa: S311 - a pause, not a secret
                elif is_gone(fault) and self._several and time.monotonic() < until:
                    log.warning("taken up again", why=str(fault.args[-1]) if fault.args else "lost")
                    lost = True
                    self.close()
                    time.sleep(_PAUSE_S)
                else:
                    raise

    def execute(self, statement: str, values: Any = None) -> int:
        """Carry out a statement that does no harm when it is done twice, and return how many rows it touched or found."""
        return self.run(lambda cursor, _: int(cursor.execute(statement, values)))

    def close(self) -> None:
        """Close the connection."""
        if self._connection is not None:
            with suppress(pymysql.MySQLError):
                self._connection.close()
        self._connection = None

    def __enter__(self) -> "Steady":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _connected(self) -> Any:
        own = {"autocommit": True, "read_timeout": _LONGEST_S, "write_timeout": _LONGEST_S}
        connection: Any = pymysql.connect(**{**arguments_of_serving(self._url), **own, **self._more})
        if self._begin:
            with connection.cursor() as cursor:
                cursor.execute(self._begin)
        return connection
