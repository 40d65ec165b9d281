"""Who did what: every deed in words, found by job, words, person and day."""

import ast
import re
from pathlib import Path

import pytest

from fairsquare.job.deeds import told
from tests.web.test_hours import note
from tests.web.test_job import make_safe, new_job

ACTIONS = Path(__file__).parents[2] / "fairsquare"


@pytest.fixture(scope="module")
def job(as_role) -> str:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    note(as_role("estimator"), job)
    return job


def test_deeds_are_said_in_words_with_their_job_and_person(as_role, job) -> None:
    page = re.sub(r"\s+", " ", as_role("apprentice").get(f"/audit?q={job}"))
    assert "signed <small>Made safe</small>" in page
    assert "answered the made-safe list <small>" in page
    assert "noted what is waited for" in page
    assert page.count(f">{job}</a>") >= 8
    assert "Ngozi" in page and "Tomasz" in page


def test_they_are_found_by_words_by_person_and_by_day(as_role, job) -> None:
    pages = as_role("lead")
    assert "answered" not in pages.get("/audit?q=signed").split("<tbody>")[1]
    only = pages.get("/audit?person=tomasz").split("<tbody>")[1]
    assert "noted what is waited for" in only and "Ngozi" not in only
    assert "Nothing such was done" in pages.get("/audit?day=2001-01-01")
    assert "A day is written like" in pages.get("/audit?day=monday", 422)
    assert "Nothing such was done" in pages.get("/audit?q=%25%25")
    assert "Nothing such was done" in pages.get("/audit?page=9999")


def test_who_lets_whom_in_is_a_deed_too(as_role, job) -> None:
    lead = as_role("lead")
    lead.post("/people", name="pim", full_name="Pim Ferrier", role="apprentice", password="a few plain words")
    assert "let somebody sign in <small>pim</small>" in re.sub(r"\s+", " ", lead.get("/audit?q=pim"))
    assert "a few plain words" not in lead.get("/audit")


def _purposes() -> set[str]:
    """The purposes that stand in the code: what is handed to `once` and `in_job`, its changing parts left out."""
    found = set()
    for file in (*ACTIONS.glob("actions/*.py"), *ACTIONS.glob("web/routes/*.py"), *ACTIONS.glob("api/*.py")):
        for call in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if (
                isinstance(call, ast.Call)
                and isinstance(call.func, ast.Attribute)
                and call.func.attr in ("once", "in_job")
            ):
                for one in call.args[2:3]:
                    if isinstance(one, ast.Constant):
                        found.add(str(one.value))
                    elif isinstance(one, ast.JoinedStr):
                        found.add(
                            "".join(str(v.value) if isinstance(v, ast.Constant) else "SL-0001" for v in one.values)
                        )
    return found


def test_every_deed_of_the_code_has_words() -> None:
    purposes = _purposes()
    assert len(purposes) > 60
    assert [one for one in purposes if told(one).words == one] == []
