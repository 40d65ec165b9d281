"""The floor with none, with one, and with five hundred jobs."""

import datetime
import re

import pytest

from fairsquare.actions import Desk
from fairsquare.store.jobs import JobDetails
from tests.conftest import key

MANY = 500


@pytest.fixture(scope="module")
def many(desk: Desk, persons, as_role) -> list[str]:
    """Five hundred jobs; while there is none and while there is one, the floor is looked at."""
    pages = as_role("technician")
    none = pages.get("/")
    assert "The floor is empty. Take the first vehicle in." in none
    assert none.count('href="/jobs/new"') >= 2
    numbers = [desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug 0"))]
    one = pages.get("/")
    assert "1 vehicle open" in one
    assert "Newer" not in one
    for index in range(1, MANY):
        details = JobDetails(vehicle=f"Sanderling tug {index}", notes="under the gantry" if index == 250 else "")
        numbers.append(desk.open_job(persons["lead"], key(), details))
    return numbers


def test_five_hundred_by_pages(many, as_role) -> None:
    pages = as_role("technician")
    seen = []
    for page in range(1, 26):
        text = pages.get(f"/?page={page}")
        seen += re.findall(r"<span>(SL-\d+) ·", text)
        assert f"page {page} of 25" in text
        assert "500 vehicles open" in text
    assert sorted(seen) == sorted(many)
    assert "Older" not in pages.get("/?page=25")
    assert "The floor is empty" in pages.get("/?page=99999")


@pytest.mark.parametrize(
    ("words", "count"),
    [
        ("gantry", 1),
        ("GANTRY 250 sanderling", 1),
        ("SANDERLING", 500),
        ("solveig gantry", 1),
        ("SL-0499", 1),
        ("%", 0),
        ("_", 0),
        ("tug nobody", 0),
    ],
)
def test_the_search_takes_words_in_any_order_and_case(many, as_role, words, count) -> None:
    del many
    text = as_role("technician").http.get("/", params={"q": words}).text
    if count:
        assert re.search(rf"{count} jobs? match", text)
    else:
        assert "Nothing matches" in text


@pytest.fixture(scope="module")
def closed(many, desk: Desk, persons) -> list[str]:
    """Forty of them are closed, one of them with a VIN of its own."""
    del many
    numbers = [
        desk.open_job(persons["lead"], key(), JobDetails(vehicle=f"Knot {k}", vin=f"9ZZKNOT{k:03d}")) for k in range(40)
    ]
    for number in numbers:
        desk.close_job(persons["lead"], key(), number, True)
    return numbers


@pytest.mark.parametrize(
    "words",
    [
        "knot",
        "ZKNOT007",
        "knot 17",
        "kno 1",
        "7",
        "{number}",
        "{today}",
        "{month}",
        "2001-01-01",
        "2026-99-99",
        "sanderling",
        "o't",
        "t_",
    ],
)
def test_closed_jobs_are_found_by_vehicle_vin_number_and_date(closed, as_role, persons, words) -> None:
    today = datetime.datetime.now(datetime.UTC).date().isoformat()
    asked = words.format(number=closed[3], today=today, month=today[:7])
    texts = [
        f"{number} Knot {k} 9ZZKNOT{k:03d} {today} {persons['lead'].full_name}".lower()
        for k, number in enumerate(closed)
    ]
    count = sum(all(word.lower() in text for word in asked.split()) for text in texts)
    text = as_role("technician").http.get("/", params={"q": asked, "closed": "1"}).text
    assert f"{count} closed job" in text
    assert text.count("floor-job ") == min(count, 20)


def test_the_same_list_by_the_api(many, desk) -> None:
    views, count, _ = desk.views("", 50, 0)
    assert count == MANY
    assert views[0].job.number == many[-1], "the last touched comes first"


def test_numbers_follow_one_another(many) -> None:
    assert many == [f"SL-{n:04d}" for n in range(1, MANY + 1)]


def test_part_of_the_page_for_the_search(many, as_role) -> None:
    del many
    answer = as_role("technician").http.get("/", params={"q": "gantry"}, headers={"hx-request": "true"})
    assert "<html" not in answer.text
    assert "Sanderling tug 250" in answer.text


def test_a_job_that_is_changed_is_found_by_what_it_is_now(many, as_role, desk, persons) -> None:
    number = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Whimbrel"))
    desk.change_job(persons["lead"], key(), number, JobDetails(vehicle="Curlew"), 1)
    pages = as_role("technician")
    assert "1 job match" in pages.get("/?q=curlew")
    assert "Nothing matches" in pages.get("/?q=whimbrel")
