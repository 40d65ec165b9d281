"""Today's picture of a structure: all free readings of the set-up in force, of every kind, joined; the judgement of each point."""

import math
from collections.abc import Iterable, Sequence
from functools import lru_cache

from pydantic import ValidationError

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.measure.adjust import (
    AdjustedObservation,
    AdjustedPlace,
    AdjustNetwork,
    SightLine,
    adjust_network,
)
from fairsquare.core.measure.conformity import JudgePoints, MeasuredPoint, PointJudgement, judge_points
from fairsquare.core.measure.observations import (
    Axis,
    DifferenceRead,
    GaugeRead,
    HeightRead,
    NetworkSetup,
    Observation,
    OffsetRead,
    PointRead,
    SetupKind,
    SpanRead,
    check_observation,
    codes_of,
    setup_of,
)
from fairsquare.core.measure.setup import FitSetup, Reading, SetupFit, fit_setup
from fairsquare.core.model import Code, Flags, Matrix3, Model, Row3
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet, SpanMode, points_by_code
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import NewReading, Read, ReadingFact, ReadingKind
from fairsquare.job.facts.setup import SetupFact
from fairsquare.job.measure.counted import OwnReadings, own_readings, reference_readings
from fairsquare.job.moves import MOVES, RESHAPES

ARM = "arm"
_BY_SIGHT = frozenset({"height", "offset", "gauge"})
"""The instrument of a set-up, in its network."""


class PlacedPoint(Model):
    """A point in vehicle axes, mm, from `readings` readings; `scatter_mm`: how far apart those of one instrument lie.

    `determined` says which coordinates the readings give to within their tolerance.
    """

    xyz: Row3
    covariance: Matrix3
    determined: Flags
    readings: int
    scatter_mm: float | None


class Doubt(Model):
    """Readings that contradict the others; of a group of more than one it cannot be told which is wrong.

    `readings` are ids, `places` trusted points that do not seem to stand where the sheet puts them. With `aside` the picture
    does without them.
    """

    readings: tuple[int, ...]
    places: tuple[str, ...]
    aside: bool


class Joined(Model):
    """What the network says beside the points: each reading's fit, the sights, doubts, and the misfit of the whole."""

    trusted: tuple[str, ...]
    readings: dict[int, AdjustedObservation]
    places: dict[str, AdjustedPlace]
    sights: dict[str, SightLine]
    doubts: tuple[Doubt, ...]
    distrusted: tuple[str, ...]
    chi2: float
    dof: float
    p: float | None


class Picture(Model):
    """What one set-up says. `fit` judges all references of an instrument; `relied_on` are the points that are trusted.

    `fault` says in words why there is no fit, or no picture. `loaded_only` and `stale_only` are points whose only readings
    were taken under load, or before the structure moved. `used` are the readings of each point that count.
    """

    setup: SetupFact
    fit: SetupFit | None
    fault: str | None
    relied_on: tuple[str, ...]
    joined: Joined | None
    placed: dict[str, PlacedPoint]
    judged: dict[str, PointJudgement]
    loaded_only: tuple[str, ...]
    stale_only: tuple[str, ...]
    used: dict[str, tuple[int, ...]]


def current_setup(facts: JobFacts) -> SetupFact | None:
    """Return the set-up in force: the last one, unless it is void."""
    last = facts.setups[-1] if facts.setups else None
    return last if last and last.voided is None else None


def picture_of(
    facts: JobFacts, setup: SetupFact, sheet: Sheet, *, include_stale: bool = False, join: bool = True
) -> Picture:
    """Work out what the readings of `setup`, and spans that need none, say of every point of `sheet`.

    Readings of codes that are not on the sheet are left out. `include_stale` also takes readings from before the structure
    moved. Without `join` only the set-up itself is judged, and no point. Worked out once for the same facts.
    """
    return _picture_of(Same(facts), Same(setup), Same(sheet), include_stale, join)


@lru_cache(maxsize=32)
def _picture_of(of: Same[JobFacts], by: Same[SetupFact], on: Same[Sheet], include_stale: bool, join: bool) -> Picture:
    facts, setup, sheet = of.held, by.held, on.held
    fit, fault = _fit(sheet, facts, setup) if setup.kind == "instrument" else (None, None)
    trusted = _trusted(facts, setup, fit, sheet)
    own = own_readings(facts, setup, sheet, include_stale=include_stale)
    free = _free(facts, own, trusted, include_stale)
    joined, placed, no_picture = _join(facts, setup, sheet, free, trusted) if free and join else (None, {}, None)
    judged = judge_points(
        JudgePoints(
            sheet=sheet,
            points={
                code: MeasuredPoint.unchecked(
                    xyz=at.xyz, covariance=at.covariance, determined=at.determined, deviation=None, sigma=None
                )
                for code, at in placed.items()
            },
        )
    )
    free_codes, stale = _codes_of(free), _stale_references(facts, own.references, trusted)
    late = own.loaded | _codes_of(r for r in own.references if r.loaded and r.id not in stale)
    old = own.stale | _codes_of(r for r in own.references if r.id in stale)
    return Picture(
        setup=setup,
        fit=fit,
        fault=fault or no_picture,
        relied_on=trusted,
        joined=joined,
        placed=placed,
        judged=judged.points,
        loaded_only=tuple(sorted(late - free_codes)),
        stale_only=tuple(sorted(old - free_codes - late)),
        used=_ids_by_code(free),
    )


def _codes_of(readings: Iterable[ReadingFact]) -> set[Code]:
    return {code for reading in readings for code in reading.codes}


def _stale_references(facts: JobFacts, references: Iterable[ReadingFact], trusted: Sequence[Code]) -> set[int]:
    """Return the readings of references that are too old for a point: those of a structure that moved since, and of those that
    are not relied on all from before it last moved: such a point was found off, may have been pulled since, and is then as old
    as any other."""
    moved_at = max(
        (move.by.at for move in facts.movements if MOVES[move.what].points and not MOVES[move.what].voids), default=""
    )
    return {
        r.id for r in references if r.stale or (r.kind == "point" and r.code not in trusted and r.by.at <= moved_at)
    }


def free_readings(
    facts: JobFacts, setup: SetupFact, sheet: Sheet, trusted: Sequence[Code], *, include_stale: bool = False
) -> tuple[ReadingFact, ...]:
    """Return the readings that a picture of `setup` is made of, oldest first: its own, and spans and differences, which need no
    set-up; none that was taken under load or, but for `include_stale`, before the structure moved."""
    return _free(facts, own_readings(facts, setup, sheet, include_stale=include_stale), trusted, include_stale)


def _free(facts: JobFacts, own: OwnReadings, trusted: Sequence[Code], include_stale: bool) -> tuple[ReadingFact, ...]:
    stale = _stale_references(facts, own.references, trusted)
    references = [r for r in own.references if not r.loaded and (include_stale or r.id not in stale)]
    return tuple(sorted((*own.points, *references), key=lambda r: r.id)) if references else own.points


def first_picture(facts: JobFacts, sheet: Sheet) -> dict[str, PointJudgement]:
    """Return each point as it was first found: by the earliest set-up whose free readings place it."""
    judgements: dict[str, PointJudgement] = {}
    for setup in facts.setups:
        cut = JobFacts(
            **{**dict(facts), "readings": _before_first_move(facts, setup.number), "movements": (), "signatures": ()}
        )
        for code, judged in picture_of(cut, setup, sheet, include_stale=True).judged.items():
            if judged.state != "unread":
                judgements.setdefault(code, judged)
    return judgements


def network_of(
    facts: JobFacts, setup: SetupFact, sheet: Sheet, readings: Sequence[ReadingFact], trusted: Sequence[str]
) -> AdjustNetwork:
    """Return the network of some readings: the instrument of a set-up as `arm`, its sights by their numbers."""
    observations = tuple(
        _observation(r, r.id, sight_of(facts, r) if r.kind in _BY_SIGHT else "", r.sigma_mm or setup.sigma_mm)
        for r in readings
    )
    instrument = any(isinstance(observation, PointRead) for observation in observations)
    sights = sorted({sight_of(facts, r) for r in readings if r.kind in _BY_SIGHT})
    return AdjustNetwork(
        sheet=sheet,
        trusted=tuple(trusted),
        setups=(
            *((NetworkSetup(id=ARM, kind="instrument"),) if instrument else ()),
            *(NetworkSetup(id=name, kind="sight") for name in sights),
        ),
        observations=observations,
    )


def check_reading(facts: JobFacts, sheet: Sheet, reading: NewReading, field: str) -> None:
    """Raise `Refused` that names `field` for a reading that cannot be part of any picture of this sheet."""
    try:
        observation = _observation(reading, 0, sight_now(facts), reading.sigma_mm or 1.0)
    except ValidationError as fault:
        first = fault.errors()[0]
        raise Refused(
            f"{first['loc'][-1]}: {first['msg']}", field=f"{field}.{first['loc'][-1]}", value=str(first["input"])[:80]
        ) from None
    name = setup_of(observation)
    kinds: dict[str, SetupKind] = {name: "instrument" if name == ARM else "sight"} if name else {}
    check_observation(observation, points_by_code(sheet), kinds, field)


def sight_now(facts: JobFacts) -> str:
    """Return the name of the sight that a reading taken now belongs to: it changes when gauges or line are set anew."""
    return f"sight {sum(move.what == 'sight' for move in facts.movements) + 1}"


def sight_of(facts: JobFacts, reading: ReadingFact) -> str:
    """Return the name of the sight that a reading belongs to."""
    return f"sight {sum(m.what == 'sight' and m.by.at <= reading.by.at for m in facts.movements) + 1}"


def _observation(read: Read, number: int, sight: str, sigma: float) -> Observation:
    """Return what was read as an observation of that number; `sight` counts for what is read by one."""
    return _as_observation(
        read.kind,
        number,
        sight if read.kind in _BY_SIGHT else "",
        sigma,
        read.code,
        read.b,
        read.xyz,
        read.mode,
        read.axis,
        read.mm,
        read.pin_mm,
        read.level_mm,
    )


@lru_cache(maxsize=20_000)
def _as_observation(
    kind: ReadingKind,
    number: int,
    sight: str,
    sigma: float,
    code: str,
    b: str | None,
    xyz: Row3 | None,
    mode: SpanMode | None,
    axis: Axis | None,
    mm: float | None,
    pin_mm: float | None,
    level_mm: float | None,
) -> Observation:
    """Return a reading as an observation, made once: every picture of a job is made of the readings of the one before."""
    name, read, other = str(number), mm or 0.0, b or ""
    if kind == "point":
        return PointRead(kind="point", id=name, setup=ARM, code=code, sigma=sigma, xyz=xyz or (0.0, 0.0, 0.0))
    if kind == "span":
        return SpanRead(kind="span", id=name, a=code, b=other, mode=mode or "point_to_point", sigma=sigma, mm=read)
    if kind == "difference":
        return DifferenceRead(kind="difference", id=name, a=code, b=other, axis=axis or "length", sigma=sigma, mm=read)
    if kind == "height":
        return HeightRead(kind="height", id=name, setup=sight, code=code, sigma=sigma, mm=read)
    if kind == "offset":
        return OffsetRead(kind="offset", id=name, setup=sight, code=code, sigma=sigma, mm=read)
    return GaugeRead(kind="gauge", id=name, setup=sight, a=code, b=other, sigma=sigma, pin_mm=pin_mm, level_mm=level_mm)


def _join(
    facts: JobFacts, setup: SetupFact, sheet: Sheet, free: Sequence[ReadingFact], trusted: Sequence[str]
) -> tuple[Joined | None, dict[str, PlacedPoint], str | None]:
    """Solve the network of the free readings; return it, the points it places, and why there is none."""
    if setup.kind == "instrument" and not trusted:
        return None, {}, None
    request = network_of(facts, setup, sheet, free, trusted)
    try:
        adjusted = adjust_network(request)
    except FairSquareError as fault:
        return None, {}, fault.title
    rejected = {int(name) for name in adjusted.rejected}
    touched: dict[str, list[ReadingFact]] = {}
    for reading, observation in zip(free, request.observations, strict=True):
        if reading.id not in rejected:
            for code in codes_of(observation):
                touched.setdefault(code, []).append(reading)
    placed = {
        code: PlacedPoint.unchecked(
            xyz=at.xyz,
            covariance=at.covariance,
            determined=at.determined,
            readings=len(touched.get(code, ())),
            scatter_mm=_scatter(touched.get(code, ())),
        )
        for code, at in adjusted.points.items()
        if any(at.determined)
    }
    joined = Joined(
        trusted=tuple(trusted),
        readings={int(observation.id): observation for observation in adjusted.observations},
        places=adjusted.places,
        sights={name: at for name, at in adjusted.setups.items() if isinstance(at, SightLine)},
        doubts=_doubts(adjusted.rejected, adjusted.distrusted, adjusted.suspects),
        distrusted=adjusted.distrusted,
        chi2=adjusted.chi2,
        dof=adjusted.dof,
        p=adjusted.p,
    )
    return joined, placed, None


def _doubts(rejected: Sequence[str], distrusted: Sequence[str], suspects: Sequence[Sequence[str]]) -> tuple[Doubt, ...]:
    """Return groups of suspects, then what was put aside on its own."""
    aside = {*rejected, *(f"sheet:{code}" for code in distrusted)}
    grouped = {name for group in suspects for name in group}
    alone = [(name,) for name in sorted(aside - grouped, key=lambda name: (name.startswith("sheet:"), name))]
    return tuple(
        Doubt(
            readings=tuple(int(name) for name in group if not name.startswith("sheet:")),
            places=tuple(name.removeprefix("sheet:") for name in group if name.startswith("sheet:")),
            aside=set(group) <= aside,
        )
        for group in [*suspects, *alone]
    )


def _scatter(readings: Sequence[ReadingFact]) -> float | None:
    """Return the largest distance of one instrument reading of a point from their mean, mm; null for fewer than two."""
    read = [reading.xyz for reading in readings if reading.xyz is not None]
    if len(read) < 2:
        return None
    mean = [sum(axis) / len(read) for axis in zip(*read, strict=True)]
    return max(math.dist(place, mean) for place in read)


def _trusted(facts: JobFacts, setup: SetupFact, fit: SetupFit | None, sheet: Sheet) -> tuple[str, ...]:
    """Return the points that a picture rests on: as fitted, or as a person chose where that still stands."""
    if setup.kind == "sight":
        codes = {point.code for point in sheet.points}
        return tuple(code for code in setup.choice.trusted if code in codes) if setup.choice else ()
    if fit is None or fit.rotation is None:
        return ()
    read = {reading.code for reading in reference_readings(facts, setup.number)}
    return setup.choice.trusted if setup.choice and set(setup.choice.trusted) <= read else fit.trusted


def _before_first_move(facts: JobFacts, setup: int) -> tuple[ReadingFact, ...]:
    moves = [move.by.at for move in facts.movements if move.setup == setup and move.what in RESHAPES]
    first = min(moves, default=None)
    return tuple(r for r in facts.readings if r.setup == setup and (first is None or r.by.at <= first))


def _ids_by_code(readings: Iterable[ReadingFact]) -> dict[str, tuple[int, ...]]:
    used: dict[str, list[int]] = {}
    for reading in readings:
        for code in reading.codes:
            used.setdefault(code, []).append(reading.id)
    return {code: tuple(ids) for code, ids in sorted(used.items())}


def _fit(sheet: Sheet, facts: JobFacts, setup: SetupFact) -> tuple[SetupFit | None, str | None]:
    codes = points_by_code(sheet)
    readings = tuple(
        Reading(code=r.code, xyz=r.xyz)
        for r in reference_readings(facts, setup.number)
        if r.kind == "point" and r.xyz is not None and r.code in codes
    )
    return _fitted(Same(sheet), readings, setup.sigma_mm)


@lru_cache(maxsize=256)
def _fitted(sheet: Same[Sheet], readings: tuple[Reading, ...], sigma_mm: float) -> tuple[SetupFit | None, str | None]:
    try:
        return fit_setup(FitSetup(sheet=sheet.held, readings=readings, sigma_mm=sigma_mm)), None
    except FairSquareError as fault:
        return None, fault.title
