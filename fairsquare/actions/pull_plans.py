"""Deeds of planning pulls: the rig, how the vehicle is held, and the plan, found or set by a person."""

import datetime
import threading
from functools import lru_cache
from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure, lacking
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.pull.gear import GEAR, Gear
from fairsquare.core.pull.job import (
    PlanSaid,
    PlanSeen,
    WorkPull,
    plan_request,
    seen_plan,
)
from fairsquare.core.pull.learned import FrameFactors, fitted_factors, with_factors
from fairsquare.core.pull.plan import PlanPulls, School
from fairsquare.core.pull.rigging import PullRules
from fairsquare.core.pull.setting import Setting, frame_of_setting, pieces_of
from fairsquare.core.said import say
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.damage.job import damage_picture
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.pull.board import board_of, places_now, plan_of, setting_of
from fairsquare.job.pull.proposals import Asked, Proposal, proposals
from fairsquare.job.pull.pulled import cycles_pulled
from fairsquare.job.pull.spent import spent_lines
from fairsquare.store import pulls, shop
from fairsquare.store.database import Connection
from fairsquare.store.kept import Kept
from fairsquare.store.people import Person

# ── the rig ──────────────────────────────────────────────────────────────────


def rig(desk: Desk) -> tuple[Gear, ...]:
    """Return the pieces of the rig in use."""
    return desk.database.run(pulls.gear)


def add_gear(
    desk: Desk,
    person: Person,
    key: str,
    name: str,
    kind: str,
    capacity_n: float | None,
    area_mm2: float | None,
    made: str,
    words: str,
) -> int:
    """Add a piece to the rig. A capacity that nobody knows is None, and is said loudly from then on."""
    check_may(person, "keep tools")
    name = " ".join(name.split())
    if not 2 <= len(name) <= 120:
        raise Refused("Name it, in 2 to 120 letters, as people call it.", field="name", value=name)
    if kind not in GEAR:
        raise Refused(f"Say what it is: {', '.join(GEAR.values())}.", field="kind", value=kind[:40])
    if capacity_n is not None and not 0 < capacity_n <= 1e8:
        raise Refused(
            "What it takes should be above 0. Leave it empty where nobody knows.", field="capacity", value=capacity_n
        )
    if area_mm2 is not None and not 0 < area_mm2 <= 1e7:
        raise Refused("The area of a ram should be above 0 mm².", field="area_mm2", value=area_mm2)
    if made not in ("maker", "home"):
        raise Refused("Say who made it: a maker, or the shop itself.", field="made", value=made[:20])
    answer = desk.once(
        person,
        key,
        "add gear",
        lambda c: {"id": pulls.add_gear(c, name, kind, capacity_n, area_mm2, made, words.strip()[:300], person.id)},
    )
    return int(answer["id"])


def look_at_gear(desk: Desk, person: Person, key: str, item: int, found: str, words: str) -> None:
    """Record how a piece of the rig was found."""
    check_may(person, "keep tools")
    if found not in ("sound", "hurt", "retired"):
        raise Refused("Say how it was found: sound, hurt, or retired.", field="found", value=found[:20])
    if found != "sound" and len(words.strip()) < 3:
        raise Refused("Say what is wrong with it.", field="words", value=words)
    desk.once(
        person,
        key,
        f"look at gear {item}",
        lambda c: {"id": pulls.look_at_gear(c, item, found, words.strip()[:300], person.id)},
    )


def gear_words(desk: Desk, setting: Setting, work: WorkPull) -> tuple[str, ...]:
    """Return what is to be said loudly of the pieces of the rig that a pull uses."""
    used = pieces_of(setting, (chain.hook for chain in work.chains), (chain.tower for chain in work.chains), work.ties)
    if not used:
        return ()
    known, now = {piece.name: piece for piece in rig(desk)}, datetime.datetime.now(datetime.UTC)
    changes = []
    for name in used:
        caution = known[name].caution_at(now) if name in known else "It is not in the rig any more."
        if caution:
            changes.append(f"{name}: {caution}")
    return tuple(changes)


# ── the plan ─────────────────────────────────────────────────────────────────


def request_of(facts: JobFacts, school: School = "outward") -> tuple[Sheet, Setting, PlanPulls]:
    """Return the sheet, the setting and the request for a plan of a job. Raises `Refused` without a sheet or readings."""
    sheet, setting = facts.sheet, setting_of(facts)
    if sheet is None or setting is None:
        raise Refused("There is no sheet: a plan needs to know where points belong.", field="sheet", value=None)
    request = plan_request(sheet, places_now(facts), setting, school)
    return sheet, setting, with_factors(request, setting, factors_of(facts))


def keep_setting(desk: Desk, person: Person, key: str, number: str, setting: Setting, seen_version: int) -> int:
    """Keep how the vehicle is held and pulled. Raises `Unsure` when somebody kept another meanwhile."""
    check_may(person, "plan pulls")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        last = view.facts.pull_settings[-1] if view.facts.pull_settings else None
        if (last.version if last else 0) != seen_version:
            by = last.by.name if last else "Somebody"
            raise Unsure(f"{by} changed it meanwhile: look at it, then change it again.", field="setting_version")
        if view.facts.sheet is not None:
            skeleton = frame_of_setting(view.facts.sheet, setting)
            _check_codes(setting, set(skeleton.nodes))
        return {"version": pulls.keep_setting(connection, view.job.id, setting, person.id)}

    return int(desk.in_job(person, key, f"setting {number}", number, work)["version"])


def _check_codes(setting: Setting, known: set[str]) -> None:
    """Refuse points that the frame does not have, with the field of the page, and names that stand twice."""
    places = [(f"hook-{k}-code", hook.code) for k, hook in enumerate(setting.hooks)]
    places += [(f"anchor-{k}-code", anchor.code) for k, anchor in enumerate(setting.anchors)]
    places += [(f"machine-{k}-code", machine.bears_on) for k, machine in enumerate(setting.machines)]
    places += [(f"tie-{k}-between", code) for k, tie in enumerate(setting.ties) for code in tie.between]
    places += [("no_bearing", code) for code in setting.no_bearing] + [("still", code) for code in setting.still]
    for field, code in places:
        if code not in known:
            raise Refused(f"{code} is no point of this sheet's frame.", field=field, value=code)
    names = [tower.id for tower in setting.towers] + [machine.id for machine in setting.machines]
    for field, named in (("towers", names), ("ties", [tie.id for tie in setting.ties])):
        twice = next((name for k, name in enumerate(named) if name in named[:k]), None)
        if twice:
            raise Refused(f"{twice} stands there twice: each needs a name of its own.", field=field, value=twice)
    for k, tie in enumerate(setting.ties):
        if tie.between[0] == tie.between[1]:
            words = "A tie is between two different points."
            raise Refused(words, field=f"tie-{k}-between", value=" ".join(tie.between))


def asked_for(facts: JobFacts, school: School, rules: PullRules, gear: tuple[Gear, ...] = ()) -> Asked:
    """Return what plans are proposed for, from where points stand now, with the shop's pieces. Raises `Refused` without a sheet or
    readings."""
    sheet, setting, _ = request_of(facts, school)
    return Asked(sheet, places_now(facts), setting, school, rules, factors_of(facts), spent_lines(facts), gear)


def check_may_plan(desk: Desk, person: Person, number: str, school: School, seen_version: int) -> Asked:
    """Return what is asked of a search for a plan. Raises at once where a plan could not be kept, whatever it were."""
    check_may(person, "plan pulls")
    view = desk.view(number)
    asked = asked_for(view.facts, school, desk_rules(desk), rig(desk))
    _check_changeable(view, seen_version)
    own = plan_of(view.facts)
    if view.facts.practice and (own is None or not own.plan.pulls):
        raise Refused(
            "Say your own plan first: which place, which way, how hard. Then what is found is shown beside it.",
            field="school",
            value=school,
        )
    return asked


def ask_again(desk: Desk, number: str, school: School, seen_version: int) -> Asked:
    """Return what is asked of a search that was allowed and has to begin anew. Raises where no plan could be kept any more."""
    view = desk.view(number)
    _check_changeable(view, seen_version)
    return asked_for(view.facts, school, desk_rules(desk), rig(desk))


def best_of(asked: Asked) -> Proposal | None:
    """Return the best plan that may be pulled as it stands; None where there is none."""
    offered = (
        proposal for looked in proposals(asked) if looked.over for proposal in looked.best if not proposal.refused
    )
    return next(offered, None)


def find_plan(
    desk: Desk, person: Person, key: str, number: str, school: School, seen_version: int, overpull_reason: str = ""
) -> int:
    """Work out a plan and keep the best as the one that counts. Raises `Refused` where none may be pulled as it stands."""
    asked = check_may_plan(desk, person, number, school, seen_version)
    best: Proposal | None = desk.think(person.name, best_of, asked)
    if best is None:
        raise Refused(
            "No pull of this rig was found that helps and harms nothing. Where nothing is off there is nothing to pull; else look "
            "at hooks, towers and what is held, or set a pull yourself.",
            field="school",
            value=school,
        )
    return keep_proposal(desk, person, key, number, best, seen_version, overpull_reason)


def keep_proposal(
    desk: Desk, person: Person, key: str, number: str, proposal: Proposal, seen_version: int, reason: str = ""
) -> int:
    """Keep a plan that was found, with the setting that it needs. Raises `Refused` for one that harms, and for one that draws past
    where points belong by more than common practice has it, without a reason."""
    if proposal.refused:
        raise lacking(proposal.refused[0], field="choice", value=proposal.title)
    reason = " ".join(reason.split())
    if proposal.needs_reason and len(reason) < 8:
        raise lacking(say("plan.write_why", why=proposal.overpull), field="overpull_reason", value=reason)
    plan = proposal.plan.model_copy(update={"title": proposal.title[:300], "overpull_reason": reason[:500]})
    return keep_plan(desk, person, key, number, plan, seen_version, setting=proposal.setting)


def desk_rules(desk: Desk) -> PullRules:
    """Return what this shop asks of a pull."""
    return desk.database.run(shop.pull_rules)


def factors_of(facts: JobFacts) -> FrameFactors:
    """Return what the vehicle's frame has taught by the cycles so far."""
    if not any(event.cycles for event in facts.pull_events):
        return FrameFactors()
    return _factors(Same(facts))


@lru_cache(maxsize=64)
def _factors(held: Same[JobFacts]) -> FrameFactors:
    facts = held.held
    key = tuple(event.id for event in facts.pull_events if event.cycles)
    setting = setting_of(facts)
    if facts.sheet is None or setting is None:
        return FrameFactors()
    return _factors_once(Same(facts.sheet), setting.model_dump_json(), key, held)


_FITTED: Kept[FrameFactors] = Kept(200)
_FITTING = threading.Lock()


def _factors_once(sheet: Same[Sheet], setting_json: str, cycles: tuple[int, ...], held: Same[JobFacts]) -> FrameFactors:
    """Return the factors, fitted once for the same cycles: readings make new facts, and change nothing of what was pulled."""

    def fit() -> FrameFactors:
        facts = held.held
        picture, setting = damage_picture(facts), Setting.model_validate_json(setting_json)
        if picture is None:
            return FrameFactors()
        places = {code: placed.xyz for code, placed in picture.placed.items()}
        try:
            request = plan_request(sheet.held, places, setting, "outward")
        except FairSquareError:
            return FrameFactors()
        return fitted_factors(request, setting, tuple(cycles_pulled(facts, sheet.held, setting, places)))

    with _FITTING:
        return _FITTED.get((sheet, cycles, setting_json), fit)


def keep_plan(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    plan: PlanSaid,
    seen_version: int,
    *,
    setting: Setting | None = None,
) -> int:
    """Keep a plan as the one that counts, with the `setting` that it needs where that is another.

    Raises `Unsure` when another was kept meanwhile, or a pull is under way.
    """
    check_may(person, "plan pulls")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_changeable(view, seen_version)
        _, now, request = request_of(view.facts, plan.school)
        needs = setting or now
        if needs != now:
            request = plan_request(request.sheet, places_now(view.facts), needs, plan.school)
            pulls.keep_setting(connection, view.job.id, needs, person.id)
        for k, pull in enumerate(plan.pulls):
            if pull.past_mm and len(pull.past_reason.strip()) < 8:
                raise Refused(
                    "A target past the sheet goes with a reason, in a sentence.",
                    field=f"pulls.{k}.past_reason",
                    value=pull.past_reason,
                )
        seen_plan(request, needs, plan)
        return {"version": pulls.keep_plan(connection, view.job.id, plan, person.id)}

    return int(desk.in_job(person, key, f"plan {number}", number, work)["version"])


def _check_changeable(view: JobView, seen_version: int) -> None:
    """Refuse to change a plan that somebody else changed, that is being pulled, or before the decision is signed."""
    now = plan_of(view.facts)
    if (now.version if now else 0) != seen_version:
        words = f"{now.by.name if now else 'Somebody'} kept another plan meanwhile: look at it, then change it again."
        raise Unsure(words, field="plan_version", value=seen_version)
    if board_of(view.facts):
        raise Unsure("A pull is under way: end it before the plan is changed.", field="plan_version")
    if view.state.hold("decision_made").status != "closed":
        raise Unsure("“Decision made” is not signed: pulls are planned after it.", field="plan_version")


def seen(facts: JobFacts, plan: PlanSaid) -> PlanSeen:
    """Return what a plan does from where the points stand."""
    _, setting, request = request_of(facts, plan.school)
    return seen_plan(request, setting, plan)
