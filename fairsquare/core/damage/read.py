"""Reading the damage: six modes at each pair, where it begins, what moved together, where the push came from."""

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from fairsquare.core.damage.deviations import Deviations, Floats, deviations_of, series_of
from fairsquare.core.damage.groups import Group, find_groups
from fairsquare.core.damage.onset import Onset, find_onset
from fairsquare.core.measure.adjust import JointCovariance
from fairsquare.core.measure.conformity import JudgePoints, MeasuredPoint, State, judge_points
from fairsquare.core.model import Code, Many, Model, Row3
from fairsquare.core.sheet.model import Point, Sheet, find_point, partner_code, points_by_code

End = Literal["front", "rear"]
ModeName = Literal["mash", "skew", "sway", "spread", "rise", "twist_deg"]
FindingKind = Literal["hit", "fit", "between"]

UNDO_ORDER: tuple[ModeName, ...] = ("twist_deg", "skew", "mash", "rise", "sway", "spread")
"""The order in which modes are undone, which is that in which they happened, backwards. Common practice, no source."""
REAL_SIGMAS, REAL_MM = 2.0, 1.0
"""A mode is real where it is more than this many sigma, and more than this many mm."""
_SHARE_OF_MOST = 0.5
CONTRADICTS_DEG = 60.0
_STRAIGHT_DEG, _LITTLE_DEG = 5.0, 20.0


class Hit(Model):
    """The hit as it was told: where it came from seen from above, 0 front, 90 right, 180 rear, 270 left."""

    from_deg: Annotated[float, Field(ge=-360, le=720)]


class Joint(Model):
    """The covariance of points together, mm², x, y, z of each in the order of `codes`."""

    codes: Many[Code]
    covariance: Many[Many[float]]


class ReadDamage(Model):
    """What was read, against the sheet; `misfits` are points where panels do not fit."""

    sheet: Sheet
    points: dict[Code, MeasuredPoint]
    joint: Joint | None = None
    hit: Hit | None = None
    misfits: Many[Code] = ()


class Mode(Model):
    """One of the six at a pair, mm or degrees; `real` where it is more than uncertainty and a millimetre."""

    value: float
    sigma: float
    real: bool


class Pair(Model):
    """Left and right point of a station, at `x` on the sheet."""

    left: str
    right: str
    x: float
    end: End
    modes: dict[ModeName, Mode]


class Push(Model):
    """The mean way in which the points that moved most have gone, and from where that was pushed."""

    vector: Row3
    points: tuple[str, ...]
    from_deg: float
    above_deg: float
    words: str = ""


class EndRead(Model):
    """One end: where its movement begins, the modes to undo in their order, the push, and how far its farthest point moved."""

    onset: Onset | None
    order: tuple[ModeName, ...]
    push: Push | None
    most_mm: float


class Contradiction(Model):
    """Something to be settled before anything is decided: by a reading, or by a person with a reason; in words, and the values
    that they are made of."""

    kind: FindingKind
    points: tuple[str, ...]
    detail: str = ""
    values: dict[str, float | str] = Field(default_factory=dict)


class DamageRead(Model):
    """What happened to the structure, as far as it was read."""

    middle_mm: float
    pairs: tuple[Pair, ...]
    ends: dict[End, EndRead]
    groups: tuple[Group, ...]
    findings: tuple[Contradiction, ...]


def read_damage(request: ReadDamage) -> DamageRead:
    """Read the damage from the points as they were found. Raises `Refused` or `UnknownCode` for what cannot be on this sheet."""
    known = points_by_code(request.sheet)
    for index, code in enumerate(request.misfits):
        find_point(known, code, f"misfits.{index}")
    joint = JointCovariance(**dict(request.joint)) if request.joint else None
    deviations, measured = deviations_of(request.sheet, request.points, joint)
    references = [point.xyz[0] for point in request.sheet.points if point.reference]
    middle = float(np.mean(references)) if references else 0.0
    pairs = tuple(_pairs(deviations, middle))
    front = deviations.places[:, 0] >= middle
    ends: dict[End, EndRead] = {
        "front": _end(deviations, np.flatnonzero(front), "front", middle, pairs),
        "rear": _end(deviations, np.flatnonzero(~front), "rear", middle, pairs),
    }
    states = {
        code: judgement.state
        for code, judgement in judge_points(JudgePoints(sheet=request.sheet, points=measured)).points.items()
    }
    return DamageRead(
        middle_mm=middle,
        pairs=pairs,
        ends=ends,
        groups=find_groups(deviations),
        findings=(
            *_against_the_hit(request.hit, ends),
            *_against_the_fit(request.misfits, states),
            *_between(deviations.points, states),
        ),
    )


def _pairs(found: Deviations, middle: float) -> Iterator[Pair]:
    """Yield the pairs of which both points are read, in the order of the sheet."""
    rows = {code: row for row, code in enumerate(found.codes)}
    seen: set[str] = set()
    for point in found.points:
        other = rows.get(partner_code(point) or "")
        if other is None or point.code in seen or found.points[other].code in seen:
            continue
        partner = found.points[other]
        if partner.code == point.code or partner.xyz[1] == point.xyz[1]:
            continue
        seen |= {point.code, partner.code}
        left, right = (point, partner) if point.xyz[1] > partner.xyz[1] else (partner, point)
        x = (left.xyz[0] + right.xyz[0]) / 2
        end: End = "front" if x >= middle else "rear"
        yield Pair(
            left=left.code,
            right=right.code,
            x=x,
            end=end,
            modes=_modes(found, rows[left.code], rows[right.code], 1 if end == "front" else -1),
        )


def _modes(found: Deviations, left: int, right: int, ahead: int) -> dict[ModeName, Mode]:
    """Return the six modes of a pair; `ahead` is 1 at the front and −1 at the rear, so that mash is positive where it is short."""
    width = found.points[left].xyz[1] - found.points[right].xyz[1]

    def mode(axis: int, own: float, others: float) -> Mode:
        value = float(own * found.d[left, axis] + others * found.d[right, axis])
        sigma = math.sqrt(found.variance({(left, axis): own, (right, axis): others}))
        return Mode(value=value, sigma=sigma, real=abs(value) > max(REAL_SIGMAS * sigma, REAL_MM))

    higher = mode(2, 1.0, -1.0)
    slope = higher.value / width
    twist = Mode(
        value=math.degrees(math.atan(slope)),
        sigma=math.degrees(higher.sigma / abs(width) / (1 + slope**2)),
        real=higher.real,
    )
    return {
        "mash": mode(0, -ahead / 2, -ahead / 2),
        "skew": mode(0, 1.0, -1.0),
        "sway": mode(1, 0.5, 0.5),
        "spread": mode(1, 1.0, -1.0),
        "rise": mode(2, 0.5, 0.5),
        "twist_deg": twist,
    }


def _end(found: Deviations, rows: np.ndarray, end: End, middle: float, pairs: Sequence[Pair]) -> EndRead:
    own = found.some(rows)
    real = {name for pair in pairs if pair.end == end for name, mode in pair.modes.items() if mode.real}
    onset = find_onset(own, middle, 1 if end == "front" else -1)
    return EndRead(
        onset=onset,
        order=tuple(name for name in UNDO_ORDER if name in real),
        push=_push(own) if onset else None,
        most_mm=float(np.linalg.norm(own.d, axis=1).max(initial=0.0)),
    )


def _push(own: Deviations) -> Push | None:
    """Return the push from the mean deviation of the points that moved at least half as far as the one that moved most."""
    far = np.linalg.norm(own.d, axis=1)
    moved = np.flatnonzero(far >= _SHARE_OF_MOST * far.max())
    mean = own.d[moved].mean(axis=0)
    length = float(np.linalg.norm(mean))
    if length == 0:
        return None
    u: Floats = mean / length
    from_deg = math.degrees(math.atan2(u[1], -u[0])) % 360
    above_deg = math.degrees(math.asin(max(-1.0, min(1.0, -float(u[2])))))
    return Push(
        vector=(float(u[0]), float(u[1]), float(u[2])),
        points=tuple(own.points[row].code for row in moved),
        from_deg=from_deg,
        above_deg=above_deg,
        words=push_words(from_deg, above_deg),
    )


def push_words(from_deg: float, above_deg: float) -> str:
    """Return where a push came from in words: "from the front right, 20° off straight, a little from below"."""
    upright = "above" if above_deg > 0 else "below"
    if abs(above_deg) > 90 - _STRAIGHT_DEG:
        return f"straight from {upright}"
    lengthwise = "front" if math.cos(math.radians(from_deg)) > 0 else "rear"
    side = "right" if math.sin(math.radians(from_deg)) > 0 else "left"
    off = abs((from_deg + 90) % 180 - 90)
    if off <= _STRAIGHT_DEG:
        words = f"from the {lengthwise}"
    elif off >= 90 - _STRAIGHT_DEG:
        words = f"from the {side}"
    else:
        words = f"from the {lengthwise} {side}, {off:.0f}° off straight"
    if abs(above_deg) < _STRAIGHT_DEG:
        return words
    return f"{words}, {'a little ' if abs(above_deg) < _LITTLE_DEG else ''}from {upright}"


def _against_the_hit(hit: Hit | None, ends: Mapping[End, EndRead]) -> Iterator[Contradiction]:
    """Yield a finding where the hit as told and the push of the end that moved most do not agree."""
    worst = max(ends.values(), key=lambda end: end.most_mm)
    if hit is None or worst.push is None:
        return
    apart = abs((hit.from_deg - worst.push.from_deg + 180) % 360 - 180)
    if apart > CONTRADICTS_DEG:
        told = push_words(hit.from_deg % 360, 0.0)
        yield Contradiction(
            kind="hit",
            points=worst.push.points,
            detail=f"Told: {told}. Read: {worst.push.words}. They differ by {apart:.0f}°: was there another hit, or an older one?",
            values={
                "told_deg": hit.from_deg % 360,
                "read_deg": worst.push.from_deg,
                "above_deg": worst.push.above_deg,
                "apart_deg": apart,
            },
        )


def _against_the_fit(misfits: Sequence[str], states: Mapping[str, State]) -> Iterator[Contradiction]:
    for code in dict.fromkeys(misfits):
        if states.get(code) == "fair":
            yield Contradiction(
                kind="fit",
                points=(code,),
                detail=f"{code} reads fair, yet the panels there do not fit. Read it again; look at hinges and the panel itself.",
                values={"code": code},
            )


def _between(points: Sequence[Point], states: Mapping[str, State]) -> Iterator[Contradiction]:
    """Yield the points that are fair though the next ones of their series, ahead and behind, are both off."""
    places = {point.code: point.xyz[0] for point in points}
    for rows in series_of(points).values():
        own = sorted((points[row].code for row in rows), key=lambda code: -places[code])
        for ahead, code, behind in zip(own, own[1:], own[2:], strict=False):
            if (states[ahead], states[code], states[behind]) == ("off", "fair", "off"):
                yield Contradiction(
                    kind="between",
                    points=(code,),
                    detail=f"{code} reads fair between {ahead} and {behind}, which are off. "
                    "Metal does not skip a station: read it again, or look at what is there.",
                    values={"code": code, "ahead": ahead, "behind": behind},
                )
