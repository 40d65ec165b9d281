"""What was pulled on a job, cycle by cycle, as it can be played again."""

from collections.abc import Iterator, Mapping

from fairsquare.core.model import Row3
from fairsquare.core.pull.job import Watched, along, chains_of, set_there
from fairsquare.core.pull.learned import PulledCycle
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.job import JobFacts


def cycles_pulled(facts: JobFacts, sheet: Sheet, setting: Setting, places: Mapping[str, Row3]) -> Iterator[PulledCycle]:
    """Yield every cycle as it was pulled: the forces as read, or as planned where nobody read them. `places`: before any pull.

    From a pull on by what is no longer in the setting nothing is played: where it left the frame is not known then.
    """
    plans = {plan.version: plan.plan for plan in facts.pull_plans}
    watched: dict[str, Watched] = {}
    for event in facts.pull_events:
        watched |= {point.code: point for point in event.watched}
        plan = plans.get(event.plan)
        if not event.cycles or plan is None or event.pull > len(plan.pulls):
            continue
        work = plan.pulls[event.pull - 1]
        measured = all(chain.tower in event.forces and event.forces[chain.tower] > 0 for chain in work.chains)
        if not set_there(setting, work):
            return
        chains = chains_of(setting, work, event.forces if measured else None)
        points = []
        for cycle in event.cycles:
            point_watched = watched.get(cycle.code)
            if point_watched is None or cycle.code not in places:
                continue
            stood = along(point_watched, sheet, places[cycle.code])
            loaded = None if cycle.loaded_mm is None else cycle.loaded_mm - stood
            points.append((cycle.code, point_watched.way, loaded, cycle.after_mm - stood))
        yield PulledCycle(chains, measured, tuple(points), work.ties)
