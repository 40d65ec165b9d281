"""Forms when the line or the database is away: what was sent is kept, sent again by itself, and recorded once."""

from html import escape
from urllib.parse import parse_qsl

from playwright.sync_api import Page, expect

from fairsquare.actions import Desk
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person
from tests.browser.conftest import sign_in
from tests.conftest import key


def job_of(desk: Desk, persons: dict[str, Person]) -> str:
    return desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug"))


def note_wait(page: Page, words: str) -> None:
    page.fill("[name=words]", words)
    page.locator("form:has([name=words]) button.btn-primary").last.click()


def waits(desk: Desk, number: str) -> list[str]:
    return [one.words for one in desk.view(number).facts.waits]


def test_what_is_sent_without_a_line_is_recorded_once_when_it_is_back(page: Page, desk: Desk, persons) -> None:
    number = job_of(desk, persons)
    sign_in(page)
    page.goto(f"/jobs/{number}/waits")
    page.context.set_offline(True)
    note_wait(page, "right rail")
    expect(page.locator("#line")).to_contain_text("kept in this browser")
    note_wait(page, "left rail")
    assert waits(desk, number) == []
    page.context.set_offline(False)
    expect(page.locator("#desk")).to_contain_text("left rail", timeout=15_000)
    assert waits(desk, number) == ["right rail", "left rail"]
    page.reload()
    page.wait_for_timeout(3000)
    assert waits(desk, number) == ["right rail", "left rail"], "once"


def test_what_is_refused_afterwards_is_said(page: Page, desk: Desk, persons) -> None:
    number = job_of(desk, persons)
    sign_in(page)
    page.goto(f"/jobs/{number}/waits")
    page.context.set_offline(True)
    page.evaluate("document.querySelector('[name=words]').required = false")
    page.locator("[name=asked_of]").last.fill("Ines at the maker")
    note_wait(page, " ")
    page.context.set_offline(False)
    told = page.locator(".refused-form")
    expect(told).to_contain_text("not recorded", timeout=15_000)
    expect(told).to_contain_text("Ines at the maker")
    page.reload()
    expect(told).to_contain_text("Ines at the maker")
    told.get_by_role("button", name="Put it away").click()
    expect(told).to_have_count(0)
    page.reload()
    expect(told).to_have_count(0)
    assert waits(desk, number) == []


def test_a_form_that_came_while_the_database_was_away_is_sent_again_by_itself(page: Page, desk: Desk, persons) -> None:
    number, away = job_of(desk, persons), [True]
    sign_in(page)
    page.goto(f"/jobs/{number}/waits")

    def answer(route) -> None:
        if route.request.method != "POST" or not away[0]:
            route.continue_()
            return
        fields = "".join(
            f'<input type="hidden" name="{escape(name)}" value="{escape(value)}">'
            for name, value in parse_qsl(route.request.post_data, keep_blank_values=True)
        )
        form = f'<form method="post" action="/jobs/{number}/waits" data-again>{fields}</form>'
        head = '<script src="/static/app.js" defer></script>'
        body = f"<!doctype html><html><head>{head}</head><body>{form}</body></html>"
        route.fulfill(status=503, content_type="text/html", body=body)

    def ready(route) -> None:
        if away[0]:
            route.fulfill(status=503, body="")
        else:
            route.continue_()

    page.route(f"**/jobs/{number}/waits", answer)
    page.route("**/readyz", ready)
    note_wait(page, "windscreen")
    page.wait_for_timeout(2500)
    assert waits(desk, number) == []
    away[0] = False
    expect(page.locator("#desk")).to_contain_text("windscreen", timeout=15_000)
    assert waits(desk, number) == ["windscreen"]
