"""The day plan as a board: a row for each person and each place, time from left to right, a column for each day."""

import datetime
import json
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from markupsafe import Markup, escape

from fairsquare.job.plan.kept import KeptPiece

_NAMES, _WIDE, _ROW, _TOP, _GAP = 132.0, 1052.0, 46.0, 44.0, 10.0
_LETTER = 7.2


class BoardDay(NamedTuple):
    """A day of the board: what it is called, from when until when it is drawn, and the stretches that are worked."""

    title: str
    start: datetime.datetime
    end: datetime.datetime
    stretches: Sequence[tuple[datetime.datetime, datetime.datetime]]


def day_board(
    pieces: Sequence[KeptPiece],
    days: Sequence[BoardDay],
    people: Mapping[str, str],
    places: Mapping[str, int],
    now: datetime.datetime,
    *,
    movable: bool = False,
) -> Markup:
    """Return the board. `people`: names by sign-in; `places`: how many of each there are; other days are not drawn.

    With `movable` what is not being worked on can be taken hold of, in the row of who does it and on the day when it begins; the
    drawing says then where days and people are on it.
    """
    rows: list[tuple[str, str]] = [("person", name) for name in people]
    rows += [
        ("place", f"{place} {k + 1}" if many > 1 else place) for place, many in places.items() for k in range(many)
    ]
    high = _TOP + _ROW * len(rows) + _GAP + 6
    parts = [_days(days, high), *_lines(rows, people)]
    for piece in pieces:
        at = [k for k, (kind, name) in enumerate(rows) if kind == "person" and name in (piece.person, *piece.helpers)]
        for k in at:
            helps = rows[k][0] == "person" and rows[k][1] != piece.person
            parts += _piece(piece, days, _y(k, rows), helps, movable=movable and not helps and not piece.now)
    for name, piece in _there(pieces, places):
        parts += _piece(piece, days, _y(rows.index(("place", name)), rows), helps=False)
    parts.append(_now(days, now, high))
    where = f' data-days="{escape(_days_told(days))}" data-rows="{escape(_rows_told(people))}"' if movable else ""
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="day-board" viewBox="0 0 {_NAMES + _WIDE:.0f} {high:.0f}" role="{"group" if movable else "img"}"{where} '
        f'aria-label="who works on what, and where; the list below says the same in words">{"".join(parts)}</svg>'
    )


def _days_told(days: Sequence[BoardDay]) -> str:
    """Return where each day is drawn, px, and from which minute of it until which, as JSON."""
    return json.dumps(
        [
            {
                "title": day.title,
                "date": day.start.date().isoformat(),
                "left": round(_x(k, days, day.start), 1),
                "right": round(_x(k, days, day.end), 1),
                "from": day.start.hour * 60 + day.start.minute,
                "until": round((day.end - day.start).total_seconds() / 60) + day.start.hour * 60 + day.start.minute,
            }
            for k, day in enumerate(days)
        ]
    )


def _rows_told(people: Mapping[str, str]) -> str:
    """Return where the row of each person is drawn, as JSON."""
    return json.dumps(
        [
            {"name": name, "called": called, "top": _TOP + _ROW * k, "high": _ROW}
            for k, (name, called) in enumerate(people.items())
        ]
    )


def _there(pieces: Sequence[KeptPiece], places: Mapping[str, int]) -> Iterator[tuple[str, KeptPiece]]:
    """Return what stands where: each vehicle from its first to its last piece there, or piece by piece where that clashes."""
    for place, many in places.items():
        own = [piece for piece in pieces if piece.place == place]
        stays: dict[str, KeptPiece] = {}
        for piece in own:
            before = stays.get(piece.job, piece)
            stays[piece.job] = piece.model_copy(
                update={
                    "start": min(before.start, piece.start),
                    "end": max(before.end, piece.end),
                    "what": piece.vehicle,
                    "in_chain": False,
                    "fixed": False,
                    "late_min": 0,
                }
            )
        shown = list(stays.values())
        numbers = _packed([(piece.job, piece.start, piece.end) for piece in shown], many)
        if numbers is None:
            shown = own
            numbers = _packed([(piece.what, piece.start, piece.end) for piece in shown], many) or {}
        for piece in shown:
            number = numbers.get(piece.job if shown is not own else piece.what, 0)
            yield (f"{place} {number + 1}" if many > 1 else place), piece


def _packed(spans: Sequence[tuple[str, str, str]], many: int) -> dict[str, int] | None:
    """Return a number below `many` for each name, so that no two of a number overlap; none where that cannot be."""
    free, packed = [""] * many, {}
    for name, start, end in sorted(spans, key=lambda span: span[1]):
        number = next((k for k in range(many) if free[k] <= start), None)
        if number is None:
            return None
        free[number], packed[name] = end, number
    return packed


def _y(row: int, rows: Sequence[tuple[str, str]]) -> float:
    return _TOP + _ROW * row + (_GAP if rows[row][0] == "place" else 0.0)


def _x(day: int, days: Sequence[BoardDay], moment: datetime.datetime) -> float:
    own, wide = days[day], _WIDE / len(days)
    part = (moment - own.start) / (own.end - own.start)
    return _NAMES + wide * day + (wide - 8) * min(max(part, 0.0), 1.0)


def _days(days: Sequence[BoardDay], high: float) -> str:
    parts = []
    for k, day in enumerate(days):
        left, right = _x(k, days, day.start), _x(k, days, day.end)
        parts.append(f'<text class="d-day" x="{left:.1f}" y="16">{escape(day.title)}</text>')
        for since, until in day.stretches:
            a, b = _x(k, days, since), _x(k, days, until)
            parts.append(
                f'<rect class="d-worked" x="{a:.1f}" y="{_TOP - 8:.0f}" width="{max(b - a, 0):.1f}" height="{high - _TOP:.0f}"/>'
            )
        hours = int((day.end - day.start).total_seconds() // 3600)
        step = 1 if len(days) == 1 else 2 if len(days) <= 3 else 4
        for hour in range(0, hours + 1, step):
            moment = day.start + datetime.timedelta(hours=hour)
            x = _x(k, days, moment)
            if x < right - 24 or hour == 0:
                parts.append(f'<text class="d-hour" x="{x:.1f}" y="32">{moment:%H:%M}</text>')
    return "".join(parts)


def _lines(rows: Sequence[tuple[str, str]], people: Mapping[str, str]) -> Iterator[str]:
    for k, (kind, name) in enumerate(rows):
        y = _y(k, rows)
        yield f'<path class="d-line" d="M0 {y + _ROW - 3:.1f}H{_NAMES + _WIDE:.0f}"/>'
        called = people.get(name, name).split()[0] if kind == "person" else name
        yield f'<text class="d-name {kind}" x="0" y="{y + 26:.1f}">{escape(called)}</text>'


def _piece(
    piece: KeptPiece, days: Sequence[BoardDay], y: float, helps: bool, *, movable: bool = False
) -> Iterator[str]:
    start, end = (datetime.datetime.fromisoformat(moment) for moment in (piece.start, piece.end))
    look = " ".join(
        word
        for word, on in (
            ("helps", helps),
            ("chain", piece.in_chain),
            ("late", piece.late_min > 0),
            ("now", piece.now),
            ("fixed", piece.fixed),
        )
        if on
    )
    for k, day in enumerate(days):
        if end <= day.start or start >= day.end:
            continue
        left, right = _x(k, days, start), _x(k, days, end)
        wide = max(right - left - 1.5, 2.0)
        words = (
            f"{piece.job}: {piece.what}"
            + (", helping" if helps else "")
            + (f", {piece.late_min} min late" if piece.late_min else "")
        )
        parts = [f'<rect x="{left:.1f}" y="{y + 2:.1f}" width="{wide:.1f}" height="{_ROW - 9:.0f}"/>']
        if piece.fixed:
            parts.append(f'<path class="d-pin" d="M{left + 2:.1f} {y + 4:.1f}h9v9h-9z"/>')
        lines = (piece.job.removeprefix("SL-"), "helps" if helps else piece.what)
        for line, text in enumerate(lines):
            if fits := _fitting(text, wide - (16 if piece.fixed and not line else 6)):
                x = left + (14 if piece.fixed and not line else 4)
                letters = "what" if line else "job"
                parts.append(
                    f'<text class="d-{letters}" x="{x:.1f}" y="{y + 17 + 15 * line:.1f}">{escape(fits)}</text>'
                )
        hold = ""
        if movable and day.start <= start < day.end:
            label = escape(f"{words}. Drag it, or move it with the arrow keys")
            hold = (
                f' tabindex="0" role="button" aria-label="{label}" data-job="{escape(piece.job)}" data-what="{escape(piece.what)}"'
                f' data-person="{escape(piece.person)}" data-left="{left:.1f}"'
            )
        yield f'<g class="d-piece {look}"{hold}><title>{escape(words)}</title>{"".join(parts)}</g>'


def _fitting(text: str, wide: float) -> str:
    letters = int(wide / _LETTER)
    if len(text) <= letters:
        return text
    return text[: letters - 1].rstrip() + "…" if letters > 3 else ""


def _now(days: Sequence[BoardDay], now: datetime.datetime, high: float) -> str:
    for k, day in enumerate(days):
        if day.start <= now <= day.end:
            x = _x(k, days, now)
            return f'<path class="d-now" d="M{x:.1f} {_TOP - 8:.0f}V{high:.0f}"/>'
    return ""
