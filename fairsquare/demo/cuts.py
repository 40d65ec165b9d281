"""How the demo's members are replaced: the Teal's rail end and floor, the Turnstone's node, the Dunlin's apron. All invented."""

import secrets
from typing import Any, NamedTuple

from fairsquare.actions import Desk, cutting, parts
from fairsquare.core.cut.section import LinesSaid, SectionHow, StripSaid, WeldsSaid
from fairsquare.job.facts.parts import PartItemKind
from fairsquare.stand_ins.vehicles import DUNLIN, DUNLIN_TWO, TEAL, TURNSTONE, Vehicle
from fairsquare.store.people import Person


class _Section(NamedTuple):
    member: str
    how: SectionHow
    strip: dict[str, Any] | None = None
    lines: LinesSaid | None = None
    welds: dict[str, Any] | None = None


class _Part(NamedTuple):
    """A part that came: its items as kind, words, how many the old and the new have, and the plan; spans as two codes and mm."""

    name: str
    origin: str
    source: str
    identity: str
    items: tuple[tuple[PartItemKind, str, int, int, str], ...]
    spans: tuple[tuple[str, str, str], ...] = ()


def _row(
    flange: str, stack: str, first: float, last: float, many: int, number: int, **other: Any
) -> list[dict[str, Any]]:
    """Return welds evenly along a flange, numbered onward from `number`."""
    step = (last - first) / (many - 1) if many > 1 else 0.0
    return [
        {
            "id": str(number + k),
            "flange": flange,
            "at_mm": round(first + k * step, 1),
            "across_mm": 9.0,
            "stack": stack.split(" / "),
            **other,
        }
        for k in range(many)
    ]


_WINDOW = "body repair leaflet of the ferry line's own fleet file, page 14"
_TEAL_RAIL = _Section(
    "right rear rail",
    "cut",
    {
        "datum": "R2R",
        "runs": "rearward",
        "keep": "low",
        "layers": [
            {
                "id": "outer",
                "from": -330.0,
                "to": 430.0,
                "thickness_mm": 1.2,
                "material": "high_strength",
                "damage": [92.0, 330.0],
                "joint": "butt_backed",
                "maker": "butt with backing, in the window only",
                "faces": [
                    {"name": "upper flange", "width_mm": 18.0},
                    {"name": "web", "width_mm": 96.0},
                    {"name": "lower flange", "width_mm": 18.0},
                ],
            },
            {
                "id": "stiffener",
                "from": -210.0,
                "to": 360.0,
                "thickness_mm": 1.4,
                "material": "high_strength",
                "damage": [118.0, 300.0],
                "joint": "butt_backed",
                "maker": "50 mm from the outer's cut",
                "faces": [{"name": "web", "width_mm": 88.0}],
            },
            {
                "id": "inner",
                "from": -330.0,
                "to": 430.0,
                "thickness_mm": 1.0,
                "material": "mild",
                "damage": [105.0, 260.0],
                "joint": "lap",
                "maker": "lap of 25 mm, new part inside",
                "faces": [{"name": "web", "width_mm": 96.0}, {"name": "foot", "width_mm": 20.0}],
            },
        ],
        "features": [
            {
                "kind": "hole",
                "from": -8.0,
                "to": 8.0,
                "layers": ["outer"],
                "words": "floor hole R2R",
                "across_mm": 66.0,
            },
            {"kind": "suspension", "from": -330.0, "to": -290.0, "layers": None, "words": "axle mount R1R"},
            {
                "kind": "bracket",
                "from": -72.0,
                "to": -44.0,
                "layers": ["outer", "stiffener"],
                "words": "exhaust hanger",
            },
            {"kind": "hole", "from": 40.0, "to": 52.0, "layers": ["inner"], "words": "drain", "across_mm": 48.0},
            {
                "kind": "reinforcement",
                "from": -150.0,
                "to": -138.0,
                "layers": ["stiffener"],
                "words": "axle mount plate ends",
            },
            {
                "kind": "crush_initiator",
                "from": 150.0,
                "to": 190.0,
                "layers": ["outer", "inner"],
                "words": "crush bead",
            },
        ],
        "windows": [
            {"layer": "outer", "from": -130.0, "to": 80.0, "source": _WINDOW},
            {"layer": "stiffener", "from": -130.0, "to": 80.0, "source": _WINDOW},
            {"layer": "inner", "from": -130.0, "to": 120.0, "source": _WINDOW},
        ],
        "access": [
            {"layer": "outer", "from": -240.0, "to": 430.0, "words": "wheel off, liner out"},
            {"layer": "inner", "from": -60.0, "to": 430.0, "words": "from the luggage floor, once it is out"},
        ],
        "behind": [
            {"kind": "harness", "from": -330.0, "to": 120.0, "words": "rear harness, in the rail"},
            {"kind": "fuel_line", "from": -330.0, "to": -180.0, "words": "fuel vent"},
            {"kind": "foam", "from": 60.0, "to": 140.0, "words": "foam baffle"},
        ],
        "access_cuts": [
            {
                "layer": "outer",
                "at_mm": 245.0,
                "words": "the crushed end off, to see the stiffener and to set the plate",
            }
        ],
    },
    LinesSaid(tool="body saw, 1.2 mm blade", donor_sheet_mm=351.4, donor_read_mm=352.6, bend_mm=0.0, bend_over_mm=0.0),
    {
        "donor": "used",
        "parts": [
            {"id": "rail end", "fate": "donor", "material": "high_strength", "thickness_mm": 1.2},
            {"id": "rail stump", "fate": "stays", "material": "high_strength", "thickness_mm": 1.2},
            {"id": "wheelhouse", "fate": "stays", "material": "mild", "thickness_mm": 0.8},
            {"id": "rear panel", "fate": "returns", "material": "mild", "thickness_mm": 0.7},
        ],
        "welds": [
            *_row(
                "upper flange", "wheelhouse / rail end", 130.0, 330.0, 6, 1, vehicle=["top"], donor=["top", "bottom"]
            ),
            *_row("end flange", "rear panel / rail end", 345.0, 420.0, 3, 7, vehicle=["top"], after=["top", "bottom"]),
        ],
    },
)
_TEAL_FLOOR = _Section(
    "luggage floor",
    "seams",
    welds={
        "donor": "used",
        "parts": [
            {"id": "floor", "fate": "donor", "material": "mild", "thickness_mm": 0.8},
            {"id": "left rail", "fate": "stays", "material": "high_strength", "thickness_mm": 1.2},
            {"id": "heel board", "fate": "stays", "material": "mild", "thickness_mm": 0.9},
            {"id": "rear panel", "fate": "returns", "material": "mild", "thickness_mm": 0.7},
            {"id": "tow eye plate", "fate": "stays", "material": "press_hardened", "thickness_mm": 2.0},
            {"id": "belt plate", "fate": "stays", "material": "ultra_high_strength", "thickness_mm": 1.6},
        ],
        "welds": [
            *_row("left rail flange", "floor / left rail", 0.0, 360.0, 8, 1, vehicle=["top"], after=["top"]),
            *_row(
                "left rail flange",
                "floor / left rail / tow eye plate",
                410.0,
                500.0,
                3,
                9,
                vehicle=["top"],
                after=["top"],
            ),
            *_row("front flange", "floor / heel board", 0.0, 700.0, 8, 12, after=["top"]),
            *_row(
                "front flange", "floor / heel board / belt plate", 300.0, 400.0, 2, 20, vehicle=["top"], after=["top"]
            ),
            *_row("rear flange", "rear panel / floor", 0.0, 640.0, 6, 22, after=["top", "bottom"]),
        ],
        "seams": [
            {
                "id": "S1",
                "flange": "front flange",
                "from": 0.0,
                "to": 700.0,
                "stack": ["floor", "heel board"],
                "how": "warm the sealer, lift it with a blunt scraper; never burn it off",
            }
        ],
    },
)
_TURNSTONE_NODE = _Section(
    "left rear node",
    "seams",
    welds={
        "donor": "new",
        "parts": [
            {"id": "node", "fate": "donor", "material": "casting", "thickness_mm": 4.0},
            {"id": "side rail", "fate": "stays", "material": "aluminium", "thickness_mm": 2.5},
            {"id": "cross tube", "fate": "stays", "material": "aluminium", "thickness_mm": 2.2},
            {"id": "shear plate", "fate": "returns", "material": "aluminium", "thickness_mm": 2.0},
            {"id": "stretcher bracket", "fate": "returns", "material": "mild", "thickness_mm": 3.0},
        ],
        "welds": [
            *_row(
                "socket, outboard", "node / side rail", 20.0, 140.0, 5, 1, kind="rivet", vehicle=["top"], after=["top"]
            ),
            *_row(
                "socket, inboard", "node / side rail", 20.0, 140.0, 5, 6, kind="rivet", vehicle=["top"], after=["top"]
            ),
            *_row(
                "cross tube cup",
                "node / cross tube",
                15.0,
                75.0,
                4,
                11,
                kind="rivet",
                vehicle=["bottom"],
                after=["bottom"],
            ),
            *_row(
                "shear plate",
                "shear plate / node",
                30.0,
                210.0,
                4,
                15,
                kind="bolt",
                vehicle=["bottom"],
                after=["bottom"],
            ),
            *_row(
                "bracket", "stretcher bracket / node", 40.0, 90.0, 2, 19, kind="bolt", vehicle=["top"], after=["top"]
            ),
        ],
        "seams": [
            {
                "id": "S1",
                "flange": "socket, outboard",
                "from": 0.0,
                "to": 160.0,
                "stack": ["node", "side rail"],
                "how": "warm air to the maker's temperature, never flame; wedge it as it lets go, mask on",
            },
            {
                "id": "S2",
                "flange": "cross tube cup",
                "from": 0.0,
                "to": 90.0,
                "stack": ["node", "cross tube"],
                "how": "warm air to the maker's temperature, draw the tube out straight",
            },
        ],
    },
)
_DUNLIN_APRON = _Section(
    "right apron",
    "cut",
    {
        "datum": "F3R",
        "runs": "forward",
        "keep": "low",
        "layers": [
            {
                "id": "skin",
                "from": -260.0,
                "to": 640.0,
                "thickness_mm": 0.8,
                "material": "mild",
                "damage": [118.0, 560.0],
                "joint": "lap",
                "maker": "lap in the window behind the strut tower's front weld",
                "faces": [{"name": "upper flange", "width_mm": 22.0}, {"name": "panel", "width_mm": 180.0}],
            },
            {
                "id": "brace",
                "from": -120.0,
                "to": 520.0,
                "thickness_mm": 1.4,
                "material": "ultra_high_strength",
                "damage": [150.0, 430.0],
                "joint": "factory_seam",
                "maker": "not cut: comes off at its seam",
                "faces": [{"name": "channel", "width_mm": 74.0}],
            },
        ],
        "features": [
            {
                "kind": "plate",
                "from": 60.0,
                "to": 104.0,
                "layers": ["skin"],
                "words": "identity plate",
                "across_mm": 90.0,
            },
            {"kind": "suspension", "from": -180.0, "to": -60.0, "layers": ["skin"], "words": "strut tower"},
            {
                "kind": "nut",
                "from": 10.0,
                "to": 22.0,
                "layers": ["skin"],
                "words": "bonnet hinge stud",
                "across_mm": 30.0,
            },
            {
                "kind": "hole",
                "from": -20.0,
                "to": 12.0,
                "layers": ["brace"],
                "words": "harness pass",
                "across_mm": 36.0,
            },
        ],
        "windows": [
            {"layer": "skin", "from": 25.0, "to": 100.0, "source": _WINDOW},
            {"layer": "brace", "from": -70.0, "to": 120.0, "source": _WINDOW},
        ],
        "access": [{"layer": "skin", "from": -20.0, "to": 640.0, "words": "lamp and fender off"}],
        "behind": [
            {"kind": "harness", "from": -120.0, "to": 640.0, "words": "front harness"},
            {"kind": "airbag", "from": 420.0, "to": 480.0, "words": "front impact sensor"},
        ],
    },
    LinesSaid(tool="air saw, 1.0 mm blade", marking="tape", kerf_mm=1.0),
    {
        "donor": "new",
        "parts": [
            {"id": "apron", "fate": "donor", "material": "mild", "thickness_mm": 0.8},
            {"id": "rail", "fate": "stays", "material": "high_strength", "thickness_mm": 1.6},
            {"id": "rail stiffener", "fate": "stays", "material": "press_hardened", "thickness_mm": 1.8},
            {"id": "brace", "fate": "donor", "material": "ultra_high_strength", "thickness_mm": 1.4},
            {"id": "lock carrier", "fate": "returns", "material": "mild", "thickness_mm": 1.0},
        ],
        "welds": [
            *_row("rail flange", "apron / rail", 130.0, 430.0, 7, 1, vehicle=["top"], after=["top"]),
            *_row("rail flange", "apron / rail / rail stiffener", 470.0, 560.0, 3, 8, vehicle=["top"], after=["top"]),
            *_row("front flange", "lock carrier / apron", 0.0, 160.0, 4, 11, vehicle=["top"], after=["top", "bottom"]),
            *_row("brace flange", "apron / brace / rail", 40.0, 140.0, 3, 15, vehicle=["top"], squeeze=True),
        ],
    },
)
_SECOND_APRON = _Section(
    "right apron",
    "seams",
    welds={
        "donor": "new",
        "parts": [
            {"id": "apron", "fate": "donor", "material": "mild", "thickness_mm": 0.8},
            {"id": "rail", "fate": "stays", "material": "high_strength", "thickness_mm": 1.4},
        ],
        "welds": _row("rail flange", "apron / rail", 40.0, 270.0, 6, 1, vehicle=["top"], after=["top"]),
    },
)
_SECTIONS: dict[str, tuple[_Section, ...]] = {
    DUNLIN_TWO.name: (_SECOND_APRON,),
    TEAL.name: (_TEAL_RAIL, _TEAL_FLOOR),
    TURNSTONE.name: (_TURNSTONE_NODE,),
    DUNLIN.name: (_DUNLIN_APRON,),
}
_PARTS: dict[str, tuple[_Part, ...]] = {
    TEAL.name: (
        _Part(
            "right rear rail end with luggage floor",
            "donor",
            "yard at Corran Head, off a blue one hit at the front",
            "SSF4TEAL0K2207715",
            (
                ("layer", "layers of the rail", 3, 3, ""),
                ("bracket", "exhaust hanger", 1, 0, "moved over from the old part"),
                ("stud", "spare wheel stud", 1, 1, ""),
                ("nut", "weld nuts for the bumper", 4, 4, ""),
                ("comes_off", "old sealer along the floor's seams", 0, 1, "scraped and cleaned"),
                ("comes_off", "foam baffle of the donor", 0, 1, ""),
                ("comes_off", "a strip of the neighbour's wheelhouse flange", 0, 1, ""),
            ),
            (("R2R", "R3R", "352.6"),),
        ),
    ),
    TURNSTONE.name: (
        _Part(
            "left rear node",
            "new",
            "maker's parts counter, with rivets and adhesive",
            "",
            (("hole", "rivet holes", 14, 14, ""), ("bracket", "earth stud bracket", 1, 1, "")),
        ),
    ),
    DUNLIN.name: (
        _Part(
            "right apron, with brace",
            "new",
            "maker's parts counter",
            "",
            (("nut", "lamp nuts", 3, 3, ""), ("bracket", "harness clips", 5, 2, "three moved over from the old part")),
        ),
    ),
    DUNLIN_TWO.name: (_Part("right apron", "new", "maker's parts counter", "", (("nut", "lamp nuts", 3, 3, ""),)),),
}


def cuts_of(desk: Desk, technician: Person, number: str, vehicle: Vehicle) -> None:
    """Check in the parts of a job and plan how its members are replaced, as the story tells."""
    taken = [_take_in(desk, technician, number, part) for part in _PARTS.get(vehicle.name, ())]
    for told in _SECTIONS.get(vehicle.name, ()):
        section = cutting.begin(desk, technician, _key(), number, told.member, told.how)
        if told.strip is not None:
            strip = StripSaid.model_validate(told.strip, strict=False)
            cutting.keep_strip(desk, technician, _key(), number, section, strip, 0)
        if told.lines is not None:
            cutting.keep_lines(desk, technician, _key(), number, section, told.lines, 0)
        if told.welds is not None:
            welds = WeldsSaid.model_validate({**told.welds, "part": taken[0]}, strict=False)
            cutting.keep_welds(desk, technician, _key(), number, section, welds, 0)


def _take_in(desk: Desk, technician: Person, number: str, part: _Part) -> int:
    own = parts.take_part_in(desk, technician, _key(), number, part.name, part.origin, part.source, part.identity)
    for item in part.items:
        parts.count_item(desk, technician, _key(), number, own, *item)
    for span in part.spans:
        parts.measure_part(desk, technician, _key(), number, own, *span, "mm")
    return own


def _key() -> str:
    return secrets.token_urlsafe(18)
