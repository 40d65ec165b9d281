"""The table of deeds: which role may do what, what practice has, how each is recorded, and what the audit calls it.

Doors, actions, docs/roles.md and the audit read it. A deed is recorded with its key by how it begins, its job and what else it is
about, such as `sign SL-0003 fit_accepted`.
"""

import re
from typing import Literal, NamedTuple

from fairsquare.core.intake.safety import SAFETY_BY_KEY
from fairsquare.core.who import Role
from fairsquare.job.stations import ADDED, STATIONS
from fairsquare.job.stations.row import Act

Deed = Literal[
    "take in",
    "walk round",
    "estimate",
    "find more",
    "send supplement",
    "go ahead",
    "check parts in",
    "answer safety",
    "accept sheet",
    "measure",
    "judge readings",
    "decide",
    "plan pulls",
    "pull",
    "stop a pull",
    "open welds",
    "fit up",
    "weld",
    "finish",
    "run clocks",
    "sign",
    "make record",
    "close",
    "manage people",
    "say hours",
    "work",
    "note wait",
    "say shop",
    "plan day",
    "keep tools",
    "keep keys",
    "practise",
]


class Right(NamedTuple):
    """Who may do a deed, whether practice lets one in to it, what it is, as a sentence that goes on with “by a …”, and its acts."""

    roles: frozenset[Role]
    practised: bool
    words: str
    acts: tuple[Act, ...] = ()


_ALL: frozenset[Role] = frozenset({"technician", "lead", "estimator", "apprentice"})
_OFFICE: frozenset[Role] = frozenset({"lead", "estimator"})
_TRAINED: frozenset[Role] = frozenset({"technician", "lead"})
_HANDS: frozenset[Role] = _TRAINED | {"apprentice"}
_NOT_LEARNING: frozenset[Role] = _ALL - {"apprentice"}
_LEAD: frozenset[Role] = frozenset({"lead"})

_OWN: dict[Deed, Right] = {
    "take in": Right(
        _NOT_LEARNING,
        False,
        "Vehicles are taken in",
        (
            Act("open job", "took a vehicle in"),
            Act("change", "changed what was taken in"),
            Act("carry job in", "took in a job that came as a file"),
        ),
    ),
    "walk round": Right(
        _ALL,
        False,
        "What is seen is noted",
        (
            Act("walk", "noted a finding of the walk-round"),
            Act("walk on", "said on which member a finding of the walk-round is"),
            Act("walk back", "took a finding of the walk-round back"),
            Act("line", "looked at what lies behind the hit"),
            Act("photo", "added a photo"),
        ),
    ),
    "estimate": Right(_OFFICE, False, "Value and cost are weighed", (Act("worth", "weighed value against cost"),)),
    "find more": Right(
        _NOT_LEARNING,
        False,
        "Supplement lines are raised",
        (
            Act("supplement line", "raised a supplement line"),
            Act("supplement line back", "took a supplement line back"),
            Act("supplement gaps", "made supplement lines of what the estimate leaves out"),
        ),
    ),
    "send supplement": Right(
        _OFFICE,
        False,
        "Supplements are sent and answers recorded",
        (
            Act("supplement", "sent a supplement"),
            Act("withdraw", "withdrew a supplement's link"),
            Act("supplement answer", "recorded the payer's answer"),
        ),
    ),
    "go ahead": Right(
        _LEAD,
        False,
        "Work without the payer's word is let go on",
        (Act("go ahead", "let work go on without the payer's word"),),
    ),
    "check parts in": Right(
        _ALL,
        False,
        "Parts are checked in",
        (
            Act("part", "checked a part in"),
            Act("part item", "counted a part off"),
            Act("part span", "measured a part"),
        ),
    ),
    "answer safety": Right(
        _TRAINED, False, "The made-safe list is answered", (Act("safety", "answered the made-safe list"),)
    ),
    "accept sheet": Right(_NOT_LEARNING, True, "Sheets are accepted", (Act("sheet", "accepted a sheet"),)),
    "measure": Right(
        _HANDS,
        True,
        "Readings are taken",
        (
            Act("set-up", "opened a set-up", practised=True),
            Act("readings", "took readings", practised=True),
            Act("take back", "took a reading back", practised=True),
            Act("order", "ordered readings from the instrument", practised=True),
            Act("move", "recorded that something moved", practised=True),
            Act("gap", "read a gap"),
            Act("check tool", "checked a tool on the reference bar"),
        ),
    ),
    "judge readings": Right(
        _TRAINED,
        True,
        "What contradicts is settled",
        (
            Act("keep reading", "kept a reading in or out", practised=True),
            Act("choose", "chose the references to rely on", practised=True),
            Act("settle", "settled a contradiction"),
        ),
    ),
    "decide": Right(
        _TRAINED,
        False,
        "This is decided",
        (
            Act("member", "noted how a member looks"),
            Act("decide", "decided"),
            Act("keep fair", "decided to keep what is fair"),
            Act("section", "described a section"),
            Act("cut", "cut"),
            Act("cut back", "took a cut back"),
            Act("seam", "planned a seam"),
            Act("say", "said anew"),
        ),
    ),
    "plan pulls": Right(
        _TRAINED,
        True,
        "Pulls are planned",
        (
            Act("setting", "set up towers and anchors", practised=True),
            Act("plan", "planned the pulls", practised=True),
        ),
    ),
    "pull": Right(
        _TRAINED,
        True,
        "Pulls are made",
        (
            Act("begin pull", "began a pull", practised=True),
            Act("cycle", "closed a cycle of a pull", practised=True),
            Act("load", "read under load", practised=True),
            Act("driven", "let it down and drove or loaded it after the pulls", practised=True),
            Act("read settled", "read the pulled points again after it was driven", practised=True),
        ),
    ),
    "stop a pull": Right(_HANDS, True, "A pull is stopped", (Act("board", "went on with a pull", practised=True),)),
    "open welds": Right(_HANDS, False, "Opened welds are ticked off", (Act("weld", "ticked a weld of the drill map"),)),
    "fit up": Right(
        _TRAINED,
        False,
        "Panels are hung and the vehicle is let down",
        (Act("lower", "let the vehicle down on its wheels"),),
    ),
    "weld": Right(
        _TRAINED, False, "Welds are made and logged", (Act("holder off", "took a holder off a welded seam"),)
    ),
    "finish": Right(
        _TRAINED,
        False,
        "Protection and what is left to do are recorded",
        (Act("note", "noted what was done"), Act("note back", "took a note back")),
    ),
    "run clocks": Right(
        _HANDS,
        False,
        "Clocks of products are started and ended",
        (Act("clock", "started a clock"), Act("clock end", "ended a clock")),
    ),
    "sign": Right(
        _TRAINED,
        False,
        "Hold points are signed",
        (Act("sign", "signed"), Act("welded", "recorded that welding is done")),
    ),
    "make record": Right(
        _NOT_LEARNING,
        False,
        "Records are made",
        (
            Act("record", "made a record"),
            Act("make record", "made a record"),
            Act("record link", "made or withdrew a link to a record"),
        ),
    ),
    "close": Right(
        _LEAD, False, "Jobs are closed and opened again", (Act("close", "closed the job or opened it again"),)
    ),
    "manage people": Right(
        _LEAD,
        False,
        "People are managed",
        (
            Act("add person", "let somebody sign in"),
            Act("person active", "let somebody in or shut somebody out"),
            Act("person role", "gave somebody another role"),
            Act("password", "changed a password"),
        ),
    ),
    "say hours": Right(_NOT_LEARNING, False, "Hours are planned and sold"),
    "work": Right(
        _HANDS,
        False,
        "Work is clocked",
        (
            Act("work", "started work"),
            Act("work end", "stopped work"),
            Act("work add", "added work that no clock counted"),
            Act("work back", "took a clock of work back"),
        ),
    ),
    "note wait": Right(
        _ALL,
        False,
        "What a job waits for is noted",
        (
            Act("wait", "noted what is waited for"),
            Act("wait say", "said anew when it is due"),
            Act("wait over", "noted that it came"),
        ),
    ),
    "say shop": Right(_LEAD, False, "What the shop has is said", (Act("say shop", "said what the shop is"),)),
    "plan day": Right(
        _OFFICE,
        False,
        "The day is planned",
        (
            Act("plan day", "planned the day"),
            Act("move piece", "moved a piece of the day"),
            Act("fix", "fixed or let go a piece of the day"),
        ),
    ),
    "keep tools": Right(
        _TRAINED,
        False,
        "Tools and gear are kept",
        (
            Act("add gear", "added a piece of rig"),
            Act("look at gear", "looked at a piece of rig"),
            Act("add tool", "added a tool"),
            Act("retire tool", "retired a tool"),
            Act("calibrate tool", "wrote down a tool’s calibration"),
            Act("tool event", "took a tool’s calibration or check back"),
        ),
    ),
    "keep keys": Right(
        _LEAD,
        False,
        "Keys with which shops sign are kept",
        (
            Act("accept key", "accepted another shop’s key"),
            Act("take key back", "took another shop’s key back"),
            Act("replace key", "made a new key for the shop"),
        ),
    ),
    "practise": Right(
        _ALL,
        True,
        "Practice is begun and ended",
        (Act("begin practice", "began to practise"), Act("end practice", "ended a practice", practised=True)),
    ),
}
RIGHTS: dict[Deed, Right] = {
    deed: right._replace(acts=(*right.acts, *(act for added in ADDED for act in added.acts.get(deed, ()))))
    for deed, right in _OWN.items()
}
"""The deeds, each also with the acts that stations bring whose rows stand in modules of their own."""
ROLES_IN_ORDER: tuple[Role, ...] = ("apprentice", "technician", "estimator", "lead")

ACTS: tuple[Act, ...] = tuple(act for right in RIGHTS.values() for act in right.acts)
_LONGEST_FIRST = sorted(ACTS, key=lambda act: -len(act.begins))
_JOB = re.compile(r"\b([A-Z]{1,9}-[A-Z0-9-]*\d+)\b")
_HOLDS = {station.key: station.title for station in STATIONS if station.kind == "hold"}


class Told(NamedTuple):
    """A deed in words, the job that it was done in (empty where in none), and what else is known of it."""

    words: str
    job: str
    more: str


def act_of(recorded: str) -> Act | None:
    """Return the act of a deed as it was recorded: of two that fit, the longer one; None for what is none of the table's."""
    return next((act for act in _LONGEST_FIRST if re.match(rf"{re.escape(act.begins)}\b", recorded)), None)


def told(recorded: str) -> Told:
    """Return a deed in words; one that has no words is shown as it was recorded."""
    match = _JOB.search(recorded)
    job = match[1] if match else ""
    act = act_of(recorded)
    if act is None:
        return Told(recorded, job, "")
    rest = recorded.removeprefix(act.begins).replace(job, "", 1).split()
    return Told(act.words, job, " ".join(_known(word) for word in rest))


def _known(word: str) -> str:
    safety = SAFETY_BY_KEY.get(word)
    return _HOLDS.get(word) or (safety.title if safety else word.replace("_", " "))


def beginnings(words: str) -> list[str]:
    """Return how the deeds are recorded whose words hold these."""
    wanted = words.casefold()
    return [act.begins for act in ACTS if wanted in act.words.casefold()]
