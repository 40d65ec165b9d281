"""What is seen and decided in the demo: a walk-round for each vehicle with drawn pictures, and decisions where it is measured."""

import secrets
from contextlib import suppress
from typing import NamedTuple

from fairsquare.actions import Desk, Unsure, deciding, walk_round
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.core.damage.decide import MakersWord, Material, MemberRole, Sign
from fairsquare.demo.pictures import drawn_photo
from fairsquare.files.photos import photo_to_keep
from fairsquare.job.damage.choices import member_states, propose
from fairsquare.job.facts.damage import LineAnswer
from fairsquare.job.intake.walk_round import Seen, understand_seen
from fairsquare.stand_ins.vehicles import DUNLIN, DUNLIN_TWO, HERON, PUFFIN, TEAL, TURNSTONE, Vehicle
from fairsquare.store.people import Person


class _Walk(NamedTuple):
    """A walk-round: what is said of each finding, mechanical parts, value and cost in whole money."""

    said: tuple[str, ...]
    line: dict[str, tuple[LineAnswer, str]]
    worth: tuple[int, int, str]


_WALKS: dict[str, _Walk] = {
    DUNLIN.name: _Walk(
        (
            "kink right rail 140 behind F4R",
            "buckle right apron at F3R",
            "gap lid to fender left 4 right 8.5",
            "witness mark moved at the right lid hinge",
            "plate on the right apron 60 ahead of F3R: a cut would go through it",
        ),
        {
            "rolls": ("sound", ""),
            "axle": ("hurt", "cradle sits 3 to the left"),
            "cooling": ("hurt", "condenser pushed back"),
        },
        (14200, 6350, "three like it on the ferry's own list"),
    ),
    DUNLIN_TWO.name: _Walk(
        (
            "kink right apron at F3R",
            "gap lid to fender left 4 right 6",
        ),
        {"rolls": ("sound", ""), "cooling": ("sound", "")},
        (13900, 2100, "three like it on the ferry's own list"),
    ),
    HERON.name: _Walk(
        (
            "buckle left frame 200 ahead of C1L",
            "earlier repair plate welded under the right rail at R2R",
            "gap cab to bed left 62 right 48",
        ),
        {"rolls": ("sound", ""), "axle": ("sound", ""), "steering": ("hurt", "drag link bent")},
        (21500, 7900, "hire of a like one, two seasons"),
    ),
    TEAL.name: _Walk(
        (
            "kink right rear rail 120 behind R2R",
            "torn seam floor to rear panel at R3R",
            "tailgate does not close at U1R",
            "gap tailgate to lamp left 5 right 1",
            "rust in the spare wheel well 200 behind R2L",
        ),
        {"rolls": ("sound", ""), "fuel_exhaust": ("hurt", "silencer hanger torn off")},
        (6900, 4480, "local sales"),
    ),
    TURNSTONE.name: _Walk(
        (
            "crack cast node at R2L",
            "torn bond side rail to node 160 ahead of R2L",
            "split arm at the left rear at R1L",
        ),
        {"rolls": ("open", ""), "arms": ("hurt", "left rear lower arm split"), "wiring": ("sound", "")},
        (48800, 19750, "as converted, with its fittings"),
    ),
    PUFFIN.name: _Walk(
        (
            "kink right side rail at C2R",
            "crack weld of the second cross member 40 behind C2R",
        ),
        {"rolls": ("sound", ""), "axle": ("sound", "")},
        (5200, 1450, "new price less six years"),
    ),
}


class _Member(NamedTuple):
    material: Material
    role: MemberRole
    signs: tuple[Sign, ...]
    maker: MakersWord = MakersWord()
    hours: float | None = None
    first: str = ""
    donor: str = ""


_MEMBERS: dict[str, dict[tuple[str, str], _Member]] = {
    DUNLIN.name: {
        ("right front rail", "outer"): _Member(
            "high_strength",
            "crush_zone",
            ("kinked", "bent"),
            MakersWord(section=True, heat=False),
            9.5,
            donor="new, bare",
        ),
        ("right front rail", "inner"): _Member("high_strength", "structural", ("bent",), MakersWord(heat=False), 3.0),
        ("left front rail", ""): _Member("high_strength", "structural", ("bent",), MakersWord(heat=False), 1.5),
        ("right apron", ""): _Member(
            "mild", "structural", ("buckled", "kinked"), MakersWord(section=True), 5.5, donor="new, with its brace"
        ),
    },
    DUNLIN_TWO.name: {
        ("right apron", ""): _Member("mild", "structural", ("kinked",), MakersWord(), 4.5, donor="new"),
    },
    HERON.name: {
        ("left frame", ""): _Member("mild", "structural", ("buckled", "bent"), MakersWord(heat=True), 6.0),
        ("right frame", ""): _Member("mild", "structural", ("bent", "repaired_before"), MakersWord(heat=True)),
    },
    TEAL.name: {
        ("right rear rail", ""): _Member(
            "high_strength",
            "structural",
            ("kinked", "bent"),
            MakersWord(section=True, heat=False),
            7.0,
            "floor and rail are pulled together, then the rail is cut at the maker's window",
            "rail end with floor, from a donor: measured, three layers",
        ),
        ("luggage floor", ""): _Member(
            "mild",
            "closing",
            ("kinked", "seam_torn", "thinned_by_rust"),
            MakersWord(),
            6.0,
            donor="from the same donor as the rail end",
        ),
        ("left rear rail", ""): _Member("high_strength", "structural", ("bent",), MakersWord(heat=False), 1.0),
        ("right opening", ""): _Member("mild", "closing", ("bent", "seam_torn"), MakersWord(), 2.5),
        ("left opening", ""): _Member("mild", "closing", ("bent",), MakersWord(), 0.5),
    },
    TURNSTONE.name: {
        ("left rear node", ""): _Member(
            "casting",
            "structural",
            ("cracked",),
            MakersWord(straighten=False, section=False, heat=False),
            11.0,
            "the side rail is let go of it first",
            "new node, with its adhesive and rivets",
        ),
        ("left rear rail", ""): _Member("aluminium", "structural", ("bent", "seam_torn"), MakersWord(heat=False), 4.0),
        ("right rear node", ""): _Member("aluminium", "structural", ("bent",), MakersWord(heat=False), 2.0),
        ("right rear rail", ""): _Member("aluminium", "structural", ("bent",), MakersWord(heat=False), 1.5),
    },
    PUFFIN.name: {
        ("right side rail", ""): _Member("mild", "structural", ("kinked",), MakersWord(section=True, heat=True), 4.5),
        ("left side rail", ""): _Member("mild", "structural", ("bent",), MakersWord(heat=True), 1.5),
        ("second cross member", ""): _Member(
            "mild", "structural", ("cracked",), MakersWord(section=True, heat=True), 2.0
        ),
    },
}
_SOURCE = "body repair leaflet of the ferry line's own fleet file"


_ON: dict[str, tuple[str, str]] = {
    "kink right rail 140 behind F4R": ("right front rail", "outer"),
    "buckle right apron at F3R": ("right apron", ""),
    "witness mark moved at the right lid hinge": ("right apron", ""),
    "plate on the right apron 60 ahead of F3R: a cut would go through it": ("right apron", ""),
    "earlier repair plate welded under the right rail at R2R": ("right frame", ""),
    "kink right apron at F3R": ("right apron", ""),
    "torn seam floor to rear panel at R3R": ("luggage floor", ""),
    "rust in the spare wheel well 200 behind R2L": ("luggage floor", ""),
    "torn bond side rail to node 160 ahead of R2L": ("left rear rail", ""),
    "split arm at the left rear at R1L": ("left rear node", ""),
    "crack weld of the second cross member 40 behind C2R": ("second cross member", ""),
}
"""On which member and layer things are that were seen, where their words do not tell."""


def walk_round_of(desk: Desk, persons: dict[str, Person], number: str, vehicle: Vehicle) -> None:
    """Walk round a vehicle: what is seen, a drawn picture of the first two, the line of the push, value against cost."""
    told = _WALKS[vehicle.name]
    places = {point.code: point.xyz for point in vehicle.sheet.points}
    for index, said in enumerate(told.said):
        seen: Seen = understand_seen(said, places)
        finding = walk_round.note_finding(desk, persons["ngozi"], _key(), number, said, seen)
        if said in _ON:
            walk_round.bind_finding(desk, persons["ngozi"], _key(), number, finding, *_ON[said])
        if index < 2:
            photo = photo_to_keep(drawn_photo(said, seen.kind), "drawn.png")
            walk_round.keep_photo(
                desk,
                persons["ngozi"],
                _key(),
                number,
                photo,
                name="drawn.png",
                words=said,
                about="walk",
                about_id=finding,
            )
    for item, (answer, words) in told.line.items():
        walk_round.answer_line(desk, persons["ngozi"], _key(), number, item, answer, words)
    value, cost, words = told.worth
    walk_round.weigh(desk, persons["tomasz"], _key(), number, 100 * value, 100 * cost, words)


def decisions_of(desk: Desk, technician: Person, lead: Person, number: str, vehicle: Vehicle) -> None:
    """Decide on the members that the story tells of, as the rules say, where the vehicle is measured."""
    if desk.view(number).state.picture is None:
        return
    for (member, layer), told in _MEMBERS.get(vehicle.name, {}).items():
        member_said = MemberSaid(member, layer, told.material, told.role, told.signs, told.maker, _SOURCE)
        deciding.see_member(desk, technician, _key(), number, member_said)
    for state in member_states(desk.view(number).facts):
        told_of = _MEMBERS.get(vehicle.name, {}).get((state.member, state.layer))
        if state.seen is None or told_of is None:
            continue
        proposal = propose(state.seen)
        if proposal is None:
            continue
        decided = DecisionSaid(proposal.decision, hours=told_of.hours, first=told_of.first, donor=told_of.donor)
        deciding.decide(desk, lead, _key(), number, state.seen.id, decided)
    with suppress(Unsure):
        deciding.keep_what_is_fair(desk, technician, _key(), number)


def _key() -> str:
    return secrets.token_urlsafe(18)
