"""Plans that a person can rig, proposed as they are found: chains from towers, special forms, and both together.

Each is played through the frame as it is known, and through others, pulled by the board: as far as the watched points are to
go, not as hard as the plan says. Where sections are assumed those are half and double as strong; else a sixth weaker and stronger,
as metal and thickness scatter. What spoils a fair point, or makes any point worse beyond its tolerance in any of them, is refused.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from fairsquare.core.errors import FairSquareError
from fairsquare.core.model import Code, Row3
from fairsquare.core.pull.game import Chain, Game, Limits, Played, overpull
from fairsquare.core.pull.gear import Gear
from fairsquare.core.pull.job import (
    HARM_MM,
    ChainSet,
    PlanSaid,
    PlanSeen,
    WorkPull,
    chains_of,
    plan_request,
    seen_plan,
)
from fairsquare.core.pull.learned import FrameFactors, with_factors
from fairsquare.core.pull.plan import PlannedPull, PlanPulls, School, game_of, plan_pulls
from fairsquare.core.pull.rigging import PullRules, barred_lines
from fairsquare.core.pull.setting import Setting
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.structure.frame import Floats
from fairsquare.core.structure.of_sheet import ACROSS
from fairsquare.job.pull.forms import forms_tried
from fairsquare.job.pull.full import within_working
from fairsquare.job.pull.inside import Inside, inside_of, named, only_used
from fairsquare.job.pull.spent import Line

HALF_AND_DOUBLE, NEAR = (0.5, 2.0), (0.85, 1.18)
"""Strengths of other frames that a plan is judged in: where sections are assumed, and where they are known. Ours, no source."""
STRENGTHS = {
    0.5: "half as strong as assumed",
    2.0: "twice as strong as assumed",
    0.85: "a sixth weaker than said",
    1.18: "a sixth stronger than said",
}
_OTHER: dict[School, School] = {"outward": "reverse", "reverse": "outward"}
ORDERS: dict[School, str] = {"outward": "from the middle outward", "reverse": "as the damage came, backwards"}
BY_CHAINS = "By chains from the towers"
_BEGINNINGS, _ROUNDS, _AT_ONCE = 3, 2, 4
_EFFORTS, _EFFORT_INSIDE = {6: 600_000, 3: 120_000, 2: 30_000}, 3
"""Members whose hinges may be worked out in a search for so many pulls; see `search`."""
_MOST_TRIED = 20
_BOARD_STEPS, _MOST_TIMES = 9, 3.0
_WAYS_OUT, _GAINS_MM = 4, 1.0
STILL_MM = 1.0
"""How far a point may be moved that is to be left where it stands."""
_FULL_USE = 0.85
"""An anchor that is used so far, of what it is let go at, is what a plan is held up by."""


class Outcome(NamedTuple):
    """What a plan comes to in one frame, `strength` times as strong as assumed: points off, those worse than they were (mm beyond
    tolerance that came on), fair ones that were spoiled, and what is beyond tolerance of all points together, mm."""

    strength: float
    off: tuple[Code, ...]
    worse: Mapping[Code, float]
    spoiled: tuple[Code, ...]
    beyond_mm: float

    @property
    def frame(self) -> str:
        """The frame in words, such as half as strong as assumed."""
        return STRENGTHS.get(self.strength, f"{self.strength:g} times as strong as assumed")

    @property
    def harms(self) -> bool:
        """Whether it leaves any point worse than it was."""
        return bool(self.worse or self.spoiled)


class Proposal(NamedTuple):
    """A plan that may be kept: what it is, with the setting it needs, as it was played, what it comes to in each frame, and why it
    may not be kept as it stands.

    `past_mm`: the farthest a point is drawn past where it belongs; `past_share`: that over the longest way that any has to go;
    `needs_reason`: whether that is more than common practice has.
    """

    title: str
    setting: Setting
    plan: PlanSaid
    seen: PlanSeen
    outcomes: tuple[Outcome, ...]
    past_mm: float
    past_share: float
    refused: tuple[Said | str, ...]
    needs_reason: bool

    @property
    def overpull(self) -> Said:
        """What is said of how far it draws past where points belong."""
        return say("plan.overpull", past_mm=self.past_mm, times=self.past_share)

    @property
    def nominal(self) -> Outcome:
        """What it comes to in the frame as it is assumed."""
        return self.outcomes[0]

    @property
    def home(self) -> bool:
        """Whether it brings every point home, and may be kept."""
        return not self.nominal.off and not self.refused

    @property
    def chains(self) -> int:
        """How many chains it sets in all."""
        return sum(len(pull.chains) for pull in self.plan.pulls)

    @property
    def rank(self) -> tuple[float, ...]:
        """Least for the best: what is refused last; then points off, pulls, chains, and what is left beyond tolerance."""
        off = len(self.nominal.off)
        size = (len(self.plan.pulls), self.chains) if off == 0 else (0, 0)
        return (float(bool(self.refused)), off, float(self.needs_reason), *size, self.nominal.beyond_mm)


class WayOut(NamedTuple):
    """What could be changed where no plan brings all points home, and what that would bring."""

    words: str
    off: tuple[Code, ...]
    beyond_mm: float


class Looked(NamedTuple):
    """How a search stands: what was tried last, the best so far (the best first), what could be changed, whether it is over, and
    which chains it left out because they are spent."""

    words: Said | str
    best: tuple[Proposal, ...]
    ways_out: tuple[WayOut, ...] = ()
    over: bool = False
    left_out: tuple[str, ...] = ()
    nothing_to_pull: bool = False


class Asked(NamedTuple):
    """What plans are proposed for: where points stand now, how the vehicle is held and pulled, and what the workshop asks.

    `spent`: chains that are not proposed again; see `job/pull/spent.py`. `gear`: the shop's pieces, of which jacks and pullers are
    tried at every place where one can bear.
    """

    sheet: Sheet
    places: Mapping[Code, Row3]
    setting: Setting
    school: School
    rules: PullRules = PullRules()
    factors: FrameFactors = FrameFactors()
    spent: frozenset[Line] = frozenset()
    gear: tuple[Gear, ...] = ()


def proposals(asked: Asked) -> Iterator[Looked]:
    """Yield how the search stands after each thing that was tried; the last is over. Raises `Refused` for what cannot be played."""
    offered: list[Proposal] = []
    start = _request(asked, asked.setting)
    if not _off(start, game_of(start).start):
        yield Looked("Every point is fair: there is nothing to pull.", (), over=True, nothing_to_pull=True)
        return
    for form in forms_tried(asked.sheet, asked.places, asked.setting, asked.school):
        if isinstance(form, str):
            yield _stands(f"trying: {form}", offered)
            continue
        _add(offered, _proposal(asked, form.title, form.setting, (form.work,)))
        tried = say("plan.form_tried", form=form.title, before_mm=form.before_mm, after_mm=form.after_mm)
        yield _stands(tried, offered)
    yield _stands("chains from the towers", offered)
    for pulls in _searched(asked, asked.setting, 6):
        _add(offered, _proposal(asked, BY_CHAINS, asked.setting, pulls))
    yield _stands("chains from the towers, played", offered)
    yield from _from_inside(asked, offered)
    yield from _together(asked, offered)
    if not any(one.home for one in offered):
        yield from _held_elsewhere(asked, offered)
    ways: list[WayOut] = []
    best = min(offered, key=lambda proposal: proposal.rank, default=None)
    if best is None or best.nominal.off:
        for way in _ways_out(asked, offered):
            if isinstance(way, WayOut):
                ways.append(way)
            else:
                yield _stands(f"what could be changed: {way}", offered, ways)
    left_out = tuple(f"{hook} → {tower}" for hook, tower in sorted(asked.spent))
    yield _stands("all was tried", offered, ways)._replace(over=True, left_out=left_out)


def _from_inside(asked: Asked, found: list[Proposal]) -> Iterator[Looked]:
    """Try jacks, pullers and ties where towers do not bring all home at once; where nothing does, in the other order too."""
    if any(one.home and len(one.plan.pulls) == 1 for one in found):
        return
    for order in (asked, asked._replace(school=_OTHER[asked.school])):
        if order is not asked and any(one.home for one in found):
            return
        yield _stands(f"jacks and pullers inside the vehicle, and rails tied, {ORDERS[order.school]}", found)
        for setting, pulls in _inside(order, 6):
            _add(found, _proposal(order, "" if order is asked else ORDERS[order.school], setting, pulls))
            yield _stands("jacks, pullers and ties, played", found)


def _stands(words: Said | str, found: Sequence[Proposal], ways: Sequence[WayOut] = ()) -> Looked:
    best = sorted(found, key=lambda proposal: proposal.rank)[:3]
    return Looked(words, tuple(best), tuple(sorted(ways, key=lambda way: (len(way.off), way.beyond_mm))[:_WAYS_OUT]))


def _add(found: list[Proposal], proposal: Proposal | None) -> None:
    """Keep a proposal unless the same chains are there already."""
    if proposal is None:
        return
    key = [[(c.hook, c.tower) for c in pull.chains] for pull in proposal.plan.pulls]
    same = next(
        (proposal for proposal in found if [[(c.hook, c.tower) for c in p.chains] for p in proposal.plan.pulls] == key),
        None,
    )
    if same is not None:
        if same.rank <= proposal.rank:
            return
        found.remove(same)
    found.append(proposal)


def _together(asked: Asked, found: list[Proposal]) -> Iterator[Looked]:
    """Go on from the best so far with chains, what is inside the vehicle, and further forms, a few rounds."""
    fronts = _unfinished(found)
    for _ in range(_ROUNDS):
        onward: list[Proposal] = []
        for front in fronts[:_BEGINNINGS]:
            title, setting, pulls = front.title, front.setting, front.plan.pulls
            own = asked._replace(setting=setting, school=front.plan.school)
            if any(one.home and len(one.plan.pulls) <= len(pulls) for one in found):
                return
            places = _after(own, setting, pulls)
            if places is None or len(found) >= _MOST_TRIED:
                continue
            yield _stands(f"{title}, and chains after it", found)
            after = own._replace(places=places)
            further = [(setting, more) for more in _searched(after, setting, 3)]
            made = [_proposal(own, title, onto, (*pulls, *more)) for onto, more in (*further, *_inside(after, 3))]
            for form in forms_tried(asked.sheet, places, setting, own.school):
                if isinstance(form, str):
                    yield _stands(f"{title}, then {form}", found)
                elif form.title not in title:
                    made.append(_proposal(own, f"{title}; {form.title}", form.setting, (*pulls, form.work)))
            for proposal in made:
                _add(found, proposal)
            onward += [proposal for proposal in made if proposal is not None]
        fronts = _unfinished(one for one in onward if len(one.plan.pulls) < _AT_ONCE + 2)
        if not fronts:
            return


def _unfinished(found: Iterable[Proposal]) -> list[Proposal]:
    """Return the proposals that leave points off, the best first."""
    return sorted((proposal for proposal in found if proposal.nominal.off), key=lambda proposal: proposal.rank)


def _searched(
    asked: Asked, setting: Setting, most: int, inside: Inside | None = None
) -> Iterator[tuple[WorkPull, ...]]:
    """Yield what the search finds within the rules, and, where that is nothing, beyond what is drawn past by common practice.

    By towers alone, or with what is `inside` the vehicle.
    """
    if inside is None:
        setting = setting.model_copy(update={"machines": (), "ties": ()})
    request = _request(asked, within_working(setting)).model_copy(update={"max_pulls": most})
    barred = barred_lines(request.skeleton, setting, request.sheet.construction) | asked.spent
    limits = Limits(
        most_chains=asked.rules.most_chains,
        least_n=asked.rules.least_n,
        barred=barred | inside.barred if inside else barred,
        worse_mm=HARM_MM,
        overpull_share=asked.rules.overpull_share,
        overpull_least_mm=asked.rules.overpull_least_mm,
        effort=_EFFORTS[most] * (_EFFORT_INSIDE if inside else 1),
        pieces=inside.pieces if inside else {},
        still=frozenset(setting.still),
        still_mm=STILL_MM,
    )
    for tried_limits in (limits, Limits(**{**vars(limits), "overpull_share": None})):
        plan = plan_pulls(request, tried_limits)
        if plan.pulls:
            yield tuple(_work(pull) for pull in plan.pulls)
        if plan.verdict == "complete":
            return


def _work(pull: PlannedPull) -> WorkPull:
    """Return a pull that was found, in figures that can be set."""
    chains = tuple(
        ChainSet(
            hook=chain.hook,
            tower=chain.tower,
            height_mm=round(chain.height_mm),
            force_n=round(chain.force_n, -2) or 100.0,
        )
        for chain in pull.chains
    )
    return WorkPull(chains=chains, ties=pull.ties)


def _inside(asked: Asked, most: int) -> Iterator[tuple[Setting, tuple[WorkPull, ...]]]:
    """Yield what is found with jacks and pullers, those that a person placed and the shop's at every place, and with ties."""
    skeleton = _request(asked, asked.setting).skeleton
    tried = inside_of(asked.sheet, asked.places, asked.setting, skeleton, asked.gear)
    if tried.setting.machines or tried.setting.ties:
        for pulls in _searched(asked, tried.setting, most, tried):
            yield only_used(asked.setting, tried.setting, pulls), pulls


def _request(asked: Asked, setting: Setting, strength: float = 1.0) -> PlanPulls:
    request = plan_request(asked.sheet, asked.places, setting, asked.school)
    return with_factors(request, setting, asked.factors, strength)


def _after(asked: Asked, setting: Setting, pulls: Sequence[WorkPull]) -> dict[Code, Row3] | None:
    """Return where points stand after pulls, or None where they cannot be played."""
    try:
        request = _request(asked, setting)
        free = seen_plan(request, setting, PlanSaid(school=asked.school, pulls=tuple(pulls))).played.pulls[-1].free
    except (FairSquareError, IndexError):
        return None
    at = {point.code: point.xyz for point in asked.sheet.points}
    moved = {
        code: (at[code][0] + by[0], at[code][1] + by[1], at[code][2] + by[2]) for code, by in free.items() if code in at
    }
    return {**asked.places, **moved}


def _proposal(asked: Asked, title: str, setting: Setting, pulls: Sequence[WorkPull]) -> Proposal | None:
    """Return pulls as a proposal, played and judged in every frame; None where they cannot be played, or a chain is spent."""
    if any((chain.hook, chain.tower) in asked.spent for pull in pulls for chain in pull.chains):
        return None
    plan = PlanSaid(school=asked.school, pulls=tuple(pulls))
    try:
        request = _request(asked, setting)
        seen = seen_plan(request, setting, plan)
    except FairSquareError:
        return None
    judged = judged_plan(asked, setting, plan, seen)
    called = [name for pull in pulls for name in named(setting, request.skeleton, pull)]
    title = "; ".join(dict.fromkeys(name for name in (*title.split("; "), *called) if name)) or BY_CHAINS
    return Proposal(title, setting, plan, seen, *judged)


def judged_plan(
    asked: Asked, setting: Setting, plan: PlanSaid, seen: PlanSeen
) -> tuple[tuple[Outcome, ...], float, float, tuple[Said | str, ...], bool]:
    """Return what a plan comes to in each frame, how far and by what share of the way it draws past, why it is refused, and whether
    that it draws so far needs a reason."""
    request = _request(asked, setting)
    game = game_of(request)
    outcomes = [_outcome(game, 1.0, np.array([by.deviation for by in seen.played.predicted.values()]))]
    if plan.pulls:
        assumed = set(setting.assumed) & set(request.skeleton.sections)
        for strength in HALF_AND_DOUBLE if assumed else NEAR:
            other = game_of(_request(asked, setting, strength))
            outcomes.append(_outcome(other, strength, _by_board(other, setting, plan, seen)))
    past, share = _past(game, seen, asked.rules)
    return (
        tuple(outcomes),
        past,
        share,
        (*_moved_that_stays(request, setting, seen), *_refused(asked, setting, plan, request, outcomes)),
        share > asked.rules.overpull_share + 1e-6,
    )


def _outcome(game: Game, strength: float, free: Floats) -> Outcome:
    worse = game.beyond(free) - game.beyond(game.start)
    were, are = game.fair(game.start), game.fair(free)
    return Outcome(
        strength=strength,
        off=tuple(code for code, ok in zip(game.codes, are, strict=True) if not ok),
        worse={code: float(mm) for code, mm in zip(game.codes, worse, strict=True) if mm > HARM_MM},
        spoiled=tuple(code for code, was, ok in zip(game.codes, were, are, strict=True) if was and not ok),
        beyond_mm=float(game.beyond(free).sum()),
    )


def _off(request: PlanPulls, deviations: Floats) -> bool:
    return not game_of(request).fair(deviations).all()


def _by_board(game: Game, setting: Setting, plan: PlanSaid, seen: PlanSeen) -> Floats:
    """Return where points (k, 3) end when each pull is drawn as far as the board lets it.

    Its chains are drawn together, harder or softer than planned, until points have gone as far as the plan has them go; never with
    an anchor overloaded.
    """
    played = game.begun()
    for work, told in zip(plan.pulls, seen.played.pulls, strict=True):
        wanted = np.array([told.free[code] for code in game.codes])
        played = _as_far(game, played, chains_of(setting, work), work.ties, wanted)
    return played.deviations


def _as_far(game: Game, so_far: Played, chains: tuple[Chain, ...], ties: tuple[str, ...], wanted: Floats) -> Played:
    """Return the pull at the share of its forces that leaves points nearest to what is wanted; shares are halved between."""
    goes = wanted - so_far.deviations
    weight = float((goes**2).sum())
    if weight == 0.0:
        return so_far

    def at(share: float) -> tuple[float, Played]:
        drawn = tuple(chain._replace(force=chain.force * share) for chain in chains)
        after = game.pulled(so_far, drawn, ties)
        return float(((after.deviations - so_far.deviations) * goes).sum()) / weight, after

    low, high = 0.0, 1.0
    gone, after = at(high)
    while gone < 1.0 and high < _MOST_TIMES and _takes(after):
        low, high = high, high * 1.3
        gone, after = at(high)
    best = so_far
    for _ in range(_BOARD_STEPS):
        share = (low + high) / 2
        gone, after = at(share)
        if gone < 1.0 and _takes(after):
            low, best = share, after
        else:
            high = share
    return best


def _takes(played: Played) -> bool:
    return max(played.pulls[-1].anchors.values(), default=0.0) <= 1.0


def _past(game: Game, seen: PlanSeen, rules: PullRules) -> tuple[float, float]:
    """Return how far, and by what share of its way, the plan draws a point past where it belongs, at the most."""
    before, most, share = game.start, 0.0, 0.0
    for pull in seen.played.pulls:
        past = overpull(before, np.array([pull.loaded[code] for code in game.codes]), game.limits)
        far, to_go = float(past.max(initial=0.0)), game.to_go(before)
        most = max(most, far)
        if far > rules.overpull_least_mm and to_go > 0:
            share = max(share, far / to_go)
        before = np.array([pull.free[code] for code in game.codes])
    return most, share


def _moved_that_stays(request: PlanPulls, setting: Setting, seen: PlanSeen) -> Iterator[Said]:
    """Yield the points that are to be left where they stand and are moved, let go, by more than a millimetre and rounding."""
    stood = game_of(request)
    for code in setting.still:
        if code in stood.codes and seen.played.pulls:
            before = stood.start[stood.codes.index(code)]
            by = max(float(np.abs(np.subtract(pull.free[code], before)).max()) for pull in seen.played.pulls)
            if by > STILL_MM + HARM_MM:
                yield say("plan.moves_still", code=code, by_mm=by)


def _refused(
    asked: Asked,
    setting: Setting,
    plan: PlanSaid,
    request: PlanPulls,
    outcomes: Sequence[Outcome],
) -> Iterator[Said | str]:
    """Yield why a plan is not to be pulled as it stands."""
    for outcome in outcomes:
        frame = "" if outcome.strength == 1.0 else outcome.frame
        if outcome.spoiled:
            yield say("plan.spoils", frame=frame, codes=outcome.spoiled[:4])
        elif outcome.worse:
            each = [say("points.by", code=code, by_mm=mm) for code, mm in list(outcome.worse.items())[:4]]
            yield say("plan.worse", frame=frame, each=each)
    yield from rigged_wrongly(asked.rules, request, setting, plan)


def rigged_wrongly(rules: PullRules, request: PlanPulls, setting: Setting, plan: PlanSaid) -> Iterator[str]:
    """Yield what of a plan cannot be rigged: too many chains, one that draws too little to set, one through the vehicle."""
    barred = barred_lines(request.skeleton, setting, request.sheet.construction)
    for number, pull in enumerate(plan.pulls, 1):
        if len(pull.chains) > rules.most_chains:
            yield f"Pull {number} sets {len(pull.chains)} chains at once; {rules.most_chains} is what one shop can watch."
        for chain in pull.chains:
            if chain.force_n < rules.least_n and len(pull.chains) > 1:
                yield f"Pull {number}: {chain.force_n / 1000:.1f} kN at {chain.hook} does not set a chain."
            if (chain.hook, chain.tower) in barred:
                yield f"Pull {number}: the chain from {chain.hook} to {chain.tower} would run under or through the vehicle."


def _held_elsewhere(asked: Asked, found: list[Proposal]) -> Iterator[Looked]:
    """Where an anchor is full in the best so far, or nothing was found, hold a further place near it, and say what that allows."""
    base = min(found, key=lambda proposal: proposal.rank, default=None)
    setting = base.setting if base is not None else asked.setting
    request = _request(asked, setting)
    at = {anchor.id: anchor.code for anchor in setting.anchors}
    uses = dict.fromkeys(at, 1.0) if base is None else _fullest_uses(base)
    full = [name for name, use in sorted(uses.items(), key=lambda one: -one[1]) if use >= _FULL_USE and name in at]
    held = set(at.values()) | {hook.code for hook in setting.hooks}
    for name in full[:2]:
        free = [code for code in request.skeleton.codes.values() if code not in held]
        near = min(free, key=lambda code: _apart(request, code, at[name]), default=None)
        if near is None:
            continue
        held.add(near)
        title = f"Held at {near} too, where {name} is full"
        yield _stands(title, found)
        with_hold = asked._replace(setting=_held_too(setting, near))
        for pulls in _searched(with_hold, with_hold.setting, 3):
            _add(found, _proposal(with_hold, title, with_hold.setting, pulls))
        for onto, pulls in _inside(with_hold, 3):
            _add(found, _proposal(with_hold, title, onto, pulls))
        yield _stands(title, found)


def _fullest_uses(proposal: Proposal) -> dict[str, float]:
    """Return the largest use of each anchor in a plan."""
    uses: dict[str, float] = {}
    for pull in proposal.seen.played.pulls:
        for name, use in pull.anchors.items():
            uses[name] = max(use, uses.get(name, 0.0))
    return uses


def _held_too(setting: Setting, code: Code) -> Setting:
    """Return a setting with a clamp at a further point."""
    clamp = setting.anchors[0].model_copy(update={"id": f"hold {code}", "code": code, "kind": "clamp", "toward": None})
    return setting.model_copy(update={"anchors": (*setting.anchors, clamp)})


def _ways_out(asked: Asked, found: Sequence[Proposal]) -> Iterator[WayOut | str]:
    """Yield what could be changed, tried one by one on the best plan's own ground: hold elsewhere, cut free, or replace."""
    base = min(found, key=lambda proposal: proposal.rank, default=None)
    request = _request(asked, asked.setting)
    game = game_of(request)
    now = base.nominal if base is not None else _outcome(game, 1.0, game.start)
    off = list(now.off)
    setting = base.setting if base is not None else asked.setting
    tries: list[tuple[str, Setting]] = []
    held = {anchor.code for anchor in setting.anchors}
    fair = [code for code in game.codes if code not in off and code not in held]
    near = sorted(fair, key=lambda code: min(_apart(request, code, other) for other in off))
    tries += [(f"hold {code} still", _held_too(setting, code)) for code in near[:2]]
    for member in request.skeleton.members:
        if member.section == ACROSS and {member.i, member.j} & set(off) and member.id not in setting.members_out:
            out = (*setting.members_out, member.id)
            tries.append((f"cut the cross member {member.id} free", setting.model_copy(update={"members_out": out})))
    for words, changed in tries[: _WAYS_OUT + 1]:
        yield words
        made = [_proposal(asked, words, changed, pulls) for pulls in _searched(asked, changed, 2)]
        best = min(
            (proposal for proposal in made if proposal is not None), key=lambda proposal: proposal.rank, default=None
        )
        if best is not None and best.nominal.beyond_mm < now.beyond_mm - _GAINS_MM and not best.nominal.harms:
            yield WayOut(words, best.nominal.off, best.nominal.beyond_mm)
    members = {point.code: point.member for point in asked.sheet.points}
    for name in dict.fromkeys(members[code] for code in off if members.get(code)):
        rest = tuple(code for code in off if members.get(code) != name)
        own = ", ".join(code for code in off if members.get(code) == name)
        yield WayOut(f"replace the {name}: {own} would come with it", rest, now.beyond_mm if rest else 0.0)


def _apart(request: PlanPulls, a: Code, b: Code) -> float:
    nodes = {code: node for node, code in request.skeleton.codes.items()}
    places = request.skeleton.nodes
    if a not in nodes or b not in nodes:
        return float("inf")
    return float(np.linalg.norm(np.subtract(places[nodes[a]], places[nodes[b]])))
