"""What a deed refuses is told on the page that it was sent from: the one way in which posted forms come back."""

import inspect
from collections.abc import Callable
from functools import wraps
from typing import Any

from fastapi import Response

from fairsquare.core.errors import FairSquareError
from fairsquare.web.page import Form

Deed = Callable[..., Response]
Page = Callable[..., Response]


def shown_again(page: Page, *, typed: bool = True) -> Callable[[Deed], Deed]:
    """Have whatever the product refuses in a deed told on a page, beside the field that it names.

    The deed takes `request`, the values of its path, and the `form` that was sent. The page is called as
    `page(request, session, *values of the path, fault=…, typed=…)`, with as many of those values as it has places for; `typed` is
    what was typed, and the values of the path under their names, so that of a list the line comes back that was meant. Where a
    page has no form that is to be filled again, it is not `typed`; one that asks for the whole `form` has that.
    """
    asked = inspect.signature(page).parameters
    places = sum(1 for parameter in asked.values() if parameter.kind is parameter.POSITIONAL_OR_KEYWORD) - 2

    def of_page(deed: Deed) -> Deed:
        in_path = [name for name in inspect.signature(deed).parameters if name not in ("request", "form")]

        @wraps(deed)
        def run(**sent: Any) -> Response:
            try:
                return deed(**sent)
            except FairSquareError as fault:
                form: Form = sent["form"]
                values = [sent[name] for name in in_path]
                told: dict[str, Any] = {"form": form} if "form" in asked else {}
                if typed and "typed" in asked:
                    told["typed"] = form.typed() | dict(zip(in_path, map(str, values), strict=True))
                return page(sent["request"], form.session, *values[:places], fault=fault, **told)

        return run

    return of_page
