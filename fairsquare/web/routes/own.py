"""One's own sign-in: password, where one is signed in, tokens for programs, and a second factor with its codes on paper."""

import io
from typing import Any

import pyotp
import segno
from fastapi import APIRouter, Depends, Request, Response
from markupsafe import Markup

from fairsquare.actions import own as deeds
from fairsquare.core.errors import FairSquareError
from fairsquare.store import second_factor, sessions
from fairsquare.store.database import Connection
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, address_of, desk_of, go_to, render, sent_form, settings_of, signed_in
from fairsquare.web.times import shop_of

router = APIRouter()
ISSUER = "Fair Square"


@router.get("/own")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show one's own sign-in."""
    return own_page(request, session)


def own_page(
    request: Request,
    session: Session,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    **context: Any,
) -> Response:
    """Return the page of one's own sign-in."""
    person = session.person

    def look(connection: Connection) -> tuple[Any, ...]:
        return (
            sessions.sign_ins_of(connection, session),
            second_factor.second_factor(connection, person.id),
            second_factor.secret_to_show(connection, person.id),
        )

    signed_in, second, secret = desk_of(request).database.run(look)
    answer = render(
        request,
        "own.html",
        session,
        fault=fault,
        typed=typed,
        sign_ins=[sign_in for sign_in in signed_in if sign_in.kind == "page"],
        tokens=[sign_in for sign_in in signed_in if sign_in.kind == "token"],
        second=second if second and second.confirmed else None,
        secret=secret,
        qr=_qr(secret, person.name, settings_of(request).workshop) if secret else None,
        required=_required(request, session),
        token_days={str(days): f"{days} day{'' if days == 1 else 's'}" for days in deeds.TOKEN_DAYS},
        browser_words=browser_words,
        **context,
    )
    answer.headers["cache-control"] = "no-store"
    return answer


@router.post("/own/sign-ins/{sign_in}/end")
@shown_again(own_page, typed=False)
def end(request: Request, sign_in: int, form: Form = Depends(sent_form)) -> Response:
    """End one of one's sign-ins, or take a token back."""
    deeds.end_sign_in(desk_of(request), form.session, sign_in)
    return go_to("/own")


@router.post("/own/sign-ins/end-others")
def end_others(request: Request, form: Form = Depends(sent_form)) -> Response:
    """End every sign-in of one's own but this one."""
    deeds.end_other_sign_ins(desk_of(request), form.session)
    return go_to("/own")


@router.post("/own/tokens")
@shown_again(own_page)
def make_token(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Make a token for a program; it is shown this once."""
    token = deeds.make_token(
        desk_of(request), form.session, form.text("token"), whole(form.text("days") or "30", "days")
    )
    return own_page(request, form.session, token=token, token_name=" ".join(form.text("token").split()))


@router.post("/own/second-factor/begin")
def begin(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Make a secret to put into a telephone."""
    deeds.begin_second_factor(desk_of(request), form.session)
    return go_to("/own#second-factor")


@router.post("/own/second-factor/confirm")
@shown_again(own_page, typed=False)
def confirm(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Put one's second factor in force; its codes on paper are shown this once."""
    codes = deeds.confirm_second_factor(*_told(request, form))
    return own_page(request, form.session, codes=codes)


@router.post("/own/second-factor/codes")
@shown_again(own_page, typed=False)
def new_codes(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Make new codes on paper; they are shown this once."""
    codes = deeds.new_recovery_codes(*_told(request, form))
    return own_page(request, form.session, codes=codes)


@router.post("/own/second-factor/end")
@shown_again(own_page, typed=False)
def end_second_factor(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Go without a second factor again, where the shop lets one."""
    deeds.end_second_factor(*_told(request, form), required=_required(request, form.session))
    return go_to("/own#second-factor")


def _told(request: Request, form: Form) -> tuple[Any, Session, str, str, int]:
    return (
        desk_of(request),
        form.session,
        form.text("code"),
        address_of(request),
        settings_of(request).sign_in_tries,
    )


def _required(request: Request, session: Session) -> bool:
    return deeds.is_required(session.person.role, of_leads=shop_of(request).leads_second_factor)


def browser_words(said: str) -> str:
    """Return what a browser is, from what it calls itself, as a person would say it; a guess, no proof."""
    plain = said.lower()
    browsers = (("edg", "Edge"), ("firefox", "Firefox"), ("chrome", "Chrome"), ("safari", "Safari"))
    systems = (
        ("android", "Android"),
        ("iphone", "a telephone"),
        ("ipad", "a tablet"),
        ("windows", "Windows"),
        ("mac os", "a Mac"),
        ("linux", "Linux"),
    )
    browser = next((name for mark, name in browsers if mark in plain), "")
    system = next((name for mark, name in systems if mark in plain), "")
    return " on ".join(name for name in (browser, system) if name) or said[:40] or "a program"


def _qr(secret: str, name: str, workshop: str) -> Markup:
    """Return the QR code that a telephone reads the secret from, as SVG."""
    uri = pyotp.TOTP(secret).provisioning_uri(name=f"{name} ({workshop})", issuer_name=ISSUER)
    out = io.BytesIO()
    segno.make(uri, error="m").save(
        out, kind="svg", xmldecl=False, svgns=False, omitsize=True, border=4, dark="#000", light="#fff", nl=False
    )
    return Markup(out.getvalue().decode())  # noqa: S704 - made by the library from our own text
