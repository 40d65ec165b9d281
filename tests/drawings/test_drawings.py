"""Drawings: to scale, every point in its place, a sign that is a shape first, and no text that becomes markup."""

import re
from xml.etree import ElementTree

import numpy as np
import pytest

from fairsquare.core.measure.setup import FitSetup, Reading, fit_setup
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.drawings.damage import mode_figure
from fairsquare.drawings.residuals import residuals_drawing
from fairsquare.drawings.sign import marks, sign
from fairsquare.drawings.spine import lying_spine
from fairsquare.drawings.structure import ends, plan_and_sides
from fairsquare.job.release.holds import job_state
from fairsquare.stand_ins.vehicles import DUNLIN, HERON, VEHICLES
from tests.job.facts import REFERENCES, facts, reading, readings

FLAT = {
    "plan": lambda p: (-p[0], p[1]),
    "right": lambda p: (-p[0], -p[2]),
    "left": lambda p: (-p[0], -p[2]),
    "front": lambda p: (-p[1], -p[2]),
    "rear": lambda p: (-p[1], -p[2]),
}


def ways(svg: str, view: str) -> dict[str, tuple[float, ...]]:
    """Return where each point of a view is drawn, and how far it moved at factor 1."""
    root = ElementTree.fromstring(svg)
    group = next(g for g in root.iter("g") if g.get("class") == f"view view-{view}")
    return {a.get("data-code"): tuple(float(v) for v in a.get("data-way").split(",")) for a in group.iter("a")}


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda v: v.name)
@pytest.mark.parametrize("draw", [plan_and_sides, ends])
def test_every_view_is_to_scale(vehicle, draw) -> None:
    svg = draw(vehicle.sheet, {})
    places = {point.code: point.xyz for point in vehicle.sheet.points}
    scales = set()
    for view in re.findall(r"view view-(\w+)", svg):
        drawn = ways(svg, view)
        codes = list(drawn)
        mm = np.array([FLAT[view](places[code]) for code in codes])
        page = np.array([drawn[code][:2] for code in codes])
        scale = np.ptp(page, axis=0).max() / np.ptp(mm, axis=0).max()
        assert np.allclose(page - page[0], (mm - mm[0]) * scale, atol=0.06), view
        scales.add(round(scale, 3))
    assert len(scales) == 1, "one scale on one page"


def test_every_point_is_in_the_plan_and_on_its_side() -> None:
    svg = plan_and_sides(DUNLIN.sheet, {})
    assert set(ways(svg, "plan")) == {p.code for p in DUNLIN.sheet.points}
    assert set(ways(svg, "right")) == {p.code for p in DUNLIN.sheet.points if p.xyz[1] < 0}
    both = {**ways(ends(HERON.sheet, {}), "front"), **ways(ends(HERON.sheet, {}), "rear")}
    assert set(both) == {p.code for p in HERON.sheet.points}


def test_movement_is_drawn_by_the_factor() -> None:
    job = facts(readings=(*readings(REFERENCES), reading(50, "F5R", moved=(-12.0, 6.0, 9.0))))
    judged = job_state(job).picture.judged
    scale = None
    for view, moved in (("plan", (12.0, 6.0)), ("right", (12.0, -9.0))):
        _, _, dx, dy = ways(plan_and_sides(DUNLIN.sheet, judged), view)["F5R"]
        scale = scale or dx / moved[0]
        assert (dx, dy) == pytest.approx((moved[0] * scale, moved[1] * scale), abs=0.02)
    thick = re.findall(r'class="today" points="([^"]*)"', plan_and_sides(DUNLIN.sheet, judged, 20))
    assert thick, "today's line goes through what is read"
    assert 'class="pt off' in plan_and_sides(DUNLIN.sheet, judged)
    assert plan_and_sides(DUNLIN.sheet, judged).count('class="pt unread"') == 26


def test_the_sign_is_a_shape_before_it_is_a_colour() -> None:
    shapes = {state: re.sub(r'class="[^"]*"', "", str(marks(state, 0, 0))) for state in ("fair", "close")}
    assert shapes["fair"] != shapes["close"]
    assert str(sign("unread")).count("<path") == 1
    assert str(sign("off", 5, 5)).count("<path") == 2


def test_an_off_sign_leans_the_way_it_moved_and_more_for_more() -> None:
    def lean(right: float, down: float) -> tuple[float, float]:
        frame = re.search(r's-frame" d="M([-\d.]+) ([-\d.]+)', str(sign("off", right, down)))
        return float(frame[1]) - 8.5, float(frame[2]) - 4.5

    assert lean(5, 0)[0] > 0 > lean(-5, 0)[0]
    assert lean(0, 5)[1] > 0 > lean(0, -5)[1]
    assert lean(20, 0)[0] > lean(5, 0)[0]
    assert abs(lean(1e6, 0)[0]) < 10, "it stays in its box"


def test_texts_are_escaped() -> None:
    points = (
        Point(code='<b>"L', xyz=(0.0, 100.0, 0.0), reference=True, member="<i>"),
        Point(code='<b>"R', xyz=(500.0, -100.0, 0.0)),
    )
    sheet = Sheet(name="s", construction="unibody", points=points)
    for svg in (plan_and_sides(sheet, {}, selected='<b>"L', link="/x?a=<"), ends(sheet, {})):
        ElementTree.fromstring(svg)
        assert "<b>" not in svg
    ElementTree.fromstring(lying_spine([("station", "<b>", "now"), ("hold", "x", "todo")]))


def test_hundreds_of_points_carry_no_labels_but_the_chosen_one() -> None:
    points = tuple(Point(code=f"P{i}", xyz=(i * 10.0, (-1) ** i * 400.0, i % 50.0)) for i in range(300))
    svg = plan_and_sides(Sheet(name="s", construction="ladder", points=points), {}, selected="P7")
    assert set(re.findall(r'class="code"[^>]*>([^<]*)<', svg)) == {"P7"}


def test_one_line_runs_through_members_that_follow_one_another() -> None:
    svg = plan_and_sides(DUNLIN.sheet, {})
    plan = svg.split("view-right")[0]
    lines = [line.split() for line in re.findall(r'class="by-sheet" points="([^"]*)"', plan)]
    assert [len(line) for line in lines] == [10, 10], "rail, sill and rail of each side are one"
    apart = Sheet(
        name="s",
        construction="unibody",
        points=tuple(
            Point(code=f"{member}{i}", xyz=(i * 300.0, 400.0, z), member=member)
            for member, z in (("rail", 100.0), ("upper", 900.0))
            for i in range(3)
        ),
    )
    assert plan_and_sides(apart, {}).split("view-left")[0].count("by-sheet") == 2, "what lies side by side stays apart"


def test_what_is_left_over_of_the_references() -> None:
    random = np.random.default_rng(3)
    references = [p for p in DUNLIN.sheet.points if p.reference]
    taken = tuple(
        Reading(code=p.code, xyz=tuple(float(v) for v in np.array(p.xyz) + random.normal(0, 0.4, 3) + (i == 2) * 15))
        for i, p in enumerate(references)
    )
    fit = fit_setup(FitSetup(sheet=DUNLIN.sheet, readings=taken))
    svg = residuals_drawing(DUNLIN.sheet, fit)
    ElementTree.fromstring(svg)
    assert svg.count("residual trusted") == 5
    assert svg.count("residual suspect") == 1
    assert svg.count("r-cross") == 1, "what is not trusted is crossed out, not only coloured"
    refused = fit_setup(
        FitSetup(
            sheet=DUNLIN.sheet,
            readings=tuple(
                Reading(code=p.code, xyz=tuple(float(v) for v in random.uniform(-900, 900, 3))) for p in references
            ),
        )
    )
    assert residuals_drawing(DUNLIN.sheet, refused) is None


def test_the_lying_spine_names_where_the_job_is() -> None:
    svg = lying_spine([("station", "Take in", "done"), ("hold", "Made safe", "now"), ("station", "Sheet", "todo")])
    assert 'aria-label="at: Made safe"' in svg
    assert svg.count("l-stop") == 2
    assert svg.count("l-hold") == 1


def corners(name: str, value: float) -> list[tuple[float, float]]:
    """The corners of a mode's figure as it has gone, as drawn."""
    drawn = re.search(r'class="m-after" d="([^"]+)"(?: transform="([^"]+)")?', mode_figure(name, value, True))
    x = y = 0.0
    found = []
    for letter, numbers in re.findall(r"([MLHV])([-\d. ]+)", drawn.group(1)):
        values = [float(one) for one in numbers.split()]
        x, y = {"H": (values[0], y), "V": (x, values[0])}.get(letter, (values[0], values[-1]))
        found.append((x, 32 - y if drawn.group(2) else y))
    return found


def test_the_figures_of_the_modes_lean_as_their_words_say() -> None:
    """Seen from above the front is at the left and the right side on top; from behind, the left side is at the left."""
    top, bottom = corners("skew", 5.0)[0], corners("skew", 5.0)[-1]
    assert top[0] > bottom[0], "left fore: the right side, on top, stands farther back"
    fronts = {y: min(x for x, other in corners("skew", -5.0) if other == y) for _, y in corners("skew", -5.0)}
    assert fronts[26.0] > fronts[6.0], "right fore: the left side, at the bottom, stands farther back"
    left, right = corners("twist_deg", 0.4)
    assert left[1] < right[1], "left high"
    left, right = corners("twist_deg", -0.4)
    assert left[1] > right[1], "right high"
    assert min(x for x, _ in corners("mash", 5.0)) > 4 > min(x for x, _ in corners("mash", -5.0)), "short, long"
    assert max(y for _, y in corners("sway", 5.0)) > 26, "to the left, which is down on the page"
    assert min(y for _, y in corners("sway", -5.0)) < 6
    assert corners("rise", 5.0)[0][1] < 20 < corners("rise", -5.0)[0][1]
    assert corners("spread", 5.0)[0][1] < 6 < corners("spread", -5.0)[0][1], "apart, pinched, at the front"
