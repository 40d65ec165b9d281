"""The damage of a job: read from its facts as they were before the first pull, with left and right members told apart."""

import re
from collections.abc import Sequence
from functools import lru_cache

from fairsquare.core.damage.deviations import side_of
from fairsquare.core.damage.read import Contradiction, DamageRead, Hit, Joint, ReadDamage, read_damage
from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.adjust import adjust_network
from fairsquare.core.measure.conformity import MeasuredPoint
from fairsquare.core.pull.job import UNDER_LOAD
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.setup import MovementFact
from fairsquare.job.facts.walk_round import WalkFact
from fairsquare.job.measure.picture import Picture, current_setup, free_readings, network_of, picture_of
from fairsquare.job.moves import REFIT_NEEDED, RESHAPES

UNEVEN_MM = 2.0
"""A gap that differs by more than this from left to right is a place where panels do not fit. Common practice, no source."""
_SIDES = {1: "left ", -1: "right ", 0: ""}


def unit_of(point: Point) -> str | None:
    """Return the member that a point belongs to, with its side: “right front rail”; null where the sheet names none.

    A member that is called by its side already keeps its name: “left rail” does not become “left left rail”.
    """
    if point.member is None:
        return None
    named = side_said(point.member) is not None
    return point.member if named else f"{_SIDES[side_of(point)]}{point.member}"


def side_said(words: str) -> str | None:
    """Return the side that words name, `left` or `right`; null where they name none, or both."""
    sides = {side for side in ("left", "right") if re.search(rf"\b{side}\b", words, re.I)}
    return sides.pop() if len(sides) == 1 else None


def units_of(sheet: Sheet) -> dict[str, tuple[Point, ...]]:
    """Return the points of each member and side, in the order of the sheet."""
    units: dict[str, tuple[Point, ...]] = {}
    for point in sheet.points:
        unit = unit_of(point)
        if unit is not None:
            units[unit] = (*units.get(unit, ()), point)
    return units


def before_pulls(facts: JobFacts) -> JobFacts:
    """Return the facts as they were before the structure was first moved, which is what the damage is read from."""
    first = min((move.by.at for move in facts.movements if _reshapes(facts, move)), default=None)
    if first is None:
        return facts
    setups = [
        setup.model_copy(update={"voided": None}) if setup.voided and setup.voided.by.at >= first else setup
        for setup in facts.setups
        if setup.opened.at < first
    ]
    readings = [
        reading.model_copy(update={"stale": False}) if reading.stale else reading
        for reading in facts.readings
        if reading.by.at < first
    ]
    moves = tuple(move for move in facts.movements if move.by.at < first)
    return facts.model_copy(update={"setups": tuple(setups), "readings": tuple(readings), "movements": moves})


def _reshapes(facts: JobFacts, move: MovementFact) -> bool:
    """Say whether a move changes the shape that damage is read from: by its kind, or because it came while chains were tight."""
    if move.what in RESHAPES:
        return True
    before = [event for event in facts.pull_events if event.by.at <= move.by.at]
    return move.what in REFIT_NEEDED and bool(before) and before[-1].state in UNDER_LOAD


def damage_picture(facts: JobFacts) -> Picture | None:
    """Return the picture that the damage is read from; null where nothing is measured yet."""
    return _found(Same(facts))[0]


def damage_of(facts: JobFacts) -> DamageRead | None:
    """Read the damage of a job; null where nothing is measured yet."""
    return _found(Same(facts))[1]


@lru_cache(maxsize=64)
def _found(held: Same[JobFacts]) -> tuple[Picture | None, DamageRead | None]:
    facts = before_pulls(held.held)
    setup = current_setup(facts)
    if facts.sheet is None or setup is None:
        return None, None
    picture = picture_of(facts, setup, facts.sheet)
    if picture.joined is None:
        return None, None
    told_apart = tuple(point.model_copy(update={"member": unit_of(point)}) for point in facts.sheet.points)
    read = read_damage(
        ReadDamage(
            sheet=facts.sheet.model_copy(update={"points": told_apart}),
            points={
                code: MeasuredPoint(xyz=at.xyz, covariance=at.covariance, determined=at.determined)
                for code, at in picture.placed.items()
            },
            joint=_joint(facts, picture),
            hit=None if facts.hit_from_deg is None else Hit(from_deg=facts.hit_from_deg),
            misfits=misfits(facts, facts.sheet),
        )
    )
    return picture, read


def _joint(facts: JobFacts, picture: Picture) -> Joint | None:
    """Return the covariance of all placed points together: errors of one set-up go together in a difference of two points."""
    if facts.sheet is None or picture.joined is None:
        return None
    free = free_readings(facts, picture.setup, facts.sheet, picture.relied_on)
    request = network_of(facts, picture.setup, facts.sheet, free, picture.relied_on)
    try:
        adjusted = adjust_network(request.model_copy(update={"joint": tuple(picture.placed)})).joint
    except FairSquareError:
        return None
    return Joint(codes=adjusted.codes, covariance=adjusted.covariance) if adjusted else None


def counting_walk(facts: JobFacts) -> tuple[WalkFact, ...]:
    """Return what was seen at the walk-round and not taken back."""
    return tuple(seen for seen in facts.walk if seen.taken_back is None)


def misfits(facts: JobFacts, sheet: Sheet) -> tuple[str, ...]:
    """Return the points at which panels do not fit: as said at the walk-round, or by gaps that differ from left to right."""
    codes = {point.code for point in sheet.points}
    codes_off = [seen.code for seen in counting_walk(facts) if seen.code in codes and does_not_fit(seen)]
    return tuple(dict.fromkeys(code for code in codes_off if code is not None))


def does_not_fit(seen: WalkFact) -> bool:
    """Say whether something seen is a place where panels do not fit."""
    if seen.kind == "misfit":
        return True
    uneven = seen.left_mm is not None and seen.right_mm is not None and abs(seen.left_mm - seen.right_mm) > UNEVEN_MM
    return seen.kind == "gap" and uneven


def key_of(finding: Contradiction) -> str:
    """Return what a contradiction is known by: its kind, and the points that it is about."""
    return f"{finding.kind}:{' '.join(finding.points)}" if finding.kind != "hit" else "hit"


def open_findings(facts: JobFacts, found: Sequence[Contradiction]) -> tuple[Contradiction, ...]:
    """Return the contradictions that nobody has settled."""
    settled = {settlement.finding for settlement in facts.settlements}
    return tuple(finding for finding in found if key_of(finding) not in settled)
