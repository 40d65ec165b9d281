"""What is worked out for a section of a job: cuts put by hand, lines of vehicle and donor, backing, templates, working order."""

import io
import itertools
import math
import xml.etree.ElementTree as ET

import ezdxf
import pytest

from fairsquare.core.cut.judge import judge_cuts, placed_strip, why_here
from fairsquare.core.cut.lines import FACE_CLEAR_MM, lines_of
from fairsquare.core.cut.place import place_cuts
from fairsquare.core.cut.section import LinesSaid, StripSaid, WeldsSaid, check_strip_said, check_welds_said
from fairsquare.core.cut.template import (
    CHECK_MM,
    MARGIN_MM,
    OVERLAP_MM,
    PAPERS,
    Label,
    Ring,
    Stroke,
    blank_template,
    cut_template,
    tiles_of,
)
from fairsquare.core.cut.working import mapped_welds, metals_that_touch, putting_in, working_order
from fairsquare.core.errors import Refused
from fairsquare.demo.cuts import _SECTIONS
from fairsquare.drawings.drill import bands_of, drill_drawing
from fairsquare.drawings.strip import strip_drawing
from fairsquare.drawings.template import template_dxf, template_svg, tile_svg
from fairsquare.stand_ins.vehicles import DUNLIN, TEAL, TURNSTONE
from fairsquare.words.tell import tell

RAIL, FLOOR = _SECTIONS[TEAL.name]
(NODE,) = _SECTIONS[TURNSTONE.name]
(APRON,) = _SECTIONS[DUNLIN.name]


def rail(**other):
    return StripSaid.model_validate({**RAIL.strip, **other}, strict=False)


def welds(section, **other):
    return WeldsSaid.model_validate({**section.welds, **other}, strict=False)


def lines(strip, **said):
    placed = placed_strip(strip.place, strip.chosen)
    return {one.layer: one for one in lines_of(strip, LinesSaid(**said), placed.judged.cuts)}


def test_the_rail_of_the_demo_is_cut_in_its_windows() -> None:
    check_strip_said(rail())
    placed = placed_strip(rail().place, {})
    assert placed.judged.cuts == {"outer": 80, "stiffener": 30, "inner": 95}
    assert placed.judged.keeps_all
    assert placed.judged.more_mm == 0
    words = [tell(one) for one in why_here(rail().place, placed.best, "outer")]
    assert "window ends" in words[0]
    assert "more would come off" in words[1]


def test_a_cut_elsewhere_says_what_it_breaks_and_costs() -> None:
    best = place_cuts(rail().place)
    judged = judge_cuts(rail().place, {"outer": 10, "stiffener": 20, "inner": 95}, best)
    (hole,) = (tell(one) for one in judged.broken["outer"] if one.values.get("feature") == "hole")
    assert "2 mm from the hole at −8, which needs 15 clear" in hole
    assert "10 mm from the cut of outer: 50 apart is wanted" in [tell(one) for one in judged.broken["stiffener"]]
    assert judged.more_mm == pytest.approx(70 + 10)
    beyond = judge_cuts(rail().place, {"outer": 500, "stiffener": 30, "inner": 95}, best).broken["outer"]
    assert {"it is off the layer, which reaches from −330 to 430 mm", "in the damage"} <= {tell(one) for one in beyond}
    assert judge_cuts(rail().place, {"outer": 80, "stiffener": 30, "inner": -200}, None).more_mm is None


def test_where_there_is_no_place_a_person_may_still_put_the_cuts() -> None:
    strip = rail(windows=[{"layer": "outer", "from": 200, "to": 300}])
    nowhere = placed_strip(strip.place, {})
    assert (nowhere.best, nowhere.judged) == (None, None)
    assert nowhere.conflict == ({"rule": "damage", "layer": "outer"}, {"rule": "window", "layer": "outer"})
    assert "the damage of outer against the maker's window of outer" in nowhere.fault
    put = placed_strip(strip.place, {"outer": 70, "stiffener": 20, "inner": 80})
    assert [tell(one) for one in put.judged.broken["outer"]] == ["outside the maker's window"]


def test_lines_meet_with_the_gap_between_them() -> None:
    """Both edges stand half the gap from the line, each in what is kept; the saw runs half a kerf beyond its edge, in the waste."""
    one = lines(rail(), donor_sheet_mm=None, donor_read_mm=None)["outer"]
    assert one.donor.edge_mm - one.vehicle.edge_mm == pytest.approx(2.0)
    assert (one.vehicle.blade_mm - one.vehicle.edge_mm, one.donor.edge_mm - one.donor.blade_mm) == pytest.approx(
        (0.6, 0.6)
    )


def test_one_mark_puts_the_whole_gap_on_the_vehicle() -> None:
    one = lines(rail(), marks=1)["outer"]
    assert (one.vehicle.edge_mm, one.donor.edge_mm) == pytest.approx((78.0, 80.0))


def test_a_longer_donor_is_cut_further_along_and_a_lap_reaches_under() -> None:
    plain, longer = lines(rail()), lines(rail(), donor_sheet_mm=351.4, donor_read_mm=352.6)
    assert longer["outer"].donor.line_mm - plain["outer"].donor.line_mm == pytest.approx(1.2)
    assert plain["inner"].donor.line_mm == pytest.approx(95 - 25)
    assert plain["inner"].backing is None


def test_a_bent_donor_is_cut_askew_by_what_its_width_turns() -> None:
    one = lines(rail(), bend_mm=6.0, bend_over_mm=300.0)["outer"]
    assert one.donor.skew_mm == pytest.approx(132 * 6 / 300)
    assert one.vehicle.skew_mm == 0


def test_backing_comes_from_the_offcut_where_enough_of_it_is_sound() -> None:
    found = lines(rail(), overlap_mm=20.0)
    stiffener, outer = found["stiffener"].backing, found["outer"].backing
    assert (stiffener.length_mm, stiffener.widths_mm["web"]) == pytest.approx((42.0, 88 - 2 * FACE_CLEAR_MM))
    assert (stiffener.sound_mm, stiffener.from_offcut) == (88.0, True)
    assert (outer.sound_mm, outer.from_offcut) == (12.0, False)


@pytest.mark.parametrize("keep", ["low", "high"])
def test_waste_lies_on_the_other_side_of_what_is_kept(keep) -> None:
    layer = {**RAIL.strip["layers"][0], "damage": [92.0, 130.0]}
    strip = rail(layers=[layer], features=[], windows=[], access=[], keep=keep)
    one = lines(strip)["outer"]
    way = 1 if keep == "low" else -1
    assert way * (one.vehicle.line_mm - one.vehicle.edge_mm) == pytest.approx(1.0)
    assert way * (one.donor.edge_mm - one.donor.line_mm) == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("other", "field"),
    [
        (
            {"windows": [{"layer": "outer", "from": 0, "to": 60}, {"layer": "outer", "from": 50, "to": 80}]},
            "windows.1.from",
        ),
        ({"features": [{"kind": "hole", "from": 700, "to": 710, "layers": None}]}, "features.0.from"),
        ({"behind": [{"kind": "foam", "from": -900, "to": -800}]}, "behind.0.from"),
        ({"layers": []}, "layers.0.id"),
        ({"layers": [{**RAIL.strip["layers"][0], "to": 20_000}]}, "layers.0.to"),
        ({"layers": [{**RAIL.strip["layers"][0], "damage": None}]}, "layers.0.damage"),
        ({"layers": [{**RAIL.strip["layers"][0], "joint": "factory_seam"}]}, "layers.0.damage"),
    ],
)
def test_a_strip_that_cannot_be_is_refused_by_name(other, field) -> None:
    with pytest.raises(Refused) as refused:
        check_strip_said(rail(**other))
    assert refused.value.field == field


def test_a_member_of_twelve_metres_is_one() -> None:
    layer = {**RAIL.strip["layers"][0], "to": 11_670.0}
    check_strip_said(rail(layers=[layer]))


@pytest.mark.parametrize(
    ("change", "field"),
    [
        (lambda w: w["welds"][0].update(stack=["floor"]), "welds.0.stack"),
        (lambda w: w["welds"][1].update(stack=["floor", "roof"]), "welds.1.stack"),
        (lambda w: w["welds"][1].update(stack=["floor", "floor"]), "welds.1.stack"),
        (lambda w: w["welds"][1].update(id="1"), "welds.id"),
        (lambda w: w["parts"].append(w["parts"][0]), "parts.6.id"),
        (lambda w: w["seams"][0].update(stack=["floor"]), "seams.0.stack"),
    ],
)
def test_welds_that_cannot_be_are_refused_by_name(change, field) -> None:
    import copy

    said = copy.deepcopy(FLOOR.welds)
    change(said)
    with pytest.raises(Refused) as refused:
        check_welds_said(WeldsSaid.model_validate(said, strict=False))
    assert refused.value.field == field


def test_the_floor_is_worked_off_flange_by_flange_without_changing_the_tool_twice() -> None:
    order = working_order(mapped_welds(welds(FLOOR)), "vehicle")
    flanges = [weld.said.flange for weld in order]
    assert flanges == sorted(flanges, key=["left rail flange", "front flange", "rear flange"].index)
    marks = [weld.vehicle.mark for weld in order if weld.said.flange == "front flange"]
    assert marks == ["seam"] + ["flat"] * 10
    assert not [
        weld.said.id for section in (RAIL, FLOOR, NODE, APRON) for weld in mapped_welds(welds(section)) if weld.fault
    ]


def test_a_weld_that_cannot_be_done_names_the_part_to_do_something_about() -> None:
    hidden = {**FLOOR.welds["welds"][0], "stack": ["belt plate", "floor", "heel board"]}
    (weld,) = mapped_welds(welds(FLOOR, welds=[hidden], seams=[]))
    assert (weld.vehicle.mark, weld.donor.mark) == ("cannot", "cannot")
    assert "leave a strip of floor on the vehicle there" in weld.fault


def test_every_hole_is_in_one_of_two_mating_flanges_only() -> None:
    """On every weld of the demo: no part that must stay whole is among those that a tool goes through."""
    for section in (RAIL, FLOOR, APRON):
        said = welds(section)
        own = {part.id for part in said.parts if part.fate != "donor"}
        for weld in mapped_welds(said):
            assert not set(weld.vehicle.never) & set(weld.vehicle.parts)
            assert set(weld.vehicle.never) <= own
            assert not set(weld.donor.never) & own


def test_rivets_bolts_and_seams_are_undone_on_the_side_that_they_hold() -> None:
    by_id = {weld.said.id: weld for weld in mapped_welds(welds(NODE))}
    assert (by_id["1"].vehicle.mark, by_id["1"].donor.mark) == ("rivet", "leave"), "a new node has no rivets"
    assert (by_id["15"].vehicle.mark, by_id["S1"].vehicle.mark) == ("unbolt", "seam")
    assert "warm air" in by_id["S1"].vehicle.words
    used = {weld.said.id: weld for weld in mapped_welds(welds(NODE, donor="used"))}
    assert used["1"].donor.mark == "rivet"
    blind = [{**NODE.welds["welds"][0], "vehicle": []}]
    (weld,) = mapped_welds(welds(NODE, welds=blind, seams=[]))
    assert "in reach from no side" in weld.fault


def test_the_card_says_what_goes_over_under_and_between() -> None:
    assert putting_in(welds(FLOOR))["front flange"] == ("floor goes over heel board",)
    assert putting_in(welds(RAIL))["end flange"] == ("rear panel goes over rail end; rail end goes under rear panel",)
    assert list(metals_that_touch(welds(NODE))) == ["stretcher bracket and node"]
    assert metals_that_touch(welds(FLOOR)) == {}


def outer_template(**other):
    strip = rail()
    found = next(one for one in lines_of(strip, LinesSaid(**other), placed_strip(strip.place, {}).judged.cuts))
    return cut_template(strip, found, strip.layers[0], "vehicle", welds(RAIL), from_datum=True)


def strokes(template, pen):
    return [one for one in template.shapes if isinstance(one, Stroke) and one.pen == pen]


def test_a_template_read_back_from_dxf_measures_to_a_twentieth_of_a_millimetre() -> None:
    drawing = ezdxf.read(io.StringIO(template_dxf(outer_template())))
    assert drawing.units == ezdxf.units.MM
    by_layer = {}
    for one in drawing.modelspace():
        by_layer.setdefault(one.dxf.layer, []).append(one)
    assert {"LINE", "EDGE", "BLADE", "DATUM", "CHECK", "OUTLINE", "FOLD", "DRILL", "FEATURE", "TEXT"} == set(by_layer)
    (line,), (blade,), (datum,) = (
        by_layer["LINE"],
        by_layer["BLADE"],
        [e for e in by_layer["DATUM"] if e.dxftype() == "LINE"],
    )
    assert line.dxf.start.x - datum.dxf.start.x == pytest.approx(80.0, abs=0.05)
    assert blade.dxf.start.x - datum.dxf.start.x == pytest.approx(79.6, abs=0.05)
    bar = max((e.dxf.start - e.dxf.end).magnitude for e in by_layer["CHECK"])
    assert bar == pytest.approx(CHECK_MM, abs=0.05)
    folds = sorted(e.dxf.start.y for e in by_layer["FOLD"])
    assert folds == pytest.approx([18.0, 114.0], abs=0.05)
    holes = [e for e in by_layer["DRILL"] if e.dxftype() == "CIRCLE"]
    assert [h.dxf.center.x for h in holes] == pytest.approx([130.0, 170.0], abs=0.05)
    assert {(h.dxf.center.y, h.dxf.radius) for h in holes} == {(9.0, 4.0)}


def test_a_template_has_no_hole_where_the_map_has_none() -> None:
    """A ring where a tool goes in, on that side; a cross for what is ground and squeezed, what stays, and what cannot be done."""
    strip = rail()
    flange = {"flange": "upper flange", "across_mm": 9.0}
    said = welds(
        RAIL,
        donor="new",
        welds=[
            {
                "id": "both",
                "at_mm": 60.0,
                "stack": ["rail end", "wheelhouse"],
                "vehicle": ["top"],
                "after": ["top"],
                **flange,
            },
            {
                "id": "squeezed",
                "at_mm": 90.0,
                "stack": ["rail end", "wheelhouse"],
                "vehicle": ["top"],
                "squeeze": True,
                **flange,
            },
            {"id": "stays", "at_mm": 120.0, "stack": ["rail stump", "wheelhouse"], **flange},
            {"id": "blind", "at_mm": 150.0, "stack": ["rail end", "wheelhouse"], "vehicle": [], "after": [], **flange},
        ],
    )
    by_id = {weld.said.id: weld for weld in mapped_welds(said)}
    found = lines_of(
        strip, LinesSaid(donor_sheet_mm=350.0, donor_read_mm=352.0), placed_strip(strip.place, {}).judged.cuts
    )[0]
    for whose, moved in (("vehicle", 0.0), ("donor", 2.0)):
        template = cut_template(strip, found, strip.layers[0], whose, said, from_datum=False)
        rings = [one.middle[0] for one in template.shapes if isinstance(one, Ring) and one.pen == "drill"]
        expected = [
            w.said.at_mm + moved for w in by_id.values() if w.step(whose).mark in ("drill", "flat", "plug_hole")
        ]
        assert rings == pytest.approx(expected), whose
        crossed = {
            one.words.removesuffix(": no hole")
            for one in template.shapes
            if isinstance(one, Label) and "no hole" in one.words
        }
        assert {"stays", "blind"} <= crossed
        assert crossed == {
            w.said.id for w in by_id.values() if w.step(whose).mark not in ("drill", "flat", "plug_hole")
        }
    assert by_id["both"].donor.mark == "plug_hole"


def test_a_template_in_svg_has_its_size_and_its_line_where_they_are() -> None:
    template = outer_template()
    root = ET.fromstring(template_svg(template))
    assert float(root.get("width").removesuffix("mm")) == pytest.approx(template.size[0], abs=1e-3)
    assert root.get("viewBox").split()[2] == root.get("width").removesuffix("mm")
    ns = "{http://www.w3.org/2000/svg}"
    by_pen = {pen: [e for e in root.iter(f"{ns}line") if e.get("class") == pen] for pen in ("line", "datum", "check")}
    assert float(by_pen["line"][0].get("x1")) - float(by_pen["datum"][0].get("x1")) == pytest.approx(80, abs=0.05)


def test_a_bent_donor_has_its_line_askew_on_the_template() -> None:
    strip = rail()
    found = lines_of(strip, LinesSaid(bend_mm=6, bend_over_mm=300), placed_strip(strip.place, {}).judged.cuts)[0]
    template = cut_template(strip, found, strip.layers[0], "donor", None, from_datum=False)
    (line,) = strokes(template, "line")
    assert line.b[0] - line.a[0] == pytest.approx(132 * 0.02)


@pytest.mark.parametrize("paper", list(PAPERS))
@pytest.mark.parametrize(("length", "width"), [(200, 60), (900, 300), (11_900, 80)])
def test_sheets_cover_a_template_and_overlap_where_they_join(paper, length, width) -> None:
    template = blank_template("a plate", length, width, [20], [(40, 30, 8)])
    tiles = tiles_of(template, PAPERS[paper])
    for tile in tiles:
        assert tile.high[0] - tile.low[0] <= PAPERS[paper].width - 2 * MARGIN_MM + 1e-9
        for other in tiles:
            if (other.column, other.row) == (tile.column + 1, tile.row):
                assert tile.high[0] - other.low[0] == pytest.approx(OVERLAP_MM)
    assert min(t.low[0] for t in tiles) <= template.low[0]
    assert max(t.high[0] for t in tiles) >= template.high[0]
    assert min(t.low[1] for t in tiles) <= template.low[1]
    assert max(t.high[1] for t in tiles) >= template.high[1]
    assert (length < 1000) or len(tiles) >= 40


def test_joining_marks_lie_in_the_same_place_of_both_sheets() -> None:
    template = blank_template("a plate", 600, 60, [], [])
    paper = PAPERS["A4"]
    tiles = tiles_of(template, paper)
    many = (max(t.column for t in tiles), max(t.row for t in tiles))
    marks = []
    for tile in tiles[:2]:
        root = ET.fromstring(str(tile_svg(template, tile, paper, many)).split("</svg>")[0] + "</svg>")
        ns = "{http://www.w3.org/2000/svg}"
        upright = [e for e in root.iter(f"{ns}line") if e.get("class") == "join" and e.get("x1") == e.get("x2")]
        marks.append({round(tile.low[0] + float(e.get("x1")), 2) for e in upright})
    assert marks[0] & marks[1], "the mark at the seam of sheets 1 and 2 is on both"


def test_a_blank_has_its_folds_and_holes() -> None:
    template = blank_template("bracket", 120, 40, [12.0, 28.0], [(20, 6, 8.0)])
    assert [one.a[1] for one in strokes(template, "fold")] == [12.0, 28.0]
    (ring,) = (one for one in template.shapes if isinstance(one, Ring))
    assert (ring.middle, ring.radius) == ((20, 6), 4.0)
    assert any(isinstance(one, Label) and "100 mm" in one.words for one in template.shapes)
    with pytest.raises(Refused):
        blank_template("too long", 21_000, 40, [], [])


def test_drawings_carry_no_markup_of_what_was_typed() -> None:
    evil = '<script>alert(1)</script>"'
    layer = {**RAIL.strip["layers"][0], "id": evil}
    strip = rail(layers=[layer], features=[{"kind": "hole", "from": -5, "to": 5, "words": evil}], windows=[], access=[])
    shown = strip_drawing(strip, placed_strip(strip.place, {}), (), lambda mm: f"{mm:.0f}", movable=True)
    said = welds(RAIL, welds=[{**RAIL.welds["welds"][0], "id": evil, "flange": evil}])
    (band,) = bands_of(mapped_welds(said))
    drawn = drill_drawing(band[1], lambda *_: False, (evil, "new"), link=lambda whose, weld: f"/x?{whose}{weld}")
    for svg in (shown, drawn, template_svg(blank_template(evil, 100, 20, [], []))):
        ET.fromstring(str(svg))
        assert "<script>" not in svg


def test_a_map_of_many_welds_is_drawn_in_bands_whose_signs_do_not_touch() -> None:
    row = FLOOR.welds["welds"][0]
    many = [{**row, "id": str(k), "at_mm": 12.0 * k} for k in range(300)]
    bands = bands_of(mapped_welds(welds(FLOOR, welds=many, seams=[])))
    assert sum(len(band) for _, band in bands) == 300
    assert max(len(band) for _, band in bands) <= 15
    svg = ET.fromstring(str(drill_drawing(bands[0][1], lambda *_: False, ("a", "b"))))
    xs = sorted({float(e.get("x")) for e in svg.iter("text") if (e.get("class") or "") == "weld-name"})
    assert min(b - a for a, b in itertools.pairwise(xs)) >= 30
    assert math.isfinite(xs[0])
