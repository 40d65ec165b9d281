"""Hours that were worked, by operation and by person: two people of one name are two."""

import re
from collections.abc import Sequence

from fairsquare.job.facts.hours import WorkFact

_BEFORE = re.compile("^Goes with ")
"""As an operation was called in jobs that were worked on before."""
Who = tuple[str, int | None]


def by_operation(worked: Sequence[WorkFact]) -> dict[str, dict[str, float]]:
    """Return the hours worked, by operation and by person; a clock that runs counts nothing yet."""
    names, hours_by = _told_apart(worked), dict[str, dict[str, float]]()
    for work in worked:
        if work.hours is not None:
            by, name = hours_by.setdefault(_BEFORE.sub("Off first for ", work.operation), {}), names[_who(work)]
            by[name] = by.get(name, 0.0) + work.hours
    return hours_by


def by_person(worked: Sequence[WorkFact]) -> dict[str, float]:
    """Return the hours worked by each person, the most first; a clock that runs counts nothing yet."""
    names, hours_by = _told_apart(worked), dict[str, float]()
    for work in worked:
        if work.hours is not None:
            name = names[_who(work)]
            hours_by[name] = hours_by.get(name, 0.0) + work.hours
    return dict(sorted(hours_by.items(), key=lambda item: -item[1]))


def _who(fact: WorkFact) -> Who:
    return fact.by.name, fact.person


def _told_apart(worked: Sequence[WorkFact]) -> dict[Who, str]:
    """Return what each person is called: by name, the second of one name with a number."""
    everybody = list(dict.fromkeys(_who(work) for work in worked))
    alike: dict[str, list[Who]] = {}
    for who in everybody:
        alike.setdefault(who[0], []).append(who)
    return {who: name if k == 1 else f"{name} ({k})" for name, of in alike.items() for k, who in enumerate(of, start=1)}
