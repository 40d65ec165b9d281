"""What comes in from another shop, held against the tables of this house to its last field: no page is broken by it."""

import datetime
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.model import Model
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.intake.walk_round import LINE_ITEMS
from fairsquare.job.stations import HELD_UP

LONGEST_TEXT, LONGEST_NAME, MOST_TEXTS = 8_000, 200, 2_000_000
_TIMES = frozenset({"at", "called_at", "ended_at", "expires_at", "due_at"})
_MAY_BE_EMPTY = frozenset({"due_at"})
_LINES = frozenset("\n\r\t\u00a0\u202f\u2009")
_YEARS = range(2000, 2101)


def foreign_faults(facts: JobFacts) -> Iterator[str]:
    """Yield in words what of a job's facts this house does not know: texts, times, items, stations, and what refers to nothing."""
    yield from _of_texts(facts)
    yield from _of_tables(facts)
    yield from _of_references(facts)


def _of_texts(facts: JobFacts) -> Iterator[str]:
    """Yield what of all that is said cannot be shown, is longer than anything of ours, is no time, or names nobody."""
    for many, (where, text) in enumerate(_texts(facts, "")):
        name = where.rpartition(".")[2]
        if many > MOST_TEXTS:
            yield "it holds more than any job does"
            return
        if len(text) > LONGEST_TEXT:
            yield f"{where} is longer than {LONGEST_TEXT} letters"
        elif not all(letter.isprintable() or letter in _LINES for letter in text):
            yield f"{where} has letters that cannot be shown"
        elif name in _TIMES and not (text == "" and name in _MAY_BE_EMPTY) and not _is_time(text):
            yield f"{where} is no time: {text[:30]}"
        elif where.endswith("by.name") and not 0 < len(text.strip()) <= LONGEST_NAME:
            yield f"{where} names nobody"


def _texts(value: Any, where: str) -> Iterator[tuple[str, str]]:
    """Yield every text in a value with the way to it."""
    if isinstance(value, str):
        yield where, value
    elif isinstance(value, Model):
        for name in type(value).model_fields:
            yield from _texts(getattr(value, name), f"{where}.{name}" if where else name)
    elif isinstance(value, tuple):
        for index, part in enumerate(value):
            yield from _texts(part, f"{where}.{index}")
    elif isinstance(value, dict):
        for key, part in value.items():
            yield f"{where}, a name in it", str(key)
            yield from _texts(part, f"{where}.{str(key)[:40]}")


def _is_time(text: str) -> bool:
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        return False
    return moment.tzinfo is not None and moment.year in _YEARS


def _of_tables(facts: JobFacts) -> Iterator[str]:
    items, line = {item.key for item in SAFETY_ITEMS}, {key for key, _ in LINE_ITEMS}
    yield from (f"safety: there is no item {fact.item[:40]}" for fact in facts.safety if fact.item not in items)
    yield from (f"line: there is no part {fact.item[:40]}" for fact in facts.line if fact.item not in line)
    if facts.sheet is not None and not facts.sheet.points:
        yield "sheet: it has no point"
    for wait in facts.waits:
        if wait.station and wait.station not in HELD_UP:
            yield f"waits: there is no station {wait.station[:40]}"
    for photo in facts.photos:
        if len(photo.sha256) != 64 or not set(photo.sha256) <= set("0123456789abcdef"):
            yield f"photos: {photo.id} has no checksum"


def _of_references(facts: JobFacts) -> Iterator[str]:
    """Yield what is not there though something refers to it, and what is there twice."""
    plans = {plan.version: len(plan.plan.pulls) for plan in facts.pull_plans}
    setups = {setup.number for setup in facts.setups}
    codes = {point.code for point in facts.sheet.points} if facts.sheet else set()
    sections = {section.number for section in facts.sections}
    by: tuple[tuple[str, Iterable[Any], set[Any], Callable[[Any], Any]], ...] = (
        ("readings, set-up", facts.readings, setups | {None}, lambda fact: fact.setup),
        ("movements, set-up", facts.movements, setups | {None}, lambda fact: fact.setup),
        ("decisions, member seen", facts.decisions, _ids(facts.members), lambda fact: fact.seen),
        ("bound, finding", facts.bound, _ids(facts.walk), lambda fact: fact.finding),
        ("answers, supplement", facts.supplement_answers, _ids(facts.supplements), lambda fact: fact.supplement),
        ("answers, line", facts.supplement_answers, _ids(facts.supplement_lines), lambda fact: fact.line),
        ("go-aheads, line", facts.go_aheads, _ids(facts.supplement_lines), lambda fact: fact.line),
        ("items, part", facts.part_items, _ids(facts.parts), lambda fact: fact.part),
        ("spans, part", facts.part_spans, _ids(facts.parts), lambda fact: fact.part),
        ("pulls, plan", facts.pull_events, set(plans), lambda fact: fact.plan),
        ("section said", facts.section_said, sections, lambda fact: fact.section),
        ("ticks, section", facts.weld_ticks, sections, lambda fact: fact.section),
        ("cuts, section", facts.cuts_made, sections, lambda fact: fact.section),
    )
    for name, ones, known, of in by:
        yield from (f"{name}: there is no {str(of(fact))[:40]}" for fact in ones if of(fact) not in known)
    for event in facts.pull_events:
        if not 1 <= event.pull <= plans.get(event.plan, 0):
            yield f"pulls: plan {event.plan} has no pull {event.pull}"
        yield from (f"pulls: there is no point {w.code[:40]}" for w in event.watched if w.code not in codes)
    for span in facts.sheet.spans if facts.sheet else ():
        yield from (f"sheet, spans: there is no point {code[:40]}" for code in (span.a, span.b) if code not in codes)
    for setup in facts.setups:
        for code in setup.choice.trusted if setup.choice else ():
            if code not in codes:
                yield f"set-up {setup.number}: there is no point {code[:40]}"
    for name, ones in (*facts, *facts.further.items()):
        numbers = [fact.id for fact in ones if hasattr(fact, "id")] if isinstance(ones, tuple) else []
        if len(set(numbers)) != len(numbers):
            yield f"{name}: one of them is in it twice"


def _ids(ones: Iterable[Any]) -> set[Any]:
    return {fact.id for fact in ones}
