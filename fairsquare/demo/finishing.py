"""How far the demo's vehicles have come behind the decision: the Turnstone's is signed; the second Dunlin stands at its dry fit."""

import datetime
import secrets
from collections.abc import Callable

from fairsquare.actions import Desk, cutting, finishing, measuring, walk_round
from fairsquare.core.fit.said import FitSaid, GapSaid, HingeSaid, PanelSaid, Way
from fairsquare.core.model import Row3
from fairsquare.core.weld.bonding import BondSaid, ProductSaid, SurfaceSaid
from fairsquare.core.weld.seam import Holder, JoinWeld, SeamPlan
from fairsquare.core.weld.timeline import BondStep
from fairsquare.demo.pictures import drawn_photo
from fairsquare.files.photos import photo_to_keep
from fairsquare.job.cut.job import SIDES, section_states
from fairsquare.job.facts.done import CouponMade, FinishItem, HingeLooked, Hung
from fairsquare.stand_ins.vehicles import DUNLIN_TWO, TURNSTONE, Vehicle
from fairsquare.store.people import Person

_FREE = (-4.0, 4.0)
_LID_GAPS: tuple[tuple[str, Way, Row3, str], ...] = (
    ("lid left front", "left", (2120.0, 690.0, 780.0), "F4L"),
    ("lid left rear", "left", (1420.0, 690.0, 880.0), "F2L"),
    ("lid right front", "right", (2120.0, -690.0, 780.0), "F4R"),
    ("lid right rear", "right", (1420.0, -690.0, 880.0), "F2R"),
)
_FIT = FitSaid(
    panels=(
        PanelSaid(
            name="lid",
            drop_mm=1.0,
            hinges=(
                HingeSaid(id="left hinge", at=(1180.0, 560.0, 905.0), length=_FREE, width=_FREE, height=_FREE),
                HingeSaid(id="right hinge", at=(1180.0, -560.0, 905.0), length=_FREE, width=_FREE, height=_FREE),
            ),
        ),
    ),
    gaps=tuple(
        GapSaid(place=place, panel="lid", way=way, at=at, target_mm=4.0, tolerance_mm=1.0, near=near)
        for place, way, at, near in _LID_GAPS
    ),
)
_SEAM = SeamPlan(
    name="right apron to rail",
    section=1,
    process="plug",
    metal="steel",
    sheets_mm=(0.8, 1.4),
    sheets_said="0.8 + 1.4",
    method="mag",
    volts=16.5,
    amperes=60.0,
    seconds=1.8,
    maker="plug welds in place of the maker's spots, one more for every five",
    limit_c=120.0,
    welds=(
        *(JoinWeld(id=f"A{k + 1}", along_mm=40.0 + 46.0 * k, across_mm=0.0 if k % 2 else 12.0) for k in range(6)),
        JoinWeld(id="P1", along_mm=110.0, across_mm=60.0, stage=2),
        JoinWeld(id="P2", along_mm=200.0, across_mm=60.0, stage=2),
    ),
    watch=("F3R", "F4R"),
    holders=(Holder(id="apron clamp", kind="clamp", after_welds=4),),
)
_BOND = BondSaid(
    temperature_c=18.0,
    products=(
        ProductSaid(
            id="sealer",
            kind="sealer",
            open_min=20.0,
            at_c=23.0,
            cure_min=120.0,
            batch="K4471",
            best_before="2027-06-30",
        ),
        ProductSaid(
            id="adhesive",
            kind="adhesive",
            open_min=90.0,
            at_c=23.0,
            cure_min=480.0,
            batch="B0920",
            best_before="2027-03-31",
        ),
    ),
    steps=(
        BondStep(id="adhesive on the flange", minutes=12.0, opens=("adhesive",)),
        BondStep(id="apron in, clamps on", minutes=15.0, closes=("adhesive",)),
        BondStep(id="seal the seams", minutes=10.0, opens=("sealer",), closes=("sealer",)),
    ),
    surfaces=(
        SurfaceSaid(place="apron flange at the plugs", kind="weld", gets=("bare",)),
        SurfaceSaid(place="apron flange between them", kind="flange", gets=("weld_primer",)),
        SurfaceSaid(place="apron to strut tower", kind="bonded", gets=("bare", "adhesive")),
        SurfaceSaid(place="seams from outside", kind="outside", gets=("primer", "sealer")),
    ),
)


def finishing_of(desk: Desk, persons: dict[str, Person], number: str, vehicle: Vehicle) -> None:
    """Tell what is done of a job behind its decision."""
    told: dict[str, Callable[[Desk, dict[str, Person], str], None]] = {
        TURNSTONE.name: _decided,
        DUNLIN_TWO.name: _at_its_dry_fit,
    }
    if vehicle.name in told:
        told[vehicle.name](desk, persons, number)


def _decided(desk: Desk, persons: dict[str, Person], number: str) -> None:
    hold = desk.view(number).state.hold("decision_made")
    if hold.status == "ready":
        desk.sign(persons["solveig"], _key(), number, "decision_made", hold.evidence, "")


def _at_its_dry_fit(desk: Desk, persons: dict[str, Person], number: str) -> None:
    technician, lead = persons["mateus"], persons["solveig"]
    _decided(desk, persons, number)
    (state,) = section_states(desk.view(number).facts)
    for whose in SIDES:
        for weld in state.to_do(whose):
            cutting.tick(desk, technician, _key(), number, state.fact.number, whose, weld.said.id, done=True)
    seam = _SEAM.model_copy(update={"section": state.fact.number})
    finishing.say_fit(desk, technician, _key(), number, _FIT, 0)
    own = finishing.say_seam(desk, technician, _key(), number, 0, seam, 0)
    until = (datetime.datetime.now(datetime.UTC).date() + datetime.timedelta(days=150)).isoformat()
    products = tuple(product.model_copy(update={"best_before": until}) for product in _BOND.products)
    finishing.say_bond(desk, technician, _key(), number, _BOND.model_copy(update={"products": products}), 0)
    coupon = CouponMade(
        seam=own,
        process="plug",
        metal="steel",
        governing_mm=0.8,
        settings="MAG, 60 A, 16.5 V, wire 0.6 mm",
        made_by=technician.full_name,
        end="metal_tore",
        size_mm=6.5,
        accepted=True,
    )
    made = finishing.note(desk, lead, _key(), number, coupon)
    photo = photo_to_keep(drawn_photo("coupon pulled apart: a button of 6.5 mm stayed on", "other"), "coupon.png")
    walk_round.keep_photo(
        desk,
        technician,
        _key(),
        number,
        photo,
        name="coupon.png",
        words="coupon pulled apart",
        about="done",
        about_id=made,
    )
    measuring.record_move(desk, technician, _key(), number, "clamp", "the new apron is in, clamped at three places")
    for hinge in ("left hinge", "right hinge"):
        finishing.note(desk, technician, _key(), number, HingeLooked(panel="lid", hinge=hinge, state="sound"))
    finishing.note(desk, technician, _key(), number, Hung(panel="lid", strip=True, minutes=25.0))
    for item in (
        FinishItem(what="primer", words="primer on the plugs of the apron"),
        FinishItem(what="sealer", words="seam sealer along the apron"),
        FinishItem(what="filler", words="filler and paint of the apron"),
    ):
        finishing.note(desk, technician, _key(), number, item)


def _key() -> str:
    return secrets.token_urlsafe(18)
