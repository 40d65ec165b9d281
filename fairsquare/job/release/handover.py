"""What stands behind “released”: welds in, points and gaps read again, protection done, papers of others, clocks run out."""

from collections.abc import Iterator
from typing import NamedTuple

from fairsquare.core.said import say
from fairsquare.job.facts.done import OUTSIDES, Finished, FinishItem, LeftOut, OutsideKind, OutsideWork
from fairsquare.job.facts.finishing import ClockFact, DoneFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.measure.picture import Picture
from fairsquare.job.missing import Demand, Missing, demand, lacks
from fairsquare.job.release.proof import gap_demands, point_demands, setup_demand, tool_demand, wheel_demands
from fairsquare.job.weld.job import needs_welding, seam_states, welded

LIMITS_OF_ADVICE = (
    "This is advice from what was seen in the workshop. It is no design and no inspection of the whole vehicle; whoever "
    "strengthens or loads it otherwise asks its maker, or an engineer who may answer for it."
)


def standing(facts: JobFacts) -> tuple[DoneFact, ...]:
    """Return what was done and not taken back."""
    return tuple(deed for deed in facts.done if deed.taken_back is None)


def finish_items(facts: JobFacts) -> tuple[tuple[DoneFact, DoneFact | None], ...]:
    """Return the items that the release waits for, each with how it was done, where it was."""
    done = {deed.what.item: deed for deed in standing(facts) if isinstance(deed.what, Finished)}
    return tuple((deed, done.get(deed.id)) for deed in standing(facts) if isinstance(deed.what, FinishItem))


def left_out(facts: JobFacts) -> tuple[LeftOut, ...]:
    """Return what is knowingly left out of tolerance or unrepaired."""
    return tuple(deed.what for deed in standing(facts) if isinstance(deed.what, LeftOut))


class Left(NamedTuple):
    """Something that is knowingly left: what, why, with whose consent, and which points it is."""

    what: str
    why: str
    consent: str
    codes: tuple[str, ...]


def knowingly_left(facts: JobFacts) -> tuple[Left, ...]:
    """Return everything that is knowingly left: as written down, as decided of a member, and as a lead let it go on."""
    knowingly = [Left(left.what, left.why, f"{left.consent}, {left.how}", left.codes) for left in left_out(facts)]
    members = {member.id: member for member in facts.members}
    last = {(members[d.seen].member, members[d.seen].layer): d for d in facts.decisions if d.seen in members}
    for (member, layer), decided in last.items():
        if decided.decision == "leave" or decided.remains.strip():
            name = f"{member}, {layer}" if layer else member
            knowingly.append(Left(name, decided.remains or decided.reason, decided.consent or "none written", ()))
    for name in ("pulls_done", "fit_accepted", "released"):
        signed = next((s for s in reversed(facts.signatures) if s.hold == name), None)
        if signed is not None and signed.reason:
            knowingly.append(
                Left(" ".join(signed.overridden), signed.reason, f"let go on by {signed.by.name}, lead", ())
            )
    return tuple(knowingly)


def outside_work(facts: JobFacts, what: OutsideKind) -> OutsideWork | None:
    """Return the last word on work of others."""
    return next(
        (
            deed.what
            for deed in reversed(standing(facts))
            if isinstance(deed.what, OutsideWork) and deed.what.what == what
        ),
        None,
    )


def running(facts: JobFacts) -> tuple[ClockFact, ...]:
    """Return the clocks that nobody has ended."""
    return tuple(clock for clock in facts.clocks if clock.ended is None)


def release_demands(facts: JobFacts, picture: Picture | None, *, accepted: bool) -> tuple[Demand, ...]:
    """Return the demands of the last hold point, in order."""
    return tuple(_demands(facts, picture, accepted=accepted))


def _demands(facts: JobFacts, picture: Picture | None, *, accepted: bool) -> Iterator[Demand]:
    yield demand(
        "before",
        say("signed"),
        () if accepted else (lacks("not_signed", hold="fit_accepted"),),
        title=say("demand.fit_before"),
        page="holds/fit_accepted",
    )
    yield _welds(facts)
    yield setup_demand(picture)
    yield tool_demand(facts, picture)
    if picture is not None:
        consented = frozenset(code for left in left_out(facts) for code in left.codes)
        yield from point_demands(facts, picture, consented)
    yield from wheel_demands(facts)
    yield from gap_demands(facts, after_welding=welded(facts) is not None)
    yield _finish(facts)
    yield from (_outside(facts, what) for what in OUTSIDES)
    clocks = running(facts)
    run = (lacks("clocks.run", clocks=[clock.label for clock in clocks]),) if clocks else ()
    yield demand("clocks", say("clocks.ended"), run, page="bond")


def _welds(facts: JobFacts) -> Demand:
    if not needs_welding(facts):
        return demand("welds", say("weld.nothing"))
    seams = seam_states(facts)
    missing = [lacks("weld.open", seam=state.plan.name, welds=state.open) for state in seams if state.open]
    done = welded(facts)
    if done is None or any(run.by.at > done.by.at for state in seams for run in state.log):
        missing.append(lacks("weld.unrecorded"))
    many = sum(len(state.plan.welds) for state in seams)
    evidence = say("weld.done", many=many, done_at=done.by.at) if done else None
    return demand("welds", evidence, tuple(missing), page="weld")


def _finish(facts: JobFacts) -> Demand:
    items = finish_items(facts)
    undone = [item.what.words for item, done in items if done is None and isinstance(item.what, FinishItem)]
    missing = []
    if not items:
        missing.append(lacks("finish.unlisted", overridable=True))
    if undone:
        missing.append(lacks("finish.undone", items=undone, overridable=True))
    return demand("finish", say("finish.done", many=len(items)), tuple(missing), page="finish")


def _outside(facts: JobFacts, what: OutsideKind) -> Demand:
    done = outside_work(facts, what)
    missing: tuple[Missing, ...] = ()
    evidence = None
    if done is None:
        missing = (lacks("outside.no_word", what=what, overridable=True),)
    elif done.end == "failed":
        why = done.words or done.paper
        missing = (lacks("outside.failed", what=what, by=done.by_whom, why=why, overridable=True),)
    if done is not None:
        kind = "outside.done" if done.end == "done" else "outside.not_needed"
        evidence = say(kind, by=done.by_whom, paper=done.paper, why=done.words)
    return demand(
        what,
        evidence,
        missing,
        title=say("demand.outside", what=what),
        todo=say("todo.outside"),
        page="finish",
    )
