"""What was learnt: how a job went, and how all of them did."""

from collections import defaultdict
from collections.abc import Iterable

from fairsquare.actions.desk import Desk, JobView, went_of
from fairsquare.job.waiting import WAIT_KINDS
from fairsquare.job.went import JobWent, Past, Waited
from fairsquare.store import jobs, went
from fairsquare.store.database import Connection
from fairsquare.store.facts import load_facts

_AT_ONCE = 25


def how_it_went(view: JobView) -> JobWent:
    """Return how a job went, or goes so far."""
    return went_of(view.facts, view.job)


def whole_past(desk: Desk) -> Past:
    """Return the shop's past; some jobs that were released before this was kept are looked at besides, so many at a time."""

    def catch_up(connection: Connection) -> None:
        for signature, number in went.not_kept(connection, _AT_ONCE):
            job = jobs.find_job(connection, number)
            went.keep(connection, signature, job.id, went_of(load_facts(connection, job), job))

    desk.database.run(catch_up)
    return desk.past()


def waited_for(waits: Iterable[Waited]) -> list[tuple[str, float, int]]:
    """Return what was waited for by kind: its name, hours of the clock, how often."""
    hours: dict[str, list[float]] = defaultdict(list)
    for wait in waits:
        hours[WAIT_KINDS[wait.kind]].append(wait.hours)
    return [(name, sum(hours_of_job), len(hours_of_job)) for name, hours_of_job in hours.items()]
