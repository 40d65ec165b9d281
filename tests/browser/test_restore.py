"""A backup brought back into an empty installation: its pages in the browser, and every record verified."""

import os
import re

from playwright.sync_api import Browser, expect
from typer.testing import CliRunner

from fairsquare.cli import app
from fairsquare.demo.load import load
from tests.browser.conftest import sign_in, watched
from tests.conftest import key, served


def run(url: str, *words: str):
    return CliRunner().invoke(app, words, env={**os.environ, "FAIRSQUARE_DATABASE_URL": url})


def test_what_was_backed_up_is_there_in_an_empty_installation_and_every_record_verifies(
    url, empty, desk, persons, browser: Browser, tmp_path
) -> None:
    numbers = load(desk)
    made = {number: desk.make_record(persons["lead"], key(), number) for number in numbers}
    file = tmp_path / "shop.backup"
    assert run(url, "backup", str(file)).exit_code == 0
    back = run(empty, "restore", str(file))
    assert back.exit_code == 0, back.output
    assert f"{len(made)} records checked: every one whole" in back.output
    with served(empty, tmp_path) as address:
        context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address, accept_downloads=True)
        page, faults = watched(context, address)
        sign_in(page)
        for number in numbers:
            expect(page.locator("main")).to_contain_text(number)
        for number, sha256 in made.items():
            page.goto(f"/jobs/{number}/record")
            page.click(f".records a[href='/records/{sha256}']")
            expect(page.locator(".check-line")).to_contain_text("Whole, and its figures follow from its readings.")
            with page.expect_download() as coming:
                page.click("a[href$='.json']")
            record = tmp_path / f"{number}.json"
            coming.value.save_as(record)
            told = run(empty, "verify", str(record))
            assert (told.exit_code, "whole: yes" in told.output) == (0, True), told.output
        page.goto(f"/jobs/{numbers[2]}/measure")
        assert re.search(r"\d", page.locator(".readings tbody tr").first.inner_text())
        context.close()
        assert faults == []
