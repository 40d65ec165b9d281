"""How a kind of facts of a job is read: a module of the store that keeps some says it as `RECORDED`, by the name of the facts."""

from collections.abc import Callable
from typing import Any, NamedTuple

from fairsquare.store.database import Connection


class Recorded(NamedTuple):
    """A kind of facts of a job.

    `mark` is a query for how many rows of the job `{job}` there are, and the last: rows are only ever added, so that these two say
    whether any were. `read` reads them, oldest first, for a connection and a job's id.
    """

    mark: str
    read: Callable[[Connection, int], Any]
