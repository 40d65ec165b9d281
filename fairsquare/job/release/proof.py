"""What stands behind “fit accepted, final welding may start”: each demand with its evidence, or what to do to get it.

Nobody overrides what is missing, old or read under load; a lead may let other things go on, with a reason.
"""

from collections.abc import Iterable, Iterator, Mapping

from fairsquare.core.measure.calibration import Standing
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
from fairsquare.job.missing import Demand, Missing, count, listed
from fairsquare.job.moves import MOVES
from fairsquare.job.release.carried import carried
from fairsquare.job.release.watching import drifts
from fairsquare.job.weld.job import bond_said, seam_states, unplanned_sections


def fit_demands(facts: JobFacts, picture: Picture | None, before: Mapping[HoldName, str]) -> tuple[Demand, ...]:
    """Return the demands in order; `before` are the hold points that are not closed, by their titles."""
    return tuple(_demands(facts, picture, before))


def _demands(facts: JobFacts, picture: Picture | None, before: Mapping[HoldName, str]) -> Iterator[Demand]:
    yield Demand(
        name="before",
        title="The hold points before it are signed",
        evidence="all signed, and what they rest on stands",
        missing=tuple(Missing(words=f"“{title}” is not signed.") for title in before.values()),
        todo="Open the hold point: it says what it lacks.",
        page=f"holds/{next(iter(before))}" if before else "",
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
    return [
        Missing(
            words=f"{one.name}, {one.words}: what it read is no evidence. Read again with a tool that is good.",
            page="measure",
        )
        for one in behind
        if one.level == "bad"
    ]


def tool_demand(facts: JobFacts, picture: Picture | None) -> Demand:
    """Return that the tools that read what counts are good; one that is overdue, or unknown, is said and does not bar the way."""
    behind = tools_behind(facts, picture)
    said = "; ".join(f"{one.name}: {'NB ' if one.level != 'good' else ''}{one.words}" for one in behind)
    return Demand(
        name="tools",
        title="The tools that read it are good",
        evidence=said or "nothing was read",
        missing=tuple(_bad(behind)),
        todo="Check the tool on the reference bar again; else read again with a good one.",
        page="measure",
    )


def setup_demand(picture: Picture | None) -> Demand:
    """Return that a set-up is there in which the points are measured."""
    if picture is None:
        return Demand(
            name="setup",
            title="A set-up is valid",
            evidence="",
            missing=(Missing(words="No point is measured: there is no set-up in force."),),
            todo="Set up and read the reference points again.",
            page="set-up",
        )
    rests = f"set-up {picture.setup.number}, {picture.setup.instrument}, on {listed(picture.relied_on)}"
    return Demand(name="setup", title="A set-up is valid", evidence=rests)


def point_demands(facts: JobFacts, picture: Picture, consented: frozenset[str] = frozenset()) -> Iterator[Demand]:
    """Yield what is demanded of the points: read, free, after the last move, known, without contradiction, fair, not drifting.

    A point that is out of tolerance with the owner's consent (`consented`) is not missing.
    """
    judged = picture.judged
    unread = [code for code, one in judged.items() if one.state == "unread"]
    aside = {*picture.loaded_only, *picture.stale_only}
    never = [code for code in unread if code not in aside and code not in picture.used]
    vague = [code for code in unread if code in picture.used]
    left = picture.setup.left is not None
    todo = "Open a new set-up, then read them." if left else "Read them free."
    yield Demand(
        name="read",
        title="Every point is read",
        evidence=f"{len(judged)} of {len(judged)} points",
        missing=(Missing(words=f"{count(never)} not read: {listed(never)}."),) if never else (),
        todo=todo,
        page="set-up" if left else "measure",
    )
    yield Demand(
        name="free",
        title="Read free, not under load",
        evidence="no chain was tight",
        missing=(Missing(words=f"Read only under load: {listed(picture.loaded_only)}. Let go and read free."),)
        if picture.loaded_only
        else (),
        todo="Let go of every chain, then read them again.",
        page="set-up" if left else "measure",
    )
    moved = next((move for move in reversed(facts.movements) if MOVES[move.what].points), None)
    yield Demand(
        name="fresh",
        title="Read after the last time anything moved",
        evidence=f"nothing has moved since: {moved.words}, {moved.by.at[:16].replace('T', ' ')} UTC"
        if moved
        else "nothing has moved since",
        missing=(Missing(words=f"Older than the last move: {listed(picture.stale_only)}. Read again."),)
        if picture.stale_only
        else (),
        todo=todo,
        page="set-up" if left else "measure",
    )
    yield Demand(
        name="known",
        title="Known to within tolerance",
        evidence="every direction of every point",
        missing=(
            Missing(
                words=f"{count(vague)} not known to within tolerance in every direction: {listed(vague)}. Read more of them."
            ),
        )
        if vague
        else (),
        todo="The measuring page names the reading that helps most.",
        page="measure",
    )
    unsettled = _unsettled(facts, picture)
    yield Demand(
        name="agree",
        title="Readings agree with one another",
        evidence="each agrees with the others",
        missing=(
            Missing(
                words=f"{listed(unsettled)}: contradicted by other readings. Read again, or keep out with a reason."
            ),
        )
        if unsettled
        else (),
        todo="Read it again, or keep it out with a reason.",
        page="measure",
    )
    left_off = {(code, "off") for code in consented}
    not_fair = tuple(
        Missing(words=f"{count(codes)} {words}: {listed(codes)}.", overridable=True)
        for state, words in (("off", "out of tolerance"), ("close", "inside, but not by more than the uncertainty"))
        if (codes := [code for code, one in judged.items() if one.state == state and (code, state) not in left_off])
    )
    fair = sum(one.state == "fair" for one in judged.values())
    allowed = [code for code, one in judged.items() if (code, one.state) in left_off]
    yield Demand(
        name="fair",
        title="Every point is fair",
        evidence=f"{fair} of {len(judged)}, with their uncertainty"
        + (f"; {listed(allowed)} left out with consent" if allowed else ""),
        missing=not_fair,
        todo="Bring it home, or read more where it is close. A lead may let it stand, with a reason.",
        page="damage",
    )
    off = [one for one in drifts(facts, picture) if one.off]
    if off:
        told = ", ".join(f"{one.code} by {one.mm:.1f} mm" for one in off)
        yield Demand(
            name="still",
            title="Nothing moves while it is welded",
            evidence="",
            missing=(Missing(words=f"Out of tolerance while welding: {told}. Let it cool, then read it free."),),
            todo="Stop welding. Let it cool, find what pulls, then read the point free on the measuring page.",
            page="measure",
        )


def wheel_demands(facts: JobFacts) -> Iterator[Demand]:
    """Yield what is demanded where it was let down on its wheels after it was measured."""
    found = carried(facts)
    if found is None:
        return
    agreed = ", ".join(f"{pair.a} to {pair.b} {pair.apart_mm or 0.0:+.1f} mm" for pair in found.agreed)
    yield Demand(
        name="carried",
        title="On the wheels it is as it was on the rack",
        evidence=f"spans before and after: {agreed}",
        missing=(Missing(words=found.missing),) if found.missing else (),
        todo="Call the spans on the measuring page: they need no set-up.",
        page="measure",
    )


def gap_demands(facts: JobFacts, *, after_welding: bool = False) -> Iterator[Demand]:
    """Yield what is demanded of the gaps: listed, read on the rack and on the wheels, within; after welding on the wheels only.

    Welding makes every gap old that was read before it.
    """
    said = fit_said(facts)
    if said is not None and said.none_hung and not facts.gaps:
        yield Demand(name="gaps", title="Gaps are read", evidence=f"nothing is hung on it: “{said.none_hung}”")
        return
    states = gap_states(facts)
    if not states:
        yield Demand(
            name="gaps",
            title="Gaps are read",
            evidence="",
            missing=(Missing(words="The gap check is not made: read the gaps on the dry fit."),),
            todo="List the gaps, or say why nothing is hung on what was repaired.",
            page="fit/panels",
        )
        return
    if not after_welding:
        never = [one.place for one in states if one.rack is None]
        yield Demand(
            name="gaps_rack",
            title="Gaps are read on the rack",
            evidence=f"{len(states)} of {len(states)}",
            missing=(Missing(words=f"Gaps not read on the rack: {listed(never)}."),) if never else (),
            todo="Call them: “gap lid left front 4.5”.",
            page="fit",
        )
    yield _strips(facts)
    yield from _wheel_gaps(facts, states, after_welding=after_welding)


def _strips(facts: JobFacts) -> Demand:
    """Return that every panel hangs on its weatherstrip: without it a gap shows what it will not be."""
    said = fit_said(facts)
    panels = [one.name for one in said.panels] if said else []
    bare = [name for name in panels if not hangs_on_strip(facts, name)]
    return Demand(
        name="strips",
        title="Panels hang on their weatherstrip",
        evidence=", ".join(panels) or "no panel is listed",
        missing=(Missing(words=f"Not hung with its weatherstrip on: {listed(bare)}.", overridable=True),)
        if bare
        else (),
        todo="Record the hanging, with the weatherstrip on.",
        page="fit/panels",
    )


def _wheel_gaps(facts: JobFacts, states: tuple[GapState, ...], *, after_welding: bool) -> Iterator[Demand]:
    read: list[tuple[str, GapFact]] = [(one.place, one.wheels) for one in states if one.wheels is not None]
    never = [one.place for one in states if one.wheels is None]
    old = [place for place, gap in read if gap.stale]
    wide = [place for place, gap in read if place not in old and not gap_fits(gap)]
    missing = []
    if never:
        missing.append(Missing(words=f"Gaps not read on the wheels: {listed(never)}."))
    if old:
        missing.append(Missing(words=f"Gaps read before the last move: {listed(old)}. Read them again."))
    on_rack = stands_on(facts) == "rack"
    yield Demand(
        name="gaps_wheels",
        title="Gaps are read on the wheels" + (", after welding" if after_welding else ""),
        evidence=f"{len(states)} of {len(states)}",
        missing=tuple(missing),
        todo="Let it down on its wheels, record that, and call them again." if on_rack else "Call them again.",
        page="fit#moved" if on_rack else "fit",
    )
    yield Demand(
        name="gaps_in",
        title="Gaps are within",
        evidence="every gap, on the wheels",
        missing=(Missing(words=f"Gaps out of tolerance: {listed(wide)}.", overridable=True),) if wide else (),
        todo="The panel's page says how far to move which hinge, or that the structure is out.",
        page="fit/panels",
    )


def _findings(facts: JobFacts, picture: Picture | None) -> Demand:
    found, settled = fit_findings(facts, picture), {one.finding for one in facts.settlements}
    return Demand(
        name="findings",
        title="Fit and measurement do not contradict each other",
        evidence="every contradiction is settled, with its reason" if found else "they agree",
        missing=tuple(Missing(words=f"{one.words} Settle it.") for one in found if one.key not in settled),
        todo="Read again what may be wrong, or write why both are right.",
        page="fit#findings",
    )


def _parts(facts: JobFacts) -> Demand:
    states = part_states(facts)
    return Demand(
        name="parts",
        title="Parts are complete",
        evidence=f"{len(states)} checked in" if states else "no new part",
        missing=tuple(
            Missing(words=f"{state.part.name}: {'; '.join(state.faults)}.", overridable=True)
            for state in states
            if state.faults
        ),
        todo="Move the brackets over, or say what is done about them.",
        page="parts",
    )


def _cuts(facts: JobFacts) -> Demand:
    states = section_states(facts)
    words = [*(words for state in states for words in state.wanting)]
    words += [f"{member}: decided to come off, and not planned" for member in unplanned(facts)]
    return Demand(
        name="cuts",
        title="What was planned to be cut is cut",
        evidence=f"{len(states)} done" if states else "nothing is cut",
        missing=tuple(Missing(words=f"{one}.", overridable=True) for one in words),
        todo="Make the cut and tick the welds, or plan it anew.",
        page="cuts",
    )


def _coupons(facts: JobFacts) -> Demand:
    seams = seam_states(facts)
    missing = [
        Missing(words=f"{member}: no seam is planned for it.", overridable=True) for member in unplanned_sections(facts)
    ]
    missing += [Missing(words=state.waits, overridable=True) for state in seams if state.waits]
    told = "; ".join(
        f"{state.plan.name}: accepted by {state.coupon.by.name}" for state in seams if state.coupon is not None
    )
    return Demand(
        name="coupons",
        title="Welds are planned, and their coupons accepted",
        evidence=told or "nothing is welded",
        missing=tuple(missing),
        todo="Plan the seam, make the coupon, pull it apart, photograph it.",
        page="weld",
    )


def _products(facts: JobFacts) -> Demand:
    said = bond_said(facts)
    return Demand(
        name="products",
        title="Products are ready, and the steps fit in their time",
        evidence=", ".join(one.id for one in said.products) or "listed: none" if said else "nothing is bonded",
        missing=tuple(Missing(words=words, overridable=True) for words in bond_waits(said, "")),
        todo="Change the steps, the product or the temperature.",
        page="bond",
    )


def _unsettled(facts: JobFacts, picture: Picture) -> list[str]:
    """Return the readings that contradict the others and that nobody has decided on, as they were called."""
    doubts = picture.joined.doubts if picture.joined else ()
    doubted = {number for doubt in doubts for number in doubt.readings}
    return [reading.said for reading in facts.readings if reading.id in doubted] if doubted else []
