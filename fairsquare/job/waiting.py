"""What a job waits for at this moment: what people noted, the payer's answers that are out, and clocks that have to run out."""

import datetime
from typing import NamedTuple

from fairsquare.job.facts.hours import WaitKind
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.intake.supplements import line_states
from fairsquare.job.stations import ORDER

WAIT_KINDS: dict[WaitKind, str] = {
    "part": "a part",
    "approval": "the payer's approval",
    "refrigerant": "refrigerant recovery",
    "mechanic": "the mechanic",
    "foam": "foam or adhesive that sets",
    "paint": "paint",
    "other": "something else",
}


class Waiting(NamedTuple):
    """One thing that is waited for. `wait` is its id where a person noted it; `due_at` is empty where nobody knows."""

    kind: WaitKind
    words: str
    asked_of: str
    due_at: str
    station: str
    since: str
    wait: int | None = None

    def holds_up(self, station: str) -> bool:
        """Say whether work at a station has to wait for it."""
        return not self.station or ORDER.index(station) >= ORDER.index(self.station)

    def overdue(self, now: str) -> bool:
        """Say whether it was due before now."""
        return bool(self.due_at) and self.due_at < now


def waiting(facts: JobFacts) -> tuple[Waiting, ...]:
    """Return what a job waits for, what is due first coming first, and what nobody knows of last."""
    noted = [
        Waiting(wait.kind, wait.words, wait.asked_of, wait.due_at, wait.station, wait.by.at, wait.id)
        for wait in facts.waits
        if wait.over is None
    ]
    all_waits = [*noted, *_clocks(facts), *_approvals(facts)]
    return tuple(sorted(all_waits, key=lambda wait: (wait.due_at or "9999", wait.since)))


def _clocks(facts: JobFacts) -> list[Waiting]:
    """Return what sets, cures or dries: bonding and welding rest until it has."""
    kinds: dict[str, WaitKind] = {"cure": "foam", "stop": "paint"}
    return [
        Waiting(
            kinds[clock.kind],
            clock.label,
            "",
            _later(clock.by.at, clock.minutes),
            "weld" if clock.kind == "cure" else "",
            clock.by.at,
        )
        for clock in facts.clocks
        if clock.ended is None and clock.kind in kinds
    ]


def _approvals(facts: JobFacts) -> list[Waiting]:
    """Return the lines that were sent and not answered, as one: measuring and deciding go on meanwhile, the repair does not.

    Nobody knows when a payer answers: that its link ends some day says nothing of it.
    """
    out = [state for state in line_states(facts) if state.status == "sent" and state.blocks and state.supplement]
    if not out:
        return []
    first = out[0].supplement
    assert first is not None
    words = out[0].line.words if len(out) == 1 else f"{len(out)} lines of a supplement"
    return [Waiting("approval", words, first.payer, "", "pulls", first.by.at)]


def _later(moment: str, minutes: float) -> str:
    then = datetime.datetime.fromisoformat(moment) + datetime.timedelta(minutes=minutes)
    return then.strftime("%Y-%m-%dT%H:%M:%S.%fZ")
