"""People: who may sign in, with which role, and their passwords."""

from typing import Any

from fairsquare.actions.desk import Desk
from fairsquare.actions.own import forget_second_factor
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.who import Role
from fairsquare.security_log import security
from fairsquare.store import people
from fairsquare.store.database import Connection
from fairsquare.store.people import Person


def everybody(desk: Desk) -> list[dict[str, Any]]:
    """Return everybody who may sign in or might."""
    return desk.database.run(people.people)


def add_person(desk: Desk, by: Person, key: str, name: str, full_name: str, role: Role, password: str) -> int:
    """Let a person sign in, and return the id. Raises `Refused` for a name that is taken or a password that is none."""
    check_may(by, "manage people")

    def work(connection: Connection) -> dict[str, Any]:
        return {"id": people.add_person(connection, name, full_name, role, password)}

    return int(desk.once(by, key, f"add person {name}", work)["id"])


def set_active(desk: Desk, by: Person, key: str, person_id: int, *, active: bool) -> None:
    """Let a person sign in, or not any more. Raises `Refused` for oneself, and for the last lead."""
    check_may(by, "manage people")

    def work(connection: Connection) -> dict[str, Any]:
        if not active and person_id == by.id:
            raise Refused("You cannot shut yourself out: another lead has to.", field="active")
        people.set_active(connection, person_id, active)
        return {}

    desk.once(by, key, f"person active {person_id} {'in' if active else 'out'}", work)
    security("let in again" if active else "let go", person=_name_of(desk, person_id), by=by.name)


def set_role(desk: Desk, by: Person, key: str, person_id: int, role: Role) -> None:
    """Give somebody another role. Raises `Refused` for oneself: that is another lead's."""
    check_may(by, "manage people")

    def work(connection: Connection) -> dict[str, Any]:
        if person_id == by.id:
            raise Refused("Your own role is another lead's to change.", field="role")
        people.set_role(connection, person_id, role)
        return {}

    desk.once(by, key, f"person role {person_id} {role[:20]}", work)
    security("role changed", person=_name_of(desk, person_id), role=role, by=by.name)


def change_password(desk: Desk, by: Person, key: str, person_id: int, password: str) -> None:
    """Change a password, one's own or, as a lead, anybody's; all sessions of that person end."""
    if person_id != by.id:
        check_may(by, "manage people")

    def work(connection: Connection) -> dict[str, Any]:
        people.set_password(connection, person_id, password)
        return {}

    desk.once(by, key, f"password {person_id}", work)


def forget_second_factor_of(desk: Desk, by: Person, person_id: int) -> None:
    """Forget the second factor of somebody who has lost telephone and paper. Raises `Refused` for one's own."""
    check_may(by, "manage people")
    if person_id == by.id:
        raise Refused("Your own second factor is set up anew under “Your sign-in”.", field="second")
    forget_second_factor(desk, by, person_id, _name_of(desk, person_id))


def _name_of(desk: Desk, person_id: int) -> str:
    return next((str(person["name"]) for person in everybody(desk) if person["id"] == person_id), "")
