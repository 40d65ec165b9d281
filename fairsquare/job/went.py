"""How a job went, once it is released: what the metal gave back, first set-up against last, hours, and where time was waited.

And what the shop's own past says of the next one. A past of few jobs says little: it is weighed against what is usual by Bayes'
rule for normals (any handbook of statistics), so that one job hardly moves anything and ten speak for themselves.
"""

import datetime
import math
import statistics
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Literal, NamedTuple

from fairsquare.core.measure.conformity import PointJudgement
from fairsquare.core.model import Many, Model
from fairsquare.core.pull.job import Watched
from fairsquare.core.pull.relaxing import Relaxed, fitted_share
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.hours import WaitKind
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.measure.picture import current_setup, first_picture, picture_of
from fairsquare.job.plan.operations import Times, job_work, kind_of, operations_of
from fairsquare.job.pull.settling import SettledPoint, settled_points

Place = Literal["front", "centre", "rear"]
PLACES: tuple[Place, ...] = ("front", "centre", "rear")
_LEAST_EXPECTED_MM = 0.5
"""Where the frame says that less comes back, its share says nothing."""
_SHARE_SIGMA, _JOB_SHARE_SIGMA = 0.25, 0.12
"""How far, as a share, a structure is from what its frame says: where nothing like it is known, and job from job at least."""
_HOURS_SIGMA, _JOB_HOURS_SIGMA = 0.5, 0.3
"""The same of hours, as the logarithm of worked against usual. Common practice, no source: from half to twice is common."""


class Sprung(Model):
    """A cycle of a pull: where, what the frame said would come back, and what did, mm."""

    place: Place
    code: str
    pull: int
    expected_mm: float
    gave_mm: float


class WentPoint(Model):
    """A point first and last: how far off, mm, and its state."""

    code: str
    first_mm: float
    first: str
    last_mm: float
    last: str


class WentHours(Model):
    """An operation: what is usual for it, what it was sold for, and what it took."""

    name: str
    kind: str
    usual_h: float
    sold_h: float
    worked_h: float


class Waited(Model):
    """Something that was waited for, from when it was noted until it came, hours of the clock."""

    kind: WaitKind
    words: str
    station: str
    hours: float


class JobWent(Model):
    """How a job went. `released_at` empty: it is not released, and this is so far."""

    number: str
    vehicle: str
    construction: str
    released_at: str = ""
    springs: Many[Sprung] = ()
    points: Many[WentPoint] = ()
    hours: Many[WentHours] = ()
    waits: Many[Waited] = ()
    settled: Many[SettledPoint] = ()

    @property
    def off(self) -> tuple[int, int]:
        """How many points were out of tolerance, first and last."""
        return sum(point.first == "off" for point in self.points), sum(point.last == "off" for point in self.points)

    @property
    def farthest_mm(self) -> tuple[float, float]:
        """How far the point that was farthest off was off, first and last, mm."""
        return max((point.first_mm for point in self.points), default=0.0), max(
            (point.last_mm for point in self.points), default=0.0
        )

    @property
    def sold_h(self) -> float:
        """What was sold of what was worked."""
        return sum(row.sold_h for row in self.hours)

    @property
    def worked_h(self) -> float:
        """Everything that was worked."""
        return sum(row.worked_h for row in self.hours)


def job_went(facts: JobFacts, vehicle: str, construction: str, now: str) -> JobWent:
    """Return how a job went, or how it goes so far (`now`, UTC, ISO 8601, ends what is still waited for)."""
    released = next((signature.by.at for signature in reversed(facts.signatures) if signature.hold == "released"), "")
    until = released or now
    return JobWent(
        number=facts.number,
        vehicle=vehicle,
        construction=construction,
        released_at=released,
        springs=tuple(_springs(facts)),
        points=tuple(_points(facts)),
        settled=settled_points(facts),
        hours=tuple(_hours(facts)),
        waits=tuple(
            Waited(
                kind=wait.kind,
                words=wait.words,
                station=wait.station,
                hours=_between(wait.by.at, min(wait.over.at, until) if wait.over else until),
            )
            for wait in facts.waits
        ),
    )


def place_of(sheet: Sheet, code: str) -> Place:
    """Return where a point lies: ahead of all reference points, among them, or behind."""
    along = [point.xyz[0] for point in sheet.points if point.reference]
    x = next(point.xyz[0] for point in sheet.points if point.code == code)
    if not along or min(along) <= x <= max(along):
        return "centre"
    return "front" if x > max(along) else "rear"


def _springs(facts: JobFacts) -> Iterator[Sprung]:
    if facts.sheet is None:
        return
    known = {point.code for point in facts.sheet.points}
    watched: dict[str, Watched] = {}
    for event in facts.pull_events:
        watched |= {point.code: point for point in event.watched}
        for cycle in event.cycles:
            own = watched.get(cycle.code)
            if own is None or cycle.loaded_mm is None or cycle.code not in known:
                continue
            expected = own.return_mm / own.learned
            if expected >= _LEAST_EXPECTED_MM:
                yield Sprung(
                    place=place_of(facts.sheet, cycle.code),
                    code=cycle.code,
                    pull=event.pull,
                    expected_mm=expected,
                    gave_mm=max(0.0, cycle.loaded_mm - cycle.after_mm),
                )


def _points(facts: JobFacts) -> Iterator[WentPoint]:
    setup = current_setup(facts)
    if facts.sheet is None or setup is None:
        return
    first, last = first_picture(facts, facts.sheet), picture_of(facts, setup, facts.sheet).judged
    for point in facts.sheet.points:
        before, after = first.get(point.code), last.get(point.code)
        if before is not None and after is not None and before.deviation and after.deviation:
            yield WentPoint(
                code=point.code, first_mm=_far(before), first=before.state, last_mm=_far(after), last=after.state
            )


def _far(judged: PointJudgement) -> float:
    return math.hypot(*judged.deviation) if judged.deviation else 0.0


def _hours(facts: JobFacts) -> Iterator[WentHours]:
    usual = {operation.name: operation.hours for operation in operations_of(facts)}
    for row in job_work(facts).rows:
        if row.worked_h or row.all_sold_h:
            yield WentHours(
                name=row.name,
                kind="part" if row.part is not None else kind_of(row.name, row.why),
                usual_h=usual.get(row.name, 0.0) if row.part is None else row.hours,
                sold_h=row.all_sold_h,
                worked_h=row.worked_h or 0.0,
            )


def _between(start: str, end: str) -> float:
    took = datetime.datetime.fromisoformat(end) - datetime.datetime.fromisoformat(start)
    return max(0.0, took.total_seconds() / 3600)


class Learned(NamedTuple):
    """What the past says of the next: a mean, how sure it is (one sigma), and of how many jobs it is."""

    mean: float
    sigma: float
    jobs: int


class Past:
    """The shop's own past: how its released jobs went, and what that says of the next."""

    def __init__(self, jobs: Iterable[JobWent] = ()) -> None:
        self.jobs = tuple(jobs)
        self._shares: dict[tuple[str, str], list[float]] = {}
        self._hours: dict[str, list[float]] = {}
        for job in self.jobs:
            for place in PLACES:
                share = share_of([spring for spring in job.springs if spring.place == place])
                if share is not None:
                    self._shares.setdefault((job.construction, place), []).append(share)
            for kind in {row.kind for row in job.hours}:
                own = [row for row in job.hours if row.kind == kind and row.worked_h > 0 and row.usual_h > 0]
                if own:
                    times = sum(row.worked_h for row in own) / sum(row.usual_h for row in own)
                    self._hours.setdefault(kind, []).append(times)

    def shares(self, construction: str, place: str) -> tuple[float, ...]:
        """Return, job by job, what came back as a share of what the frame said."""
        return tuple(self._shares.get((construction, place), ()))

    def relaxed(self, construction: str) -> Relaxed:
        """Return what share of residual moments driving relaxed in this shop's jobs of a construction; the prior without any."""
        own = [point for job in self.jobs if job.construction == construction for point in job.settled]
        return fitted_share((point.would_mm, point.did_mm) for point in own)

    def times(self, kind: str) -> tuple[float, ...]:
        """Return, job by job, how many times the usual hours a kind of operation took."""
        return tuple(self._hours.get(kind, ()))

    @property
    def hour_times(self) -> dict[str, Times]:
        """What the past says of the hours of each kind of operation."""
        times = {kind: self.hours(kind) for kind in self._hours}
        return {kind: Times(own.mean, own.jobs) for kind, own in times.items() if own is not None}

    def share(self, construction: str, place: str) -> Learned | None:
        """Return what the next vehicle of a construction gives back there, as a share of what its frame says; None: no past."""
        learned = self.shares(construction, place)
        if not learned:
            return None
        return _next_of([value - 1.0 for value in learned], _SHARE_SIGMA, _JOB_SHARE_SIGMA, lambda value: 1.0 + value)

    def hours(self, kind: str) -> Learned | None:
        """Return how many times the usual hours the next of a kind takes, with the sigma of its logarithm; None: no past."""
        learned = self.times(kind)
        if not learned:
            return None
        return _next_of([math.log(value) for value in learned], _HOURS_SIGMA, _JOB_HOURS_SIGMA, math.exp)


def share_of(springs: Sequence[Sprung]) -> float | None:
    """Return what came back in all as a share of what was expected; None where nothing was."""
    expected = sum(spring.expected_mm for spring in springs)
    return sum(spring.gave_mm for spring in springs) / expected if expected else None


def _next_of(values: Sequence[float], first: float, least: float, back: Callable[[float], float]) -> Learned:
    """Return the next value, by normals: 0 ± `first` before anything is known, each job scattered by `least` at least."""
    n = len(values)
    scatter = max(least, statistics.stdev(values) if n > 1 else 0.0)
    precision = first**-2 + n / scatter**2
    mean = (sum(values) / scatter**2) / precision
    return Learned(back(mean), min(math.sqrt(1 / precision + scatter**2), math.hypot(first, least)), n)
