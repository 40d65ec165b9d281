"""Hours as booked, work on the clock, and what a job waits for."""

import datetime
from typing import Literal

from fairsquare.core.model import Model
from fairsquare.core.plan.said import HoursSaid
from fairsquare.core.who import Who


class HoursFact(Model):
    """What was last said of the hours."""

    version: int
    hours: HoursSaid
    by: Who


WaitKind = Literal["part", "approval", "refrigerant", "mechanic", "foam", "paint", "other"]

WorkEnd = Literal["touch", "next", "said"]
"""How a clock of work ended: by a touch, because its person began something else, or at a time that was said later."""


class WorkFact(Model):
    """Work of a person on an operation, from `by.at` until `ended_at` (UTC, ISO 8601); none while its clock runs.

    `person` is the number of the person here, by which two of one name are told apart; it means nothing elsewhere.
    """

    id: int
    operation: str
    by: Who
    person: int | None = None
    ended_at: str | None = None
    how: WorkEnd = "touch"
    words: str = ""
    ended_by: Who | None = None

    @property
    def hours(self) -> float | None:
        """The hours worked; none while its clock runs."""
        if self.ended_at is None:
            return None
        took = datetime.datetime.fromisoformat(self.ended_at) - datetime.datetime.fromisoformat(self.by.at)
        return max(0.0, took.total_seconds() / 3600)


class WaitFact(Model):
    """Something that the job waits for: who was asked, and when it is due (UTC, ISO 8601; empty: nobody knows).

    `station`: from which station or hold point on it holds the job up; empty: at once, whatever comes next.
    """

    id: int
    kind: WaitKind
    words: str
    asked_of: str
    due_at: str
    station: str
    by: Who
    said_by: Who
    over: Who | None = None
    over_words: str = ""
