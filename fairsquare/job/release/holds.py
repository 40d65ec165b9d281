"""Hold points: the evidence that each needs, whether it is there, and whether what was signed still stands.

A hold is closed by a signature over its evidence. When the evidence changes afterwards the hold is open again by itself and
says why; nothing is stored for that, the signed evidence is compared with today's.
"""

from typing import Literal
from urllib.parse import quote, urlencode

from fairsquare.core.damage.read import Contradiction
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.model import Model
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.who import Role
from fairsquare.job.damage.bound import STRUCTURAL, OnMember, structural, unplaced
from fairsquare.job.damage.choices import member_states
from fairsquare.job.damage.job import damage_of, open_findings, units_of
from fairsquare.job.facts.holds import HoldName, SignatureFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.fit.job import fit_fact
from fairsquare.job.intake.supplements import line_states
from fairsquare.job.measure.counted import counting, reference_readings
from fairsquare.job.measure.picture import Picture, current_setup, picture_of
from fairsquare.job.missing import Demand, Missing, all_missing
from fairsquare.job.missing import count as _count
from fairsquare.job.missing import ids as _ids
from fairsquare.job.missing import listed as _list
from fairsquare.job.moves import MOVES
from fairsquare.job.pull.board import after_pulls, pulls_wanted, staying_points, under_way
from fairsquare.job.release.handover import release_demands, standing
from fairsquare.job.release.proof import fit_demands, tool_missing
from fairsquare.job.stations import BY_KEY
from fairsquare.job.weld.job import seam_states, welded

HoldStatus = Literal["closed", "ready", "missing"]

SOUND_POINTS = 3
SOUND_ALONG_MM = 300.0
SOUND_ACROSS_MM = 100.0

_WHY_CHANGED = {
    "sheet": "the sheet is another version than the one that was signed",
    "setup": "the set-up is another one, or none is in force any more",
    "references": "reference points were read again",
    "choice": "other references are relied on",
    "safety": "an answer on the made-safe list has changed",
    "readings": "points were read, corrected or taken back",
    "movements": "something was moved",
    "gaps": "gaps were read again",
    "parts": "a part was checked again",
    "cuts": "a cut was planned anew or made, or a weld was opened",
    "walk": "something was seen at the walk-round, or taken back",
    "bound": "it was said anew on which member something is that was seen",
    "members": "a member was looked at again",
    "decisions": "a member was decided anew",
    "settled": "a contradiction was settled",
    "pulls": "pulls were made since",
    "supplements": "a supplement waits for the payer's word",
    "fit": "the panels and gaps were listed anew",
    "seams": "a seam is welded otherwise than was planned",
    "done": "something was done, found or taken back",
}


_WAITS = {
    "draft": "not sent to the payer yet",
    "sent": "not answered by the payer yet",
    "refused": "refused by the payer",
    "asked": "asked about by the payer",
}


class Hold(Model):
    """One hold point as it stands. `reopened` says why a signature no longer holds."""

    name: HoldName
    title: str
    status: HoldStatus
    missing: tuple[Missing, ...]
    reopened: tuple[str, ...]
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
        """Return the hold point of that name."""
        return next(hold for hold in self.holds if hold.name == name)

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
    demands = fit_demands(facts, picture, {hold.name: hold.title for hold in before if hold.status != "closed"})
    hold = _hold(facts, "fit_accepted", all_missing(demands), _fit_evidence(facts, picture))
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
    evidence = _release_evidence(facts, picture)
    signed = next((s for s in reversed(facts.signatures) if s.hold == "released"), None)
    demands = release_demands(facts, picture, accepted=fit.status == "closed")
    if signed is not None:
        evidence |= _still_there(facts, signed)
        if signed.evidence == evidence and not tool_missing(facts, picture):
            return _as_signed("released", signed).model_copy(update={"demands": demands})
    return _hold(facts, "released", all_missing(demands), evidence).model_copy(update={"demands": demands})


def _still_there(facts: JobFacts, signed: SignatureFact) -> dict[str, str]:
    """Return the readings and gaps of a signature where all of them still count: others that came later do not open it."""
    counted = {reading.id for reading in counting(facts.readings)}
    gaps = {gap.id for gap in facts.gaps}
    kept = {}
    for key, there in (("readings", counted), ("gaps", gaps)):
        own = signed.evidence.get(key)
        if own is not None and {int(one) for one in own.split()} <= there:
            kept[key] = own
    return kept


def _release_evidence(facts: JobFacts, picture: Picture | None) -> dict[str, str]:
    return {
        "movements": _moves(facts, "released"),
        "done": _ids(one.id for one in standing(facts)),
        "gaps": _ids({(gap.place, gap.stand): gap.id for gap in facts.gaps}.values()),
        "readings": _ids(sorted({i for used in picture.used.values() for i in used})) if picture else "",
    }


def _moves(facts: JobFacts, hold: HoldName) -> str:
    """Return the moves that open a hold again."""
    return _ids(move.id for move in facts.movements if hold in MOVES[move.what].reopens)


def may_sign(hold: Hold, role: Role) -> str | None:
    """Return why a person of that role may not sign the hold, in words; None when nothing stands in the way."""
    if not hold.signers:
        return "This is practice: nothing is signed."
    if role not in hold.signers:
        return f"{hold.title} is signed by a {' or a '.join(hold.signers)}; you are signed in as {role}."
    if hold.status == "closed":
        return f"{hold.title} is signed already, on the evidence as it stands."
    if hold.blocked:
        return "Not yet: " + " ".join(missing.words for missing in hold.missing if not missing.overridable)
    if hold.missing and role != "lead":
        return "Only a lead may override what is missing: " + " ".join(missing.words for missing in hold.missing)
    return None


def _practised(name: HoldName, missing: list[Missing], evidence: dict[str, str]) -> Hold:
    """Return a hold point in practice: nobody signs it. What comes before the pulls is open where its evidence is there."""
    if name in ("fit_accepted", "released"):
        missing = [Missing(words="Practice ends with the pulls: nothing is welded on it.", page="practice")]
    elif name != "pulls_done":
        missing = [one for one in missing if not one.overridable] if name == "setup_accepted" else []
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
    signature = next((s for s in reversed(facts.signatures) if s.hold == name), None)
    reopened = _reopened(signature, evidence, missing) if signature else ()
    closed = signature is not None and not reopened
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


def _reopened(signature: SignatureFact, evidence: dict[str, str], missing: list[Missing]) -> tuple[str, ...]:
    keys = sorted(set(evidence) | set(signature.evidence))
    changed = [
        _WHY_CHANGED.get(key, f"{key} has changed") for key in keys if evidence.get(key) != signature.evidence.get(key)
    ]
    grown = [m.words.rstrip(".") for m in missing if not m.overridable]
    return tuple(changed) or tuple(grown)


def _unsigned(hold: Hold) -> list[Missing]:
    return (
        [] if hold.status == "closed" else [Missing(words=f"“{hold.title}” is not signed.", page=f"holds/{hold.name}")]
    )


def _missing_safety(facts: JobFacts) -> list[Missing]:
    answered = {fact.item: fact for fact in facts.safety if fact.answer != "undone"}
    missing = [
        Missing(words=f"{item.title}: not answered yet.", page="take-in")
        for item in SAFETY_ITEMS
        if item.key not in answered
    ]
    for item in SAFETY_ITEMS:
        fact = answered.get(item.key)
        if item.qualified and fact and fact.answer == "done" and not (fact.done_by and fact.qualification):
            words = f"{item.title}: say by whom, and the number of the {item.qualified}."
            missing.append(Missing(words=words, page="take-in"))
    return missing


def _safety_evidence(facts: JobFacts) -> dict[str, str]:
    latest = {fact.item: fact for fact in facts.safety}
    return {"safety": _ids(latest[item.key].id for item in SAFETY_ITEMS if item.key in latest)}


def _missing_setup(facts: JobFacts, picture: Picture | None) -> list[Missing]:
    if facts.sheet is None:
        return [Missing(words="There is no sheet: import one or type it in.", page="sheet")]
    if picture is None:
        last = facts.setups[-1] if facts.setups else None
        if last and last.voided:
            return [Missing(words=f"Set-up {last.number} is void: {last.voided.words}. Make a new one.", page="set-up")]
        return [Missing(words="There is no set-up: open one and read the reference points.", page="set-up")]
    if picture.setup.kind == "sight":
        return _missing_sight(facts.sheet, picture)
    if picture.fit is None:
        return [Missing(words=picture.fault or "The reference points do not make a set-up.", page="set-up")]
    missing = []
    if picture.fit.verdict == "refused":
        missing.append(Missing(words=picture.fit.warnings[-1].words, page="set-up"))
    if picture.fit.verdict == "ambiguous" and picture.setup.choice is None:
        words = "More than one set of references fits. Read another reference, or choose which to trust, with a reason."
        missing.append(Missing(words=words, page="set-up"))
    if picture.setup.choice and set(picture.setup.choice.trusted) != set(picture.relied_on):
        missing.append(Missing(words="The references chosen do not agree any more: choose again.", page="set-up"))
    missing += [
        Missing(words=w.words, todo=_what_to_do(facts.sheet, picture), overridable=True, page="set-up")
        for w in picture.fit.warnings
        if w.kind in ("unchecked", "weak")
    ]
    return missing


def _what_to_do(sheet: Sheet, picture: Picture) -> str:
    """Return what can be done where references hold the set-up too loosely, also where the sheet has no other."""
    left = [point.code for point in sheet.points if point.reference and point.code not in picture.relied_on]
    if left:
        return f"Left to read: {_list(left)}."
    xs = [point.xyz[0] for point in sheet.points if point.reference]
    far = sorted(sheet.points, key=lambda point: -max(point.xyz[0] - max(xs), min(xs) - point.xyz[0]))
    states = picture.judged
    sound = [p.code for p in far if not p.reference and p.code in states and states[p.code].state == "fair"][:2]
    more = (
        f" {_list(sound)} read fair and would help: make them references on the sheet, and read them as such."
        if sound
        else ""
    )
    return (
        f"The sheet has no other reference.{more} Cross spans over the whole length, with the tram, check it too. Or a lead signs "
        "it with a reason: what is measured keeps that uncertainty, and says so."
    )


def _missing_sight(sheet: Sheet, picture: Picture) -> list[Missing]:
    """Return what a set-up of gauges, line and tape lacks: sound points that were chosen, far apart, and agree."""
    sound = [point.xyz for point in sheet.points if point.code in picture.relied_on]
    if not sound:
        return [Missing(words="Say which points stand on sound frame: that is chosen, never assumed.", page="set-up")]
    along = max(place[0] for place in sound) - min(place[0] for place in sound)
    across = max(place[1] for place in sound) - min(place[1] for place in sound)
    if len(sound) < SOUND_POINTS or along < SOUND_ALONG_MM or across < SOUND_ACROSS_MM:
        words = "Choose two stations or more on sound frame, left and right, at least 300 mm apart along the vehicle."
        return [Missing(words=words, page="set-up")]
    if picture.fault:
        return [Missing(words=picture.fault, page="set-up")]
    joined = picture.joined
    if joined is None or joined.dof < 1:
        words = "Nothing checks the sound points against one another: read a cross span between them, or hang a third gauge."
        return [Missing(words=words, overridable=True, page="measure")]
    doubted = [*joined.distrusted, *(code for doubt in joined.doubts for code in doubt.places)]
    if doubted:
        names = _list(dict.fromkeys(doubted))
        words = f"{names}: not where the sheet says, by the other readings. Choose other sound points."
        return [Missing(words=words, page="set-up")]
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
    before = {int(one) for one in signed.split()}
    now = {seen.id for seen in structural(facts)}
    gone = {seen.id for seen in facts.walk if seen.taken_back and seen.kind in STRUCTURAL}
    return now <= before and not before & gone


def _missing_decision(facts: JobFacts, picture: Picture | None) -> list[Missing]:
    """Return what a decision lacks: points read, findings on their members, no point off that is on none, every member decided,
    and no contradiction left open.

    Contradictions are looked for last, when nothing else stands in the way that a reading would change.
    """
    if picture is None:
        return [Missing(words="No point is measured: what cannot be seen is not decided.", page="measure")]
    missing = [
        Missing(
            words=f"Supplement: “{state.line.words}” is {_WAITS[state.status]}. A lead may let it go on, with a reason.",
            page="supplements",
        )
        for state in line_states(facts)
        if state.opens_decision
    ]
    unread = [code for code, judged in picture.judged.items() if judged.state == "unread"]
    if unread:
        words = f"{_count(unread)} not known: {_list(unread)}. What is not read is not proven sound."
        missing.append(Missing(words=words, overridable=True, page=f"measure?point={quote(unread[0])}"))
    missing += [Missing(words=_unplaced_words(one), page=f"walk-round#seen-{one.seen.id}") for one in unplaced(facts)]
    missing += _off_no_member(facts, picture)
    undecided: dict[str, list[str]] = {}
    undecided_first: dict[str, str] = {}
    for state in member_states(facts):
        if state.open:
            undecided.setdefault(state.open, []).append(state.name)
            undecided_first.setdefault(state.open, state.member)
    missing += [
        Missing(words=f"{_list(names)}: {why}.", page=f"decide?{urlencode({'member': undecided_first[why]})}")
        for why, names in undecided.items()
    ]
    if undecided:
        return missing
    missing += _kept_though_off(facts, picture)
    damage = damage_of(facts)
    return missing + [
        Missing(words=one.detail, todo=f"{_again(facts, one)} settle it with a reason.", page="damage#settle-h")
        for one in open_findings(facts, damage.findings if damage else ())
    ]


def _again(facts: JobFacts, found: Contradiction) -> str:
    """Return what is to be done first about a contradiction: its points read again, where they were read only once."""
    once = [code for code in found.points if sum(code in one.codes for one in counting(facts.readings)) < 2]
    return f"Read {_list(once)} again; where that stays so," if once else "It was read again and stays so: look, then"


def _unplaced_words(one: OnMember) -> str:
    where = "it is not said on which member" if one.member is None else f"on which layer of {one.member} is not said"
    return f"Seen: “{one.seen.said}”, and {where}. Say it: what was seen binds what is decided."


def _off_no_member(facts: JobFacts, picture: Picture) -> list[Missing]:
    """Return the points that are out of tolerance and belong to no member, so that nothing is decided of them."""
    if facts.sheet is None:
        return []
    stray = [p.code for p in facts.sheet.points if p.member is None]
    off = [code for code in dict.fromkeys(stray) if code in picture.judged and picture.judged[code].state == "off"]
    if off:
        them = "it" if len(off) == 1 else "them"
        words = (
            f"{_list(off)}: out of tolerance, and on no member, so nothing is decided of {them}. "
            f"Touch {them} on the sheet’s drawing and name the member."
        )
        return [Missing(words=words, page=f"sheet/members?touched={quote(' '.join(off))}")]
    if not member_states(facts):
        words = (
            "The sheet names no member, so nothing is decided of any. Touch points on its drawing and name the members."
        )
        return [Missing(words=words, page="sheet/members")]
    return []


def _kept_though_off(facts: JobFacts, picture: Picture) -> list[Missing]:
    """Return the members that are kept as they are though points of them are out of tolerance."""
    points = units_of(facts.sheet) if facts.sheet else {}
    missing = []
    for state in member_states(facts):
        off = [p.code for p in points.get(state.member, ()) if picture.judged[p.code].state == "off"]
        layers = {one.layer for one in member_states(facts) if one.member == state.member}
        if off and len(layers) == 1 and state.decision and state.decision.decision == "keep":
            words = f"{state.name}: kept, though {_list(off)} {'is' if len(off) == 1 else 'are'} off."
            missing.append(
                Missing(
                    words=f"{words} Straighten it, or leave it with the owner's consent.",
                    overridable=True,
                    page=f"decide?{urlencode({'member': state.member})}",
                )
            )
    return missing


def _decision_evidence(facts: JobFacts) -> dict[str, str]:
    states = member_states(facts)
    return {
        "sheet": str(facts.sheet_version or ""),
        "walk": _ids(seen.id for seen in structural(facts)),
        "members": _ids(state.seen.id for state in states if state.seen),
        "decisions": _ids(state.decision.id for state in states if state.decision),
        "settled": _ids(one.id for one in facts.settlements),
        "supplements": _ids(state.line.id for state in line_states(facts) if state.opens_decision),
        **({"bound": _ids(one.id for one in facts.bound)} if facts.bound else {}),
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
        return [Missing(words="No point is measured: there is no set-up in force.", page="set-up")]
    missing = tool_missing(facts, picture)
    if under_way(facts):
        missing.append(Missing(words="A pull is under way: let go, read free, and end it.", page="board"))
    ends = after_pulls(facts)
    decided_at = max((s.by.at for s in facts.signatures if s.hold == "decision_made"), default="")
    for number, event in ends.items():
        if event.after and (event.after.cracks.strip() or event.after.seams.strip()) and event.by.at > decided_at:
            found = event.after.cracks.strip() or event.after.seams.strip()
            words = f"Found after pull {number}: {found}. Put it among the members' signs and decide on it."
            missing.append(Missing(words=words, overridable=True, page="decide"))
    stay = set(staying_points(facts))
    states = {code: judged.state for code, judged in picture.judged.items() if code in stay}
    stale = [code for code in picture.stale_only if code in stay]
    loaded = [code for code in picture.loaded_only if code in stay]
    unread = [c for c, state in states.items() if state == "unread" and c not in stale and c not in loaded]
    if unread:
        missing.append(Missing(words=f"{_count(unread)} not read: {_list(unread)}.", page="measure"))
    if loaded:
        missing.append(Missing(words=f"Read only under load: {_list(loaded)}. Let go and read free.", page="measure"))
    if stale:
        missing.append(Missing(words=f"Read before the last pull: {_list(stale)}. Read again, free.", page="measure"))
    for kind, words in (("off", "out of tolerance"), ("close", "inside, but not by more than the uncertainty")):
        codes = [code for code, state in states.items() if state == kind]
        if codes:
            told = f"{_count(codes)} {words}: {_list(codes)}."
            missing.append(Missing(words=told, overridable=True, page="pulls" if kind == "off" else "measure"))
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
        evidence["parts"] = _ids([*(one.id for one in facts.part_items), *(one.id for one in facts.part_spans)])
    if facts.sections:
        done = [*(one.id for one in facts.weld_ticks), *(one.id for one in facts.cuts_made)]
        evidence["cuts"] = _ids([*(one.id for one in facts.section_said), *done])
    evidence["gaps"] = _ids({(gap.place, gap.stand): gap.id for gap in facts.gaps}.values())
    fit = fit_fact(facts)
    if fit is not None:
        evidence["fit"] = str(fit.id)
    seams = seam_states(facts)
    if seams:
        evidence["seams"] = "; ".join(
            f"{one.number} {one.plan.process} {one.plan.metal} {'+'.join(f'{mm:g}' for mm in one.plan.sheets_mm)}"
            for one in seams
        )
    if picture:
        evidence["readings"] = _ids(sorted(i for used in picture.used.values() for i in used))
    return evidence
