"""The dry fit as a person does it on the pages: gaps on the rack, spans, down on its wheels, the same spans and gaps again."""

import math

import numpy as np

from fairsquare.actions import deciding, finishing, gaps, measuring
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.weld.seam import Holder, JoinWeld, SeamPlan
from fairsquare.job.facts.done import CouponMade
from fairsquare.job.facts.measure import NewReading
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.store.jobs import JobDetails
from tests.conftest import key

PLACES = {point.code: point.xyz for point in DUNLIN.sheet.points}
SPANS = (("F5L", "F5R"), ("F5L", "F4R"), ("F5R", "F4L"))
LID = "lid to right fender"


def read_gap(pages, job: str, said: str = "4.2", status: int = 200, place: str = LID) -> str:
    return pages.post(f"/jobs/{job}/gaps", status, place=place, said=said, target="4", tolerance="1", unit="mm")


def read_spans(pages, job: str, off: float = 0.0, setup: str = "1", spans=SPANS) -> None:
    for a, b in spans:
        mm = math.dist(PLACES[a], PLACES[b]) + off
        pages.post(f"/jobs/{job}/readings", setup=setup, call=f"{a} {b} {mm:.1f}", unit="mm")


def let_down(pages, job: str, status: int = 200) -> str:
    return pages.post(f"/jobs/{job}/fit/moved", status, what="lowered")


def fit_on_rack_and_wheels(pages, job: str, gap: str = "4.2") -> None:
    """Everything that the dry fit demands of a job in which nothing else is missing."""
    read_gap(pages, job, gap)
    read_spans(pages, job)
    let_down(pages, job)
    read_spans(pages, job)
    read_gap(pages, job, gap)


def ready_job(desk, persons) -> str:
    """A job made by deeds, as far as everything signed before the dry fit: an undamaged Dunlin, one panel listed."""
    technician, lead = persons["technician"], persons["lead"]
    details = JobDetails(vehicle="Dunlin post van", construction="unibody", hit_where="front", hit_from_deg=45)
    job = desk.open_job(technician, key(), details)
    for item in SAFETY_ITEMS:
        by = ("Pernille Ostrander", "KR-2231") if item.qualified else ("", "")
        desk.answer_safety(technician, key(), job, item.key, "done", "", *by)
    sign(desk, technician, job, "made_safe")
    desk.accept_sheet(technician, key(), job, DUNLIN.sheet, {}, "sheet.csv")
    set_up(desk, technician, job)
    read_points(desk, technician, job)
    deciding.keep_what_is_fair(desk, technician, key(), job)
    sign(desk, lead, job, "decision_made")
    return job


def sign(desk, person, job: str, hold: str, reason: str = "") -> None:
    desk.sign(person, key(), job, hold, desk.view(job).state.hold(hold).evidence, reason)


def set_up(desk, person, job: str) -> int:
    setup = measuring.open_setup(desk, person, key(), job, "3-D instrument", 0.3)
    codes = [point.code for point in DUNLIN.sheet.points if point.reference]
    measuring.take_readings(desk, person, key(), job, setup, [_point(code, setup, "reference") for code in codes])
    sign(desk, person, job, "setup_accepted")
    return setup


def _point(code: str, setup: int, purpose: str, moved=(0.0, 0.0, 0.0)) -> NewReading:
    xyz = instrument_reading(np.array(PLACES[code]) + np.array(moved), setup, np.zeros(3))
    return NewReading(purpose=purpose, code=code, xyz=xyz, said=code)


def read_points(desk, person, job: str, purpose: str = "point", codes=None, moved=(0.0, 0.0, 0.0)) -> None:
    setup = desk.view(job).setup.number
    codes = codes or [point.code for point in DUNLIN.sheet.points if not point.reference]
    measuring.take_readings(desk, person, key(), job, setup, [_point(code, setup, purpose, moved) for code in codes])


def _spans(desk, person, job: str) -> None:
    taken = [
        NewReading(
            purpose="point",
            code=a,
            xyz=None,
            said=f"{a} {b}",
            kind="span",
            b=b,
            mode="point_to_point",
            mm=math.dist(PLACES[a], PLACES[b]),
            sigma_mm=0.5,
        )
        for a, b in SPANS
    ]
    measuring.take_readings(desk, person, key(), job, desk.view(job).setup.number, taken)


def prove(desk, persons, job: str, gap: str = "4.2") -> None:
    """Do all that the dry fit demands, whatever was moved before, and have the lead sign it."""
    technician = persons["technician"]
    view = desk.view(job)
    if view.setup is None or view.setup.left is not None:
        set_up(desk, technician, job)
    elif view.state.hold("setup_accepted").status != "closed":
        sign(desk, technician, job, "setup_accepted")
    read_points(desk, technician, job)
    gaps.read_gap(desk, technician, key(), job, LID, gap, "4", "1", "mm")
    _spans(desk, technician, job)
    finishing.lower(desk, technician, key(), job, "")
    _spans(desk, technician, job)
    gaps.read_gap(desk, technician, key(), job, LID, gap, "4", "1", "mm")
    sign(desk, persons["lead"], job, "fit_accepted")


SEAM = SeamPlan(
    name="apron to rail",
    method="mag",
    volts=17.0,
    amperes=70.0,
    seconds=2.0,
    sheets_mm=(1.0, 1.2),
    welds=(
        JoinWeld(id="a", along_mm=0.0),
        JoinWeld(id="b", along_mm=60.0),
        JoinWeld(id="c", along_mm=30.0, across_mm=30.0, stage=2),
    ),
    watch=("F5R",),
    holders=(Holder(id="clamp 1", after_welds=2),),
)


def coupon(seam: int, **other) -> CouponMade:
    given = {
        "seam": seam,
        "process": "plug",
        "metal": "steel",
        "governing_mm": 1.0,
        "settings": "70 A",
        "made_by": "Ngozi",
    }
    return CouponMade(**{**given, "end": "metal_tore", "accepted": True, **other})
