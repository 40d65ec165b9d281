"""The Dunlin from “New job” to a verified PDF and record: with the keyboard alone, and by touch at 800x1280."""

import math
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.sheet.model import Sheet
from fairsquare.files.records import check_record
from fairsquare.files.sheets import sheet_as_csv
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from tests.web.fitting import SPANS

PLACES = {point.code: np.array(point.xyz) for point in DUNLIN.sheet.points}
REFERENCES = [point.code for point in DUNLIN.sheet.points if point.reference]
OTHERS = [code for code in PLACES if code not in REFERENCES]
SMALLEST_TARGET = 44


def call(code: str, moved=(0.0, 0.0, 0.0)) -> str:
    xyz = instrument_reading(PLACES[code] + np.array(moved), 5, np.zeros(3))
    return f"{code.lower()} {xyz[0]} {xyz[1]} {xyz[2]}"


class Keys:
    """A person who has no mouse: only keys are pressed."""

    def __init__(self, page: Page) -> None:
        self.page = page

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)

    def write(self, text: str) -> None:
        self.page.keyboard.insert_text(text)

    def to(self, selector: str, key: str = "Tab") -> None:
        """Press Tab until what has the focus matches."""
        for _ in range(160):
            if self.page.evaluate("s => document.activeElement.matches(s)", selector):
                return
            self.press(key)
        raise AssertionError(f"the keyboard does not reach {selector} on {self.page.url}")

    def enter(self, selector: str) -> None:
        self.to(selector)
        self.press("Enter")

    def press_focused(self, selector: str) -> None:
        """Press Enter once the page has put the focus where it should be."""
        expect(self.page.locator(selector)).to_be_focused()
        self.press("Enter")

    def sign_in(self, name: str, password: str) -> None:
        self.page.goto("/sign-in")
        expect(self.page.locator("[name=name]")).to_be_focused()
        self.write(name)
        self.press("Tab")
        self.write(password)
        self.press("Enter")
        self.page.wait_for_url("**/")

    def make_safe_and_accept(self, job: str, sheet: Sheet) -> None:
        """From the take-in page: answer the made-safe list, sign it, and accept a sheet that agrees with itself."""
        for item in SAFETY_ITEMS:
            answer = "absent" if item.key == "high_voltage" else "done"
            if item.qualified and answer == "done":
                self.to(f"#{item.key} [name=done_by]")
                self.write("Pernille Ostrander")
                self.press("Tab")
                self.write("KR-2231")
            self.enter(f"#{item.key} button[value={answer}]")
            expect(self.page.locator(f"#{item.key}")).to_have_class(f"check {answer}")
        self.enter("a[href$='/holds/made_safe'].btn-primary")
        self.page.wait_for_url("**/holds/made_safe")
        self.press_focused(".hold-page .btn-primary")
        self.page.wait_for_url("**/take-in")
        self.press("Escape")
        self.enter(f"a[href='/jobs/{job}/sheet']")
        self.page.wait_for_url("**/sheet")
        self.to("[name=table]")
        self.press("Control+a")
        self.write(sheet_as_csv(sheet))
        self.enter("button:not([formaction]).btn")
        expect(self.page.get_by_text(f"{len(sheet.points)} points understood")).to_be_visible()
        expect(self.page.get_by_text("The sheet agrees with itself")).to_be_visible()
        self.enter("button[formaction]")


def test_by_keyboard_alone(page: Page, tmp_path: Path) -> None:
    keys = Keys(page)
    keys.sign_in("ngozi", "tide-tables-40")
    keys.enter("a[href='/jobs/new']")
    expect(page.locator("[name=vehicle]")).to_be_focused()
    keys.write("Dunlin post van")
    keys.to("[name=vin]")
    keys.write("9ZZDUN1V1NS000417")
    expect(page.locator("#vin-words")).to_contain_text("The check digit 1 fits")
    keys.to("[name=hit_where]")
    keys.press("f")
    keys.to("[name=hit_words]")
    keys.write("a freight cage broke loose and struck low at the right front corner")
    keys.enter("form .btn-primary")
    page.wait_for_url("**/take-in")
    job = page.url.split("/")[-2]

    keys.make_safe_and_accept(job, DUNLIN.sheet)
    expect(page.get_by_text("20 points, 6 references")).to_be_visible()

    keys.enter(f"a[href='/jobs/{job}/set-up']")
    page.wait_for_url("**/set-up")
    keys.to("[name=instrument]")
    keys.press("Enter")
    expect(page.locator("#call")).to_be_focused()
    for code in REFERENCES:
        keys.write(call(code))
        expect(page.locator("#understood")).to_contain_text("Enter to take")
        keys.press("Enter")
        expect(page.locator(f".refs tr:has-text('{code}') .said")).to_contain_text(code.lower())
    expect(page.locator(".verdict")).to_contain_text("Fits")
    keys.press("Escape")
    keys.enter("a[href$='/holds/setup_accepted'].btn-primary")
    page.wait_for_url("**/holds/setup_accepted")
    keys.press_focused(".hold-page .btn-primary")
    page.wait_for_url("**/set-up")

    keys.press("Escape")
    keys.enter(f"a[href='/jobs/{job}/measure']")
    page.wait_for_url("**/measure")
    expect(page.locator("#call")).to_be_focused()
    keys.write("f5q 1 2 3")
    expect(page.locator("#understood")).to_contain_text("Did you mean")
    keys.press("Enter")
    expect(page.locator("#understood .wrong")).to_contain_text("F5Q".lower())
    assert page.input_value("#call") == "f5q 1 2 3", "what was typed is kept"
    keys.press("Control+a")
    for count, code in enumerate(OTHERS, start=7):
        keys.write(call(code))
        expect(page.locator("#understood")).to_contain_text(code)
        keys.press("Enter")
        expect(page.locator(".tallies")).to_contain_text(f"{count} of 20 points")
        expect(page.locator("#call")).to_be_focused()
    expect(page.locator(".structure .pt.fair"), "twenty from above, twenty from the sides").to_have_count(40)

    keys.press("Escape")
    keys.enter(f"a[href='/jobs/{job}/damage']")
    expect(page.get_by_text("Nothing contradicts, and every point is known.")).to_be_visible()
    keys.enter(f"a[href='/jobs/{job}/decide']")
    page.wait_for_url("**/decide")
    keys.enter(".keep-fair button")
    expect(page.locator(".members tbody tr:has-text('keep')")).to_have_count(6)
    keys.enter("a[href$='/holds/decision_made'].btn-primary")
    keys.press_focused(".hold-page .btn-primary")
    page.wait_for_url("**/decide")
    keys.enter(f"a[href='/jobs/{job}/fit']")
    page.wait_for_url("**/fit")
    expect(page.locator("#call")).to_be_focused()
    keys.press("Escape")
    keys.enter(f"a[href='/jobs/{job}/fit/list'].btn-primary")
    page.wait_for_url("**/fit/list")
    for name, text in (("place", "lid to right fender"), ("target", "4"), ("tolerance", "1")):
        keys.to(f"[name=gap-0-{name}]")
        keys.write(text)
    keys.press("Enter")
    page.wait_for_url("**/fit")
    page.wait_for_load_state("load")
    expect(page.locator("#call")).to_be_focused()
    keys.write("gap lid to right fender 4.1")
    expect(page.locator("#understood")).to_contain_text("Enter takes it")
    keys.press("Enter")
    expect(page.locator(".gaps")).to_contain_text("4.1")
    page.goto(f"/jobs/{job}/measure")
    spans(keys, page)
    page.goto(f"/jobs/{job}/fit")
    keys.press("Escape")
    keys.enter("#moved .btn-primary")
    expect(page.locator("#moved")).to_contain_text("Read the same spans again")
    page.goto(f"/jobs/{job}/measure")
    spans(keys, page)
    page.goto(f"/jobs/{job}/fit")
    expect(page.locator("#call")).to_be_focused()
    keys.write("lid to right fender 4")
    keys.press("Enter")
    expect(page.locator("#hold-strip")).to_contain_text("All the evidence is there")
    keys.sign_in("solveig", "north-light-12")
    page.goto(f"/jobs/{job}/holds/fit_accepted")
    expect(page.get_by_text("All the evidence is there")).to_be_visible()
    keys.press_focused(".hold-page .btn-primary")
    page.wait_for_url("**/weld")
    page.goto(f"/jobs/{job}/record")
    keys.press_focused("form .btn-primary")
    page.wait_for_url("**/records/*")
    expect(page.locator(".check-line")).to_contain_text("Whole, and its figures follow from its readings.")
    with page.expect_download() as coming:
        keys.enter("a[href$='.json']")
    coming.value.save_as(tmp_path / "record.json")
    assert check_record((tmp_path / "record.json").read_bytes()).good
    paper = page.locator(".check-line a[href$='/paper']").get_attribute("href")
    pdf = page.request.get(paper.removesuffix("/paper") + ".pdf", timeout=60_000)
    assert pdf.body()[:5] == b"%PDF-", "the link itself may answer with a page that waits, where it takes long"


def spans(keys: "Keys", page: Page) -> None:
    """Call three spans between four points, which need no set-up."""
    for a, b in SPANS:
        expect(page.locator("#call")).to_be_focused()
        keys.write(f"{a} {b} {math.dist(PLACES[a], PLACES[b]):.1f}")
        expect(page.locator("#understood")).to_contain_text(a)
        keys.press("Enter")
        expect(page.locator("#call")).to_have_value("")
    for _ in range(100):
        if page.evaluate("(localStorage.getItem(`kept:${location.pathname}`) || '[]') === '[]'"):
            return
        page.wait_for_timeout(50)


def test_by_touch_at_800_by_1280(tablet: Page, tmp_path: Path) -> None:
    page = tablet
    page.goto("/sign-in")
    page.tap("[name=name]")
    page.fill("[name=name]", "solveig")
    page.tap("[name=password]")
    page.fill("[name=password]", "north-light-12")
    page.tap(".btn-primary")
    page.wait_for_url("**/")
    page.tap(".call-go")
    page.fill("[name=vehicle]", "Dunlin post van")
    page.select_option("[name=hit_from_deg]", "45")
    page.tap("text=Open the job")
    page.wait_for_url("**/take-in")
    job = page.url.split("/")[-2]
    for item in SAFETY_ITEMS:
        if item.qualified:
            page.fill(f"#{item.key} [name=done_by]", "Pernille Ostrander")
            page.fill(f"#{item.key} [name=qualification]", "KR-2231")
        page.tap(f"#{item.key} button[value=done]")
        expect(page.locator(f"#{item.key}")).to_have_class("check done")
    sign(page, "made_safe", "take-in")
    page.tap(f".stops a[href='/jobs/{job}/sheet']")
    file = tmp_path / "dunlin.csv"
    file.write_text(sheet_as_csv(DUNLIN.sheet), encoding="utf-8")
    page.set_input_files("[name=file]", file)
    page.tap("text=Show what it says")
    page.tap("text=Accept as version 1")
    expect(page.get_by_text("20 points, 6 references")).to_be_visible()
    fits_the_screen(page)
    page.tap(f".stops a[href='/jobs/{job}/set-up']")
    page.tap("text=Open the set-up")
    page.fill("#f-table", "\n".join(call(code) for code in REFERENCES).replace(" ", "\t"))
    page.tap("text=Take them all")
    expect(page.locator(".verdict")).to_contain_text("Fits")
    fits_the_screen(page)
    sign(page, "setup_accepted", "set-up")
    page.tap(f".stops a[href='/jobs/{job}/measure']")
    for count, code in enumerate(OTHERS, start=7):
        page.tap("#call")
        page.fill("#call", call(code))
        page.tap("text=Take reading")
        expect(page.locator(".tallies")).to_contain_text(f"{count} of 20 points")
    page.locator(".view-plan .pt[data-code=F5R]").tap()
    page.wait_for_url("**point=F5R")
    expect(page.locator(".chip")).to_have_text("F5R")
    fits_the_screen(page)
    targets_are_large(page)
    page.tap(f".stops a[href='/jobs/{job}/damage']")
    expect(page.get_by_text("Nothing contradicts")).to_be_visible()
    fits_the_screen(page)
    targets_are_large(page)
    page.tap("text=Go on to decide")
    page.tap(".keep-fair button")
    expect(page.locator(".members tbody tr:has-text('keep')")).to_have_count(6)
    fits_the_screen(page)
    targets_are_large(page)
    sign(page, "decision_made", "decide")
    page.tap(f".stops a[href='/jobs/{job}/fit']")
    page.tap("a.btn-primary:has-text('List panels and gaps')")
    page.fill("[name=none_hung]", "the lid stays with the painter")
    page.tap("text=Keep the list")
    expect(page.locator(".gaps-pane")).to_contain_text("Nothing is hung on what was repaired")
    fits_the_screen(page)
    targets_are_large(page)
    sign(page, "fit_accepted", "weld")
    page.goto(f"/jobs/{job}/record")
    page.tap("button:has-text('Make the record')")
    expect(page.locator(".check-line")).to_contain_text("Whole")
    fits_the_screen(page)
    with page.expect_download() as coming:
        page.tap(".check-line a[href$='.json']")
    coming.value.save_as(tmp_path / "record.json")
    assert check_record((tmp_path / "record.json").read_bytes()).good


def sign(page: Page, hold: str, back: str) -> None:
    page.tap(f"a[href$='/holds/{hold}'].btn-primary")
    page.wait_for_url(f"**/holds/{hold}")
    page.tap("button:has-text('Sign “')")
    page.wait_for_url(f"**/{back}")


def fits_the_screen(page: Page) -> None:
    """Nothing is wider than the screen."""
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")


def targets_are_large(page: Page) -> None:
    """Whatever is to be touched, save the points of the drawing whose rows in the table serve as well, is 44 px high."""
    small = page.evaluate(
        """least => [...document.querySelectorAll("main button, main select, main input:not([type=hidden]), .stops a, .readings a")]
            .filter(e => e.offsetParent && !e.closest("svg"))
            .map(e => [e.closest("label, td, th") || e, e])
            .filter(([place, e]) => Math.max(place.getBoundingClientRect().height, e.getBoundingClientRect().height) < least - 0.5)
            .map(([, e]) => e.outerHTML.slice(0, 120))""",
        SMALLEST_TARGET,
    )
    assert small == []
