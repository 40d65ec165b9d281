"""Deeds of cutting: members that are replaced, where they are cut, how their welds are opened, and what was done of it."""

from collections.abc import Mapping
from typing import Any, NamedTuple

from fairsquare.actions.desk import Desk, JobView, Unsure, lacking, reason_of
from fairsquare.actions.rights import check_may
from fairsquare.core.cut.budget import cut_budget
from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.place import check_strip
from fairsquare.core.cut.section import (
    SECTION_HOW,
    LinesSaid,
    SectionHow,
    StripSaid,
    Topic,
    WeldsSaid,
    check_strip_said,
    check_welds_said,
)
from fairsquare.core.cut.template import Template, cut_template
from fairsquare.core.cut.working import MappedWeld
from fairsquare.core.errors import Refused
from fairsquare.core.said import say
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.drawings.template import template_dxf, template_svg
from fairsquare.job.cut.job import SectionState, section_states
from fairsquare.job.cut_gate import check_access_cut, check_how, final_waits
from fairsquare.job.facts.cuts import CutKind
from fairsquare.store import cuts
from fairsquare.store.cuts import Said
from fairsquare.store.database import Connection
from fairsquare.store.people import Person
from fairsquare.words.tell import tell


def section_of(view: JobView, section: int) -> SectionState:
    """Return a section of a job. Raises `Refused` for one that is not there."""
    state = next((state for state in section_states(view.facts) if state.fact.number == section), None)
    if state is None:
        raise Refused(f"There is no section {section} in this job.", field="section", value=section)
    return state


def begin(desk: Desk, person: Person, key: str, number: str, member: str, how: SectionHow) -> int:
    """Begin to plan the replacement of a member and return the number of its section."""
    check_may(person, "decide")
    named = " ".join(member.split())
    if not 2 <= len(named) <= 120:
        raise Refused("Name the member, such as right rear rail.", field="member", value=member[:120])
    if how not in SECTION_HOW:
        raise Refused("Choose how it is replaced.", field="how", value=str(how)[:20])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        check_how(view.facts, named, how)
        return {"section": cuts.begin_section(connection, view.job.id, named, how, person.id)}

    return int(desk.in_job(person, key, f"section {number}", number, work)["section"])


def keep_strip(desk: Desk, person: Person, key: str, number: str, section: int, strip: StripSaid, seen: int) -> int:
    """Keep a strip as described. Raises `Refused` for what cannot be so, `Unsure` where somebody else kept another meanwhile."""
    check_may(person, "decide")
    check_strip_said(strip)
    check_strip(strip.place)

    def checked(view: JobView, state: SectionState) -> StripSaid:
        del state
        if strip.datum and view.facts.sheet is not None:
            known = {code.upper(): code for code in points_by_code(view.facts.sheet)}
            datum = known.get(strip.datum.upper(), strip.datum)
            find_point(points_by_code(view.facts.sheet), datum, "datum")
            return strip.model_copy(update={"datum": datum})
        return strip

    return _keep(desk, person, key, number, section, "strip", seen, checked)


def put_cuts(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    section: int,
    chosen: Mapping[str, float],
    reason: str,
    seen: int,
) -> int:
    """Keep cuts where a person puts them, by layer; layers that are not named go to the best place."""
    check_may(person, "decide")

    def moved(view: JobView, state: SectionState) -> StripSaid:
        del view
        if state.strip is None:
            raise Unsure("Describe the layers first.", field="layer")
        names = {layer.id: layer for layer in state.strip.cut}
        for name, at in chosen.items():
            layer = names.get(name)
            if layer is None:
                raise Refused(f"{name} is not cut.", field="layer", value=name)
            if not layer.start <= at <= layer.end:
                raise Refused(f"{name} reaches from {layer.start:g} mm to {layer.end:g} mm.", field="at", value=at)
        return state.strip.model_copy(update={"chosen": dict(chosen), "reason": " ".join(reason.split())[:2000]})

    return _keep(desk, person, key, number, section, "strip", seen, moved)


def keep_lines(desk: Desk, person: Person, key: str, number: str, section: int, lines: LinesSaid, seen: int) -> int:
    """Keep how the lines of a joint are drawn, sawn and trimmed."""
    check_may(person, "decide")
    cut_budget(lines.budget(backing=True))
    return _keep(desk, person, key, number, section, "lines", seen, lambda _view, _state: lines)


def keep_welds(desk: Desk, person: Person, key: str, number: str, section: int, welds: WeldsSaid, seen: int) -> int:
    """Keep the welds of a section. Raises `Refused` for stacks that are none and parts that are not listed."""
    check_may(person, "decide")
    check_welds_said(welds)

    def checked(view: JobView, state: SectionState) -> WeldsSaid:
        del state
        if welds.part is not None and welds.part not in {part.id for part in view.facts.parts}:
            raise Refused("There is no such part in this job.", field="part", value=welds.part)
        return welds

    return _keep(desk, person, key, number, section, "welds", seen, checked)


def _keep(desk: Desk, person: Person, key: str, number: str, section: int, topic: Topic, seen: int, make: Any) -> int:
    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = section_of(view, section)
        now = state.version(topic)
        if seen != now:
            by = state.said[topic].by.name
            raise Unsure(
                f"{by} changed this meanwhile (version {now}): look at it again, then put in what you had.",
                field="version",
                value=seen,
            )
        said: Said = make(view, state)
        return {"version": cuts.say(connection, view.job.id, section, topic, said, person.id)}

    return int(desk.in_job(person, key, f"section {number} {section} {topic}", number, work)["version"])


def tick(
    desk: Desk, person: Person, key: str, number: str, section: int, whose: Whose, weld: str, *, done: bool
) -> None:
    """Tick a weld off on a side, or take its tick back. What stands so already is left as it is."""
    check_may(person, "open welds")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = section_of(view, section)
        own = _weld_to_do(state, whose, weld)
        if view.state.hold("made_safe").status != "closed":
            raise Unsure("“Made safe” is not signed: nothing is drilled before it is.", field="weld", value=weld)
        if state.is_done(whose, weld) == done:
            return {}
        did = own.step(whose).words
        return {"id": cuts.tick(connection, view.job.id, section, whose, weld, did, person.id, done=done)}

    desk.in_job(person, key, f"weld {number} {section} {whose} {weld} {done}", number, work)


def _weld_to_do(state: SectionState, whose: Whose, weld: str) -> MappedWeld:
    work = next((weld_work for weld_work in state.to_do(whose) if weld_work.said.id == weld), None)
    if work is None:
        raise Refused(f"There is nothing to open at {weld} on the {whose}.", field="weld", value=weld[:40])
    return work


def make_cut(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    section: int,
    layer: str,
    kind: CutKind,
    at_mm: float | None,
    tool: str,
    words: str,
    reason: str,
) -> None:
    """Record a cut that is made. Raises `Unsure` that says what the final line waits for, `Refused` for an access cut that is none.

    `at_mm` None: where the final line is planned. A lead may let a final line go on without what may be overridden, with a reason.
    """
    check_may(person, "decide")
    if not tool.strip():
        raise Refused("With which tool? The cut sheet names it.", field="tool", value=tool[:40])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = section_of(view, section)
        if kind == "access":
            if at_mm is None:
                raise Refused("At which station?", field="at", value=None)
            check_access_cut(view.facts, view.state, state, layer, at_mm)
            kept, at = _Waived((), ""), at_mm
        else:
            kept = _let_go_on(person, view, state, layer, reason)
            judged = state.placed.judged if state.placed else None
            at = judged.cuts[layer] if judged else 0.0
        cut = cuts.make_cut(
            connection,
            view.job.id,
            section,
            layer,
            kind,
            at,
            tool.strip()[:120],
            words.strip()[:500],
            kept.words,
            kept.reason,
            person.id,
        )
        desk.moved(connection, view, "cut", f"{state.fact.member}, {layer}: {kind} cut at {at:g} mm", person)
        return {"id": cut}

    desk.in_job(person, key, f"cut {number} {section}", number, work)


class _Waived(NamedTuple):
    """What was missing when a lead let a cut go on, and why."""

    words: tuple[str, ...]
    reason: str


def template_of(state: SectionState, layer: str, whose: Whose, reach: str) -> Template:
    """Return the template of a layer, round its cut, or (`reach` is `datum`) all the way from the datum. Raises `Refused`."""
    lines = next((weld for weld in state.drawn if weld.layer == layer), None)
    own = state.layer(layer)
    if state.strip is None or lines is None or own is None:
        raise Refused("There is no line on this layer: settle where it is cut first.", field="layer", value=layer[:40])
    return cut_template(state.strip, lines, own, whose, state.welds, from_datum=reach == "datum")


def template_file(state: SectionState, kind: str, layer: str, whose: Whose, reach: str) -> tuple[str, bytes]:
    """Return the media type and the content of a template as `svg` or `dxf`. Raises `Refused` for other kinds."""
    return drawn_template(template_of(state, layer, whose, reach), kind)


def drawn_template(template: Template, kind: str) -> tuple[str, bytes]:
    """Return the media type and the content of a template as a file."""
    if kind == "svg":
        return "image/svg+xml", template_svg(template).encode()
    if kind == "dxf":
        return "image/vnd.dxf", template_dxf(template).encode()
    raise Refused("A template is SVG, DXF or PDF.", field="kind", value=kind[:10])


def _let_go_on(person: Person, view: JobView, state: SectionState, layer: str, reason: str) -> _Waived:
    if state.final(layer) is not None:
        raise Unsure(f"The final line of {layer} is cut already.", field="layer", value=layer)
    waits = final_waits(view.facts, view.state, state, layer)
    if not waits:
        return _Waived((), "")
    if any(not wait.overridable for wait in waits) or person.role != "lead":
        led = all(wait.overridable for wait in waits)
        raise lacking(say("cut.not_yet", missing=[wait.said for wait in waits], led=led), field="layer", value=layer)
    return _Waived(tuple(tell(wait.said) for wait in waits), reason_of(reason))


def take_cut_back(desk: Desk, person: Person, key: str, number: str, section: int, cut: int) -> None:
    """Record that a cut was recorded by mistake: it stays in the record, and counts no longer."""
    check_may(person, "decide")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if cut not in {cut.id for cut in section_of(view, section).cuts}:
            raise Refused("There is no such cut, or it was taken back already.", field="cut", value=cut)
        cuts.take_cut_back(connection, cut, person.id)
        return {}

    desk.in_job(person, key, f"cut back {number} {cut}", number, work)
