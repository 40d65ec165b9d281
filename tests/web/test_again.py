"""What is refused comes back on the page that it was sent from, with what was typed."""

import pytest
from fastapi import Response
from fastapi.responses import PlainTextResponse
from starlette.datastructures import FormData

from fairsquare.core.errors import Refused
from fairsquare.web.again import shown_again
from fairsquare.web.page import Form


def page(request, session, number, *, fault=None, typed=None) -> Response:
    return PlainTextResponse(f"{request} {session} {number}: {fault} {typed}")


def sent(**fields: str) -> Form:
    return Form("session", FormData(fields))  # type: ignore[arg-type]


def refuses(request, number: str, line: int, form: Form) -> Response:
    del request, number, line, form
    raise Refused("Say how long.", field="mm", value="")


def test_what_is_refused_is_told_beside_what_was_typed_and_of_which_line() -> None:
    answer = shown_again(page)(refuses)(request="r", number="SL-0001", line=7, form=sent(words="so"))
    assert answer.body.decode() == "r session SL-0001: Say how long. {'words': 'so', 'number': 'SL-0001', 'line': '7'}"


def test_a_page_without_a_form_is_given_nothing_that_was_typed() -> None:
    answer = shown_again(page, typed=False)(refuses)(request="r", number="SL-0001", line=7, form=sent(words="so"))
    assert answer.body.decode().endswith("Say how long. None")


def test_a_page_that_asks_for_the_form_has_it_whole() -> None:
    def of_form(request, session, *, fault=None, form=None) -> Response:
        del request, session, fault
        return PlainTextResponse(" ".join(form.several("signs")))

    form = Form("session", FormData([("signs", "a"), ("signs", "b")]))  # type: ignore[arg-type]
    assert shown_again(of_form)(refuses)(request="r", number="1", line=1, form=form).body == b"a b"


def test_what_is_done_goes_on_and_what_is_no_refusal_is_not_hidden() -> None:
    def works(request, form) -> Response:
        del request, form
        return PlainTextResponse("done")

    def breaks(request, form) -> Response:
        raise KeyError(form)

    assert shown_again(page)(works)(request="r", form=sent()).body == b"done"
    with pytest.raises(KeyError):
        shown_again(page)(breaks)(request="r", form=sent())
