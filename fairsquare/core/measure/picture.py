"""Today's picture of a structure: the set-up in force, where its readings put each point, and the judgement of each."""

from collections.abc import Iterable

from fairsquare.core.errors import FairSquareError
from fairsquare.core.facts import JobFacts, ReadingFact, SetupFact
from fairsquare.core.measure.conformity import JudgePoints, MeasuredPoint, PointJudgement, judge_points
from fairsquare.core.measure.positions import PlacedPoint, PlaceReadings, place_readings
from fairsquare.core.measure.setup import FitSetup, Reading, SetupFit, fit_setup
from fairsquare.core.model import Model
from fairsquare.core.sheet.model import Sheet


class Picture(Model):
    """What one set-up says. `fit` judges all its references; `placed` relies on the choice where one was made.

    `fault` says in words why there is no fit. `loaded_only` and `stale_only` are points whose only readings were taken
    under load, or before the structure moved.
    """

    setup: SetupFact
    fit: SetupFit | None
    fault: str | None
    relied_on: tuple[str, ...]
    placed: dict[str, PlacedPoint]
    judged: dict[str, PointJudgement]
    loaded_only: tuple[str, ...]
    stale_only: tuple[str, ...]
    used: dict[str, tuple[int, ...]]


def counting(readings: Iterable[ReadingFact]) -> tuple[ReadingFact, ...]:
    """Return the readings that still count: neither taken back nor replaced by one that counts."""
    kept = tuple(reading for reading in readings if reading.taken_back is None)
    replaced = {reading.replaces for reading in kept}
    return tuple(reading for reading in kept if reading.id not in replaced)


def reference_readings(facts: JobFacts, setup: int) -> tuple[ReadingFact, ...]:
    """Return the reference readings that count in a set-up: of each code the last."""
    own = [r for r in counting(facts.readings) if r.setup == setup and r.purpose == "reference"]
    return tuple({reading.code: reading for reading in own}.values())


def current_setup(facts: JobFacts) -> SetupFact | None:
    """Return the set-up in force: the last one, unless it is void."""
    last = facts.setups[-1] if facts.setups else None
    return last if last and last.voided is None else None


def picture_of(facts: JobFacts, setup: SetupFact, sheet: Sheet, *, include_stale: bool = False) -> Picture:
    """Work out what the readings of `setup` say of every point of `sheet`; readings of other codes are left out.

    `include_stale` also takes readings from before the structure moved.
    """
    codes = {point.code for point in sheet.points}
    references = tuple(r for r in reference_readings(facts, setup.number) if r.code in codes)
    own = [r for r in counting(facts.readings) if r.setup == setup.number and r.code in codes]
    reference_ids = {reading.id for reading in references}
    own = [reading for reading in own if reading.purpose == "point" or reading.id in reference_ids]
    free = [r for r in own if not r.loaded and (include_stale or not r.stale)]
    fit, fault = _fit(sheet, references, setup.sigma_mm)
    placed: dict[str, PlacedPoint] = {}
    relied_on: tuple[str, ...] = ()
    if fit and fit.rotation is not None:
        found = place_readings(
            PlaceReadings(
                sheet=sheet,
                references=_plain(references),
                readings=_plain(free),
                sigma_mm=setup.sigma_mm,
                trusted=setup.choice.trusted if _choice_stands(setup, references) and setup.choice else None,
            )
        )
        placed, relied_on = found.points, found.fit.trusted
    judged = judge_points(
        JudgePoints(
            sheet=sheet,
            points={code: MeasuredPoint(xyz=at.xyz, covariance=at.covariance) for code, at in placed.items()},
        )
    )
    free_codes = {reading.code for reading in free}
    late = {r.code for r in own if r.loaded and not r.stale} - free_codes
    old = {r.code for r in own if r.stale} - free_codes - late
    return Picture(
        setup=setup,
        fit=fit,
        fault=fault,
        relied_on=relied_on,
        placed=placed,
        judged=judged.points,
        loaded_only=tuple(sorted(late)),
        stale_only=tuple(sorted(old)),
        used=_ids_by_code(free),
    )


def first_picture(facts: JobFacts, sheet: Sheet) -> dict[str, PointJudgement]:
    """Return each point as it was first found: by the earliest set-up whose free readings place it."""
    found: dict[str, PointJudgement] = {}
    for setup in facts.setups:
        cut = JobFacts(
            **{**dict(facts), "readings": _before_first_move(facts, setup.number), "movements": (), "signatures": ()}
        )
        for code, judged in picture_of(cut, setup, sheet, include_stale=True).judged.items():
            if judged.state != "unread":
                found.setdefault(code, judged)
    return found


def _before_first_move(facts: JobFacts, setup: int) -> tuple[ReadingFact, ...]:
    moves = [move.by.at for move in facts.movements if move.setup == setup and move.what == "structure"]
    first = min(moves, default=None)
    return tuple(r for r in facts.readings if r.setup == setup and (first is None or r.by.at <= first))


def _choice_stands(setup: SetupFact, references: tuple[ReadingFact, ...]) -> bool:
    codes = {reading.code for reading in references}
    return setup.choice is not None and set(setup.choice.trusted) <= codes


def _plain(readings: Iterable[ReadingFact]) -> tuple[Reading, ...]:
    return tuple(Reading(code=reading.code, xyz=reading.xyz) for reading in readings)


def _ids_by_code(readings: Iterable[ReadingFact]) -> dict[str, tuple[int, ...]]:
    used: dict[str, list[int]] = {}
    for reading in sorted(readings, key=lambda r: r.code):
        used.setdefault(reading.code, []).append(reading.id)
    return {code: tuple(ids) for code, ids in used.items()}


def _fit(sheet: Sheet, references: tuple[ReadingFact, ...], sigma_mm: float) -> tuple[SetupFit | None, str | None]:
    try:
        return fit_setup(FitSetup(sheet=sheet, readings=_plain(references), sigma_mm=sigma_mm)), None
    except FairSquareError as fault:
        return None, fault.title
