"""The table of doors: who comes in by which route, before a byte of what they send is read.

Every route of pages and API stands in it once: a route without a row is let nobody in by, and a test fails.
"""

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Literal, NamedTuple

from starlette.routing import compile_path

from fairsquare.core.gathered import modules
from fairsquare.job.deeds import Deed

Open = Literal["open", "link"]
"""Whoever asks; whoever has the code of a link."""
Seen = Literal["oneself", "see", "see a job"]
"""Whoever is signed in: what is one's own, what also practice has, and what only a job has."""
Way = Open | Seen | Deed

_DOORS: dict[Way, tuple[str, ...]] = {
    "open": (
        "GET /sign-in",
        "POST /sign-in",
        "GET /sign-in/code",
        "POST /sign-in/code",
        "POST /preferences",
        "GET /api/docs",
        "POST /api/v1/session",
        "GET /api/v1/compute",
        "GET /api/v1/compute/{name}",
        "GET /healthz",
        "GET /readyz",
        "GET /metrics",
    ),
    "link": (
        "GET /supplement/{code}",
        "POST /supplement/{code}",
        "GET /supplement/{code}/photos/{photo}.jpg",
        "GET /supplement/{code}/paper.pdf",
        "GET /handover/{code}",
        "GET /handover/{code}/left-out",
        "GET /handover/{code}/record.json",
        "GET /handover/{code}/record.zip",
        "GET /handover/{code}/record.pdf",
        "GET /handover/{code}/photos/{photo}.jpg",
    ),
    "oneself": (
        "POST /sign-out",
        "POST /people/password",
        "GET /own",
        "POST /own/sign-ins/{sign_in}/end",
        "POST /own/sign-ins/end-others",
        "POST /own/tokens",
        "POST /own/second-factor/begin",
        "POST /own/second-factor/confirm",
        "POST /own/second-factor/codes",
        "POST /own/second-factor/end",
    ),
    "see": (
        "GET /",
        "GET /jobs/new",
        "GET /vin",
        "GET /jobs/{number}/sheet/comparative",
        "GET /jobs/{number}/sheet",
        "POST /jobs/{number}/sheet/preview",
        "GET /jobs/{number}/sheet.{kind}",
        "GET /jobs/{number}/sheet/members",
        "GET /jobs/{number}/set-up",
        "GET /jobs/{number}/set-up/understood",
        "GET /jobs/{number}/measure",
        "GET /jobs/{number}/measure/drawn",
        "GET /jobs/{number}/measure/understood",
        "GET /jobs/{number}/changed",
        "GET /jobs/{number}/why/{code}",
        "GET /jobs/{number}/measure/next",
        "GET /jobs/{number}/settings",
        "GET /jobs/{number}/live",
        "GET /jobs/{number}/damage",
        "GET /jobs/{number}/pulls",
        "GET /jobs/{number}/pulls/search",
        "GET /jobs/{number}/pulls/search/now",
        "GET /jobs/{number}/pulls/try",
        "GET /jobs/{number}/pulls/cards",
        "GET /jobs/{number}/board",
        "GET /jobs/{number}/board/now",
        "POST /jobs/{number}/cuts/{section}/strip/draw",
        "GET /rig",
        "GET /practice",
        "GET /jobs/{number}/practice",
        "GET /work/strip",
        "GET /day",
        "GET /day/print",
        "GET /shop",
        "GET /keys",
        "GET /clocks",
        "GET /clocks/strip",
        "GET /past",
        "GET /records/{sha256}.json",
        "GET /records/{sha256}.csv",
        "GET /records/{sha256}.zip",
        "GET /records/{sha256}.pdf",
        "GET /records/{sha256}/paper",
        "GET /records/{sha256}",
        "GET /records/{sha256}/left-out",
        "GET /people",
        "GET /audit",
        "GET /tools",
        "GET /tools/{tool}",
        "GET /help",
        "GET /calculations",
        "POST /api/v1/compute/{name}",
        "GET /api/v1/jobs",
        "GET /api/v1/jobs/{number}",
        "GET /api/v1/jobs/{number}/facts",
        "GET /api/v1/jobs/{number}/sheet",
        "GET /api/v1/jobs/{number}/next",
        "GET /api/v1/records/{sha256}",
        "GET /api/v1/instrument/orders",
        "GET /api/v1/jobs/{number}/damage",
        "GET /api/v1/shop",
        "GET /api/v1/keys",
        "GET /api/v1/past",
        "GET /api/v1/day",
        "GET /api/v1/tools",
        "GET /api/v1/tools/{tool}",
        "GET /api/v1/instrument/pulls",
        "GET /api/v1/rig",
        "GET /api/v1/jobs/{number}/pulls",
        "GET /api/v1/jobs/{number}/pulls/setting",
        "GET /api/v1/jobs/{number}/board",
        "GET /api/v1/practice",
        "GET /api/v1/jobs/{number}/practice",
    ),
    "see a job": (
        "GET /jobs/{number}/take-in",
        "GET /jobs/{number}/walk-round",
        "GET /jobs/{number}/walk-round/understood",
        "GET /jobs/{number}/photos/{photo}.jpg",
        "GET /jobs/{number}/decide",
        "GET /jobs/{number}/cuts",
        "GET /jobs/{number}/cuts/{section}",
        "GET /jobs/{number}/cuts/{section}/try",
        "GET /jobs/{number}/cuts/{section}/strip",
        "GET /jobs/{number}/cuts/{section}/welds",
        "GET /jobs/{number}/cuts/{section}/map",
        "GET /jobs/{number}/cuts/{section}/template.{kind}",
        "GET /jobs/{number}/cuts/{section}/template",
        "GET /jobs/{number}/parts/{part}/template.{kind}",
        "GET /jobs/{number}/parts/{part}/template",
        "GET /jobs/{number}/cuts/{section}/sheet.pdf",
        "GET /jobs/{number}/supplements",
        "GET /jobs/{number}/hours",
        "GET /jobs/{number}/hours/list",
        "GET /jobs/{number}/waits",
        "GET /jobs/{number}/parts",
        "GET /jobs/{number}/fit",
        "GET /jobs/{number}/fit/understood",
        "GET /jobs/{number}/fit/panels",
        "GET /jobs/{number}/fit/list",
        "GET /jobs/{number}/holds/{hold}",
        "GET /jobs/{number}/bond",
        "GET /jobs/{number}/bond/plan",
        "GET /jobs/{number}/weld",
        "GET /jobs/{number}/seams/{seam}",
        "GET /jobs/{number}/seams/{seam}/heat",
        "GET /jobs/{number}/seams/{seam}/plan",
        "GET /jobs/{number}/went",
        "GET /jobs/{number}/finish",
        "GET /jobs/{number}/record",
        "GET /api/v1/jobs/{number}/sections",
        "GET /api/v1/jobs/{number}/sections/{section}",
        "GET /api/v1/jobs/{number}/sections/{section}/template.{kind}",
        "GET /api/v1/jobs/{number}/members",
        "GET /api/v1/jobs/{number}/finishing",
        "GET /api/v1/jobs/{number}/hours",
        "GET /api/v1/jobs/{number}/went",
    ),
    "take in": (
        "POST /jobs",
        "POST /jobs/files",
        "POST /jobs/{number}/take-in",
        "POST /api/v1/jobs",
        "PUT /api/v1/jobs/{number}",
        "POST /api/v1/jobs/files",
    ),
    "answer safety": (
        "POST /jobs/{number}/safety",
        "POST /api/v1/jobs/{number}/safety",
    ),
    "walk round": (
        "POST /jobs/{number}/walk-round",
        "POST /jobs/{number}/walk-round/{finding}/take-back",
        "POST /jobs/{number}/walk-round/{finding}/on",
        "POST /jobs/{number}/line",
        "POST /jobs/{number}/photos",
        "POST /api/v1/jobs/{number}/walk-round",
        "POST /api/v1/jobs/{number}/walk-round/{finding}/on",
        "POST /api/v1/jobs/{number}/walk-round/{finding}/take-back",
        "POST /api/v1/jobs/{number}/line",
        "POST /api/v1/jobs/{number}/photos",
    ),
    "estimate": ("POST /jobs/{number}/worth",),
    "accept sheet": (
        "POST /jobs/{number}/sheet/comparative",
        "POST /jobs/{number}/sheet",
        "POST /jobs/{number}/sheet/members",
        "PUT /api/v1/jobs/{number}/sheet",
        "POST /api/v1/jobs/{number}/sheet/names",
    ),
    "measure": (
        "POST /jobs/{number}/set-up",
        "POST /jobs/{number}/set-up/references",
        "POST /jobs/{number}/set-up/paste",
        "POST /jobs/{number}/moved",
        "POST /jobs/{number}/set-up/take-back",
        "POST /jobs/{number}/set-up/order",
        "POST /jobs/{number}/readings",
        "POST /jobs/{number}/take-back",
        "POST /jobs/{number}/order",
        "POST /jobs/{number}/gaps",
        "POST /jobs/{number}/seams/{seam}/watch",
        "POST /tools/{tool}/checks",
        "POST /api/v1/jobs/{number}/setups",
        "POST /api/v1/jobs/{number}/readings",
        "POST /api/v1/jobs/{number}/readings/{reading}/take-back",
        "POST /api/v1/jobs/{number}/movements",
        "POST /api/v1/jobs/{number}/gaps",
        "POST /api/v1/jobs/{number}/gaps/called",
        "POST /api/v1/tools/{tool}/checks",
    ),
    "judge readings": (
        "POST /jobs/{number}/set-up/choose",
        "POST /jobs/{number}/readings/{reading}/decision",
        "POST /jobs/{number}/damage/settle",
        "POST /jobs/{number}/fit/settle",
        "POST /api/v1/jobs/{number}/setups/{setup}/choice",
        "POST /api/v1/jobs/{number}/readings/{reading}/decision",
        "POST /api/v1/jobs/{number}/damage/settle",
    ),
    "decide": (
        "POST /jobs/{number}/decide/member",
        "POST /jobs/{number}/decide",
        "POST /jobs/{number}/decide/keep-fair",
        "POST /jobs/{number}/cuts",
        "POST /jobs/{number}/cuts/{section}/strip",
        "POST /jobs/{number}/cuts/{section}/put",
        "POST /jobs/{number}/cuts/{section}/lines",
        "POST /jobs/{number}/cuts/{section}/made",
        "POST /jobs/{number}/cuts/{section}/made/{cut}/back",
        "POST /jobs/{number}/cuts/{section}/welds",
        "POST /jobs/{number}/fit/list",
        "POST /jobs/{number}/bond/plan",
        "POST /jobs/{number}/seams/{seam}/plan",
        "POST /jobs/{number}/seams/{seam}/coupon",
        "POST /api/v1/jobs/{number}/sections",
        "PUT /api/v1/jobs/{number}/sections/{section}/strip",
        "PUT /api/v1/jobs/{number}/sections/{section}/cuts",
        "PUT /api/v1/jobs/{number}/sections/{section}/lines",
        "PUT /api/v1/jobs/{number}/sections/{section}/welds",
        "POST /api/v1/jobs/{number}/sections/{section}/made",
        "POST /api/v1/jobs/{number}/members",
        "POST /api/v1/jobs/{number}/members/{seen}/decision",
        "POST /api/v1/jobs/{number}/members/keep-fair",
        "PUT /api/v1/jobs/{number}/fit",
        "PUT /api/v1/jobs/{number}/seams/{seam}",
        "PUT /api/v1/jobs/{number}/bond",
    ),
    "plan pulls": (
        "POST /jobs/{number}/pulls/find",
        "POST /jobs/{number}/pulls/search/stop",
        "POST /jobs/{number}/pulls/search/keep",
        "POST /jobs/{number}/pulls/change",
        "POST /jobs/{number}/pulls/setting",
        "POST /jobs/{number}/pulls/tower",
        "POST /api/v1/jobs/{number}/pulls/find",
        "POST /api/v1/jobs/{number}/pulls",
        "POST /api/v1/jobs/{number}/pulls/setting",
    ),
    "pull": (
        "POST /jobs/{number}/board/begin",
        "POST /jobs/{number}/board/settle",
        "POST /jobs/{number}/board/cycle",
        "POST /api/v1/jobs/{number}/settlings",
        "POST /api/v1/jobs/{number}/settlings/read",
        "POST /api/v1/jobs/{number}/board/begin",
        "POST /api/v1/jobs/{number}/board/cycle",
        "POST /api/v1/jobs/{number}/load",
    ),
    "stop a pull": (
        "POST /jobs/{number}/board/go",
        "POST /api/v1/jobs/{number}/board",
    ),
    "open welds": (
        "POST /jobs/{number}/cuts/{section}/map",
        "POST /api/v1/jobs/{number}/sections/{section}/ticks",
    ),
    "keep tools": (
        "POST /rig",
        "POST /rig/{item}/look",
        "POST /tools",
        "POST /tools/{tool}/retire",
        "POST /tools/{tool}/calibrations",
        "POST /tools/{tool}/events/{event}/take-back",
        "POST /api/v1/tools",
        "POST /api/v1/tools/{tool}/calibrations",
    ),
    "practise": (
        "POST /practice",
        "POST /jobs/{number}/practice/end",
        "POST /api/v1/practice",
        "POST /api/v1/jobs/{number}/practice/end",
    ),
    "find more": (
        "POST /jobs/{number}/supplements/lines",
        "POST /jobs/{number}/supplements/lines/{line}/take-back",
        "POST /jobs/{number}/hours/gaps",
        "POST /api/v1/jobs/{number}/supplements/lines",
        "POST /api/v1/jobs/{number}/supplements/lines/{line}/take-back",
    ),
    "send supplement": (
        "POST /jobs/{number}/supplements/lines/{line}/answer",
        "POST /jobs/{number}/supplements/send",
        "POST /jobs/{number}/supplements/{supplement}/withdraw",
        "POST /api/v1/jobs/{number}/supplements/lines/{line}/answer",
        "POST /api/v1/jobs/{number}/supplements",
        "POST /api/v1/jobs/{number}/supplements/{supplement}/withdraw",
    ),
    "go ahead": (
        "POST /jobs/{number}/supplements/lines/{line}/go-ahead",
        "POST /api/v1/jobs/{number}/supplements/lines/{line}/go-ahead",
    ),
    "say hours": (
        "POST /jobs/{number}/hours/list",
        "PUT /api/v1/jobs/{number}/hours",
    ),
    "work": (
        "POST /jobs/{number}/work",
        "POST /jobs/{number}/work/{clock}/stop",
        "POST /jobs/{number}/work/add",
        "POST /jobs/{number}/work/{clock}/back",
        "POST /api/v1/jobs/{number}/work",
        "POST /api/v1/jobs/{number}/work/{clock}/stop",
        "POST /api/v1/jobs/{number}/work/{clock}/back",
    ),
    "note wait": (
        "POST /jobs/{number}/waits",
        "POST /jobs/{number}/waits/{wait}",
        "POST /api/v1/jobs/{number}/waits",
        "POST /api/v1/jobs/{number}/waits/{wait}/over",
    ),
    "plan day": (
        "POST /day/plan",
        "POST /day/fix",
        "POST /day/move",
        "POST /api/v1/day",
    ),
    "keep keys": (
        "POST /keys",
        "POST /keys/new",
        "POST /keys/{own}/take-back",
        "POST /jobs/{number}/record/key",
    ),
    "say shop": (
        "POST /shop",
        "PUT /api/v1/shop",
    ),
    "check parts in": (
        "POST /jobs/{number}/parts",
        "POST /jobs/{number}/parts/{part}/comes-off",
        "POST /jobs/{number}/parts/{part}/items",
        "POST /jobs/{number}/parts/{part}/spans",
        "POST /api/v1/jobs/{number}/parts",
        "POST /api/v1/jobs/{number}/parts/{part}/items",
        "POST /api/v1/jobs/{number}/parts/{part}/spans",
    ),
    "fit up": (
        "POST /jobs/{number}/fit/moved",
        "POST /jobs/{number}/fit/panels",
        "POST /jobs/{number}/fit/back",
        "POST /api/v1/jobs/{number}/lowered",
    ),
    "sign": (
        "POST /jobs/{number}/holds/{hold}",
        "POST /jobs/{number}/weld",
        "POST /api/v1/jobs/{number}/holds/{hold}/sign",
        "POST /api/v1/jobs/{number}/welded",
    ),
    "run clocks": (
        "POST /jobs/{number}/clocks",
        "POST /jobs/{number}/clocks/{clock}/end",
        "POST /api/v1/jobs/{number}/clocks",
        "POST /api/v1/jobs/{number}/clocks/{clock}/end",
    ),
    "weld": (
        "POST /jobs/{number}/seams/{seam}/log",
        "POST /jobs/{number}/seams/{seam}/back",
        "POST /jobs/{number}/seams/{seam}/holder",
        "POST /api/v1/jobs/{number}/seams/{seam}/holders/{holder}/off",
    ),
    "make record": (
        "POST /jobs/{number}/record",
        "POST /jobs/{number}/file",
        "POST /jobs/{number}/record/links",
        "POST /jobs/{number}/record/links/{own}/withdraw",
        "POST /api/v1/jobs/{number}/records",
        "POST /api/v1/jobs/{number}/file",
    ),
    "close": ("POST /jobs/{number}/close",),
    "manage people": (
        "POST /people/{person_id}/role",
        "POST /people/{person_id}/second-factor/forget",
        "POST /people",
        "POST /people/{person_id}/active",
    ),
    "finish": (
        "POST /jobs/{number}/finish",
        "POST /jobs/{number}/finish/back",
        "POST /api/v1/jobs/{number}/done",
        "POST /api/v1/jobs/{number}/done/{event}/take-back",
    ),
}

_ROOMS = ("fairsquare.web.routes", "fairsquare.api")


class Door(NamedTuple):
    """A route and who comes in by it."""

    method: str
    path: str
    way: Way


def doors() -> Iterator[Door]:
    """Yield every row of the table, and of what modules of routes bring as `DOORS`, whose pages came as files of their own."""
    brought = [own for room in _ROOMS for _, own in modules(room, "DOORS")]
    for way, routes in [item for table in (_DOORS, *brought) for item in table.items()]:
        for route in routes:
            method, _, path = route.partition(" ")
            yield Door(method, path, way)


class Entered(NamedTuple):
    """A door that a request comes to, and the number of the job in its path; empty where it has none."""

    door: Door
    number: str


@lru_cache(maxsize=1)
def _compiled() -> dict[str, list[tuple[re.Pattern[str], Door]]]:
    """Return the doors of each method, the one with the most letters of its own first."""
    compiled: dict[str, list[tuple[re.Pattern[str], Door]]] = {}
    for door in sorted(doors(), key=lambda door: -len(re.sub(r"\{[^}]*\}", "", door.path))):
        compiled.setdefault(door.method, []).append((compile_path(door.path)[0], door))
    return compiled


def door_of(method: str, path: str) -> Entered | None:
    """Return the door that a request comes to, or None where there is none."""
    for pattern, door in _compiled().get(method, ()):
        match = pattern.match(path)
        if match:
            return Entered(door, match.groupdict().get("number", ""))
    return None
