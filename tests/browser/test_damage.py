"""The Teal from the walk-round to the decision, with a supplement refused and then approved; photos by chooser and by drop."""

import io
import zipfile

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Browser, Page, expect
from scipy.spatial.transform import Rotation

from fairsquare.actions import Desk, measuring
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.job.facts.measure import NewReading
from fairsquare.job.intake.supplements import line_states
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.store.jobs import JobDetails
from tests.browser.conftest import sign_in, watched
from tests.browser.test_pages import violations
from tests.conftest import key
from tests.job.test_walk_round import bomb

TEAL = "SL-0003"


pytestmark = pytest.mark.usefixtures("demo")


@pytest.fixture
def job(desk: Desk, persons) -> str:
    return desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sandpiper launch trailer", construction="trailer"))


def jpeg(size=(400, 300), colour="#557") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, colour).save(out, "JPEG")
    return out.getvalue()


def test_the_teal_from_the_walk_round_to_the_decision(page: Page, browser: Browser, server: str, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{TEAL}/walk-round")
    expect(page.locator("#call")).to_be_focused()
    before = page.locator(".seen-list li").count()
    page.keyboard.type("crack floor 60 behind R2R")
    expect(page.locator("#understood")).to_contain_text("Enter takes it")
    page.keyboard.press("Enter")
    expect(page.locator(".seen-list li")).to_have_count(before + 1)
    page.locator("svg.walk").click(position={"x": 420, "y": 110})
    page.keyboard.type("buckle in the floor")
    expect(page.locator("#understood")).to_contain_text("at length")
    page.keyboard.press("Enter")
    expect(page.locator(".seen-list li")).to_have_count(before + 2)
    touched = desk.view(TEAL).facts.walk[-1]
    assert touched.xy is not None
    assert touched.xy[0] < 0, "behind the middle"
    assert touched.xy[1] < 0, "on the right"

    page.click(f".stops a[href='/jobs/{TEAL}/damage']")
    expect(page.locator(".damage-right")).to_contain_text("From the rear")
    expect(page.locator(".p-onset")).to_have_count(1)
    page.click("text=Go on to decide")
    page.wait_for_url("**/decide")
    page.click(".members a:has-text('right rear rail')")
    expect(page.locator(".decide-side")).to_contain_text("past what it can give")
    page.select_option("[name=decision]", "try")
    page.click("text=What goes with it")
    page.fill("[name=gives_up]", "the crack at R2R runs on under tension")
    page.fill("[name=reason]", "the donor is three weeks away")
    page.click("button:has-text('Decide')")
    expect(page.locator(".members tr:has-text('right rear rail') b").first).to_have_text("T")

    page.click("text=Supplement")
    page.fill("[name=words]", "floor cross member torn, to be replaced")
    page.fill("[name=hours]", "4.5")
    page.click("text=Add the line")
    expect(page.locator(".line-status")).to_contain_text("not sent yet")
    page.goto(f"/jobs/{TEAL}/decide")
    expect(page.locator(".seen-first")).to_contain_text("Crack floor 60 behind R2R")
    asked = page.locator(".seen-first .ask-member").first
    asked.locator("select").select_option("luggage floor")
    asked.locator("button").click()
    page.wait_for_url("**/decide?member=luggage*")
    expect(page.locator(".found-on")).to_contain_text("Crack floor 60 behind R2R")
    expect(page.locator("[name=signs][value=cracked]")).to_be_checked()
    page.click("button:has-text('Look at it again')")
    page.click("button:has-text('Decide')")
    page.goto(f"/jobs/{TEAL}/holds/decision_made")
    expect(page.locator(".missing-list")).to_contain_text("is not sent to the payer yet")

    office, faults = watched(browser.new_context(base_url=server), server)
    sign_in(office, "tomasz", "paper-lantern-3")
    office.goto(f"/jobs/{TEAL}/supplements")
    office.fill("[name=payer]", "Harbour Mutual")
    office.click("text=Send the supplement")
    link = office.locator(".link-line code").inner_text()
    payer, payer_faults = watched(browser.new_context(base_url=server), server)
    payer.goto(link)
    assert violations(payer) == []
    expect(payer.locator("h2")).to_have_text("floor cross member torn, to be replaced")
    answer(payer, "Refuse", "it was not on the first estimate")
    page.reload()
    expect(page.locator(".missing-list")).to_contain_text("is refused by the payer")
    payer.click("text=Answer again")
    answer(payer, "Approve", "seen on the photo")
    page.reload()
    expect(page.get_by_text("All the evidence is there")).to_be_visible()
    page.click(".hold-page .btn-primary")
    page.wait_for_url("**/decide")
    expect(page.locator(".hold-strip")).to_contain_text("Signed by Ngozi Adeyemi")
    assert [state.status for state in line_states(desk.view(TEAL).facts)] == ["approved"]
    office.reload()
    assert violations(office) == []
    office.context.close()
    payer.context.close()
    assert faults == payer_faults == []


def test_what_moved_as_one_piece_is_shown_moving(page: Page, desk: Desk, persons) -> None:
    """Both front rails of a Dunlin swung to the left as one piece: drawn where they are, and moving when it is asked for."""
    lead, sheet = persons["lead"], DUNLIN.sheet
    number = desk.open_job(lead, key(), JobDetails(vehicle=DUNLIN.name))
    for item in SAFETY_ITEMS:
        desk.answer_safety(lead, key(), number, item.key, "absent")
    desk.sign(lead, key(), number, "made_safe", desk.view(number).state.hold("made_safe").evidence, "")
    desk.accept_sheet(lead, key(), number, sheet, {}, "test")
    measuring.open_setup(desk, lead, key(), number, "3-D instrument", 0.3)
    turn = Rotation.from_rotvec([0.0, 0.0, np.radians(0.9)])
    root, swung_root = np.array([1478.0, 0.0, 0.0]), np.array([1478.0, 6.0, 0.0])
    for purpose, codes in (("reference", True), ("point", False)):
        taken = []
        for point in sheet.points:
            if point.reference == codes:
                place = np.array(point.xyz)
                place = turn.apply(place - root) + swung_root if point.xyz[0] > 1200 else place
                taken.append(
                    NewReading(
                        purpose=purpose, code=point.code, xyz=instrument_reading(place, 5, np.zeros(3)), said=point.code
                    )
                )
        measuring.take_readings(desk, lead, key(), number, 1, taken)
        if codes:
            desk.sign(
                lead, key(), number, "setup_accepted", desk.view(number).state.hold("setup_accepted").evidence, ""
            )
    sign_in(page)
    page.goto(f"/jobs/{number}/damage")
    expect(page.locator(".group-list")).to_contain_text("to the left")
    expect(page.locator(".group-list")).to_contain_text("kept its shape")
    moving = page.locator(".g-gone.rigid").first
    where = "line => { const p = line.animatedPoints[0]; return [p.x, p.y]; }"
    gone = moving.evaluate(where)
    page.click("[data-move]")
    page.wait_for_timeout(150)
    began = moving.evaluate(where)
    assert np.abs(np.subtract(began, gone)).max() > 1, "it sets out from where the sheet puts it"
    page.wait_for_timeout(2200)
    assert moving.evaluate(where) == pytest.approx(gone, abs=0.2), "and ends where it is"


def answer(payer: Page, what: str, words: str) -> None:
    payer.fill("[name=named]", "Ines Okonjo")
    payer.fill("[name^=words-]", words)
    payer.check(f"[name^=answer-][value={ {'Refuse': 'refused', 'Approve': 'approved'}[what] }]")
    payer.click("button:has-text('Send what is marked')")
    expect(payer.locator(".line-status")).to_contain_text({"Refuse": "Refused", "Approve": "Approved"}[what])


def polyglot() -> bytes:
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w") as inner:
        inner.writestr("page.html", "<script>alert(1)</script>")
    return jpeg() + archive.getvalue()


def test_photos_from_a_chooser_good_and_bad(page: Page, job: str, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{job}/walk-round")
    noise = np.random.default_rng(1).integers(0, 255, (66, 99, 3), dtype=np.uint8)
    large = Image.fromarray(noise).resize((9504, 6336))
    out = io.BytesIO()
    large.save(out, "JPEG", quality=90)
    files = [
        {"name": "large.jpg", "mimeType": "image/jpeg", "buffer": out.getvalue()},
        {"name": "cut-off.jpg", "mimeType": "image/jpeg", "buffer": jpeg((900, 700))[:3000]},
        {"name": "drawing.svg", "mimeType": "image/svg+xml", "buffer": b"<svg xmlns='http://www.w3.org/2000/svg'/>"},
        {"name": "two-faced.jpg", "mimeType": "image/jpeg", "buffer": polyglot()},
        {"name": "bomb.png", "mimeType": "image/png", "buffer": bomb(30_000)},
        {"name": "good.jpg", "mimeType": "image/jpeg", "buffer": jpeg()},
    ]
    page.set_input_files("#f-photo", files)
    expect(page.locator("#job-thumbs img")).to_have_count(3, timeout=60_000)
    for words in ("cut-off.jpg is cut off or damaged", "drawing.svg is no photo", "bomb.png says it has more than"):
        expect(page.locator("#photo-progress")).to_contain_text(words)
    assert [photo.name for photo in desk.view(job).facts.photos] == ["large.jpg", "two-faced.jpg", "good.jpg"]
    shown = page.locator("#job-thumbs img").first
    assert shown.evaluate("image => image.decode().then(() => image.naturalWidth)") == 320


def drop(page: Page, count: int) -> None:
    """Drop photos on the place for them, as from a folder."""
    page.evaluate(
        """async ([content, count]) => {
            const bytes = Uint8Array.from(content);
            const moved = new DataTransfer();
            for (let n = 0; n < count; n += 1) moved.items.add(new File([bytes], `walk-${n}.jpg`, {type: "image/jpeg"}));
            const place = document.querySelector("[data-drop-photos]");
            place.dispatchEvent(new DragEvent("drop", {dataTransfer: moved, bubbles: true, cancelable: true}));
        }""",
        [list(jpeg((160, 120))), count],
    )


def test_two_hundred_photos_dropped_at_once(page: Page, job: str, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{job}/walk-round")
    drop(page, 200)
    expect(page.locator("#photo-progress progress")).to_be_visible()
    expect(page.locator("#photo-progress")).to_contain_text("of 200 photos recorded")
    expect(page.locator("#photo-progress")).to_be_hidden(timeout=240_000)
    names = [photo.name for photo in desk.view(job).facts.photos]
    assert names == [f"walk-{n}.jpg" for n in range(200)]
    expect(page.locator("#job-thumbs img")).to_have_count(200)


def test_a_tablet_that_sleeps_in_the_middle_loses_nothing(page: Page, job: str, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{job}/walk-round")
    page.wait_for_function("window.htmx && document.querySelector('[data-live]')")
    page.context.set_offline(True)
    for text in ("kink right rail", "rust under the left sill"):
        page.fill("#call", text)
        page.press("#call", "Enter")
    drop(page, 2)
    expect(page.locator("#line")).to_contain_text("kept")
    expect(page.locator("#kept")).to_contain_text("rust under the left sill")
    expect(page.locator("#photo-progress")).to_contain_text("0 of 2 photos recorded")
    page.close()
    woken = page.context.new_page()
    page.context.set_offline(False)
    woken.goto(f"/jobs/{job}/walk-round")
    expect(woken.locator(".seen-list li")).to_have_count(2, timeout=15_000)
    expect(woken.locator("#job-thumbs img")).to_have_count(2, timeout=15_000)
    facts = desk.view(job).facts
    assert [seen.said for seen in facts.walk] == ["kink right rail", "rust under the left sill"]
    assert [photo.name for photo in facts.photos] == ["walk-0.jpg", "walk-1.jpg"]


def test_a_photo_that_the_server_is_too_busy_for_is_kept_and_sent_again(page: Page, job: str, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{job}/walk-round")
    busy = {"status": 429, "body": '{"title": "12 things that you asked for are being made already."}'}
    page.route("**/photos", lambda route: route.fulfill(**busy), times=1)
    drop(page, 1)
    expect(page.locator("#photo-progress")).to_contain_text("0 of 1 photos recorded")
    expect(page.locator("#job-thumbs img")).to_have_count(1)
    assert [photo.name for photo in desk.view(job).facts.photos] == ["walk-0.jpg"]


def test_at_800_by_1280_by_touch(tablet: Page) -> None:
    from tests.browser.test_whole_job import fits_the_screen, targets_are_large

    sign_in(tablet)
    for path in ("walk-round", "damage", "decide", "supplements", "parts"):
        tablet.goto(f"/jobs/{TEAL}/{path}")
        fits_the_screen(tablet)
        targets_are_large(tablet)
