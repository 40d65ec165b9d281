"""The datum sheet: typed in or imported, previewed line by line, accepted as a version, drawn, exported, spans."""

from typing import cast
from urllib.parse import quote

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import MM_PER, Unit, read_length
from fairsquare.core.sheet.check import CheckSheet, Finding, check_sheet
from fairsquare.core.sheet.differences import differences
from fairsquare.core.sheet.model import Construction, find_point, points_by_code
from fairsquare.core.sheet.spans import SheetSpans, SpanBothWays, sheet_spans
from fairsquare.core.sheet.table import ReadTable, SheetDraft, read_table, with_suggestion
from fairsquare.drawings.structure import ends, plan_and_sides
from fairsquare.files import sheets as files
from fairsquare.store import sheets as store
from fairsquare.store.database import Connection
from fairsquare.store.kept import Kept
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures
from fairsquare.web.page import Form, desk_of, drawn_once, go_to, job_path, render, sent_form, signed_in, units_of
from fairsquare.web.room import drawing_px
from fairsquare.web.sending import download
from fairsquare.web.words import CONSTRUCTIONS

router = APIRouter()
EXAMPLE = "code,length,width,height,tolerance,reference\n"
_TYPES = {
    "csv": "text/csv; charset=utf-8",
    "json": "application/json",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}


@router.get("/jobs/{number}/sheet")
def show(
    request: Request,
    number: str,
    version: int | None = None,
    a: str = "",
    b: str = "",
    edit: bool = False,
    session: Session = Depends(signed_in),
) -> Response:
    """Show the sheet in force or an older version, drawn, with the span of two points where they are named."""
    view = desk_of(request).view(number)
    stored, versions = _stored(request, view, version)
    if version is not None and stored is None:
        raise Refused(f"There is no version {version} of this sheet.", field="version", value=version)
    if edit or stored is None:
        text = files.sheet_as_csv(stored.sheet, stored.said) if stored else ""
        return _editor(request, session, view, text, "mm", name="")
    fault, span = None, None
    if a.strip() and b.strip():
        try:
            span = _span(stored, a, b)
        except FairSquareError as wrong:
            fault = wrong
    before, _ = _stored(request, view, stored.version - 1) if stored.version > 1 else (None, [])
    link = f"/jobs/{number}/sheet?b={quote(b[:40], safe='')}&a="
    of_sheet, room = (view.job.id, stored.version, link), drawing_px(request)
    kept: Kept[tuple[Finding, ...]] = request.app.state.findings
    findings = kept.get(of_sheet[:2], lambda: check_sheet(CheckSheet(sheet=stored.sheet)).findings)
    return render(
        request,
        "sheet.html",
        session,
        fault=fault,
        typed={"a": a, "b": b},
        view=view,
        spine=spine(view),
        at="sheet",
        stored=stored,
        versions=versions,
        newest=version is None or version == view.facts.sheet_version,
        drawing=drawn_once(
            request,
            ("sheet", room, units_of(request), *of_sheet),
            lambda: plan_and_sides(stored.sheet, {}, link=link, width=room, units=units_of(request)),
        ),
        ends=drawn_once(request, ("ends", room, *of_sheet), lambda: ends(stored.sheet, {}, link=link, width=room)),
        span=span,
        changes=differences(before.sheet, stored.sheet) if before else (),
        findings=findings,
        comparative=any(point.sigma_mm for point in stored.sheet.points),
        worst=max((max(point.sigma_mm) for point in stored.sheet.points if point.sigma_mm), default=0.0),
        as_table=files.sheet_as_csv(stored.sheet, stored.said) if findings else "",
    )


def _lines_again(
    request: Request, session: Session, number: str, *, fault: FairSquareError | None = None, form: Form
) -> Response:
    """Show the lines again that cannot be read; those that were shown as read are read again."""
    view = desk_of(request).view(number)
    return _editor(
        request,
        session,
        view,
        form.text("table"),
        _unit(form),
        fault=fault,
        typed=form.typed(),
        name=form.text("source"),
        read=not request.url.path.endswith("/preview"),
    )


@router.post("/jobs/{number}/sheet/preview")
@shown_again(_lines_again)
def preview(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Show each line as it is understood and each problem beside its line; nothing is stored."""
    view = desk_of(request).view(number)
    text, name = form.text("table"), form.text("source")
    remarks: tuple[str, ...] = ()
    if form.text("fix"):
        text, remarks = _mended(view, text, _unit(form), form.typed())
        typed = {**form.typed(), "table": text}
        return _editor(
            request, form.session, view, text, _unit(form), typed=typed, name=name, remarks=remarks, read=True
        )
    chosen = form.file("file")
    if chosen is not None:
        name = chosen[0].replace("\\", "/").rpartition("/")[2][:120]
        rows, remarks = files.rows_from_file(name, chosen[1])
        text = files.text_from_rows(rows)
    elif not text.strip():
        raise Refused("There is nothing to read: choose a file, or type or paste the lines.", field="table")
    return _editor(
        request, form.session, view, text, _unit(form), typed=form.typed(), name=name, remarks=remarks, read=True
    )


@router.post("/jobs/{number}/sheet")
@shown_again(_lines_again)
def accept(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Accept what the preview showed, as the next version."""
    view = desk_of(request).view(number)
    text, unit = form.text("table"), _unit(form)
    draft = _draft(view, text, unit, form.typed())
    if draft.sheet is None:
        raise Refused(f"{draft.blocking} problems stand in the way: mend the lines that are marked.", field="table")
    seen = form.text("seen_version")
    source = form.text("source") or "typed in"
    desk_of(request).accept_sheet(
        form.session.person,
        form.key,
        number,
        draft.sheet,
        draft.said,
        source,
        figures(seen),
    )
    return go_to(job_path(number, "sheet"))


@router.get("/jobs/{number}/sheet.{kind}", dependencies=[Depends(signed_in)])
def export(request: Request, number: str, kind: str, version: int | None = None) -> Response:
    """Return the sheet as CSV, XLSX or JSON."""
    view = desk_of(request).view(number)
    stored, _ = _stored(request, view, version)
    if stored is None or kind not in _TYPES:
        raise Refused(
            "There is no sheet to export." if stored is None else "Export as csv, xlsx or json.",
            field="kind",
            value=kind[:20],
        )
    body: bytes = {
        "csv": lambda: files.sheet_as_csv(stored.sheet, _in_mm(stored)).encode(),
        "json": lambda: files.sheet_as_json(stored.sheet).encode(),
        "xlsx": lambda: files.sheet_as_xlsx(stored.sheet),
    }[kind]()
    name = f"{view.job.number}-sheet-{stored.version}.{kind}"
    return download(body, _TYPES[kind], name)


def _in_mm(stored: store.StoredSheet) -> store.Said | None:
    """Return the coordinates as typed only where a bare number in mm would read back to them; else the plain figures."""
    for point in stored.sheet.points:
        for text, mm in zip(stored.said.get(point.code, ()), point.xyz, strict=False):
            try:
                if float(read_length(text).mm) != mm:
                    return None
            except FairSquareError:
                return None
    return stored.said


def _stored(
    request: Request, view: JobView, version: int | None
) -> tuple[store.StoredSheet | None, list[dict[str, object]]]:
    def look(connection: Connection) -> tuple[store.StoredSheet | None, list[dict[str, object]]]:
        return store.find_sheet(connection, view.job.id, version), store.sheet_versions(connection, view.job.id)

    return desk_of(request).database.run(look)


def _span(stored: store.StoredSheet, a: str, b: str) -> SpanBothWays:
    points = points_by_code(stored.sheet)
    codes = {code.upper(): code for code in points}
    ends_named = [codes.get(end.strip().upper(), end.strip()) for end in (a, b)]
    for name, end in zip("ab", ends_named, strict=True):
        find_point(points, end, name)
    return sheet_spans(SheetSpans(sheet=stored.sheet, pairs=((ends_named[0], ends_named[1]),))).spans[0]


def _unit(form: Form) -> Unit:
    unit = form.text("unit", "mm")
    return cast(Unit, unit) if unit in MM_PER else "mm"


def _mended(view: JobView, text: str, unit: Unit, typed: dict[str, str]) -> tuple[str, tuple[str, ...]]:
    """Return the lines with one suggestion taken, `fix` = finding.choice, and what was written, in words."""
    asked = _table(view, text, unit, typed)
    fix, _, choice = typed.get("fix", "").partition(".")
    findings, number, which = read_table(asked).findings, figures(fix, 6), figures(choice, 6)
    if number is None or number >= len(findings):
        raise Refused("The lines have changed since: look at what is found now.", field="table", value=text[:80])
    finding = findings[number]
    offered = [finding.suggestion, *(other.suggestion for other in finding.alternatives)]
    taken = offered[which] if which is not None and which < len(offered) else None
    if taken is None or which is None:
        raise Refused("Nothing can be suggested for this one: look at the paper.", field="table", value=text[:80])
    said = (finding.detail, *(other.detail for other in finding.alternatives))[which]
    return files.text_from_rows(with_suggestion(asked, taken)), (f"Written into the lines: {said}",)


def _draft(view: JobView, text: str, unit: Unit, typed: dict[str, str]) -> SheetDraft:
    return read_table(_table(view, text, unit, typed))


def _table(view: JobView, text: str, unit: Unit, typed: dict[str, str]) -> ReadTable:
    limits = {}
    for field, least, words in (("tolerance_mm", 0.0, "above 0"), ("build_sigma_mm", -1.0, "0 or more")):
        said = typed.get(field, "").strip()
        if said:
            value = float(read_length(said, "mm", field=field).mm)
            if not least < value <= 100:
                raise Refused(f"This should be {words} and up to 100 mm.", field=field, value=said)
            limits[field] = value
    construction = typed.get("construction", view.job.details.construction)
    return ReadTable(
        rows=files.rows_from_text(text),
        unit=unit,
        name=(typed.get("name") or view.job.details.vehicle)[:200],
        construction=cast(Construction, construction if construction in CONSTRUCTIONS else "unibody"),
        **limits,
    )


def _by_line(draft: SheetDraft | None) -> dict[int | None, list[tuple[int, Finding]]]:
    """Return what the sheet check found, under the lines it is about."""
    by_line: dict[int | None, list[tuple[int, Finding]]] = {}
    for number, finding in enumerate(draft.findings if draft else ()):
        by_line.setdefault(draft.line_of(finding) if draft else None, []).append((number, finding))
    return by_line


def _editor(
    request: Request,
    session: Session,
    view: JobView,
    text: str,
    unit: Unit,
    *,
    name: str,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    remarks: tuple[str, ...] = (),
    read: bool = False,
) -> Response:
    draft = None
    if read:
        try:
            draft = _draft(view, text, unit, typed or {})
        except FairSquareError as wrong:
            fault = fault or wrong
    changes: tuple[str, ...] = ()
    if draft and draft.sheet and view.facts.sheet:
        changes = differences(view.facts.sheet, draft.sheet) or ("nothing differs",)
    return render(
        request,
        "sheet_editor.html",
        session,
        fault=fault,
        typed={"construction": view.job.details.construction, **(typed or {})},
        view=view,
        spine=spine(view),
        at="sheet",
        table=text or EXAMPLE,
        unit=unit,
        source=name,
        remarks=remarks,
        draft=draft,
        found=_by_line(draft),
        changes=changes,
        constructions=CONSTRUCTIONS,
        drawing=plan_and_sides(draft.sheet, {}, width=drawing_px(request), units=units_of(request))
        if draft and draft.sheet
        else None,
        ends=ends(draft.sheet, {}, width=drawing_px(request)) if draft and draft.sheet else None,
    )
