"""What goes under the car on paper: templates at true size, the cut sheet, the drill map and the putting-in card."""

import hashlib
from concurrent.futures import Future

import segno
from fastapi import APIRouter, Depends, Request, Response
from markupsafe import Markup
from starlette.concurrency import run_in_threadpool

from fairsquare.actions.cutting import drawn_template, template_of
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.cut.section import BEHIND, JOINTS, Behind
from fairsquare.core.cut.template import PAPERS, Paper, Template, blank_template, tiles_of
from fairsquare.core.cut.working import MARKS, putting_in
from fairsquare.core.errors import Refused
from fairsquare.drawings.drill import mark_sign
from fairsquare.drawings.strip import strip_drawing
from fairsquare.drawings.template import tile_svg
from fairsquare.job.cut.job import SectionState
from fairsquare.job.cut_gate import CAUTIONS
from fairsquare.job.facts.cuts import CutMadeFact
from fairsquare.job.intake.parts import part_states
from fairsquare.store.people import Session
from fairsquare.web.drill_maps import bands, cannot, legend
from fairsquare.web.page import desk_of, job_path, reader_of, render, signed_in, templates, units_of
from fairsquare.web.paper import STATIC, Papers, drawn_on_paper, when_made
from fairsquare.web.section_editor import seen_section
from fairsquare.web.sending import download, full_link
from fairsquare.web.times import dated_time, zone_of
from fairsquare.words.lengths import length

router = APIRouter()
_PDF = "application/pdf"


@router.get("/jobs/{number}/cuts/{section}/template.{kind}", dependencies=[Depends(signed_in)])
async def template_file(
    request: Request,
    number: str,
    section: int,
    kind: str,
    layer: str = "",
    whose: str = "vehicle",
    reach: str = "cut",
    paper: str = "A4",
) -> Response:
    """Return a template as SVG or DXF, or as PDF in sheets of paper."""
    _, state = await run_in_threadpool(seen_section, request, number, section)
    template = _template(state, layer, whose, reach)
    return await _file(request, template, kind, f"{number}-{section}-{layer}-{whose}", _paper(paper))


@router.get("/jobs/{number}/cuts/{section}/template")
async def template_paper(
    request: Request,
    number: str,
    section: int,
    layer: str = "",
    whose: str = "vehicle",
    reach: str = "cut",
    paper: str = "A4",
    session: Session = Depends(signed_in),
) -> Response:
    """Have the sheets of a template made, and go to them; many sheets are waited for on a page that can be left."""
    view, state = await run_in_threadpool(seen_section, request, number, section)
    template = _template(state, layer, whose, reach)
    size = _paper(paper)
    query = request.url.query
    base = job_path(number, f"cuts/{section}")
    return await _when_made(
        request, session, view, template, size, f"{base}/template.pdf?{query}", f"{base}/template?{query}", base
    )


@router.get("/jobs/{number}/parts/{part}/template.{kind}", dependencies=[Depends(signed_in)])
async def blank_file(request: Request, number: str, part: int, kind: str, paper: str = "A4") -> Response:
    """Return the template of a part that is made in the shop."""
    view = await run_in_threadpool(desk_of(request).view, number)
    return await _file(request, _blank(view, part), kind, f"{number}-part-{part}", _paper(paper))


@router.get("/jobs/{number}/parts/{part}/template")
async def blank_paper(
    request: Request, number: str, part: int, paper: str = "A4", session: Session = Depends(signed_in)
) -> Response:
    """Have the sheets of a shop-made part's template made, and go to them."""
    view = await run_in_threadpool(desk_of(request).view, number)
    base = job_path(number, f"parts/{part}/template")
    template, size = _blank(view, part), _paper(paper)
    address = f"{base}.pdf?paper={size.name}"
    return await _when_made(
        request, session, view, template, size, address, f"{base}?paper={size.name}", job_path(number, "parts")
    )


@router.get("/jobs/{number}/cuts/{section}/sheet.pdf")
async def cut_sheet(
    request: Request, number: str, section: int, paper: str = "A4", session: Session = Depends(signed_in)
) -> Response:
    """Return the cut sheet, the drill map and the putting-in card as PDF."""
    view, state = await run_in_threadpool(seen_section, request, number, section)
    size = _paper(paper)
    here = full_link(request, job_path(number, f"cuts/{section}"))
    page = await run_in_threadpool(_sheet_page, request, view, state, size, here, session.person.full_name)
    name = hashlib.sha256(page.encode()).hexdigest()
    papers: Papers = request.app.state.papers
    body = await papers.made(session.person.name, lambda: papers.order(name, session.person.name, lambda: page))
    return download(body, _PDF, f"{number}-cuts-{section}.pdf", inline=True)


def _paper(name: str) -> Paper:
    if name not in PAPERS:
        raise Refused(f"Paper is {' or '.join(PAPERS)}.", field="paper", value=name[:20])
    return PAPERS[name]


def _template(state: SectionState, layer: str, whose: str, reach: str) -> Template:
    return template_of(state, layer, "donor" if whose == "donor" else "vehicle", reach)


def _blank(view: JobView, part: int) -> Template:
    part_fact = next((fact for fact in view.facts.parts if fact.id == part), None)
    if part_fact is None or part_fact.blank is None:
        raise Refused("There is no such part made here in this job.", field="part", value=part)
    blank = part_fact.blank
    title = f"{part_fact.name}: {blank.material.replace('_', ' ')}, {blank.thickness_mm:g} mm"
    return blank_template(title, blank.length_mm, blank.width_mm, blank.folds_mm, blank.holes_mm)


async def _file(request: Request, template: Template, kind: str, name: str, paper: Paper) -> Response:
    if kind == "pdf":
        papers: Papers = request.app.state.papers
        made = await papers.made(request.state.person, lambda: _sheets(request, template, paper))
        return download(made, _PDF, f"{name}.pdf", inline=True)
    media, body = await run_in_threadpool(drawn_template, template, kind)
    return download(body, media, f"{name}.{kind}")


def _sheets(request: Request, template: Template, paper: Paper) -> Future[bytes]:
    tiles = tiles_of(template, paper)
    many = max(tile.column for tile in tiles), max(tile.row for tile in tiles)
    name = hashlib.sha256(f"{paper.name} {template!r}".encode()).hexdigest()

    def page() -> str:
        sheets = [tile_svg(template, tile, paper, many) for tile in tiles]
        return templates.get_template("template_print.html").render(sheets=sheets, paper=paper, title=template.title)

    papers: Papers = request.app.state.papers
    return papers.order(name, request.state.person, page)


async def _when_made(
    request: Request,
    session: Session,
    view: JobView,
    template: Template,
    paper: Paper,
    address: str,
    poll: str,
    back: str,
) -> Response:
    many = len(await run_in_threadpool(tiles_of, template, paper))

    def page(failed: BaseException | None) -> Response:
        return render(
            request,
            "paper.html",
            session,
            view=view,
            spine=spine(view),
            at="cuts",
            paper_station="Cut",
            failed=failed,
            paper_of="a template at true size",
            slow_words=f"{many} sheets of {paper.name}: it takes some seconds.",
            poll=poll,
            back=back,
        )

    ordered = await run_in_threadpool(_sheets, request, template, paper)
    return await when_made(request, ordered, address, page)


def _sheet_page(request: Request, view: JobView, state: SectionState, paper: Paper, here: str, printed_by: str) -> str:
    units, zone = units_of(request), zone_of(request)

    def figure(mm: float) -> str:
        return length(mm, units, 1).removesuffix(".0")

    made: tuple[CutMadeFact, ...] = state.cuts
    drawing = strip_drawing(state.strip, state.placed, made, figure, unit=units) if state.strip else None
    part = state.welds.part if state.welds else None
    return templates.get_template("cut_print.html").render(
        style=(STATIC / "cut-print.css").as_uri(),
        paper=paper,
        view=view,
        state=state,
        here=here,
        qr=Markup(segno.make(here, error="m").svg_inline(scale=3, border=2)),  # noqa: S704 - a drawing of the library's
        drawing=drawn_on_paper(drawing) if drawing else None,
        bands=[(flange, drawn_on_paper(band)) for flange, band in bands(state, view.job.number, linked=False)],
        legend=[row._replace(sign=drawn_on_paper(row.sign)) for row in legend(state, units)],
        cannot=cannot(state),
        joints=JOINTS,
        behind=[(thing, thing.words or BEHIND[thing.kind], _near(state, thing)) for thing in state.strip.behind]
        if state.strip
        else [],
        putting_in=putting_in(state.welds) if state.welds else {},
        parts=[part_state for part_state in part_states(view.facts) if part is None or part_state.part.id == part],
        marks=MARKS,
        mark_sign=lambda mark: drawn_on_paper(mark_sign(mark)),
        cautions=CAUTIONS,
        units=units,
        reader=reader_of(request),
        length=lambda mm, digits=1: length(mm, units, digits),
        clock=lambda moment: dated_time(moment, zone),
        printed_by=printed_by,
        revision=view.job.revision,
    )


def _near(state: SectionState, behind: Behind) -> tuple[str, ...]:
    """Return the layers whose cut goes through the stretch in which something lies behind, or stands within a hand of it."""
    judged = state.placed.judged if state.placed else None
    if judged is None:
        return ()
    return tuple(name for name, at in judged.cuts.items() if behind.start - 50.0 <= at <= behind.end + 50.0)
