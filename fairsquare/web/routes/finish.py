"""Finish and prove: protection, pads and later seams, papers of others, advice to the owner, and what is knowingly left out."""

from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import finishing
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.job.facts.done import (
    ADVICES,
    FINISHES,
    OUTSIDES,
    Advice,
    AdviceKind,
    Finished,
    FinishItem,
    FinishKind,
    LeftOut,
    OutsideEnd,
    OutsideKind,
    OutsideWork,
)
from fairsquare.job.release.handover import LIMITS_OF_ADVICE, finish_items, outside_work, standing
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import code_on, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in

router = APIRouter()
OUTSIDE_ENDS: dict[str, str] = {"done": "done", "not_needed": "not needed", "failed": "failed"}
USUAL: dict[FinishKind, str] = {
    "primer": "primer on bare metal at the welds",
    "sealer": "seam sealer over the new seams",
    "wax": "cavity wax in the closed members",
    "noise_pad": "noise pads as on the old part",
    "seam_later": "seam behind the suspension",
    "filler": "filler and paint",
}


@router.get("/jobs/{number}/finish")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show what the release waits for."""
    return _page(request, session, number)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    items = finish_items(view.facts)
    listed = {item.what.what for item, _ in items if isinstance(item.what, FinishItem)}
    done = standing(view.facts)
    return render(
        request,
        "finish.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="finish",
        hold=view.state.hold("released"),
        items=items,
        usual={what: words for what, words in USUAL.items() if what not in listed},
        finishes=FINISHES,
        outsides=OUTSIDES,
        outside={what: outside_work(view.facts, what) for what in OUTSIDES},
        papers={deed.what.what: deed.id for deed in done if isinstance(deed.what, OutsideWork)},
        outside_ends=OUTSIDE_ENDS,
        advices=ADVICES,
        given=[deed for deed in done if isinstance(deed.what, Advice)],
        left=[deed for deed in done if isinstance(deed.what, LeftOut)],
        limits=LIMITS_OF_ADVICE,
        filler_waits=finishing.gaps_before_filler(view),
        photos=[photo for photo in view.facts.photos if photo.about == "done"],
    )


@router.post("/jobs/{number}/finish")
@shown_again(_page)
def note(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record an item, that it is done, work of others, advice, or what is left out."""
    desk, person = desk_of(request), form.session.person
    finishing.note(desk, person, form.key, number, _done(form, desk.view(number).facts.sheet))
    return go_to(job_path(number, "finish") + f"#{form.text('at')}"[:40])


@router.post("/jobs/{number}/finish/back")
@shown_again(_page, typed=False)
def take_back(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take back something that was noted."""
    event = whole(form.text("event"), "event")
    finishing.take_back(desk_of(request), form.session.person, form.key, number, event)
    return go_to(job_path(number, "finish"))


def _done(form: Form, sheet: Any) -> Any:
    """Return what a form says. Raises `Refused` that names the field."""
    kind = form.text("do")
    if kind == "finish":
        what = _one_of(form, "what", FINISHES)
        words = _said(form, "words", "Say what it is, such as: wax in the right rail.")
        return FinishItem(what=cast(FinishKind, what), words=words, suspension_down=form.text("down") == "yes")
    if kind == "finished":
        return Finished(item=whole(form.text("item"), "item"), words=form.text("words")[:2000])
    if kind == "outside":
        return OutsideWork(
            what=cast(OutsideKind, _one_of(form, "what", OUTSIDES)),
            end=cast(OutsideEnd, _one_of(form, "end", OUTSIDE_ENDS)),
            by_whom=_said(form, "by_whom", "By whom?"),
            paper=form.text("paper").strip()[:2000],
            words=form.text("words").strip()[:2000],
        )
    if kind == "advice":
        return Advice(
            what=cast(AdviceKind, _one_of(form, "what", ADVICES)),
            broke=_said(form, "broke", "What broke it?"),
            keep=_said(form, "keep", "What would keep it from breaking again?"),
        )
    if kind == "left_out":
        codes = form.text("codes").replace(",", " ").split()
        return LeftOut(
            what=_said(form, "left", "What is left?"),
            why=_said(form, "why", "Why is it left?"),
            consent=_said(form, "consent", "With whose consent?"),
            how=_said(form, "how", "How was it given, and when?"),
            codes=tuple(code_on(sheet, code)[:40] for code in codes),
        )
    raise Refused("That cannot be done here.", field="do", value=kind[:20])


def _one_of(form: Form, field: str, among: Any) -> str:
    value = form.text(field)
    if value not in among:
        raise Refused("Choose one of the list.", field=field, value=value[:20])
    return value


def _said(form: Form, field: str, words: str) -> str:
    value = " ".join(form.text(field).split())[:120]
    if len(value) < 2:
        raise Refused(words, field=field, value=value)
    return value
