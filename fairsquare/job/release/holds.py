"""Hold points: the evidence that each needs, whether it is there, and whether what was signed still stands.

A hold is closed by a signature over its evidence. When the evidence changes afterwards the hold is open again by itself and
says why; nothing is stored for that, the signed evidence is compared with today's.
"""

from typing import Literal
from urllib.parse import quote, urlencode

from fairsquare.core.damage.read import Contradiction
from fairsquare.core.errors import FairSquareError
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.model import Model
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.who import Role
from fairsquare.job.damage.bound import STRUCTURAL, OnMember, structural, unplaced
from fairsquare.job.damage.choices import MemberState, member_states
from fairsquare.job.damage.job import damage_of, open_findings, units_of
from fairsquare.job.facts.holds import HoldName, SignatureFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.fit.job import fit_fact
from fairsquare.job.intake.supplements import line_states
from fairsquare.job.measure.counted import counting, reference_readings
from fairsquare.job.measure.picture import Picture, current_setup, picture_of
from fairsquare.job.missing import Demand, Missing, all_missing, lacks
from fairsquare.job.missing import ids as _ids
from fairsquare.job.moves import MOVES
from fairsquare.job.pull.board import after_pulls, pulls_wanted, staying_points, under_way
from fairsquare.job.release.handover import release_demands, standing
from fairsquare.job.release.proof import fit_demands, tool_missing
from fairsquare.job.stations import ADDED, BY_KEY
from fairsquare.job.weld.job import seam_states, welded

HoldStatus = Literal["closed", "ready", "missing"]

SOUND_POINTS = 3
SOUND_ALONG_MM = 300.0
SOUND_ACROSS_MM = 100.0


class NotThere(FairSquareError):
    """A hold point that a job does not have."""

    status = 404
    kind = "no-such-hold"


class Hold(Model):
    """One hold point as it stands. `reopened` says why a signature no longer holds."""

    name: HoldName
    title: str
    status: HoldStatus
    missing: tuple[Missing, ...]
    reopened: tuple[Said, ...]
    signature: SignatureFact | None
    evidence: dict[str, str]
    signers: tuple[Role, ...]
    demands: tuple[Demand, ...] = ()

    @property
    def blocked(self) -> bool:
        """Whether something is missing that nobody may override."""
        return any(not missing.overridable for missing in self.missing)


class JobState(Model):
    """A job worked out from its facts: the picture of the set-up in force, the hold points in order.

    `welded`: whether final welding is done, on the fit as it was accepted last.
    """

    picture: Picture | None
    holds: tuple[Hold, ...]
    welded: bool = False

    def hold(self, name: HoldName) -> Hold:
        """Return the hold point of that name. Raises `NotThere` where the job has none: of the pulls, where nothing is pulled."""
        hold_now = next((hold for hold in self.holds if hold.name == name), None)
        if hold_now is None:
            raise NotThere(f"This job has no hold point “{BY_KEY[name].title}”.", field="hold", value=name)
        return hold_now

    @property
    def may_weld(self) -> bool:
        """Whether final welding may go on: the fit is accepted, and stands."""
        return self.hold("fit_accepted").status == "closed"


def before_measuring(facts: JobFacts) -> JobState:
    """Work out the hold points before measuring, quickly: an instrument's set-up is judged without placing any point.

    The holds behind it are not to be asked of this state.
    """
    setup = current_setup(facts)
    join = setup is not None and setup.kind == "sight"
    picture = picture_of(facts, setup, facts.sheet, join=join) if setup and facts.sheet else None
    return JobState(picture=picture, holds=_before_measuring(facts, picture))


def job_state(facts: JobFacts) -> JobState:
    """Work out the picture and the hold points of a job."""
    setup = current_setup(facts)
    return _state(facts, picture_of(facts, setup, facts.sheet) if setup and facts.sheet else None)


def _before_measuring(facts: JobFacts, picture: Picture | None) -> tuple[Hold, Hold]:
    safe = _hold(facts, "made_safe", _missing_safety(facts), _safety_evidence(facts))
    return safe, _hold(
        facts,
        "setup_accepted",
        [*_missing_setup(facts, picture), *tool_missing(facts, picture, setup_only=True)],
        _setup_evidence(facts, picture),
    )


def _state(facts: JobFacts, picture: Picture | None) -> JobState:
    safe, accepted = _before_measuring(facts, picture)
    before = [*_unsigned(safe), *_unsigned(accepted)]
    decided = _decision(facts, picture, before)
    pulled = _pulls(facts, picture, [*before, *_unsigned(decided)])
    fit = _fit(facts, picture, (safe, accepted, decided, *pulled))
    holds = (safe, accepted, decided, *pulled, fit, _released(facts, picture, fit))
    return JobState(picture=picture, holds=holds, welded=_passed(facts) is not None)


def _fit(facts: JobFacts, picture: Picture | None, before: tuple[Hold, ...]) -> Hold:
    """Return the hold before final welding. Once welding is done it is behind: what comes after is the release's to judge."""
    passed = _passed(facts)
    if passed is not None:
        return _as_signed("fit_accepted", passed)
    own = fit_demands(facts, picture, [hold.name for hold in before if hold.status != "closed"])
    demands = (*own, *_asked(facts, "fit_accepted"))
    hold = _hold(facts, "fit_accepted", all_missing(own), _fit_evidence(facts, picture))
    return hold.model_copy(update={"demands": demands})


def _passed(facts: JobFacts) -> SignatureFact | None:
    """Return the signature under which welding was done, while nothing has changed the shape since."""
    signed = next((s for s in reversed(facts.signatures) if s.hold == "fit_accepted"), None)
    done = welded(facts)
    if signed is None or done is None or done.by.at <= signed.by.at or facts.practice:
        return None
    later = [move.what for move in facts.movements if move.id > done.id]
    return None if any(what in _UNDOES for what in later) else signed


_UNDOES = frozenset({"structure", "heat", "cut", "drop"})
"""What, after welding, means that the structure is worked on again."""


def _as_signed(name: HoldName, signature: SignatureFact) -> Hold:
    return Hold(
        name=name,
        title=BY_KEY[name].title,
        status="closed",
        missing=(),
        reopened=(),
        signature=signature,
        evidence=signature.evidence,
        signers=tuple(sorted(BY_KEY[name].signers, reverse=True)),
    )


def _released(facts: JobFacts, picture: Picture | None, fit: Hold) -> Hold:
    """Return the last hold. Once signed it stands on what it was signed on, until something of that is taken back or changes."""
    evidence = _release_evidence(facts, picture) | _asked_evidence(facts, "released")
    signed = next((s for s in reversed(facts.signatures) if s.hold == "released"), None)
    own = release_demands(facts, picture, accepted=fit.status == "closed")
    demands = (*own, *_asked(facts, "released"))
    if signed is not None:
        evidence |= _still_there(facts, signed)
        if signed.evidence == evidence and not tool_missing(facts, picture):
            return _as_signed("released", signed).model_copy(update={"demands": demands})
    return _hold(facts, "released", all_missing(own), evidence).model_copy(update={"demands": demands})


def _still_there(facts: JobFacts, signed: SignatureFact) -> dict[str, str]:
    """Return the readings and gaps of a signature where all of them still count: others that came later do not open it."""
    counted = {reading.id for reading in counting(facts.readings)}
    gaps = {gap.id for gap in facts.gaps}
    kept = {}
    for key, there in (("readings", counted), ("gaps", gaps)):
        own = signed.evidence.get(key)
        if own is not None and {int(number) for number in own.split()} <= there:
            kept[key] = own
    return kept


def _release_evidence(facts: JobFacts, picture: Picture | None) -> dict[str, str]:
    return {
        "movements": _moves(facts, "released"),
        "done": _ids(deed.id for deed in standing(facts)),
        "gaps": _ids({(gap.place, gap.stand): gap.id for gap in facts.gaps}.values()),
        "readings": _ids(sorted({i for used in picture.used.values() for i in used})) if picture else "",
    }


def _moves(facts: JobFacts, hold: HoldName) -> str:
    """Return the moves that open a hold again."""
    return _ids(move.id for move in facts.movements if hold in MOVES[move.what].reopens)


def may_sign(hold: Hold, role: Role) -> Said | None:
    """Return why a person of that role may not sign the hold; None when nothing stands in the way."""
    if not hold.signers:
        return say("sign.practice")
    if role not in hold.signers:
        return say("sign.role", hold=hold.name, signers=hold.signers, role=role)
    if hold.status == "closed":
        return say("sign.signed", hold=hold.name)
    if hold.blocked:
        return say("sign.blocked", missing=[missing.said for missing in hold.missing if not missing.overridable])
    if hold.missing and role != "lead":
        return say("sign.lead", missing=[missing.said for missing in hold.missing])
    return None


def _practised(name: HoldName, missing: list[Missing], evidence: dict[str, str]) -> Hold:
    """Return a hold point in practice: nobody signs it. What comes before the pulls is open where its evidence is there."""
    if name in ("fit_accepted", "released"):
        missing = [lacks("practice.ends", page="practice")]
    elif name != "pulls_done":
        missing = [lack for lack in missing if not lack.overridable] if name == "setup_accepted" else []
    open_way = not missing and name != "pulls_done"
    return Hold(
        name=name,
        title=BY_KEY[name].title,
        status="closed" if open_way else "missing" if missing else "ready",
        missing=tuple(missing),
        reopened=(),
        signature=None,
        evidence=evidence,
        signers=(),
    )


def _hold(facts: JobFacts, name: HoldName, missing: list[Missing], evidence: dict[str, str]) -> Hold:
    if facts.practice:
        return _practised(name, missing, evidence)
    evidence = evidence | _asked_evidence(facts, name)
    signature = next((s for s in reversed(facts.signatures) if s.hold == name), None)
    reopened = _reopened(signature, evidence, missing) if signature else ()
    closed = signature is not None and not reopened
    missing = [*missing, *all_missing(_asked(facts, name))]
    status: HoldStatus = "closed" if closed else "missing" if missing else "ready"
    return Hold(
        name=name,
        title=BY_KEY[name].title,
        status=status,
        missing=() if closed else tuple(missing),
        reopened=reopened,
        signature=signature,
        evidence=evidence,
        signers=tuple(sorted(BY_KEY[name].signers, reverse=True)),
    )


def _asked(facts: JobFacts, name: HoldName) -> tuple[Demand, ...]:
    """Return what stations ask for at a hold point whose rows stand in modules of their own."""
    return tuple(added.asks[name](facts).demand for added in ADDED if name in added.asks)


def _asked_evidence(facts: JobFacts, name: HoldName) -> dict[str, str]:
    """Return their evidence, where there is any: what was signed before the house had a station stands."""
    asked = {station.key: station.asks[name](facts).evidence for station in ADDED if name in station.asks}
    return {key: evidence for key, evidence in asked.items() if evidence}


def _reopened(signature: SignatureFact, evidence: dict[str, str], missing: list[Missing]) -> tuple[Said, ...]:
    keys = sorted(set(evidence) | set(signature.evidence))
    changed = [say("changed", of=key) for key in keys if evidence.get(key) != signature.evidence.get(key)]
    grown = [m.said for m in missing if not m.overridable]
    return tuple(changed) or tuple(grown)


def _unsigned(hold: Hold) -> list[Missing]:
    return [] if hold.status == "closed" else [lacks("not_signed", hold=hold.name, page=f"holds/{hold.name}")]


def _missing_safety(facts: JobFacts) -> list[Missing]:
    answered = {fact.item: fact for fact in facts.safety if fact.answer != "undone"}
    missing = [
        lacks("safety.unanswered", item=item.key, page="take-in") for item in SAFETY_ITEMS if item.key not in answered
    ]
    for item in SAFETY_ITEMS:
        fact = answered.get(item.key)
        if item.qualified and fact and fact.answer == "done" and not (fact.done_by and fact.qualification):
            missing.append(lacks("safety.unqualified", item=item.key, page="take-in"))
    return missing


def _safety_evidence(facts: JobFacts) -> dict[str, str]:
    latest = {fact.item: fact for fact in facts.safety}
    return {"safety": _ids(latest[item.key].id for item in SAFETY_ITEMS if item.key in latest)}


def _missing_setup(facts: JobFacts, picture: Picture | None) -> list[Missing]:
    if facts.sheet is None:
        return [lacks("setup.no_sheet", page="sheet")]
    if picture is None:
        last = facts.setups[-1] if facts.setups else None
        if last and last.voided:
            return [lacks("setup.void", number=last.number, cause=last.voided.words, page="set-up")]
        return [lacks("setup.none", page="set-up")]
    if picture.setup.kind == "sight":
        return _missing_sight(facts.sheet, picture)
    if picture.fit is None:
        return [lacks("setup.fault", told=picture.fault or "", page="set-up")]
    missing = []
    if picture.fit.verdict == "refused":
        missing.append(Missing(said=say("fit.refused", **picture.fit.warnings[-1].values), page="set-up"))
    if picture.fit.verdict == "ambiguous" and picture.setup.choice is None:
        missing.append(lacks("setup.ambiguous", page="set-up"))
    if picture.setup.choice and set(picture.setup.choice.trusted) != set(picture.relied_on):
        missing.append(lacks("setup.choice_disagrees", page="set-up"))
    missing += [
        Missing(
            said=say(f"fit.{w.kind}", **w.values),
            todo=_what_to_do(facts.sheet, picture),
            overridable=True,
            page="set-up",
        )
        for w in picture.fit.warnings
        if w.kind in ("unchecked", "weak")
    ]
    return missing


def _what_to_do(sheet: Sheet, picture: Picture) -> Said:
    """Return what can be done where references hold the set-up too loosely, also where the sheet has no other."""
    left = [point.code for point in sheet.points if point.reference and point.code not in picture.relied_on]
    if left:
        return say("setup.left_to_read", codes=left)
    xs = [point.xyz[0] for point in sheet.points if point.reference]
    far = sorted(sheet.points, key=lambda point: -max(point.xyz[0] - max(xs), min(xs) - point.xyz[0]))
    states = picture.judged
    sound = [p.code for p in far if not p.reference and p.code in states and states[p.code].state == "fair"][:2]
    return say("setup.no_other_reference", sound=sound)


def _missing_sight(sheet: Sheet, picture: Picture) -> list[Missing]:
    """Return what a set-up of gauges, line and tape lacks: sound points that were chosen, far apart, and agree."""
    sound = [point.xyz for point in sheet.points if point.code in picture.relied_on]
    if not sound:
        return [lacks("sound.none", page="set-up")]
    along = max(place[0] for place in sound) - min(place[0] for place in sound)
    across = max(place[1] for place in sound) - min(place[1] for place in sound)
    if len(sound) < SOUND_POINTS or along < SOUND_ALONG_MM or across < SOUND_ACROSS_MM:
        return [lacks("sound.too_few", apart_mm=SOUND_ALONG_MM, page="set-up")]
    if picture.fault:
        return [lacks("setup.fault", told=picture.fault, page="set-up")]
    joined = picture.joined
    if joined is None or joined.dof < 1:
        return [lacks("sound.unchecked", overridable=True, page="measure")]
    doubted = [*joined.distrusted, *(code for doubt in joined.doubts for code in doubt.places)]
    if doubted:
        return [lacks("sound.doubted", codes=list(dict.fromkeys(doubted)), page="set-up")]
    return []


def _setup_evidence(facts: JobFacts, picture: Picture | None) -> dict[str, str]:
    evidence = {
        "sheet": str(facts.dimensions_version or facts.sheet_version or ""),
        "setup": str(picture.setup.number if picture else ""),
    }
    if picture:
        if picture.setup.kind == "instrument":
            evidence["references"] = _ids(r.id for r in reference_readings(facts, picture.setup.number))
        evidence["choice"] = " ".join(picture.relied_on)
    return evidence


def _decision(facts: JobFacts, picture: Picture | None, before: list[Missing]) -> Hold:
    """Return the hold before pulls and cuts. Once signed it stands on what was seen and decided, whatever is read later."""
    evidence = _decision_evidence(facts)
    signed = next((s for s in reversed(facts.signatures) if s.hold == "decision_made"), None)
    if signed is not None and _walk_stands(facts, signed.evidence.get("walk", "")):
        evidence["walk"] = signed.evidence.get("walk", "")
    stands = signed is not None and signed.evidence == evidence
    return _hold(facts, "decision_made", [] if stands else [*before, *_missing_decision(facts, picture)], evidence)


def _walk_stands(facts: JobFacts, signed: str) -> bool:
    """Say whether nothing structural was seen or taken back since those ids were signed: what else was noted opens nothing."""
    before = {int(number) for number in signed.split()}
    now = {seen.id for seen in structural(facts)}
    gone = {seen.id for seen in facts.walk if seen.taken_back and seen.kind in STRUCTURAL}
    return now <= before and not before & gone


def _missing_decision(facts: JobFacts, picture: Picture | None) -> list[Missing]:
    """Return what a decision lacks: points read, findings on their members, no point off that is on none, every member decided,
    and no contradiction left open.

    Contradictions are looked for last, when nothing else stands in the way that a reading would change.
    """
    if picture is None:
        return [lacks("decision.unmeasured", page="measure")]
    missing = [
        lacks("decision.supplement", line=state.line.words, status=state.status, page="supplements")
        for state in line_states(facts)
        if state.opens_decision
    ]
    unread = [code for code, judged in picture.judged.items() if judged.state == "unread"]
    if unread:
        missing.append(
            lacks("decision.unread", codes=unread, overridable=True, page=f"measure?point={quote(unread[0])}")
        )
    missing += [_unplaced(fact) for fact in unplaced(facts)]
    missing += _off_no_member(facts, picture)
    undecided: dict[str, list[MemberState]] = {}
    for state in member_states(facts):
        if state.open:
            undecided.setdefault(state.open.model_dump_json(), []).append(state)
    missing += [
        lacks(
            "decision.undecided",
            members=[state.name for state in states],
            why=states[0].open,
            page=f"decide?{urlencode({'member': states[0].member})}",
        )
        for states in undecided.values()
    ]
    if undecided:
        return missing
    missing += _kept_though_off(facts, picture)
    damage = damage_of(facts)
    return missing + [
        Missing(
            said=say(f"damage.{open_finding.kind}", **open_finding.values),
            todo=_again(facts, open_finding),
            page="damage#settle-h",
        )
        for open_finding in open_findings(facts, damage.findings if damage else ())
    ]


def _again(facts: JobFacts, found: Contradiction) -> Said:
    """Return what is to be done first about a contradiction: its points read again, where they were read only once."""
    once = [code for code in found.points if sum(code in reading.codes for reading in counting(facts.readings)) < 2]
    return say("decision.read_again", codes=once) if once else say("decision.stays_so")


def _unplaced(fact: OnMember) -> Missing:
    page = f"walk-round#seen-{fact.seen.id}"
    return lacks("decision.unplaced", seen=fact.seen.said, member=fact.member or "", page=page)


def _off_no_member(facts: JobFacts, picture: Picture) -> list[Missing]:
    """Return the points that are out of tolerance and belong to no member, so that nothing is decided of them."""
    if facts.sheet is None:
        return []
    stray = [p.code for p in facts.sheet.points if p.member is None]
    off = [code for code in dict.fromkeys(stray) if code in picture.judged and picture.judged[code].state == "off"]
    if off:
        page = f"sheet/members?touched={quote(' '.join(off))}"
        return [lacks("decision.off_no_member", codes=off, page=page)]
    if not member_states(facts):
        return [lacks("decision.no_members", page="sheet/members")]
    return []


def _kept_though_off(facts: JobFacts, picture: Picture) -> list[Missing]:
    """Return the members that are kept as they are though points of them are out of tolerance."""
    points = units_of(facts.sheet) if facts.sheet else {}
    missing = []
    for state in member_states(facts):
        off = [p.code for p in points.get(state.member, ()) if picture.judged[p.code].state == "off"]
        layers = {member_state.layer for member_state in member_states(facts) if member_state.member == state.member}
        if off and len(layers) == 1 and state.decision and state.decision.decision == "keep":
            page = f"decide?{urlencode({'member': state.member})}"
            missing.append(lacks("decision.kept_off", member=state.name, codes=off, overridable=True, page=page))
    return missing


def _decision_evidence(facts: JobFacts) -> dict[str, str]:
    states = member_states(facts)
    return {
        "sheet": str(facts.sheet_version or ""),
        "walk": _ids(seen.id for seen in structural(facts)),
        "members": _ids(state.seen.id for state in states if state.seen),
        "decisions": _ids(state.decision.id for state in states if state.decision),
        "settled": _ids(settlement.id for settlement in facts.settlements),
        "supplements": _ids(state.line.id for state in line_states(facts) if state.opens_decision),
        **({"bound": _ids(binding.id for binding in facts.bound)} if facts.bound else {}),
    }


def _pulls(facts: JobFacts, picture: Picture | None, before: list[Missing]) -> tuple[Hold, ...]:
    """Return the hold behind the pulls, where anything is pulled in this job."""
    if not (pulls_wanted(facts) or facts.practice):
        return ()
    evidence = {"pulls": _ids(event.id for event in facts.pull_events)} | _read_evidence(facts, picture)
    signed = next((s for s in reversed(facts.signatures) if s.hold == "pulls_done"), None)
    if signed is not None and not facts.practice:
        evidence |= {key: own for key, own in _still_there(facts, signed).items() if key == "readings"}
        if signed.evidence == evidence and not before and not tool_missing(facts, picture):
            return (_as_signed("pulls_done", signed),)
    return (_hold(facts, "pulls_done", [*before, *_missing_pulls(facts, picture)], evidence),)


def _missing_pulls(facts: JobFacts, picture: Picture | None) -> list[Missing]:
    """Return what stands in the way of calling the pulls done: every point that stays is fair, read free after the last of them."""
    if picture is None:
        return [lacks("points.unmeasured", page="set-up")]
    missing = tool_missing(facts, picture)
    if under_way(facts):
        missing.append(lacks("pulls.under_way", page="board"))
    ends = after_pulls(facts)
    decided_at = max((s.by.at for s in facts.signatures if s.hold == "decision_made"), default="")
    for number, event in ends.items():
        if event.after and (event.after.cracks.strip() or event.after.seams.strip()) and event.by.at > decided_at:
            damage = event.after.cracks.strip() or event.after.seams.strip()
            missing.append(lacks("pulls.found_after", pull=number, found=damage, overridable=True, page="decide"))
    stay = set(staying_points(facts))
    states = {code: judged.state for code, judged in picture.judged.items() if code in stay}
    stale = [code for code in picture.stale_only if code in stay]
    loaded = [code for code in picture.loaded_only if code in stay]
    unread = [c for c, state in states.items() if state == "unread" and c not in stale and c not in loaded]
    if unread:
        missing.append(lacks("points.unread", codes=unread, page="measure"))
    if loaded:
        missing.append(lacks("points.loaded", codes=loaded, page="measure"))
    if stale:
        missing.append(lacks("points.before_pull", codes=stale, page="measure"))
    for kind in ("off", "close"):
        codes = [code for code, state in states.items() if state == kind]
        if codes:
            page = "pulls" if kind == "off" else "measure"
            missing.append(lacks(f"points.{kind}", codes=codes, overridable=True, page=page))
    return missing


def _read_evidence(facts: JobFacts, picture: Picture | None) -> dict[str, str]:
    evidence = {"movements": _moves(facts, "pulls_done")}
    if picture:
        stay = set(staying_points(facts))
        evidence["readings"] = _ids(sorted({i for code, ids in picture.used.items() if code in stay for i in ids}))
    return evidence


def _fit_evidence(facts: JobFacts, picture: Picture | None) -> dict[str, str]:
    evidence = _setup_evidence(facts, picture)
    evidence["movements"] = _moves(facts, "fit_accepted")
    if facts.parts:
        evidence["parts"] = _ids(
            [*(part_item.id for part_item in facts.part_items), *(part_span.id for part_span in facts.part_spans)]
        )
    if facts.sections:
        done = [*(weld_tick.id for weld_tick in facts.weld_ticks), *(cut.id for cut in facts.cuts_made)]
        evidence["cuts"] = _ids([*(statement.id for statement in facts.section_said), *done])
    evidence["gaps"] = _ids({(gap.place, gap.stand): gap.id for gap in facts.gaps}.values())
    fit = fit_fact(facts)
    if fit is not None:
        evidence["fit"] = str(fit.id)
    seams = seam_states(facts)
    if seams:
        evidence["seams"] = "; ".join(
            f"{seam.number} {seam.plan.process} {seam.plan.metal} {'+'.join(f'{mm:g}' for mm in seam.plan.sheets_mm)}"
            for seam in seams
        )
    if picture:
        evidence["readings"] = _ids(sorted(i for used in picture.used.values() for i in used))
    return evidence
