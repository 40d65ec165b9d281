"""What stands behind “fit accepted, final welding may start”: each demand with its evidence, or what to do to get it.

Nobody overrides what is missing, old or read under load; a lead may let other things go on, with a reason.
"""

from collections.abc import Iterable, Iterator, Sequence

from fairsquare.core.measure.calibration import Standing
from fairsquare.core.said import say
from fairsquare.core.weld.bonding import bond_waits
from fairsquare.job.cut.job import section_states, unplanned
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.fit.job import GapState, fit_findings, fit_said, gap_fits, gap_states, hangs_on_strip
from fairsquare.job.intake.parts import part_states
from fairsquare.job.measure.ageing import stands_on
from fairsquare.job.measure.picture import Picture
from fairsquare.job.measure.trusted_tools import tools_behind
from fairsquare.job.missing import Demand, Missing, demand, lacks
from fairsquare.job.moves import MOVES
from fairsquare.job.release.carried import carried
from fairsquare.job.release.watching import drifts
from fairsquare.job.weld.job import bond_said, seam_states, unplanned_sections


def fit_demands(facts: JobFacts, picture: Picture | None, before: Sequence[HoldName]) -> tuple[Demand, ...]:
    """Return the demands in order; `before` are the hold points that are not closed."""
    return tuple(_demands(facts, picture, before))


def _demands(facts: JobFacts, picture: Picture | None, before: Sequence[HoldName]) -> Iterator[Demand]:
    yield demand(
        "before",
        say("all_signed"),
        tuple(lacks("not_signed", hold=name) for name in before),
        page=f"holds/{before[0]}" if before else "",
    )
    yield setup_demand(picture)
    yield tool_demand(facts, picture)
    if picture is not None:
        yield from point_demands(facts, picture)
    yield from wheel_demands(facts)
    yield from gap_demands(facts)
    yield _findings(facts, picture)
    yield _parts(facts)
    yield _cuts(facts)
    yield _coupons(facts)
    yield _products(facts)


def tool_missing(facts: JobFacts, picture: Picture | None, *, setup_only: bool = False) -> list[Missing]:
    """Return the tools found bad behind what counts: what they read is no evidence, and nobody overrides that."""
    return _bad(tools_behind(facts, picture, setup_only=setup_only))


def _bad(behind: Iterable[Standing]) -> list[Missing]:
    return [lacks("tools.bad", tool=tool.name, why=tool.said, page="measure") for tool in behind if tool.level == "bad"]


def tool_demand(facts: JobFacts, picture: Picture | None) -> Demand:
    """Return that the tools that read what counts are good; one that is overdue, or unknown, is said and does not bar the way."""
    behind = tools_behind(facts, picture)
    warnings = [say("tools.stands", tool=tool.name, level=tool.level, why=tool.said) for tool in behind]
    evidence = say("row", each=warnings) if warnings else say("tools.nothing_read")
    return demand("tools", evidence, tuple(_bad(behind)), page="measure")


def setup_demand(picture: Picture | None) -> Demand:
    """Return that a set-up is there in which the points are measured."""
    if picture is None:
        return demand("setup", None, (lacks("points.unmeasured"),), page="set-up")
    own = picture.setup
    return demand("setup", say("setup.rests", number=own.number, tool=own.instrument, codes=picture.relied_on))


def point_demands(facts: JobFacts, picture: Picture, consented: frozenset[str] = frozenset()) -> Iterator[Demand]:
    """Yield what is demanded of the points: read, free, after the last move, known, without contradiction, fair, not drifting.

    A point that is out of tolerance with the owner's consent (`consented`) is not missing.
    """
    judged = picture.judged
    unread = [code for code, judgement in judged.items() if judgement.state == "unread"]
    aside = {*picture.loaded_only, *picture.stale_only}
    never = [code for code in unread if code not in aside and code not in picture.used]
    vague = [code for code in unread if code in picture.used]
    left = picture.setup.left is not None
    todo = say("todo.new_setup" if left else "todo.read_free")
    page = "set-up" if left else "measure"
    yield demand(
        "read",
        say("points.of", many=len(judged)),
        (lacks("points.unread", codes=never),) if never else (),
        todo=todo,
        page=page,
    )
    yield demand(
        "free",
        say("points.no_chain"),
        (lacks("points.loaded", codes=picture.loaded_only),) if picture.loaded_only else (),
        page=page,
    )
    moved = next((move for move in reversed(facts.movements) if MOVES[move.what].points), None)
    yield demand(
        "fresh",
        say("points.moved", move=moved.words, last_at=moved.by.at) if moved else say("points.unmoved"),
        (lacks("points.stale", codes=picture.stale_only),) if picture.stale_only else (),
        todo=todo,
        page=page,
    )
    yield demand("known", say("points.known"), (lacks("points.vague", codes=vague),) if vague else (), page="measure")
    unsettled = _unsettled(facts, picture)
    yield demand(
        "agree",
        say("points.agree"),
        (lacks("points.contradicted", readings=unsettled),) if unsettled else (),
        page="measure",
    )
    left_off = {(code, "off") for code in consented}
    not_fair = tuple(
        lacks(f"points.{state}", codes=codes, overridable=True)
        for state in ("off", "close")
        if (
            codes := [
                code for code, judgement in judged.items() if judgement.state == state and (code, state) not in left_off
            ]
        )
    )
    fair = sum(judgement.state == "fair" for judgement in judged.values())
    allowed = [code for code, judgement in judged.items() if (code, judgement.state) in left_off]
    evidence = say("points.fair", fair=fair, many=len(judged), consented=allowed)
    yield demand("fair", evidence, not_fair, page="damage")
    off = [drift for drift in drifts(facts, picture) if drift.off]
    if off:
        told = [say("points.by", code=point.code, by_mm=point.mm) for point in off]
        yield demand("still", None, (lacks("points.drift", each=told),), page="measure")


def wheel_demands(facts: JobFacts) -> Iterator[Demand]:
    """Yield what is demanded where it was let down on its wheels after it was measured."""
    carried_spans = carried(facts)
    if carried_spans is None:
        return
    agreed = [say("spans.apart", a=pair.a, b=pair.b, apart_mm=pair.apart_mm or 0.0) for pair in carried_spans.agreed]
    missing = (Missing(said=carried_spans.missing),) if carried_spans.missing else ()
    yield demand("carried", say("spans.agreed", each=agreed), missing, page="measure")


def gap_demands(facts: JobFacts, *, after_welding: bool = False) -> Iterator[Demand]:
    """Yield what is demanded of the gaps: listed, read on the rack and on the wheels, within; after welding on the wheels only.

    Welding makes every gap old that was read before it.
    """
    fit = fit_said(facts)
    if fit is not None and fit.none_hung and not facts.gaps:
        yield demand("gaps", say("gaps.none_hung", why=fit.none_hung))
        return
    states = gap_states(facts)
    if not states:
        yield demand("gaps", None, (lacks("gaps.unlisted"),), page="fit/panels")
        return
    if not after_welding:
        never = [state.place for state in states if state.rack is None]
        missing = (lacks("gaps.unread_rack", places=never),) if never else ()
        yield demand("gaps_rack", say("of", many=len(states)), missing, page="fit")
    yield _strips(facts)
    yield from _wheel_gaps(facts, states, after_welding=after_welding)


def _strips(facts: JobFacts) -> Demand:
    """Return that every panel hangs on its weatherstrip: without it a gap shows what it will not be."""
    fit = fit_said(facts)
    panels = [panel.name for panel in fit.panels] if fit else []
    bare = [name for name in panels if not hangs_on_strip(facts, name)]
    missing = (lacks("gaps.bare", panels=bare, overridable=True),) if bare else ()
    return demand("strips", say("gaps.panels", panels=panels), missing, page="fit/panels")


def _wheel_gaps(facts: JobFacts, states: tuple[GapState, ...], *, after_welding: bool) -> Iterator[Demand]:
    read: list[tuple[str, GapFact]] = [(state.place, state.wheels) for state in states if state.wheels is not None]
    never = [state.place for state in states if state.wheels is None]
    old = [place for place, gap in read if gap.stale]
    wide = [place for place, gap in read if place not in old and not gap_fits(gap)]
    missing = []
    if never:
        missing.append(lacks("gaps.unread_wheels", places=never))
    if old:
        missing.append(lacks("gaps.stale", places=old))
    on_rack = stands_on(facts) == "rack"
    yield demand(
        "gaps_wheels",
        say("of", many=len(states)),
        tuple(missing),
        title=say("demand.gaps_wheels", welded=after_welding),
        todo=say("todo.let_down" if on_rack else "todo.gaps_wheels"),
        page="fit#moved" if on_rack else "fit",
    )
    out = (lacks("gaps.out", places=wide, overridable=True),) if wide else ()
    yield demand("gaps_in", say("gaps.in"), out, page="fit/panels")


def _findings(facts: JobFacts, picture: Picture | None) -> Demand:
    findings, settled = fit_findings(facts, picture), {settlement.finding for settlement in facts.settlements}
    return demand(
        "findings",
        say("fit.settled" if findings else "fit.agree"),
        tuple(
            lacks("fit.contradicts", of=finding.kind, told=finding.said)
            for finding in findings
            if finding.key not in settled
        ),
        page="fit#findings",
    )


def _parts(facts: JobFacts) -> Demand:
    states = part_states(facts)
    missing = [
        lacks("part.faults", part=state.part.name, faults=state.faults, overridable=True)
        for state in states
        if state.faults
    ]
    return demand("parts", say("part.checked_in", many=len(states)), tuple(missing), page="parts")


def _cuts(facts: JobFacts) -> Demand:
    states = section_states(facts)
    wanting = [lack for state in states for lack in state.wanting]
    wanting += [say("cut.unplanned", member=member) for member in unplanned(facts)]
    missing = tuple(Missing(said=say("sentence", of=lack), overridable=True) for lack in wanting)
    return demand("cuts", say("cut.done", many=len(states)), missing, page="cuts")


def _coupons(facts: JobFacts) -> Demand:
    seams = seam_states(facts)
    missing = [lacks("seam.unplanned", member=member, overridable=True) for member in unplanned_sections(facts)]
    missing += [Missing(said=state.waits, overridable=True) for state in seams if state.waits]
    accepted = [
        say("seam.accepted", seam=state.plan.name, by=state.coupon.by.name)
        for state in seams
        if state.coupon is not None
    ]
    evidence = say("row", each=accepted) if accepted else say("weld.nothing")
    return demand("coupons", evidence, tuple(missing), page="weld")


def _products(facts: JobFacts) -> Demand:
    bond = bond_said(facts)
    evidence = say("bond.products", products=[product.id for product in bond.products]) if bond else say("bond.nothing")
    missing = tuple(lacks("bond.waits", told=wait, overridable=True) for wait in bond_waits(bond, ""))
    return demand("products", evidence, missing, page="bond")


def _unsettled(facts: JobFacts, picture: Picture) -> list[str]:
    """Return the readings that contradict the others and that nobody has decided on, as they were called."""
    doubts = picture.joined.doubts if picture.joined else ()
    doubted = {number for doubt in doubts for number in doubt.readings}
    return [reading.said for reading in facts.readings if reading.id in doubted] if doubted else []
