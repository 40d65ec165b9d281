"""What the shop says of itself, by versions, and the plans of its day as they were made. Rows are appended and never changed."""

from fairsquare.core.plan.shop_said import ShopSaid
from fairsquare.core.pull.rigging import PullRules
from fairsquare.core.who import Who
from fairsquare.job.plan.kept import KeptPlan
from fairsquare.store.database import Connection, execute, insert, select_one, who

_WHO = "p.full_name, p.role"


def said(connection: Connection) -> tuple[int, ShopSaid]:
    """Return what was last said of the shop and its version; what is usual, and 0, where nothing was."""
    row = select_one(connection, "SELECT version, body FROM shop_said ORDER BY version DESC LIMIT 1")
    return (row["version"], ShopSaid.model_validate_json(row["body"])) if row else (0, ShopSaid())


def pull_rules(connection: Connection) -> PullRules:
    """Return what the shop asks of a pull."""
    _, shop = said(connection)
    return PullRules(most_chains=shop.most_chains, least_n=shop.chain_sets_n)


def say(connection: Connection, version: int, shop: ShopSaid, person_id: int) -> None:
    """Keep what is said as that version; somebody who kept one of the same number meanwhile makes this fail."""
    execute(
        connection,
        """INSERT INTO shop_said (version, body, person_id, at)
           VALUES (%(version)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        version=version,
        body=shop.model_dump_json(),
        person_id=person_id,
    )


def who_said(connection: Connection) -> Who | None:
    """Return who spoke last of the shop."""
    row = select_one(
        connection,
        f"SELECT s.at, {_WHO} FROM shop_said s JOIN person p ON p.id = s.person_id ORDER BY s.version DESC LIMIT 1",  # noqa: S608 - names of columns only
    )
    return who(row) if row else None


def keep_plan(connection: Connection, plan: KeptPlan, person_id: int) -> int:
    """Keep a plan of the day, and return its id."""
    return insert(
        connection,
        "INSERT INTO day_plan (body, person_id, at) VALUES (%(body)s, %(person_id)s, UTC_TIMESTAMP(6))",
        body=plan.model_dump_json(),
        person_id=person_id,
    )


def last_plan(connection: Connection) -> tuple[int, KeptPlan, Who] | None:
    """Return the last plan of the day: its id, the plan, and who made it when."""
    row = select_one(
        connection,
        f"""SELECT d.id, d.body, d.at, {_WHO} FROM day_plan d JOIN person p ON p.id = d.person_id
            ORDER BY d.id DESC LIMIT 1""",  # noqa: S608 - names of columns only
    )
    return (row["id"], KeptPlan.model_validate_json(row["body"]), who(row)) if row else None
