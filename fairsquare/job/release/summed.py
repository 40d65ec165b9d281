"""Readings that an instrument streamed while chains were tight, summed up for who reads a record: some cycle holds a thousand."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from fairsquare.core.model import Code, Row3
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.pulls import PullEventFact

_FEW = 3
"""So many loaded readings of a point in one cycle are listed one by one: a person called them."""


class Streamed(NamedTuple):
    """The loaded readings of a point in one cycle: how many, when, the first and the last in the instrument's axes, and the largest
    distance of any from the first, mm."""

    cycle: str
    code: Code
    many: int
    since: str
    until: str
    first: Row3
    last: Row3
    span_mm: float


def readings_summed(
    readings: Sequence[ReadingFact], events: Sequence[PullEventFact]
) -> tuple[tuple[ReadingFact, ...], tuple[Streamed, ...]]:
    """Return the readings to be listed one by one, and those streamed under load by cycle and point, oldest first."""
    cycles = _cycles(events)
    lots: dict[tuple[str, Code], list[ReadingFact]] = {}
    for reading in readings:
        name = _cycle_at(cycles, reading.by.at) if reading.loaded and reading.xyz is not None else None
        if name is not None and not (reading.taken_back or reading.kept_out or reading.replaces):
            lots.setdefault((name, reading.code), []).append(reading)
    summed = {key: lot for key, lot in lots.items() if len(lot) > _FEW}
    gone = {reading.id for lot in summed.values() for reading in lot}
    alone = tuple(reading for reading in readings if reading.id not in gone)
    return alone, tuple(_summed(cycle, code, lot) for (cycle, code), lot in summed.items())


def _summed(cycle: str, code: Code, lot: Sequence[ReadingFact]) -> Streamed:
    places = np.array([reading.xyz for reading in lot], dtype=float)
    far = float(np.linalg.norm(places - places[0], axis=1).max())
    first, last = lot[0], lot[-1]
    assert first.xyz is not None and last.xyz is not None
    return Streamed(cycle, code, len(lot), first.by.at, last.by.at, first.xyz, last.xyz, far)


def _cycles(events: Sequence[PullEventFact]) -> list[tuple[str, str]]:
    """Return when each cycle began, and its name: pull and cycle."""
    cycles: list[tuple[str, str]] = []
    cycle = 0
    for event in events:
        if event.state == "cautions":
            cycle = 1 if event.watched else cycle + 1
            cycles.append((event.by.at, f"{event.pull}, {cycle}"))
    return cycles


def _cycle_at(cycles: Sequence[tuple[str, str]], at: str) -> str | None:
    return next((name for since, name in reversed(cycles) if since <= at), None)
