"""Deeds of one's own sign-in: where one is signed in, tokens for programs, and a second factor."""

from fairsquare.actions.desk import Desk
from fairsquare.actions.sign_in import check_second
from fairsquare.core.errors import Refused
from fairsquare.core.who import Role
from fairsquare.security_log import security
from fairsquare.store import second_factor, sessions
from fairsquare.store.database import Connection
from fairsquare.store.people import Person, Session

TOKEN_DAYS = (1, 7, 30, 90, 365)
MOST_TOKENS = 50


def end_sign_in(desk: Desk, session: Session, number: int) -> None:
    """End one of one's own sign-ins, or take a token back. Raises `Refused` where there is none of that number."""
    if not desk.database.run(lambda c: sessions.end_sign_in(c, session.person.id, number)):
        raise Refused("That sign-in has ended already.", field="sign-in", value=number)
    security("sign-in ended", person=session.person.name, number=number)


def end_other_sign_ins(desk: Desk, session: Session) -> int:
    """End every sign-in of one's own but this one, and return how many there were; tokens stay."""
    many = desk.database.run(lambda c: sessions.end_others(c, session))
    security("sign-in ended", person=session.person.name, others=many)
    return many


def make_token(desk: Desk, session: Session, name: str, days: int) -> str:
    """Make a token of the API for a program, and return it: it is not kept."""
    plain = " ".join(name.split())
    if not 2 <= len(plain) <= 120:
        raise Refused(
            "What is it for? Name the program, such as “the tower’s computer”.", field="token", value=name[:120]
        )
    if days not in TOKEN_DAYS:
        raise Refused("A token may last 1, 7, 30, 90 or 365 days.", field="days", value=days)

    def work(connection: Connection) -> str:
        tokens = [
            sign_in for sign_in in sessions.sign_ins_of(connection, session) if sign_in.kind == "token" and sign_in.name
        ]
        if len(tokens) >= MOST_TOKENS:
            raise Refused(f"You have {MOST_TOKENS} tokens already: take back one that is not used.", field="token")
        made = sessions.open_session(connection, session.person, days * 24, "token", name=plain)
        return made.token

    token = desk.database.run(work)
    security("token made", person=session.person.name, name=plain, days=days)
    return token


def begin_second_factor(desk: Desk, session: Session) -> None:
    """Make a secret to put into a telephone."""
    desk.database.run(lambda c: second_factor.begin(c, session.person.id))


def confirm_second_factor(desk: Desk, session: Session, code: str, address: str, tries: int) -> list[str]:
    """Put one's second factor in force once a code of it is right, and return the codes on paper; other sign-ins end."""
    own = session.person
    if desk.database.run(lambda c: second_factor.secret_to_show(c, own.id)) is None:
        raise Refused("Begin anew: there is no secret that waits for a code.", field="code")
    check_second(desk.database, own, code, address, tries)

    def work(connection: Connection) -> list[str]:
        sessions.end_others(connection, session)
        sessions.end_others(connection, session, "token")
        return second_factor.confirm(connection, own.id)

    codes = desk.database.run(work)
    security("second factor on", person=own.name)
    return codes


def new_recovery_codes(desk: Desk, session: Session, code: str, address: str, tries: int) -> list[str]:
    """Return new codes on paper in the place of those before."""
    check_second(desk.database, session.person, code, address, tries)
    security("recovery codes made", person=session.person.name)
    return desk.database.run(lambda c: second_factor.new_recovery_codes(c, session.person.id))


def end_second_factor(desk: Desk, session: Session, code: str, address: str, tries: int, *, required: bool) -> None:
    """Go without a second factor again. Raises `Refused` for whom the shop requires one."""
    if required:
        raise Refused(
            "In this shop leads sign in with a second factor: it can be set up anew, not left out.", field="code"
        )
    check_second(desk.database, session.person, code, address, tries)
    desk.database.run(lambda c: second_factor.end(c, session.person.id))
    security("second factor off", person=session.person.name)


def is_required(role: Role, *, of_leads: bool) -> bool:
    """Return whether the shop requires a second factor of a role."""
    return of_leads and role == "lead"


def forget_second_factor(desk: Desk, lead: Person, person_id: int, name: str) -> None:
    """Forget the second factor of somebody who has lost telephone and paper, and end all their sign-ins."""

    def work(connection: Connection) -> None:
        second_factor.end(connection, person_id)
        sessions.end_all(connection, person_id)

    desk.database.run(work)
    security("second factor forgotten", person=name, by=lead.name)
