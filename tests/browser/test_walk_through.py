"""The walk of docs/walk-through.md, step by step: the second Dunlin from its dry fit to the payer's link."""

from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect

from fairsquare.actions import Desk
from fairsquare.demo.people import INSTRUMENT
from fairsquare.files.records import check_record
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.instrument import SimulatedInstrument
from tests.browser.conftest import sign_in

DOC = " ".join((Path(__file__).parents[2] / "docs" / "walk-through.md").read_text(encoding="utf-8").split())
JOB = "SL-0006"
LID = ("left front", "left rear", "right front", "right rear")


pytestmark = pytest.mark.usefixtures("demo")


@pytest.fixture
def instrument(server: str) -> Iterator[SimulatedInstrument]:
    with httpx.Client(base_url=server, timeout=20) as client:
        yield SimulatedInstrument(Line(client, INSTRUMENT.name, INSTRUMENT.password), seed=5)


def told(text: str) -> str:
    """Return what is called, once it is found that the walk says it so."""
    assert f"`{text}`" in DOC, f"the walk does not say {text}"
    return text


def call(page: Page, text: str) -> None:
    page.locator("#call").fill(text)
    page.keyboard.press("Enter")
    expect(page.locator("#call")).to_have_value("")
    for _ in range(100):
        if page.evaluate("(localStorage.getItem(`kept:${location.pathname}`) || '[]') === '[]'"):
            return
        page.wait_for_timeout(50)
    raise AssertionError(f"{text} was not recorded")


def read_all(page: Page, instrument: SimulatedInstrument) -> None:
    page.goto(f"/jobs/{JOB}/measure")
    page.get_by_role("button", name="read all that is missing with the instrument").click()
    page.wait_for_load_state()
    instrument.serve()
    expect(page.locator(".tallies")).to_contain_text("20 of 20 points")


def spans(page: Page) -> None:
    page.goto(f"/jobs/{JOB}/measure")
    for text in ("f5l f5r 972", "f4l r1r 3568", "f4r r1l 3568"):
        call(page, told(text))


def gaps(page: Page, mm: str) -> None:
    page.goto(f"/jobs/{JOB}/fit")
    for where in LID:
        call(page, f"gap lid {where} {mm}")


def down_on_its_wheels(page: Page, mm: str) -> None:
    spans(page)
    page.goto(f"/jobs/{JOB}/fit")
    page.get_by_role("button", name="It is let down on its wheels").click()
    expect(page.locator("#moved")).to_contain_text("Read the same spans again")
    spans(page)
    gaps(page, mm)


def test_a_newcomer_finishes_the_second_dunlin(page: Page, server: str, desk: Desk, instrument) -> None:
    sign_in(page, "solveig", "north-light-12")
    page.get_by_text("Dunlin post van, second").click()
    page.goto(f"/jobs/{JOB}/fit")
    expect(page.locator(".demands").first).to_contain_text("Older than the last move")
    read_all(page, instrument)
    page.goto(f"/jobs/{JOB}/fit")
    for text in (
        "gap lid left front 4.3",
        "gap lid left rear 4.1",
        "gap lid right front 5.6",
        "gap lid right rear 5.4",
    ):
        call(page, told(text))
    page.get_by_role("link", name="Hang the panels").click()
    expect(page.locator(".verdict-adjust")).to_contain_text("Move the hinges as written")
    page.goto(f"/jobs/{JOB}/fit")
    page.locator("[name=what]").last.select_option("hinge")
    page.get_by_role("button", name="Record it").click()
    read_all(page, instrument)
    gaps(page, "4.4")
    down_on_its_wheels(page, "4.5")
    page.get_by_role("link", name="Sign “Fit accepted: weld”").click()
    page.get_by_role("button", name="Sign “Fit accepted: weld”").click()
    page.wait_for_url("**/weld")
    page.locator(".section-list").get_by_role("link", name="right apron to rail").click()
    page.get_by_role("button", name="crack").click()
    for _ in range(8):
        was = page.locator(".weld-now").inner_text()
        page.get_by_role("button", name="It is in, and good").click()
        expect(page.locator(".weld-now")).not_to_have_text(was)
    page.goto(f"/jobs/{JOB}/bond")
    page.get_by_role("button", name="sealer is opened").click()
    expect(page.locator("#clocks")).to_contain_text("sealer is workable")
    page.get_by_role("button", name="It is closed").click()
    page.get_by_role("button", name="End it").click()
    page.goto(f"/jobs/{JOB}/weld")
    page.get_by_role("button", name="Final welding is done").click()
    page.wait_for_url("**/finish")
    page.goto(f"/jobs/{JOB}/set-up")
    page.get_by_role("button", name="Open the set-up").click()
    page.get_by_role("button", name="Read the references").click()
    page.wait_for_load_state()
    instrument.serve()
    page.goto(f"/jobs/{JOB}/holds/setup_accepted")
    page.get_by_role("button", name="Sign “Set-up accepted”").click()
    read_all(page, instrument)
    down_on_its_wheels(page, "4.4")
    page.goto(f"/jobs/{JOB}/finish")
    for left in (2, 1, 0):
        page.locator(".finish-list").get_by_role("button", name="Done").first.click()
        expect(page.locator(".finish-list").get_by_role("button", name="Done")).to_have_count(left)
    for what, end, field, words in (
        ("alignment", "done", "paper", "CT-118"),
        ("calibration", "not_needed", "words", "the maker names none for this van"),
    ):
        own = page.locator(f".outside:has(input[value={what}])")
        own.locator("summary").click()
        own.locator("[name=end]").select_option(end)
        own.locator("[name=by_whom]").fill("Corran Tyres")
        own.locator(f"[name={field}]").fill(words)
        own.get_by_role("button", name="Record it").click()
        expect(page.locator(".outside", has_text=words)).to_be_visible()
    page.get_by_role("link", name="Sign “Released”").click()
    page.get_by_role("button", name="Sign “Released”").click()
    page.wait_for_url("**/record")
    page.get_by_role("button", name="Make the record").click()
    page.wait_for_url("**/records/*")
    digest = page.url.rpartition("/")[2]
    page.goto(f"/jobs/{JOB}/record")
    page.locator("[name=named]").fill("Harbour Mutual")
    page.get_by_role("button", name="Make a link").click()
    page.goto(page.locator(".sent-link input").input_value())
    expect(page.locator("body")).to_contain_text("measured, repaired and proven, and is released")
    answer = page.request.get(f"/records/{digest}.zip")
    assert check_record(answer.body()).good
    looks = [one.what.look for one in desk.view(JOB).facts.done if one.kind == "weld"]
    assert looks.count("good") == 8
    assert looks[0] == "crack"
