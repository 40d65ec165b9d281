"""The spine: the stations of a job in working order, the hold points as bars across it, and what the job waits for."""

from typing import Literal, NamedTuple

from fairsquare.actions.desk import JobView
from fairsquare.core.pull.job import BOARD_WORDS
from fairsquare.core.said import Said, say
from fairsquare.job.cut.job import cuts_want
from fairsquare.job.damage.choices import member_states
from fairsquare.job.pull.board import board_of, plan_of, pulls_wanted
from fairsquare.job.release.holds import Hold
from fairsquare.job.stations import ADDED, BY_KEY, STATIONS
from fairsquare.job.waiting import Waiting, waiting
from fairsquare.job.weld.job import needs_welding, seam_states

Status = Literal["done", "now", "todo"]


class Stop(NamedTuple):
    """A station, or a hold point with what is missing there; `at` is the page that it leads to, `waiting` what holds it up."""

    kind: Literal["station", "hold"]
    key: str
    title: str
    at: str
    status: Status
    words: Said | str | None = None
    waiting: tuple[Waiting, ...] = ()


class Waits(NamedTuple):
    """What a job waits for, in words, the station where it is done, and a word for how it stands.

    Where it waits for somebody or something else, `due_at` says until when (UTC, ISO 8601; empty: nobody knows), `more` whom it
    waits for. `page`: of the job, where what blocks it is cleared; empty: the page of its station or hold point.
    """

    words: Said | str
    key: str
    mood: Literal["work", "sign", "blocked", "waits", "done"]
    due_at: str = ""
    more: str = ""
    page: str = ""

    @property
    def address(self) -> str:
        """The page of the job where what it waits for is cleared, or shown."""
        return self.page or ("waits" if self.mood == "waits" else BY_KEY[self.key].address)


def spine(view: JobView) -> list[Stop]:
    """Return the stops of a job in order; the first that is not done is `now`."""
    done = _done(view)
    pulled = any(hold.name == "pulls_done" for hold in view.state.holds)
    stations = [station for station in STATIONS if pulled or station.key != "pulls_done"]
    if view.facts.practice:
        stations = [station for station in BY_KEY.values() if station.practised]
    now = next((station.key for station in stations if not done[station.key]), stations[-1].key)
    held = _held(view, [station.key for station in stations], now)
    stops = []
    for kind, key, title, page, *_ in stations:
        status: Status = "now" if key == now else "done" if done[key] else "todo"
        words = _hold_words(view.state.hold(key)) if kind == "hold" else None  # type: ignore[arg-type]
        at = f"/jobs/{view.job.number}/{page}"
        stops.append(Stop(kind, key, title, at, status, words, held.get(key, ())))
    return stops


def _held(view: JobView, keys: list[str], now: str) -> dict[str, tuple[Waiting, ...]]:
    """Return what is waited for, at the stop that it holds up first."""
    held: dict[str, tuple[Waiting, ...]] = {}
    for wait in waiting(view.facts):
        at = next((key for key in keys[keys.index(now) :] if wait.holds_up(key)), keys[-1])
        held[at] = (*held.get(at, ()), wait)
    return held


def waits(view: JobView) -> Waits:
    """Return what a job waits for next."""
    now = next((stop for stop in spine(view) if stop.status == "now"), None)
    if now is not None and now.key == "practice":
        return Waits("Nothing is left to pull: end the practice", "practice", "work")
    if now is not None and now.waiting:
        return _waits_for(now)
    if now is None or now.key == "record":
        return Waits("Everything is signed: make the record", "record", "done")
    return _waits_at_hold(view, now) if now.kind == "hold" else Waits(_station_words(view, now.key), now.key, "work")


def _waits_for(now: Stop) -> Waits:
    """Say what holds up the stop that comes next: the last of it to come."""
    last, more = now.waiting[-1], len(now.waiting) - 1
    words = last.words + (f", and {more} more" if more else "")
    return Waits(words, now.key, "waits", last.due_at, f"asked: {last.asked_of}" if last.asked_of else "")


def _waits_at_hold(view: JobView, now: Stop) -> Waits:
    hold = view.state.hold(now.key)  # type: ignore[arg-type]
    if hold.reopened:
        return Waits(say("hold.open_again", hold=hold.name, why=hold.reopened[0]), now.key, "blocked")
    if hold.status == "ready":
        return Waits(say("hold.to_sign", hold=hold.name, signers=hold.signers), now.key, "sign")
    more = len(hold.missing) - 1
    first = hold.missing[0].said
    return Waits(
        say("hold.and_more", why=first, more=more) if more else first, now.key, "blocked", page=hold.missing[0].page
    )


def _done(view: JobView) -> dict[str, bool]:
    facts, state = view.facts, view.state
    judged = state.picture.judged if state.picture else {}
    closed = {hold.name: hold.status == "closed" for hold in state.holds}
    measured = bool(judged) and all(judgement.state != "unread" for judgement in judged.values())
    members = member_states(facts)
    undecided = any(state.open for state in members)
    nothing_to_pull = not facts.practice and closed["decision_made"] and not pulls_wanted(facts)
    if closed["released"]:
        return {key: key != "record" for key in BY_KEY}
    return {
        "take-in": True,
        "made_safe": closed["made_safe"],
        "sheet": facts.sheet is not None,
        "set-up": state.picture is not None
        and bool(state.picture.relied_on)
        and (closed["setup_accepted"] or not facts.practice),
        "setup_accepted": closed["setup_accepted"],
        "measure": measured,
        "walk-round": bool(facts.walk or facts.photos or facts.line) or closed["made_safe"],
        "damage": (closed["decision_made"] and not facts.practice)
        or (measured and closed["setup_accepted"] and not undecided),
        "decide": closed["decision_made"] or (bool(members) and not undecided),
        "decision_made": closed["decision_made"],
        "pulls": bool(facts.pull_plans) or nothing_to_pull or closed.get("pulls_done", False),
        "board": closed.get("pulls_done", nothing_to_pull),
        "pulls_done": closed.get("pulls_done", True),
        "cuts": closed["fit_accepted"] or (closed["decision_made"] and not cuts_want(facts)),
        "fit": closed["fit_accepted"] or not _fit_wants(view),
        "fit_accepted": closed["fit_accepted"],
        "bond": closed["fit_accepted"] and not [clock for clock in facts.clocks if clock.ended is None],
        "weld": closed["released"] or (closed["fit_accepted"] and (state.welded or not needs_welding(facts))),
        "finish": closed["released"] or not view.state.hold("released").missing,
        "released": closed["released"],
        "record": False,
        "practice": view.job.closed,
        **{added.key: added.done is None or added.done(facts) for added in ADDED},
    }


def _fit_wants(view: JobView) -> list[Said]:
    """Return what the dry fit has to bring yet: gaps and spans; the other demands belong to other stations."""
    own = ("carried", "gaps", "gaps_rack", "gaps_wheels", "gaps_in", "findings")
    return [
        missing.said
        for demand in view.state.hold("fit_accepted").demands
        if demand.name in own
        for missing in demand.missing
    ]


def _weld_words(view: JobView) -> str:
    states = seam_states(view.facts)
    left = sum(len(state.open) for state in states)
    if left:
        nxt = next((state for state in states if state.open), None)
        return (
            f"{left} weld{'' if left == 1 else 's'} to make, next {nxt.plan.name} {nxt.next_welds(1)[0]}" if nxt else ""
        )
    return "Every weld is in: record that welding is done" if states else "Plan the seams"


def _hold_words(hold: Hold) -> Said | None:
    if hold.status == "closed" and hold.signature:
        return say("hold.signed_by", by=hold.signature.by.name)
    if hold.reopened:
        return say("hold.again", why=hold.reopened[0])
    if hold.status == "ready":
        return say("hold.ready")
    return hold.missing[0].said if hold.missing else None


def _pull_words(view: JobView) -> str:
    board, plan = board_of(view.facts), plan_of(view.facts)
    if board:
        return f"Pull {board.pull} is under way: {BOARD_WORDS[board.state].lower()}"
    ended = {
        event.pull
        for event in view.facts.pull_events
        if event.state == "ended" and event.plan == (plan.version if plan else 0)
    }
    left = [k for k in range(1, len(plan.plan.pulls) + 1 if plan else 1) if k not in ended]
    return f"Pull {left[0]} of {len(plan.plan.pulls)}" if left and plan else "Read free, then sign the pulls"


def _station_words(view: JobView, key: str) -> Said | str:
    if key == "sheet":
        return "Get the sheet: import it or type it in"
    if key == "set-up":
        last = view.facts.setups[-1] if view.facts.setups else None
        if view.setup and view.setup.kind == "sight":
            return f"Choose the points on sound frame for set-up {view.setup.number}"
        if view.setup:
            return f"Read the reference points of set-up {view.setup.number}"
        return f"Set-up {last.number} is void: make a new one" if last else "Set up and read the reference points"
    if key == "measure" and view.state.picture:
        unread = sum(judgement.state == "unread" for judgement in view.state.picture.judged.values())
        again = " again, since something moved" if view.state.picture.stale_only else ""
        return f"{unread} point{'s' if unread != 1 else ''} to read{again}"
    words_of: dict[str, Said | str] = {
        "walk-round": "Walk round it: what is seen, photos",
        "damage": "Read the damage and decide",
        "decide": "Decide member by member",
        "pulls": "Plan the pulls",
        "board": _pull_words(view),
        "cuts": next(iter(cuts_want(view.facts)), "Plan the cuts"),
        "fit": next(iter(_fit_wants(view)), "Read the gaps on the dry fit"),
        "bond": "A clock runs",
        "weld": _weld_words(view),
        "finish": next((lack.said for lack in view.state.hold("released").missing), "Finish and prove"),
    }
    own = BY_KEY[key].to_do
    return own(view.facts) if own else words_of.get(key, "Take the vehicle in")
