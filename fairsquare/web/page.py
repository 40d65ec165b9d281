"""What every page needs: who is signed in, the form that was sent, units and mode, and the templates."""

import hmac
import secrets
from collections.abc import Callable, Hashable, Sequence
from pathlib import Path
from typing import IO, Any, NamedTuple, cast
from urllib.parse import quote

from fastapi import Depends, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from fastapi.templating import Jinja2Templates
from jinja2 import pass_context
from jinja2.runtime import Context
from markupsafe import Markup
from starlette.datastructures import FormData, UploadFile

from fairsquare import __version__
from fairsquare.actions import Desk, JobView
from fairsquare.actions.practice import is_practice
from fairsquare.actions.rights import may
from fairsquare.core.cut.section import StripSaid
from fairsquare.core.damage.read import Contradiction, push_words
from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.calibration import Standing, check_said, standings
from fairsquare.core.measure.setup import Warned
from fairsquare.core.said import Said, say
from fairsquare.drawings.sign import sign
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.tools import ShopTool
from fairsquare.job.measure.trusted_tools import read_at, tools_behind
from fairsquare.job.pull.slip import voided_last
from fairsquare.job.release.record import tools_in_record
from fairsquare.job.release.summed import readings_summed
from fairsquare.settings import Settings
from fairsquare.store.kept import Kept
from fairsquare.store.people import Session
from fairsquare.web.at_the_door import SignInFirst, cookie_of, find_session
from fairsquare.web.room import window_px
from fairsquare.web.times import dated_time, shop_of, shown_time, zone_of
from fairsquare.web.words import agree_words
from fairsquare.words import lengths as shown
from fairsquare.words.holds import title as hold_title
from fairsquare.words.lengths import Units
from fairsquare.words.moves import moved_words
from fairsquare.words.said import METRIC, Reader
from fairsquare.words.tell import fault_told, tell

MOST_FIELDS = 12_000
templates = Jinja2Templates(directory=Path(__file__).parent / "templates")
templates.env.lstrip_blocks = True
STYLES = (
    "tokens",
    "house",
    "measuring",
    "floor",
    "taking-in",
    "record",
    "readings",
    "damage",
    "pulls",
    "cuts",
    "finishing",
    "hours",
    "touch",
)
"""The style sheets in `static/style`, in their order: what comes later has the last word. Tokens come first."""


class StaleForm(FairSquareError):
    """The form's token is not the session's: it was sent from elsewhere, or the person signed in again since."""

    status = 403
    kind = "stale-form"

    def __init__(self) -> None:
        super().__init__(
            "This page was opened before you signed in again. Go back, load it anew, and send it once more."
        )


class Form(NamedTuple):
    """A form that a signed-in person sent."""

    session: Session
    data: FormData

    def text(self, name: str, default: str = "") -> str:
        """Return a field as it was typed."""
        value = self.data.get(name, default)
        return value if isinstance(value, str) else default

    def several(self, name: str) -> tuple[str, ...]:
        """Return all values of a field that may be sent more than once."""
        return tuple(value for value in self.data.getlist(name) if isinstance(value, str))

    def file(self, name: str) -> tuple[str, bytes] | None:
        """Return the name and content of a file that was chosen."""
        value = self.data.get(name)
        if not isinstance(value, UploadFile) or not value.filename:
            return None
        return value.filename, value.file.read()

    def open_file(self, name: str) -> IO[bytes] | None:
        """Return a file that was chosen, as it lies on the disk: what is large is never held whole."""
        value = self.data.get(name)
        return value.file if isinstance(value, UploadFile) and value.filename else None

    @property
    def key(self) -> str:
        """The request key that the page made for this form."""
        return self.text("request_key") or secrets.token_urlsafe(18)

    def typed(self) -> dict[str, str]:
        """Return all text fields, to be shown again beside an error."""
        return {name: value for name, value in self.data.items() if isinstance(value, str)}


def desk_of(request: Request) -> Desk:
    """Return the application's desk."""
    return cast(Desk, request.app.state.desk)


def tools_of(request: Request) -> tuple[ShopTool, ...]:
    """Return the shop's tools, looked up once for each request."""
    if not hasattr(request.state, "tools"):
        request.state.tools = desk_of(request).tools()
    return cast("tuple[ShopTool, ...]", request.state.tools)


def address_of(request: Request) -> str:
    """Return the address from which a request came."""
    return request.client.host if request.client else ""


def settings_of(request: Request) -> Settings:
    """Return the application's settings."""
    return cast(Settings, request.app.state.settings)


def session_or_none(request: Request) -> Session | None:
    """Return the session of the page's cookie as it is now, or None when nobody is signed in any more."""
    token = cookie_of(request)
    return find_session(request, token, "page") if token else None


def signed_in(request: Request) -> Session:
    """Return the session that was found at the door. Raises `SignInFirst` where there was none."""
    session: Session | None = getattr(request.state, "session", None)
    if session is None:
        raise SignInFirst
    return session


async def sent_data(request: Request) -> FormData:
    """Return the fields and files of a form as they were sent, whoever sent them."""
    request.state.form = await request.form(max_fields=MOST_FIELDS, max_part_size=4 * 1024 * 1024)
    return cast(FormData, request.state.form)


def sent_form(request: Request, session: Session = Depends(signed_in), data: FormData = Depends(sent_data)) -> Form:
    """Return the form that was sent, once its CSRF token is found to be the session's. Raises `StaleForm`."""
    given = request.headers.get("x-csrf-token") or data.get("csrf")
    if not isinstance(given, str) or not hmac.compare_digest(given.encode(), session.csrf.encode()):
        raise StaleForm
    return Form(session, data)


def units_of(request: Request) -> Units:
    """Return the units in which lengths are shown: as this person chose, else as the shop does."""
    chosen = request.cookies.get("units")
    return chosen if chosen in ("mm", "in") else shop_of(request).units  # type: ignore[return-value]


def reader_of(request: Request) -> Reader:
    """Return for whom sentences are made: the units of this person, the time zone of the shop."""
    return Reader(units_of(request), zone_of(request))


@pass_context
def _told(context: Context, said: Said | str | None) -> str:
    """Return a code as a sentence for the reader of the page."""
    return tell(said, context.get("reader") or METRIC)


@pass_context
def _moment(context: Context, moment: str, seconds: bool = False) -> str:
    """Return a moment in the zone of the reader of the page."""
    return (context.get("reader") or METRIC).at(moment, seconds=seconds)


@pass_context
def _zone_words(context: Context) -> str:
    """Return what the zone of the page's times is called, for a page that leaves the shop."""
    reader: Reader = context.get("reader") or METRIC
    return reader.zone.key.replace("_", " ")


@pass_context
def _in_units(context: Context, sentence: str) -> str:
    """Return a sentence of a calculation, whose lengths are in mm, in the units of the reader of the page."""
    return shown.in_units(sentence, (context.get("reader") or METRIC).units)


@pass_context
def _moved(context: Context, words: str) -> str:
    """Return what was recorded of a move in the units of the reader of the page."""
    return moved_words(words, (context.get("reader") or METRIC).units)


def _warned(found: Warned) -> Said:
    return say(f"fit.{found.kind}", **found.values)


def _contradiction(found: Contradiction) -> Said:
    return say(f"damage.{found.kind}", **found.values)


def _strip_station(strip: StripSaid, mm: float) -> Said:
    return say("strip.station", **strip.station_said(mm))


@pass_context
def _shown(context: Context, value: object) -> object:
    """Return what an expression of a page shows: a code is never shown as it is."""
    return _told(context, value) if isinstance(value, Said) else value


templates.env.filters.update(told=_told, moment=_moment, in_units=_in_units, moved=_moved)
templates.env.finalize = _shown
templates.env.globals.update(
    styles=STYLES,
    hold_title=hold_title,
    strip_station=_strip_station,
    contradiction=_contradiction,
    warned=_warned,
    zone_words=_zone_words,
    check_said=check_said,
    push_words=push_words,
)


def render(
    request: Request,
    template: str,
    session: Session | None = None,
    *,
    status: int = 200,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    **context: Any,
) -> HTMLResponse:
    """Return a page or a part of one, with what all of them need."""
    unit, reader = units_of(request), reader_of(request)

    def new_key() -> str:
        return secrets.token_urlsafe(18)

    everywhere = {
        "session": session,
        "person": session.person if session else None,
        "csrf": session.csrf if session else "",
        "window_px": window_px(request),
        "mode": "shop" if request.cookies.get("mode") == "shop" else "light",
        "workshop": settings_of(request).workshop,
        "here": request.url.path + (f"?{request.url.query}" if request.url.query else ""),
        "reader": reader,
        "fault": fault_told(fault, reader) if fault else None,
        "typed": typed or {},
        "new_key": new_key,
        "may": may,
        "practising": _practised_number(request),
        "version": __version__,
        "clock": lambda moment: dated_time(moment, zone_of(request)),
        "due": lambda moment: shown_time(moment, zone_of(request)),
        **in_units(unit),
    }
    code = fault.status if fault and status == 200 else status
    return templates.TemplateResponse(request, template, {**everywhere, **context}, status_code=code)


def _doubted(view: JobView) -> list[Standing]:
    """Return the tools behind a job's picture that are overdue or bad: what the head of each of its pages says."""
    return [tool for tool in tools_behind(view.facts, view.state.picture) if tool.level in ("overdue", "bad")]


def _tool_of(view: JobView, reading: ReadingFact) -> Standing:
    return standings(view.facts.tools, [(reading.instrument, read_at(reading))])[0]


_ABOUT_TOOLS: dict[str, Any] = {
    "voided_last": voided_last,
    "doubted_tools": _doubted,
    "tools_behind": lambda view, setup_only: tools_behind(view.facts, view.state.picture, setup_only=setup_only),
    "tool_of": _tool_of,
    "tools_in_record": tools_in_record,
    "readings_summed": lambda record: readings_summed(record.readings, record.pull_events),
}
templates.env.globals.update(_ABOUT_TOOLS, agree_words=agree_words)


def _practised_number(request: Request) -> str:
    number = str(request.path_params.get("number", ""))
    return number if is_practice(number) else ""


def in_units(unit: Units) -> dict[str, Any]:
    """Return what templates need to show lengths in the units of the person's choice."""
    return {
        "units": unit,
        "sign": sign,
        "length": lambda mm, digits=1: shown.length(mm, unit, digits),
        "measure": lambda mm, digits=1: shown.measure(mm, unit, digits),
        "fine": lambda mm, digits=2: shown.fine(mm, unit, digits),
        "sheets": lambda plan: shown.sheets(plan.sheets_mm, plan.sheets_said, unit),
        "area": lambda mm2: shown.area(mm2, unit),
        "signed": lambda mm: shown.signed(mm, unit),
        "station": lambda mm: shown.station(mm, unit),
        "size": lambda mm: shown.size(mm, unit),
        "nought": lambda mm: shown.is_nought(mm, unit),
        "largest": _largest,
        "deviation_words": lambda deviation, place: shown.words(deviation, place, unit),
        "judged_words": lambda judged, place: shown.judged(judged, place, unit),
        "short_word": lambda deviation, place, axis: shown.short_word(deviation, place, axis, unit),
    }


def _largest(values: Sequence[float], among: Sequence[bool]) -> float | None:
    """Return the largest of the values that are among those to be shown."""
    return max((value for value, shown_too in zip(values, among, strict=True) if shown_too), default=None)


def drawn_once(request: Request, key: Hashable, make: Callable[[], Markup]) -> Markup:
    """Return a drawing or a table, made once for each `key`, which has to change with whatever it shows."""
    kept: Kept[Markup] = request.app.state.drawn
    return kept.get(key, make)


def part(template: str, **context: Any) -> Markup:
    """Return a part of a page as markup."""
    return Markup(templates.get_template(template).render(context))  # noqa: S704 - rendered with escaping on


def go_to(path: str) -> Response:
    """Send the browser to a page after something was done."""
    return RedirectResponse(path, status_code=303)


def job_path(number: str, page: str) -> str:
    """Return the path of a job's page."""
    return f"/jobs/{quote(number, safe='')}/{page}"


def local_path(path: str) -> str:
    """Return the path when it leads to this application, else the floor."""
    plain = path.startswith("/") and not path.startswith(("//", "/\\")) and path.isprintable()
    return path if plain else "/"
