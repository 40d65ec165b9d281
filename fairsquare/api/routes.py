"""The routes of the API. Sign in for a token, send it as a bearer; every fault is problem JSON (RFC 9457)."""

from typing import Annotated, Any

from fastapi import APIRouter, Body, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from fairsquare.actions import JobView, gaps, measuring, naming
from fairsquare.actions.desk import number_of, of_each
from fairsquare.actions.hearing import USUAL_TOOLS, reading_of, tool_for
from fairsquare.actions.sign_in import asks_second, check_second, check_sign_in, signed_in
from fairsquare.actions.spine import waits
from fairsquare.api.doors import At, By
from fairsquare.api.models import (
    AcceptSheet,
    AnswerSafety,
    ChangeJob,
    Choose,
    DecideReading,
    Floor,
    Given,
    InstrumentOrder,
    JobLine,
    JobShown,
    KeyOnly,
    NamePoints,
    OpenJob,
    OpenSetup,
    ReadGap,
    RecordMove,
    SentReading,
    SignHold,
    SignIn,
    TakeReadings,
    Token,
)
from fairsquare.api.told import NextReading, hold_shown
from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.model import Row3
from fairsquare.core.sheet.check import CheckSheet, check_sheet
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import NewReading
from fairsquare.job.measure.advice import advise
from fairsquare.job.measure.calls import Call, Context, understand_call, understand_point
from fairsquare.job.measure.tools import ShopTool
from fairsquare.store import records, sessions
from fairsquare.store.jobs import Job
from fairsquare.store.measuring import open_orders
from fairsquare.store.people import SignInRefused
from fairsquare.words.tell import tell

router = APIRouter(prefix="/api/v1")


@router.post("/session", tags=["session"])
def sign_in(request: Request, sent: SignIn, desk: At) -> Token:
    """Sign in and get a token."""
    settings = request.app.state.settings
    address = request.client.host if request.client else ""
    person = check_sign_in(desk.database, sent.name, sent.password, address, settings.sign_in_tries)
    if asks_second(desk.database, person):
        if not sent.code:
            raise SignInRefused("This person has a second factor: send its code as well.", field="code")
        check_second(desk.database, person, sent.code, address, settings.sign_in_tries)
    signed_in(person, address)
    name, browser = " ".join(sent.token.split()), request.headers.get("user-agent", "")
    session = desk.database.run(
        lambda c: sessions.open_session(
            c, person, settings.session_hours, "token", name=name, address=address, browser=browser
        )
    )
    return Token(token=session.token, name=person.full_name, role=person.role)


@router.get("/compute", tags=["calculations"])
def calculations() -> list[str]:
    """List the calculations."""
    return list(CATALOGUE)


@router.get("/compute/{name}", tags=["calculations"])
def schemas(name: str) -> dict[str, Any]:
    """Return the JSON Schemas of a calculation's request and result."""
    schemas: dict[str, Any] = _calculation(name).schemas()
    return schemas


@router.post("/compute/{name}", tags=["calculations"])
async def compute(
    name: str,
    request: Request,
    person: By,
    body: Annotated[dict[str, Any], Body(description="the calculation's request")],
) -> Response:
    """Run a calculation; the answer is the same as the command line's, to the last digit."""
    del person, body
    calculation = _calculation(name)
    answer = await run_in_threadpool(calculation.run_json, await request.body())
    return Response(answer, media_type="application/json")


def _line(view: JobView) -> JobLine:
    return JobLine(number=view.job.number, vehicle=view.job.details.vehicle, waits=tell(waits(view).words))


def _broken_line(job: Job) -> JobLine:
    return JobLine(number=job.number, vehicle=job.details.vehicle, waits="cannot be shown: see the log")


@router.get("/jobs", tags=["jobs"])
def floor(
    desk: At,
    person: By,
    q: Annotated[str, Query(max_length=200)] = "",
    page: Annotated[int, Query(ge=1, le=100_000)] = 1,
) -> Floor:
    """List the open jobs, fifty a page."""
    del person
    views, many, unread = desk.views(q, 50, (page - 1) * 50)
    lines, broken = of_each(views, _line, number_of)
    lines += [_broken_line(job) for job in (*unread, *(view.job for view in broken))]
    return Floor(jobs=tuple(lines), many=many)


@router.post("/jobs", tags=["jobs"], status_code=201)
def open_job(sent: OpenJob, desk: At, person: By) -> Given:
    """Take a vehicle in."""
    return Given(number=desk.open_job(person, sent.request_key, sent.details))


@router.get("/jobs/{number}", tags=["jobs"])
def show_job(number: str, desk: At, person: By) -> JobShown:
    """Return a job as it stands: what was taken in, the picture of its set-up, its hold points."""
    del person
    return _shown(desk.view(number))


@router.get("/jobs/{number}/facts", tags=["jobs"])
def show_facts(number: str, desk: At, person: By) -> JobFacts:
    """Return everything recorded of a job."""
    del person
    return desk.view(number).facts


@router.put("/jobs/{number}", tags=["jobs"])
def change_job(number: str, sent: ChangeJob, desk: At, person: By) -> Given:
    """Change what was taken in."""
    desk.change_job(person, sent.request_key, number, sent.details, sent.version)
    return Given(version=sent.version + 1)


@router.post("/jobs/{number}/safety", tags=["jobs"])
def answer_safety(number: str, sent: AnswerSafety, desk: At, person: By) -> Given:
    """Answer one item of the made-safe list."""
    desk.answer_safety(
        person, sent.request_key, number, sent.item, sent.answer, sent.words, sent.done_by, sent.qualification
    )
    return Given()


@router.get("/jobs/{number}/sheet", tags=["sheet"])
def show_sheet(number: str, desk: At, person: By) -> Sheet:
    """Return the sheet in force."""
    del person
    sheet = desk.view(number).facts.sheet
    if sheet is None:
        raise Refused("There is no sheet in this job yet.", field="sheet")
    return sheet


@router.put("/jobs/{number}/sheet", tags=["sheet"])
def accept_sheet(number: str, sent: AcceptSheet, desk: At, person: By) -> Given:
    """Accept a sheet as the next version, and tell what the sheet check finds on it: it is accepted as it was sent."""
    texts: dict[str, tuple[str, str, str]] = {}
    version = desk.accept_sheet(person, sent.request_key, number, sent.sheet, texts, sent.source, sent.seen_version)
    return Given(version=version, findings=check_sheet(CheckSheet(sheet=sent.sheet)).findings)


@router.post("/jobs/{number}/sheet/names", tags=["sheet"])
def name_points(number: str, sent: NamePoints, desk: At, person: By) -> Given:
    """Make points one member, or references, as a new version of the sheet that changes no dimension."""
    version = naming.name_points(
        desk, person, sent.request_key, number, sent.codes, sent.do, sent.member, sent.seen_version
    )
    return Given(version=version)


@router.post("/jobs/{number}/setups", tags=["measuring"], status_code=201)
def open_setup(number: str, sent: OpenSetup, desk: At, person: By) -> Given:
    """Open the next set-up."""
    return Given(
        setup=measuring.open_setup(desk, person, sent.request_key, number, sent.instrument, sent.sigma_mm, sent.kind)
    )


@router.post("/jobs/{number}/setups/{setup}/choice", tags=["measuring"])
def choose(number: str, setup: int, sent: Choose, desk: At, person: By) -> Given:
    """Choose which references to rely on, with a reason."""
    measuring.choose(desk, person, sent.request_key, number, setup, tuple(sent.trusted), sent.reason)
    return Given()


@router.post("/jobs/{number}/readings", tags=["measuring"], status_code=201)
def take_readings(number: str, sent: TakeReadings, desk: At, person: By) -> Given:
    """Record readings in the set-up in force, all or none."""
    tools = desk.tools()
    places = _places(desk.view(number)) if any(reading.call is not None for reading in sent.readings) else {}
    gauges = next((tool.pin_mm for tool in tools if tool.kind == "gauges"), None)
    context = Context(places=places, unit=sent.unit, pin_mm=gauges)
    taken = [_reading(read, index, context, tools, sent.instrument) for index, read in enumerate(sent.readings)]
    return Given(ids=tuple(measuring.take_readings(desk, person, sent.request_key, number, sent.setup, taken)))


@router.post("/jobs/{number}/readings/{reading}/take-back", tags=["measuring"])
def take_back(number: str, reading: int, sent: KeyOnly, desk: At, person: By) -> Given:
    """Take a reading back."""
    measuring.take_back(desk, person, sent.request_key, number, reading)
    return Given()


@router.post("/jobs/{number}/readings/{reading}/decision", tags=["measuring"])
def decide(number: str, reading: int, sent: DecideReading, desk: At, person: By) -> Given:
    """Keep a reading out of the picture, or use it again, with a reason."""
    measuring.decide_on_reading(desk, person, sent.request_key, number, reading, sent.keep_out, sent.reason)
    return Given()


@router.get("/jobs/{number}/next", tags=["measuring"])
def next_reading(number: str, desk: At, person: By) -> NextReading | None:
    """Say which reading would help most, with the tools that the shop owns."""
    del person
    view = desk.view(number)
    if view.state.picture is None or view.facts.sheet is None:
        return None
    advice = advise(view.facts, view.state.picture, view.facts.sheet, desk.tools())
    return NextReading(words=tell(advice.said), **dict(advice)) if advice else None


@router.post("/jobs/{number}/movements", tags=["measuring"], status_code=201)
def record_move(number: str, sent: RecordMove, desk: At, person: By) -> Given:
    """Record that something was moved."""
    measuring.record_move(desk, person, sent.request_key, number, sent.what, sent.words)
    return Given()


@router.post("/jobs/{number}/gaps", tags=["fit"], status_code=201)
def read_gap(number: str, sent: ReadGap, desk: At, person: By) -> Given:
    """Record a gap of the dry fit."""
    gaps.read_gap(
        desk,
        person,
        sent.request_key,
        number,
        sent.place,
        sent.said,
        sent.target,
        sent.tolerance,
        sent.unit,
        sent.stand,
    )
    return Given()


@router.post("/jobs/{number}/holds/{hold}/sign", tags=["holds"])
def sign(number: str, hold: HoldName, sent: SignHold, desk: At, person: By) -> Given:
    """Sign a hold point on the evidence that was seen."""
    desk.sign(person, sent.request_key, number, hold, sent.seen, sent.reason)
    return Given()


@router.post("/jobs/{number}/records", tags=["records"], status_code=201)
def make_record(number: str, sent: KeyOnly, desk: At, person: By) -> Given:
    """Make the record of a job as it stands."""
    return Given(sha256=desk.make_record(person, sent.request_key, number))


@router.get("/records/{sha256}", tags=["records"])
def show_record(sha256: str, desk: At, person: By) -> Response:
    """Return a record, to the byte as it was made."""
    del person
    body = desk.database.run(lambda c: records.find_record(c, sha256))
    return Response(body, media_type="application/json")


@router.get("/instrument/orders", tags=["instrument"])
def orders(desk: At, person: By) -> list[InstrumentOrder]:
    """List what pages ask the instrument to read; a reading that names the order answers it."""
    del person
    return [InstrumentOrder(**order) for order in desk.database.run(open_orders)]


def _calculation(name: str) -> Any:
    if name not in CATALOGUE:
        fault = FairSquareError(
            f"There is no calculation “{name}”: choose one of {', '.join(CATALOGUE)}.", field="name"
        )
        fault.status = 404
        raise fault
    return CATALOGUE[name]


def _places(view: JobView) -> dict[str, Row3]:
    return {point.code: point.xyz for point in view.facts.sheet.points} if view.facts.sheet else {}


def _reading(
    sent: SentReading, index: int, context: Context, tools: tuple[ShopTool, ...], instrument: str | None
) -> NewReading:
    field = f"readings.{index}"
    if sent.call is not None:
        return _called(sent, understand_call(sent.call, context), field, tools)
    if sent.code is None:
        raise Refused("Give a call, or a code and what was read.", field=f"{field}.code", value=None)
    if sent.kind != "point":
        tool = tool_for(sent.kind, tools)
        same = sent.model_dump(exclude={"call", "said", "xyz", "sigma_mm", "code"})
        words = sent.said or _said(sent)
        sigma = sent.sigma_mm or (tool.sigma_mm if tool else None)
        named = instrument or (tool.name if tool else USUAL_TOOLS[sent.kind])
        return NewReading(**same, code=sent.code, xyz=None, said=words, instrument=named, sigma_mm=sigma)
    if (sent.xyz is None) == (sent.said is None):
        raise Refused("Give either xyz in mm, or said in words.", field=f"{field}.xyz", value=None)
    words = sent.said if sent.said is not None else " ; ".join(f"{value!r} mm" for value in sent.xyz or ())
    xyz = sent.xyz or understand_point(f"{sent.code} {words}", [sent.code], context.unit).xyz
    return NewReading(
        purpose=sent.purpose,
        code=sent.code,
        xyz=xyz,
        said=words,
        loaded=sent.loaded,
        instrument=instrument,
        replaces=sent.replaces,
        order=sent.order,
        called_ago_s=sent.called_ago_s,
    )


def _called(sent: SentReading, call: Call, field: str, tools: tuple[ShopTool, ...]) -> NewReading:
    given = sent.model_fields_set - {"call", "purpose", "loaded", "replaces", "order", "called_ago_s"}
    if given:
        raise Refused("A call says it all: leave the other fields out.", field=f"{field}.{min(given)}", value=sent.call)
    return reading_of(
        call,
        sent.call or "",
        tools,
        purpose=sent.purpose,
        loaded=sent.loaded,
        replaces=sent.replaces,
        called_ago_s=sent.called_ago_s,
    ).model_copy(update={"order": sent.order})


def _said(sent: SentReading) -> str:
    """Return a reading that came as numbers as it would be called."""
    ends = " ".join(code for code in (sent.code, sent.b) if code)
    values = {"mm": sent.mm, "pin": sent.pin_mm, "level": sent.level_mm}
    return f"{sent.kind} {ends} " + " ".join(f"{name} {value!r}" for name, value in values.items() if value is not None)


def _shown(view: JobView) -> JobShown:
    return JobShown(
        number=view.job.number,
        version=view.job.version,
        details=view.job.details,
        sheet_version=view.facts.sheet_version,
        setup=view.setup.number if view.setup else None,
        picture=view.state.picture,
        holds=tuple(hold_shown(hold) for hold in view.state.holds),
        waits=tell(waits(view).words),
    )
