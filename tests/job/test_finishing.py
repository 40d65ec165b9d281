"""Gaps as they are called, gauge numbers, surfaces, seams and their heat: what the pages of fit and welding rest on."""

import math

import numpy as np
import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.fit.call import understand_gap
from fairsquare.core.fit.said import FitSaid, GapSaid, HingeSaid, PanelSaid, check_fit_said
from fairsquare.core.weld.bonding import BondSaid, ProductSaid, SurfaceSaid, bond_waits, check_bond, surface_faults
from fairsquare.core.weld.gauge import STEEL_INCH, gauge_mm, read_thickness
from fairsquare.core.weld.seam import JoinWeld, SeamPlan, check_seam, heat_at, order_asked, seam_found
from fairsquare.core.weld.starting import starting_point
from fairsquare.core.weld.timeline import BondStep
from fairsquare.drawings.seam import seam_drawing
from fairsquare.drawings.timeline import timeline_drawing
from fairsquare.job.facts.done import Hung
from fairsquare.job.facts.finishing import DoneFact
from fairsquare.job.fit.job import fit_findings, gap_states, panel_states
from fairsquare.job.release.holds import job_state
from fairsquare.words.tell import tell
from tests.job.facts import changed, facts, reading
from tests.job.test_proof import JobSaidFact, who

DOOR = FitSaid(
    panels=(
        PanelSaid(
            name="door",
            drop_mm=2.0,
            hinges=tuple(
                HingeSaid(id=name, at=(1000.0, 700.0, z), length=(-3, 3), width=(-3, 3), height=(-3, 3))
                for name, z in (("upper", 900.0), ("lower", 400.0))
            ),
        ),
    ),
    gaps=(
        GapSaid(
            place="door rear top", panel="door", at=(0.0, 700.0, 900.0), way="rearward", target_mm=4, tolerance_mm=1
        ),
        GapSaid(place="door top", panel="door", at=(500.0, 700.0, 1300.0), way="up", target_mm=5, tolerance_mm=0.5),
        GapSaid(place="lid left flush", way="up", flush=True, target_mm=0, tolerance_mm=0.5),
    ),
)


@pytest.mark.parametrize(
    ("text", "unit", "place", "mm"),
    [
        ("gap door rear top 4.5", "mm", "door rear top", 4.5),
        ("door rear top 4,5", "mm", "door rear top", 4.5),
        ("GAP Door  Rear Top: 5/32 in", "mm", "door rear top", 3.96875),
        ("gap door rear top 3/16", "in", "door rear top", 4.7625),
        ("flush lid left 0.5 proud", "mm", "lid left flush", 0.5),
        ("flush lid left 0.5 deep", "mm", "lid left flush", -0.5),
        ("flush lid left -0.5", "mm", "lid left flush", -0.5),
        ("gap door top .5cm", "mm", "door top", 5.0),
    ],
)
def test_gaps_as_they_are_called(text, unit, place, mm) -> None:
    heard = understand_gap(text, DOOR, unit)
    assert (heard.gap.place, heard.mm) == (place, pytest.approx(mm))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("gap", "Call the place"),
        ("4.5", "Call the place"),
        ("gap bonnet 4", "is not listed"),
        ("gap door rear tip 4", "Did you mean “door rear top”"),
        ("gap door rear top 4 proud", "are said of flushness"),
        ("gap door rear top 2 m", "over a metre"),
        ("gap door rear top 4x", ""),
    ],
)
def test_what_is_no_gap_says_so(text, words) -> None:
    with pytest.raises(Refused) as refused:
        understand_gap(text, DOOR, "mm")
    assert refused.value.field == "call"
    assert words in refused.value.title


def said(fit: FitSaid) -> JobSaidFact:
    return JobSaidFact(id=1, topic="fit", subject=0, version=1, fit=fit, by=who(3))


def test_a_panel_that_is_held_up_is_judged_by_where_it_will_drop_to() -> None:
    read = {"door rear top": 4.0, "door top": 3.2}
    base = facts().gaps[0]
    gaps = tuple(
        base.model_copy(
            update={"id": k, "place": place, "mm": mm, "target_mm": 4.0 if k == 0 else 5.0, "tolerance_mm": 1.0}
        )
        for k, (place, mm) in enumerate(read.items())
    )
    job = facts(gaps=gaps, said=(said(DOOR),))
    (hanging,) = panel_states(job, "rack")
    assert hanging.hung.verdict == "adjust", "3.2 wants to be 5"
    (held,) = panel_states(job, "rack", weight_on=False)
    assert held.hung.verdict == "as_is", "it drops by 2, and the gap above opens to 5.2"
    assert hanging.waits.startswith("Look at the hinges first: upper, lower")


def test_panels_are_set_in_their_order_and_hang_on_their_weatherstrip() -> None:
    lid = PanelSaid(name="lid", hinges=DOOR.panels[0].hinges)
    own = DOOR.gaps[0].model_copy(update={"place": "lid rear", "panel": "lid"})
    fit = DOOR.model_copy(update={"panels": (*DOOR.panels, lid), "gaps": (*DOOR.gaps, own)})
    base = facts().gaps[0]
    gaps = tuple(
        base.model_copy(update={"id": k, "place": place, "mm": mm, "target_mm": 4.0})
        for k, (place, mm) in enumerate((("door rear top", 6.0), ("lid rear", 4.0)))
    )
    door, second = panel_states(facts(gaps=gaps, said=(said(fit),)), "rack")
    assert door.waits.startswith("Look at the hinges first")
    assert second.waits == "Set door first: panels that share gaps are set in their order."
    hung = (DoneFact(id=1, kind="hung", what=Hung(panel="lid", strip=True), by=who(9)),)
    job = facts(gaps=facts().gaps, said=(said(fit),), done=hung)
    told = [tell(missing.said) for missing in job_state(job).hold("fit_accepted").missing if missing.overridable]
    assert "Not hung with its weatherstrip on: door." in told


def test_what_is_listed_is_judged_by_the_list_whatever_was_said_when_it_was_read() -> None:
    listed = GapSaid(place="Lid", target_mm=4.0, tolerance_mm=1.0)
    generous = tuple(gap.model_copy(update={"mm": 9.0, "target_mm": 9.0, "tolerance_mm": 50.0}) for gap in facts().gaps)
    assert not any("Gaps out" in tell(m.said) for m in job_state(facts(gaps=generous)).hold("fit_accepted").missing)
    job = facts(gaps=generous, said=(said(FitSaid(gaps=(listed,))),))
    assert any("Gaps out of tolerance: Lid" in tell(m.said) for m in job_state(job).hold("fit_accepted").missing)


def test_home_by_eye_and_out_by_reading_and_the_reverse() -> None:
    near = DOOR.gaps[0].model_copy(update={"place": "lid", "panel": "", "near": "f5r"})
    bent = [r for r in facts().readings if r.code != "F5R"]
    job = facts(readings=(*bent, reading(99, "F5R", moved=(-8.0, 0.0, 0.0))), said=(said(FitSaid(gaps=(near,))),))
    (finding,) = fit_findings(job, job_state(job).picture)
    assert (finding.kind, finding.codes) == ("home_by_eye", ("F5R",))
    wide = tuple(gap.model_copy(update={"mm": 7.0}) for gap in facts().gaps)
    job = changed(facts(), gaps=wide, said=(said(FitSaid(gaps=(near,))),))
    (finding,) = fit_findings(job, job_state(job).picture)
    assert finding.kind == "home_by_reading"
    assert "lid is wide, and F5R is home by reading" in tell(finding.said)
    assert fit_findings(facts(), job_state(facts()).picture) == ()
    assert [one.place for one in gap_states(facts())] == ["lid"]


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"none_hung": "there is nothing"}, "none_hung"),
        ({"gaps": (*DOOR.gaps, DOOR.gaps[0])}, "gap-3-place"),
        ({"panels": ()}, "gap-0-panel"),
        ({"gaps": (DOOR.gaps[0].model_copy(update={"target_mm": 2000.0}),)}, "gap-0-target"),
    ],
)
def test_a_list_that_cannot_be_names_its_field(change, field) -> None:
    check_fit_said(DOOR)
    with pytest.raises(Refused) as refused:
        check_fit_said(DOOR.model_copy(update=change))
    assert refused.value.field == field


def test_gauge_numbers_of_steel_and_aluminium_are_not_the_same_sheet() -> None:
    """Values of the tables: Machinery's Handbook, sheet metal gauges; from memory."""
    for number, inch in ((10, 0.1345), (16, 0.0598), (20, 0.0359), (24, 0.0239)):
        assert gauge_mm(number, "steel") == pytest.approx(inch * 25.4)
    for number, inch in ((10, 0.1019), (16, 0.0508), (20, 0.0320), (24, 0.0201)):
        assert gauge_mm(number, "aluminium") == pytest.approx(inch * 25.4, abs=0.00006 * 25.4)
    assert list(STEEL_INCH.values()) == sorted(STEEL_INCH.values(), reverse=True)
    assert read_thickness("18 ga", "steel") == (pytest.approx(1.214, abs=1e-3), "Manufacturers' Standard Gauge, steel")
    assert read_thickness("0.047 in", "steel").mm == pytest.approx(1.1938)
    assert read_thickness("18ga", "aluminium").mm == pytest.approx(1.024, abs=1e-3)
    for text in ("0 ga", "40 gauge", "0", "200", "thin"):
        with pytest.raises(Refused):
            read_thickness(text, "steel")


def test_a_start_for_the_coupon_goes_by_the_thinnest() -> None:
    start = starting_point("steel", "mag", 0.8)
    assert (start.electrode, start.across_mm) == ("wire", 0.6)
    assert starting_point("steel", "mag", 5.0).words.startswith("Bevel")
    assert starting_point("steel", "mma", 1.5).amperes == (40, 60)
    assert starting_point("aluminium", "mma", 1.5) is None
    amperes = [starting_point("steel", "mag", mm).amperes[0] for mm in (0.6, 1.0, 1.5, 2.0, 3.0, 5.0, 9.0)]
    assert amperes == sorted(amperes)


@pytest.mark.parametrize(
    ("kind", "gets", "words"),
    [
        ("bonded", ("weld_primer", "adhesive"), "adhesive does not hold on weld-through primer"),
        ("weld", ("adhesive",), "burns there"),
        ("flange", ("primer",), "weld-through primer goes there"),
        ("cavity", ("wax", "foam"), "foam does not hold on wax"),
        ("outside", ("weld_primer",), "paint does not hold on it"),
        ("outside", ("wax", "sealer"), "sealer does not hold on wax"),
    ],
)
def test_what_excludes_what(kind, gets, words) -> None:
    """Common practice, no source."""
    faults = surface_faults(BondSaid(surfaces=(SurfaceSaid(place="x", kind=kind, gets=gets),)))
    assert any(words in tell(fault) for fault in faults)
    clean = (
        ("weld", ("bare",)),
        ("flange", ("weld_primer",)),
        ("bonded", ("bare", "adhesive")),
        ("outside", ("primer", "sealer")),
    )
    assert surface_faults(BondSaid(surfaces=tuple(SurfaceSaid(place=k, kind=k, gets=g) for k, g in clean))) == ()


def test_products_are_ready_or_say_why_not() -> None:
    foam = ProductSaid(id="foam", kind="foam", open_min=15.0, best_before="2026-05-01")
    steps = (BondStep(id="fill", minutes=10, opens=("foam",)), BondStep(id="close", minutes=10, closes=("foam",)))
    bond = BondSaid(products=(foam,), steps=steps)
    (wait,) = bond_waits(bond, "2026-04-30")
    assert tell(wait) == "foam: the steps take 20 min, it stays workable for 15 min."
    assert "foam: past its date, 2026-05-01." in [tell(wait) for wait in bond_waits(bond, "2026-05-02")]
    assert "outside its 5 to 35 °C" in tell(bond_waits(bond.model_copy(update={"temperature_c": 2.0}), "")[0])
    assert bond_waits(None, "") == ()
    with pytest.raises(Refused):
        check_bond(BondSaid(products=(foam, foam), steps=steps))
    with pytest.raises(Refused):
        check_bond(BondSaid(products=(foam,), steps=steps[:1]))


PLAN = SeamPlan(
    name="rail",
    sheets_mm=(1.0, 1.0),
    method="mag",
    volts=17.0,
    amperes=70.0,
    seconds=2.0,
    welds=tuple(JoinWeld(id=f"w{k}", along_mm=30.0 * k, stage=1 + (k > 2)) for k in range(5)),
)


def test_what_is_inside_comes_before_the_plate_that_closes_it() -> None:
    found = seam_found(PLAN)
    order = [one.id for one in found.order.order]
    assert set(order[:3]) == {"w0", "w1", "w2"}
    assert found.order.proven
    assert order_asked(PLAN).welds[0].energy_j == pytest.approx(0.8 * 17 * 70 * 2)


def test_the_heat_map_is_the_closed_form() -> None:
    """q(t) = Q/(4πλδt)·exp(−r²/4at − bt), summed over the welds that are made (Rosenthal 1946), written anew in metres."""
    found = seam_found(PLAN)
    places = np.array([(10.0, 0.0, 0.0), (55.0, 12.0, 0.0), (140.0, -20.0, 0.0)])
    at = 7.3
    conductivity, density, capacity, loss, thick = 45.0, 7850.0, 500.0, 25.0, 0.001
    a, b = conductivity / (density * capacity), 2 * loss / (density * capacity * thick)
    expected = np.full(3, 20.0)
    where = {weld.id: weld.along_mm for weld in PLAN.welds}
    for one in found.order.order:
        end = one.start_s + 2.0
        if end <= at:
            t = max(at - end, 0.5)
            r = np.hypot(places[:, 0] - where[one.id], places[:, 1]) / 1000
            energy = 0.8 * 17 * 70 * 2
            expected += energy / (4 * math.pi * conductivity * thick * t) * np.exp(-(r**2) / (4 * a * t) - b * t)
    assert heat_at(found.asked, found.order, at, places) == pytest.approx(expected)
    assert heat_at(found.asked, found.order, 0.5, places) == pytest.approx(np.full(3, 20.0)), "nothing is welded yet"


def test_where_the_next_weld_begins_the_map_is_not_over_the_limit() -> None:
    found = seam_found(PLAN.model_copy(update={"limit_c": 60.0}))
    for one in found.order.order:
        weld = next(w for w in PLAN.welds if w.id == one.id)
        now = heat_at(found.asked, found.order, one.start_s, np.array([(weld.along_mm, 0.0, 0.0)]))[0]
        assert now <= one.preheat_c + 1e-6 <= 60.0 + 1e-5


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"welds": (JoinWeld(id="a", along_mm=0, after=("a",)),)}, "weld-0-follows"),
        ({"welds": (JoinWeld(id="a", along_mm=0), JoinWeld(id="a", along_mm=9))}, "weld-1-id"),
        ({"limit_c": 20.0}, "limit_c"),
        ({"seconds": None}, "arc.seconds"),
        ({"method": None}, "energy_j"),
        ({"process": "seam"}, "weld-0-length"),
    ],
)
def test_a_seam_that_cannot_be_names_its_field(change, field) -> None:
    check_seam(PLAN)
    with pytest.raises(Refused) as refused:
        check_seam(PLAN.model_copy(update=change))
    assert refused.value.field == field


def test_drawings_name_every_weld_and_product_and_escape_what_was_typed() -> None:
    plan = PLAN.model_copy(
        update={"welds": (JoinWeld(id="<b>", along_mm=0), JoinWeld(id="x", along_mm=40, length_mm=20))}
    )
    found = seam_found(plan)
    drawn = str(seam_drawing(plan, found.order, found.asked, {"x": "crack"}, 3.0))
    assert "<b>" not in drawn
    assert "&lt;b&gt;" in drawn
    assert 'class="w bad"' in drawn
    assert str(seam_drawing(PLAN.model_copy(update={"welds": ()}), None, None, {})).startswith("<svg")
    foam = ProductSaid(id="<i>", kind="foam", open_min=15.0, cure_min=30.0)
    from fairsquare.core.weld.bonding import timeline_of

    line = timeline_of(
        BondSaid(products=(foam,), steps=(BondStep(id="s", minutes=5, opens=("<i>",), closes=("<i>",)),))
    )
    assert "&lt;i&gt;" in str(timeline_drawing(line))
    assert "used 5 of 15 min, cured at 35" in str(timeline_drawing(line))
