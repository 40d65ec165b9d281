"""Keys: with which this shop signs its records, and those of other shops that a person accepted."""

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import keys
from fairsquare.actions.keys import Signer
from fairsquare.core.errors import FairSquareError
from fairsquare.files.signing import SignedBy, in_groups
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.page import Form, desk_of, go_to, render, sent_form, signed_in

router = APIRouter()


@router.get("/keys")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show the shop's own key with its fingerprint, and the keys of other shops."""
    return _page(request, session)


def _page(
    request: Request,
    session: Session,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    desk = desk_of(request)
    known = desk.database.run(lambda c: keys.known_keys(c, desk.workshop))
    return render(request, "keys.html", session, fault=fault, typed=typed, known=known, in_groups=in_groups)


@router.post("/keys")
@shown_again(_page)
def accept(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Accept another shop's key by the fingerprint that it read out."""
    shop, fingerprint = form.text("shop"), form.text("fingerprint")
    keys.accept_key(desk_of(request), form.session.person, form.key, shop, fingerprint)
    return go_to("/keys")


@router.post("/keys/new")
@shown_again(_page, typed=False)
def replace(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Make a new key for this shop."""
    keys.replace_key(desk_of(request), form.session.person, form.key)
    return go_to("/keys")


@router.post("/keys/{own}/take-back")
@shown_again(_page, typed=False)
def take_back(request: Request, own: int, form: Form = Depends(sent_form)) -> Response:
    """Trust another shop's key no longer."""
    keys.take_key_back(desk_of(request), form.session.person, form.key, own)
    return go_to("/keys")


def signer(request: Request, by: SignedBy) -> Signer:
    """Return who signed a file, as it is known here."""
    desk = desk_of(request)
    return keys.signer_of(by, desk.database.run(lambda c: keys.known_keys(c, desk.workshop)))
