"""The operations of a job as they follow from what was decided and planned, with the hours for each and what comes off for it."""

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from fairsquare.core.plan.hours import HoursFound, JobHours, OperationHours, PartHours, job_hours
from fairsquare.core.plan.said import HoursSaid, OperationSaid, PartSaid, hours_of
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.cut.job import SectionState, section_states
from fairsquare.job.damage.choices import CHOICES, MemberState, member_states
from fairsquare.job.damage.job import units_of
from fairsquare.job.facts.done import FinishItem, Hung
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.fit.job import fit_said
from fairsquare.job.intake.supplements import line_states
from fairsquare.job.plan.worked import by_operation
from fairsquare.job.pull.board import plan_of
from fairsquare.job.weld.job import SeamState, bond_said, needs_welding, seam_states

USUAL_H: dict[str, float] = {
    "safe": 0.5,
    "set-up": 1.5,
    "measure": 0.5,
    "point": 0.05,
    "decide": 0.1,
    "pull": 0.75,
    "straighten": 0.75,
    "section": 1.0,
    "layer": 0.3,
    "spot": 0.05,
    "fit": 1.0,
    "seam": 0.5,
    "weld": 0.05,
    "item": 0.5,
    "prove": 1.0,
    "panel": 0.5,
}
"""Hours of one person that stand where nobody said others: for a thing, or for each of a thing. Common practice, no source."""
OPERATION_KINDS: dict[str, str] = {
    "safe": "make it safe",
    "set-up": "set up and clamp",
    "measure": "measure",
    "decide": "read and decide",
    "pull": "pull",
    "straighten": "straighten",
    "goes": "comes off first, by a decision",
    "cut": "cut",
    "fit": "dry fit and gaps",
    "bond": "bond",
    "weld": "weld",
    "finish": "protect and finish",
    "prove": "prove and hand over",
    "part": "take parts off and put them on",
    "other": "added by hand",
}
_BY_WORD = {
    "Make": "safe",
    "Set": "set-up",
    "Measure": "measure",
    "Read": "decide",
    "Pull": "pull",
    "Straighten": "straighten",
    "Goes": "goes",
    "Off": "goes",
    "Cut": "cut",
    "Dry": "fit",
    "Bond": "bond",
    "Weld": "weld",
    "Protect": "finish",
    "Prove": "prove",
}
NAME_LETTERS = 40


class JobOperation(NamedTuple):
    """An operation as it follows from the job: its name, station, hours, what must be off for it, and why it is there.

    `hours` are those of all its `people` together.
    """

    name: str
    station: str
    hours: float
    why: str
    needs_off: tuple[str, ...] = ()
    people: int = 1
    done: bool = False


class WorkRow(NamedTuple):
    """A line of the job's hours: an operation, or a part that comes off and on; what it takes, was sold for, and took."""

    name: str
    station: str
    why: str
    hours: float
    needs_off: tuple[str, ...]
    sold_h: float | None
    approved_h: float
    worked_h: float | None
    by: tuple[tuple[str, float], ...]
    part: PartHours | None = None
    done: bool = False
    people: int = 1

    @property
    def all_sold_h(self) -> float:
        """What was sold for it, in the estimate and in supplements that were approved."""
        return (self.sold_h or 0.0) + self.approved_h

    @property
    def gap_h(self) -> float:
        """By how much what it takes is more than what was sold; 0 where it is not."""
        return max(0.0, round(self.hours - self.all_sold_h, 2))


class JobWork(NamedTuple):
    """The hours of a job: its rows in the order of the work, the sums, and what was asked of the payer beside."""

    rows: tuple[WorkRow, ...]
    found: HoursFound
    said: HoursSaid
    asked: frozenset[str]

    @property
    def gaps(self) -> tuple[WorkRow, ...]:
        """The rows that the estimate left out, or sold short, and that no supplement asks for yet."""
        return tuple(row for row in self.rows if row.gap_h >= 0.05 and row.name not in self.asked)

    @property
    def estimated(self) -> bool:
        """Whether anybody said what was sold: without it nothing can be said of what the estimate leaves out."""
        return any(operation.sold_h is not None for operation in self.said.operations) or any(
            part.sold_h is not None for part in self.said.parts
        )

    @property
    def sold_h(self) -> float:
        """Everything that was sold."""
        return sum(row.all_sold_h for row in self.rows)

    @property
    def worked_h(self) -> float:
        """Everything that was worked."""
        return sum(row.worked_h or 0.0 for row in self.rows)

    def row(self, name: str) -> WorkRow | None:
        """Return the row of that name."""
        return next((row for row in self.rows if row.name == name), None)


def hours_said(facts: JobFacts) -> HoursSaid:
    """Return what was last said of the hours."""
    return facts.hours.hours if facts.hours else HoursSaid()


class Times(NamedTuple):
    """How many times the usual hours this shop takes for a kind of operation, and in how many jobs that was seen."""

    mean: float
    jobs: int


def job_work(
    facts: JobFacts, closed: Collection[str] = (), times: Mapping[str, Times] = MappingProxyType({})
) -> JobWork:
    """Return the hours of a job as it stands: what is to be done, what comes off for it, what was sold and what was worked.

    `closed` are the names of the hold points that are closed; `times` what the shop's own past says of each kind of operation: it
    stands in the place of what is usual, and says so, where nobody said other hours.
    """
    hours_typed = hours_said(facts)
    parts = _parts(facts, hours_typed)
    operations = list(_all_operations(facts, hours_typed, parts, closed, times))
    worked = by_operation(facts.worked)
    known = {part.id for part in parts}
    asked = tuple(
        OperationHours(
            id=operation.name,
            hours=operation.hours,
            needs_off=tuple(name for name in operation.needs_off if name in known),
            sold_h=_sold(facts, hours_typed, operation.name),
            worked_h=sum(worked[operation.name].values()) if operation.name in worked else None,
        )
        for operation in operations
    )
    answer = job_hours(JobHours(operations=asked, parts=tuple(parts)))
    by_id = {part.id: part for part in parts}
    rows = [_operation_row(facts, hours_typed, operation, worked) for operation in operations]
    rows += [_part_row(facts, hours_typed, by_id[name], answer.because[name], worked) for name in answer.off]
    listed = {row.name for row in rows}
    rows += [_leftover(name, by) for name, by in worked.items() if name not in listed]
    return JobWork(tuple(rows), answer, hours_typed, frozenset(_asked(facts, [row.name for row in rows])))


_PULL = re.compile(r"Pull (\d+): (.+)")


def supplement_words(row: WorkRow, sheet: Sheet | None = None) -> str:
    """Return the words of a supplement line for what a row takes more than was sold, for a payer who knows no codes of points."""
    if row.part is not None:
        tried = f", {row.part.trials} trial fit{'' if row.part.trials == 1 else 's'}" if row.part.trials else ""
        return f"{row.name}: off{'' if row.part.scrap else ' and on again'}{tried}, for {row.why}"
    name = _plain(row.name, sheet)
    return f"{name}: not in the estimate" if not row.all_sold_h else f"{name}: takes longer than was sold"


def _plain(name: str, sheet: Sheet | None) -> str:
    """Return what an operation is called to somebody who knows no codes: pulls by the members that they straighten."""
    match = _PULL.fullmatch(name)
    if match is None:
        return name
    codes = set(re.findall(r"\w+", match[2]))
    members = [member for member, own in units_of(sheet).items() if codes & {p.code for p in own}] if sheet else []
    return f"Straightening on the rack, pull {match[1]}" + (f", {' and '.join(members)}" if members else "")


def kind_of(name: str, why: str = "") -> str:
    """Return which kind of operation it is, for comparing it with those of other jobs."""
    return "other" if why == "added by hand" else _BY_WORD.get(name.split(" ", 1)[0], "other")


def operations_of(facts: JobFacts, closed: Collection[str] = ()) -> tuple[JobOperation, ...]:
    """Return the operations that follow from the job, in the order of the work."""
    return tuple(_unlike(_operations(facts, closed)))


def _operations(facts: JobFacts, closed: Collection[str]) -> Iterator[JobOperation]:
    points = len(facts.sheet.points) if facts.sheet else 0
    members = member_states(facts)
    yield JobOperation("Make it safe", "take-in", USUAL_H["safe"], "every job", done="made_safe" in closed)
    yield JobOperation(
        "Set up and clamp", "set-up", 2 * USUAL_H["set-up"], "every job", people=2, done="setup_accepted" in closed
    )
    yield JobOperation(
        "Measure",
        "measure",
        round(USUAL_H["measure"] + USUAL_H["point"] * points, 2),
        f"{points} points of the sheet" if points else "no sheet yet",
        done="decision_made" in closed,
    )
    yield JobOperation(
        "Read and decide",
        "decide",
        round(max(0.3, USUAL_H["decide"] * len(members)), 2),
        f"{len(members)} members and layers",
        done="decision_made" in closed,
    )
    yield from _pulls(facts, members, "pulls_done" in closed)
    yield from _dragged(members)
    yield from _sections(facts)
    yield from _fit_and_weld(facts, closed)
    yield from _finish(facts, "released" in closed)


def _pulls(facts: JobFacts, members: Sequence[MemberState], done: bool) -> Iterator[JobOperation]:
    plan = plan_of(facts)
    if plan is None:
        for state in members:
            if state.decision and state.decision.decision in ("straighten", "try", "straighten_then_replace"):
                words = CHOICES[state.decision.decision]
                yield JobOperation(
                    f"Straighten {state.name}", "pulls", USUAL_H["straighten"], f"decision: {words}", done=done
                )
        return
    ended = {event.pull for event in facts.pull_events if event.state == "ended" and event.plan == plan.version}
    for k, pull in enumerate(plan.plan.pulls, start=1):
        to = ", ".join(dict.fromkeys(chain.hook for chain in pull.chains))
        first = (_part_name(pull.first_off),) if pull.first_off.strip() else ()
        yield JobOperation(
            f"Pull {k}: {to}"[:NAME_LETTERS],
            "board",
            2 * USUAL_H["pull"],
            f"pull {k} of the plan",
            first,
            2,
            done or k in ended,
        )


def _dragged(members: Sequence[MemberState]) -> Iterator[JobOperation]:
    """What a decision drags along, where it says how many hours that is."""
    for state in members:
        if state.decision and state.decision.hours:
            why = state.decision.first or f"decision: {CHOICES[state.decision.decision]}"
            yield JobOperation(f"Off first for {state.name}", "pulls", state.decision.hours, why)


def _sections(facts: JobFacts) -> Iterator[JobOperation]:
    for section in section_states(facts):
        layers = len(section.strip.layers) if section.strip else 1
        spots = len(section.welds.welds) if section.welds else 0
        takes = USUAL_H["section"] + USUAL_H["layer"] * layers + USUAL_H["spot"] * spots
        why = f"section {section.fact.number}: {_many(layers, 'layer')}" + (
            f", {_many(spots, 'weld')}" if spots else ""
        )
        yield JobOperation(f"Cut {section.fact.member}", "cuts", round(takes, 2), why, done=_cut_done(section))


def _cut_done(section: SectionState) -> bool:
    wanted = {layer.id for layer in section.strip.layers if layer.is_cut} if section.strip else set()
    return bool(wanted) and {cut.layer for cut in section.cuts if cut.kind == "final"} >= wanted


def _fit_and_weld(facts: JobFacts, closed: Collection[str]) -> Iterator[JobOperation]:
    fit, seams, bond = fit_said(facts), seam_states(facts), bond_said(facts)
    sectioned = bool(section_states(facts))
    if (fit and (fit.panels or fit.gaps)) or sectioned:
        off = tuple(_part_name(panel.name) for panel in fit.panels) if fit else ()
        why = f"{len(fit.gaps)} gaps, {_many(len(off), 'panel')}" if fit else "a donor goes in"
        yield JobOperation("Dry fit and gaps", "fit", 2 * USUAL_H["fit"], why, off, 2, "fit_accepted" in closed)
    if bond and bond.steps:
        minutes = sum(step.minutes for step in bond.steps)
        done = any(move.what == "welded" for move in facts.movements)
        yield JobOperation(
            "Bond", "bond", round(minutes / 60, 2), _many(len(bond.steps), "step") + " of bonding", done=done
        )
    for seam in seams:
        yield _seam(seam)
    if not seams and needs_welding(facts):
        yield JobOperation("Weld", "weld", USUAL_H["section"], "no seam is planned yet")


def _seam(seam: SeamState) -> JobOperation:
    many = len(seam.plan.welds)
    takes = round(USUAL_H["seam"] + USUAL_H["weld"] * many, 2)
    return JobOperation(
        f"Weld {seam.plan.name}"[:NAME_LETTERS], "weld", takes, _many(many, "weld"), done=bool(many and not seam.open)
    )


def _finish(facts: JobFacts, done: bool) -> Iterator[JobOperation]:
    items = [deed for deed in facts.done if deed.taken_back is None and isinstance(deed.what, FinishItem)]
    if items:
        takes = round(USUAL_H["item"] * len(items), 2)
        yield JobOperation("Protect and finish", "finish", takes, _many(len(items), "item") + " to finish", done=done)
    yield JobOperation("Prove and hand over", "finish", USUAL_H["prove"], "every job", done=done)


def _unlike(operations: Iterable[JobOperation]) -> Iterator[JobOperation]:
    """Give operations of one name a number each: names tell them apart."""
    seen: dict[str, int] = {}
    for operation in operations:
        name = operation.name[:NAME_LETTERS]
        seen[name.casefold()] = many = seen.get(name.casefold(), 0) + 1
        yield operation._replace(name=name if many == 1 else f"{name[: NAME_LETTERS - 4]} ({many})")


def _parts(facts: JobFacts, said: HoursSaid) -> list[PartHours]:
    """Return the parts that may come off: those that people listed, and those that pulls, decisions and panels name."""
    hung = _times_hung(facts)
    hours_by_part = {part.name: hours_of(part, max(0, hung.get(part.name.casefold(), 0) - 1)) for part in said.parts}
    known = {name.casefold() for name in hours_by_part}

    def add(name: str, off_h: float, on_h: float) -> None:
        if name and name.casefold() not in known:
            known.add(name.casefold())
            hours_by_part[name] = PartHours(
                id=name, off_h=off_h, on_h=on_h, trials=max(0, hung.get(name.casefold(), 0) - 1)
            )

    plan = plan_of(facts)
    for pull in plan.plan.pulls if plan else ():
        add(_part_name(pull.first_off), pull.first_hours or 0.0, pull.first_hours or 0.0)
    fit = fit_said(facts)
    for panel in fit.panels if fit else ():
        add(_part_name(panel.name), USUAL_H["panel"], USUAL_H["panel"])
    return list(hours_by_part.values())


def _part_name(words: str) -> str:
    return " ".join(words.split())[:NAME_LETTERS].strip()


def _times_hung(facts: JobFacts) -> dict[str, int]:
    many: dict[str, int] = {}
    for deed in facts.done:
        if deed.taken_back is None and isinstance(deed.what, Hung) and not deed.what.off:
            many[deed.what.panel.casefold()] = many.get(deed.what.panel.casefold(), 0) + 1
    return many


def _all_operations(
    facts: JobFacts,
    said: HoursSaid,
    parts: Sequence[PartHours],
    closed: Collection[str],
    times: Mapping[str, Times],
) -> Iterator[JobOperation]:
    own = {operation.name.casefold(): operation for operation in said.operations}
    names = {part.id.casefold(): part.id for part in parts}
    following = operations_of(facts, closed)
    for operation in following:
        needs = tuple(names[name.casefold()] for name in operation.needs_off if name.casefold() in names)
        other = own.get(operation.name.casefold())
        if other is not None and other.left_out:
            continue
        if other is None or other.hours is None:
            operation = _as_in_the_past(operation, times)  # noqa: PLW2901 - the same operation, with hours of this shop
        yield _as_said(operation._replace(needs_off=needs), other)
    listed = {operation.name.casefold() for operation in following}
    for said_one in said.operations:
        if said_one.name.casefold() not in listed and not said_one.left_out:
            yield _as_said(JobOperation(said_one.name, "", said_one.hours or 0.0, "added by hand"), said_one)


def _as_in_the_past(operation: JobOperation, times: Mapping[str, Times]) -> JobOperation:
    """Return an operation with the hours that this shop takes for its kind; hours that a decision names are left."""
    kind = kind_of(operation.name, operation.why)
    own = times.get(kind)
    if own is None or kind == "goes":
        return operation
    seen = f"{own.mean:.1f} times the usual, as in {_many(own.jobs, 'job')} of this shop"
    return operation._replace(hours=round(operation.hours * own.mean, 2), why=f"{operation.why}; {seen}")


def _as_said(operation: JobOperation, said: OperationSaid | None) -> JobOperation:
    if said is None:
        return operation
    return operation._replace(
        hours=operation.hours if said.hours is None else said.hours,
        needs_off=operation.needs_off if said.needs_off is None else said.needs_off,
    )


def _sold(facts: JobFacts, said: HoursSaid, name: str) -> float | None:
    typed = _typed_sold(said.operations, name)
    approved = _approved(facts, name)
    return None if typed is None and not approved else (typed or 0.0) + approved


def _typed_sold(said: Sequence[OperationSaid] | Sequence[PartSaid], name: str) -> float | None:
    return next((said_of.sold_h for said_of in said if said_of.name == name), None)


def _approved(facts: JobFacts, name: str) -> float:
    return sum(
        state.line.hours
        for state in line_states(facts)
        if state.status == "approved" and state.line.words.startswith(_said_as(facts, name))
    )


def _said_as(facts: JobFacts, name: str) -> tuple[str, ...]:
    """Return how the line of an operation may begin: with its name, or as a payer is told it."""
    return f"{name}:", f"{_plain(name, facts.sheet)}:"


def _asked(facts: JobFacts, names: Iterable[str]) -> Iterator[str]:
    asked = [state.line.words for state in line_states(facts) if state.status != "approved"]
    return (name for name in names if any(words.startswith(_said_as(facts, name)) for words in asked))


def _operation_row(
    facts: JobFacts, said: HoursSaid, operation: JobOperation, worked: Mapping[str, Mapping[str, float]]
) -> WorkRow:
    by = worked.get(operation.name)
    return WorkRow(
        operation.name,
        operation.station,
        operation.why,
        operation.hours,
        operation.needs_off,
        _typed_sold(said.operations, operation.name),
        _approved(facts, operation.name),
        sum(by.values()) if by else None,
        tuple(by.items()) if by else (),
        done=operation.done,
        people=operation.people,
    )


def _part_row(
    facts: JobFacts,
    said: HoursSaid,
    part: PartHours,
    because: Sequence[str],
    worked: Mapping[str, Mapping[str, float]],
) -> WorkRow:
    by = worked.get(part.id)
    return WorkRow(
        part.id,
        "",
        ", ".join(because),
        round(part.off_hours + part.on_hours, 4),
        part.under,
        _typed_sold(said.parts, part.id),
        _approved(facts, part.id),
        sum(by.values()) if by else None,
        tuple(by.items()) if by else (),
        part=part,
    )


def _leftover(name: str, by: Mapping[str, float]) -> WorkRow:
    """Return a row for work that was clocked on what is no longer an operation of the job: it was worked all the same."""
    return WorkRow(
        name,
        "",
        "worked, and no longer an operation of this job",
        0.0,
        (),
        None,
        0.0,
        sum(by.values()),
        tuple(by.items()),
    )


def _many(many: int, thing: str) -> str:
    return f"{many} {thing}{'' if many == 1 else 's'}"
