"""Reading the damage: profiles, modes, onset, push, what moved together, and contradictions to settle before deciding."""

from collections import Counter

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import deciding
from fairsquare.actions.spine import spine
from fairsquare.core.damage.groups import Group
from fairsquare.core.errors import FairSquareError
from fairsquare.drawings.damage import groups_figure, mode_figure, profiles, push_figure
from fairsquare.job.damage.job import before_pulls, damage_of, damage_picture, key_of
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.measure.counted import counting
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.page import Form, desk_of, go_to, job_path, reader_of, render, sent_form, signed_in
from fairsquare.web.room import drawing_px
from fairsquare.web.words import HIT_FROM, MODES
from fairsquare.words.said import Reader

router = APIRouter()


@router.get("/jobs/{number}/damage")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show what happened to the structure."""
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
    damage, picture, sheet = damage_of(view.facts), damage_picture(view.facts), view.facts.sheet
    judged = picture.judged if picture else {}
    unread = [code for code, judgement in judged.items() if judgement.state == "unread"]
    reasons = {settlement.finding: settlement for settlement in view.facts.settlements}
    worst = max(damage.ends.values(), key=lambda end: end.most_mm) if damage else None
    keys = [(key_of(finding), finding) for finding in (damage.findings if damage else ())]
    return render(
        request,
        "damage.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="damage",
        damage=damage,
        judged=judged,
        read_again=_read_again(view.facts),
        unread=unread,
        profiles=profiles(sheet, judged, damage, drawing_px(request), reader_of(request).units)
        if sheet and damage
        else None,
        groups_drawn=groups_figure(sheet, damage.groups) if sheet and damage and damage.groups else None,
        groups=[(group, _moved_words(group, reader_of(request))) for group in (damage.groups if damage else ())],
        push=worst.push if worst else None,
        push_drawn=push_figure(worst.push) if worst and worst.push else None,
        told="" if view.facts.hit_from_deg is None else HIT_FROM.get(str(view.facts.hit_from_deg), ""),
        told_words=view.job.details.hit_words,
        modes=MODES,
        mode_figure=mode_figure,
        open=[(key, finding) for key, finding in keys if key not in reasons],
        settled=[(reasons[key], finding) for key, finding in keys if key in reasons],
        pulled=before_pulls(view.facts) is not view.facts,
        hold=view.state.hold("decision_made"),
    )


@router.post("/jobs/{number}/damage/settle")
@shown_again(_page)
def settle(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Settle a contradiction with a reason."""
    deciding.settle(desk_of(request), form.session.person, form.key, number, form.text("finding"), form.text("reason"))
    return go_to(job_path(number, "damage"))


def _read_again(facts: JobFacts) -> frozenset[str]:
    """Return the points that were read more than once, as far as readings count."""
    times = Counter(code for reading in counting(facts.readings) for code in reading.codes)
    return frozenset(code for code, many in times.items() if many > 1)


def _moved_words(group: Group, reader: Reader) -> str:
    """Return what a group did, in words."""
    if not group.rigid:
        return "bent: not one piece any more"
    if not group.moved:
        return "has not moved"
    turn = max(range(3), key=lambda axis: abs(group.rotation_deg[axis]))
    parts = []
    if abs(group.rotation_deg[turn]) >= 0.05:
        words = (("left side up", "right side up"), ("nose down", "nose up"), ("to the left", "to the right"))[turn]
        parts.append(
            f"turned {abs(group.rotation_deg[turn]):.2f}° {words[0] if group.rotation_deg[turn] > 0 else words[1]}"
        )
    ways = (("forward", "back"), ("left", "right"), ("up", "down"))
    far = [(abs(mm), ways[axis][0 if mm > 0 else 1]) for axis, mm in enumerate(group.translation) if abs(mm) >= 0.5]
    if far:
        parts.append("carried " + ", ".join(f"{reader.length(mm)} {way}" for mm, way in far))
    return "; ".join(parts) + "; kept its shape" if parts else "moved a little, kept its shape"
