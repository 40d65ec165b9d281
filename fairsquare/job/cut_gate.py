"""What a cut waits for: the final line for everything that would move or miss it, an access cut only for metal that is given up."""

from collections.abc import Iterator

from fairsquare.core.cut.section import AccessCut, SectionHow
from fairsquare.core.errors import Refused
from fairsquare.core.said import Said, say
from fairsquare.job.cut.job import SectionState, members_off
from fairsquare.job.damage.choices import CHOICES, MemberState, member_states
from fairsquare.job.damage.job import counting_walk, damage_of, open_findings, units_of
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.intake.parts import part_states
from fairsquare.job.missing import Lacking, Missing, lacks
from fairsquare.job.release.holds import JobState

CAUTIONS = (
    "Eyes, ears, lungs, sleeves: grinding and sawing throw sparks, zinc and dust.",
    "Fire watch: adhesive, foam, seam sealer and fuel burn. Blankets down, extinguisher at hand, look again half an hour later.",
    "What is live behind the metal: harness, fuel and brake lines, airbag generators, high voltage. Off, away or shielded first.",
    "Metal under tension closes on the saw: let go of pulls, start from the other side, wedge the cut as it opens.",
    "The maker's procedure comes first: where it names a place to cut, or forbids one, that is the place.",
)
_BENDS_BACK = frozenset({"straighten", "try", "straighten_then_replace"})


def final_waits(facts: JobFacts, state: JobState, section: SectionState, layer: str) -> tuple[Missing, ...]:
    """Return what the final line of a layer waits for; nothing where it may be cut."""
    return tuple(_final_waits(facts, state, section, layer))


_ACROSS = frozenset({"section", "straighten_then_replace"})
"""Decisions by which a member is cut across."""


def check_how(facts: JobFacts, member: str, how: SectionHow) -> None:
    """Raise `Refused` for a cut across a member that was decided otherwise: what is cut is what was decided."""
    own = [state for state in member_states(facts) if state.member == member and state.decision]
    if how != "cut" or not own or any(state.decision and state.decision.decision in _ACROSS for state in own):
        return
    words = ", ".join(dict.fromkeys(CHOICES[state.decision.decision] for state in own if state.decision))
    raise Refused(
        f"{member} is decided: {words}. A cut across it is another decision: where the maker gives a window for it, decide it "
        "again on Decide, and it is signed again.",
        field="how",
        value=how,
    )


def how_decided(facts: JobFacts, member: str) -> SectionHow:
    """Return how a member is replaced by what was decided of it."""
    own = [state.decision.decision for state in member_states(facts) if state.member == member and state.decision]
    return "cut" if not own or _ACROSS & set(own) else "seams"


def _undecided(facts: JobFacts, section: SectionState, layer: str) -> Iterator[Missing]:
    """Yield that a layer was not decided to be cut across; layers that nobody decided apart go with their member."""
    own = [state for state in member_states(facts) if state.member == section.fact.member]
    here: list[MemberState] = [state for state in own if state.layer in ("", layer)] or own
    if not any(state.decision and state.decision.decision in _ACROSS for state in here):
        member, said = section.fact.member, [state.decision.decision for state in here if state.decision]
        yield lacks(
            "cut.not_decided",
            member=member,
            layer=layer,
            decided=list(dict.fromkeys(said)),
            page="decide",
            todo=say("todo.decide", member=member),
        )


def _final_waits(facts: JobFacts, state: JobState, section: SectionState, layer: str) -> Iterator[Missing]:
    judged = section.placed.judged if section.placed else None
    if section.strip is None or judged is None or layer not in judged.cuts:
        yield lacks("cut.nowhere", page=f"cuts/{section.fact.number}/strip", todo=say("todo.describe_strip"))
        return
    yield from _undecided(facts, section, layer)
    for hold in state.holds:
        if hold.name in ("made_safe", "decision_made", "pulls_done") and hold.status != "closed":
            yield lacks(
                "not_signed",
                hold=hold.name,
                overridable=hold.name == "pulls_done",
                page=f"holds/{hold.name}",
                todo=say("todo.look_at_hold"),
            )
    damage = damage_of(facts)
    for finding in open_findings(facts, damage.findings if damage else ()):
        told = say(f"damage.{finding.kind}", **finding.values)
        yield lacks("cut.contradiction", of=told, page="damage#settle-h", todo=say("todo.settle"))
    yield from _parts_wait(facts, section)
    yield from _beneath_waits(facts, state, section, layer)
    if any(judged.broken.values()) and not section.strip.reason:
        yield lacks("cut.rule_broken", page=f"cuts/{section.fact.number}", todo=say("todo.elsewhere"))
    yield from plate_waits(facts, section, layer, judged.cuts[layer])


def _parts_wait(facts: JobFacts, section: SectionState) -> Iterator[Missing]:
    wanted = section.welds.part if section.welds else None
    states = [part_state for part_state in part_states(facts) if wanted is None or part_state.part.id == wanted]
    if not states:
        yield lacks("part.none", overridable=True, page="parts", todo=say("todo.check_in"))
    for state in states:
        if state.faults:
            yield lacks(
                "part.faults",
                part=state.part.name,
                faults=state.faults,
                overridable=True,
                page="parts",
                todo=say("todo.look_at_part"),
            )


def _beneath_waits(facts: JobFacts, state: JobState, section: SectionState, layer: str) -> Iterator[Missing]:
    """Yield what lies beneath the layer and is to be brought home first; layers are listed from the outside in."""
    names = [layer.id for layer in section.strip.layers] if section.strip else []
    beneath = set(names[names.index(layer) + 1 :]) if layer in names else set()
    worked = [
        member_state
        for member_state in member_states(facts)
        if member_state.member == section.fact.member
        and member_state.layer in beneath
        and member_state.decision
        and member_state.decision.decision in _BENDS_BACK
    ]
    if not worked or facts.sheet is None:
        return
    own = {point.code for point in units_of(facts.sheet).get(section.fact.member, ())}
    judged = state.picture.judged if state.picture else {}
    off = sorted(code for code in own if code not in judged or judged[code].state != "fair")
    if off:
        yield lacks(
            "cut.beneath",
            member=worked[0].name,
            codes=off,
            overridable=True,
            page="pulls",
            todo=say("todo.bring_home"),
        )


def plate_waits(facts: JobFacts, section: SectionState, layer: str, at: float) -> Iterator[Missing]:
    """Yield the identity plate or label that a cut, or what comes off with it, would take along, while there is no photo of it."""
    shown = any(photo.about == "section" and photo.about_id == section.fact.id for photo in facts.photos)
    if shown:
        return
    strip = section.strip
    if strip is not None:
        for feature in strip.features:
            off = feature.end >= at if strip.keep == "low" else feature.start <= at
            if feature.kind == "plate" and off and (feature.layers is None or layer in feature.layers):
                page = f"cuts/{section.fact.number}#made"
                plate = say("cut.plate", **strip.station_said(feature.start))
                yield Missing(said=plate, page=page, todo=say("todo.photograph"))
                return
    own = units_of(facts.sheet).get(section.fact.member, ()) if facts.sheet else ()
    codes = {point.code for point in own}
    photographed = {photo.about_id for photo in facts.photos if photo.about == "walk"}
    for seen in counting_walk(facts):
        near = seen.code in codes or section.fact.member in seen.place
        if seen.kind == "plate" and near and seen.id not in photographed:
            yield lacks("cut.plate_seen", seen=seen.said, page="walk-round", todo=say("todo.photograph"))
            return


def access_waits(facts: JobFacts, state: JobState, section: SectionState, cut: AccessCut) -> Said | None:
    """Return why an access cut that is planned may not be made; None where it may."""
    try:
        check_access_cut(facts, state, section, cut.layer, cut.at_mm)
    except Lacking as lacking:
        return lacking.said
    except Refused as refused:
        return say("as_told", told=refused.title)
    return None


def check_access_cut(facts: JobFacts, state: JobState, section: SectionState, layer: str, at: float) -> None:
    """Raise `Refused` or `Lacking` for an access cut that is none: in metal that is not given up, or too near the final line.

    Allowed before and between pulls, once the vehicle is made safe.
    """
    strip, judged = section.strip, section.placed.judged if section.placed else None
    own = next((layer_said for layer_said in strip.layers if layer_said.id == layer), None) if strip else None
    if strip is None or own is None:
        raise Refused("Name a layer of the strip.", field="layer", value=layer)
    if state.hold("made_safe").status != "closed":
        raise Refused("“Made safe” is not signed: nothing is cut before it is.", field="at", value=at)
    if not own.start <= at <= own.end:
        raise Refused(f"{layer} reaches from {own.start:g} mm to {own.end:g} mm.", field="at", value=at)
    off = [
        member for member in members_off(facts) if member.member == section.fact.member and member.layer in ("", layer)
    ]
    if not off:
        raise Refused(
            f"{section.fact.member}, {layer}: not decided to come off. An access cut goes into metal that is given up.",
            field="layer",
            value=layer,
        )
    if own.damage is None or judged is None or layer not in judged.cuts:
        raise Refused("Settle first where the final line goes: an access cut keeps away from it.", field="at", value=at)
    beyond = at - judged.cuts[layer] if strip.keep == "low" else judged.cuts[layer] - at
    if beyond < strip.long_mm:
        raise Refused(
            f"{beyond:g} mm beyond the final line: {strip.long_mm:g} mm are left long, to pull by and to move the line if need be.",
            field="at",
            value=at,
        )
    for missing in plate_waits(facts, section, layer, at):
        raise Lacking(missing, field="at", value=at)
